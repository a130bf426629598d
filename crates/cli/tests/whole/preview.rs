//! A sequence looked at before it is made: what is shown is what a run makes, and a changed line shows at once.

use crate::common::desk::Desk;
use crate::common::web::{Site, site};
use crate::steady::{FRAMES, SIZE, values, write_frames};
use fantoccini::key::Key;
use serde_json::{Value, json};
use std::path::{Path, PathBuf};
use std::time::Duration;

fn recipe(contrast: f64) -> Value {
    json!({"format": "rallo-recipe", "version": 1, "name": "Look",
        "steps": [{"step": "hold_steady"}, {"step": "blend", "frames": 3}, {"step": "contrast", "amount": contrast}],
        "deliveries": [{"kind": "pictures", "format": "png", "name": "{stem}", "to": "subfolder"}]})
}

/// Looks at the sequence until all of it is made.
fn looked_at(site: &Site, recipe: &Value) -> Value {
    let begun = site.json("POST", "/api/preview", &json!({"recipe": recipe}));
    assert_eq!(begun["frames"].as_array().map(Vec::len), Some(FRAMES), "{begun}");
    let address = format!("/api/preview/{}", begun["key"].as_str().unwrap());
    for _ in 0..600 {
        let state = site.json("GET", &address, &Value::Null);
        if state["decided"] == true && state["made"] == FRAMES {
            return state;
        }
        std::thread::sleep(Duration::from_millis(100));
    }
    panic!("it is never made: {}", site.json("GET", &address, &Value::Null));
}

/// One of its pictures, by the red of every pixel.
fn picture(site: &Site, state: &Value, place: &str, to: &Path) -> Vec<f64> {
    let address = format!("/api/preview/{}/{place}", state["key"].as_str().unwrap());
    let answer = site.ask("GET", &address, &Value::Null);
    assert_eq!(answer.status, 200, "{}", answer.text());
    std::fs::write(to, answer.body).unwrap();
    let (size, values) = values(to);
    assert_eq!(size, SIZE);
    values
}

/// How far two pictures are from each other, away from their edges.
fn apart(a: &[f64], b: &[f64]) -> f64 {
    let inside = (30..450).flat_map(|y| (30..690).map(move |x| y * 720 + x));
    inside.map(|k| (a[k] - b[k]).abs()).sum::<f64>() / (420.0 * 660.0)
}

#[test]
fn what_is_played_is_what_a_run_makes() {
    let folder = tempfile::tempdir().unwrap();
    let shoot = folder.path().join("pictures/shoot");
    write_frames(&shoot);
    let site = site(folder.path(), &[]);
    site.json("POST", "/api/shoots", &json!({"places": [{"path": shoot}]}));
    for _ in 0..100 {
        if site.json("GET", "/api/desk", &Value::Null)["chosen"] == FRAMES {
            break;
        }
        std::thread::sleep(Duration::from_millis(100));
    }
    let state = looked_at(&site, &recipe(20.0));
    assert_eq!((&state["measured"], &state["left_out"]), (&json!(FRAMES), &json!([])), "{state}");

    // What was measured is kept, and the run measures nothing again.
    let measured = || {
        let files = crate::common::files_below(&folder.path().join("data/measurements"));
        files.iter().map(|file| std::fs::read_to_string(file).unwrap().lines().count()).collect::<Vec<_>>()
    };
    assert_eq!(measured(), [FRAMES]);
    let made = site.json("POST", "/api/recipes", &recipe(20.0));
    site.json("PUT", "/api/desk", &json!({"recipe": made["id"]}));
    let started = site.json("POST", "/api/runs", &json!({}));
    site.done(&started["run"]);
    let mut results: Vec<PathBuf> = crate::common::files_below(&shoot);
    results.retain(|path| path.parent() != Some(&shoot) && path.extension().is_some_and(|e| e == "png"));
    results.sort();
    assert_eq!((results.len(), measured()), (FRAMES, vec![FRAMES]));
    let file = folder.path().join("look.jpg");
    for place in [0, 7, 8, 13] {
        let shown = picture(&site, &state, &place.to_string(), &file);
        let (_, result) = values(&results[place]);
        let off = apart(&shown, &result);
        // A JPEG at a low quality, of a picture full of detail.
        assert!(off < 3.0, "frame {place} is shown {off:.2} off what the run made");
        let original = values(&shoot.join(format!("S_{place:02}.png"))).1;
        let untouched = picture(&site, &state, &format!("{place}?untouched=true"), &file);
        assert!(apart(&untouched, &original) < 3.0 && apart(&shown, &original) > 4.0, "frame {place}");
    }
    // Another value of the last line measures nothing again.
    let other = site.json("POST", "/api/preview", &json!({"recipe": recipe(-20.0)}));
    let key = &other["key"];
    assert_ne!(key, &state["key"]);
    assert_eq!(measured(), [FRAMES]);
    let other = looked_at(&site, &recipe(-20.0));
    let (a, b) = (picture(&site, &state, "5", &file), picture(&site, &other, "5", &file));
    assert!(apart(&a, &b) > 4.0, "{}", apart(&a, &b));

    let none = site.ask("GET", "/api/preview/none/0", &Value::Null);
    assert!(none.status == 422 && none.text().contains("begin it again"), "{}", none.text());
    let address = format!("/api/preview/{}/{FRAMES}", state["key"].as_str().unwrap());
    let beyond = site.ask("GET", &address, &Value::Null);
    assert!(
        beyond.status == 422 && beyond.text().contains("the sequence has 14 frames"),
        "{}",
        beyond.text()
    );
}

#[tokio::test]
async fn the_bench_plays_all_frames_and_then_shows_the_sample_as_a_run_makes_it() {
    let desk = Desk::open_with(write_frames).await;
    let shoot = desk.shoot().to_string_lossy().into_owned();
    desk.ask("POST", "/api/shoots", json!({"places": [{"path": shoot}]})).await;
    desk.go("/bench").await;
    desk.until("document.querySelector('#bench').dataset.frame > 0").await;
    desk.add("bright").await;
    desk.until("document.querySelector('#scope path').getAttribute('d').length > 50").await;
    assert_eq!(desk.script("return document.querySelector('#scope-before').hidden").await, true);
    desk.add("hold steady").await;
    desk.saved().await;
    // What the picture is before its lines over time stands in numbers beside what it becomes.
    desk.until("document.querySelector('#scope-before').innerText.includes('before line 2')").await;
    desk.until("document.querySelector('#scope-before path').getAttribute('d').length > 50").await;
    desk.press('h').await;
    desk.until(
        "!document.querySelector('#scope-before canvas').hidden && !document.querySelector('#wave').hidden",
    )
    .await;
    let before = desk.script("return document.querySelector('#stage').dataset.shown").await;
    desk.press('a').await;
    desk.until("document.querySelector('#sequence-preview').dataset.decided === 'true'").await;
    desk.until("document.querySelector('#sequence-preview').dataset.made === '14'").await;
    desk.until("document.querySelector('#sequence-preview').dataset.painted > 5").await;
    desk.until("document.querySelector('.sequence-said').textContent === ''").await;
    // Beside the untouched frame, by the button; from frame to frame by the keyboard.
    desk.click("[data-how=side]").await;
    desk.script("document.querySelector('#sequence-preview').focus()").await;
    let at = "Number(document.querySelector('#sequence-preview').dataset.at)";
    desk.page.active_element().await.unwrap().send_keys(&Key::Right.to_string()).await.unwrap();
    desk.until("document.querySelector('.sequence-foot button').textContent === 'Play'").await;
    let stood = desk.script(&format!("return {at}")).await.as_i64().unwrap();
    desk.page.active_element().await.unwrap().send_keys(&Key::Left.to_string()).await.unwrap();
    desk.until(&format!("{at} === {}", (stood - 1).max(0))).await;
    // A line that is added is in it when the hand rests.
    desk.page.active_element().await.unwrap().send_keys(&Key::Escape.to_string()).await.unwrap();
    desk.until("document.querySelector('#sequence-preview').hidden").await;
    desk.until(&format!(
        "document.querySelector('#stage').dataset.shown !== '{}'",
        before.as_str().unwrap_or_default()
    ))
    .await;
    desk.page.clone().close().await.unwrap();
}
