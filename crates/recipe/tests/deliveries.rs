//! Kinds of deliveries: read, checked, said, and what they ask of a run.

use rallo_recipe::delivery::{KINDS, Passing, Video, What};
use rallo_recipe::schema::schema;
use rallo_recipe::sentence::plain;
use rallo_recipe::{Assembly, FinishingTask, FrameContext, Recipe, ResolveContext};
use serde_json::{Value, json};

fn recipe(deliveries: Value) -> Recipe {
    Recipe::from_value(&document(deliveries)).unwrap()
}

fn document(deliveries: Value) -> Value {
    json!({"format": "rallo-recipe", "version": 1, "name": "Seed beds", "steps": [], "deliveries": deliveries})
}

#[test]
fn every_kind_is_read_written_and_said() {
    let checker = jsonschema::validator_for(&schema()).unwrap();
    for kind in &KINDS {
        // Every value once as it is by itself.
        let mut all = kind.defaults();
        all["kind"] = json!(kind.id);
        let full = document(json!([all]));
        assert!(
            checker.is_valid(&full),
            "{}: {:?}",
            kind.id,
            checker.iter_errors(&full).map(|e| e.to_string()).collect::<Vec<_>>()
        );
        let recipe = Recipe::from_value(&full).unwrap();
        let written = recipe.to_value();
        assert!(checker.is_valid(&written), "{written}");
        assert_eq!(
            Recipe::from_value(&written).unwrap().deliveries[0].values(),
            kind.defaults(),
            "{}",
            kind.id
        );
        let said = plain(&recipe.deliveries[0].parts(&recipe));
        assert!(said.contains("named ") && said.contains("into Seed beds"), "{said}");
        // Parameters and values are the same set.
        let values = kind.defaults();
        let mut names: Vec<&String> = values.as_object().unwrap().keys().collect();
        let mut params: Vec<&str> = kind.params.iter().map(|p| p.name).collect();
        names.sort();
        params.sort_unstable();
        assert_eq!(names, params, "{}", kind.id);
        for param in kind.params {
            param.check(&values[param.name]).unwrap_or_else(|e| panic!("{}: {e}", kind.id));
        }
    }
}

#[test]
fn faults_of_deliveries_have_their_paths() {
    for (delivery, want) in [
        (json!({"kind": "video", "rate": "26"}), "deliveries[0].video.rate: expected one of 12, 15, 23.976"),
        (
            json!({"kind": "video", "size": "custom", "width": 640}),
            "deliveries[0].video.size: custom needs a width and a height",
        ),
        (json!({"kind": "video", "text": "{no}"}), "deliveries[0].video.text: unknown field {no}"),
        (json!({"kind": "frames", "name": "frame"}), "deliveries[0].frames.name: expected {n} in the name"),
        (
            json!({"kind": "pdf", "columns": 0}),
            "deliveries[0].pdf.columns: expected a whole number from 1 to 12",
        ),
        (
            json!({"kind": "video", "fit": "move", "move": []}),
            "deliveries[0].video.move: expected at least one mark",
        ),
        (
            json!({"kind": "video", "move": [[0, 0.5, 0.5, 1], [0.4, 0.5, 0.5, 0.5], [0.4, 0.1, 0.1, 1]]}),
            "deliveries[0].video.move: expected times that rise from mark to mark, got 0.4 after 0.4",
        ),
        (
            json!({"kind": "video", "move": [[0, 0.5, 1.5, 1]]}),
            "deliveries[0].video.move: expected at, x and y from 0 to 1 and a size from 0.02 to 1, got [0, 0.5, 1.5, 1]",
        ),
        (
            json!({"kind": "contact", "pages": 3}),
            "deliveries[0].contact.pages: unknown, contact takes format",
        ),
        (
            json!({"kind": "pictures", "steps": [{"step": "resize", "long_edge": "x"}]}),
            "deliveries[0].steps[0].resize.long_edge: expected a whole number",
        ),
        (
            json!({"kind": "pictures", "steps": [{"step": "exposure", "ask": ["stops"]}]}),
            "deliveries[0].steps[0].exposure: lines of a delivery",
        ),
    ] {
        let error = Recipe::from_value(&document(json!([delivery]))).unwrap_err().to_string();
        assert!(error.starts_with(want), "{error}");
    }
    // Numbers are taken for choices that look like numbers.
    let taken = recipe(json!([{"kind": "video", "rate": 24, "bits": 10}]));
    assert_eq!(taken.deliveries[0].values()["rate"], "24");
}

#[test]
fn a_clip_shows_the_frames_it_says() {
    let video = |values: Value| {
        let mut all = values;
        all["kind"] = json!("video");
        let FinishingTask::Assembly(Assembly::Video(video)) = recipe(json!([all])).tasks().remove(0).1 else {
            panic!()
        };
        video
    };
    assert_eq!(video(json!({})).order(4), [0, 1, 2, 3]);
    assert_eq!(video(json!({"speed": 2})).order(6), [1, 3, 5]);
    assert_eq!(video(json!({"speed": 0.5})).order(3), [0, 0, 1, 1, 2, 2]);
    assert_eq!(video(json!({"length": 0.2, "rate": "25"})).order(10), [1, 3, 5, 7, 9]);
    assert_eq!(video(json!({"hold_first": 0.08, "hold_last": 0.12})).order(2), [0, 0, 0, 1, 1, 1, 1]);
    assert_eq!(video(json!({"backwards": true})).order(3), [2, 1, 0]);
    // Twice as fast all the way is the same however it is said; where the speed changes, so does how long frames stand.
    assert_eq!(
        video(json!({"speeds": [[0, 2], [1, 2]]})).arrivals(8),
        video(json!({"speed": 2})).arrivals(8)
    );
    let slowing = video(json!({"speeds": [[0, 4], [1, 0.25]]})).order(60);
    let shown = |frames: std::ops::Range<usize>| slowing.iter().filter(|k| frames.contains(k)).count();
    // The speed 4^(1 - 2p) takes (16^p - 1) / (4 ln 16) until p: a quarter of the way 5.4 frames' time, the last quarter 43.3.
    assert_eq!((shown(0..15), shown(45..60), slowing.len()), (5, 43, 81));
    assert!(video(json!({})).order(0).is_empty());
    // A window travels in the clip's time, and stands while a frame is held.
    let moving = json!({"fit": "move", "move": [[0, 0.5, 0.5, 1], [1, 0.5, 0.5, 0.25]], "ease": "even", "speed": 0.5, "hold_first": 0.08});
    let clip = video(moving.clone());
    let sizes = |frame: usize| -> Vec<(f64, usize)> {
        clip.windows(frame, 3).into_iter().map(|(w, n)| ((w.size * 1e6).round() / 1e6, n)).collect()
    };
    assert_eq!(clip.order(3), [0, 0, 0, 0, 1, 1, 2, 2]);
    let at = |j: i32| (0.25f64.powf(f64::from(j) / 5.0) * 1e6).round() / 1e6;
    assert_eq!(sizes(0), [(1.0, 3), (at(1), 1)]);
    assert_eq!(sizes(1), [(at(2), 1), (at(3), 1)]);
    assert_eq!(sizes(2), [(at(4), 1), (0.25, 1)]);
    assert_eq!((clip.fresh(3), clip.nearest()), (6, 0.25));
    let mut back = moving;
    back["backwards"] = json!(true);
    let back = video(back);
    assert_eq!(back.windows(2, 3), clip.windows(0, 3));
    assert!(video(json!({"speed": 0.5})).windows(0, 3).is_empty());
    assert_eq!((video(json!({"speed": 0.5})).fresh(3), video(json!({})).nearest()), (3, 1.0));
    let said = |values: Value| {
        let recipe = recipe(json!([values]));
        plain(&recipe.deliveries[0].parts(&recipe))
    };
    let words = said(json!({"kind": "video", "fit": "move"}));
    assert!(words.contains("a window moves from 60 % to 100 % of the frame (soft)"), "{words}");
    let clip = video(json!({"rate": "23.976", "times": 3}));
    assert_eq!(clip.rate(), (24_000, 1001));
    assert!((clip.seconds(240) - 240.0 * 1001.0 / 24_000.0 * 3.0).abs() < 1e-9);
    for (purpose, codec, ending) in [
        ("share", "H.264", "mp4"),
        ("small", "H.265", "mp4"),
        ("web", "VP9", "webm"),
        ("edit", "intra 4:2:2", "mov"),
        ("keep", "FFV1", "mkv"),
        ("loop", "WebP", "webp"),
    ] {
        let clip = video(json!({ "purpose": purpose }));
        assert_eq!((clip.codec(), Assembly::Video(clip.clone()).ending()), (codec, ending));
    }
}

#[test]
fn own_sizes_are_settled_by_the_first_picture() {
    let first = ResolveContext::nth(FrameContext { width: 3001, height: 2001, ..FrameContext::default() }, 1);
    let settled = recipe(
        json!([{"kind": "video", "size": "own"}, {"kind": "frames"}, {"kind": "frames", "size": "720p"}]),
    )
    .settled(&first);
    let sizes: Vec<Value> = settled
        .deliveries
        .iter()
        .map(|d| json!([d.values()["size"], d.values()["width"], d.values()["height"]]))
        .collect();
    assert_eq!(
        sizes,
        [json!(["custom", 3000, 2000]), json!(["custom", 3000, 2000]), json!(["720p", null, null])]
    );
    // A line of its own counts.
    let turned =
        recipe(json!([{"kind": "frames", "steps": [{"step": "rotate", "turn": "left"}]}])).settled(&first);
    assert_eq!(turned.deliveries[0].values()["width"], 2000);
}

#[test]
fn a_course_pack_is_frames_a_clip_and_a_document() {
    let pack = recipe(json!([{"kind": "course", "seconds": 3, "per_page": "6", "resolution": 120}]));
    assert_eq!(pack.files().len(), 1);
    assert_eq!(pack.files()[0].1.dpi, Some(120));
    let tasks: Vec<&str> = pack.tasks().iter().map(|(_, t)| t.word()).collect();
    assert_eq!(tasks, ["clip", "document", "page of the course pack"]);
    let FinishingTask::Assembly(Assembly::Video(clip)) = &pack.tasks()[0].1 else { panic!() };
    assert_eq!(clip.order(2).len(), 150);
    let What::Course(_) = pack.deliveries[0].what else { panic!() };
}

#[test]
fn what_lies_between_frames_is_told_by_shares_of_the_way() {
    let clip = |more: Value| {
        let mut all = json!({"kind": "video", "between": "motion", "rate": "12"});
        all.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        let FinishingTask::Assembly(Assembly::Video(video)) = recipe(json!([all])).tasks().remove(0).1 else {
            panic!()
        };
        video
    };
    let shares = |clip: &Video, count: usize| -> Vec<Vec<f64>> {
        let of = |passing: Vec<Passing>| passing.iter().map(|passing| passing.share).collect();
        clip.arrivals(count).into_iter().map(of).collect()
    };
    let half = clip(json!({"speed": 0.5}));
    assert_eq!(shares(&half, 3), [vec![1.0], vec![0.5, 1.0], vec![0.5, 1.0, 1.0]]);
    assert_eq!(half.order(3).len(), 6);
    let held = clip(json!({"speed": 2.0, "hold_first": 0.2}));
    assert_eq!(shares(&held, 4), [vec![1.0, 1.0, 1.0], vec![], vec![1.0], vec![]]);
    // Every clip has as many frames as it is long, whatever its speed, and they come in order.
    for speed in [0.13, 0.4, 0.75, 1.0, 1.3, 7.0] {
        for count in [1, 2, 5, 40] {
            let clip = clip(json!({"speed": speed, "hold_last": 0.3}));
            let arrivals = shares(&clip, count);
            let shown: Vec<f64> = arrivals
                .iter()
                .enumerate()
                .flat_map(|(at, shares)| shares.iter().map(move |share| at as f64 - 1.0 + share))
                .collect();
            assert_eq!(shown.len(), clip.order(count).len(), "{count} at {speed}");
            assert!(shown.is_sorted() && (shown[0] >= 0.0), "{shown:?}");
            assert!(Assembly::Video(clip).needs(count).iter().all(|needed| *needed));
        }
    }
    assert!(half.arrivals(0).is_empty());
    // A window goes on moving between frames, in the clip's own time.
    let moving = clip(json!({"speed": 0.5, "fit": "move", "hold_first": 0.2, "ease": "even",
        "move": [[0, 0.5, 0.5, 1], [1, 0.5, 0.5, 0.5]]}));
    let at: Vec<f64> = moving.arrivals(3).into_iter().flatten().map(|passing| passing.at).collect();
    assert_eq!(at, [0.0, 0.0, 0.0, 0.2, 0.4, 0.6, 0.8, 1.0]);
}
