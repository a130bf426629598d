//! Every control on the picture and on the ticket: by mouse, by finger and by keyboard, with what it does to the pixels.

use crate::common::desk::*;
use fantoccini::actions::{InputSource, PointerAction, TouchActions};
use fantoccini::key::Key;
use serde_json::{Value, json};
use std::time::Duration;

impl Desk {
    /// The lines as they are kept.
    async fn steps(&self) -> Value {
        self.saved().await;
        let text = "const done = arguments[0]; fetch('/api/recipes').then((r) => r.json()).then((all) => done(all[0].document.steps))";
        self.page.execute_async(text, vec![]).await.unwrap()
    }

    /// A number for all pixels of the stage as they are drawn, once nothing is on its way.
    async fn pixels(&self) -> u64 {
        let text = "const c = document.querySelector('#canvas'); const d = c.getContext('2d').getImageData(0, 0, c.width, c.height).data; \
                    let s = 7; for (let i = 0; i < d.length; i++) s = (s * 31 + d[i]) % 4294967291; return s";
        let mut last = 0;
        loop {
            let now = self.script(text).await.as_u64().unwrap();
            if now == last {
                return now;
            }
            last = now;
            tokio::time::sleep(Duration::from_millis(700)).await;
        }
    }

    /// Clicks a button of the open line.
    async fn act(&self, label: &str) {
        self.click_on("#lines .is-open .row-acts button", label).await;
    }

    async fn press_all(&self, keys: &[Key]) {
        for key in keys {
            self.press(char::from(*key)).await;
        }
    }

    /// Shows the result alone, so that a change is a change of its pixels.
    async fn alone(&self) {
        self.click_where("#compare [data-compare=after]", "true").await;
    }
}

const RIGHT: [Key; 6] = [Key::Right; 6];

#[tokio::test(flavor = "multi_thread")]
async fn tools_on_the_picture_follow_mouse_and_keyboard() {
    let desk = Desk::open().await;
    desk.choose().await;
    desk.click("#to-bench").await;
    desk.until("document.querySelector('#stage')?.dataset.shown > 0").await;
    desk.alone().await;
    // What to type, the tool's button (those without one start by themselves), and drags that do something.
    type Drags = &'static [((f64, f64), (f64, f64))];
    let all: [(&str, Option<&str>, Drags); 7] = [
        ("4:5", Some("Crop on the picture"), &[((0.5, 0.5), (0.4, 0.5))]),
        ("horizon", None, &[((0.3, 0.5), (0.7, 0.55))]),
        ("perspective", None, &[((0.35, 0.2), (0.3, 0.8)), ((0.6, 0.2), (0.65, 0.8))]),
        ("dust", None, &[((0.4, 0.4), (0.42, 0.4))]),
        ("graduated", Some("Draw it on the picture"), &[((0.5, 0.1), (0.5, 0.9))]),
        ("white balance", Some("Pick a neutral spot"), &[((0.3, 0.3), (0.3, 0.3))]),
        ("logo", Some(""), &[((0.8, 0.8), (0.5, 0.5))]),
    ];
    for (word, tool, drags) in all {
        desk.add(word).await;
        if word == "graduated" {
            desk.set("stops, typed", "-2").await;
        }
        let fresh = (desk.steps().await, desk.pixels().await);
        let tool = tool.filter(|t| !t.is_empty());
        if let Some(tool) = tool {
            desk.act(tool).await;
        }
        for (from, to) in drags {
            desk.drag("#stage", *from, *to).await;
        }
        if tool.is_some() && word != "white balance"
            || word == "horizon"
            || word == "perspective"
            || word == "dust"
        {
            desk.act("Show the result").await;
        }
        desk.until("document.querySelector('#hint').hidden").await;
        let by_mouse = (desk.steps().await, desk.pixels().await);
        assert_ne!(by_mouse.0, fresh.0, "{word}: the mouse wrote nothing down");
        assert_ne!(by_mouse.1, fresh.1, "{word}: the picture does not follow the mouse");

        // The same by keys: a mark is moved, takes hold, is moved on and lets go.
        let button = match (tool, word) {
            (Some(tool), _) => Some(tool),
            (None, "horizon") => Some("Draw the horizon"),
            (None, "perspective") => Some("Draw lines on the picture"),
            (None, "dust") => Some("Click on the spots"),
            _ => None,
        };
        match button {
            Some(button) => desk.act(button).await,
            None => drop(desk.script("document.querySelector('#stage').focus()").await),
        }
        desk.until("document.activeElement.id === 'stage'").await;
        desk.press_all(&RIGHT).await;
        desk.until("document.querySelector('#overlay .cross')").await;
        desk.press_all(&[Key::Enter]).await;
        if word != "white balance" {
            desk.until("document.querySelector('#overlay .cross.is-held')").await;
            desk.press_all(&[Key::Down, Key::Down, Key::Left]).await;
            desk.press_all(&[Key::Down; 6]).await;
        }
        desk.press_all(&[Key::Enter]).await;
        if button.is_some() && word != "white balance" {
            desk.act("Show the result").await;
        }
        // The neutral spot is asked for; its answer ends the tool.
        desk.until("document.querySelector('#hint').hidden").await;
        let by_keys = (desk.steps().await, desk.pixels().await);
        assert_ne!(by_keys.0, by_mouse.0, "{word}: the keys wrote nothing down");
        assert_ne!(by_keys.1, by_mouse.1, "{word}: the picture does not follow the keys");
        // Away with it; the next one starts from the plain picture.
        desk.act("Remove").await;
        desk.until("document.querySelectorAll('#lines > li').length === 0").await;
    }
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_finger_moves_the_crop_and_escape_gives_up() {
    let desk = Desk::open().await;
    desk.choose().await;
    desk.click("#to-bench").await;
    desk.until("document.querySelector('#stage')?.dataset.shown > 0").await;
    desk.add("square").await;
    desk.act("Crop on the picture").await;
    desk.until("document.querySelector('#overlay .frame')").await;
    let before = desk.steps().await;
    let (x, y, w, h) = desk.find("#stage").await.rectangle().await;
    let at = |u: f64, v: f64| PointerAction::MoveTo {
        duration: Some(Duration::from_millis(50)),
        x: x + w * u,
        y: y + h * v,
    };
    let finger = TouchActions::new("finger".into())
        .then(at(0.5, 0.5))
        .then(PointerAction::Down { button: 0 })
        .then(at(0.45, 0.5))
        .then(at(0.4, 0.5))
        .then(PointerAction::Up { button: 0 });
    desk.page.perform_actions(finger).await.unwrap();
    desk.until("document.querySelector('#lines').innerText.includes('top left')").await;
    let moved = desk.steps().await;
    assert_ne!(moved, before);
    // Taken hold of by key, moved, given up: as it was.
    desk.script("document.querySelector('#stage').focus()").await;
    desk.press_all(&[Key::Enter, Key::Right, Key::Right, Key::Escape]).await;
    assert_eq!(desk.steps().await[0]["right"], moved[0]["right"]);
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn discs_curve_and_ends_are_set_and_what_is_clipped_is_shown() {
    let desk = Desk::open().await;
    desk.choose().await;
    desk.click("#to-bench").await;
    desk.until("document.querySelector('#stage')?.dataset.shown > 0").await;
    desk.alone().await;

    // A disc pulled up is towards red; arrow keys go on from there and keep the focus.
    desk.add("balance").await;
    let plain = desk.pixels().await;
    desk.drag("#lines .disc-box:nth-child(2) .disc", (0.5, 0.51), (0.5, 0.25)).await;
    let steps = desk.steps().await;
    let mid: [f64; 3] = serde_json::from_value(steps[0]["midtones"].clone()).unwrap();
    assert!(mid[0] > 20.0 && mid[1] < -10.0 && mid[2] < -10.0, "{mid:?}");
    let red = desk.pixels().await;
    let before: [f64; 3] = serde_json::from_value(steps[0]["highlights"].clone()).unwrap();
    assert_ne!(red, plain);
    desk.script("document.querySelectorAll('#lines .disc-dot')[2].focus()").await;
    desk.press_all(&[Key::Left]).await;
    desk.saved().await;
    desk.until("document.activeElement.classList.contains('disc-dot')").await;
    desk.press_all(&[Key::Left]).await;
    desk.until("document.activeElement.classList.contains('disc-dot')").await;
    let steps = desk.steps().await;
    let high: [f64; 3] = serde_json::from_value(steps[0]["highlights"].clone()).unwrap();
    assert!(
        high[2] > before[2] + 3.0 && high[1] < before[1] - 3.0 && (high[0] - before[0]).abs() < 2.5,
        "{high:?}"
    );
    assert_ne!(desk.pixels().await, red);
    desk.press_all(&[Key::Delete]).await;
    desk.until("!document.querySelector('#lines .words').innerText.includes('highlights')").await;

    // Mixed half, the picture lies between; mixed nothing, it is the plain one.
    let full = desk.pixels().await;
    desk.script("document.querySelector('#lines .is-open .where').open = true").await;
    desk.set("mix, typed", "50").await;
    assert_eq!(desk.steps().await[0]["mix"], json!(50));
    let half = desk.pixels().await;
    assert!(half != full && half != plain);
    desk.set("mix, typed", "0").await;
    desk.saved().await;
    let starter = desk.pixels().await;
    desk.script("document.querySelectorAll('#lines .is-open .row-acts button').forEach((b) => b.innerText === 'Switch off' && b.click())").await;
    desk.until("document.querySelector('#lines > li').classList.contains('is-off')").await;
    assert_eq!(desk.pixels().await, starter, "mixed to nothing is not the same as off");
    desk.script("document.querySelectorAll('#lines .is-open .row-acts button').forEach((b) => b.innerText === 'Switch on' && b.click())").await;

    // A point of the curve by mouse and by key.
    desk.add("curve").await;
    let before = desk.pixels().await;
    desk.drag("#lines .curve", (0.5, 0.5), (0.5, 0.5)).await;
    desk.drag("#lines .curve circle:nth-of-type(2)", (0.5, 0.5), (0.5, -3.0)).await;
    let by_mouse = (desk.steps().await, desk.pixels().await);
    assert_ne!(by_mouse.1, before);
    desk.script("document.querySelectorAll('#lines .curve circle')[1].focus()").await;
    desk.press_all(&[Key::Down, Key::Down, Key::Down]).await;
    let by_keys = (desk.steps().await, desk.pixels().await);
    assert!(by_keys.0 != by_mouse.0 && by_keys.1 != by_mouse.1);

    // While white is being moved, what is clipped is shown; by key as long as wanted.
    let picture = desk.pixels().await;
    desk.add("white point").await;
    desk.script(
        "const r = document.querySelector('#lines .is-open input[type=range]'); r.value = 20; r.dispatchEvent(new Event('input'))",
    )
    .await;
    let faded = "const c = document.querySelector('#canvas'); const d = c.getContext('2d').getImageData(c.width / 2, c.height / 2, 40, 40).data; \
                 let n = 0; for (let i = 0; i < d.length; i += 4) n += Math.abs(d[i] - d[i + 1]) < 12 && Math.abs(d[i] - d[i + 2]) < 12; return n / (d.length / 4) > 0.5";
    desk.until(&format!("(() => {{ {faded} }})()")).await;
    desk.script(
        "document.querySelector('#lines .is-open input[type=range]').dispatchEvent(new Event('change'))",
    )
    .await;
    desk.script("document.activeElement.blur()").await;
    let ends = desk.pixels().await;
    desk.press('k').await;
    desk.until("document.querySelector('#clip-button').getAttribute('aria-pressed') === 'true'").await;
    assert_ne!(desk.pixels().await, ends);
    desk.press('k').await;
    assert_eq!(desk.pixels().await, ends);
    assert_ne!(ends, picture);

    // Without the open line, as long as a key is held; what one picture costs is said.
    let hold = |kind: &str| {
        format!("document.dispatchEvent(new KeyboardEvent('{kind}', {{ key: 'n', bubbles: true }}))")
    };
    desk.script(&hold("keydown")).await;
    assert_eq!(desk.pixels().await, picture);
    desk.script(&hold("keyup")).await;
    assert_eq!(desk.pixels().await, ends);
    desk.until("/a picture: [0-9.]+ s, [0-9]+ kB/.test(document.querySelector('#data').innerText)").await;
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_used_last_is_there_next_time_and_a_run_is_repeated_with_one_key() {
    let desk = Desk::open().await;
    desk.choose().await;
    desk.page.goto(&format!("{}/bench", desk.base)).await.unwrap();
    desk.find("#ask").await;
    desk.page.execute("document.activeElement.blur()", vec![]).await.unwrap();
    // Nothing has run yet: said, and nothing starts.
    desk.script("document.dispatchEvent(new KeyboardEvent('keydown', { key: 'R' }))").await;
    desk.until("document.querySelector('#said').textContent.includes('nothing has run yet')").await;
    desk.add("320").await;
    desk.add("bright").await;
    desk.set("stops, typed", "1.2").await;
    desk.saved().await;
    desk.page.goto(&format!("{}/sheet", desk.base)).await.unwrap();
    desk.until("!document.querySelector('#start').disabled").await;
    desk.click_where("#start", "true").await;
    desk.until("document.querySelector('#what')?.innerText.startsWith('All done: 3 of 3')").await;

    // A new recipe: the size is as used last, the exposure starts afresh, the delivery is where results went.
    desk.page.goto(&format!("{}/bench", desk.base)).await.unwrap();
    desk.until("document.querySelectorAll('#lines > li').length === 2").await;
    desk.click_where("#fresh", "true").await;
    desk.until("document.querySelectorAll('#lines > li').length === 0 && document.querySelector('#stage').dataset.shown > 0").await;
    desk.add("smaller").await;
    desk.add("bright").await;
    assert_eq!(
        desk.steps().await,
        json!([{"step": "resize", "long_edge": 320}, {"step": "exposure", "stops": 0.3}])
    );

    // Another selection, and the last run's recipe on it at once, whatever lies on the bench.
    desk.page.goto(&format!("{}/frames", desk.base)).await.unwrap();
    desk.until("document.querySelectorAll('.fr').length === 3").await;
    let grid = desk.find("#grid").await;
    grid.send_keys(" ").await;
    desk.until("document.querySelector('#count').innerText.includes('1 selected')").await;
    desk.until("document.querySelector('#run-button').innerText.includes('1 frame')").await;
    tokio::time::sleep(Duration::from_millis(600)).await;
    for file in std::fs::read_dir(desk.results()).unwrap() {
        std::fs::remove_file(file.unwrap().path()).unwrap();
    }
    grid.send_keys("R").await;
    desk.until("document.querySelector('#said').textContent.includes('Run 2 is started: ')").await;
    desk.page.goto(&format!("{}/runs/2", desk.base)).await.unwrap();
    desk.until("document.querySelector('#what')?.innerText.startsWith('All done: 1 of 1')").await;
    let made: Vec<_> = std::fs::read_dir(desk.results()).unwrap().collect();
    assert_eq!(made.len(), 1);
    desk.page.clone().close().await.unwrap();
}
