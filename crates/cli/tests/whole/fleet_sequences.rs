//! Sequences on several machines: frames that are measured, laid on each other and joined in time, and files of working values.

use crate::common::broker::{Broker, makers};
use crate::common::desk::Held;
use crate::common::place::{Place, files};
use serde_json::{Value, json};

/// What becomes of a recipe where two others make all pictures; it is what one machine makes of it.
fn made_by_two(place: &Place, recipe: &Value) -> Value {
    std::fs::write(place.path("web.json"), recipe.to_string()).unwrap();
    let known = place.undisturbed();
    let broker = Broker::start();
    let _server = broker.serve(place, &["--leave-pictures"]);
    let _workers = ["first", "second"].map(|name| Held(broker.worker(place, name)));
    broker.until_helped_by(place, 2);
    let run = place.add("web.json", "pictures/out", &[]);
    let report = place.done(&run);
    assert_eq!(report["failed"].as_i64(), Some(0), "{report}");
    let got = files(&place.path("pictures/out"));
    assert!(got.keys().eq(known.keys()), "{:?}\n{:?}", got.keys(), known.keys());
    let other: Vec<_> = got.iter().filter(|(name, bytes)| known[*name] != **bytes).map(|(n, _)| n).collect();
    assert!(other.is_empty(), "{other:?} have other bytes");
    report
}

#[test]
fn frames_that_are_measured_and_joined_in_time_are_made_in_stretches_by_others() {
    let place = Place::new(150, 300, 200);
    let recipe = json!({"format": "rallo-recipe", "version": 1, "name": "Calm",
        "steps": [{"step": "deflicker"}, {"step": "hold_steady", "edges": "fill"}, {"step": "blend", "frames": 4}],
        "deliveries": [{"kind": "pictures", "long_edge": 120, "format": "png"}]});
    let report = made_by_two(&place, &recipe);
    // Each made long stretches: hardly ever does the next picture come from somebody else.
    let all = makers(&report);
    assert_eq!(all.len(), 150);
    let items = report["items"].as_array().unwrap();
    let by_place: Vec<&str> = items.iter().map(|i| i["outputs"][0]["made_by"].as_str().unwrap()).collect();
    let changes = by_place.windows(2).filter(|two| two[0] != two[1]).count();
    assert!(all.first() != all.last() && changes < 40, "{changes} changes in {by_place:?}");
}

#[test]
fn a_clip_through_which_a_window_moves_and_a_picture_of_all_are_joined_from_what_others_made() {
    let place = Place::new(6, 400, 300);
    let recipe = json!({"format": "rallo-recipe", "version": 1, "name": "Joined",
        "steps": [{"step": "exposure", "stops": 0.2}],
        "deliveries": [{"kind": "video", "fit": "move", "length": 2, "size": "720p"}, {"kind": "stack", "by": "mean", "format": "png", "name": "all"}]});
    let report = made_by_two(&place, &recipe);
    assert_eq!(report["done"].as_i64(), Some(8), "{report}");
}
