//! The frames page in a real browser: choosing by keyboard, narrowing, ordering, shifting, playing, gathering.

use crate::common::desk::*;
use crate::common::*;
use fantoccini::key::Key;
use rallo_media::{CameraData, Chroma, Encoding, Extras, FileSource};
use serde_json::{Value, json};
use std::path::Path;
use std::time::Duration;

/// Twelve frames, a minute apart, ISO 100 or 800, two of them the same picture.
fn twelve(folder: &Path) {
    for i in 1..=12u32 {
        let taken = format!("2026-05-04T09:{i:02}:00").parse().ok();
        let iso = Some(if i % 3 == 0 { 800 } else { 100 });
        let camera =
            CameraData { taken, iso, camera: Some("Marlow 24".into()), orientation: 1, ..Default::default() };
        let extras = Extras { exif: camera.write().ok(), ..Extras::default() };
        let encoding =
            Encoding::Jpeg { quality: 90, chroma: Chroma::Half, progressive: false, optimised: false };
        let seed = if i == 8 { 7 } else { i };
        let bytes = rallo_media::encode(&picture(600, 400, seed), encoding, &extras).unwrap();
        std::fs::write(folder.join(format!("TN_{i}.jpg")), bytes).unwrap();
    }
}

impl Desk {
    async fn js(&self, expression: &str) -> Value {
        self.page.execute(&format!("return {expression}"), vec![]).await.unwrap()
    }

    async fn keys(&self, keys: &str) {
        for key in keys.chars() {
            self.press(key).await;
        }
    }

    /// Names of the frames in the order they are shown.
    async fn shown(&self) -> Vec<String> {
        let script = "[...document.querySelectorAll('.fr')].sort((a, b) => a.dataset.index - b.dataset.index)\
                      .map((f) => f.querySelector('b').innerText.replace(/^✓ /, '').replace('.jpg', '').replace('TN_', ''))";
        serde_json::from_value(self.js(script).await).unwrap()
    }
}

const COUNTS: &str =
    "[...document.querySelectorAll('[data-facet^=choice] b')].map((b) => b.innerText).join()";

#[tokio::test(flavor = "multi_thread")]
async fn frames_are_chosen_with_single_keys_and_taken_back() {
    let desk = Desk::open_with(twelve).await;
    desk.choose().await;
    assert_eq!(
        desk.shown().await,
        ["1", "2", "3", "4", "5", "6", "7", "8", "9", "10", "11", "12"],
        "natural order"
    );
    // Each decision moves on to the next frame by itself.
    desk.keys("kks4").await;
    desk.until(&format!("{COUNTS} === '9,2,1'")).await;
    desk.until("document.querySelector('.fr.is-at b').innerText === 'TN_5.jpg'").await;
    desk.until("document.querySelector('.fr[data-index=\"3\"]').innerText.includes('●●●●')").await;
    desk.until("document.querySelector('.rail').innerText.includes('2 kept')").await;
    desk.until("document.querySelector('#run-button').innerText.includes('2 frames')").await;
    // Undone one by one; a reload keeps what is decided.
    desk.keys("zz").await;
    desk.until(&format!("{COUNTS} === '10,2,0'")).await;
    desk.keys("y").await;
    desk.until(&format!("{COUNTS} === '9,2,1'")).await;
    desk.page.refresh().await.unwrap();
    desk.until(&format!("{COUNTS} === '9,2,1'")).await;
    // Only what is kept.
    desk.click("#which [data-which=kept]").await;
    desk.until("document.querySelectorAll('.fr').length === 2").await;
    assert_eq!(desk.shown().await, ["1", "2"]);
    // Several at a time.
    desk.click("#which [data-which='']").await;
    desk.until("document.querySelectorAll('.fr').length === 12").await;
    desk.keys("as").await;
    desk.until(&format!("{COUNTS} === '0,0,12'")).await;
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn facets_suggestions_and_the_check_narrow_what_is_shown() {
    let desk = Desk::open_with(twelve).await;
    std::fs::write(desk.shoot().join("TN_13.jpg"), b"not a picture").unwrap();
    std::fs::write(desk.shoot().join("notes.txt"), b"text").unwrap();
    std::fs::remove_file(desk.shoot().join("TN_5.jpg")).unwrap();
    desk.click("#choose").await;
    desk.until("document.querySelector('#folder-list')?.innerText.includes('Spring')").await;
    desk.click("#folder-list button").await;
    desk.until("document.querySelector('#take').innerText.includes('12 pictures')").await;
    desk.click("#take").await;
    desk.until("document.querySelectorAll('.fr').length === 12").await;
    desk.until(
        "[...document.querySelectorAll('.fr em')].some((e) => e.innerText.includes('this is not a picture'))",
    )
    .await;
    // ISO 800: frames 3, 6, 9, 12.
    desk.click("[data-facet='iso 800']").await;
    desk.until("document.querySelectorAll('.fr').length === 4").await;
    assert_eq!(desk.shown().await, ["3", "6", "9", "12"]);
    desk.until(&format!("{COUNTS} === '4,0,0'")).await;
    desk.click("#all-again").await;
    // The same picture twice is suggested once it was measured, and one click selects it.
    desk.until("document.querySelector('.suggested')?.innerText.includes('same picture twice')").await;
    desk.click_where(".suggested button", "e.innerText.includes('same picture')").await;
    desk.until("document.querySelector('.fr[aria-selected=true] b').innerText.includes('TN_8')").await;
    desk.keys("n").await;
    // The check finds the missing frame, and shows the two around it.
    desk.keys("q").await;
    desk.until("document.querySelector('.statements')?.innerText.includes('1 gap, the longest 2 min: 1 frame is missing.')").await;
    desk.click_where(".statement", "e.innerText.includes('1 gap')").await;
    desk.until("document.querySelectorAll('.fr').length === 2").await;
    assert_eq!(desk.shown().await, ["4", "6"]);
    // What was left out is told with its reason.
    desk.click("#more").await;
    desk.click_where(".menu-item", "e.innerText.includes('Left out: 1')").await;
    desk.until("document.querySelector('#paper').innerText.includes('notes.txt')").await;
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_dialog_that_is_closed_while_it_comes_stays_closed() {
    let desk = Desk::open_with(twelve).await;
    desk.choose().await;
    desk.answer_late(500).await;
    // What has come is told once the page had its turn with it.
    desk.script("window.came = 0; const late = window.fetch; window.fetch = async (...a) => { const r = await late(...a); if (String(a[0]).includes('dialogs/check')) setTimeout(() => { window.came += 1; }, 100); return r; }").await;
    desk.keys("q").await;
    desk.until("document.querySelector('#paper').open").await;
    desk.keys("\u{e00c}").await;
    desk.until("!document.querySelector('#paper').open").await;
    desk.until("window.came > 0").await;
    assert_eq!(desk.js("document.querySelector('#paper').open").await, json!(false));
    // And it opens when it is asked for again.
    desk.keys("q").await;
    desk.until("document.querySelector('.statements')").await;
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn order_by_hand_and_by_shifted_time_reach_the_results() {
    let desk = Desk::open_with(twelve).await;
    desk.choose().await;
    desk.page.execute("document.querySelector('#by').value = 'time'; document.querySelector('#by').dispatchEvent(new Event('change'))", vec![]).await.unwrap();
    desk.until("document.querySelector('.fr.is-at')").await;
    // The first frame is dragged in front of the fourth.
    desk.until("document.querySelectorAll('.fr').length === 12").await;
    let places = desk
        .js("['0', '3'].map((i) => { const b = document.querySelector(`.fr[data-index=\"${i}\"] i`).getBoundingClientRect(); return [b.left + b.width / 2, b.top + b.height / 2]; })")
        .await;
    let places: [(f64, f64); 2] = serde_json::from_value(places).unwrap();
    desk.drag_between(places[0], places[1]).await;
    desk.until("document.querySelector('#by').value === 'hand'").await;
    desk.until("document.querySelector('.fr[data-index=\"2\"] b').innerText.includes('TN_1.')").await;
    assert_eq!(desk.shown().await[..4], ["2", "3", "1", "4"]);
    // Frame 2 was really taken an hour later.
    desk.until(
        "(() => { const f = document.querySelector('.fr[data-index=\"0\"]'); f.click(); return f; })()",
    )
    .await;
    desk.keys("t").await;
    desk.find("#paper input[aria-label=hours]").await;
    desk.page.execute("const f = document.querySelector('#paper input[aria-label=hours]'); f.value = '1'; f.dispatchEvent(new Event('input'))", vec![]).await.unwrap();
    desk.until("document.querySelector('#paper .preview').innerText.includes('2026-05-04 10:02:00')").await;
    desk.click("#do-shift").await;
    desk.until("document.querySelector('#facts').innerText.includes('10:02:00 (shifted)')").await;
    // The shoot as a document gives the command line the same order and times.
    let text = desk
        .page
        .execute_async(
            "const done = arguments[0]; fetch('/api/shoot-file').then((r) => r.text()).then(done)",
            vec![],
        )
        .await
        .unwrap();
    let file = desk.folder.path().join("spring.rallo-shoot.json");
    std::fs::write(&file, text.as_str().unwrap()).unwrap();
    let recipe = desk.folder.path().join("recipe.json");
    let document = json!({"format": "rallo-recipe", "version": 1, "name": "Small", "steps": [{"step": "resize", "long_edge": 200}],
        "deliveries": [{"kind": "pictures", "name": "{n:02}-{taken:%H%M}-{stem}"}]});
    std::fs::write(&recipe, document.to_string()).unwrap();
    let out = desk.folder.path().join("out");
    let path = |p: &Path| p.to_string_lossy().into_owned();
    let done = rallo(&["run", &path(&recipe), "--shoot", &path(&file), "--to", &path(&out)]);
    assert!(done.status.success(), "{done:?}");
    let shifted = FileSource::open(&out.join("01-1002-TN_2.jpg")).unwrap();
    assert_eq!(shifted.camera().taken.unwrap().to_string(), "2026-05-04T10:02:00");
    assert!(out.join("03-0901-TN_1.jpg").exists());
    // And the page's run the same bytes.
    let saved = desk
        .page
        .execute_async(
            &format!("const done = arguments[0]; const t = document.querySelector('meta[name=rallo-token]').content; \
             const h = {{'content-type': 'application/json', 'x-rallo-token': t}}; \
             fetch('/api/recipes', {{method: 'POST', headers: h, body: JSON.stringify({document})}}) \
             .then(() => fetch('/api/desk', {{method: 'PUT', headers: h, body: JSON.stringify({{selection: []}})}})).then((r) => done(r.status))"),
            vec![],
        )
        .await
        .unwrap();
    assert_eq!(saved, json!(200));
    desk.page.goto(&format!("{}/sheet", desk.base)).await.unwrap();
    desk.until("document.querySelector('#what').innerText.startsWith('12 pictures')").await;
    desk.until("!document.querySelector('#start').disabled").await;
    desk.click("#start").await;
    desk.until("document.querySelector('#what')?.innerText.startsWith('All done: 12 of 12')").await;
    for entry in std::fs::read_dir(&out).unwrap().flatten() {
        let other = desk.shoot().join("Small").join(entry.file_name());
        assert!(
            std::fs::read(entry.path()).unwrap() == std::fs::read(&other).unwrap(),
            "{} differs",
            other.display()
        );
    }
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn frames_are_looked_at_compared_and_played() {
    let desk = Desk::open_with(twelve).await;
    desk.choose().await;
    desk.keys("l").await;
    desk.until("document.querySelector('#one[open] .pane')?.dataset.shown?.includes('edge=1920')").await;
    // Next by arrow, a decision by key, close by key.
    desk.press(char::from(Key::Right)).await;
    desk.until("document.querySelector('#one-foot').innerText.includes('2 of 12')").await;
    // A slide show goes on by itself, and holds.
    let every = "const f = document.querySelector('#one-foot input'); f.value = '0.3'; f.dispatchEvent(new Event('change')); document.querySelector('#one').focus()";
    desk.page.execute(every, vec![]).await.unwrap();
    desk.keys(" ").await;
    desk.until("document.querySelector('#one-foot').innerText.includes('4 of 12')").await;
    desk.keys(" n").await;
    desk.until("document.querySelector('#one').classList.contains('no-names')").await;
    desk.until("document.querySelector('#one-foot').innerText.includes('Slide show')").await;
    desk.press(char::from(Key::Left)).await;
    desk.until("(() => { const at = /(\\d+) of 12/.exec(document.querySelector('#one-foot').innerText)[1]; if (Number(at) > 2) document.querySelector('#one-foot button').click(); return at === '2'; })()").await;
    desk.keys("k").await;
    desk.until("document.querySelector('#one-foot').innerText.includes('3 of 12')").await;
    // Taken back and done again here too.
    desk.keys("z").await;
    desk.until(&format!("{COUNTS} === '12,0,0'")).await;
    desk.keys("y").await;
    desk.until(&format!("{COUNTS} === '11,1,0'")).await;
    desk.keys("c").await;
    desk.until("document.querySelector('#one .pane').dataset.shown.includes('/part?')").await;
    desk.press(char::from(Key::Escape)).await;
    // Two frames side by side share the zoom.
    desk.page.execute("document.querySelector('#grid').focus()", vec![]).await.unwrap();
    desk.keys(" ").await;
    desk.press(char::from(Key::Right)).await;
    desk.keys(" v").await;
    desk.until("document.querySelectorAll('#one[open] .pane').length === 2").await;
    desk.keys("c").await;
    desk.until(
        "[...document.querySelectorAll('#one .pane')].every((p) => p.dataset.shown?.includes('/part?'))",
    )
    .await;
    let parts = desk
        .js("[...document.querySelectorAll('#one .pane')].map((p) => p.dataset.shown.match(/x=.*h=\\d+/)[0])")
        .await;
    assert_eq!(parts[0], parts[1], "both show the same part");
    desk.press(char::from(Key::Escape)).await;
    // Played at the frame rate: the position runs on, pictures are painted, Space holds it.
    desk.keys("p").await;
    desk.until("Number(document.querySelector('#film').dataset.painted) > 3").await;
    let before = desk.js("Number(document.querySelector('#film').dataset.painted)").await.as_u64().unwrap();
    tokio::time::sleep(Duration::from_millis(800)).await;
    let after = desk.js("Number(document.querySelector('#film').dataset.painted)").await.as_u64().unwrap();
    assert!(after > before, "it stands still");
    desk.keys(" ").await;
    desk.until("document.querySelector('#film-foot').innerText.startsWith('Play')").await;
    let sum = desk
        .js("(() => { const c = document.querySelector('#film-canvas'); const d = c.getContext('2d').getImageData(0, 0, c.width, c.height).data; let s = 0; for (let i = 0; i < d.length; i += 997) s += d[i]; return s; })()")
        .await;
    assert!(sum.as_u64().unwrap() > 0, "nothing was painted");
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn keywords_selections_and_gathering_by_mouse() {
    let desk = Desk::open_with(twelve).await;
    desk.choose().await;
    desk.click("#words").await;
    desk.find("#new-keywords").await.send_keys("seedling, clay pot").await;
    desk.click("#set-keywords").await;
    desk.until("document.querySelector('[data-facet=\"keyword clay pot\"] b')?.innerText === '1'").await;
    // A dropped file is found by name, size and time; one from elsewhere is told.
    let meta = std::fs::metadata(desk.shoot().join("TN_3.jpg")).unwrap();
    let millis = meta.modified().unwrap().duration_since(std::time::UNIX_EPOCH).unwrap().as_millis();
    let script = format!(
        "const done = arguments[0]; const t = document.querySelector('meta[name=rallo-token]').content; \
         fetch('/api/dropped', {{method: 'POST', headers: {{'content-type': 'application/json', 'x-rallo-token': t}}, \
         body: JSON.stringify([{{name: 'TN_3.jpg', size: {}, modified: {millis}}}, {{name: 'TN_4.jpg', size: 1, modified: 0}}])}}) \
         .then((r) => r.json()).then((d) => done([d.places.map((p) => p.path.split('/').pop()), d.missing]))",
        meta.len()
    );
    let told = desk.page.execute_async(&script, vec![]).await.unwrap();
    assert_eq!(told, json!([["TN_3.jpg"], ["TN_4.jpg"]]));
    // A named selection, opened like a shoot.
    desk.click("#all").await;
    desk.click("#more").await;
    let menu =
        async |text: &str| desk.click_where(".menu-item", &format!("e.innerText.includes({text:?})")).await;
    menu("Put into a selection").await;
    desk.find("#selection-name").await.send_keys("Best of May").await;
    desk.click("#selection-go").await;
    desk.until("document.querySelector('#said').textContent.includes('Best of May')").await;
    desk.click("#more").await;
    desk.script("window.stays = true").await;
    menu("Best of May (12)").await;
    desk.until("document.querySelector('.rail').innerText.includes('Best of May')").await;
    desk.until("document.querySelectorAll('.fr').length === 12").await;
    desk.click("#more").await;
    menu("Back to the shoot").await;
    desk.until("document.querySelector('.rail').innerText.includes('Spring')").await;
    desk.until("document.querySelectorAll('.fr').length === 12").await;
    assert_eq!(desk.script("return window.stays").await, json!(true), "the page was left");
    // Gathered into a new folder beside: twelve files, of which two are alike in pixels but not in their data.
    desk.gather_into("Gathered").await;
    desk.find("#gather-go").await;
    assert!(desk.text("#paper").await.contains("20260504-090100_TN_1.jpg"));
    desk.click("#gather-go").await;
    desk.until("document.querySelector('#gather-said')?.innerText.startsWith('12 copied')").await;
    let copy = std::fs::read(desk.folder.path().join("pictures/Gathered/20260504-090100_TN_1.jpg")).unwrap();
    assert_eq!(copy, std::fs::read(desk.shoot().join("TN_1.jpg")).unwrap());
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_live_camera_is_followed_and_a_second_window_shows_the_frame() {
    let desk = Desk::open_with(twelve).await;
    desk.choose().await;
    let menu =
        async |text: &str| desk.click_where(".menu-item", &format!("e.innerText.includes({text:?})")).await;
    desk.click("#more").await;
    menu("Follow live").await;
    // The simulated camera writes into the folder that is followed.
    desk.click("#more").await;
    menu("Simulated interval camera").await;
    desk.until("document.querySelector('#folders[open] #folder-list button')").await;
    desk.until("document.querySelector('#folder-list').innerText.includes('Spring')").await;
    desk.click("#folder-list button").await;
    desk.until("document.querySelector('#folder-path').value.includes('Spring')").await;
    desk.click("#take").await;
    desk.find("#paper input[aria-label=frames]").await;
    let fill = "for (const [label, value] of [['frames', '2'], ['seconds between them', '0.2'], ['its clock says', '2026-04-12T12:00:00']]) \
                document.querySelector(`#paper input[aria-label='${label}']`).value = value";
    desk.page.execute(fill, vec![]).await.unwrap();
    desk.click("#camera-go").await;
    desk.until("document.querySelector('#paper').innerText.includes('2 of 2 frames')").await;
    desk.press(char::from(Key::Escape)).await;
    desk.until("document.querySelector('#count').innerText.startsWith('14 frames')").await;
    // Ratings and keywords go into sidecars and come back from them.
    desk.page.execute("document.querySelector('#grid').focus()", vec![]).await.unwrap();
    desk.press(char::from(Key::Home)).await;
    desk.keys("3").await;
    desk.until("document.querySelector('.fr[data-rating], .fr .cap2') && [...document.querySelectorAll('.cap2')].some((c) => c.innerText.includes('●●●'))").await;
    desk.press(char::from(Key::Home)).await;
    let name = desk.js("document.querySelector('.fr.is-at b').innerText.replace('✓ ', '')").await;
    desk.keys("w").await;
    desk.click_on("#paper button", "Write sidecars").await;
    desk.until("document.querySelector('#said').textContent.includes('1 sidecar written')").await;
    let sidecar = desk.shoot().join(name.as_str().unwrap()).with_extension("xmp");
    let text = std::fs::read_to_string(&sidecar).unwrap();
    assert!(text.contains("<xmp:Rating>3<"), "{text}");
    std::fs::write(&sidecar, text.replace("<xmp:Rating>3<", "<xmp:Rating>5<")).unwrap();
    desk.click_on("#paper button", "Read sidecars").await;
    desk.until("[...document.querySelectorAll('.cap2')].some((c) => c.innerText.includes('●●●●●'))").await;
    // The second window.
    desk.page.goto(&format!("{}/second", desk.base)).await.unwrap();
    desk.until("document.querySelector('#second').naturalWidth > 0").await;
    assert!(desk.text("#second-name").await.ends_with(".jpg"));
    desk.page.clone().close().await.unwrap();
}
