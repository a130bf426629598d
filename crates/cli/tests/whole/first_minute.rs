//! The first minute on the bench, in a real browser, with a slow server: nothing is drawn where it does not belong, nothing
//! is lost, and what runs is what was meant.

use crate::common::desk::*;
use rallo_engine::{Encoded, Pixels, Size};
use rallo_media::{Chroma, Encoding, Extras};
use serde_json::{Value, json};
use std::path::Path;
use std::time::Duration;

/// A card whose colours tell where they come from: red rises to the right, green rises downwards.
fn card(shoot: &Path) {
    let (w, h) = (900u32, 600u32);
    let at = |v: u32, of: u32| ((v as f32 + 0.5) * 255.0 / of as f32) as u8;
    let pixels = (0..w * h).flat_map(|i| [at(i % w, w), at(i / w, h), 128]).collect();
    let picture = Encoded { size: Size::new(w, h), pixels: Pixels::U8(pixels) };
    let encoding = Encoding::Jpeg { quality: 95, chroma: Chroma::Full, progressive: false, optimised: false };
    let bytes = rallo_media::encode(&picture, encoding, &Extras::default()).unwrap();
    std::fs::write(shoot.join("card.jpg"), bytes).unwrap();
}

/// Looks at every picture that is painted: whether each point of it shows the place of the card that the lines, the zoom and
/// the middle put there. The lines are followed here by hand. What is wrong is kept in `window.wrong`.
const WITNESS: &str = r#"
const SIZE = [900, 600];
const PLACES = ['top left', 'top', 'top right', 'left', 'centre', 'right', 'bottom left', 'bottom', 'bottom right'];
window.wrong = [];
window.painted = 0;
window.points = 0;
window.sides = { before: 0, after: 0 };
// What each line does to a point of its result, back to its input; and the size of its result.
function back(steps) {
  let [w, h] = SIZE;
  const maps = [];
  for (const s of steps.filter((s) => s.on !== false)) {
    if (s.step === 'crop') {
      const [a, b] = (s.proportion ?? 'original').split(':').map(Number);
      const ratio = b ? a / b : w / h;
      const k = (s.size ?? 100) / 100;
      const [cw, ch] = w / h > ratio ? [h * ratio * k, h * k] : [w * k, (w / ratio) * k];
      const at = PLACES.indexOf(s.place ?? 'centre');
      const [x, y] = [((w - cw) * (at % 3)) / 2, ((h - ch) * Math.floor(at / 3)) / 2];
      const [iw, ih] = [w, h];
      maps.push((u, v) => [(x + u * cw) / iw, (y + v * ch) / ih]);
      [w, h] = [Math.round(cw), Math.round(ch)];
    } else if (s.step === 'resize') {
      const k = Math.min(1, s.long_edge / Math.max(w, h));
      [w, h] = [Math.round(w * k), Math.round(h * k)];
    } else if (s.step === 'mirror') maps.push((u, v) => [1 - u, v]);
    else if (s.step === 'rotate') {
      // To the right: what was on the left is at the top.
      maps.push((u, v) => [v, 1 - u]);
      [w, h] = [h, w];
    }
  }
  return { size: [w, h], to: (u, v) => maps.reduceRight((p, map) => map(...p), [u, v]) };
}
const stage = document.querySelector('#stage');
const canvas = document.querySelector('#canvas');
stage.addEventListener('painted', ({ detail }) => {
  const { p, both, line, hasBefore, text } = detail;
  if (text === null) return;
  window.last = text;
  // A difference shows no place's colours.
  if (document.querySelector('#compare .is-on').dataset.compare === 'difference') return;
  window.painted += 1;
  const { size, to } = back(JSON.parse(text).steps);
  const said = (what) => { if (window.wrong.length < 5) window.wrong.push(`${what}: ${text} at ${JSON.stringify(p)}`); };
  if (Math.abs(size[0] - p.w) > 2 || Math.abs(size[1] - p.h) > 2) said(`laid out as ${p.w} × ${p.h} instead of ${size}`);
  const all = canvas.getContext('2d').getImageData(0, 0, canvas.width, canvas.height);
  const look = (left, right, shift, side) => {
    for (let i = 1; i < 8; i++) for (let j = 1; j < 6; j++) {
      const [x, y] = [left + ((right - left) * i) / 8, (p.height * j) / 6];
      const at = (Math.floor(y) * all.width + Math.floor(x)) * 4;
      const [u, v] = [(x - shift - p.x) / (p.w * p.zoom), (y - p.y) / (p.h * p.zoom)];
      if (all.data[at + 3] < 255 || u < 0.01 || v < 0.01 || u > 0.99 || v > 0.99) continue;
      const [sx, sy] = to(u, v);
      window.points += 1;
      window.sides[side] += 1;
      const off = [all.data[at] - sx * 255, all.data[at + 1] - sy * 255, all.data[at + 2] - 128];
      if (off.some((d) => Math.abs(d) > 9)) { said(`${side}: ${[...all.data.slice(at, at + 3)]} at ${u.toFixed(3)}, ${v.toFixed(3)}, off by ${off.map(Math.round)}`); return; }
    }
  };
  if (p.left) {
    look(0, p.left - 4, -p.left, 'before');
    look(p.left + 4, p.all, 0, 'after');
  } else if (both) {
    if (hasBefore) look(0, line - 2, 0, 'before');
    look(line + 2, p.all, 0, 'after');
  } else look(0, p.all, 0, 'after');
});
"#;

/// The server answers pictures and plans after up to so many milliseconds, by chance from a seed.
const SLOW: &str = r#"
let state = arguments[0];
window.chance = () => { state = (Math.imul(state, 1664525) + 1013904223) >>> 0; return state / 4294967296; };
window.slow = true;
const real = window.fetch;
window.fetch = async (path, how) => {
  if (window.slow && /render|plan|cost/.test(path)) {
    const wait = window.chance() < 0.3 ? 0 : 3000 * window.chance() ** 2;
    await new Promise((resolve, reject) => {
      const timer = setTimeout(resolve, wait);
      how?.signal?.addEventListener('abort', () => { clearTimeout(timer); reject(how.signal.reason); });
    });
  }
  return real(path, how);
};
"#;

/// Changes as fast as hands and faster: lines come, go and change places, zoom, middle, split and comparing change.
const HASTE: &str = r#"
const done = arguments[arguments.length - 1];
const press = (key, more = {}, on = document.body) => on.dispatchEvent(new KeyboardEvent('keydown', { key, bubbles: true, cancelable: true, ...more }));
const add = (words) => {
  const ask = document.querySelector('#ask');
  ask.focus();
  ask.value = words;
  ask.dispatchEvent(new Event('input'));
  press('Enter', {}, ask);
};
const pick = (all) => all[Math.floor(window.chance() * all.length)];
const lines = () => [...document.querySelectorAll('#lines > li[data-line]')];
const acts = [
  () => add(pick(['16:9', '1:1', '4:5', '3:1'])), () => add(pick(['400', '700', '250'])), () => add('mirror'), () => add('rotate'),
  () => { const li = pick(lines()); if (li) press('Delete', {}, li); },
  () => { const li = pick(lines()); if (li) press(pick(['ArrowUp', 'ArrowDown']), { altKey: true }, li); },
  () => { const li = pick(lines()); if (li) press('x', {}, li); },
  () => press(pick(['0', '1', '2', '3'])), () => press(pick(['0', '1'])),
  () => { for (let i = 0; i < 4; i++) press(pick(['ArrowLeft', 'ArrowRight', 'ArrowUp', 'ArrowDown']), {}, document.querySelector('#stage')); },
  () => press('s'), () => press('z'), () => press('y'),
  () => { const s = document.querySelector('#split'); for (let i = 0; i < 5; i++) press('ArrowRight', {}, s); },
];
(async () => {
  for (let n = 0; n < 40; n++) {
    document.activeElement?.blur();
    pick(acts)();
    await new Promise((resolve) => setTimeout(resolve, 30 + 300 * window.chance() ** 2));
  }
  window.slow = false;
  done();
})();
"#;

async fn bench_with(draw: impl Fn(&Path)) -> Desk {
    let desk = Desk::open_with(draw).await;
    desk.choose().await;
    desk.click("#to-bench").await;
    desk.until("document.querySelector('#stage')?.dataset.shown > 0").await;
    desk
}

/// The recipe as the program keeps it.
async fn kept(desk: &Desk) -> Value {
    desk.ask("GET", "/api/recipes", Value::Null).await[0].clone()
}

#[tokio::test(flavor = "multi_thread")]
async fn every_picture_that_is_painted_lies_where_it_belongs() {
    let desk = bench_with(card).await;
    desk.script(WITNESS).await;
    for seed in [1u32, 20, 333, 4444] {
        desk.page.execute(SLOW, vec![json!(seed)]).await.unwrap();
        desk.page.execute_async(HASTE, vec![]).await.unwrap();
        // When the hand rests, what is shown is what stands there.
        desk.until("document.querySelector('#saved').innerText === 'saved'").await;
        let document = kept(&desk).await["document"]["steps"].clone();
        let mut shown = Value::Null;
        for _ in 0..600 {
            shown = desk.script("return JSON.parse(window.last).steps").await;
            if shown == document {
                break;
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        assert_eq!(shown, document, "seed {seed}: the last picture is not the recipe's");
        let wrong = desk.script("return window.wrong").await;
        assert_eq!(wrong, json!([]), "seed {seed}");
    }
    let counts =
        desk.script("return [window.painted, window.points, window.sides.before, window.sides.after]").await;
    let counts: Vec<u64> = serde_json::from_value(counts).unwrap();
    // How many frames a browser paints depends on the machine; a slow one still has to look on both sides.
    assert!(
        counts[0] > 100 && counts[2] > 200 && counts[3] > 200,
        "hardly anything was looked at: {counts:?}"
    );
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn four_lines_in_haste_on_a_large_noisy_picture_are_shown_and_never_stretched() {
    let large = |shoot: &Path| write_noisy(&shoot.join("large.jpg"), 3000, 2000);
    let desk = bench_with(large).await;
    // The picture is level at every height: no stretched one has as many rows of the first colour as of the second.
    desk.script(
        "window.off = []; document.querySelector('#stage').addEventListener('painted', ({ detail: { p, text } }) => { \
           if (text === null) return; \
           const c = document.querySelector('#canvas'); const x = Math.floor(p.x + p.w * p.zoom * 0.85); \
           const d = c.getContext('2d').getImageData(x, 0, 1, c.height).data; \
           let first = -1, change = -1, last = -1; \
           for (let y = 0; y < c.height; y++) { if (d[y * 4 + 3] < 255) continue; if (first < 0) first = y; last = y; if (change < 0 && d[y * 4] > 128) change = y; } \
           if (first < 0 || change < 0) return; \
           const share = (change - first) / (last + 1 - first); \
           if (Math.abs(share - 0.5) > 0.02) window.off.push([share, text]); })",
    )
    .await;
    for words in ["noise", "bright", "1600", "logo"] {
        desk.add(words).await;
        tokio::time::sleep(Duration::from_millis(300)).await;
    }
    desk.until("document.querySelector('#saved').innerText === 'saved'").await;
    desk.until("document.querySelector('#stage').dataset.standIn === 'true'").await;
    assert!(desk.text("#data").await.contains("1600 × 1067"));
    // The figure is there before anything could have been measured, and says what it is.
    desk.until("/a picture: [^]*(guess|estimated)/.test(document.querySelector('#data').innerText)").await;
    // The true picture comes, told how far it is.
    desk.until("document.querySelector('.tag-work').innerText.startsWith('denoised')").await;
    // … and to its end.
    let mut is_true = false;
    for _ in 0..1800 {
        is_true = desk.script("return document.querySelector('#stage').dataset.standIn === 'false'").await
            == json!(true);
        if is_true {
            break;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    assert!(is_true, "the true picture never came: {}", desk.text(".tag-work").await);
    desk.press('1').await;
    desk.press('0').await;
    assert_eq!(desk.script("return window.off").await, json!([]));
    desk.page.clone().close().await.unwrap();
}

/// Dark above, light below, with noise.
fn write_noisy(path: &Path, w: u32, h: u32) {
    let grain = |i: u32| ((i.wrapping_mul(2_654_435_761) >> 24) as u8) / 8;
    let level = |i: u32| if i / 3 / w < h / 2 { 50 } else { 190 };
    let pixels = (0..w * h * 3).map(|i| level(i) + grain(i)).collect();
    let picture = Encoded { size: Size::new(w, h), pixels: Pixels::U8(pixels) };
    let encoding = Encoding::Jpeg { quality: 95, chroma: Chroma::Full, progressive: false, optimised: false };
    std::fs::write(path, rallo_media::encode(&picture, encoding, &Extras::default()).unwrap()).unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_is_kept_though_pixels_are_slow_and_the_browser_is_killed() {
    let mut desk = bench_with(card).await;
    // Pixels never come.
    desk.script("const real = window.fetch; window.fetch = (path, how) => /render|plan|cost|value/.test(path) ? new Promise(() => {}) : real(path, how)").await;
    desk.add("bright").await;
    desk.add("mirror").await;
    tokio::time::sleep(Duration::from_millis(300)).await;
    desk.kill_browser();
    let recipes: Value = get(&desk, "/api/recipes").await;
    let steps: Vec<&str> = recipes[0]["document"]["steps"]
        .as_array()
        .unwrap()
        .iter()
        .filter_map(|s| s["step"].as_str())
        .collect();
    assert_eq!(steps, ["exposure", "mirror"]);
}

/// Asks the program without a browser.
async fn get(desk: &Desk, path: &str) -> Value {
    let (base, path) = (desk.base.clone(), path.to_owned());
    let asked = move || {
        use std::io::{Read, Write};
        let host = base.trim_start_matches("http://").to_owned();
        let mut line = std::net::TcpStream::connect(&host).unwrap();
        write!(line, "GET {path} HTTP/1.0\r\nHost: {host}\r\n\r\n").unwrap();
        let mut text = String::new();
        line.read_to_string(&mut text).unwrap();
        serde_json::from_str(text.split_once("\r\n\r\n").unwrap().1).unwrap()
    };
    tokio::task::spawn_blocking(asked).await.unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn two_windows_on_one_recipe_do_not_overwrite_each_other() {
    let desk = bench_with(card).await;
    desk.add("bright").await;
    desk.saved().await;
    // Another window writes meanwhile.
    let row = kept(&desk).await;
    let mut document = row["document"].clone();
    document["note"] = json!("by the other window");
    let path = format!("/api/recipes/{}", row["id"]);
    desk.ask("PUT", &path, json!({"version": row["version"], "document": document})).await;
    desk.add("mirror").await;
    desk.until("!document.querySelector('#conflict').hidden").await;
    assert_eq!(kept(&desk).await["document"]["note"], "by the other window");
    desk.click("#mine").await;
    desk.saved().await;
    let now = kept(&desk).await;
    assert_eq!(now["document"]["steps"].as_array().unwrap().len(), 2);
    // What the other window wrote is a version of its own.
    let versions = desk.ask("GET", &format!("{path}/versions"), Value::Null).await;
    assert_eq!(versions.as_array().unwrap().len() as i64, now["version"].as_i64().unwrap());
    // Requests of one page that overtake each other: the older one changes nothing.
    let put = |turn: i64, name: &str| {
        let mut document = now["document"].clone();
        document["name"] = json!(name);
        json!({"version": now["version"], "document": document, "page": "p", "turn": turn})
    };
    desk.ask("PUT", &path, put(5, "newer")).await;
    desk.ask("PUT", &path, put(6, "newest")).await;
    let late = desk.ask("PUT", &path, put(4, "older")).await;
    assert_eq!((&late["name"], &kept(&desk).await["name"]), (&json!("newest"), &json!("newest")));
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_look_is_no_choice_a_run_takes_all_until_something_is_chosen() {
    let desk = Desk::open().await;
    desk.choose().await;
    let click = "document.querySelector('.fr[data-index=\"1\"] img').click()";
    desk.script(click).await;
    desk.until("document.querySelector('.fr.is-at').dataset.index === '1'").await;
    assert_eq!(desk.text("#run-count").await, "3 frames");
    desk.script("document.activeElement.blur()").await;
    desk.page
        .execute(
            "document.body.dispatchEvent(new KeyboardEvent('keydown', { key: 'Enter', bubbles: true }))",
            vec![],
        )
        .await
        .unwrap();
    desk.until("document.querySelector('#stage')?.dataset.shown > 0").await;
    assert!(desk.text(".slip .sub").await.contains("TN_2.jpg"), "the clicked frame is the sample");
    desk.add("400").await;
    desk.saved().await;
    desk.go("/sheet").await;
    desk.until("document.querySelector('#takes')?.innerText === 'It takes all 3 frames.'").await;
    // The first figure stands there at once, before anything is measured.
    desk.until("/about/i.test(document.querySelector('#cost').innerText)").await;
    desk.until("!document.querySelector('#start').disabled").await;
    desk.click("#start").await;
    desk.until("document.querySelector('#what')?.innerText.startsWith('All done: 3 of 3')").await;
    // With Space it is a choice, and what is left out is said.
    desk.go("/frames").await;
    desk.until("document.querySelector('.fr.is-at')").await;
    desk.press(' ').await;
    desk.until("document.querySelector('#rail-frames-word').innerText === 'selected'").await;
    desk.until("document.querySelector('#rail-left-out').innerText.includes('2 left out')").await;
    desk.go("/sheet").await;
    desk.until("document.querySelector('#takes')?.innerText === 'It takes the 1 selected; the 2 others are left out.'").await;
    // By its tick too, and taken back.
    desk.go("/frames").await;
    desk.until("document.querySelector('.fr[aria-selected=true]')").await;
    desk.click_where(".fr[aria-selected=true] .tick", "true").await;
    desk.until("document.querySelector('#run-count').innerText === '3 frames'").await;
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_page_outlives_a_killed_server_and_keeps_what_was_done_meanwhile() {
    let mut desk = bench_with(card).await;
    desk.add("bright").await;
    desk.saved().await;
    desk.server = None;
    desk.add("mirror").await;
    desk.until("document.querySelector('#saved').innerText === 'not saved'").await;
    assert!(desk.text("#said").await.contains("does not answer"));
    desk.until("!document.querySelector('#away').hidden").await;
    desk.server = Some(serve(desk.folder.path(), desk.port).0);
    desk.saved().await;
    desk.until("document.querySelector('#away').hidden").await;
    assert_eq!(kept(&desk).await["document"]["steps"].as_array().unwrap().len(), 2);
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn words_entered_one_after_the_other_are_lines_and_no_shortcuts() {
    let desk = bench_with(card).await;
    desk.until("document.querySelector('#play-sequence')?.onclick").await;
    // C, R and E lead to other pages, and Enter there would begin a run.
    desk.find("#ask").await.send_keys("curve\ncast\nstraighten\n1600\n").await;
    desk.until("document.querySelectorAll('#lines > li[data-line]').length === 4").await;
    assert!(desk.page.current_url().await.unwrap().path().ends_with("/bench"));
    desk.until("document.activeElement.id !== 'ask'").await;
    desk.find("body").await.send_keys("w").await;
    desk.until("document.activeElement.id === 'ask'").await;
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_typed_before_the_steps_are_there_is_written_down_when_they_are() {
    let desk = bench_with(card).await;
    desk.answer_late(1500).await;
    desk.page.refresh().await.unwrap();
    // The page's script is at work, and waits for the recipe and for what steps there are.
    desk.until("document.querySelector('#play-sequence')?.onclick").await;
    desk.find("#ask").await.send_keys("contrast\nno such step\ndenoise\nmirr").await;
    desk.until("[...document.querySelectorAll('#lines > li[data-line]')].length === 2").await;
    // What is said fades after a while; a slow machine looks later.
    desk.until("document.querySelector('#said').textContent.includes('no such step')").await;
    let left = "return [document.querySelector('#ask').value, document.activeElement.id]";
    assert_eq!(desk.script(left).await, json!(["mirr", "ask"]), "what is still being typed stays");
    desk.answer_late(0).await;
    desk.until("document.querySelector('#found .is-on')?.innerText.includes('Mirror')").await;
    desk.find("#ask").await.send_keys("\n").await;
    desk.saved().await;
    let steps = kept(&desk).await["document"]["steps"].clone();
    let names: Vec<_> = steps.as_array().unwrap().iter().map(|s| s["step"].clone()).collect();
    assert_eq!(names, [json!("contrast"), json!("denoise"), json!("mirror")]);
    desk.page.clone().close().await.unwrap();
}
