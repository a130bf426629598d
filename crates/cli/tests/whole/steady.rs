//! Sequences held steady and joined over time, from the command line: against motions that are known, and against means that
//! are computed by hand.

use crate::common::desk::Desk;
use crate::common::*;
use rallo_engine::{Encoded, Pixels, Samples, Size};
use rallo_media::{Encoding, Extras, FileSource};
use serde_json::{Value, json};
use std::path::{Path, PathBuf};

pub const SIZE: Size = Size { width: 720, height: 480 };
pub const FRAMES: usize = 14;

/// Numbers without a pattern, 0 to 1.
fn chance(n: i64) -> f64 {
    let mut z = (n as u64).wrapping_add(1).wrapping_mul(0x9e37_79b9_7f4a_7c15);
    z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    ((z ^ (z >> 31)) >> 11) as f64 / (1u64 << 53) as f64
}

/// Smooth numbers that change over about one length.
fn bumps(x: f64, y: f64, seed: i64) -> f64 {
    let (left, top) = (x.floor(), y.floor());
    let ease = |t: f64| t * t * (3.0 - 2.0 * t);
    let (u, v) = (ease(x - left), ease(y - top));
    let at = |i: f64, j: f64| chance(i as i64 * 7919 + j as i64 * 104_729 + seed);
    let row = |j: f64| at(left, j) * (1.0 - u) + at(left + 1.0, j) * u;
    row(top) * (1.0 - v) + row(top + 1.0) * v
}

/// What there is at a place, as it is seen, 0 to 255.
fn scene(x: f64, y: f64) -> f64 {
    let part = |length: f64, size: f64, seed| size * bumps(x / length, y / length, seed);
    20.0 + part(6.0, 60.0, 1) + part(14.0, 70.0, 2) + part(60.0, 80.0, 3)
}

/// The camera's shift of a frame in pixels.
fn moved(i: usize) -> (f64, f64) {
    let knock = if i >= 8 { (3.5, -2.0) } else { (0.0, 0.0) };
    (knock.0 + chance(i as i64 * 2) - 0.5, knock.1 + chance(i as i64 * 2 + 1) - 0.5)
}

fn write(path: &Path, pixels: Vec<u8>) {
    let picture = Encoded { size: SIZE, pixels: Pixels::U8(pixels) };
    std::fs::write(path, rallo_media::encode(&picture, Encoding::Png, &Extras::default()).unwrap()).unwrap();
}

pub fn write_frames(folder: &Path) {
    std::fs::create_dir_all(folder).unwrap();
    for i in 0..FRAMES {
        let (dx, dy) = moved(i);
        // One frame by night shows nothing.
        let value = |x: f64, y: f64| if i == 4 { 2.0 } else { scene(x - dx, y - dy) };
        let pixels = (0..SIZE.area()).flat_map(|k| {
            let (x, y) = ((k as u32 % SIZE.width) as f64, (k as u32 / SIZE.width) as f64);
            let noise = 4.0 * (chance((i as i64) << 32 | k as i64) - 0.5);
            [(value(x, y) + noise).clamp(0.0, 255.0).round() as u8; 3]
        });
        write(&folder.join(format!("S_{i:02}.png")), pixels.collect());
    }
}

struct Place(tempfile::TempDir);

impl Place {
    fn new() -> Self {
        Self(tempfile::tempdir().unwrap())
    }
    fn text(&self, name: &str) -> String {
        self.0.path().join(name).to_string_lossy().into_owned()
    }
    /// Runs lines over the frames of `in`; whether all were made.
    fn try_run(&self, steps: &Value, to: &str, more: &[&str]) -> bool {
        let recipe = json!({"format": "rallo-recipe", "version": 1, "name": "Steady", "steps": steps,
            "deliveries": [{"kind": "pictures", "format": "png", "name": "{stem}", "to": "subfolder"}]});
        std::fs::write(self.0.path().join("recipe.json"), recipe.to_string()).unwrap();
        let (data, recipe, from, out) =
            (self.text("data"), self.text("recipe.json"), self.text("in"), self.text(to));
        let args = ["--data", &data, "run", &recipe, "--from", &from, "--to", &out];
        rallo(&[&args[..], more].concat()).status.success()
    }
    /// The same where all are to be made; the results in order.
    fn run(&self, steps: &Value, to: &str, more: &[&str]) -> Vec<PathBuf> {
        assert!(self.try_run(steps, to, more), "{steps}");
        let mut all: Vec<PathBuf> = files_below(&self.0.path().join(to));
        all.retain(|f| f.extension().is_some_and(|e| e == "png"));
        all.sort();
        all
    }
}

/// The red of every pixel.
pub fn values(path: &Path) -> (Size, Vec<f64>) {
    let picture = FileSource::open(path).unwrap().decode(0).unwrap();
    let Samples::U8(samples) = picture.samples() else { panic!() };
    (picture.size(), samples.iter().step_by(3).map(|v| f64::from(*v)).collect())
}

#[test]
fn frames_are_told_how_they_lie_and_held_steady() {
    let place = Place::new();
    write_frames(&place.0.path().join("in"));
    let told = rallo(&["--data", &place.text("data"), "sequence", "align", &place.text("in"), "--json"]);
    assert!(told.status.success(), "{}", String::from_utf8_lossy(&told.stderr));
    let told: Vec<Value> = serde_json::from_slice(&told.stdout).unwrap();
    let middle = (FRAMES - 1).div_ceil(2);
    for (i, frame) in told.iter().enumerate() {
        let matrix: [f64; 9] = serde_json::from_value(frame["matrix"].clone()).unwrap();
        if i == 4 {
            assert_eq!(frame["known_by"], "course", "{frame}");
            continue;
        }
        assert_eq!(frame["known_by"], "reference", "{frame}");
        let truth = (moved(i).0 - moved(middle).0, moved(i).1 - moved(middle).1);
        // At a corner: shift, turn and all.
        for (x, y) in [(0.0, 0.0), (720.0, 480.0)] {
            let found =
                (matrix[0] * x + matrix[1] * y + matrix[2], matrix[3] * x + matrix[4] * y + matrix[5]);
            let off = (found.0 - x - truth.0).hypot(found.1 - y - truth.1);
            assert!(off < 0.06, "frame {i}: {off:.3} pixels off, {frame}");
        }
    }

    let held = place.run(&json!([{"step": "hold_steady"}]), "held", &[]);
    assert_eq!(held.len(), FRAMES);
    // How much of a frame differs from the next, away from its edges.
    let apart = |a: &Path, b: &Path| {
        let ((size, a), (_, b)) = (values(a), values(b));
        assert_eq!(size, SIZE);
        let inside = (40..440).flat_map(|y| (40..680).map(move |x| y * 720 + x));
        let sum: f64 = inside.map(|k| (a[k] - b[k]).abs()).sum();
        sum / (400.0 * 640.0)
    };
    let originals: Vec<PathBuf> =
        (0..FRAMES).map(|i| place.0.path().join(format!("in/S_{i:02}.png"))).collect();
    for (i, pair) in held.windows(2).enumerate().filter(|(i, _)| ![3, 4].contains(i)) {
        let (was, left) = (apart(&originals[i], &originals[i + 1]), apart(&pair[0], &pair[1]));
        // Noise alone keeps two frames about 1.4 apart.
        assert!(left < 1.6 && (was > 2.0 || left <= was), "{i}: {was:.2} became {left:.2}");
    }
    let runs = rallo(&["--data", &place.text("data"), "queue", "report", "1"]);
    let report: Value = serde_json::from_slice(&runs.stdout).unwrap();
    let found = report["found"].to_string();
    assert!(found.contains("% of the picture is cropped"), "{found}");
    assert!(found.contains("1 frame was not aligned") && found.contains("S_04.png"), "{found}");
}

#[test]
fn edges_are_filled_with_what_the_frames_around_show() {
    let place = Place::new();
    write_frames(&place.0.path().join("in"));
    std::fs::remove_file(place.0.path().join("in/S_04.png")).unwrap();
    let held = |edges: &str| {
        let steps = json!([{"step": "hold_steady", "freedom": "shift", "edges": edges}]);
        place.run(&steps, edges, &["--quiet"])
    };
    let (filled, left) = (held("fill"), held("leave"));
    // The seventh of thirteen is the reference, the eighth by its name; the last ones were knocked to the right and up.
    let reference = moved(7);
    let off_at_the_right = |path: &Path| {
        let (_, values) = values(path);
        let strip = (20..460).flat_map(|y| (717..720).map(move |x| (x, y)));
        let off = strip.map(|(x, y)| {
            let truth = scene(f64::from(x) - reference.0, f64::from(y) - reference.1);
            (values[(y * 720 + x) as usize] - truth).abs()
        });
        off.sum::<f64>() / (440.0 * 3.0)
    };
    for (filled, left) in filled.iter().zip(&left).skip(8) {
        let (with, without) = (off_at_the_right(filled), off_at_the_right(left));
        assert!(with < 3.5 && without > 6.0, "{}: {with:.2} {without:.2}", filled.display());
    }
    // Whoever works, and however many, the bytes are the same; lines behind see the whole.
    let again = place.run(
        &json!([{"step": "hold_steady", "freedom": "shift", "edges": "fill"}]),
        "again",
        &["--quiet", "--workers", "3"],
    );
    let bytes = |all: &[PathBuf]| all.iter().map(|f| std::fs::read(f).unwrap()).collect::<Vec<_>>();
    assert!(bytes(&again) == bytes(&filled));
    let runs = rallo(&["--data", &place.text("data"), "queue", "report", "1"]);
    let report: Value = serde_json::from_slice(&runs.stdout).unwrap();
    assert!(report["found"].to_string().contains("Edges are filled"), "{report}");
}

#[test]
fn frames_become_the_mean_of_those_around_them() {
    let place = Place::new();
    write_frames(&place.0.path().join("in"));
    let blended = place.run(&json!([{"step": "blend", "frames": 4}]), "blended", &[]);
    assert_eq!(blended.len(), FRAMES);
    let linear = |v: f64| {
        let v = v / 255.0;
        if v <= 0.04045 { v / 12.92 } else { ((v + 0.055) / 1.055).powf(2.4) }
    };
    let seen = |l: f64| 255.0 * if l <= 0.003_130_8 { l * 12.92 } else { 1.055 * l.powf(1.0 / 2.4) - 0.055 };
    let originals: Vec<Vec<f64>> =
        (0..FRAMES).map(|i| values(&place.0.path().join(format!("in/S_{i:02}.png"))).1).collect();
    for i in [0, 5, FRAMES - 1] {
        let weights = [(-2i64, 0.5), (-1, 1.0), (0, 1.0), (1, 1.0), (2, 0.5)];
        let there = weights.iter().filter_map(|(off, weight)| {
            Some((usize::try_from(i as i64 + off).ok().filter(|k| *k < FRAMES)?, *weight))
        });
        let there: Vec<(usize, f64)> = there.collect();
        let total: f64 = there.iter().map(|(_, weight)| weight).sum();
        let (_, got) = values(&blended[i]);
        for k in (0..got.len()).step_by(97) {
            let mean: f64 = there.iter().map(|(at, weight)| weight * linear(originals[*at][k])).sum();
            let truth = seen(mean / total);
            assert!((got[k] - truth).abs() < 1.01, "frame {i}, pixel {k}: {} and not {truth}", got[k]);
        }
    }
    // One that cannot be read fails alone, and is left out of the others.
    std::fs::write(place.0.path().join("in/S_05x.png"), "no picture").unwrap();
    let report = place.text("report.json");
    let with_bad =
        place.try_run(&json!([{"step": "blend", "frames": 4}]), "with-bad", &["--report", &report]);
    assert!(!with_bad, "the run says that one failed");
    let report: Value = serde_json::from_slice(&std::fs::read(&report).unwrap()).unwrap();
    assert_eq!((&report["done"], &report["failed"]), (&json!(FRAMES), &json!(1)), "{report}");
    std::fs::remove_file(place.0.path().join("in/S_05x.png")).unwrap();
    // Whoever works, however many: the same bytes.
    let again = place.run(&json!([{"step": "blend", "frames": 4}]), "again", &["--workers", "1"]);
    for (a, b) in blended.iter().zip(&again) {
        assert_eq!(std::fs::read(a).unwrap(), std::fs::read(b).unwrap(), "{}", a.display());
    }
}

#[test]
fn bright_things_leave_trails_that_fade() {
    let place = Place::new();
    let folder = place.0.path().join("in");
    std::fs::create_dir_all(&folder).unwrap();
    for i in 0..6usize {
        let pixels = (0..SIZE.area() as usize).flat_map(|k| {
            let (x, y) = (k % 720, k / 720);
            let lit = (100 + i * 60..140 + i * 60).contains(&x) && (200..240).contains(&y);
            if lit { [250, 200, 80] } else { [20, 20, 30] }
        });
        write(&folder.join(format!("T_{i}.png")), pixels.collect());
    }
    let made = place.run(&json!([{"step": "trails", "frames": 3}]), "made", &[]);
    let (_, last) = values(&made[5]);
    let at = |i: usize| last[220 * 720 + 120 + i * 60];
    assert!((at(5) - 250.0).abs() < 1.5, "{}", at(5));
    assert!(at(5) > at(4) && at(4) > at(3) && at(3) > at(2) && at(2) > 100.0, "a trail fades");
    assert!((at(1) - 20.0).abs() < 1.5 && (last[0] - 20.0).abs() < 1.5, "what has faded is gone");
    // Joined twice: each takes what the one before it made, of every frame.
    let both = json!([{"step": "blend", "frames": 3}, {"step": "trails", "frames": 3}]);
    let (blended, both) = (
        values(&place.run(&json!([{"step": "blend", "frames": 3}]), "blended", &[])[5]).1,
        values(&place.run(&both, "both", &[])[5]).1,
    );
    let at = |all: &[f64], i: usize| all[220 * 720 + 120 + i * 60];
    assert!(at(&blended, 3) < 21.5 && at(&both, 3) > 60.0, "{} {}", at(&blended, 3), at(&both, 3));
    assert!((at(&both, 5) - at(&blended, 5)).abs() < 1.5);
}

#[test]
fn noise_goes_over_time_and_what_moves_stays() {
    let place = Place::new();
    let folder = place.0.path().join("in");
    std::fs::create_dir_all(&folder).unwrap();
    // The same scene with other noise in each frame, and a bright thing that is elsewhere in each.
    let moving =
        |i: usize, x: usize, y: usize| (100 + i * 60..140 + i * 60).contains(&x) && (200..240).contains(&y);
    let truth = |i: usize, x: usize, y: usize| {
        if moving(i, x, y) { 240.0 } else { 40.0 + 0.6 * scene(x as f64, y as f64) }
    };
    for i in 0..7usize {
        let pixels = (0..SIZE.area() as usize).flat_map(|k| {
            let noise =
                (0..4).map(|n| chance(((i * 4 + n) as i64) << 32 | k as i64) - 0.5).sum::<f64>() * 14.0;
            [(truth(i, k % 720, k / 720) + noise).clamp(0.0, 255.0).round() as u8; 3]
        });
        write(&folder.join(format!("N_{i}.png")), pixels.collect());
    }
    let made = place.run(&json!([{"step": "denoise_over_time", "frames": 7}]), "made", &[]);
    let (_, before) = values(&folder.join("N_3.png"));
    let (_, after) = values(&made[3]);
    let error = |got: &[f64], part: &dyn Fn(usize, usize) -> bool| {
        let off: Vec<f64> = (0..got.len())
            .filter(|k| part(k % 720, k / 720))
            .map(|k| (got[k] - truth(3, k % 720, k / 720)).powi(2))
            .collect();
        (off.iter().sum::<f64>() / off.len() as f64).sqrt()
    };
    let still = |_: usize, y: usize| y > 250;
    let ratio = error(&before, &still) / error(&after, &still);
    assert!(ratio > 2.2, "seven frames could take 2.65 times the noise: {ratio:.2}");
    // Neither the thing itself nor the places where it is in the other frames have a trace of another frame.
    let passed = |x: usize, y: usize| (0..7).any(|i| moving(i, x, y));
    assert!(error(&after, &passed) < error(&before, &passed) * 1.05, "a ghost");
}

#[test]
fn a_slower_clip_shows_what_moves_on_its_way() {
    let place = Place::new();
    let folder = place.0.path().join("in");
    std::fs::create_dir_all(&folder).unwrap();
    // A disc with a pattern goes to the right before a ground that stands.
    let value = |x: f64, y: f64, moved: f64| {
        let (u, v) = (x - 200.0 - moved, y - 240.0);
        let inside = (0.5 + (60.0 - u.hypot(v)) / 2.0).clamp(0.0, 1.0);
        let disc = 170.0 + 50.0 * (u / 6.0).sin() * (v / 8.0).cos();
        inside * disc + (1.0 - inside) * (30.0 + 0.3 * scene(x, y))
    };
    for i in 0..4usize {
        let pixels = (0..SIZE.area() as usize)
            .flat_map(|k| [value((k % 720) as f64, (k / 720) as f64, i as f64 * 24.0).round() as u8; 3]);
        write(&folder.join(format!("D_{i}.png")), pixels.collect());
    }
    // The frames of a clip of what lies in `in`, and what its run says of it.
    let clip = |to: &str, backwards: bool| -> (Vec<Vec<f64>>, String) {
        let recipe = json!({"format": "rallo-recipe", "version": 1, "name": "Slow", "steps": [],
            "deliveries": [{"kind": "video", "purpose": "keep", "size": "custom", "width": 720, "height": 480,
                "speed": 0.5, "between": "motion", "backwards": backwards, "to": "subfolder"}]});
        std::fs::write(place.0.path().join("recipe.json"), recipe.to_string()).unwrap();
        let (data, recipe, from, out, report) = (
            place.text("data"),
            place.text("recipe.json"),
            place.text("in"),
            place.text(to),
            place.text("report.json"),
        );
        let args = ["--data", &data, "run", &recipe, "--from", &from, "--to", &out, "--report", &report];
        let done = rallo(&args);
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
        let mut clips = files_below(&place.0.path().join(to));
        clips.retain(|file| file.extension().is_some_and(|e| e == "mkv"));
        let frames = place.0.path().join(format!("{to} frames"));
        std::fs::create_dir_all(&frames).unwrap();
        let taken = std::process::Command::new("ffmpeg")
            .args(["-loglevel", "error", "-i"])
            .arg(&clips[0])
            .args(["-pix_fmt", "rgb24"])
            .arg(frames.join("%02d.png"))
            .status();
        assert!(taken.unwrap().success());
        let mut shown = files_below(&frames);
        shown.sort();
        let shown = shown.iter().map(|path| values(path).1).collect();
        (shown, std::fs::read_to_string(report).unwrap())
    };
    let (got, told) = clip("out", false);
    assert_eq!(got.len(), 8);
    assert!(!told.contains("could hardly be followed"), "{told}");
    let off = |got: &[f64], moved: f64| {
        let square = |k: usize| (got[k] - value((k % 720) as f64, (k / 720) as f64, moved)).powi(2);
        // Around the disc's way.
        let part = (160..320).flat_map(|y| (120..360).map(move |x| y * 720 + x));
        (part.map(square).sum::<f64>() / (160.0 * 240.0)).sqrt()
    };
    for (n, frame) in got.iter().enumerate() {
        let moved = (n as f64 * 12.0).min(72.0);
        let off_by = off(frame, moved);
        if n % 2 == 0 || n == 7 {
            assert!(off_by < 1.0, "frame {n}: {off_by:.2}");
            continue;
        }
        let mixed: Vec<f64> = got[n - 1].iter().zip(&got[n + 1]).map(|(a, b)| (a + b) / 2.0).collect();
        let plain = off(&mixed, moved);
        assert!(off_by < plain / 2.0, "frame {n}: {off_by:.2}, and {plain:.2} where both are mixed");
    }
    // Backwards the last frame comes first, and what lies between as well.
    let (back, _) = clip("back", true);
    assert_eq!(back.len(), 8);
    assert!(off(&back[0], 72.0) < 1.0 && off(&back[6], 0.0) < 1.0, "{:.2}", off(&back[0], 72.0));
    assert!(off(&back[1], 60.0) < off(&back[1], 72.0) / 2.0, "{:.2}", off(&back[1], 60.0));
    // Where frames have nothing in common that is said.
    for i in 0..2usize {
        let pixels = (0..SIZE.area() as i64).flat_map(|k| [(chance(k * 2 + i as i64) * 255.0) as u8; 3]);
        write(&folder.join(format!("D_{i}.png")), pixels.collect());
    }
    let (_, told) = clip("other", false);
    assert!(told.contains("could hardly be followed between frames 1 and 2"), "{told}");
}

#[test]
fn all_frames_become_one_picture() {
    let place = Place::new();
    let folder = place.0.path().join("in");
    std::fs::create_dir_all(&folder).unwrap();
    // A person stands elsewhere in every frame; the ground has a grey of its own.
    let value = |i: usize, x: usize| if x / 80 == i { 210 } else { 90 + (i as u8 % 2) * 20 };
    for i in 0..5usize {
        let pixels = (0..SIZE.area() as usize).flat_map(|k| [value(i, k % 720); 3]);
        write(&folder.join(format!("P_{i}.png")), pixels.collect());
    }
    let deliveries: Vec<Value> = ["lighten", "darken", "mean", "median"]
        .map(|by| json!({"kind": "stack", "by": by, "format": "png", "name": by, "to": "subfolder"}))
        .into();
    let recipe =
        json!({"format": "rallo-recipe", "version": 1, "name": "One", "steps": [], "deliveries": deliveries});
    std::fs::write(place.0.path().join("one.json"), recipe.to_string()).unwrap();
    let (data, recipe, from, out) =
        (place.text("data"), place.text("one.json"), place.text("in"), place.text("out"));
    let done = rallo(&["--data", &data, "run", &recipe, "--from", &from, "--to", &out]);
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    let linear = |v: u8| {
        let v = f64::from(v) / 255.0;
        if v <= 0.04045 { v / 12.92 } else { ((v + 0.055) / 1.055).powf(2.4) }
    };
    for (by, truth) in [("lighten", 0), ("darken", 1), ("mean", 2), ("median", 3)] {
        let file = files_below(Path::new(&out)).into_iter().find(|f| f.file_stem().is_some_and(|n| n == by));
        let picture = FileSource::open(&file.unwrap()).unwrap().decode(0).unwrap();
        // Written with 16 bits.
        let Samples::U16(samples) = picture.samples() else { panic!("{by}") };
        assert_eq!(picture.size(), SIZE);
        for x in (7..720).step_by(40) {
            let mut all: Vec<u8> = (0..5).map(|i| value(i, x)).collect();
            all.sort_unstable();
            let mean = all.iter().map(|v| linear(*v)).sum::<f64>() / 5.0;
            let wanted = match truth {
                0 => linear(all[4]),
                1 => linear(all[0]),
                2 => mean,
                _ => linear(all[2]),
            };
            let got = f64::from(samples[(200 * 720 + x) * 3]) / 65_535.0;
            let got = if got <= 0.04045 { got / 12.92 } else { ((got + 0.055) / 1.055).powf(2.4) };
            assert!((got - wanted).abs() < 2e-4, "{by} at {x}: {got} and not {wanted}");
        }
    }
    // Frames of two sizes are no picture; which, is said.
    let small = Encoded { size: Size::new(10, 10), pixels: Pixels::U8(vec![9; 300]) };
    let bytes = rallo_media::encode(&small, Encoding::Png, &Extras::default()).unwrap();
    std::fs::write(folder.join("Q_small.png"), bytes).unwrap();
    let out = place.text("again");
    let done = rallo(&["--data", &data, "run", &recipe, "--from", &from, "--to", &out]);
    assert!(!done.status.success());
    let said = String::from_utf8_lossy(&done.stderr).into_owned() + &String::from_utf8_lossy(&done.stdout);
    assert!(said.contains("one frame has 10 × 10 pixels and the first one 720 × 480"), "{said}");
}

#[test]
fn gaps_in_the_trails_of_stars_are_closed_where_wanted() {
    let place = Place::new();
    let folder = place.0.path().join("in");
    std::fs::create_dir_all(&folder).unwrap();
    // Four stars that go ten pixels to the right from frame to frame.
    let stars = [(60.0, 60.0), (200.0, 140.0), (330.0, 220.0), (480.0, 330.0)];
    for i in 0..4usize {
        let light = |k: usize| {
            let (x, y) = ((k % 720) as f64, (k / 720) as f64);
            let one = |(sx, sy): &(f64, f64)| {
                (-((x - sx - 10.0 * i as f64).powi(2) + (y - sy).powi(2)) / 2.0).exp()
            };
            12 + (200.0 * stars.iter().map(one).sum::<f64>()) as u8
        };
        let pixels = (0..SIZE.area() as usize).flat_map(|k| [light(k); 3]);
        write(&folder.join(format!("N_{i}.png")), pixels.collect());
    }
    let deliveries: Vec<Value> = [("dots", false), ("trails", true)]
        .map(|(name, close)| json!({"kind": "stack", "close_gaps": close, "format": "png", "name": name, "to": "subfolder"}))
        .into();
    let recipe = json!({"format": "rallo-recipe", "version": 1, "name": "Stars", "steps": [], "deliveries": deliveries});
    std::fs::write(place.0.path().join("stars.json"), recipe.to_string()).unwrap();
    let out = place.text("out");
    let done = rallo(&[
        "--data",
        &place.text("data"),
        "run",
        &place.text("stars.json"),
        "--from",
        &place.text("in"),
        "--to",
        &out,
    ]);
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    let between = |name: &str| {
        let file =
            files_below(Path::new(&out)).into_iter().find(|f| f.file_stem().is_some_and(|n| n == name));
        let picture = FileSource::open(&file.unwrap()).unwrap().decode(0).unwrap();
        let Samples::U16(samples) = picture.samples() else { panic!("{name}") };
        let darkest = |(x, y): &(f64, f64)| {
            (*x as usize..=*x as usize + 30).map(|x| samples[(*y as usize * 720 + x) * 3] / 257).min()
        };
        stars.iter().filter_map(darkest).min().unwrap()
    };
    assert!(between("dots") < 20 && between("trails") > 150, "{} {}", between("dots"), between("trails"));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_moves_is_drawn_on_the_picture_and_the_run_says_what_it_found() {
    let desk = Desk::open_with(write_frames).await;
    desk.choose().await;
    desk.go("/bench").await;
    desk.add("steady").await;
    desk.until("document.querySelector('#lines li.is-open')?.innerText.includes('Hold the picture steady')")
        .await;
    desk.click_on("#lines button", "Draw what moves").await;
    desk.until("!document.querySelector('#hint').hidden").await;
    let before = "document.querySelectorAll('#overlay .shade').length";
    desk.drag("#stage", (0.3, 0.4), (0.45, 0.6)).await;
    desk.until(&format!("{before} === 1")).await;
    desk.drag("#stage", (0.55, 0.4), (0.65, 0.6)).await;
    desk.until(&format!("{before} === 2")).await;
    // A click takes a part back.
    desk.drag("#stage", (0.6, 0.5), (0.6, 0.5)).await;
    desk.until(&format!("{before} === 1")).await;
    desk.saved().await;
    let kept = desk.ask("GET", "/api/recipes", Value::Null).await.to_string();
    assert!(kept.contains("ignore"), "{kept}");

    let run = desk.ask("POST", "/api/runs", json!({})).await["run"].clone();
    desk.go(&format!("/runs/{run}")).await;
    desk.until("document.querySelector('#what').innerText.startsWith('All done')").await;
    desk.until("document.querySelector('#found').innerText.includes('is cropped')").await;
    assert!(desk.text("#found").await.contains("S_04.png"));
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_bench_that_is_open_before_its_folder_is_read_takes_the_first_frame() {
    let desk = Desk::open_with(|shoot| {
        for i in 0..250 {
            write(&shoot.join(format!("N_{i:03}.png")), vec![i as u8; SIZE.area() as usize * 3]);
        }
    })
    .await;
    let shoot = desk.shoot().to_string_lossy().into_owned();
    let told = desk.ask("POST", "/api/shoots", json!({"places": [{"path": shoot, "deep": true}]})).await;
    assert!(told["problem"].is_null(), "{told}");
    desk.go("/bench").await;
    desk.until("document.querySelector('#bench').dataset.frame > 0").await;
    desk.until("document.querySelector('#no-sample').hidden").await;
    desk.until("document.querySelector('#run-count').innerText === '250 frames'").await;
    desk.page.clone().close().await.unwrap();
}
