//! The page about the steps, made from their own descriptions, with a small picture of each: before and after.

use rallo_engine::step::StepInfo;
use rallo_engine::{
    Encoded, OutputProfile, Param, Pixels, Plan, Rect, Settings, Size, Source, StepKind, registry,
};
use rallo_media::{Chroma, Encoding, Extras, FileSource};
use rallo_recipe::delivery::KINDS;
use rallo_recipe::{Line, sentence::plain};
use serde_json::{Map, Value, json};
use std::fmt::Write as _;
use std::path::{Path, PathBuf};

/// Pixels per side of each half of a picture, at most.
const SIDE: i64 = 300;

/// Steps that change nothing that could be seen in such a picture, or do it only for a known lens.
const UNSEEN: [&str; 3] = ["data", "convert_profile", "lens_profile"];

/// Whether a step does something that could be seen in one picture; what goes by other frames does not.
fn is_seen(info: &StepInfo) -> bool {
    info.group != "sequence" && !UNSEEN.contains(&info.id)
}

/// Values that show something, for steps whose starting values are set on the picture.
fn example(kind: &StepKind) -> Map<String, Value> {
    let examples = match kind.info.id {
        "straighten" => json!({"degrees": 5}),
        "perspective" => json!({"lines": [[0.2, 0.9, 0.25, 0.1], [0.8, 0.9, 0.74, 0.1]]}),
        "resize" => json!({"fit": [600, 300]}),
        "dust" => json!({"spots": [[0.5, 0.5, 0.01]]}),
        "lut" => {
            json!({"table": "LUT_3D_SIZE 2\n0.05 0.02 0.1\n0.9 0.1 0.05\n0.1 0.8 0.1\n1 0.95 0.1\n0.05 0.1 0.6\n0.9 0.1 0.6\n0.1 0.9 0.8\n1 0.97 0.85\n"})
        }
        "lens" => json!({"distortion": 12, "falloff": 1}),
        "denoise" => json!({"method": "auto"}),
        "border" => json!({"width": 6, "below": 6, "line": 0.4, "gap": 1}),
        "grain" => json!({"amount": 60, "size": 1.2}),
        "auto_range" | "auto_contrast" | "remove_cast" => json!({"strength": 100}),
        "shadows_highlights" => json!({"shadows": 60, "highlights": -40}),
        "local_contrast" => json!({"amount": 80}),
        "unsharp_mask" | "capture_sharpening" => json!({"amount": 100}),
        "output_sharpening" => json!({"strength": 100}),
        "vignette" => json!({"stops": -2}),
        "tint" => json!({"amount": 80}),
        "exposure" => json!({"stops": 0.8}),
        "white_balance" => json!({"temperature": 40}),
        "saturation" | "gentle_saturation" => json!({"amount": 70}),
        "contrast" => json!({"amount": 50}),
        "end_points" => json!({"black": -60, "white": 60}),
        "levels" => json!({"black": 10, "white": 85, "middle": 1.2}),
        "lift_gamma_gain" => json!({"lift": [0.06, 0.03, 0.1], "gain": [1.2, 1.1, 0.95]}),
        "colour_balance" => json!({"shadows": [-10, 0, 40], "highlights": [40, 10, -30]}),
        "graduated_filter" => json!({"stops": -2, "temperature": -20, "from": [0.5, 0.2], "to": [0.5, 0.6]}),
        "watermark" => json!({"text": "Thistlewick", "size": 9, "opacity": 85}),
        "caption" => json!({"text": "Marlow 24 · 35 mm · f/5.6 · ISO 200", "height": 9, "size": 4}),
        "slate" => json!({"number": "017", "title": "Repotting", "size": 12}),
        "curve" => json!({"all": [[0, 0], [0.25, 0.13], [0.75, 0.88], [1, 1]]}),
        _ => serde_json::from_str(kind.info.starter).unwrap_or_default(),
    };
    examples.as_object().cloned().unwrap_or_default()
}

fn bytes(encoded: &Encoded) -> &[u8] {
    match &encoded.pixels {
        Pixels::U8(v) => v,
        Pixels::U16(_) | Pixels::F32(_) => &[],
    }
}

/// A part of the picture through some steps: the middle at full size for what is only seen there, else the whole.
fn half(source: &FileSource, steps: Vec<Settings>, close: Option<Rect>) -> Result<Encoded, String> {
    let plan = Plan::for_picture(steps, source).map_err(|e| e.to_string())?;
    let fit = SIDE as f64 / f64::from(plan.size().long_edge());
    let program = plan.program(if close.is_some() { 1.0 } else { fit.min(1.0) });
    let whole = program.size().rect();
    let rect = close.map_or(whole, |close| close.within(whole));
    program.render(source, rect, OutputProfile::Srgb.colour()).map_err(|e| e.to_string())
}

/// A part of the picture with much in it, as large as half of a small picture.
fn busy(source: &FileSource) -> Result<Rect, String> {
    let plan = Plan::new(Vec::new(), source.size()).map_err(|e| e.to_string())?;
    let scale = 0.1;
    let program = plan.program(scale);
    let small = program
        .render(source, program.size().rect(), OutputProfile::Srgb.colour())
        .map_err(|e| e.to_string())?;
    let (w, h) = (small.size.width as usize, small.size.height as usize);
    let side = (SIDE as f64 * scale) as usize;
    let green = |x: usize, y: usize| i64::from(bytes(&small)[(y * w + x) * 3 + 1]);
    let much = |x: usize, y: usize| -> i64 {
        let inside = (y..y + side * 2 / 3).flat_map(|v| (x..x + side).map(move |u| (u, v)));
        inside
            .map(|(u, v)| (green(u + 1, v) - green(u, v)).abs() + (green(u, v + 1) - green(u, v)).abs())
            .sum()
    };
    let places = (0..h.saturating_sub(side + 1)).step_by(8);
    let places = places.flat_map(|y| (0..w.saturating_sub(side + 1)).step_by(8).map(move |x| (x, y)));
    let (x, y) = places.max_by_key(|(x, y)| much(*x, *y)).unwrap_or_default();
    Ok(Rect::new((x as f64 / scale) as i64, (y as f64 / scale) as i64, SIDE, SIDE * 2 / 3))
}

/// Two pictures beside each other on white.
fn beside(a: &Encoded, b: &Encoded) -> Encoded {
    let gap = 6usize;
    let (aw, bw) = (a.size.width as usize, b.size.width as usize);
    let (width, height) = (aw + gap + bw, a.size.height.max(b.size.height) as usize);
    let mut out = vec![255u8; width * height * 3];
    for (one, left, wide) in [(a, 0, aw), (b, aw + gap, bw)] {
        for (y, row) in bytes(one).chunks(wide * 3).enumerate() {
            let at = (y * width + left) * 3;
            out[at..at + wide * 3].copy_from_slice(row);
        }
    }
    Encoded { size: Size::new(width as u32, height as u32), pixels: Pixels::U8(out) }
}

fn picture(kind: &StepKind, source: &FileSource) -> Result<Vec<u8>, String> {
    let step = kind.parse(&example(kind)).map_err(|e| e.to_string())?;
    let close = ["repair", "detail"].contains(&kind.info.group) && !["lens", "dust"].contains(&kind.info.id);
    let close = if close { Some(busy(source)?) } else { None };
    let after = half(source, vec![Settings::from(step)], close)?;
    let both = beside(&half(source, Vec::new(), close)?, &after);
    let encoding =
        Encoding::Jpeg { quality: 80, chroma: Chroma::Quarter, progressive: false, optimised: false };
    rallo_media::encode(&both, encoding, &Extras::default()).map_err(|e| e.to_string())
}

/// Parameters as a table.
fn table(params: &[Param], defaults: &Value) -> String {
    let mut text =
        String::from("| parameter | values | unit | default | |\n| --- | --- | --- | --- | --- |\n");
    for param in params {
        let values = match (param.kind, param.kind.range()) {
            (rallo_engine::Kind::Choice(all), _) => all.join(", "),
            (_, (Some(min), Some(max))) => format!("{min} … {max}"),
            _ => param.kind.names().1.to_owned(),
        };
        let default = &defaults[param.name];
        let _ = writeln!(
            text,
            "| `{}` | {values} | {} | `{default}` | {} |",
            param.name, param.unit, param.about
        );
    }
    text
}

/// The page about deliveries.
fn deliveries() -> String {
    let mut text = String::from(DELIVERIES);
    for kind in &KINDS {
        let _ = write!(text, "\n## {}\n\n`{}` · {}\n\n", kind.title, kind.id, kind.about);
        text += &table(kind.params, &kind.defaults());
    }
    text
}

/// What is said before the kinds.
const DELIVERIES: &str = "# Every delivery\n\nMade from the deliveries' own descriptions by `rallo steps --docs docs`; not edited by hand.\n\n\
A recipe has one delivery or several. Its lines run once for each picture, as large as the largest file needs them, and each \
delivery goes on from there. A delivery may have `steps` of its own, as a recipe has them; they follow the recipe's lines and come \
before the delivery's size.\n\n\
Clips, documents and contact sheets are made of all pictures of a run, in their order, while the pictures are made: \
a frame goes to `ffmpeg` through a pipe and never lies on the disk. A run that was interrupted makes them in a pass of its own at \
its end. A picture that fails is named; the clip goes on with the frame before it, a document leaves it out, and the check of \
numbered frames says where the gap is. What was made of the same pictures by the same recipe is not made again.\n\n\
Clips are Y′CbCr of ITU-R BT.709 in narrow range and tagged so, with colour samples sited left; values are those of an sRGB \
picture. H.264, H.265, VP9 and AV1 have 8 or 10 bits and one colour sample for four pixels, *intra 4:2:2* has 10 bits and every \
frame for itself, FFV1 keeps RGB of 16 bits without loss.\n";

fn text(pictures: bool) -> String {
    let mut text = String::from(
        "# Every step\n\nMade from the steps' own descriptions by `rallo steps --docs docs`; not edited by hand.\n\n\
         Every step also takes `on`, `mix` (0 – 100 %), `when` (a condition), `by_iso` (values per ISO), `ramp` (values over a sequence) and, for repair, \
         light, colour and detail, `area`; see [recipe.md](recipe.md).\n",
    );
    let mut groups: Vec<&str> = Vec::new();
    for kind in registry() {
        if !groups.contains(&kind.info.group) {
            groups.push(kind.info.group);
        }
    }
    for group in groups {
        let _ = write!(text, "\n## {}{}\n", group[..1].to_uppercase(), &group[1..]);
        for kind in registry().iter().filter(|k| k.info.group == group) {
            let info = kind.info;
            let _ = write!(text, "\n### {}\n\n`{}` · {}\n\n", info.title, info.id, info.about);
            if let Ok(step) = kind.parse(&example(kind)) {
                let _ = write!(text, "On a ticket: *{}*\n\n", plain(&Line::new(kind, step).parts(None)));
            }
            if pictures && is_seen(info) {
                let _ = write!(text, "![{}, before and after](steps/{}.jpg)\n\n", info.title, info.id);
            }
            text += &table(kind.params, &kind.defaults());
        }
    }
    text
}

/// Writes `steps.md` and `deliveries.md` into `folder`, and with a sample picture `steps/*.jpg` beside it.
///
/// # Errors
/// What could not be read or written.
pub fn write(folder: &Path, samples: &[PathBuf]) -> Result<(), String> {
    let cannot = |e: std::io::Error| format!("cannot write into {}: {e}", folder.display());
    let pictures = folder.join("steps");
    let open = |sample: &PathBuf| FileSource::open(sample).map_err(|e| format!("{}: {e}", sample.display()));
    let sources = samples.iter().map(open).collect::<Result<Vec<_>, _>>()?;
    if let (Some(first), Some(last)) = (sources.first(), sources.last()) {
        std::fs::create_dir_all(&pictures).map_err(cannot)?;
        for kind in registry().iter().filter(|k| is_seen(k.info)) {
            let source = if kind.info.id == "denoise" { last } else { first };
            let bytes = picture(kind, source).map_err(|e| format!("{}: {e}", kind.info.id))?;
            std::fs::write(pictures.join(format!("{}.jpg", kind.info.id)), bytes).map_err(cannot)?;
        }
    }
    std::fs::write(folder.join("deliveries.md"), deliveries()).map_err(cannot)?;
    std::fs::write(folder.join("steps.md"), text(pictures.is_dir())).map_err(cannot)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_step_stands_on_the_page_with_its_parameters() {
        let page = text(false);
        for kind in registry() {
            assert!(page.contains(&format!("### {}", kind.info.title)));
            assert!(kind.parse(&example(kind)).is_ok(), "{}", kind.info.id);
            let picture = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/steps");
            let is_there = Path::new(picture).join(format!("{}.jpg", kind.info.id)).exists();
            assert_eq!(is_seen(kind.info), is_there, "the picture of {}", kind.info.id);
            for param in kind.params {
                assert!(page.contains(&format!("| `{}` |", param.name)));
            }
        }
    }

    #[test]
    fn the_page_in_the_repository_is_the_one_made_now() {
        let there = include_str!("../../../docs/steps.md");
        assert!(there == text(true), "run: rallo steps --docs docs");
        assert!(include_str!("../../../docs/deliveries.md") == deliveries(), "run: rallo steps --docs docs");
    }
}
