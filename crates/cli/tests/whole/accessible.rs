//! Every page and dialog, in the real browser, looked through by axe for what keeps people out: names that are missing,
//! contrast that is too low, roles that do not fit; and for pictures that do not come.

use crate::common::desk::Desk;
use serde_json::{Value, json};

/// What axe finds, as one line for each rule, and each picture that does not come; empty where nothing is wrong.
async fn violations(desk: &Desk) -> Vec<String> {
    let file = concat!(env!("CARGO_MANIFEST_DIR"), "/../web/node_modules/axe-core/axe.min.js");
    let axe = std::fs::read_to_string(file)
        .unwrap_or_else(|e| panic!("{file}: {e}; script/test installs it, or npm ci in crates/web"));
    desk.page.execute(&axe, vec![]).await.unwrap();
    // What is still fading in has colours that it has for a moment only.
    let run = "const done = arguments[0];
        const fading = document.getAnimations().filter((a) => Number.isFinite(a.effect?.getComputedTiming().endTime));
        Promise.allSettled(fading.map((a) => a.finished)).then(() => axe.run(document)).then((r) => done(r.violations.map((v) => \
        `${v.id}: ${v.nodes.map((n) => `${n.target.join(' ')} (${n.any[0]?.message ?? n.all[0]?.message ?? ''})`).slice(0, 4).join(' | ')}`)))";
    let found = desk.page.execute_async(run, vec![]).await.unwrap();
    let missing = "return [...document.images].filter((i) => i.src && i.complete && !i.naturalWidth).map((i) => `no picture at ${i.src}`)";
    let missing = desk.page.execute(missing, vec![]).await.unwrap();
    let all = [found, missing];
    let lines = all.iter().flat_map(|some| some.as_array().unwrap());
    lines.map(|v| v.as_str().unwrap_or_default().to_owned()).collect()
}

/// Fails where something is wrong, with the name of what was looked at.
struct Looked(Vec<String>);

impl Looked {
    /// A page that is still being drawn is looked at again: only what stays is wrong.
    async fn at(&mut self, what: &str, desk: &Desk) {
        let mut found = violations(desk).await;
        for _ in 0..3 {
            if found.is_empty() {
                return;
            }
            tokio::time::sleep(std::time::Duration::from_secs(1)).await;
            let again = violations(desk).await;
            found.retain(|violation| again.contains(violation));
        }
        self.0.extend(found.into_iter().map(|v| format!("{what}: {v}")));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn no_page_and_no_dialog_keeps_anybody_out() {
    let desk = Desk::open().await;
    let mut looked = Looked(Vec::new());
    desk.go("/").await;
    desk.until("document.querySelector('.cards img')?.complete").await;
    looked.at("start", &desk).await;
    desk.go("/frames").await;
    looked.at("frames, empty", &desk).await;
    desk.click("#choose").await;
    desk.until("document.querySelector('#folder-list .folder-row')").await;
    looked.at("folders", &desk).await;
    desk.script("document.querySelector('#folders').close()").await;
    desk.choose().await;
    looked.at("frames", &desk).await;
    for (key, open) in
        [("q", "#paper[open]"), ("t", "#paper[open]"), ("w", "#paper[open]"), ("l", "#one[open]")]
    {
        desk.find("#grid").await.send_keys(key).await;
        desk.until(&format!("document.querySelector('{open}')")).await;
        looked.at(&format!("frames, key {key}"), &desk).await;
        desk.script(&format!("document.querySelector('{open}').close()")).await;
    }
    desk.click("#to-bench").await;
    desk.add("denoise").await;
    desk.add("1600").await;
    desk.add("curve").await;
    desk.saved().await;
    looked.at("bench", &desk).await;
    desk.click(".goes-arrow").await;
    desk.until("document.querySelector('.goes.is-open')").await;
    looked.at("bench, a delivery", &desk).await;
    for page in [
        "/proof",
        "/recipes",
        "/sheet",
        "/runs",
        "/watched",
        "/setup",
        "/tools",
        "/keys",
        "/second",
        "/sequence",
    ] {
        desk.go(page).await;
        desk.until("document.readyState === 'complete'").await;
        tokio::time::sleep(std::time::Duration::from_millis(700)).await;
        looked.at(page, &desk).await;
    }
    let id = desk.ask("GET", "/api/recipes", Value::Null).await[0]["id"].clone();
    desk.go(&format!("/recipes/{id}/sheet")).await;
    looked.at("settings sheet", &desk).await;
    // A run that hangs in the queue, and one that is over.
    desk.ask("POST", "/api/runs", json!({"at": "2999-01-01T00:00:00Z"})).await;
    let run = desk.ask("POST", "/api/runs", json!({})).await["run"].clone();
    desk.go(&format!("/runs/{run}")).await;
    desk.until("document.querySelector('#what').innerText.startsWith('All done')").await;
    looked.at("run", &desk).await;
    desk.until("document.querySelector('#results .fr')").await;
    desk.click_where("#results .fr", "true").await;
    desk.until("document.querySelector('#look .stage').dataset.shown > 0").await;
    looked.at("a result beside its original", &desk).await;
    desk.go("/runs").await;
    desk.until("document.querySelectorAll('#done .card-of').length === 1").await;
    looked.at("queue", &desk).await;
    desk.go(&format!("/runs/{run}/report")).await;
    looked.at("report", &desk).await;
    // One of the originals is cut off.
    let original = std::fs::read_dir(desk.shoot()).unwrap().next().unwrap().unwrap().path();
    let bytes = std::fs::read(&original).unwrap();
    std::fs::write(&original, &bytes[..bytes.len() / 2]).unwrap();
    desk.go("/runs").await;
    let run = desk.ask("POST", "/api/runs", json!({})).await["run"].clone();
    desk.go(&format!("/runs/{run}")).await;
    desk.until("document.querySelector('#fails .fail button')").await;
    looked.at("a run with a picture that failed", &desk).await;
    assert!(looked.0.is_empty(), "{}", looked.0.join("\n"));
    desk.page.clone().close().await.unwrap();
}

/// At 200 % of a window of 1280 by 800 a page has 640 by 400 pixels of its own.
#[tokio::test(flavor = "multi_thread")]
async fn at_two_hundred_per_cent_everything_is_within_the_page() {
    let desk = Desk::open().await;
    desk.choose().await;
    desk.page.set_window_size(640, 500).await.unwrap();
    for page in [
        "", "frames", "sequence", "bench", "sheet", "recipes", "runs", "watched", "setup", "tools", "keys",
        "proof",
    ] {
        desk.go(&format!("/{page}")).await;
        desk.until("document.readyState === 'complete' && innerWidth <= 640").await;
        // What a button says may end in dots; it is reached, by scrolling down alone.
        let outside = "return [document.scrollingElement.scrollWidth - document.scrollingElement.clientWidth, ...[...document.querySelectorAll('button, input, select, a')]
            .filter((e) => { const r = e.getBoundingClientRect();
                return r.width && getComputedStyle(e).visibility !== 'hidden' && !e.closest('[hidden]') && (r.right > innerWidth + 1 || r.left < -1); })
            .map((e) => e.id || e.textContent.trim())]";
        let found = desk.script(outside).await;
        assert_eq!(found, json!([0]), "on /{page}");
    }
    // The bench's ticket lies below the picture, and can be scrolled to.
    desk.go("/bench").await;
    desk.until("document.querySelector('#stage')?.dataset.shown > 0").await;
    let below = "return document.querySelector('.slip').getBoundingClientRect().top > document.querySelector('#stage').getBoundingClientRect().bottom \
        && document.scrollingElement.scrollHeight > innerHeight";
    assert_eq!(desk.script(below).await, json!(true));
    desk.page.clone().close().await.unwrap();
}
