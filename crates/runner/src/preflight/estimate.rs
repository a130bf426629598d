//! What is to be expected of files made of all pictures: how long, how large, and what should be known before.

use crate::assemble::{clip, contact_sheet};
use crate::files::file_names::name_of;
use crate::preflight::input::Source;
use crate::preflight::problem::{Problem, Way, delivery_at};
use rallo_media::{bytes_text, video};
use rallo_recipe::delivery::{Video, What, pixels_of};
use rallo_recipe::text::number;
use rallo_recipe::{Assembly, FinishingTask, Pictures, Recipe, ResolveContext};
use serde_json::json;
use std::path::Path;

/// A length for people: `8.4 s`, `2 min 5 s`.
pub fn seconds_text(seconds: f64) -> String {
    if seconds < 60.0 {
        let text = format!("{seconds:.1}");
        return format!("{} s", text.trim_end_matches(".0"));
    }
    let whole = seconds.round() as u64;
    format!("{} min {} s", whole / 60, whole % 60)
}

/// What each of the recipe's assemblies of `count` pictures will be, in a sentence, with the bytes it will have about.
pub fn expected(recipe: &Recipe, count: usize) -> Vec<(String, u64)> {
    let estimate_of = |(_, task): (usize, FinishingTask)| {
        let FinishingTask::Assembly(assembly) = task else { return None };
        Some(match &assembly {
            Assembly::Video(video) => {
                let clip = clip::clip(video, &recipe.name, count);
                let bytes = clip.estimate();
                let text = format!(
                    "Clip of {}: {} frames at {} a second, {} × {}, about {}.",
                    seconds_text(clip.seconds()),
                    clip.frames * clip.turns.max(1) as usize,
                    video.rate,
                    clip.size.width,
                    clip.size.height,
                    bytes_text(bytes)
                );
                (text, bytes)
            }
            Assembly::Pdf(pdf) => {
                let (columns, rows) = pdf.grid();
                let each = if pdf.page().is_some() { (columns * rows).max(1) as usize } else { 1 };
                let edge = f64::from(assembly.stage().long_edge.unwrap_or(1600));
                // A JPEG of ordinary pictures has about two bits a pixel at the usual quality.
                let bytes = (edge * edge * 0.67 * 0.25 * pdf.quality / 82.0) as u64 * count as u64;
                let pages = count.div_ceil(each);
                let text = format!(
                    "Document of about {pages} page{}, about {}.",
                    if pages == 1 { "" } else { "s" },
                    bytes_text(bytes)
                );
                (text, bytes)
            }
            Assembly::Contact(_) => (format!("Contact sheet of {count} pictures."), 0),
            Assembly::Stack(_) => (format!("One picture of {count} frames."), 0),
        })
    };
    recipe.tasks().into_iter().filter_map(estimate_of).collect()
}

/// Bytes that may be held to choose the colours of a GIF.
const GIF_MEMORY: u64 = 1_500_000_000;

/// What stops files of all pictures from being made, or should be known; `subjects` are the pictures.
pub fn problems(recipe: &Recipe, sources: &[Source], subjects: &[ResolveContext]) -> Vec<Problem> {
    let mut estimates = Vec::new();
    let tasks = recipe.tasks();
    let videos: Vec<_> = tasks
        .iter()
        .filter_map(|(at, task)| match task {
            FinishingTask::Assembly(Assembly::Video(video)) => Some((*at, video)),
            _ => None,
        })
        .collect();
    if !videos.is_empty() && !video::is_there() {
        estimates.push(Problem::stop(
            "a clip needs the program ffmpeg, which is not installed here; on Debian: apt install ffmpeg",
        ));
    }
    let coded = recipe.files().into_iter().find(|(_, files)| files.format == "jxl");
    if let Some((at, _)) = coded.filter(|_| !rallo_media::writes_jxl()) {
        estimates.push(
            Problem::stop(
                "a JPEG XL needs the program cjxl, which is not installed here; on Debian: apt install libjxl-tools",
            )
            .or("Write PNG instead", delivery_at(at, "format", json!("png"))),
        );
    }
    let count = sources.len();
    for (at, video) in &videos {
        let sound = video.sound.trim();
        if !sound.is_empty() && !Path::new(sound).is_file() {
            estimates.push(
                Problem::stop(format!("the sound file {sound} is not there"))
                    .or("Without sound", delivery_at(*at, "sound", json!(""))),
            );
        }
        let clip = clip::clip(video, &recipe.name, count);
        // Its colours are chosen from all frames, which are held until then.
        let held = clip.size.area() * clip.frames as u64 * 4;
        if video.codec() == "GIF" && held > GIF_MEMORY {
            estimates.push(
                Problem::stop(format!(
                    "a GIF of {} frames of {} × {} pixels would take {} of memory to make; make it smaller or shorter",
                    clip.frames,
                    clip.size.width,
                    clip.size.height,
                    bytes_text(held)
                ))
                .or("An animated WebP instead", delivery_at(*at, "codec", json!("WebP"))),
            );
        }
        let needs = Assembly::Video((*video).clone()).needs(count);
        let out = needs.iter().filter(|n| !**n).count();
        if out > 0 && count > 0 {
            let is = if out == 1 { "is" } else { "are" };
            let all_frames = delivery_at(*at, "speed", json!(1.0));
            let problem = Problem::note(format!(
                "At that speed and length {out} of {count} frames {is} left out of the clip."
            ));
            estimates.push(if video.length > 0.0 {
                problem.or("Every frame once", delivery_at(*at, "length", json!(0.0)))
            } else {
                problem.or("Every frame once", all_frames)
            });
        }
    }
    // A course pack's clip has a rate of its own.
    let own_files: Vec<_> =
        videos.iter().filter(|(at, _)| matches!(recipe.deliveries[*at].what, What::Video(_))).collect();
    if let [(_, first), rest @ ..] = &own_files[..]
        && let Some((at, other)) = rest.iter().find(|(_, v)| v.rate != first.rate)
    {
        estimates.push(
            Problem::note(format!(
                "Two clips have different frame rates, {} and {} a second: the same frames go by at different speeds.",
                first.rate, other.rate
            ))
            .or(format!("Both at {}", first.rate), delivery_at(*at, "rate", json!(first.rate))),
        );
    }
    for (at, one) in recipe.deliveries.iter().enumerate() {
        let (frame, asks) = match &one.what {
            What::Frames(f) => (pixels_of(&f.size, f.width, f.height), f.fit == "ask"),
            What::Video(v) => (pixels_of(&v.size, v.width, v.height), false),
            What::Course(c) => (pixels_of(&c.size, None, None), false),
            _ => continue,
        };
        let Some((width, height)) = frame else { continue };
        let bare = Pictures { lines: one.lines.clone(), ..Pictures::default() };
        let sizes: Vec<Option<(u32, u32)>> = subjects
            .iter()
            .zip(sources)
            .map(|(about, source)| {
                source.facts.as_ref()?;
                let size = recipe.layout_for(&bare, None, about).ok()?.size();
                Some((size.width, size.height))
            })
            .collect();
        let differs = |size: &Option<(u32, u32)>| {
            size.is_some_and(|(w, h)| {
                let ratio = f64::from(w) * f64::from(height) / (f64::from(h) * f64::from(width));
                (ratio - 1.0).abs() > 0.006
            })
        };
        let other: Vec<usize> = (0..sizes.len()).filter(|i| differs(&sizes[*i])).collect();
        if asks && !other.is_empty() {
            let first = name_of(&sources[other[0]].path);
            let more = match other.len() {
                1 => " is".into(),
                n => format!(" and {} more are", n - 1),
            };
            let mut problem = Problem::stop(format!(
                "{first}{more} of another proportion than the numbered frames, {width} × {height}: say what becomes of them"
            ))
            .or("Fill the frame, cut what sticks out", delivery_at(at, "fit", json!("fill")))
            .or("Fit them in, colour around", delivery_at(at, "fit", json!("fit")));
            if other.len() < sources.len() {
                problem = problem.or("Leave them out", Way::LeaveOut { pictures: other });
            }
            estimates.push(problem);
        }
        if let What::Video(video) = &one.what
            && video.is_moving()
        {
            estimates.extend(near(at, video, (width, height), &sizes));
            continue;
        }
        let small = |size: &Option<(u32, u32)>| size.is_some_and(|(w, h)| w < width && h < height);
        let small: Vec<usize> = (0..sizes.len()).filter(|i| small(&sizes[*i])).collect();
        if let Some(first) = small.first() {
            let more = if small.len() > 1 { format!(" and {} more", small.len() - 1) } else { String::new() };
            let mut problem = Problem::note(format!(
                "{}{more} {} fewer pixels than {width} × {height} and {} enlarged for it.",
                name_of(&sources[*first].path),
                if small.len() > 1 { "have" } else { "has" },
                if small.len() > 1 { "are" } else { "is" },
            ));
            if !matches!(one.what, What::Course(_)) {
                problem = problem.or("Their own size", delivery_at(at, "size", json!("own")));
            }
            estimates.push(problem);
        }
    }
    for (at, task) in &tasks {
        if let FinishingTask::Assembly(Assembly::Contact(contact)) = task
            && contact.format != "pdf"
            && let Err(fault) = contact_sheet::sheet_size(contact, count)
        {
            estimates.push(
                Problem::stop(fault.reason)
                    .or("As a PDF of several pages", delivery_at(*at, "format", json!("pdf"))),
            );
        }
    }
    estimates
}

/// That the window of a clip's move has fewer pixels than the clip, in the smallest of the frames; `sizes` are theirs.
fn near(
    at: usize,
    video: &Video,
    (width, height): (u32, u32),
    sizes: &[Option<(u32, u32)>],
) -> Option<Problem> {
    // Pixels of a frame for one of the clip, in the window that fills it.
    let room = |(w, h): (u32, u32)| {
        (f64::from(w) / f64::from(width)).min(f64::from(h) / f64::from(height)) * video.nearest()
    };
    let least = sizes.iter().flatten().copied().map(room).min_by(f64::total_cmp)?;
    // A pixel or two that are missing nobody sees.
    if least >= 0.99 {
        return None;
    }
    let pixels = |side: u32| (f64::from(side) * least).round();
    Some(
        Problem::note(format!(
            "Where the clip's window is smallest it has {} × {} pixels, fewer than {width} × {height}: that part is enlarged {} times.",
            pixels(width),
            pixels(height),
            number((10.0 / least).round() / 10.0),
        ))
        .or("Without the move", delivery_at(at, "fit", json!("fill"))),
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use rallo_media::{CameraData, Facts, Format};
    use serde_json::Value;

    fn source(name: &str, width: u32, height: u32) -> Source {
        let facts = Facts {
            path: name.into(),
            format: Format::Jpeg,
            width,
            height,
            bits: 8,
            bytes: 1,
            profile: "sRGB".into(),
            rating: 0,
            keywords: Vec::new(),
            camera: CameraData::default(),
            notes: Vec::new(),
            done: Vec::new(),
        };
        Source { path: Path::new("/p").join(name), facts: Some(facts), decided: Default::default() }
    }

    fn told(deliveries: Value, sources: &[Source]) -> Vec<Problem> {
        let document = json!({"format": "rallo-recipe", "version": 1, "name": "x", "deliveries": deliveries});
        let recipe = Recipe::from_value(&document).unwrap();
        let subjects: Vec<ResolveContext> = sources
            .iter()
            .map(|s| crate::resolve_context(&s.path, s.facts.as_ref(), &s.decided, 1))
            .collect();
        problems(&recipe.settled(&subjects[0]), sources, &subjects)
    }

    #[test]
    fn frames_of_another_proportion_are_asked_about() {
        let all = [source("a.jpg", 3000, 2000), source("b.jpg", 2000, 3000), source("c.jpg", 1500, 1000)];
        let problems = told(json!([{"kind": "frames"}]), &all);
        assert!(problems[0].stops, "{problems:?}");
        let says =
            "b.jpg is of another proportion than the numbered frames, 3000 × 2000: say what becomes of them";
        assert_eq!(problems[0].message, says);
        let labels: Vec<&str> = problems[0].mends.iter().map(|m| m.label.as_str()).collect();
        assert_eq!(
            labels,
            ["Fill the frame, cut what sticks out", "Fit them in, colour around", "Leave them out"]
        );
        let Way::LeaveOut { pictures } = &problems[0].mends[2].way else { panic!() };
        assert_eq!(pictures, &[1]);
        assert!(problems[1].message.starts_with("c.jpg has fewer pixels than 3000 × 2000"));
        for fit in ["fill", "fit"] {
            assert!(told(json!([{"kind": "frames", "fit": fit}]), &all).iter().all(|p| !p.stops));
        }
    }

    #[test]
    fn speeds_and_rates_are_told() {
        let all: Vec<Source> = (0..10).map(|n| source(&format!("{n}.jpg"), 3000, 2000)).collect();
        let problems = told(
            json!([{"kind": "course"}, {"kind": "video", "speed": 2}, {"kind": "video", "rate": "24", "name": "b", "sound": "/no/such.wav"}]),
            &all,
        );
        let says = |what: &str| {
            problems.iter().find(|p| p.message.contains(what)).unwrap_or_else(|| panic!("{what}"))
        };
        assert!(!says("5 of 10 frames are left out").stops);
        assert_eq!(says("different frame rates, 25 and 24").mends[0].label, "Both at 25");
        assert!(says("/no/such.wav is not there").stops);
        let gif = told(json!([{"kind": "video", "codec": "GIF", "size": "4K", "length": 60}]), &all);
        assert!(gif[0].stops && gif[0].message.starts_with("a GIF of 1500 frames"), "{gif:?}");
        let sheet =
            told(json!([{"kind": "contact", "cell": 2000, "columns": 60}]), &vec![all[0].clone(); 3000]);
        assert!(sheet[0].stops && sheet[0].mends[0].label == "As a PDF of several pages");
    }

    #[test]
    fn a_window_that_is_smaller_than_the_clip_is_told() {
        let all = [source("a.jpg", 6000, 4000), source("b.jpg", 2400, 1600)];
        let clip = |size: f64| json!([{"kind": "video", "fit": "move", "move": [[0, 0.5, 0.5, 1.0], [1, 0.4, 0.4, size]]}]);
        // 2400 × 1350 of b.jpg fill it; four fifths of that are enough, half of it is not.
        assert_eq!(told(clip(0.8), &all), []);
        let problems = told(clip(0.5), &all);
        assert_eq!(problems.len(), 1);
        assert_eq!(
            problems[0].message,
            "Where the clip's window is smallest it has 1200 × 675 pixels, fewer than 1920 × 1080: that part is enlarged 1.6 times."
        );
        assert!(!problems[0].stops && problems[0].mends[0].label == "Without the move");
    }

    #[test]
    fn a_clip_is_as_long_as_its_frames_say() {
        let document = json!({"format": "rallo-recipe", "version": 1, "name": "x", "deliveries":
            [{"kind": "video", "rate": "29.97", "hold_first": 1, "times": 2}]});
        let recipe = Recipe::from_value(&document).unwrap();
        let (text, bytes) = expected(&recipe, 300).remove(0);
        // 330 frames twice, at 30 000 / 1001.
        assert!(text.starts_with("Clip of 22 s: 660 frames at 29.97 a second, 1920 × 1080"), "{text}");
        assert!(bytes > 1_000_000);
        assert_eq!(seconds_text(125.2), "2 min 5 s");
    }
}
