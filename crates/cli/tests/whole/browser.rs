//! The real interface in a real browser: a recipe is recorded through the page, run, and its files looked at.

use crate::common::desk::*;
use crate::common::*;
use fantoccini::key::Key;
use rallo_engine::Source;
use rallo_media::FileSource;
use serde_json::json;
use std::time::Duration;

#[tokio::test(flavor = "multi_thread")]
async fn a_recipe_is_recorded_run_and_its_files_are_those_of_the_command_line() {
    let mut desk = Desk::open().await;
    desk.choose().await;
    desk.click("#to-bench").await;
    desk.until("document.querySelector('#stage')?.dataset.shown > 0").await;

    desk.add("bright").await;
    desk.set("stops, typed", "0.35").await;
    desk.add("warm").await;
    desk.set("temperature, typed", "6").await;
    desk.set("tint, typed", "-2").await;
    desk.add("curve").await;
    desk.set("Points, in and out", "0 0, 0.25 0.21, 0.75 0.8, 1 1").await;
    desk.add("vivid").await;
    desk.add("horizon").await;
    desk.set("degrees, typed", "1.2").await;
    desk.add("16:9").await;
    desk.add("400").await;
    desk.add("sharp").await;
    desk.set("amount, typed", "80").await;
    desk.add("logo").await;
    desk.saved().await;
    let want = [
        "Make it 0.35 stops brighter.",
        "White 6 warmer and 2 greener.",
        "Curve through 4 points.",
        "Colours 8 stronger.",
        "Straighten by 1.2°.",
        "Crop to 16:9, centre.",
        "Long edge 400 pixels.",
        "Unsharp mask 80, radius 0.2 px, from 2 % on.",
        "Write Thistlewick bottom right, size 12 px, 60 % strong.",
    ];
    assert_eq!(desk.sentences().await, want);

    // A reload loses nothing.
    desk.page.refresh().await.unwrap();
    desk.until("document.querySelectorAll('#lines > li').length === 9").await;
    desk.until("document.querySelector('#lines').innerText.includes('12 px')").await;
    assert_eq!(desk.sentences().await, want);

    // The run sheet, by keyboard.
    desk.page.goto(&format!("{}/sheet", desk.base)).await.unwrap();
    desk.until("document.querySelector('#what').innerText.startsWith('3 pictures')").await;
    assert!(desk.text("#names").await.contains("400 × 225"));
    desk.find("#start").await.send_keys(&String::from(char::from(Key::Enter))).await;
    desk.until("location.pathname.startsWith('/runs/')").await;
    desk.until("document.querySelector('#what').innerText.startsWith('All done: 3 of 3')").await;
    desk.until("document.querySelectorAll('#results img').length === 3").await;
    desk.until("!document.querySelector('#stamp').hidden").await;

    // The same recipe from the command line gives the same bytes.
    let recipe: serde_json::Value = serde_json::from_value(
        desk.page
            .execute_async(
                "const done = arguments[0]; fetch('/api/recipes').then((r) => r.json()).then(done)",
                vec![],
            )
            .await
            .unwrap(),
    )
    .unwrap();
    let file = desk.folder.path().join("recorded.json");
    std::fs::write(&file, recipe[0]["document"].to_string()).unwrap();
    let out = desk.folder.path().join("out");
    let done = rallo(&[
        "run",
        &file.to_string_lossy(),
        "--from",
        &desk.shoot().to_string_lossy(),
        "--to",
        &out.to_string_lossy(),
    ]);
    assert!(done.status.success(), "{done:?}");
    for i in 1..=3 {
        let page = desk.results().join(format!("TN_{i}.jpg"));
        let line = out.join(format!("TN_{i}.jpg"));
        assert!(std::fs::read(&page).unwrap() == std::fs::read(&line).unwrap(), "{} differs", page.display());
        let size = FileSource::open(&page).unwrap().size();
        assert_eq!((size.width, size.height), (400, 225));
    }

    // Killed and started again, the program still knows its runs; the results are there and skipped.
    drop(desk.server.take());
    let (server, base) = serve(desk.folder.path(), desk.port);
    desk.server = Some(server);
    desk.page.goto(&format!("{base}/sheet")).await.unwrap();
    desk.until(
        "document.querySelector('#problems').innerText.includes('3 results are there already, made by this recipe')",
    )
    .await;
    desk.click("#start").await;
    desk.until("document.querySelector('#results')?.innerText.includes('was there already')").await;
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn values_are_dragged_stepped_and_taken_back_and_tools_work_on_the_picture() {
    let desk = Desk::open().await;
    desk.choose().await;
    desk.click("#to-bench").await;
    desk.until("document.querySelector('#stage')?.dataset.shown > 0").await;

    // A chip follows the hand, one decision per gesture.
    desk.add("bright").await;
    desk.drag("#lines [data-param=stops]", (0.5, 0.5), (2.5, 0.5)).await;
    desk.saved().await;
    let dragged = desk.sentences().await[0].clone();
    assert_ne!(dragged, "Make it 0.3 stops brighter.");
    // Arrow keys step it.
    desk.page.execute("document.querySelector('#lines [data-param=stops]').focus()", vec![]).await.unwrap();
    desk.press(char::from(Key::Up)).await;
    desk.until(&format!(
        "document.querySelector('#lines .words').innerText.replace(/\\s+/g, ' ') !== '{dragged}'"
    ))
    .await;
    desk.click("#undo").await;
    desk.until(&format!(
        "document.querySelector('#lines .words').innerText.replace(/\\s+/g, ' ') === '{dragged}'"
    ))
    .await;
    desk.click("#undo").await;
    desk.until("document.querySelector('#lines .words').innerText.includes('0.3 ')").await;
    desk.click("#redo").await;
    desk.until("!document.querySelector('#lines .words').innerText.includes('0.3 ')").await;

    // A horizon drawn 5 degrees down to the right is turned back by 5 degrees.
    desk.add("horizon").await;
    desk.until("!document.querySelector('#hint').hidden").await;
    let (_, _, width, height) = desk.find("#stage").await.rectangle().await;
    let drop = 0.4 * width * 5f64.to_radians().tan() / height;
    desk.drag("#stage", (0.3, 0.5), (0.7, 0.5 + drop)).await;
    desk.until("/Straighten by −(4\\.[89]|5)/.test(document.querySelector('#lines').innerText)").await;

    // A crop's corner, dragged inwards on the picture.
    desk.add("square").await;
    desk.click_on("#lines .row-acts button", "Crop on the picture").await;
    desk.until("document.querySelector('#overlay .grip')").await;
    desk.drag("#overlay .grip", (0.5, 0.5), (-10.0, -10.0)).await;
    desk.until("document.querySelector('#lines').innerText.match(/\\d %\\s+of it/)").await;

    // A line is switched off and removed by keyboard. The ticket is drawn anew after each answer of the server,
    // so keys go to whatever has the focus.
    desk.page.execute("document.querySelector('#lines > li').focus()", vec![]).await.unwrap();
    desk.press('x').await;
    desk.until("document.querySelector('#lines > li').classList.contains('is-off')").await;
    desk.saved().await;
    desk.press(char::from(Key::Delete)).await;
    desk.until("document.querySelectorAll('#lines > li').length === 2").await;

    // At 200 % the engine is asked for the part that is shown, at full scale.
    desk.page.execute("document.activeElement.blur()", vec![]).await.unwrap();
    desk.click("#zoom [data-zoom='2']").await;
    desk.until("document.querySelector('#zoom [data-zoom=\"2\"]').classList.contains('is-on')").await;

    // A wrong name template is said, and what was there stays saved.
    let chip = "#goes [data-param=name]";
    desk.click(chip).await;
    desk.find("#goes input.chip").await;
    // The field opens with its text selected: typing replaces it.
    for key in "{stam}".chars() {
        desk.press(key).await;
    }
    desk.press(char::from(Key::Enter)).await;
    desk.until("document.querySelector('#said').textContent.includes('unknown field {stam}')").await;
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn frames_are_selected_by_keyboard_and_the_rail_says_so_everywhere() {
    let desk = Desk::open().await;
    desk.choose().await;
    let grid = desk.find("#grid").await;
    grid.send_keys(&format!(" {} ", char::from(Key::Right))).await;
    desk.until("document.querySelector('#count').innerText.includes('2 selected')").await;
    desk.until("document.querySelector('#run-button').innerText.includes('2 frames')").await;
    tokio::time::sleep(Duration::from_millis(600)).await;
    desk.page.goto(&format!("{}/bench", desk.base)).await.unwrap();
    assert!(desk.text(".rail").await.contains("2 selected"));
    // Folders outside the allowed ones are refused, and so is a request without the page's token.
    let script = "const done = arguments[0]; Promise.all([fetch('/api/folders?path=/etc').then((r) => r.status), \
                  fetch('/api/desk', { method: 'PUT', body: '{}', headers: { 'content-type': 'application/json' } }).then((r) => r.status)]).then(done)";
    assert_eq!(desk.page.execute_async(script, vec![]).await.unwrap(), json!([403, 403]));
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn areas_conditions_and_orders_are_set_on_the_bench() {
    let desk = Desk::open().await;
    desk.choose().await;
    desk.page.goto(&format!("{}/bench", desk.base)).await.unwrap();
    desk.find("#ask").await;
    // An order that works against the person is said, and mended with one click.
    desk.add("sharp").await;
    desk.add("noise").await;
    desk.until("document.querySelector('.advice')?.innerText.includes('works better before line 1')").await;
    desk.click(".advice button").await;
    desk.until("!document.querySelector('.advice') && document.querySelector('#lines > li').innerText.startsWith('Denoise')").await;
    // A line is held to an ellipse drawn on the picture, and to high ISO.
    desk.add("bright").await;
    desk.click("#lines .is-open .where summary").await;
    let choose = "const s = document.querySelector('#lines .is-open .where select'); s.value = 'ellipse'; \
        s.dispatchEvent(new Event('change'))";
    desk.page.execute(choose, vec![]).await.unwrap();
    desk.until("document.querySelector('#lines .is-open').innerText.includes('in an ellipse')").await;
    desk.until("document.querySelector('#overlay ellipse')").await;
    desk.drag("#stage", (0.6, 0.4), (0.75, 0.55)).await;
    desk.set("Only for pictures where", "iso at least many").await;
    desk.until("document.querySelector('#said').textContent.includes('expected a number')").await;
    let fix = "const w = document.querySelector('#lines .is-open [aria-label=\"Only for pictures where\"]'); \
        w.value = 'iso at least 1600'; w.dispatchEvent(new Event('change'))";
    desk.page.execute(fix, vec![]).await.unwrap();
    desk.until("document.querySelector('#lines .is-open').innerText.includes('where iso at least 1600')")
        .await;
    desk.saved().await;
    let script = "const done = arguments[0]; fetch('/api/recipes').then((r) => r.json()).then(done)";
    let recipes = desk.page.execute_async(script, vec![]).await.unwrap();
    let line = &recipes[0]["document"]["steps"][2];
    assert_eq!((line["step"].clone(), line["when"].clone()), ("exposure".into(), "iso at least 1600".into()));
    assert_eq!(line["area"][0]["kind"], "ellipse");
    assert!(line["area"][0]["radii"][0] != 0.25, "the drawn ellipse was not taken: {line}");
}
