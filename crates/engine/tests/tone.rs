//! What every step of light must keep: grey stays grey, a fine ramp stays fine, and values are relative to the picture.

use rallo_engine::*;
use serde_json::{Value, json};

fn settings(id: &str, values: Value) -> Settings {
    Settings::from(step_kind(id).unwrap().parse(values.as_object().unwrap()).unwrap())
}

/// Steps that change tones but no colour, with values that do something.
fn tones() -> Vec<(&'static str, Value)> {
    vec![
        ("exposure", json!({"stops": -0.7})),
        ("levels", json!({"black": 5, "white": 92, "middle": 1.3})),
        ("end_points", json!({"black": 40, "white": -40})),
        ("contrast", json!({"amount": 40})),
        ("curve", json!({"all": [[0, 0.02], [0.3, 0.2], [0.7, 0.8], [1, 1]]})),
        ("shadows_highlights", json!({"shadows": 60, "highlights": -50})),
        ("local_contrast", json!({"amount": 60})),
        ("vignette", json!({"stops": -1.5})),
        ("graduated_filter", json!({"stops": 1, "contrast": 20})),
        ("auto_range", json!({"strength": 100})),
        ("auto_contrast", json!({"strength": 100})),
        ("unsharp_mask", json!({"amount": 100})),
        ("gentle_saturation", json!({"amount": 80})),
        ("saturation", json!({"amount": 80})),
        ("grey", json!({"red": 80})),
        ("hot_pixels", json!({"strength": 100})),
    ]
}

fn rendered(steps: Vec<Settings>, picture: Picture) -> Vec<u16> {
    let source = Pyramid::new(picture);
    let program = Plan::for_picture(steps, &source).unwrap().program(1.0);
    match program.render_16(&source, program.size().rect(), OutputProfile::Srgb.colour()).unwrap().pixels {
        Pixels::U16(v) => v,
        _ => unreachable!(),
    }
}

/// A grey ramp of 16 bits across 4096 columns.
fn ramp() -> Picture {
    let (w, h) = (4096u32, 24u32);
    let px = (0..w * h).flat_map(|i| [(6000 + (i % w) * 13) as u16; 3]).collect();
    Picture::new(Size::new(w, h), Samples::U16(px), Orientation::UPRIGHT, None).unwrap()
}

#[test]
fn grey_stays_grey_and_a_fine_ramp_stays_fine() {
    for (id, values) in tones() {
        let out = rendered(vec![settings(id, values)], ramp());
        let row = &out[12 * 4096 * 3..13 * 4096 * 3];
        for p in row.as_chunks::<3>().0 {
            let (low, high) = (p.iter().min().unwrap(), p.iter().max().unwrap());
            assert!(high - low <= 24, "{id}: {p:?} is not grey");
        }
        // No step of the ramp becomes a band's edge: none is larger than four times its neighbourhood's mean.
        let green: Vec<i32> = row.as_chunks::<3>().0.iter().map(|p| i32::from(p[1])).collect();
        for at in (64..4032).step_by(1) {
            let mean = f64::from(green[at + 32] - green[at - 32]).abs() / 64.0;
            let own = f64::from((green[at + 1] - green[at]).abs());
            assert!(own <= 4.0 * mean + 6.0, "{id} at {at}: a jump of {own}, {mean} around it");
        }
    }
}

/// A scene drawn by formula at any size.
fn scene(side: u32) -> Picture {
    let n = side as f32;
    let px = (0..side * side)
        .flat_map(|i| {
            let (x, y) = ((i % side) as f32 / n, (i / side) as f32 / n);
            let disc = if (x - 0.35).hypot(y - 0.4) < 0.2 { 0.35 } else { 0.0 };
            let wave = 0.08 * (x * 60.0).sin() * (y * 45.0).cos();
            let v = 0.15 + 0.5 * x * y + disc + wave;
            [v, v * 0.9 + 0.03, v * 0.7 + 0.1 * y].map(|v| (v.clamp(0.0, 1.0) * 255.0) as u8)
        })
        .collect();
    Picture::new(Size::new(side, side), Samples::U8(px), Orientation::UPRIGHT, None).unwrap()
}

#[test]
fn one_recipe_looks_the_same_on_a_small_square_and_at_24_megapixels() {
    let steps = || {
        let mut curve = settings("curve", json!({"all": [[0, 0], [0.4, 0.55], [1, 1]]}));
        let area = json!({"kind": "ellipse", "centre": [0.6, 0.6], "radii": [0.3, 0.2]});
        curve.area = Some(std::sync::Arc::new(Area::read(&area).unwrap()));
        vec![
            settings("shadows_highlights", json!({"shadows": 50, "highlights": -30})),
            settings("local_contrast", json!({"amount": 40})),
            curve,
            settings("unsharp_mask", json!({"amount": 60, "radius": 2})),
            settings("vignette", json!({"stops": -1})),
            settings("watermark", json!({"text": "Thistlewick", "size": 6})),
            settings("border", json!({"width": 4, "below": 3})),
        ]
    };
    let bytes = |side: u32, scale: f64| {
        let source = Pyramid::new(scene(side));
        let program = Plan::for_picture(steps(), &source).unwrap().program(scale);
        let out = program.render(&source, program.size().rect(), OutputProfile::Srgb.colour()).unwrap();
        match out.pixels {
            Pixels::U8(v) => (program.size(), v),
            _ => unreachable!(),
        }
    };
    let (large_size, large) = bytes(4896, 1.0);
    let (small_size, small) = bytes(1224, 1.0);
    // The mean of 4 × 4.
    let (lw, sw) = (large_size.width as usize, small_size.width as usize);
    let (mut sum, mut count, mut worst) = (0.0, 0.0, 0f64);
    for y in 0..small_size.height.min(large_size.height / 4) as usize {
        for x in 0..sw.min(lw / 4) {
            for c in 0..3 {
                let all = (0..16).map(|k| u32::from(large[((4 * y + k / 4) * lw + 4 * x + k % 4) * 3 + c]));
                let off = (f64::from(all.sum::<u32>()) / 16.0 - f64::from(small[(y * sw + x) * 3 + c])).abs();
                sum += off;
                worst = worst.max(off);
                count += 1.0;
            }
        }
    }
    assert!(sum / count < 0.8, "mean difference {} of 255, at most {worst}", sum / count);
}
