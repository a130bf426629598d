//! What a picture will take: a model of this machine, so that times and sizes are told at once.
//!
//! A picture's time is that of decoding it, of each step over the pixels the plan gives it ([`Plan::workload`]), and of
//! encoding each file; every part is so many seconds of one core a megapixel. The table begins with those of one ordinary
//! machine and is measured once on this one, in the background ([`Costs::measured`]). What runs really took corrects the
//! whole ([`Costs::learn`]). A size is so many bits a pixel, by the codec, its quality, and how busy the original is.

use crate::render::variant::{self, Variant, variants};
use crate::schedule::{self, CancellationToken, Class};
use rallo_engine::{
    Orientation, OutputProfile, Picture, Plan, Pyramid, Samples, Settings, Size, Source, registry,
};
use rallo_media::{Encoding, Extras};
use rallo_recipe::{Pictures, Recipe, ResolveContext};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::time::Instant;

/// Seconds of one core a megapixel where nothing was measured, by an ordinary machine.
const USUAL: &[(&str, f64)] = &[
    ("read jpeg 0", 0.0095),
    ("read jpeg 1", 0.0047),
    ("read jpeg 2", 0.0039),
    ("read jpeg 3", 0.0033),
    ("read other", 0.04),
    ("write jpeg", 0.012),
    ("write png", 0.2),
    ("write webp", 0.12),
    ("write avif", 3.0),
    ("write jxl", 0.9),
    ("write tiff", 0.05),
    ("step denoise auto", 1.1),
    ("step denoise learned", 1.1),
    ("step denoise thorough", 1.9),
    ("step denoise quick", 0.85),
    ("step upscale", 0.4),
    ("step grain", 0.4),
    ("step lens", 0.11),
    ("step perspective", 0.1),
    ("step hot_pixels", 0.11),
    ("step capture_sharpening", 0.11),
    ("step lut", 0.11),
    ("step vignette", 0.09),
];
/// Of any other step.
const USUAL_STEP: f64 = 0.03;
/// Side of the picture that is drawn to measure with, in pixels.
const SIDE: u32 = 720;
/// Beside all pixels: opening, naming, writing.
const EACH: f64 = 0.015;
/// Weight of what was learned before, in pictures, and the most that one picture changes it.
const TRUSTED: f64 = 12.0;

/// The setting it is kept under.
pub const SETTING: &str = "costs";

/// A machine's costs.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Costs {
    /// The engine's number they were measured with.
    pub results: u32,
    /// Seconds of one core a megapixel.
    pub table: BTreeMap<String, f64>,
    /// What runs took, divided by what was said.
    pub correction: f64,
    /// Pictures that was learned from.
    pub learned: f64,
    /// Bits a pixel that runs wrote, divided by what was said.
    pub size_correction: f64,
}

impl Default for Costs {
    fn default() -> Self {
        Self { results: 0, table: BTreeMap::new(), correction: 1.0, learned: 0.0, size_correction: 1.0 }
    }
}

/// How much a figure is to be trusted.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Sure {
    /// From another machine's table: right within a factor of three or so.
    Rough,
    /// From this machine's table.
    Estimated,
    /// From this machine's table, corrected by runs.
    Learned,
}

/// What one picture takes.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
pub struct Cost {
    /// Seconds of one core.
    pub seconds: f64,
    /// Of all its files.
    pub bytes: u64,
    /// How much both are to be trusted.
    pub sure: Sure,
}

/// A step as the table knows it: methods that differ much have a row each.
fn step_key(id: &str, values: &serde_json::Value) -> String {
    match values["method"].as_str().filter(|_| id == "denoise") {
        Some(method) => format!("step {id} {method}"),
        None => format!("step {id}"),
    }
}

fn write_key(encoding: Encoding) -> &'static str {
    match encoding {
        Encoding::Jpeg { .. } => "write jpeg",
        Encoding::Png => "write png",
        Encoding::WebP { .. } => "write webp",
        Encoding::Avif { .. } => "write avif",
        Encoding::Jxl { .. } => "write jxl",
        Encoding::Tiff { .. } => "write tiff",
    }
}

/// Bits a pixel of an ordinary photograph; for what loses nothing, of 8 bits a sample.
fn bits(encoding: Encoding) -> f64 {
    // By the quality's distance from 82, at which a JPEG has about two bits: it doubles every twelve.
    let lossy = |quality: u8, at_82: f64| at_82 * 2f64.powf((f64::from(quality) - 82.0) / 12.0);
    match encoding {
        Encoding::Jpeg { quality, .. } => lossy(quality, 2.0),
        Encoding::WebP { quality: Some(quality) } => lossy(quality, 1.3),
        Encoding::Avif { quality } => lossy(quality, 1.0),
        Encoding::Jxl { quality: Some(quality) } => lossy(quality, 1.2),
        Encoding::WebP { quality: None } | Encoding::Jxl { quality: None } => 10.0,
        Encoding::Png => 12.0,
        Encoding::Tiff { .. } => 18.0,
    }
}

/// Bytes a pixel of a linear DNG, and of one that is packed without loss.
const LINEAR: f64 = 6.0;
const LINEAR_PACKED: f64 = 3.9;

/// What is known of an original before it is opened.
#[derive(Clone, Copy, Debug)]
pub struct Original {
    /// Upright.
    pub size: Size,
    /// Of its file.
    pub bytes: u64,
    /// Whether it can be decoded reduced.
    pub is_jpeg: bool,
}

impl Costs {
    fn row(&self, key: &str) -> Option<f64> {
        self.table.get(key).copied().filter(|v| v.is_finite() && *v >= 0.0)
    }

    /// Seconds of one core a megapixel.
    fn of(&self, key: &str) -> f64 {
        let usual = || USUAL.iter().find(|(k, _)| *k == key).map(|(_, v)| *v);
        self.row(key).or_else(usual).unwrap_or(if key.starts_with("write") { 0.1 } else { USUAL_STEP })
    }

    fn sure(&self) -> Sure {
        match () {
            () if self.learned >= 3.0 => Sure::Learned,
            () if self.results == rallo_engine::RESULTS && !self.table.is_empty() => Sure::Estimated,
            () => Sure::Rough,
        }
    }

    /// What a recipe takes on a picture with all its files; for a recipe without files of each picture, its lines alone.
    pub fn picture(&self, recipe: &Recipe, about: &ResolveContext, original: Original) -> Cost {
        let (carried, variants): (Vec<Variant>, Vec<Variant>) =
            variants(recipe).into_iter().partition(|v| v.delivery.is_carried());
        let shared = variants.len() > 1;
        let none = [Variant { at: 0, delivery: recipe.shown(), width: None }];
        let files: &[Variant] = if variants.is_empty() && carried.is_empty() { &none } else { &variants };
        let (mut seconds, mut bytes) = (EACH, 0.0);
        for file in &carried {
            let (more, size) = self.carried(&file.delivery, recipe, original);
            (seconds, bytes) = (seconds + more, bytes + size);
        }
        for (n, file) in files.iter().enumerate() {
            let lines = recipe.placed(about);
            let many = lines.len();
            let ids: Vec<Option<usize>> = lines.iter().map(|(line, _)| *line).collect();
            let mut settings: Vec<Settings> = lines.into_iter().map(|(_, s)| s).collect();
            settings.extend(recipe.after(&file.delivery, file.width, about));
            let Ok(plan) = Plan::new(settings, original.size) else { continue };
            let (level, pixels) = plan.workload();
            // What several files share is computed once, and decoded once.
            if n == 0 {
                let read = if original.is_jpeg {
                    format!("read jpeg {}", level.min(3))
                } else {
                    "read other".into()
                };
                seconds += self.of(&read) * megapixels(original.size.area() as f64);
            }
            for (i, pixels) in pixels.iter().enumerate() {
                if shared && n > 0 && i < many {
                    continue;
                }
                let key = match ids.get(i).copied().flatten() {
                    Some(line) => step_key(recipe.steps[line].id, &recipe.steps[line].step.values()),
                    None => "step resize".to_owned(),
                };
                seconds += self.of(&key) * megapixels(*pixels);
            }
            let encoding = variant::encoding(&file.delivery);
            let size = plan.size();
            seconds += self.of(write_key(encoding)) * megapixels(size.area() as f64);
            bytes += bits(encoding) / 8.0 * size.area() as f64 * busy(original, size);
        }
        Cost {
            seconds: seconds * self.correction,
            bytes: (bytes * self.size_correction) as u64,
            sure: self.sure(),
        }
    }

    /// A file whose pixels are the original's: as large as that, or as raw with three values a pixel.
    fn carried(&self, delivery: &Pictures, recipe: &Recipe, original: Original) -> (f64, f64) {
        if !delivery.is_dng() || original.is_jpeg {
            return (0.0, original.bytes as f64);
        }
        let area = original.size.area() as f64;
        let denoise = recipe.steps.iter().find(|line| line.on && line.id == "denoise");
        let each = denoise.map_or(0.0, |line| self.of(&step_key(line.id, &line.step.values())));
        let packed = if delivery.compression == "lossless" { LINEAR_PACKED } else { LINEAR };
        ((each + self.of("write tiff")) * megapixels(area), packed * area)
    }

    /// Takes in what a picture really took beside what was said for it, in seconds of one core and bytes.
    pub fn learn(&mut self, expected: Cost, seconds: f64, bytes: u64) {
        let rate = 1.0 / (self.learned + 1.0).min(TRUSTED);
        let toward = |old: f64, expected: f64, got: f64| {
            if expected <= 0.0 || got <= 0.0 {
                return old;
            }
            // In factors: half and double are equally far.
            (old * (got / expected).clamp(0.1, 10.0).powf(rate)).clamp(0.02, 50.0)
        };
        self.correction = toward(self.correction, expected.seconds, seconds);
        self.size_correction = toward(self.size_correction, expected.bytes as f64, bytes as f64);
        self.learned += 1.0;
    }

    /// Whether this machine is still to be measured.
    pub fn is_to_be_measured(&self) -> bool {
        self.results != rallo_engine::RESULTS || self.table.is_empty()
    }

    /// This machine's table: every step over a picture drawn for it, and every codec that is part of the program. Some
    /// seconds of one core, at the lowest urgency.
    pub fn measured(&self) -> Self {
        let never = CancellationToken::new();
        let table = schedule::work(Class::Background, 1, &never, table);
        // What runs taught about another table says nothing about this one.
        Self { results: rallo_engine::RESULTS, table, correction: 1.0, learned: 0.0, ..self.clone() }
    }
}

fn megapixels(pixels: f64) -> f64 {
    pixels / 1e6
}

/// How many more bits an original's pixels need than an ordinary one's; reduced ones need more, since fine detail is what
/// costs.
fn busy(original: Original, size: Size) -> f64 {
    let area = original.size.area().max(1) as f64;
    let detail =
        if original.is_jpeg { (original.bytes as f64 * 8.0 / area / 3.0).clamp(0.3, 3.0) } else { 1.0 };
    let reduced = (area / size.area().max(1) as f64).max(1.0);
    detail * (1.0 + 0.25 * reduced.log2().min(6.0))
}

/// Edges, slopes and a little noise.
fn drawn(side: u32) -> Option<Pyramid> {
    let value = |x: u32, y: u32, c: u32| {
        let hash =
            (x.wrapping_mul(0x9e37_79b9) ^ y.wrapping_mul(0x85eb_ca6b) ^ c.wrapping_mul(0xc2b2_ae35)) >> 27;
        let edge = if (x / 90 + y / 60).is_multiple_of(2) { 70 } else { 0 };
        (40 + edge + x * 60 / side + y * 40 / side + hash) as u8
    };
    let pixels = (0..side * side).flat_map(|i| (0..3).map(move |c| value(i % side, i / side, c))).collect();
    let picture =
        Picture::new(Size::new(side, side), Samples::U8(pixels), Orientation::UPRIGHT, None).ok()?;
    Some(Pyramid::new(picture))
}

fn table() -> BTreeMap<String, f64> {
    let mut table = BTreeMap::new();
    let Some(source) = drawn(SIDE) else { return table };
    let srgb = OutputProfile::Srgb.colour();
    let timed = |lines: Vec<Settings>| {
        let plan = Plan::for_picture(lines, &source).ok()?;
        let program = plan.program(1.0);
        let start = Instant::now();
        let made = program.render(&source, program.size().rect(), srgb).ok()?;
        Some((start.elapsed().as_secs_f64(), plan, made))
    };
    let Some((bare, _, picture)) = timed(Vec::new()) else { return table };
    for kind in registry() {
        let starter: serde_json::Value = serde_json::from_str(kind.info.starter).unwrap_or_default();
        let methods: &[Option<&str>] = match kind.info.id {
            "denoise" => &[Some("auto"), Some("learned"), Some("thorough"), Some("quick")],
            _ => &[None],
        };
        for method in methods {
            let mut values = starter.as_object().cloned().unwrap_or_default();
            if let Some(method) = method {
                values.insert("method".into(), (*method).into());
            }
            let Ok(step) = kind.parse(&values) else { continue };
            let key = step_key(kind.info.id, &step.values());
            let Some((seconds, plan, _)) = timed(vec![Settings::from(step)]) else { continue };
            let pixels = plan.workload().1[0].max(source.size().area() as f64 / 16.0);
            table.insert(key, (seconds - bare).max(0.0) / megapixels(pixels));
        }
    }
    // AVIF and JPEG XL take their time: a quarter of the picture says enough.
    let parts = [
        (
            Encoding::Jpeg {
                quality: 82,
                chroma: rallo_media::Chroma::Quarter,
                progressive: false,
                optimised: false,
            },
            true,
        ),
        (Encoding::Png, true),
        (Encoding::WebP { quality: Some(80) }, true),
        (Encoding::Tiff { packing: rallo_media::Packing::Deflate }, true),
        (Encoding::Avif { quality: 60 }, false),
    ];
    for (encoding, whole) in parts {
        let made = if whole { Some(picture.clone()) } else { quarter(&source) };
        let Some(made) = made else { continue };
        let start = Instant::now();
        if rallo_media::encode(&made, encoding, &Extras::default()).is_ok() {
            let area = made.size.area() as f64;
            table.insert(write_key(encoding).into(), start.elapsed().as_secs_f64() / megapixels(area));
        }
    }
    let jpeg = Encoding::Jpeg {
        quality: 90,
        chroma: rallo_media::Chroma::Quarter,
        progressive: false,
        optimised: false,
    };
    if let Ok(bytes) = rallo_media::encode(&picture, jpeg, &Extras::default()) {
        for level in 0..=3u8 {
            let Ok(file) = rallo_media::FileSource::from_bytes(bytes.clone()) else { continue };
            let start = Instant::now();
            if file.level(level).is_ok() {
                let area = source.size().area() as f64;
                table.insert(format!("read jpeg {level}"), start.elapsed().as_secs_f64() / megapixels(area));
            }
        }
    }
    table
}

fn quarter(source: &Pyramid) -> Option<rallo_engine::Encoded> {
    let program = Plan::new(Vec::new(), source.size()).ok()?.program(0.5);
    program.render(source, program.size().rect(), OutputProfile::Srgb.colour()).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_handed_on_as_raw_is_told_by_its_pixels_and_copies_by_their_bytes() {
        let of = |kind: serde_json::Value| {
            let document = serde_json::json!({"format": "rallo-recipe", "version": 1, "name": "x", "steps": [{"step": "denoise"}],
                "deliveries": [kind]});
            Recipe::from_value(&document).unwrap()
        };
        let cost = |recipe: &Recipe, is_jpeg| {
            let about =
                crate::resolve_context(std::path::Path::new("a"), None, &crate::Decided::default(), 1);
            Costs::default().picture(recipe, &about, Original { is_jpeg, ..original() })
        };
        let raw = of(serde_json::json!({"kind": "dng", "name": "{stem}", "compression": "none"}));
        assert_eq!(cost(&raw, false).bytes, 6 * 24_000_000);
        assert!(cost(&raw, false).seconds > 10.0 * cost(&raw, true).seconds, "the denoising counts");
        assert_eq!(cost(&raw, true).bytes, 9_000_000, "what is no raw goes along");
        let copy = of(serde_json::json!({"kind": "pictures", "format": "copy", "name": "{stem}"}));
        assert_eq!(cost(&copy, true).bytes, 9_000_000);
    }

    fn original() -> Original {
        Original { size: Size::new(6000, 4000), bytes: 9_000_000, is_jpeg: true }
    }

    fn recipe(steps: &str) -> Recipe {
        let text = format!(
            r#"{{"format": "rallo-recipe", "version": 1, "name": "x", "steps": {steps}, "deliveries": [{{"kind": "pictures"}}]}}"#
        );
        Recipe::parse(&text).unwrap()
    }

    #[test]
    fn what_has_more_to_do_costs_more_and_what_is_reduced_first_costs_less() {
        let costs = Costs::default();
        let of = |steps: &str| costs.picture(&recipe(steps), &ResolveContext::default(), original());
        let plain = of("[]");
        let denoised = of(r#"[{"step": "denoise", "method": "thorough"}]"#);
        let quick = of(r#"[{"step": "denoise", "method": "quick"}]"#);
        let small = of(r#"[{"step": "resize", "long_edge": 1600}]"#);
        assert!(denoised.seconds > quick.seconds + 10.0 && quick.seconds > plain.seconds + 10.0);
        assert!(small.seconds < plain.seconds && small.bytes < plain.bytes / 5);
        // By hand: 24 megapixels at 1.9 + 0.0095 + 0.012 seconds each, and what each picture takes.
        assert!((denoised.seconds - (24.0 * (1.9 + 0.0095 + 0.012) + EACH)).abs() < 0.01, "{denoised:?}");
        // Two bits a pixel at the quality of 82, as busy as three bits of the original say.
        assert!((plain.bytes as f64 / (6e6 * bits_of_default()) - 1.0).abs() < 0.01, "{plain:?}");
    }

    /// Relative to two bits.
    fn bits_of_default() -> f64 {
        let quality = recipe("[]").shown().quality;
        2f64.powf((f64::from(quality) - 82.0) / 12.0)
    }

    #[test]
    fn runs_correct_what_is_said_and_a_wild_one_does_little() {
        let mut costs = Costs::default();
        let recipe = recipe("[]");
        let say = |costs: &Costs| costs.picture(&recipe, &ResolveContext::default(), original());
        let truth = say(&costs).seconds * 2.7;
        for _ in 0..30 {
            let said = say(&costs);
            costs.learn(said, truth, said.bytes);
        }
        assert!((say(&costs).seconds / truth - 1.0).abs() < 0.02 && say(&costs).sure == Sure::Learned);
        let said = say(&costs);
        costs.learn(said, truth * 1000.0, said.bytes);
        assert!(say(&costs).seconds < truth * 1.3);
        // Nothing sensible was told: nothing changes.
        let before = costs.correction;
        costs.learn(said, 0.0, 0);
        assert_eq!(costs.correction, before);
    }

    #[test]
    fn a_table_has_every_step_and_survives_being_kept() {
        let costs = Costs::default().measured();
        for kind in registry().iter().filter(|k| k.info.id != "denoise") {
            assert!(costs.table.contains_key(&format!("step {}", kind.info.id)), "{}", kind.info.id);
        }
        for way in ["step denoise thorough", "step denoise quick"] {
            assert!(
                costs.table.get(way).is_some_and(|seconds| seconds.is_finite() && *seconds > 0.0),
                "{way}"
            );
        }
        assert!(!costs.is_to_be_measured());
        let text = serde_json::to_string(&costs).unwrap();
        let back: Costs = serde_json::from_str(&text).unwrap();
        assert!(back.table.keys().eq(costs.table.keys()) && !back.is_to_be_measured());
        assert!(back.table.values().zip(costs.table.values()).all(|(a, b)| (a - b).abs() < 1e-9));
    }
}
