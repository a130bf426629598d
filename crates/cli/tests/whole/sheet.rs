//! The run sheet in a real browser: what it warns of is mended with one click, values are put right, a key runs at once;
//! and the pages for watched folders, dropped pictures and this program.

use crate::common::desk::*;
use crate::common::write_jpeg;
use rallo_media::FileSource;
use serde_json::{Value, json};
use std::path::Path;

fn size(path: &Path) -> (u32, u32) {
    let size = rallo_engine::Source::size(&FileSource::open(path).unwrap());
    (size.width, size.height)
}

fn count(folder: &Path) -> usize {
    std::fs::read_dir(folder)
        .map_or(0, |all| all.flatten().filter(|e| e.path().extension().is_some_and(|e| e == "jpg")).count())
}

/// Waits until a folder has so many results.
async fn until_there(folder: &Path, want: usize) {
    for _ in 0..200 {
        if count(folder) >= want {
            return;
        }
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    panic!("{} of {want} in {}", count(folder), folder.display());
}

async fn desk_with_a_recipe(document: Value) -> Desk {
    let desk = Desk::open_with(|shoot| {
        for i in 1..=3 {
            write_jpeg(&shoot.join(format!("TN_{i}.jpg")), 900, 600, i);
        }
        write_jpeg(&shoot.join("small.jpg"), 300, 200, 4);
    })
    .await;
    desk.choose().await;
    desk.ask("POST", "/api/recipes", document).await;
    desk
}

fn recipe(name: &str) -> Value {
    json!({"format": "rallo-recipe", "version": 1, "name": "Web",
        "steps": [{"step": "exposure", "stops": 0.2}, {"step": "resize", "long_edge": 400}],
        "deliveries": [{"kind": "pictures", "quality": 80, "name": name}]})
}

#[tokio::test(flavor = "multi_thread")]
async fn warnings_are_mended_with_a_click_and_values_put_right_for_the_run_or_the_recipe() {
    let desk = desk_with_a_recipe(recipe("pot")).await;
    desk.go("/sheet").await;
    let problems = "document.querySelector('#problems').innerText";
    desk.until(&format!("{problems}.includes('would both be written as pot.jpg')")).await;
    assert_eq!(desk.script("return document.querySelector('#start').disabled").await, json!(true));
    let mend = async |label: &str| desk.click_on("#problems button", label).await;
    mend("Number all names").await;
    desk.until("document.querySelector('#names').innerText.includes('pot-0004.jpg')").await;
    desk.until(&format!("{problems}.includes('small.jpg has fewer pixels than line 2 asks for')")).await;
    mend("Leave them out").await;
    desk.until("document.querySelector('#what').innerText === '3 pictures'").await;
    desk.until(&format!("!{problems}.includes('fewer pixels')")).await;
    // A value of a line, by keyboard: the ticket's line opens, the field is typed into.
    desk.script("document.querySelectorAll('.slip .lines [role=button]')[1].focus()").await;
    desk.press(char::from(fantoccini::key::Key::Enter)).await;
    desk.until("document.querySelector('#values [aria-label=\"long edge\"]')?.value === '400'").await;
    let put = |label: &str, value: &str| {
        format!(
            "const f = document.querySelector('#values [aria-label=\"{label}\"]'); f.value = '{value}'; f.dispatchEvent(new Event('change'))"
        )
    };
    desk.script(&put("long edge", "500")).await;
    desk.until("document.querySelectorAll('.slip .lines > li')[1].innerText.includes('500')").await;
    desk.until("document.querySelector('#names').innerText.includes('500 × 333')").await;
    desk.until("document.querySelector('#cost').innerText.includes('measured on 3 of them')").await;
    // For the recipe too: its next version has both changes, and the run still leaves one out.
    desk.click_where("#keep", "true").await;
    desk.until("document.querySelector('#said').textContent.includes('Kept in the recipe as version 2')")
        .await;
    let kept = desk.ask("GET", "/api/recipes", Value::Null).await;
    assert_eq!(kept[0]["document"]["steps"][1]["long_edge"], 500);
    assert_eq!(kept[0]["document"]["deliveries"][0]["name"], "pot-{n:04}");
    // Another value for this run alone.
    desk.click_where(".slip .goes", "true").await;
    desk.until("document.querySelector('#values [aria-label=\"quality\"]')").await;
    desk.script(&put("quality", "30")).await;
    desk.until("document.querySelector('.slip .goes').innerText.includes('quality 30')").await;
    desk.until("!document.querySelector('#start').disabled").await;
    desk.click_where("#start", "true").await;
    desk.until("document.querySelector('#what')?.innerText.startsWith('All done: 3 of 3')").await;
    let web = desk.shoot().join("Web");
    assert_eq!((count(&web), size(&web.join("pot-0003.jpg"))), (3, (500, 333)));
    assert_eq!(
        desk.ask("GET", "/api/recipes", Value::Null).await[0]["document"]["deliveries"][0]["quality"],
        80
    );
    assert_eq!(desk.ask("GET", "/api/runs/1/report.json", Value::Null).await["version"], 2);
    // The report says what was said before; the folder shows what lies there.
    desk.go("/runs/1/report").await;
    desk.until("document.body.innerText.includes('Started from: page')").await;
    std::fs::write(web.join("notes.txt"), "x").unwrap();
    desk.go("/runs/1/folder").await;
    let rows = desk.text(".names").await;
    assert!(
        rows.contains("pot-0001.jpg") && rows.contains("this run") && rows.contains("notes.txt"),
        "{rows}"
    );
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn one_key_runs_at_once_where_there_is_nothing_to_say_and_shows_the_sheet_where_there_is() {
    let desk = desk_with_a_recipe(recipe("{stem}")).await;
    // Only large ones: nothing to say.
    let ids = desk.ask("POST", "/api/view", json!({})).await["ids"].clone();
    let large: Vec<Value> = ids.as_array().unwrap()[1..].to_vec();
    let all = desk.ask("POST", "/api/rows", json!({"ids": ids})).await;
    assert!(all.to_string().contains("small.jpg"), "{all}");
    desk.ask("PUT", "/api/desk", json!({"selection": large})).await;
    desk.go("/frames").await;
    desk.until("document.querySelector('.fr')").await;
    let ctrl_enter = "document.body.dispatchEvent(new KeyboardEvent('keydown', { key: 'Enter', ctrlKey: true, bubbles: true }))";
    desk.script(ctrl_enter).await;
    desk.until("document.querySelector('#said').textContent.startsWith('Run 1 is started') || location.pathname === '/sheet'").await;
    let web = desk.shoot().join("Web");
    if desk.script("return location.pathname").await == json!("/sheet") {
        let said = desk.text("#problems").await;
        panic!("the sheet has something to say: {said}");
    }
    until_there(&web, 3).await;
    // The results are there now: that is said.
    desk.go("/frames").await;
    desk.until("document.querySelector('.fr')").await;
    desk.script(ctrl_enter).await;
    desk.until("location.pathname === '/sheet' && document.querySelector('#problems')?.innerText.includes('3 results are there already, made by this recipe')").await;
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_folder_is_watched_from_the_page() {
    let desk = desk_with_a_recipe(recipe("{stem}")).await;
    let inside = desk.folder.path().join("pictures/Arrivals");
    std::fs::create_dir(&inside).unwrap();
    desk.go("/watched").await;
    desk.until("document.querySelector('#watches').innerText === 'No folder is watched.'").await;
    desk.until("document.querySelector('#recipe').value !== ''").await;
    desk.click("#choose-folder").await;
    desk.until(
        "[...document.querySelectorAll('#folder-list button')].some((b) => b.innerText.includes('Arrivals'))",
    )
    .await;
    desk.click_where("#folder-list button", "e.innerText.includes('Arrivals')").await;
    desk.until("document.querySelector('#folder-path').value.includes('Arrivals')").await;
    desk.click("#take").await;
    desk.until("!document.querySelector('#add').disabled").await;
    desk.click("#add").await;
    desk.until("document.querySelector('#watches').innerText.includes('Web, version 1')").await;
    write_jpeg(&inside.join("new.jpg"), 900, 600, 9);
    desk.until("document.querySelector('#watches').innerText.includes('1 picture has arrived')").await;
    until_there(&inside.join("Web"), 1).await;
    let press = async |label: &str| desk.click_on("#watches button", label).await;
    press("Pause").await;
    desk.until(
        "document.querySelector('#watches').innerText.includes('Paused: what arrives is taken in later')",
    )
    .await;
    press("Watch it no longer").await;
    desk.until("document.querySelector('#watches').innerText === 'No folder is watched.'").await;
    assert_eq!(count(&inside.join("Web")), 1, "results stay");
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn pictures_are_dropped_on_a_recipe_in_the_page() {
    let mut document = recipe("{stem}");
    document["steps"][1]["ask"] = json!(["long_edge"]);
    let desk = desk_with_a_recipe(document).await;
    desk.go("/recipes").await;
    desk.until("document.querySelector('#name')?.innerText === 'Web'").await;
    let notes = desk.folder.path().join("notes.txt");
    std::fs::write(&notes, "text").unwrap();
    let files = [desk.shoot().join("TN_1.jpg"), desk.shoot().join("TN_2.jpg"), notes];
    let files: Vec<String> = files.iter().map(|f| f.to_string_lossy().into_owned()).collect();
    let field = desk.find("#drop-files").await;
    field.send_keys(&files.join("\n")).await;
    desk.until("document.querySelector('#drop-said').innerText === '2 are here, 1 was not taken in.'").await;
    assert!(desk.text("#drop-list").await.contains("notes.txt is no kind of picture"));
    // What the recipe asks is asked here too.
    desk.script("const f = document.querySelector('#drop-asks input'); f.value = '240'; f.dispatchEvent(new Event('change'))").await;
    desk.click("#drop-go").await;
    desk.until("document.querySelector('#what')?.innerText.startsWith('All done: 2 of 2')").await;
    desk.until("document.querySelectorAll('#results img').length === 2 && [...document.querySelectorAll('#results img')].every((i) => i.naturalWidth === 240)").await;
    desk.until("!document.querySelector('#zip').hidden && !document.querySelector('#brought').hidden").await;
    let script = "const done = arguments[0]; fetch(document.querySelector('#zip').href).then((r) => r.arrayBuffer()).then((b) => done(new TextDecoder('latin1').decode(b.slice(0, 4)) + b.byteLength))";
    let zip = desk.page.execute_async(script, vec![]).await.unwrap();
    let zip = zip.as_str().unwrap();
    assert!(zip.starts_with("PK\u{3}\u{4}") && zip.len() > 7, "{zip}");
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn tokens_and_what_is_kept_are_seen_to_on_a_page() {
    let desk = Desk::open().await;
    desk.go("/setup").await;
    desk.until("document.querySelector('#held').innerText === 'Nothing is kept now.' && document.querySelector('#limit').value === '8'").await;
    desk.script(
        "const f = document.querySelector('#limit'); f.value = '2.5'; f.dispatchEvent(new Event('change'))",
    )
    .await;
    desk.until("document.querySelector('#limit').value === '2.5'").await;
    assert_eq!(desk.ask("GET", "/api/kept-work", Value::Null).await["limit"], json!(2_500_000_000u64));
    desk.find("#token-name").await.send_keys("night script").await;
    desk.click("#make").await;
    desk.until("document.querySelector('#token')?.innerText.length === 64").await;
    let token = desk.text("#token").await;
    desk.until("document.querySelector('#tokens').innerText.includes('night script')").await;
    let ask = "const [token, done] = arguments; fetch('/api/tokens', { headers: { authorization: `Bearer ${token}` } }).then((r) => done(r.status))";
    assert_eq!(desk.page.execute_async(ask, vec![json!(token)]).await.unwrap(), json!(200));
    desk.click_where("#tokens button", "true").await;
    desk.until("document.querySelector('#tokens').innerText.includes('There are none.')").await;
    assert_eq!(desk.page.execute_async(ask, vec![json!(token)]).await.unwrap(), json!(401));
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_delivery_is_added_on_the_bench_and_changed_by_itself_on_the_sheet() {
    let desk = desk_with_a_recipe(recipe("{stem}")).await;
    desk.go("/bench").await;
    desk.find("#also-deliver").await;
    desk.script("const s = document.querySelector('#also-deliver'); s.value = 'a web set of three widths'; s.dispatchEvent(new Event('change'))").await;
    desk.until("document.querySelector('[data-delivery=\"1\"]')?.innerText.includes('WebP, quality')").await;
    desk.saved().await;
    desk.go("/sheet").await;
    desk.until("document.querySelector('#names').innerText.includes('TN_1-480.webp')").await;
    // Smaller pictures stay as they are: of one size, under one name each.
    desk.script("document.querySelectorAll('.slip .goes')[1].click()").await;
    desk.until("document.querySelector('#values [aria-label=widths]')?.value === '480, 960, 1920'").await;
    desk.script("const f = document.querySelector('#values [aria-label=widths]'); f.value = '100 200'; f.dispatchEvent(new Event('change'))").await;
    desk.until("document.querySelector('#names').innerText.includes('TN_1-200.webp')").await;
    let wrong = "const f = document.querySelector('#values [aria-label=widths]'); f.value = 'wide'; f.dispatchEvent(new Event('change'))";
    desk.until("document.querySelector('#values [aria-label=widths]')?.value === '100, 200'").await;
    desk.script(wrong).await;
    desk.until("document.querySelector('#said').textContent.includes('expected widths in pixels such as 480, 960, got wide')").await;
    desk.go("/sheet").await;
    desk.until("!document.querySelector('#start').disabled").await;
    desk.click_where("#start", "true").await;
    desk.until("document.querySelector('#what')?.innerText.startsWith('All done: 4 of 4')").await;
    assert_eq!(size(&desk.shoot().join("Web/TN_2.jpg")), (400, 267));
    let web = desk.shoot().join("Web widths");
    assert_eq!(size(&web.join("TN_2-480.webp")), (400, 267), "the lines make no more");
    let page = std::fs::read_to_string(web.join("index.html")).unwrap();
    assert!(page.contains("TN_2-480.webp 400w"), "{page}");
    // Taken back, nothing of it is left.
    desk.ask("POST", "/api/runs/1/undo", json!({})).await;
    assert!(!web.exists() && !desk.shoot().join("Web").exists());
    assert!(desk.shoot().join("TN_2.jpg").exists());
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_picture_that_is_cut_off_is_shown_and_used_as_far_as_it_goes_where_that_is_wanted() {
    let desk = Desk::open_with(|shoot| {
        write_jpeg(&shoot.join("TN_1.jpg"), 900, 600, 1);
        let cut = shoot.join("cut.jpg");
        write_jpeg(&cut, 900, 600, 2);
        let whole = std::fs::read(&cut).unwrap();
        std::fs::write(&cut, &whole[..whole.len() * 2 / 3]).unwrap();
    })
    .await;
    desk.choose().await;
    desk.until(
        "[...document.querySelectorAll('.fr')].some((f) => f.innerText.includes('ends in the middle') && f.querySelector('img')?.naturalWidth > 0)",
    )
    .await;
    desk.ask("POST", "/api/recipes", recipe("{stem}")).await;
    desk.go("/sheet").await;
    let problems = "document.querySelector('#problems').innerText";
    desk.until(&format!("{problems}.includes('cut.jpg cannot be read and will fail')")).await;
    desk.click_on("#problems button", "Use the part that is there").await;
    desk.until(&format!("{problems}.includes('the part that is there is used')")).await;
    desk.until("!document.querySelector('#start').disabled").await;
    desk.click_where("#start", "true").await;
    desk.until("document.querySelector('#what')?.innerText.startsWith('All done: 2 of 2')").await;
    assert_eq!(count(&desk.shoot().join("Web")), 2);
    // On the bench it is line 0 of the recipe, written down and taken back.
    desk.go("/bench").await;
    desk.until("document.querySelector('#reading .words')?.innerText.startsWith('Read as they are')").await;
    desk.click_where(".reading-head", "true").await;
    desk.click_where("#reading input[type=checkbox]", "true").await;
    desk.until("document.querySelector('#reading .words').innerText.includes('the part that is there')")
        .await;
    desk.until("document.querySelector('#version').innerText === '2'").await;
    let id = desk.script("return document.querySelector('#bench').dataset.recipe").await;
    let path = format!("/api/recipes/{}", id.as_str().unwrap());
    let kept = desk.ask("GET", &path, serde_json::Value::Null).await;
    assert_eq!(kept["document"]["decode"], serde_json::json!({"use_part": true}));
    desk.click_where("#undo", "true").await;
    desk.until("document.querySelector('#reading .words').innerText.startsWith('Read as they are')").await;
    desk.page.clone().close().await.unwrap();
}
