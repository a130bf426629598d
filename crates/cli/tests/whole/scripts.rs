//! What the pages compute by themselves, in a browser and without their pages: values that are typed, the curve that is
//! drawn against the one the engine computes, where a picture lies on the viewer's stage.

use crate::common::desk::*;
use rallo_engine::{
    Orientation, OutputProfile, Picture, Pixels, Plan, Pyramid, Samples, Settings, Size, step_kind,
};
use serde_json::{Value, json};

/// Runs a script that may wait, with modules of the pages; what it returns.
async fn in_page(desk: &Desk, script: &str, with: Value) -> Value {
    let text = format!(
        "const [given, done] = arguments; (async () => {{ {script} }})().then(done, (e) => done('fault: ' + e + e.stack))"
    );
    let found = desk.page.execute_async(&text, vec![with]).await.unwrap();
    assert!(!found.as_str().is_some_and(|s| s.starts_with("fault: ")), "{found}");
    found
}

#[tokio::test(flavor = "multi_thread")]
async fn the_pages_compute_what_the_program_does() {
    let desk = Desk::open().await;
    typed_values(&desk).await;
    times_and_sizes(&desk).await;
    the_curve_is_the_engines(&desk).await;
    places_on_the_stage(&desk).await;
    desk.page.clone().close().await.unwrap();
}

/// What people type, and the value it stands for; nothing where it makes no sense, which is said as "none".
async fn typed_values(desk: &Desk) {
    let number = json!({"kind": "number", "min": -5, "max": 5, "step": 0.1});
    let whole = json!({"kind": "whole", "min": 1, "max": 100});
    let triple = json!({"kind": "triple", "min": -100, "max": 100, "step": 1});
    let of = |kind: &str| json!({ "kind": kind });
    let rows = json!({"kind": "rows", "names": ["x", "y", "size"]});
    let cases = json!([
        [number, "0.5", 0.5],
        [number, " 1,25 ", 1.25],
        [number, "−2", -2],
        [number, "3 %", 3],
        [number, "+0.7 EV", 0.7],
        [number, "99", 5],
        [number, "-99", -5],
        [number, "", "none"],
        [number, "bright", "none"],
        [number, "1.2.3", "none"],
        [whole, "12", 12],
        [whole, "12.6", 13],
        [whole, "0", 1],
        [whole, "1000", 100],
        [whole, "", null],
        [whole, "a lot", "none"],
        [of("pair"), "1600 × 900", [1600, 900]],
        [of("pair"), "1600x900", [1600, 900]],
        [of("pair"), "1600", "none"],
        [of("pair"), "", null],
        [of("window"), "10 20 300 200", [10, 20, 300, 200]],
        [of("window"), "10, 20, 300", "none"],
        [of("window"), "", null],
        [triple, "1 −2 3.5", [1, -2, 3.5]],
        [triple, "200 0 0", [100, 0, 0]],
        [triple, "1 2", "none"],
        [of("spot"), "0.25 0.75", [0.25, 0.75]],
        [of("spot"), "0.25", "none"],
        [of("words"), "pots, thyme & sage ,, mint", ["pots", "thyme & sage", "mint"]],
        [of("words"), "", []],
        [rows, "0.1 0.2 0.01; 0.5, 0.6, 0.02", [[0.1, 0.2, 0.01], [0.5, 0.6, 0.02]]],
        [rows, "0.1 0.2", "none"],
        [rows, "", []],
        [of("text"), "  as it is ", "as it is"],
        [of("colour"), "#ffffff", "#ffffff"],
    ]);
    let script = "const { parse, shown } = await import('/assets/app/values.js'); \
        return given.map(([param, text]) => { const v = parse(param, text); \
            const again = v === undefined ? v : parse(param, shown(v, param.kind)); \
            return [v === undefined ? 'none' : v, JSON.stringify(v) === JSON.stringify(again)]; });";
    let found = in_page(desk, script, cases.clone()).await;
    for (case, found) in cases.as_array().unwrap().iter().zip(found.as_array().unwrap()) {
        let same = match (case[2].as_f64(), found[0].as_f64()) {
            (Some(a), Some(b)) => (a - b).abs() < 1e-12,
            _ => numbers(&case[2]) == numbers(&found[0]) && case[2].is_null() == found[0].is_null(),
        };
        assert!(same, "{case}: {found}");
        // As it is shown, it is typed again.
        assert_eq!(found[1], true, "{case}");
    }
}

/// A value with all numbers alike, whether they came as whole ones or not.
fn numbers(value: &Value) -> Value {
    match value {
        Value::Array(all) => all.iter().map(numbers).collect(),
        Value::Number(n) => json!(n.as_f64()),
        other => other.clone(),
    }
}

async fn times_and_sizes(desk: &Desk) {
    let script = "const { duration } = await import('/assets/app/api.js'); const { seconds } = await import('/assets/frames/grid.js'); \
        return [[0.2, 42.4, 89, 95, 5000, 5500, 40000].map(duration), [null, 0.004, 0.25, 0.4, 1.5, 30].map(seconds)];";
    let found = in_page(desk, script, Value::Null).await;
    let times = [
        "about a second",
        "about 42 seconds",
        "about 89 seconds",
        "about 2 minutes",
        "about 83 minutes",
        "about 1.5 hours",
        "about 11.1 hours",
    ];
    assert_eq!(found[0], json!(times));
    assert_eq!(found[1], json!([null, "1/250 s", "1/4 s", "0.4 s", "1.5 s", "30 s"]));
}

/// What the engine's curve makes of every value of eight bits, as shares of white.
fn engines(points: &Value) -> Vec<f64> {
    let ramp = (0..=255u8).flat_map(|v| [v; 3]).collect();
    let size = Size::new(256, 1);
    let picture = Picture::new(size, Samples::U8(ramp), Orientation::from_exif(1), None).unwrap();
    let values = json!({ "all": points });
    let step = step_kind("curve").unwrap().parse(values.as_object().unwrap()).unwrap();
    let plan = Plan::new(vec![Settings::from(step)], size).unwrap();
    let out = plan
        .program(1.0)
        .render_16(&Pyramid::new(picture), size.rect(), OutputProfile::Srgb.colour())
        .unwrap();
    let Pixels::U16(out) = out.pixels else { panic!() };
    out.chunks(3).map(|p| f64::from(p[1]) / 65_535.0).collect()
}

async fn the_curve_is_the_engines(desk: &Desk) {
    // The path's pieces have their points at thirds, so a place along one is its share of it.
    let script = "const { curvePlot } = await import('/assets/bench/controls/curve.js'); \
        return given.map((points) => { \
            const d = curvePlot(points, () => '', () => {}).querySelector('path[fill=none]').getAttribute('d'); \
            const n = d.match(/-?[0-9.]+/g).map(Number); const p = []; \
            for (let i = 0; i < n.length; i += 2) p.push([n[i] / 270, 1 - n[i + 1] / 150]); \
            const [first, ...rest] = p.slice(1, -1); const last = rest.at(-1) ?? first; \
            return [...Array(256).keys()].map((v) => { const x = v / 255; \
                if (x <= first[0]) return first[1]; if (x >= last[0]) return last[1]; \
                const all = [first, ...rest]; \
                for (let i = 0; i + 3 < all.length; i += 3) { const [a, b, c, e] = all.slice(i, i + 4); \
                    if (x > e[0]) continue; const t = (x - a[0]) / (e[0] - a[0]); const s = 1 - t; \
                    return s * s * s * a[1] + 3 * s * s * t * b[1] + 3 * s * t * t * c[1] + t * t * t * e[1]; } }); });";
    let curves = json!([
        [[0, 0], [1, 1]],
        [[0, 0.1], [1, 0.8]],
        [[0, 0], [0.25, 0.15], [0.75, 0.86], [1, 1]],
        [[0, 0], [0.1, 0.4], [0.2, 0.42], [0.9, 0.5], [1, 1]],
        [[0.2, 0], [0.5, 0.7], [0.8, 1]],
        [[0, 1], [0.5, 0.3], [1, 0]],
        [[0, 0], [0.3, 0.6], [0.6, 0.2], [1, 1]],
    ]);
    let found = in_page(desk, script, curves.clone()).await;
    for (points, drawn) in curves.as_array().unwrap().iter().zip(found.as_array().unwrap()) {
        let computed = engines(points);
        for (v, (drawn, computed)) in drawn.as_array().unwrap().iter().zip(&computed).enumerate() {
            let drawn = drawn.as_f64().unwrap();
            // A tenth of a pixel of the plot, and what the engine's table is coarse by.
            assert!((drawn - computed).abs() < 0.006, "{points} at {v}: drawn {drawn}, computed {computed}");
        }
    }
}

async fn places_on_the_stage(desk: &Desk) {
    let script = "const { Viewer } = await import('/assets/viewer/viewer.js'); const found = []; \
        const stage = document.createElement('div'); stage.append(document.createElement('canvas')); document.body.append(stage); \
        for (const [width, height, w, h, zoom, cx, cy, side] of given) { \
            stage.style.cssText = `position:fixed;left:0;top:0;width:${width}px;height:${height}px`; \
            const viewer = new Viewer(stage, () => ({ size: [w, h] }), () => {}); \
            viewer.zoom = zoom; viewer.centre = [cx, cy]; viewer.compare = side ? 'side' : 'split'; \
            const p = viewer.place(); const view = viewer.view(); \
            const middle = viewer.share(p.left + p.width / 2, p.height / 2); const twin = viewer.share(p.width / 2, p.height / 2); \
            found.push({ p, view, middle, twin, dots: devicePixelRatio }); } \
        stage.remove(); return found;";
    let mut cases = Vec::new();
    for (w, h) in [(6000, 4000), (1200, 1800), (300, 200), (1, 1), (9000, 500)] {
        for zoom in [json!("fit"), json!(1), json!(2), json!(3)] {
            for (cx, cy) in [(0.5, 0.5), (0.0, 1.0), (0.93, 0.2)] {
                for side in [false, true] {
                    cases.push(json!([870, 640, w, h, zoom, cx, cy, side]));
                }
            }
        }
    }
    let found = in_page(desk, script, json!(cases)).await;
    for (case, found) in cases.iter().zip(found.as_array().unwrap()) {
        let n =
            |at: &str| found.pointer(at).and_then(Value::as_f64).unwrap_or_else(|| panic!("{at}: {found}"));
        let (w, h) = (case[2].as_f64().unwrap(), case[3].as_f64().unwrap());
        let (zoom, left, width, height) = (n("/p/zoom"), n("/p/left"), n("/p/width"), n("/p/height"));
        // The middle of the stage is one place of the picture, on both sides where there are two.
        let want = ((left + width / 2.0 - n("/p/x")) / (w * zoom), (height / 2.0 - n("/p/y")) / (h * zoom));
        for side in if left > 0.0 { &["middle", "twin"][..] } else { &["middle"] } {
            let got = (n(&format!("/{side}/0")), n(&format!("/{side}/1")));
            assert!((got.0 - want.0).abs() < 1e-9 && (got.1 - want.1).abs() < 1e-9, "{side} {case}: {found}");
        }
        // It never leaves a gap where there is more of it.
        for (at, from, room, side) in [("/p/x", left, width, w * zoom), ("/p/y", 0.0, height, h * zoom)] {
            let start = n(at) - from;
            if side <= room {
                assert!((start - (room - side) / 2.0).abs() < 1e-9, "in the middle: {at} {case}: {found}");
            } else {
                assert!(start <= 1e-9 && start + side >= room - 1e-9, "{at} {case}: {found}");
            }
        }
        // The server is told of the same window, in the screen's own pixels.
        let dots = n("/dots");
        assert_eq!((n("/view/room/0"), n("/view/room/1")), (width * dots, height * dots), "{case}: {found}");
        assert_eq!(
            (Some(n("/view/centre/0")), Some(n("/view/centre/1"))),
            (case[5].as_f64(), case[6].as_f64())
        );
        match case[4].as_f64() {
            Some(zoom) => assert_eq!(n("/view/zoom"), zoom),
            None => assert!(found["view"]["zoom"].is_null() && zoom * dots <= 1.0),
        }
    }
}
