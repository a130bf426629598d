//! A clip's window that travels over its frames: every pixel of a ramp tells from where in the picture it came, so what a
//! decoder gives back is compared with where the window should be.

use crate::common::desk::*;
use crate::common::*;
use rallo_engine::{Encoded, Pixels, Size};
use rallo_media::{Encoding, Extras};
use serde_json::{Value, json};
use std::path::{Path, PathBuf};
use std::process::Command;

const WIDE: u32 = 1200;
const HIGH: u32 = 800;
/// The clip's pixels.
const W: usize = 320;
const H: usize = 180;

/// Red tells the place from the left, green from the top; blue the picture's number.
fn ramp(path: &Path, number: u32) {
    let mut values = Vec::with_capacity((WIDE * HIGH * 3) as usize);
    let share = |at: u32, side: u32| ((f64::from(at) + 0.5) / f64::from(side) * 40_000.0 + 12_000.0) as u16;
    for y in 0..HIGH {
        for x in 0..WIDE {
            values.extend([share(x, WIDE), share(y, HIGH), (number * 5000 + 10_000) as u16]);
        }
    }
    let picture = Encoded { size: Size::new(WIDE, HIGH), pixels: Pixels::U16(values) };
    std::fs::write(path, rallo_media::encode(&picture, Encoding::Png, &Extras::default()).unwrap()).unwrap();
}

struct Place(tempfile::TempDir);

impl Place {
    fn new(pictures: u32) -> Self {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir(folder.path().join("in")).unwrap();
        for i in 0..pictures {
            ramp(&folder.path().join(format!("in/R_{i}.png")), i);
        }
        Self(folder)
    }

    fn path(&self, name: &str) -> PathBuf {
        self.0.path().join(name)
    }

    /// Makes one clip without losses; its frames as red, green, blue of 16 bits.
    fn clip(&self, name: &str, steps: Value, mut values: Value) -> Vec<Vec<[f64; 3]>> {
        let more = json!({"kind": "video", "purpose": "keep", "size": "custom", "width": W, "height": H,
            "fit": "move", "name": name});
        values.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        let recipe = json!({"format": "rallo-recipe", "version": 1, "name": "m", "steps": steps, "deliveries": [values]});
        std::fs::write(self.path("r.json"), recipe.to_string()).unwrap();
        let done = program()
            .env("RALLO_DATA", self.path("data"))
            .arg("run")
            .arg(self.path("r.json"))
            .arg("--from")
            .arg(self.path("in"))
            .arg("--quiet")
            .output()
            .unwrap();
        assert!(done.status.success(), "{done:?}");
        let file = self.path(&format!("in/m/{name}.mkv"));
        let raw = Command::new("ffmpeg")
            .args(["-v", "error", "-i"])
            .arg(file)
            .args(["-f", "rawvideo", "-pix_fmt", "rgb48le", "-"])
            .output()
            .unwrap();
        assert!(raw.status.success(), "{raw:?}");
        let value = |b: &[u8]| f64::from(u16::from_le_bytes([b[0], b[1]]));
        let pixel = |p: &[u8]| [value(&p[..2]), value(&p[2..4]), value(&p[4..6])];
        raw.stdout.chunks_exact(W * H * 6).map(|f| f.chunks_exact(6).map(pixel).collect()).collect()
    }
}

/// Where in the picture a frame's pixel came from, in the picture's pixels; and the picture's number.
fn from(frame: &[[f64; 3]], x: usize, y: usize) -> (f64, f64, u32) {
    let [r, g, b] = frame[y * W + x];
    let place = |v: f64, side: u32| (v - 12_000.0) / 40_000.0 * f64::from(side);
    (place(r, WIDE), place(g, HIGH), ((b - 10_000.0) / 5000.0).round() as u32)
}

/// Left, top and width of the window a frame shows, by pixels at a distance from its corners.
fn window(frame: &[[f64; 3]]) -> (f64, f64, f64) {
    let (a, b) = (from(frame, 40, 40), from(frame, W - 41, H - 41));
    let scale = (b.0 - a.0) / (W - 81) as f64;
    let even = (b.1 - a.1) / (H - 81) as f64;
    assert!((scale - even).abs() < 0.004 * scale, "stretched: {scale} {even}");
    (a.0 - 40.5 * scale, a.1 - 40.5 * scale, scale * W as f64)
}

/// As far as a window may be off, in the picture's pixels: a tenth, and a thousandth of its width.
const OFF: f64 = 0.1;

#[test]
fn the_window_is_where_its_marks_and_its_time_say() {
    let place = Place::new(4);
    let marks = json!([[0, 0.5, 0.5, 1], [0.5, 0.3, 0.4, 0.4], [1, 0.7, 0.4, 0.4]]);
    let values = json!({"move": marks, "ease": "even", "speed": 0.5, "hold_first": 0.08, "rate": "25"});
    let frames = place.clip("even", json!([]), values);
    // Two held, and eight that move.
    assert_eq!(frames.len(), 10);
    let numbers: Vec<u32> = frames.iter().map(|f| from(f, 160, 90).2).collect();
    assert_eq!(numbers, [0, 0, 0, 0, 1, 1, 2, 2, 3, 3]);
    for (j, frame) in frames.iter().enumerate() {
        let t = j.saturating_sub(2) as f64 / 7.0;
        // By hand: sizes by equal factors to 0.4, the middle with them; then straight to the right.
        let (x, y, size) = if t < 0.5 {
            let size = 0.4f64.powf(t * 2.0);
            let share = (1.0 - size) / 0.6;
            (0.5 - 0.2 * share, 0.5 - 0.1 * share, size)
        } else {
            (0.3 + 0.4 * (t * 2.0 - 1.0), 0.4, 0.4)
        };
        let wide = f64::from(WIDE) * size;
        let want = (x * f64::from(WIDE) - wide / 2.0, y * f64::from(HIGH) - wide * 9.0 / 32.0, wide);
        let got = window(frame);
        let near = |a: f64, b: f64| (a - b).abs() <= OFF + 0.001 * wide;
        assert!(
            near(got.0, want.0) && near(got.1, want.1) && near(got.2, want.2),
            "{j}: {got:?}, want {want:?}"
        );
    }
}

#[test]
fn what_lies_between_frames_is_seen_through_the_window_of_its_own_moment() {
    let place = Place::new(3);
    for between in ["blend", "motion"] {
        let values = json!({"move": [[0, 0.4, 0.5, 0.8], [1, 0.6, 0.5, 0.8]], "ease": "even", "speed": 0.5,
            "rate": "25", "between": between});
        let frames = place.clip(between, json!([]), values);
        assert_eq!(frames.len(), 6, "{between}");
        let blue: Vec<f64> = frames.iter().map(|f| f[90 * W + 160][2]).collect();
        let known = [Some(0), None, Some(1), None, Some(2), Some(2)];
        for (k, (frame, known)) in frames.iter().zip(known).enumerate() {
            match known {
                Some(number) => assert_eq!(from(frame, 160, 90).2, number, "{between}"),
                // Half of the light of both, which is above half of their values.
                None => assert!(
                    blue[k] > (blue[k - 1] + blue[k + 1]) / 2.0 && blue[k] < blue[k + 1] - 1000.0,
                    "{between}: {blue:?}"
                ),
            }
            let wide = f64::from(WIDE) * 0.8;
            let want = (0.4 + 0.2 * k as f64 / 5.0) * f64::from(WIDE) - wide / 2.0;
            let got = window(frame);
            assert!((got.0 - want).abs() <= OFF + 0.001 * wide, "{between}, {k}: {got:?}, want {want}");
        }
    }
}

#[test]
fn one_picture_is_enough_and_a_slow_move_does_not_tremble() {
    let place = Place::new(1);
    let values =
        json!({"move": [[0, 0.35, 0.5, 0.5], [1, 0.4, 0.5, 0.5]], "ease": "even", "length": 2, "rate": "25"});
    let frames = place.clip("still", json!([]), values);
    assert_eq!(frames.len(), 50);
    let lefts: Vec<f64> = frames.iter().map(|f| window(f).0).collect();
    // 60 pixels of the picture in 49 steps: each the same, though no whole pixel of picture or clip.
    let step = 60.0 / 49.0;
    for (k, pair) in lefts.windows(2).enumerate() {
        assert!((pair[1] - pair[0] - step).abs() < 0.06, "{k}: {} instead of {step}", pair[1] - pair[0]);
    }
    assert!((lefts[49] - lefts[0] - 60.0).abs() < 0.1);
}

#[test]
fn a_move_follows_the_lines_and_stays_inside_what_they_leave() {
    let place = Place::new(2);
    // The lines keep the right half; a window beyond its edge is moved back into it.
    let steps = json!([{"step": "crop", "pixels": [600, 0, 600, 800]}]);
    let frames = place.clip("half", steps, json!({"move": [[0, 1, 0, 0.5], [1, 0, 1, 1]], "ease": "soft"}));
    let (first, last) = (window(&frames[0]), window(&frames[1]));
    let near = |got: (f64, f64, f64), want: (f64, f64, f64)| {
        let off = [got.0 - want.0, got.1 - want.1, got.2 - want.2];
        assert!(off.iter().all(|o| o.abs() < 0.8), "{got:?}, want {want:?}");
    };
    near(first, (900.0, 0.0, 300.0));
    near(last, (600.0, 800.0 - 600.0 * 9.0 / 16.0, 600.0));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_move_is_set_on_the_sample_with_mouse_and_keyboard() {
    let desk = Desk::open_with(|shoot| {
        for i in 1..=3 {
            write_jpeg(&shoot.join(format!("BED_{i}.jpg")), 960, 540, i);
        }
    })
    .await;
    desk.choose().await;
    let recipe = json!({"format": "rallo-recipe", "version": 1, "name": "Near", "steps": [],
        "deliveries": [{"kind": "video", "fit": "move", "length": 1, "size": "720p"}]});
    desk.ask("POST", "/api/recipes", recipe.clone()).await;
    desk.go("/bench").await;
    desk.until("document.querySelector('#goes')?.innerText.includes('a window moves from 60 % to 100 % of the frame')").await;
    desk.click_where("[data-delivery=\"0\"] [aria-expanded]", "true").await;
    desk.click_on("#goes .btn", "Set the move …").await;
    desk.until("document.querySelector('.moving')?.dataset.ready").await;
    // Time, middle and size of the chosen mark in hundredths; the mouse has whole pixels.
    let near = |want: [f64; 4]| {
        format!(
            "((f) => f.length === 4 && {want:?}.every((w, i) => Math.abs(f[i] - w) <= 0.4))([...document.querySelectorAll('.moving-fields input')].map((i) => Number(i.value)))"
        )
    };
    desk.until(&near([0.0, 50.0, 50.0, 60.0])).await;
    // Inside the window it is taken along; it stops at the picture's edge.
    desk.drag(".moving-stage", (0.5, 0.5), (0.4, 0.45)).await;
    desk.until(&near([0.0, 40.0, 45.0, 60.0])).await;
    desk.drag(".moving-stage", (0.4, 0.45), (0.05, 0.45)).await;
    desk.until(&near([0.0, 30.0, 45.0, 60.0])).await;
    // At its lower right corner it is made smaller; the other corner stays.
    desk.drag(".moving-stage", (0.6, 0.75), (0.3, 0.45)).await;
    desk.until(&near([0.0, 15.0, 30.0, 30.0])).await;
    // By keys, and typed.
    desk.script("document.querySelector('.moving-stage').focus()").await;
    desk.press('+').await;
    desk.until(&near([0.0, 15.3, 30.0, 30.6])).await;
    desk.press('\u{E014}').await;
    desk.until(&near([0.0, 16.3, 30.0, 30.6])).await;
    let type_in = |label: &str, value: &str| {
        format!(
            "const f = document.querySelector('.moving-fields [aria-label={label:?}]'); f.value = {value:?}; f.dispatchEvent(new Event('change'))"
        )
    };
    desk.script(&type_in("Mark 1, size", "50")).await;
    desk.until(&near([0.0, 25.0, 30.0, 50.0])).await;
    desk.until("document.querySelector('.moving figcaption').innerText.includes('480 × 270 pixels of the frame, enlarged 2.7 times')").await;
    // Another mark in the middle of the time, where the window is then.
    desk.script("const t = document.querySelector('.moving-time input'); t.value = 0.5; t.dispatchEvent(new Event('input'))").await;
    let press = async |name: &str| desk.click_on(".moving .btn", name).await;
    press("Add a mark here").await;
    // Softly half way, by equal factors: 0.5 to 1 is 0.7071, which is 41.4 % of the way.
    desk.until(&near([50.0, 35.4, 38.3, 70.7])).await;
    press("Add a mark here").await;
    desk.until("document.querySelector('#said').textContent.includes('There is a mark at that time')").await;
    desk.script("document.querySelector('.moving-knobs button:nth-child(2)').focus()").await;
    desk.press('\u{E012}').await;
    desk.until("document.querySelector('.moving-fields input').value === '49'").await;
    // It plays to its end.
    press("Play").await;
    desk.until("document.querySelector('.moving-time input').value === '1'").await;
    press("Take this move").await;
    desk.until("!document.querySelector('.moving')").await;
    desk.until(
        "document.querySelector('#goes').innerText.includes('from 50 % to 100 % of the frame in 3 marks')",
    )
    .await;
    desk.saved().await;
    let id = desk.script("return document.querySelector('#bench').dataset.recipe").await;
    let kept = desk.ask("GET", &format!("/api/recipes/{}", id.as_str().unwrap()), json!(null)).await;
    let marks = &kept["document"]["deliveries"][0]["move"];
    let all: Vec<[f64; 4]> = serde_json::from_value(marks.clone()).unwrap();
    for (mark, want) in
        all.iter().zip([[0.0, 0.25, 0.3, 0.5], [0.49, 0.354, 0.383, 0.707], [1.0, 0.5, 0.5, 1.0]])
    {
        assert!(mark.iter().zip(want).all(|(a, b)| (a - b).abs() < 0.005), "{marks}");
    }
    // What has no move is not asked about it.
    let mut other = recipe;
    other["deliveries"] = json!([{"kind": "pdf"}]);
    let refused = desk.ask("POST", "/api/move", json!({"recipe": other, "frame": 1, "at": 0})).await;
    assert!(refused["detail"].as_str().unwrap().starts_with("at: expected the place of a clip"), "{refused}");
    // The run tells that so few pixels are enlarged, and makes it all the same.
    desk.go("/sheet").await;
    desk.until(
        "document.body.innerText.includes(\"Where the clip's window is smallest it has 480 × 270 pixels\")",
    )
    .await;
    desk.until("!document.querySelector('#start').disabled").await;
    desk.click_where("#start", "true").await;
    desk.until("document.querySelector('#what')?.innerText.startsWith('All done')").await;
    assert!(desk.shoot().join("Near/Near.mp4").exists());
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn marks_are_taken_away_and_nothing_is_changed_by_looking() {
    let desk = Desk::open_with(|shoot| write_jpeg(&shoot.join("TALL.jpg"), 540, 960, 2)).await;
    desk.choose().await;
    let marks = json!([[0, 0.5, 0.3, 0.5], [0.5, 0.5, 0.5, 0.5], [1, 0.5, 0.7, 0.5]]);
    let recipe = json!({"format": "rallo-recipe", "version": 1, "name": "Down", "steps": [],
        "deliveries": [{"kind": "video", "fit": "move", "length": 2, "size": "720p", "move": marks, "ease": "even"}]});
    desk.ask("POST", "/api/recipes", recipe).await;
    desk.go("/bench").await;
    // In one script: the ticket is drawn anew after each answer.
    desk.until("document.querySelector('[data-delivery=\"0\"] [aria-expanded]')").await;
    desk.click_where("[data-delivery=\"0\"] [aria-expanded]", "true").await;
    let show = async || {
        desk.click_on("#goes .btn", "Set the move …").await;
        desk.until("document.querySelector('.moving')?.dataset.ready").await;
    };
    show().await;
    // A portrait is shown in its own proportion.
    let stage = "document.querySelector('.moving-stage').getBoundingClientRect()";
    let ratio = desk.script(&format!("const b = {stage}; return b.width / b.height")).await.as_f64().unwrap();
    assert!((ratio - 540.0 / 960.0).abs() < 0.01, "{ratio}");
    let shown =
        desk.script("const c = document.querySelector('.moving-shown'); return c.width / c.height").await;
    assert!((shown.as_f64().unwrap() - 16.0 / 9.0).abs() < 0.01, "{shown}");
    // Another mark is chosen where it lies on the picture, and taken away.
    desk.drag(".moving-stage", (0.5, 0.72), (0.5, 0.72)).await;
    desk.until("document.querySelector('.moving-fields b').innerText === 'Mark 3'").await;
    let press = async |name: &str| desk.click_on(".moving .btn", name).await;
    let count = |n: usize| format!("document.querySelectorAll('.moving-knobs button').length === {n}");
    press("Remove this mark").await;
    desk.until(&count(2)).await;
    press("Remove this mark").await;
    desk.until(&count(1)).await;
    press("Remove this mark").await;
    desk.until("document.querySelector('#said').textContent.includes('A move needs at least one mark')")
        .await;
    // What is typed and no number is said, and stays as it was.
    desk.script("const f = document.querySelector('.moving-fields [aria-label=\"Mark 1, size\"]'); f.value = 'wide'; f.dispatchEvent(new Event('change'))").await;
    desk.until("document.querySelector('#said').textContent.includes('size: wide is no number')").await;
    desk.until("document.querySelector('.moving-fields [aria-label=\"Mark 1, size\"]').value === '50'").await;
    // Left by Escape, the recipe is what it was.
    desk.press('\u{E00C}').await;
    desk.until("!document.querySelector('.moving')").await;
    show().await;
    desk.until(&count(3)).await;
    press("Leave it as it was").await;
    let id = desk.script("return document.querySelector('#bench').dataset.recipe").await;
    let kept = desk.ask("GET", &format!("/api/recipes/{}", id.as_str().unwrap()), json!(null)).await;
    assert_eq!((&kept["version"], &kept["document"]["deliveries"][0]["move"]), (&json!(1), &marks));
    desk.page.clone().close().await.unwrap();
}
