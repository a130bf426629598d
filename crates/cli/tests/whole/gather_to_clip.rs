//! From a camera's scattered frames to the finished clip, in a browser: gathered, held apart by passes, evened, held steady,
//! blended, moved over and graded. What came out is measured on the decoded clip by means that share nothing with the program.

use crate::common::desk::*;
use crate::common::*;
use crate::sequences::unevenness;
use crate::together::probed;
use serde_json::{Value, json};
use std::path::PathBuf;
use std::process::Command;

/// How long is waited for what takes longer than a page, in seconds.
const PATIENTLY: u32 = 600;

/// Pixels a frame is measured at.
const W: usize = 480;
const H: usize = 270;

/// Frames of a clip, or of the pictures a list names, in grey, as light.
fn decoded(input: &[&str]) -> Vec<Vec<f64>> {
    // The pictures are cut to the proportion of the clip.
    let filter = format!("crop=iw:iw*9/16,scale={W}:{H}:flags=area,format=gray");
    let out = Command::new("ffmpeg")
        .args(["-v", "error"])
        .args(input)
        .args(["-vf", &filter, "-f", "rawvideo", "-"])
        .output()
        .unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    let light = |v: &u8| (f64::from(*v) / 255.0).powf(2.2);
    out.stdout.chunks_exact(W * H).map(|frame| frame.iter().map(light).collect()).collect()
}

/// How much of a known unevenness a course of light has: 1 all of it, 0 nothing.
fn share_of(known: &[f64], course: &[f64]) -> f64 {
    let second = |c: &[f64]| -> Vec<f64> { c.windows(3).map(|l| l[0] - 2.0 * l[1] + l[2]).collect() };
    let (known, course) = (second(known), second(course));
    known.iter().zip(&course).map(|(k, c)| k * c).sum::<f64>() / known.iter().map(|k| k * k).sum::<f64>()
}

/// Eight frames blended into each, those at both ends counting half; fewer at the ends.
fn blended(values: &[f64]) -> Vec<f64> {
    let one = |i: usize| {
        let window = (i.saturating_sub(4)..(i + 5).min(values.len())).map(|k| {
            let weight = if k.abs_diff(i) == 4 { 0.5 } else { 1.0 };
            (weight * values[k], weight)
        });
        let (sum, weight) = window.fold((0.0, 0.0), |(s, w), (v, weight)| (s + v, w + weight));
        sum / weight
    };
    (0..values.len()).map(one).collect()
}

fn middle_one(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

/// Light of each frame in stops: the middle one of its upper half, where boards and the bed's far end are.
fn lights(frames: &[Vec<f64>]) -> Vec<f64> {
    frames.iter().map(|f| middle_one(f[W * 40..W * 150].to_vec()).max(1e-4).log2()).collect()
}

/// The middle of a frame that shows so much of the picture, as the logarithm of light so that its level does not matter.
fn middle(frame: &[f64], size: f64) -> Vec<f64> {
    let at = |x: f64, y: f64| {
        let (left, top) = (x as usize, y as usize);
        let (u, v) = (x - left as f64, y - top as f64);
        let row = |y: usize| frame[y * W + left] * (1.0 - u) + frame[y * W + left + 1] * u;
        row(top) * (1.0 - v) + row(top + 1) * v
    };
    let place = |i: usize, side: usize, of: usize| {
        (of as f64 - 1.0) / 2.0 + (i as f64 - (side as f64 - 1.0) / 2.0) / size
    };
    let sharp: Vec<f64> = (0..MIDDLE.0 * MIDDLE.1)
        .map(|i| (at(place(i % MIDDLE.0, MIDDLE.0, W), place(i / MIDDLE.0, MIDDLE.1, H)) + 0.02).ln())
        .collect();
    let mut out = sharp.clone();
    for y in 2..MIDDLE.1 - 2 {
        for x in 2..MIDDLE.0 - 2 {
            let around = (y - 2..=y + 2).flat_map(|y| (x - 2..=x + 2).map(move |x| y * MIDDLE.0 + x));
            out[y * MIDDLE.0 + x] = around.map(|i| sharp[i]).sum::<f64>() / 25.0;
        }
    }
    out
}

/// Pixels of the middle.
const MIDDLE: (usize, usize) = (270, 150);

/// How far one middle lies from another, across and down: least squares over all slopes (Lucas and Kanade).
fn apart(a: &[f64], b: &[f64]) -> [f64; 2] {
    let w = MIDDLE.0;
    let inner = || (5..MIDDLE.1 - 5).flat_map(|y| (5..w - 5).map(move |x| y * w + x));
    let level = middle_one(inner().map(|i| b[i] - a[i]).collect());
    let mut sums = [0.0; 5];
    for i in inner() {
        let across = (a[i + 1] - a[i - 1] + b[i + 1] - b[i - 1]) / 4.0;
        let down = (a[i + w] - a[i - w] + b[i + w] - b[i - w]) / 4.0;
        let change = b[i] - a[i] - level;
        // What changed by more than light that moved over an edge is something else.
        if change.abs() > 0.2 {
            continue;
        }
        let parts = [across * across, across * down, down * down, across * change, down * change];
        for (sum, part) in sums.iter_mut().zip(parts) {
            *sum += part;
        }
    }
    let [xx, xy, yy, xt, yt] = sums;
    let over = xx * yy - xy * xy;
    [-(yy * xt - xy * yt) / over, -(xx * yt - xy * xt) / over]
}

/// How much of the camera's true moves from day to day is seen, each day by its frame nearest noon (under one light): 1
/// where a pixel that it moved by is a pixel of a frame. `days` are those frames, each with the camera's true place.
fn shown_moves(days: &[(Vec<f64>, [f64; 2])]) -> f64 {
    let (mut with, mut all) = (0.0, 0.0);
    for two in days.windows(2) {
        let seen = apart(&two[0].0, &two[1].0);
        for k in 0..2 {
            let truth = two[1].1[k] - two[0].1[k];
            with += truth * seen[k];
            all += truth * truth;
        }
    }
    with / all
}

async fn gathered(desk: &Desk) -> PathBuf {
    let card = |k: usize| desk.shoot().join(format!("Bed card {k}")).to_string_lossy().into_owned();
    let places: Vec<Value> = (1..=3).map(|k| json!({"path": card(k)})).collect();
    desk.ask("POST", "/api/shoots", json!({"places": places})).await;
    desk.go("/frames").await;
    desk.until_within(PATIENTLY, "document.querySelector('#count')?.innerText.startsWith('630 frames')")
        .await;
    desk.gather_into("Together").await;
    desk.until_within(PATIENTLY, "document.querySelector('#gather-go')").await;
    desk.click("#gather-go").await;
    desk.until_within(
        PATIENTLY,
        "document.querySelector('#gather-said')?.innerText.startsWith('630 copied')",
    )
    .await;
    desk.folder.path().join("pictures/Together")
}

/// Passes: what is proposed, the hours by a word, a window on the map of days; played, and applied. How many stay.
async fn sieved(desk: &Desk) -> usize {
    desk.go("/sequence").await;
    desk.until_within(PATIENTLY, "document.body.dataset.stay === '630' && document.querySelector('#about').innerText.includes('630 frames')").await;
    desk.click_where("#suggest", "true").await;
    desk.until_within(PATIENTLY, "document.querySelectorAll('#passes li').length > 0").await;
    let proposed =
        desk.script("return document.querySelectorAll('#passes li').length").await.as_u64().unwrap();
    // However many passes there are, the field that has the focus is not covered.
    desk.script("document.querySelector('#more').focus()").await;
    desk.until("(() => { const m = document.querySelector('#more'); const r = m.getBoundingClientRect(); return document.elementFromPoint(r.left + r.width / 2, r.top + r.height / 2) === m; })()").await;
    desk.find("#more").await.send_keys("hours").await;
    desk.until("document.querySelectorAll('#offers li').length > 0").await;
    desk.press(fantoccini::key::Key::Enter.into()).await;
    desk.until(&format!("document.querySelectorAll('#passes li').length === {}", proposed + 1)).await;
    let set = "const f = document.querySelectorAll('#passes li.is-open input.chip')[0]; f.value = '08:00'; f.dispatchEvent(new Event('change'))";
    desk.script(set).await;
    desk.until("document.querySelector('#kept').innerText === 'saved'").await;
    desk.click_where("[data-view=days]", "true").await;
    let place = desk.script("const c = document.querySelector('#chart').getBoundingClientRect(); return [c.left, c.top, c.width, c.height];").await;
    let (left, top, width, height): (f64, f64, f64, f64) = serde_json::from_value(place).unwrap();
    // Every day from the morning until the late afternoon.
    desk.drag_between((left + width * 0.02, top + height * 0.3), (left + width * 0.98, top + height * 0.75))
        .await;
    desk.until(&format!("document.querySelectorAll('#passes li').length === {}", proposed + 2)).await;
    desk.until("document.querySelector('#kept').innerText === 'saved'").await;
    desk.click_where("#play", "true").await;
    desk.until("document.querySelector('#when').innerText.includes('BED_')").await;
    desk.click_where("#play", "true").await;
    let stay = desk.script("return Number(document.body.dataset.stay)").await.as_u64().unwrap() as usize;
    desk.click_where("#apply", "true").await;
    desk.until("document.querySelector('#said').textContent.includes('frames set aside')").await;
    stay
}

/// The lines typed on the bench, a value that changes over the sequence, and the clip.
async fn made(desk: &Desk) -> PathBuf {
    desk.go("/bench").await;
    desk.until("document.querySelector('#bench').dataset.frame > 0").await;
    for words in ["deflicker", "steady", "blend", "contrast", "exposure"] {
        desk.add(words).await;
        desk.saved().await;
    }
    let choose = "const s = document.querySelector('#also-deliver'); s.value = 'a clip with a camera move'; s.dispatchEvent(new Event('change'))";
    desk.script(choose).await;
    desk.until("document.querySelectorAll('[data-delivery]').length === 2").await;
    desk.saved().await;
    desk.click_where("[data-delivery=\"0\"] .goes-arrow", "true").await;
    desk.until("document.querySelector('[aria-label=\"Remove delivery 1\"]')").await;
    desk.click_where("[aria-label=\"Remove delivery 1\"]", "true").await;
    desk.until("document.querySelectorAll('[data-delivery]').length === 1").await;
    desk.saved().await;
    desk.go("/sequence").await;
    desk.until(
        "[...document.querySelectorAll('#ramp option')].some((o) => o.innerText.includes('Exposure'))",
    )
    .await;
    desk.script("const f = document.querySelector('#ramp'); f.value = [...f.options].find((o) => o.innerText.includes('Exposure')).value; f.dispatchEvent(new Event('change'))").await;
    desk.until("document.querySelector('#ramps').innerText.includes('Propose marks')").await;
    desk.click_on("#ramps button", "Propose marks").await;
    desk.until("document.body.dataset.marks === '5'").await;
    let run = desk.ask("POST", "/api/runs", json!({})).await["run"].clone();
    assert!(run.is_number(), "{run}");
    desk.go(&format!("/runs/{run}")).await;
    desk.until_within(PATIENTLY, "document.querySelector('#what').innerText.startsWith('All done')").await;
    let clips: Vec<PathBuf> = files_below(&desk.folder.path().join("pictures"))
        .into_iter()
        .filter(|f| f.extension().is_some_and(|e| e == "mp4"))
        .collect();
    let [clip] = clips.as_slice() else { panic!("one clip and no other: {clips:?}") };
    clip.clone()
}

#[tokio::test(flavor = "multi_thread")]
async fn scattered_frames_become_a_calm_clip() {
    let desk = Desk::open_with(|shoot| {
        rallo_demo::write_bed(shoot, 7, |_| ()).unwrap();
    })
    .await;
    let together = gathered(&desk).await;
    let places = json!({"places": [{"path": together.to_string_lossy()}]});
    desk.ask("POST", "/api/shoots", places).await;
    let stay = sieved(&desk).await;
    assert!((120..400).contains(&stay), "{stay} of 630 stay");
    let clip = made(&desk).await;

    let stream = probed(&clip)["streams"][0].clone();
    assert_eq!(
        (&stream["width"], &stream["height"], &stream["codec_name"]),
        (&json!(1920), &json!(1080), &json!("h264"))
    );
    assert_eq!(stream["nb_read_frames"], json!(stay.to_string()));
    // The frames that stayed, as they were.
    let told = desk.ask("POST", "/api/view", json!({})).await;
    let choices = told["choices"].as_str().unwrap().chars();
    let kept: Vec<i64> = told["ids"]
        .as_array()
        .unwrap()
        .iter()
        .zip(choices)
        .filter(|(_, c)| *c != 's')
        .map(|(id, _)| id.as_i64().unwrap())
        .collect();
    let rows = desk.ask("POST", "/api/rows", json!({"ids": kept})).await;
    let mut names: Vec<String> =
        rows.as_array().unwrap().iter().map(|f| f["name"].as_str().unwrap().to_owned()).collect();
    // Names begin with the time of capture.
    names.sort();
    assert_eq!(names.len(), stay);
    let list = desk.folder.path().join("list.txt");
    let lines: Vec<String> =
        names.iter().map(|n| format!("file '{}'\n", together.join(n).display())).collect();
    std::fs::write(&list, lines.concat()).unwrap();
    let before = decoded(&["-f", "concat", "-safe", "0", "-i", &list.to_string_lossy()]);
    let after = decoded(&["-i", &clip.to_string_lossy()]);
    assert_eq!((before.len(), after.len()), (stay, stay));
    let flicker = (unevenness(&lights(&before)), unevenness(&lights(&after)));
    let truth: Value =
        serde_json::from_slice(&std::fs::read(desk.shoot().join("bed-truth.json")).unwrap()).unwrap();
    let day_of = |frame: &Value| frame["taken"].as_str().unwrap()[..10].replace('-', "");
    let places: std::collections::HashMap<String, [f64; 2]> = truth
        .as_array()
        .unwrap()
        .iter()
        .map(|f| (day_of(f), serde_json::from_value(f["shift"].clone()).unwrap()))
        .collect();
    let mut noons: std::collections::BTreeMap<&str, (i64, usize)> = Default::default();
    for (i, name) in names.iter().enumerate() {
        let from_noon =
            (name[9..11].parse::<i64>().unwrap() * 60 + name[11..13].parse::<i64>().unwrap() - 720).abs();
        let now = noons.entry(&name[..8]).or_insert((from_noon, i));
        *now = (*now).min((from_noon, i));
    }
    // The clip's window goes from 0.6 to all of the frame, softly and by equal factors.
    let size = |i: usize| {
        let t = i as f64 / (stay - 1) as f64;
        0.6 * (1.0f64 / 0.6).powf(t * t * (3.0 - 2.0 * t))
    };
    let shown = |frames: &[Vec<f64>], size: &dyn Fn(usize) -> f64| {
        let of = |(day, (_, i)): (&&str, &(i64, usize))| (middle(&frames[*i], size(*i)), places[*day]);
        shown_moves(&noons.iter().map(of).collect::<Vec<_>>())
    };
    let shown = (shown(&before, &|_| 1.0), shown(&after, &size));
    // Blending alone would calm the light too: what is left of the flicker that is known to be in the frames tells Deflicker.
    let key_of = |frame: &Value| frame["written"].as_str().unwrap().replace(['-', ':'], "").replace('T', "-");
    let known: std::collections::HashMap<String, f64> =
        truth.as_array().unwrap().iter().map(|f| (key_of(f), f["flicker"].as_f64().unwrap())).collect();
    let known: Vec<f64> = names.iter().map(|name| known[&name[..15]]).collect();
    let left = (share_of(&known, &lights(&before)), share_of(&blended(&known), &lights(&after)));
    println!("flicker {flicker:?} stops, of the known {left:?}, moves shown {shown:?}, {stay} frames");
    assert!(flicker.1 < flicker.0 / 5.0, "flicker {flicker:?}");
    assert!(left.0 > 0.5 && left.1.abs() < left.0 / 3.0, "of the known flicker {left:?}");
    assert!(shown.0.abs() > 0.1 && shown.1.abs() < shown.0.abs() / 5.0, "moves shown {shown:?}");
    desk.page.clone().close().await.unwrap();
}
