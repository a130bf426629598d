//! Runs in a real browser: they wait for a yes, are kept for later, paused, put in order, reported and taken back.

use crate::common::desk::*;
use rallo_engine::{Samples, Source};
use rallo_media::FileSource;
use serde_json::{Value, json};
use std::path::Path;

fn mean(path: &Path) -> f64 {
    let level = FileSource::open(path).unwrap().level(0).unwrap();
    let Samples::U8(px) = level.samples() else { panic!("8 bits") };
    px.iter().map(|v| f64::from(*v)).sum::<f64>() / px.len() as f64
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_waits_for_a_yes_and_one_picture_gets_values_of_its_own() {
    let desk = Desk::open().await;
    desk.choose().await;
    desk.go("/bench").await;
    desk.find("#ask").await;
    desk.add("bright").await;
    desk.script("document.querySelector('#lines .is-open .where').open = true").await;
    desk.set("Wait for a yes before this line", "Is the pot whole?").await;
    desk.saved().await;
    desk.go("/sheet").await;
    desk.until("document.querySelector('#problems').innerText.includes('waits for your yes before line 1: Is the pot whole?')").await;
    desk.until("!document.querySelector('#start').disabled").await;
    desk.click_where("#start", "true").await;
    desk.until("document.querySelector('#what')?.innerText === 'Waiting for your yes'").await;
    desk.until("document.querySelector('#ask-box').dataset.shown === '1'").await;
    assert!(desk.text("#ask-box").await.contains("Before line 1: Is the pot whole?"));
    assert!(desk.text(".rail").await.contains("waits for your yes"));
    // The second picture is made much darker, by itself; then all go on.
    desk.script("document.querySelectorAll('#ask-box .fr')[1].click()").await;
    desk.script(
        "document.querySelector('#ask-box details').open = true; const f = document.querySelector('#ask-box input[aria-label=\"Exposure, stops\"]'); \
         f.value = '-4'; f.dispatchEvent(new Event('change'))",
    )
    .await;
    desk.until("document.querySelectorAll('#ask-box .fr')[1].innerText.includes('values of its own')").await;
    desk.click_where("#yes", "true").await;
    desk.until("document.querySelector('#what').innerText.startsWith('All done: 3 of 3')").await;
    let at = |i: u32| mean(&desk.results().join(format!("TN_{i}.jpg")));
    assert!(at(2) < at(1) / 3.0 && at(2) < at(3) / 3.0, "{} {} {}", at(1), at(2), at(3));
    let recipe = desk.ask("GET", "/api/recipes", Value::Null).await;
    assert_eq!(recipe[0]["document"]["steps"][0]["stops"], json!(0.3));
    // Answered twice is refused in words.
    let twice = desk.ask("POST", "/api/runs/1/checkpoint", json!({"stage": 0})).await;
    assert!(twice["detail"].as_str().unwrap().contains("does not ask that any more"), "{twice}");
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn the_queue_is_put_in_order_and_a_run_is_reported_and_taken_back() {
    let desk = Desk::open().await;
    desk.choose().await;
    desk.go("/bench").await;
    desk.find("#ask").await;
    desk.add("200").await;
    desk.saved().await;
    // Two for later; the frames say that they are in a run.
    desk.go("/sheet").await;
    desk.until("!document.querySelector('#start').disabled").await;
    let night = json!({"at": "2999-01-01T00:00:00Z"});
    for _ in 0..2 {
        desk.ask("POST", "/api/runs", night.clone()).await;
    }
    let wrong = desk.ask("POST", "/api/runs", json!({"at": "tomorrow"})).await;
    assert!(wrong["detail"].as_str().unwrap().contains("expected a time"), "{wrong}");
    desk.go("/frames").await;
    desk.until("document.querySelectorAll('.fr.is-working').length === 3").await;
    desk.go("/runs").await;
    desk.until("document.querySelectorAll('.queue-list > li').length === 2").await;
    assert!(desk.text("#queue").await.contains("Begins "));
    let press = async |text: &str| desk.click_on(".queue-list button", text).await;
    // The second comes first; one of them is stopped, the other one starts now.
    press("Earlier").await;
    desk.until("document.querySelector('.queue-list > li').innerText.includes('run 2')").await;
    press("Stop").await;
    desk.until("document.querySelectorAll('.queue-list > li').length === 1").await;
    press("Start now").await;
    desk.until("document.querySelector('#queue').innerText.includes('Nothing waits')").await;
    // What runs may have is kept.
    desk.script(
        "const c = document.querySelector('#cores'); c.value = 1; c.dispatchEvent(new Event('change'))",
    )
    .await;
    for _ in 0..100 {
        if desk.ask("GET", "/api/limits", Value::Null).await["cores"] == 1 {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    desk.go("/runs").await;
    desk.until("document.querySelector('#cores').value === '1'").await;

    desk.go("/runs/1").await;
    desk.until("document.querySelector('#what').innerText.startsWith('All done: 3 of 3')").await;
    // The result and its original, as on the bench.
    desk.until("document.querySelectorAll('#results .fr').length === 3").await;
    desk.click_where("#results .fr", "true").await;
    let stage = "document.querySelector('#look .stage')";
    desk.until(&format!(
        "{stage}.dataset.shown > 0 && document.querySelector('#look .tag-left').innerText === 'original'"
    ))
    .await;
    assert!(desk.text("[data-look=name]").await.ends_with("(1 of 3)"));
    // They lie on each other: eight times what differs between the result and its halved original is dark all over.
    let dark = "(() => { const c = document.querySelector('#look canvas'); \
        const all = c.getContext('2d').getImageData(0, 0, c.width, c.height).data; let sum = 0; let count = 0; \
        for (let i = 0; i < all.length; i += 4) if (all[i + 3] === 255) { sum += all[i]; count += 1; } \
        return count > 10000 && sum / count < 25; })()";
    desk.script("document.querySelector('#look [data-zoom=\"1\"]').click(); document.querySelector('#look [data-compare=difference]').click()").await;
    desk.until(dark).await;
    desk.click_where("#look [data-compare=after]", "true").await;
    desk.until(&format!("!{dark}")).await;
    desk.script(&format!(
        "{stage}.dispatchEvent(new KeyboardEvent('keydown', {{ key: 'ArrowRight', bubbles: true }}))"
    ))
    .await;
    desk.until("document.querySelector('[data-look=name]').innerText.endsWith('(2 of 3)')").await;
    desk.click_where("#look [data-look=close]", "true").await;
    let report = desk.ask("GET", "/api/runs/1/report.json", Value::Null).await;
    assert_eq!(
        (report["done"].clone(), report["items"][0]["outputs"][0]["width"].clone()),
        (json!(3), json!(200))
    );
    desk.go("/runs/1/report").await;
    let said = desk.text("main").await;
    assert!(
        said.contains("3 of 3 pictures made") && said.contains("TN_2.jpg") && said.contains("200 × 133"),
        "{said}"
    );
    // One result is changed; taking the run back leaves it, and says so.
    let out = desk.results();
    std::fs::write(out.join("TN_2.jpg"), "mine now").unwrap();
    desk.go("/runs/1").await;
    desk.until("!document.querySelector('#undo-run').hidden").await;
    desk.click("#undo-run").await;
    desk.page.accept_alert().await.unwrap();
    desk.until("document.querySelector('#said').textContent.includes('2 files are gone')").await;
    assert!(desk.text("#said").await.contains("TN_2.jpg was changed since and stays"));
    let left: Vec<_> = std::fs::read_dir(&out).unwrap().map(|e| e.unwrap().file_name()).collect();
    assert_eq!(left, ["TN_2.jpg"]);
    desk.until("document.querySelector('#what').innerText === 'Taken back'").await;
    assert_eq!(desk.script("return document.querySelectorAll('#results img').length").await, json!(0));
    desk.page.clone().close().await.unwrap();
}
