//! Recording in a real browser: tried off the ticket, folded, bound into blocks, asked at the start, kept in versions,
//! loaded and printed, compared, proved on other frames.

use crate::common::desk::*;
use fantoccini::key::Key;
use rallo_engine::{Samples, Source};
use rallo_media::FileSource;
use serde_json::{Value, json};

async fn bench() -> Desk {
    let desk = Desk::open().await;
    desk.choose().await;
    desk.click("#to-bench").await;
    desk.until("document.querySelector('#stage')?.dataset.shown > 0").await;
    desk
}

impl Desk {
    /// What the server keeps of the newest recipe.
    async fn kept(&self) -> Value {
        let text = "const done = arguments[0]; fetch('/api/recipes').then((r) => r.json()).then((all) => done(all[0].document))";
        self.page.execute_async(text, vec![]).await.unwrap()
    }

    /// Mean brightness of the middle of the stage, as it is drawn.
    async fn brightness(&self) -> f64 {
        let text = "const c = document.querySelector('#canvas'); const d = c.getContext('2d').getImageData(c.width * 0.6, c.height * 0.45, 40, 40).data; \
                    let s = 0; for (let i = 0; i < d.length; i += 4) s += d[i] + d[i + 1] + d[i + 2]; return s / (d.length / 4 * 3)";
        self.script(text).await.as_f64().unwrap()
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_tried_off_the_ticket_is_taken_whole_or_dropped() {
    let desk = bench().await;
    desk.add("bright").await;
    desk.saved().await;
    let plain = desk.brightness().await;

    // Off the ticket, by key: said in words, and nothing is written down.
    desk.script("document.activeElement.blur()").await;
    desk.press('t').await;
    desk.until("document.querySelector('#record').getAttribute('aria-checked') === 'false'").await;
    assert!(desk.text("#record-word").await.contains("only tried"));
    desk.set("stops, typed", "2").await;
    desk.add("vivid").await;
    desk.until("document.querySelectorAll('#lines .tried').length === 2").await;
    desk.until("document.querySelector('#stage').dataset.shown > 3").await;
    assert!(desk.brightness().await > plain + 10.0, "the picture does not follow what is tried");
    assert_eq!(desk.kept().await["steps"], json!([{"step": "exposure", "stops": 0.3}]));

    // Dropped with one action, the picture too.
    desk.click("#drop").await;
    desk.until("document.querySelectorAll('#lines > li').length === 1").await;
    assert!(desk.text("#record-word").await.contains("written down"));
    assert!(desk.sentences().await[0].contains("0.3"));

    // Tried again, and taken: one decision, that one undo takes back.
    desk.click("#record").await;
    desk.add("vivid").await;
    desk.add("grain").await;
    desk.click("#take").await;
    desk.saved().await;
    assert_eq!(desk.kept().await["steps"].as_array().unwrap().len(), 3);
    desk.script("document.activeElement.blur()").await;
    desk.press('z').await;
    desk.until("document.querySelectorAll('#lines > li').length === 1").await;
    desk.press('y').await;
    desk.until("document.querySelectorAll('#lines > li').length === 3").await;
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_second_one_folds_lines_are_bound_and_a_run_asks() {
    let desk = bench().await;
    desk.add("bright").await;
    // The same again straight after: the line is opened, there is no second one.
    let field = desk.find("#ask").await;
    field.click().await;
    field.send_keys("exposure").await;
    field.send_keys(&String::from(char::from(Key::Enter))).await;
    desk.until("document.querySelector('#lines .is-open') && document.querySelector('#ask').value === ''")
        .await;
    assert_eq!(desk.lines().await, 1);
    desk.add("vivid").await;
    desk.add("warm").await;

    // Two lines in one block, with one switch.
    for line in [1, 2] {
        desk.script(&format!("const li = document.querySelector('[data-line=\"{line}\"]'); if (!li.classList.contains('is-open')) li.click()")).await;
        desk.until(&format!("document.querySelector('[data-line=\"{line}\"].is-open .where')")).await;
        desk.script("document.querySelector('.is-open .where').open = true").await;
        desk.set("Block this line belongs to", "Look").await;
        desk.until(&format!("document.querySelector('[data-line=\"{line}\"].is-bound')")).await;
    }
    let warmth = "const c = document.querySelector('#canvas'); const d = c.getContext('2d').getImageData(c.width * 0.6, c.height * 0.45, 40, 40).data; \
                  let s = 0; for (let i = 0; i < d.length; i += 4) s += d[i] - d[i + 2]; return s / (d.length / 4)";
    let warm = desk.script(warmth).await.as_f64().unwrap();
    let shown = desk.script("return Number(document.querySelector('#stage').dataset.shown)").await;
    desk.click("#lines .block-head input[type=checkbox]").await;
    desk.until("document.querySelector('#lines .block-head.is-off')").await;
    desk.saved().await;
    let document = desk.kept().await;
    assert_eq!(document["blocks"], json!([{"name": "Look", "on": false}]));
    assert_eq!(document["steps"][1]["block"], "Look");
    // The picture follows: without its warm line it is less so.
    desk.until(&format!("Number(document.querySelector('#stage').dataset.shown) > {shown}")).await;
    let cool = desk.script(warmth).await.as_f64().unwrap();
    assert!(cool < warm - 3.0, "{warm} {cool}");

    // The first line is asked for at the start of a run.
    desk.click_where("[data-line=\"0\"]", "true").await;
    desk.until("document.querySelector('[data-line=\"0\"].is-open .where')").await;
    desk.script("document.querySelector('.is-open .where').open = true").await;
    desk.click("#lines .is-open [aria-label='ask for stops at the start of a run']").await;
    desk.saved().await;
    desk.page.goto(&format!("{}/sheet", desk.base)).await.unwrap();
    let field = desk.find("#asks input").await;
    desk.script("document.querySelector('#asks input').value = ''").await;
    field.send_keys(&format!("-5{}", char::from(Key::Tab))).await;
    desk.until("!document.querySelector('#start').disabled").await;
    desk.click("#start").await;
    desk.until("location.pathname.startsWith('/runs/')").await;
    desk.until("document.querySelector('#what').innerText.startsWith('All done: 3 of 3')").await;
    // Five stops darker: a sixth of the brightness and less; the recipe itself is as it was.
    let mean = |path: std::path::PathBuf| {
        let level = FileSource::open(&path).unwrap().level(0).unwrap();
        let Samples::U8(px) = level.samples() else { panic!() };
        px.iter().map(|v| f64::from(*v)).sum::<f64>() / px.len() as f64
    };
    let dark = mean(desk.results().join("TN_1.jpg"));
    assert!(dark < mean(desk.shoot().join("TN_1.jpg")) / 3.0, "{dark}");
    assert_eq!(desk.kept().await["steps"][0]["stops"], json!(0.3));
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn another_recipe_or_sample_comes_onto_the_bench_without_leaving_the_page() {
    let desk = bench().await;
    desk.add("bright").await;
    desk.saved().await;
    desk.script("window.stays = true").await;
    let was = desk.text("#sample").await;
    // A new recipe: an empty ticket, and nothing of the one before can be taken back.
    desk.script("document.querySelector('details.others').open = true").await;
    desk.click("#fresh").await;
    desk.until("!document.querySelectorAll('#lines > li').length").await;
    desk.script("document.activeElement.blur()").await;
    desk.press('z').await;
    desk.add("grain").await;
    desk.saved().await;
    assert_eq!(desk.kept().await["steps"][0]["step"], json!("grain"));
    // The first one again, by its name; the picture follows, and what is done now is kept there.
    let choose = "const s = document.querySelector('#recipes'); \
        s.value = [...s.options].find((o) => o.value !== s.value).value; s.dispatchEvent(new Event('change'))";
    desk.until("document.querySelectorAll('#recipes option').length === 2").await;
    desk.script(choose).await;
    desk.until("document.querySelector('#lines').innerText.includes('0.3')").await;
    desk.until("document.querySelector('#rail-recipe').innerText.includes('Exposure')").await;
    desk.add("vivid").await;
    desk.saved().await;
    // Both were kept within a second, and either may stand first.
    let lines = "const done = arguments[0]; fetch('/api/recipes').then((r) => r.json()).then((all) => \
        done(all.map((r) => r.document.steps.map((s) => s.step))))";
    let mut all: Vec<Vec<String>> =
        serde_json::from_value(desk.page.execute_async(lines, vec![]).await.unwrap()).unwrap();
    all.sort();
    assert!(all.len() == 2 && all[0].len() == 2 && all[0][0] == "exposure" && all[1] == ["grain"], "{all:?}");
    // Another sample.
    desk.until("document.querySelector('#typical').options.length > 2").await;
    desk.script(
        "const s = document.querySelector('#typical'); const here = document.querySelector('#sample').innerText; \
         s.value = [...s.options].find((o) => o.value && !here.includes(o.innerText.split(':')[0])).value; s.dispatchEvent(new Event('change'))",
    )
    .await;
    desk.until(&format!("document.querySelector('#sample').innerText !== {was:?}")).await;
    desk.until(
        "document.querySelector('#stage').dataset.shown > 0 && !document.querySelector('#split').hidden",
    )
    .await;
    assert_eq!(desk.lines().await, 2);
    assert_eq!(desk.script("return window.stays").await, json!(true), "the page was left");
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn versions_are_told_in_words_and_files_are_loaded_with_what_is_wrong() {
    let desk = bench().await;
    desk.add("bright").await;
    desk.saved().await;
    desk.set("stops, typed", "0.8").await;
    desk.saved().await;
    desk.page.goto(&format!("{}/recipes", desk.base)).await.unwrap();
    desk.until("document.querySelector('#versions')?.innerText.includes('Exposure: stops 0.3 → 0.8')").await;
    // Back to the second version, which becomes the newest.
    desk.click("#versions button").await;
    desk.until("document.querySelector('#versions').innerText.includes('Exposure: stops 0.8 → 0.3')").await;
    assert_eq!(desk.kept().await["steps"][0]["stops"], json!(0.3));

    // A label and a note are found again.
    let labels = desk.find("#labels").await;
    labels.send_keys(&format!("course, web{}", char::from(Key::Tab))).await;
    desk.until("document.querySelector('#list .label')?.innerText === 'course'").await;
    let search = desk.find("#search").await;
    search.send_keys("nothing like this").await;
    desk.until("document.querySelector('#list').innerText.includes('No recipe has all of these words')")
        .await;
    search.clear().await;
    search.send_keys("course bright").await;
    desk.until("document.querySelectorAll('#list li button').length === 1").await;

    // A file of several, one of them broken: the good one is there, of the other it is said what and where.
    let file = desk.folder.path().join("several.json");
    let text = json!({"format": "rallo-recipes", "version": 1, "recipes": [
        {"format": "rallo-recipe", "version": 1, "name": "Good one", "steps": [{"step": "grey"}]},
        {"format": "rallo-recipe", "version": 1, "name": "Broken", "steps": [{"step": "exposure", "stops": 99}]}]});
    std::fs::write(&file, text.to_string()).unwrap();
    desk.find("#load").await.send_keys(&file.to_string_lossy()).await;
    desk.until("document.querySelector('#loaded').innerText.includes('Broken was not loaded')").await;
    let said = desk.text("#loaded").await;
    assert!(said.contains("recipes[1].steps[0].exposure.stops: expected a number from"), "{said}");
    search.clear().await;
    search.send_keys("good").await;
    desk.until("document.querySelector('#name').innerText === 'Good one'").await;
    std::fs::write(&file, "{ not json").unwrap();
    desk.find("#load").await.send_keys(&file.to_string_lossy()).await;
    desk.until("document.querySelector('#loaded').innerText.includes('line 1, column 3')").await;

    // One of ours to start from.
    search.clear().await;
    desk.script(
        "const s = document.querySelector('#starters'); s.value = '3'; s.dispatchEvent(new Event('change'))",
    )
    .await;
    desk.until("document.querySelector('#name').innerText.startsWith('Course slides')").await;
    search.send_keys("good").await;
    desk.until("document.querySelectorAll('#list li button').length === 1").await;
    desk.click("#list li button").await;
    desk.until("document.querySelector('#name').innerText === 'Good one'").await;

    // The settings sheet is a page of its own, with the sentences and a small before and after.
    let to = desk.find("#print").await.attr("href").await.unwrap();
    desk.page.goto(&format!("{}{to}", desk.base)).await.unwrap();
    desk.until("document.body.dataset.ready === 'yes' && !document.querySelector('#pair').hidden").await;
    assert!(desk.text("main").await.contains("Good one"));
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn results_are_compared_and_proved_on_frames_with_changes_of_their_own() {
    let desk = bench().await;
    desk.add("bright").await;
    desk.set("stops, typed", "1").await;
    desk.saved().await;
    // Side by side both halves are there and differ; the difference alone is dark where nothing is done.
    desk.click("#compare [data-compare=side]").await;
    desk.until("document.querySelector('#tag-before').hidden === false && document.querySelector('#tag-after').hidden === false").await;
    let halves = "const c = document.querySelector('#canvas'); const g = c.getContext('2d'); \
        const at = (x) => { const d = g.getImageData(c.width * x, c.height / 2, 8, 8).data; return d[0] + d[1] + d[2]; }; \
        return [at(0.25), at(0.75)]";
    desk.until("document.querySelector('#stage').dataset.shown > 2").await;
    let both: (f64, f64) = serde_json::from_value(desk.script(halves).await).unwrap();
    assert!(both.1 > both.0 + 20.0, "{both:?}");
    desk.click("#compare [data-compare=difference]").await;
    desk.until("document.querySelector('#tag-after').hidden").await;
    // Without the open line nothing differs from the original.
    desk.script("const s = document.querySelector('#against'); s.value = 'without'; s.dispatchEvent(new Event('change'))").await;
    desk.click("#compare [data-compare=split]").await;
    desk.until("document.querySelector('#tag-before').innerText === 'without the open line'").await;

    // A logo that cannot be used is refused with its reason, and the recipe stays as it was.
    desk.add("logo").await;
    desk.saved().await;
    let file = desk.folder.path().join("logo.svg");
    std::fs::write(&file, "<svg xmlns='http://www.w3.org/2000/svg' width='9' height='9'>\n<script/></svg>")
        .unwrap();
    desk.find("#lines .is-open input[type=file]").await.send_keys(&file.to_string_lossy()).await;
    desk.until("document.querySelector('#said').textContent.includes('This file was not taken: line 2')")
        .await;
    assert_eq!(desk.kept().await["steps"][1], json!({"step": "watermark", "text": "Thistlewick"}));
    // Where noise shows most, at 100 %.
    desk.add("grain").await;
    desk.until("!document.querySelector('#closer').hidden").await;
    desk.click_where("#to-noise", "true").await;
    desk.until("document.querySelector('#zoom .is-on').dataset.zoom === '1'").await;
    for _ in 0..2 {
        desk.click("#undo").await;
    }
    desk.until("document.querySelectorAll('#lines > li').length === 1").await;
    desk.saved().await;

    // The proof: the sample first, others with the reason.
    desk.page.goto(&format!("{}/proof", desk.base)).await.unwrap();
    desk.until("document.querySelectorAll('#list li').length === 3 && document.body.dataset.ready > 0").await;
    let said = desk.text("#list").await;
    assert!(said.contains("the sample") && said.contains("ISO"), "{said}");
    desk.click("#list li button").await;
    desk.until("document.querySelector('#count').innerText === '1 of 3 accepted'").await;
    // One frame is made much darker for itself; that is shown, told before a run, and in its result only.
    let name =
        desk.script("return document.querySelectorAll('#list li')[1].querySelector('b').innerText").await;
    let name = name.as_str().unwrap().to_owned();
    let shown = desk.script("return Number(document.querySelectorAll('#list li')[1].querySelectorAll('canvas')[1].dataset.shown)").await;
    desk.script("const f = document.querySelectorAll('#list li')[1].querySelector('input'); f.value = '-4'; f.dispatchEvent(new Event('change'))").await;
    desk.until(&format!(
        "document.querySelectorAll('#list li')[1].querySelectorAll('canvas')[1].dataset.shown > {shown}"
    ))
    .await;
    desk.until("document.querySelectorAll('#list li')[1].innerText.includes('Own: exposure −4 stops')").await;
    desk.page.goto(&format!("{}/sheet", desk.base)).await.unwrap();
    desk.until(&format!("document.querySelector('#problems').innerText.includes('{name} has its own changes: exposure −4 stops')")).await;
    desk.click("#start").await;
    desk.until("location.pathname.startsWith('/runs/')").await;
    desk.until("document.querySelector('#what').innerText.startsWith('All done: 3 of 3')").await;
    let mean = |name: &str| {
        let level = FileSource::open(&desk.results().join(name)).unwrap().level(0).unwrap();
        let Samples::U8(px) = level.samples() else { panic!() };
        px.iter().map(|v| f64::from(*v)).sum::<f64>() / px.len() as f64
    };
    for i in 1..=3 {
        let one = format!("TN_{i}.jpg");
        assert_eq!(mean(&one) < 90.0, one == name, "{one}: {}", mean(&one));
    }
    desk.page.clone().close().await.unwrap();
}
