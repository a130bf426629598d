//! What the learned way makes of camera raw that shows nothing but a flat field, or a ramp: light it keeps, and no bands.

use rallo_engine::ops::denoise::{Strength, Way};
use rallo_engine::raw::{
    Calibration, CameraColour, Look, Mosaic, MosaicDenoise, Pattern, Raw, RawView, Sensor, SensorNoise,
};
use rallo_engine::{Orientation, Rect, Size};
use std::sync::Arc;

const WIDE: usize = 512;
const HIGH: usize = 128;
const NEUTRAL: [f64; 3] = [0.5, 1.0, 0.7];

/// Twelve even numbers make a nearly normal one.
fn chance(place: u64) -> f32 {
    (0..12u64)
        .map(|k| {
            let mut z = (place * 12 + k).wrapping_mul(0x9e37_79b9_7f4a_7c15);
            z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
            z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
            ((z ^ (z >> 31)) >> 40) as f32 / (1u64 << 24) as f32
        })
        .sum::<f32>()
        - 6.0
}

/// Grey light behind the filters of a camera whose primaries are the working space's own, denoised.
fn denoised(noise: SensorNoise, light: impl Fn(usize) -> f32) -> Vec<[f32; 3]> {
    let to_camera = [
        [1.716_651_2, -0.355_670_8, -0.253_366_3],
        [-0.666_684_4, 1.616_481_2, 0.015_768_5],
        [0.017_639_9, -0.042_770_6, 0.942_103_1],
    ];
    let to_camera = std::array::from_fn(|r| std::array::from_fn(|c| to_camera[r][c] * NEUTRAL[r]));
    let calibration = Calibration { kelvin: 6504.0, to_camera, forward: None };
    let camera =
        CameraColour { calibrations: vec![calibration], neutral: NEUTRAL, baseline: 0.0, table: None };
    let pattern = Pattern::new(2, 2, &[0, 1, 1, 2]).unwrap();
    let values = (0..WIDE * HIGH).map(|i| {
        let (x, y) = (i % WIDE, i / WIDE);
        let counted = light(x) * NEUTRAL[usize::from(pattern.at(x, y))] as f32;
        counted + chance(i as u64) * (noise.shot * counted + noise.read).sqrt()
    });
    let size = Size::new(WIDE as u32, HIGH as u32);
    let mosaic = Mosaic::new(size, pattern.clone(), values.collect()).unwrap();
    let raw = Arc::new(Raw::new(Sensor::Mosaic(mosaic), camera.clone(), Some(noise)));
    let view = RawView { raw, camera, look: Look::default(), orientation: Orientation::from_exif(1) };
    assert!(view.is_learned());
    let strength = Strength { light: 1.0, colour: 1.0, detail: 0.5 };
    let whole = Rect::new(0, 0, WIDE as i64, HIGH as i64);
    view.denoised(whole, MosaicDenoise { strength, way: Way::Learned }).unwrap()
}

/// The mean of a column and its colour, away from the ends.
fn column(pixels: &[[f32; 3]], x: usize) -> [f64; 3] {
    let rows = 24..HIGH - 24;
    let count = rows.len() as f64;
    std::array::from_fn(|c| rows.clone().map(|y| f64::from(pixels[y * WIDE + x][c])).sum::<f64>() / count)
}

#[test]
fn a_flat_field_keeps_its_light() {
    for noise in [SensorNoise { shot: 2e-4, read: 2e-7 }, SensorNoise { shot: 4e-3, read: 4e-5 }] {
        for light in [0.05f32, 0.2, 0.6] {
            let pixels = denoised(noise, |_| light);
            let columns = (24..WIDE - 24).map(|x| column(&pixels, x));
            let count = (WIDE - 48) as f64;
            let mean = columns.fold([0.0; 3], |sum, one| std::array::from_fn(|c| sum[c] + one[c] / count));
            for value in mean {
                let off = value / f64::from(light) - 1.0;
                assert!(off.abs() < 0.02, "{noise:?}, light {light}: {mean:?}");
            }
        }
    }
}

#[test]
fn a_ramp_gets_no_bands() {
    let light = |x: usize| 0.1 + 0.5 * x as f32 / WIDE as f32;
    let pixels = denoised(SensorNoise { shot: 2e-4, read: 2e-7 }, light);
    for x in 24..WIDE - 40 {
        let (here, there) = (column(&pixels, x), column(&pixels, x + 16));
        let known = f64::from(light(x + 16) - light(x));
        for c in 0..3 {
            let rise = there[c] - here[c];
            assert!((rise / known - 1.0).abs() < 0.35, "at {x} it rises by {rise} and not {known}");
        }
    }
}
