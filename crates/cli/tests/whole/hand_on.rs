//! Handing on in a real browser: a web set, numbered frames, a clip and a PDF from one recipe, built on the bench, run, and
//! the clip played and stepped through; names put together; the file looked at as it will be.

use crate::common::desk::*;
use crate::common::write_jpeg;
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
    desk.click_where("#start", "true").await;
    desk.until("document.querySelector('#what')?.innerText.startsWith('All done')").await;
    let frames = desk.shoot().join("Repotting frames");
    assert_eq!(std::fs::read_dir(&frames).unwrap().count(), 6);
    for name in ["Repotting/Repotting.mp4", "Repotting/Repotting.pdf", "Repotting widths/LES_006-480.webp"] {
        assert!(desk.shoot().join(name).exists(), "{name}");
    }
    // The clip plays, and is stepped through by its frames.
    desk.until("[...document.querySelectorAll('.together')].some((t) => t.innerText.includes('6 frames, 0.24 s, 1280 × 720, H.264'))").await;
    desk.click_where(".together .btn", "true").await;
    desk.until("document.querySelector('.player video')?.readyState >= 2").await;
    assert_eq!(desk.script("return document.querySelector('.player video').videoWidth").await, json!(1280));
    let at = "document.querySelector('.player-where').innerText";
    desk.click_where("[aria-label=\"A frame on\"]", "true").await;
    desk.until(&format!("{at}.startsWith('frame 2 of 6')")).await;
    desk.press('.').await;
    desk.until(&format!("{at}.startsWith('frame 3 of 6')")).await;
    desk.click_where("[aria-label=\"A frame back\"]", "true").await;
    desk.until(&format!("{at}.startsWith('frame 2 of 6')")).await;
    desk.click_where(".player .btn", "true").await;
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
    desk.click_where("[data-delivery=\"0\"] [aria-expanded]", "true").await;
    desk.until(
        "[...document.querySelectorAll('#goes .btn')].some((b) => b.innerText === 'Build the name …')",
    )
    .await;
    desk.click_on("#goes .btn", "Build the name …").await;
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
    desk.click_on(".name-add .btn", "text").await;
    desk.script(&set("text", "Pot", "input")).await;
    desk.until(&format!("({told}).includes('2 of 3 names are there twice')")).await;
    desk.until("document.querySelector('.is-clash')?.innerText.includes('as LES_001.jpg')").await;
    desk.click_on(".name-add .btn", "a number").await;
    desk.until("document.querySelector('.name-table tbody').innerText.includes('Pot0003.jpg')").await;
    // A template that is typed is taken apart, and one that is wrong is told.
    desk.script("const f = document.querySelector('.name-typed input'); f.value = '{stem:lower}{no}'; f.dispatchEvent(new Event('input'))").await;
    desk.until(&format!("({told}).includes('unknown field {{no}}')")).await;
    desk.script("const f = document.querySelector('.name-typed input'); f.value = '{taken:%Y-%m-%d}-{n:02}-{stem:last 3}'; f.dispatchEvent(new Event('input'))").await;
    desk.until("document.querySelectorAll('.name-piece').length === 5").await;
    desk.until("document.querySelector('.name-table tbody').innerText.includes('undated-03-003.jpg')").await;
    desk.until("!document.querySelector('.names-dialog .btn-primary').disabled").await;
    desk.click_where(".names-dialog .btn-primary", "true").await;
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
    desk.click_where("[data-delivery=\"0\"] .goes-arrow", "true").await;
    desk.until("[...document.querySelectorAll('#goes .btn')].some((b) => b.innerText === 'look')").await;
    desk.click_on("#goes .btn", "look").await;
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
    desk.click_on(".delivered .btn", "Close").await;
    desk.until("!document.querySelector('.delivered')").await;
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn what_differs_is_asked_about_and_mended_on_the_sheet() {
    let desk = Desk::open_with(|shoot| {
        for i in 1..=3 {
            write_jpeg(&shoot.join(format!("LES_{i:03}.jpg")), 960, 540, i);
        }
        write_jpeg(&shoot.join("LES_004.jpg"), 540, 960, 4);
    })
    .await;
    desk.choose().await;
    let recipe = json!({"format": "rallo-recipe", "version": 1, "name": "Frames", "steps": [],
        "deliveries": [{"kind": "frames"}, {"kind": "video", "size": "own", "name": "a"},
            {"kind": "video", "size": "own", "name": "b", "rate": "30"}]});
    let id = desk.ask("POST", "/api/recipes", recipe).await["id"].clone();
    desk.go("/sheet").await;
    let problems = "document.querySelector('#problems').innerText";
    desk.until(&format!(
        "{problems}.includes('LES_004.jpg is of another proportion than the numbered frames, 960 × 540')"
    ))
    .await;
    desk.until(&format!("{problems}.includes('Two clips have different frame rates, 25 and 30')")).await;
    assert_eq!(desk.script("return document.querySelector('#start').disabled").await, json!(true));
    let press = async |label: &str| desk.click_on("#problems .btn", label).await;
    press("Fit them in, colour around").await;
    desk.until(&format!("!{problems}.includes('another proportion')")).await;
    press("Both at 25").await;
    desk.until(&format!("!{problems}.includes('different frame rates')")).await;
    desk.until("document.querySelectorAll('.slip .goes')[0].innerText.includes('fitted in')").await;
    desk.until("!document.querySelector('#start').disabled").await;
    // Where such a file stands already, that is said.
    std::fs::create_dir_all(desk.shoot().join("Frames")).unwrap();
    std::fs::write(desk.shoot().join("Frames/a.mp4"), "somebody's").unwrap();
    desk.click_where("#start", "true").await;
    desk.until("document.querySelector('#what')?.innerText.startsWith('Done: 6 of 7')").await;
    desk.until("document.querySelector('#fails').innerText.includes('a.mp4 exists already')").await;
    assert_eq!(std::fs::read(desk.shoot().join("Frames/a.mp4")).unwrap(), b"somebody's");
    desk.go("/sheet").await;
    desk.until(&format!("{problems}.includes('a.mp4 is there already')")).await;
    // A watched folder never has all its pictures.
    let refused = desk
        .ask("POST", "/api/watches", json!({"recipe": id, "name": "w", "folder": desk.shoot().to_string_lossy(), "deep": false, "answers": []}))
        .await;
    assert!(
        refused["detail"].as_str().unwrap().contains("in a watched folder they never are all there"),
        "{refused}"
    );
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn clips_that_browsers_do_not_play_have_a_stand_in_and_become_a_source() {
    let desk = lesson(4).await;
    let recipe = json!({"format": "rallo-recipe", "version": 1, "name": "Edit", "steps": [], "deliveries": [
        {"kind": "video", "purpose": "edit", "size": "custom", "width": 320, "height": 180, "name": "take", "to": desk.shoot().to_string_lossy()},
        {"kind": "video", "codec": "GIF", "size": "custom", "width": 160, "height": 90, "name": "small"}]});
    desk.ask("POST", "/api/recipes", recipe).await;
    desk.ask("POST", "/api/runs", json!({})).await;
    desk.go("/runs/1").await;
    desk.until("document.querySelector('#what')?.innerText.startsWith('All done: 6 of 6')").await;
    desk.until("document.querySelectorAll('.together .btn').length === 2").await;
    desk.script("document.querySelectorAll('.together .btn').forEach((b) => b.click())").await;
    desk.until("document.querySelector('.player video')?.readyState >= 2").await;
    assert_eq!(
        desk.script("return document.querySelector('.player video').src.endsWith('/proxy')").await,
        json!(true)
    );
    desk.until("document.querySelector('.player img')?.naturalWidth === 160").await;
    // The frames of a clip become pictures that are chosen like others.
    desk.go("/frames").await;
    desk.click("#choose").await;
    desk.until("document.querySelector('#folder-list')?.innerText.includes('Spring')").await;
    desk.click("#folder-list button").await;
    desk.click(".take-frames").await;
    desk.until("document.querySelector('#folder-path').value.includes('take frames')").await;
    desk.until("document.querySelector('#take').innerText.includes('4 pictures')").await;
    desk.click("#take").await;
    desk.until("document.querySelector('#count')?.innerText.startsWith('4 frames')").await;
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn lines_are_given_to_one_delivery_and_a_pdf_is_made_smaller_in_the_page() {
    let desk = lesson(2).await;
    desk.go("/bench").await;
    also(&desk, "a smaller JPEG", "1600").await;
    desk.click_where("[data-delivery=\"1\"] [aria-expanded]", "true").await;
    desk.until("document.querySelector('[aria-label=\"A line for this delivery alone\"]')").await;
    desk.script("const s = document.querySelector('[aria-label=\"A line for this delivery alone\"]'); s.value = '0'; s.dispatchEvent(new Event('change'))").await;
    desk.until(
        "document.querySelector('[data-delivery=\"1\"]').innerText.includes('(Make it 0.2 stops brighter)')",
    )
    .await;
    assert_eq!(desk.lines().await, 0);
    desk.saved().await;
    let id = desk.script("return document.querySelector('#bench').dataset.recipe").await;
    let kept = desk.ask("GET", &format!("/api/recipes/{}", id.as_str().unwrap()), json!(null)).await;
    assert_eq!(kept["document"]["deliveries"][1]["steps"][0]["step"], "exposure");
    // Its values are changed where it stands, and given back with it.
    desk.click(".own-line .btn").await;
    desk.until("document.querySelector('.own-line + .controls [aria-label=\"stops, typed\"]')").await;
    desk.script("const f = document.querySelector('.own-line + .controls [aria-label=\"stops, typed\"]'); f.value = '0.6'; f.dispatchEvent(new Event('change'))").await;
    desk.until(
        "document.querySelector('[data-delivery=\"1\"]').innerText.includes('(Make it 0.6 stops brighter)')",
    )
    .await;
    desk.saved().await;
    let kept = desk.ask("GET", &format!("/api/recipes/{}", id.as_str().unwrap()), json!(null)).await;
    assert_eq!(kept["document"]["deliveries"][1]["steps"][0]["stops"], 0.6);
    desk.click_where(".own-line .btn:last-child", "true").await;
    desk.until("document.querySelectorAll('#lines > li').length === 1").await;
    desk.saved().await;
    // A number that is one of several words is shown as what is chosen.
    also(&desk, "TIFF with 16 bits for the next program", "TIFF with 16 bits").await;
    desk.click_where("[data-delivery=\"2\"] [aria-expanded]", "true").await;
    let chosen = "[...document.querySelectorAll('#goes .controls select')].map((s) => s.value)";
    desk.until(&format!("{chosen}.includes('tiff')")).await;
    assert_eq!(desk.script(&format!("return {chosen}.includes('16')")).await, json!(true));
    desk.saved().await;
    // Smaller: the file itself stays, and the answer is a PDF of fewer bytes.
    desk.ask(
        "POST",
        "/api/recipes",
        json!({"format": "rallo-recipe", "version": 1, "name": "Paper", "steps": [],
        "deliveries": [{"kind": "pdf", "rows": 1, "resolution": 400, "quality": 95, "name": "paper"}]}),
    )
    .await;
    desk.ask("POST", "/api/runs", json!({})).await;
    desk.go("/runs/1").await;
    desk.until("document.querySelector('#what')?.innerText.startsWith('All done')").await;
    let paper = std::fs::read(desk.shoot().join("Paper/paper.pdf")).unwrap();
    desk.go("/tools").await;
    let send = "const done = arguments[0]; (async () => { \
        const bytes = await (await fetch('/api/runs/1/items/2/file/0')).blob(); \
        const list = new DataTransfer(); list.items.add(new File([bytes], 'paper.pdf', { type: 'application/pdf' })); \
        const field = document.querySelector('#smaller-file'); field.files = list.files; field.dispatchEvent(new Event('change')); \
        document.querySelector('#smaller-ppi').value = 60; document.querySelector('#smaller').click(); done(bytes.size); })()";
    let sent = desk.page.execute_async(send, vec![]).await.unwrap();
    assert_eq!(sent, json!(paper.len()));
    desk.until("document.querySelector('#smaller-told').innerText.includes('2 of 2 pictures made smaller')")
        .await;
    desk.page.clone().close().await.unwrap();
}
