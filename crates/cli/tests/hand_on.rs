//! Handing on in a real browser: a web set, numbered frames, a clip and a PDF from one recipe, built on the bench, run, and
//! the clip played and stepped through; names put together; the file looked at as it will be.

mod common;

use common::desk::*;
use common::write_jpeg;
use serde_json::json;

async fn lesson(count: u32) -> Desk {
    let desk = Desk::open_with(|shoot| {
        for i in 1..=count {
            write_jpeg(&shoot.join(format!("LES_{i:03}.jpg")), 960, 540, i);
        }
    })
    .await;
    desk.choose().await;
    let recipe = json!({"format": "rallo-recipe", "version": 1, "name": "Repotting",
        "steps": [{"step": "exposure", "stops": 0.2}],
        "deliveries": [{"kind": "pictures", "quality": 80, "name": "{stem}"}]});
    desk.ask("POST", "/api/recipes", recipe).await;
    desk
}

async fn also(desk: &Desk, what: &str, says: &str) {
    desk.find("#also-deliver").await;
    desk.script(&format!(
        "const s = document.querySelector('#also-deliver'); s.value = {what:?}; s.dispatchEvent(new Event('change'))"
    ))
    .await;
    desk.until(&format!("document.querySelector('#goes').innerText.includes({says:?})")).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn one_recipe_feeds_several_places_and_its_clip_is_played_in_the_page() {
    let desk = lesson(6).await;
    desk.go("/bench").await;
    also(&desk, "a web set of three widths", "WebP, quality").await;
    also(&desk, "numbered frames for a video editor", "Numbered frames").await;
    also(&desk, "a clip to share", "Clip to share").await;
    also(&desk, "a PDF of all pictures", "PDF, A4").await;
    // Values of the clip: shown are those that mean something.
    let more = "document.querySelector('[data-delivery=\"3\"] [aria-expanded]').click()";
    desk.script(more).await;
    desk.until("document.querySelector('#goes .controls')?.innerText.includes('hold last')").await;
    let has = |name: &str| {
        format!(
            "[...document.querySelectorAll('#goes .controls label')].some((l) => l.innerText.trim().startsWith({name:?}))"
        )
    };
    assert_eq!(desk.script(&format!("return {}", has("text place"))).await, json!(false));
    desk.script("const f = document.querySelector('#goes .controls [aria-label=\"text\"]'); f.value = '{n:03}'; f.dispatchEvent(new Event('change'))").await;
    desk.until(&has("text place")).await;
    desk.script("const f = [...document.querySelectorAll('#goes .controls label')].find((l) => l.innerText.trim().startsWith('size')).querySelector('select'); f.value = '720p'; f.dispatchEvent(new Event('change'))").await;
    desk.until("document.querySelector('#goes').innerText.includes('720p, 25 frames a second')").await;
    // What is to be expected of each comes by itself.
    desk.until("document.querySelector('[data-delivery=\"3\"] .goes-cost')?.innerText.includes('6 frames at 25 a second')").await;
    desk.until("document.querySelector('[data-delivery=\"0\"] .goes-cost')?.innerText.includes('a picture')")
        .await;
    desk.saved().await;
    desk.go("/sheet").await;
    desk.until("document.querySelector('#expected')?.innerText.includes('Clip of 0.2 s: 6 frames at 25 a second, 1280 × 720')").await;
    desk.until("document.querySelector('#names').innerText.includes('Repotting.mp4') && document.querySelector('#names').innerText.includes('Repotting-00006.jpg')").await;
    desk.until("!document.querySelector('#start').disabled").await;
    desk.script("document.querySelector('#start').click()").await;
    desk.until("document.querySelector('#what')?.innerText.startsWith('All done')").await;
    let frames = desk.shoot().join("Repotting frames");
    assert_eq!(std::fs::read_dir(&frames).unwrap().count(), 6);
    for name in ["Repotting/Repotting.mp4", "Repotting/Repotting.pdf", "Repotting web/LES_006-480.webp"] {
        assert!(desk.shoot().join(name).exists(), "{name}");
    }
    // The clip plays, and is stepped through by its frames.
    desk.until("[...document.querySelectorAll('.together')].some((t) => t.innerText.includes('6 frames, 0.24 s, 1280 × 720, H.264'))").await;
    desk.script("document.querySelector('.together .btn').click()").await;
    desk.until("document.querySelector('.player video')?.readyState >= 2").await;
    assert_eq!(desk.script("return document.querySelector('.player video').videoWidth").await, json!(1280));
    let at = "document.querySelector('.player-where').innerText";
    desk.script("document.querySelector('[aria-label=\"A frame on\"]').click()").await;
    desk.until(&format!("{at}.startsWith('frame 2 of 6')")).await;
    desk.press('.').await;
    desk.until(&format!("{at}.startsWith('frame 3 of 6')")).await;
    desk.script("document.querySelector('[aria-label=\"A frame back\"]').click()").await;
    desk.until(&format!("{at}.startsWith('frame 2 of 6')")).await;
    desk.script("document.querySelector('.player .btn').click()").await;
    desk.until("document.querySelector('.player video').ended").await;
    // A part of the file is answered as such.
    let ranged = desk
        .page
        .execute_async(
            "const done = arguments[0]; fetch(document.querySelector('.player video').src, { headers: { range: 'bytes=4-7' } }).then(async (r) => done([r.status, await r.text()]))",
            vec![],
        )
        .await
        .unwrap();
    assert_eq!(ranged, json!([206, "ftyp"]));
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn names_are_put_together_with_old_and_new_side_by_side() {
    let desk = lesson(3).await;
    desk.go("/bench").await;
    desk.until("document.querySelector('[data-delivery=\"0\"] [aria-expanded]')").await;
    desk.script("document.querySelector('[data-delivery=\"0\"] [aria-expanded]').click()").await;
    desk.until(
        "[...document.querySelectorAll('#goes .btn')].some((b) => b.innerText === 'Build the name …')",
    )
    .await;
    desk.script("[...document.querySelectorAll('#goes .btn')].find((b) => b.innerText === 'Build the name …').click()").await;
    let told = "document.querySelector('.name-told')?.innerText ?? ''";
    desk.until(&format!("({told}).includes('3 names, each only once')")).await;
    let set = |label: &str, value: &str, event: &str| {
        format!(
            "const f = document.querySelector('.name-pieces [aria-label={label:?}]'); f.value = {value:?}; f.dispatchEvent(new Event({event:?}))"
        )
    };
    desk.script(&set("put for", "LES_", "input")).await;
    desk.script(&set("this", "Lesson ", "input")).await;
    desk.until("document.querySelector('.name-table tbody')?.innerText.includes('Lesson 002.jpg')").await;
    // The same for all is told as what it is.
    desk.script("[...document.querySelectorAll('.name-piece .btn')].at(-1).click()").await;
    desk.script(
        "[...document.querySelectorAll('.name-add .btn')].find((b) => b.innerText === 'text').click()",
    )
    .await;
    desk.script(&set("text", "Pot", "input")).await;
    desk.until(&format!("({told}).includes('2 of 3 names are there twice')")).await;
    desk.until("document.querySelector('.is-clash')?.innerText.includes('as LES_001.jpg')").await;
    desk.script(
        "[...document.querySelectorAll('.name-add .btn')].find((b) => b.innerText === 'a number').click()",
    )
    .await;
    desk.until("document.querySelector('.name-table tbody').innerText.includes('Pot0003.jpg')").await;
    // A template that is typed is taken apart, and one that is wrong is told.
    desk.script("const f = document.querySelector('.name-typed input'); f.value = '{stem:lower}{no}'; f.dispatchEvent(new Event('input'))").await;
    desk.until(&format!("({told}).includes('unknown field {{no}}')")).await;
    desk.script("const f = document.querySelector('.name-typed input'); f.value = '{taken:%Y-%m-%d}-{n:02}-{stem:last 3}'; f.dispatchEvent(new Event('input'))").await;
    desk.until("document.querySelectorAll('.name-piece').length === 5").await;
    desk.until("document.querySelector('.name-table tbody').innerText.includes('undated-03-003.jpg')").await;
    desk.until("!document.querySelector('.names-dialog .btn-primary').disabled").await;
    desk.script("document.querySelector('.names-dialog .btn-primary').click()").await;
    desk.until("document.querySelector('#goes').innerText.includes('{stem:last 3}')").await;
    desk.saved().await;
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn the_file_is_seen_as_it_will_be_before_a_run() {
    let desk = lesson(1).await;
    desk.go("/bench").await;
    desk.until("document.querySelector('[data-delivery=\"0\"]')").await;
    let low = "const l = document.querySelector('[data-delivery=\"0\"] [data-param=quality]'); l.click();";
    desk.script(low).await;
    desk.until("document.querySelector('[data-delivery=\"0\"] input')").await;
    desk.script("const f = document.querySelector('[data-delivery=\"0\"] input'); f.value = '5'; f.blur()")
        .await;
    desk.until("document.querySelector('#goes').innerText.includes('quality 5')").await;
    desk.script("[...document.querySelectorAll('#goes .btn')].find((b) => b.innerText === 'look').click()")
        .await;
    desk.until("document.querySelector('.delivered p')?.innerText.includes('960 × 540 pixels, about')").await;
    desk.until("[...document.querySelectorAll('.delivered img')].every((i) => i.naturalWidth > 300)").await;
    // Such a quality is seen: the two sides differ, and both are of the same place.
    let differ = desk
        .page
        .execute_async(
            "const done = arguments[0]; const data = [...document.querySelectorAll('.delivered img')].map((i) => { \
             const c = document.createElement('canvas'); c.width = i.naturalWidth; c.height = i.naturalHeight; \
             const g = c.getContext('2d'); g.drawImage(i, 0, 0); return g.getImageData(0, 0, c.width, c.height).data; }); \
             let sum = 0; for (let k = 0; k < data[0].length; k += 4) sum += Math.abs(data[0][k] - data[1][k]); done([data[0].length === data[1].length, sum / (data[0].length / 4)])",
            vec![],
        )
        .await
        .unwrap();
    assert_eq!(differ[0], true);
    let mean = differ[1].as_f64().unwrap();
    assert!((1.0..25.0).contains(&mean), "{differ}");
    desk.script(
        "[...document.querySelectorAll('.delivered .btn')].find((b) => b.innerText === 'Close').click()",
    )
    .await;
    desk.until("!document.querySelector('.delivered')").await;
    desk.page.clone().close().await.unwrap();
}
