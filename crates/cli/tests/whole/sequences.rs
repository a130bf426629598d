//! Sequences from the command line: their light, the sieve, and a run that takes the flicker out of them.

use crate::common::desk::Desk;
use crate::common::*;
use rallo_engine::{Encoded, Pixels, Samples};
use rallo_media::{CameraData, Chroma, Encoding, Extras, FileSource};
use serde_json::{Value, json};
use std::path::Path;

const FRAMES: usize = 60;

/// Linear light of an encoded level (IEC 61966-2-1), and back.
fn linear(level: u8) -> f64 {
    let v = f64::from(level) / 255.0;
    if v <= 0.04045 { v / 12.92 } else { ((v + 0.055) / 1.055).powf(2.4) }
}

fn encoded(light: f64) -> u8 {
    let v = if light <= 0.003_130_8 { light * 12.92 } else { 1.055 * light.powf(1.0 / 2.4) - 0.055 };
    (v.clamp(0.0, 1.0) * 255.0).round() as u8
}

/// Stops that a frame is too bright: the same every time, between −0.15 and 0.15.
fn flicker(i: usize) -> f64 {
    ((i as f64 * 12.9898).sin() * 43_758.545).fract() * 0.15
}

/// Slow light, as the frames should show it, in stops.
fn slow(i: usize) -> f64 {
    0.5 * (i as f64 / 25.0).sin()
}

/// A fixed scene at every quarter of an hour, its light changing slowly and flickering; a dark thing passes through it.
fn write_frames(folder: &Path, stops: impl Fn(usize) -> f64) {
    std::fs::create_dir_all(folder).unwrap();
    let base = picture(480, 320, 3);
    let Pixels::U8(base) = base.pixels else { panic!() };
    for i in 0..FRAMES {
        let gain = 2f64.powf(stops(i)) * 0.35;
        let passes = |x: usize, y: usize| (i * 9 % 480..i * 9 % 480 + 60).contains(&x) && y > 100;
        let pixels = base.iter().enumerate().map(|(k, v)| {
            let (x, y) = (k / 3 % 480, k / 3 / 480);
            let light = if passes(x, y) { 0.02 } else { 0.05 + 0.8 * linear(*v) };
            encoded(light * gain)
        });
        let picture =
            Encoded { size: rallo_engine::Size::new(480, 320), pixels: Pixels::U8(pixels.collect()) };
        let start = jiff::civil::date(2026, 5, 4).at(6, 0, 0, 0);
        let taken = Some(start + jiff::SignedDuration::from_mins(15 * i as i64));
        let camera = CameraData { taken, orientation: 1, ..CameraData::default() };
        let extras = Extras { exif: camera.write().ok(), ..Extras::default() };
        let encoding =
            Encoding::Jpeg { quality: 95, chroma: Chroma::Full, progressive: false, optimised: false };
        let file = rallo_media::encode(&picture, encoding, &extras).unwrap();
        std::fs::write(folder.join(format!("BED_{i:03}.jpg")), file).unwrap();
    }
}

/// Mean light of the lower right corner, which nothing passes in these frames, in stops.
fn light(path: &Path) -> f64 {
    let picture = FileSource::open(path).unwrap().decode(0).unwrap();
    let Samples::U8(samples) = picture.samples() else { panic!() };
    let pixels = samples.as_chunks::<3>().0;
    let part = (0..90).flat_map(|y| &pixels[y * 480..y * 480 + 480]);
    let sum: f64 = part.clone().map(|p| p.iter().map(|v| linear(*v)).sum::<f64>()).sum();
    (sum / (part.count() as f64 * 3.0)).log2()
}

/// How uneven light is from frame to frame: the deviation of its second difference.
pub fn unevenness(lights: &[f64]) -> f64 {
    let second: Vec<f64> = lights.windows(3).map(|l| l[0] - 2.0 * l[1] + l[2]).collect();
    (second.iter().map(|v| v * v).sum::<f64>() / second.len() as f64).sqrt()
}

fn answered(args: &[&str]) -> Value {
    let done = rallo(args);
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    serde_json::from_slice(&done.stdout).unwrap()
}

#[test]
fn a_run_takes_the_flicker_out_and_leaves_what_is_slow() {
    let desk = tempfile::tempdir().unwrap();
    let at = |name: &str| desk.path().join(name);
    let text = |name: &str| at(name).to_string_lossy().into_owned();
    write_frames(&at("in"), |i| slow(i) + flicker(i));
    let recipe = json!({"format": "rallo-recipe", "version": 1, "name": "Even", "steps": [{"step": "deflicker"}],
        "deliveries": [{"kind": "pictures", "format": "jpeg", "quality": 95, "name": "{stem}", "to": "subfolder"}]});
    std::fs::write(at("even.json"), recipe.to_string()).unwrap();
    let done = rallo(&[
        "--data",
        &text("data"),
        "run",
        &text("even.json"),
        "--from",
        &text("in"),
        "--to",
        &text("out"),
    ]);
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    let made = |folder: &Path| -> Vec<f64> {
        let mut all: Vec<_> =
            files_below(folder).into_iter().filter(|f| f.extension().is_some_and(|e| e == "jpg")).collect();
        all.sort();
        assert_eq!(all.len(), FRAMES);
        all.iter().map(|f| light(f)).collect()
    };
    let (before, after) = (made(&at("in")), made(&at("out")));
    let (was, left) = (unevenness(&before), unevenness(&after));
    assert!(was > 0.1 && left < was / 7.0, "{was} became {left}");
    // The slow light is where it was, whatever its level.
    let apart: Vec<f64> = after.iter().enumerate().map(|(i, light)| light - slow(i)).collect();
    let mean = apart.iter().sum::<f64>() / apart.len() as f64;
    assert!(apart.iter().all(|v| (v - mean).abs() < 0.08), "{apart:?}");
}

#[test]
fn the_light_of_frames_is_told_and_passes_hold_them_apart() {
    let desk = tempfile::tempdir().unwrap();
    let at = |name: &str| desk.path().join(name);
    let text = |name: &str| at(name).to_string_lossy().into_owned();
    write_frames(&at("in"), |i| if i % 10 == 4 { 1.0 } else { 0.0 });
    std::fs::write(at("in/BED_007.jpg"), "no picture").unwrap();
    let (data, from) = (text("data"), text("in"));
    let measured = |option: &str, value: &str| {
        let args = ["--data", &data, "sequence", "measure", &from, "--json", option, value];
        answered_with_failures(&args)
    };
    let told = measured("--area", "0,0,0.5,0.5");
    let frames = told.as_array().unwrap();
    assert_eq!(frames.len(), FRAMES);
    let good: Vec<&Value> = frames.iter().filter(|f| f["problem"].is_null()).collect();
    assert_eq!(good.len(), FRAMES - 1);
    // These frames do not say how the camera was set, and stand near enough to each other to say what is usual.
    assert!(good.iter().all(|f| f["scene"].is_null() && f["unusual"].as_f64().is_some_and(|v| v >= 0.0)));
    assert!(good[0]["change"].is_null() && good[1]["change"].as_f64().unwrap() > 0.0);
    assert_eq!(good[0]["areas"].as_array().unwrap().len(), 1);
    let bright = |i: usize| {
        frames.iter().find(|f| f["file"].as_str().unwrap().ends_with(&format!("BED_{i:03}.jpg"))).unwrap()["brightness"].as_f64().unwrap()
    };
    assert!(bright(4) > bright(5) + 10.0);
    // Behind a line that grows brighter over the sequence the last frame is three stops brighter, the first as it was.
    let ramp = json!({"format": "rallo-recipe", "version": 1, "name": "ramp", "deliveries": [], "steps": [
        {"step": "exposure", "stops": 0, "ramp": {"stops": [[0.0, 0.0], [1.0, 3.0]]}}]});
    std::fs::write(at("ramp.json"), ramp.to_string()).unwrap();
    let ramp = measured("--recipe", &text("ramp.json"));
    let light = |told: &Value, i: usize| told[i]["brightness"].as_f64().unwrap();
    assert!((light(&ramp, 0) - light(&told, 0)).abs() < 0.5);
    // The last one cannot be read.
    let late = FRAMES - 2;
    assert!(light(&ramp, late) > light(&told, late) + 15.0, "{} {}", light(&ramp, late), light(&told, late));
    // Kept small, the frames need not be decoded again for another area.
    assert_eq!(std::fs::read_dir(at("data/small-frames")).unwrap().count(), FRAMES - 1);

    std::fs::remove_file(at("in/BED_007.jpg")).unwrap();
    let passes = json!({"passes": [
        {"pass": "line", "line": "brightness", "against": {"course": 4.0}, "upper": 5},
        {"pass": "time", "from": "08:00", "to": "18:00"},
    ]});
    std::fs::write(at("passes.json"), passes.to_string()).unwrap();
    let sieved = answered(&[
        "--data",
        &data,
        "sequence",
        "sieve",
        &text("in"),
        "--passes",
        &text("passes.json"),
        "--json",
    ]);
    let go = sieved["go"].as_array().unwrap();
    let by = |pass: u64| -> Vec<&str> {
        go.iter().filter(|g| g["pass"] == pass).map(|g| g["file"].as_str().unwrap()).collect()
    };
    assert_eq!(by(0).len(), 6, "{:?}", by(0));
    assert!(by(0).iter().all(|f| f.ends_with("4.jpg")));
    let stay = sieved["stay"].as_array().unwrap();
    assert_eq!(stay.len() + go.len(), FRAMES - 1);
    assert!(stay.iter().all(|f| (8..48).any(|i| f.as_str().unwrap().ends_with(&format!("{i:03}.jpg")))));

    // A run takes those that stay.
    let recipe = json!({"format": "rallo-recipe", "version": 1, "name": "Stay", "steps": [{"step": "resize", "long_edge": 60}],
        "deliveries": [{"kind": "pictures", "format": "jpeg", "name": "{stem}", "to": "subfolder"}]});
    std::fs::write(at("stay.json"), recipe.to_string()).unwrap();
    let done = rallo(&[
        "--data",
        &data,
        "run",
        &text("stay.json"),
        "--from",
        &text("in"),
        "--to",
        &text("out"),
        "--sieve",
        &text("passes.json"),
    ]);
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    let made =
        files_below(&at("out")).into_iter().filter(|f| f.extension().is_some_and(|e| e == "jpg")).count();
    assert_eq!(made, stay.len());

    // Suggested passes are told, and written where nothing is yet.
    let suggest =
        ["--data", &data, "sequence", "sieve", &text("in"), "--json", "--suggest", &text("new.json")];
    let told = answered(&suggest);
    let written: Value = serde_json::from_slice(&std::fs::read(at("new.json")).unwrap()).unwrap();
    assert_eq!(told["passes"], written["passes"]);
    assert_eq!(told["stay"].as_array().unwrap().len() + told["go"].as_array().unwrap().len(), FRAMES - 1);
    let refused = rallo(&suggest);
    assert!(
        !refused.status.success() && String::from_utf8_lossy(&refused.stderr).contains("name another file")
    );

    // What makes no sense is named.
    for (passes, told) in [
        (json!([{"pass": "every", "n": 0}]), "passes[0].n"),
        (json!([{"pass": "moon"}]), "moon"),
        (json!("all"), "passes.json"),
    ] {
        std::fs::write(at("passes.json"), passes.to_string()).unwrap();
        let refused =
            rallo(&["--data", &data, "sequence", "sieve", &text("in"), "--passes", &text("passes.json")]);
        let said = String::from_utf8_lossy(&refused.stderr).into_owned();
        assert!(!refused.status.success() && said.contains(told), "{said}");
    }
}

#[test]
fn values_change_over_a_sequence_between_their_marks() {
    let desk = tempfile::tempdir().unwrap();
    let at = |name: &str| desk.path().join(name);
    let text = |name: &str| at(name).to_string_lossy().into_owned();
    write_frames(&at("in"), |_| 0.0);
    let run = |name: &str, ramp: Value| {
        let recipe = json!({"format": "rallo-recipe", "version": 1, "name": name,
            "steps": [{"step": "exposure", "stops": 0, "ramp": ramp}],
            "deliveries": [{"kind": "pictures", "format": "jpeg", "quality": 95, "name": "{stem}", "to": "subfolder"}]});
        let file = format!("{name}.json");
        std::fs::write(at(&file), recipe.to_string()).unwrap();
        let done = rallo(&[
            "--data",
            &text("data"),
            "run",
            &text(&file),
            "--from",
            &text("in"),
            "--to",
            &text(name),
        ]);
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
        let mut made: Vec<std::path::PathBuf> = files_below(&at(name))
            .into_iter()
            .filter(|f| f.extension().is_some_and(|e| e == "jpg"))
            .collect();
        made.sort();
        assert_eq!(made.len(), FRAMES);
        let before = light(&at("in/BED_000.jpg"));
        made.iter().map(|file| light(file) - before).collect::<Vec<f64>>()
    };
    // A stop darker at the end, evenly: two marks make a straight line.
    let evenly = run("evenly", json!({"stops": [[0, 0], [1, -1]]}));
    for (i, stops) in evenly.iter().enumerate() {
        let expected = -(i as f64) / (FRAMES - 1) as f64;
        assert!((stops - expected).abs() < 0.05, "frame {i}: {stops} instead of {expected}");
    }
    // By name and by time: the frames are a quarter of an hour apart, from six o'clock on.
    let fixed = run("fixed", json!({"stops": [["BED_010.jpg", -1], ["2026-05-04T11:00", 0]]}));
    assert!(
        fixed[..=10].iter().all(|v| (v + 1.0).abs() < 0.05) && fixed[20..].iter().all(|v| v.abs() < 0.05)
    );
    assert!(fixed[10..=20].windows(2).all(|w| w[1] > w[0] - 0.02), "{fixed:?}");
}

/// As [`answered`], where some frames could not be measured.
fn answered_with_failures(args: &[&str]) -> Value {
    serde_json::from_slice(&rallo(args).stdout).unwrap()
}

/// What people type to say what else is to go, and Enter.
async fn say_what_else(desk: &Desk, words: &str) {
    desk.click("#more").await;
    desk.find("#more").await.send_keys(words).await;
    desk.until("document.querySelectorAll('#offers li').length > 0").await;
    desk.press(fantoccini::key::Key::Enter.into()).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn passes_are_suggested_and_areas_and_windows_are_drawn() {
    let desk = Desk::open_with(|shoot| {
        // Every tenth frame is four stops darker: by its light another group.
        write_frames(shoot, |i| if i % 10 == 4 { -4.0 } else { 0.0 });
    })
    .await;
    desk.choose().await;
    desk.go("/sequence").await;
    let stay = |n: usize| format!("document.body.dataset.stay === '{n}'");
    desk.until(&stay(FRAMES)).await;
    desk.click_where("#suggest", "true").await;
    desk.until("document.querySelector('#passes li')?.innerText.includes('6 go')").await;
    desk.until("document.querySelectorAll('#passes li.is-open .taken img').length === 6").await;
    // What a pass takes is shown as pictures, and so is the frame that is looked at.
    desk.until("document.querySelector('#seen').naturalWidth > 0").await;
    desk.until("[...document.querySelectorAll('#passes .taken img')].some((i) => i.naturalWidth > 0)").await;
    let passes = |told: &Value| told["passes"].as_array().unwrap().len();
    let before = passes(&desk.ask("GET", "/api/sequence", Value::Null).await);
    desk.click_where("#suggest", "true").await;
    desk.until("document.querySelector('#said').textContent === 'These passes are already there.'").await;

    // An ellipse drawn on the picture is measured, and its line can be chosen.
    desk.click_where("[data-area-tool=ellipse]", "true").await;
    let place: (f64, f64, f64, f64) = serde_json::from_value(
        desk.script("const c = document.querySelector('#over').getBoundingClientRect(); return [c.left, c.top, c.width, c.height];")
            .await,
    )
    .unwrap();
    let at = |x: f64, y: f64| (place.0 + place.2 * x, place.1 + place.3 * y);
    desk.drag_between(at(0.2, 0.25), at(0.6, 0.75)).await;
    desk.until("document.querySelector('#areas [aria-label=\"Measure A no longer\"]')").await;
    desk.until("document.querySelectorAll('#passes li.is-open .taken img').length === 6").await;
    let told = desk.ask("GET", "/api/sequence", Value::Null).await;
    let ellipse: [f64; 4] = serde_json::from_value(told["areas"][0]["ellipse"].clone()).unwrap();
    for (value, wanted) in ellipse.into_iter().zip([0.2, 0.25, 0.4, 0.5]) {
        assert!((value - wanted).abs() < 0.03, "{ellipse:?}");
    }
    assert!(told["frames"].as_array().unwrap().iter().all(|f| f["areas"].as_array().unwrap().len() == 1));
    // It is made wider by its corner, moved by a key, and given a name, which its lines and the shoot's document have too.
    desk.drag_between(at(0.6, 0.75), at(0.7, 0.75)).await;
    desk.script("document.querySelector('[data-move]').dispatchEvent(new KeyboardEvent('keydown', {key: 'ArrowDown', bubbles: true}))").await;
    let mut ellipse = [0f64; 4];
    for _ in 0..100 {
        let told = desk.ask("GET", "/api/sequence", Value::Null).await;
        ellipse = serde_json::from_value(told["areas"][0]["ellipse"].clone()).unwrap();
        if ellipse[2] > 0.47 && ellipse[1] > 0.255 {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    assert!(ellipse[2] > 0.47 && ellipse[1] > 0.255 && (ellipse[3] - 0.5).abs() < 0.03, "{ellipse:?}");
    desk.script("const f = document.querySelector('.area-name'); f.value = 'sky'; f.dispatchEvent(new Event('change'))").await;
    desk.until(
        "[...document.querySelectorAll('#legend button')].some((b) => b.innerText.endsWith('sky contrast'))",
    )
    .await;
    desk.click_where("#legend button", "e.innerText.endsWith('sky contrast')").await;
    let document = desk.ask("GET", "/api/shoot-file", Value::Null).await;
    assert_eq!(document["sequence"]["areas"][0]["name"], "sky");
    assert_eq!(document["sequence"]["passes"].as_array().unwrap().len(), before);

    // A window over days and hours lets through what is in it.
    desk.click_where("[data-view=days]", "true").await;
    let place: (f64, f64, f64, f64) = serde_json::from_value(
        desk.script("const c = document.querySelector('#chart').getBoundingClientRect(); return [c.left, c.top, c.width, c.height];")
            .await,
    )
    .unwrap();
    let at = |x: f64, y: f64| (place.0 + place.2 * x, place.1 + place.3 * y);
    desk.drag_between(at(0.05, 0.25), at(0.95, 0.5)).await;
    desk.until("document.querySelectorAll('#passes li.is-open').length === 1 && document.querySelector('#passes li.is-open').innerText.includes('06:00 to 12:00')").await;
    desk.until("document.querySelector('#kept').innerText === 'saved'").await;
    let told = desk.ask("GET", "/api/sequence", Value::Null).await;
    assert_eq!(passes(&told), before + 1);
    assert_eq!(told["passes"][before]["pass"], "windows");

    // Without the area passes hold the whole; what makes no sense is named.
    desk.click_where("#areas [aria-label=\"Measure sky no longer\"]", "true").await;
    desk.until("!document.querySelector('#areas .area')").await;
    let refused = json!({"areas": [{"rectangle": [0.5, 0, 0.6, 1]}], "passes": []});
    let told = desk.ask("POST", "/api/sequence/measure", refused).await;
    assert!(told.to_string().contains("areas[0]: expected"), "{told}");
    let refused = json!({"areas": [], "behind": 99, "passes": []});
    assert!(
        desk.ask("POST", "/api/sequence/measure", refused)
            .await
            .to_string()
            .contains("behind: expected 0 to")
    );
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn marks_of_a_value_are_proposed_set_and_taken_away_on_the_page() {
    let desk = Desk::open_with(|shoot| write_frames(shoot, |i| i as f64 / 60.0)).await;
    desk.choose().await;
    let recipe = json!({"format": "rallo-recipe", "version": 1, "name": "Ramp",
        "steps": [{"step": "exposure", "stops": 0.5}]});
    let kept = desk.ask("POST", "/api/recipes", recipe).await;
    assert!(kept["id"].is_number(), "{kept}");
    desk.go("/sequence").await;
    desk.until("document.querySelectorAll('#ramp option').length === 2").await;
    desk.script("const f = document.querySelector('#ramp'); f.value = '0.stops'; f.dispatchEvent(new Event('change'))").await;
    desk.until("document.querySelector('#ramps').innerText.includes('Propose marks')").await;
    desk.click_on("#ramps button", "Propose marks").await;
    desk.until("document.body.dataset.marks === '5'").await;
    // A mark is dragged down at the end of the chart: there the frames become darker.
    let (left, top, width, height): (f64, f64, f64, f64) = serde_json::from_value(
        desk.script("const c = document.querySelector('#chart').getBoundingClientRect(); return [c.left, c.top, c.width, c.height];")
            .await,
    )
    .unwrap();
    // All marks are at half a stop, and the plot goes a tenth of what there may be to each side of that.
    let middle = top + 2.0 + (height - 12.0) * 0.5;
    desk.drag_between((left + width - 1.0, middle), (left + width - 1.0, top + height - 30.0)).await;
    let ramp = |told: &Value| told["document"]["steps"][0]["ramp"]["stops"].clone();
    let id = kept["id"].clone();
    let path = format!("/api/recipes/{id}");
    let mut last = Value::Null;
    for _ in 0..50 {
        last = ramp(&desk.ask("GET", &path, Value::Null).await);
        if last[4][1].as_f64().is_some_and(|v| v < 0.4) {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    assert!(last[4][0] == 1.0 && last[4][1].as_f64().unwrap() < 0.4 && last[0][1] == 0.5, "{last}");
    // By keys: a mark goes up by notches, and one that is set where the playhead stands goes away again.
    desk.until("document.querySelectorAll('#ramps .ramp-mark').length === 5").await;
    desk.script("document.querySelector('#ramps [data-mark=\"0\"]').focus()").await;
    desk.press(fantoccini::key::Key::Up.into()).await;
    desk.press(fantoccini::key::Key::Up.into()).await;
    let mut first = Value::Null;
    for _ in 0..50 {
        first = ramp(&desk.ask("GET", &path, Value::Null).await)[0][1].clone();
        if first.as_f64().is_some_and(|v| v > 0.5) {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    assert!(first.as_f64().unwrap() > 0.5, "{first}");
    desk.until("document.activeElement.dataset.mark === '0'").await;
    desk.press(fantoccini::key::Key::Delete.into()).await;
    desk.until("document.body.dataset.marks === '4'").await;
    desk.click_on("#ramps button", "Set a mark here").await;
    desk.until("document.body.dataset.marks === '5'").await;
    // The ticket says so, and a value that may not be is named.
    desk.go("/bench").await;
    desk.until("document.querySelector('#lines').innerText.includes('over the sequence')").await;
    let refused = json!({"line": 0, "param": "stops", "marks": [[0, 99]]});
    let told = desk.ask("POST", "/api/sequence/ramps", refused).await;
    assert!(told.to_string().contains("ramp.stops[0]"), "{told}");
    desk.go("/sequence").await;
    desk.until("document.querySelector('#ramps').innerText.includes('Hold it')").await;
    desk.click_on("#ramps button", "Hold it").await;
    desk.until("document.body.dataset.marks === '0'").await;
    assert_eq!(ramp(&desk.ask("GET", &path, Value::Null).await), Value::Null);
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn passes_are_said_dragged_played_and_applied_on_the_page() {
    let desk = Desk::open_with(|shoot| {
        write_frames(shoot, |i| if i % 10 == 4 { 1.0 } else { 0.0 });
    })
    .await;
    desk.choose().await;
    desk.go("/sequence").await;
    let stay = |n: usize| format!("document.body.dataset.stay === '{n}'");
    desk.until(&stay(FRAMES)).await;
    desk.until("document.querySelector('#about').innerText.includes('60 frames')").await;
    // By the clock: a pass by a word, and its times typed.
    say_what_else(&desk, "hours").await;
    desk.until("document.querySelectorAll('#passes li').length === 1").await;
    let set = |at: usize, value: &str| {
        format!(
            "const f = document.querySelectorAll('#passes li.is-open input.chip')[{at}]; f.value = '{value}'; \
             f.dispatchEvent(new Event('change'))"
        )
    };
    desk.script(&set(0, "08:00")).await;
    desk.until("document.querySelector('#passes input.chip').value === '08:00'").await;
    desk.until("document.querySelector('#kept').innerText === 'saved'").await;
    desk.until(&stay(40)).await;
    // Against the course of its light: the frames that are a stop too bright go.
    say_what_else(&desk, "uneven").await;
    desk.until(&stay(36)).await;
    desk.until("document.querySelectorAll('#passes li')[1].innerText.includes('4 go')").await;
    // The upper edge dragged far up lets them through again.
    let edge = "(() => { const c = document.querySelector('#chart').getBoundingClientRect(); return [c.left, c.top, c.width, c.height]; })()";
    let place: (f64, f64, f64, f64) =
        serde_json::from_value(desk.script(&format!("return {edge}")).await).unwrap();
    let passes = desk.ask("GET", "/api/sequence", Value::Null).await["passes"].clone();
    let held = desk.ask("POST", "/api/sequence/sieve", json!({"passes": passes, "open": 1})).await;
    let course = held["held"].as_array().unwrap().iter().find(|h| !h.is_null()).unwrap()[1].as_f64().unwrap();
    let y = |value: f64| place.1 + (place.3 - 12.0) * (1.0 - value / 100.0) + 2.0;
    let x = place.0 + place.2 * 0.35;
    desk.drag_between((x, y(course + 12.0)), (x, y(course + 40.0))).await;
    desk.until(&stay(40)).await;
    desk.click_on("#passes li.is-open .row-acts button", "Switch off").await;
    desk.until("document.querySelectorAll('#passes li')[1].classList.contains('is-off')").await;
    // The other view, and a look at what would stay.
    desk.click_where("[data-view=days]", "true").await;
    desk.click_where("#play", "true").await;
    desk.until("document.querySelector('#when').innerText.includes('BED_01')").await;
    desk.click_where("#play", "true").await;
    // Set aside, and back again.
    desk.click_where("#apply", "true").await;
    desk.until("document.querySelector('#said').textContent.startsWith('20 frames set aside')").await;
    desk.go("/frames").await;
    desk.until("document.querySelector('#rail-frames').innerText === '40'").await;
    desk.go("/sequence").await;
    desk.until(&stay(40)).await;
    desk.click("#passes li .line-number").await;
    desk.until("document.querySelector('#passes li.is-open')").await;
    desk.click_on("#passes li.is-open .row-acts button", "Remove").await;
    desk.until(&stay(FRAMES)).await;
    desk.click_where("#apply", "true").await;
    desk.until("document.querySelector('#said').textContent.includes('20 frames back')").await;
    desk.page.clone().close().await.unwrap();
}
