//! Colours through every profile and back, against the difference formula of the CIE.

use moxcms::{ColorProfile, Layout, RenderingIntent, TransformOptions};
use rallo_engine::*;

/// CIEDE2000 (ISO/CIE 11664-6), in degrees as published.
fn difference(one: [f64; 3], two: [f64; 3]) -> f64 {
    let chroma = |p: [f64; 3]| p[1].hypot(p[2]);
    let seven = |c: f64| (c.powi(7) / (c.powi(7) + 25f64.powi(7))).sqrt();
    let grow = 1.5 - 0.5 * seven((chroma(one) + chroma(two)) / 2.0);
    let (a, b) = ([one[0], one[1] * grow, one[2]], [two[0], two[1] * grow, two[2]]);
    let (ca, cb) = (chroma(a), chroma(b));
    let hue = |p: [f64; 3]| p[2].atan2(p[1]).to_degrees().rem_euclid(360.0);
    let (ha, hb) = (hue(a), hue(b));
    let grey = ca * cb == 0.0;
    let mut dh = if grey { 0.0 } else { hb - ha };
    if dh > 180.0 {
        dh -= 360.0;
    } else if dh < -180.0 {
        dh += 360.0;
    }
    let (dl, dc) = (b[0] - a[0], cb - ca);
    let dhue = 2.0 * (ca * cb).sqrt() * (dh.to_radians() / 2.0).sin();
    let (l, c) = ((a[0] + b[0]) / 2.0, (ca + cb) / 2.0);
    let h = match () {
        () if grey => ha + hb,
        () if (ha - hb).abs() <= 180.0 => (ha + hb) / 2.0,
        () if ha + hb < 360.0 => (ha + hb + 360.0) / 2.0,
        () => (ha + hb - 360.0) / 2.0,
    };
    let cos = |degrees: f64| degrees.to_radians().cos();
    let t = 1.0 - 0.17 * cos(h - 30.0) + 0.24 * cos(2.0 * h) + 0.32 * cos(3.0 * h + 6.0)
        - 0.2 * cos(4.0 * h - 63.0);
    let turn = 30.0 * (-((h - 275.0) / 25.0).powi(2)).exp();
    let sl = 1.0 + 0.015 * (l - 50.0).powi(2) / (20.0 + (l - 50.0).powi(2)).sqrt();
    let (sc, sh) = (1.0 + 0.045 * c, 1.0 + 0.015 * c * t);
    let rt = -(2.0 * turn).to_radians().sin() * 2.0 * seven(c);
    let (x, y, z) = (dl / sl, dc / sc, dhue / sh);
    (x * x + y * y + z * z + rt * y * z).sqrt()
}

#[test]
fn the_formula_gives_its_published_pairs() {
    // G. Sharma, W. Wu, E. N. Dalal, "The CIEDE2000 color-difference formula", 2005, table 1.
    for (one, two, want) in [
        ([50.0, 2.6772, -79.7751], [50.0, 0.0, -82.7485], 2.0425),
        ([50.0, 2.49, -0.001], [50.0, -2.49, 0.0009], 7.1792),
        ([60.2574, -34.0099, 36.2677], [60.4626, -34.1751, 39.4387], 1.2644),
        ([2.0776, 0.0795, -1.135], [0.9033, -0.0636, -0.5514], 0.9082),
    ] {
        assert!((difference(one, two) - want).abs() < 1e-4, "{one:?}");
    }
}

/// A picture of every fifth sRGB value, and the same as Lab by the colour library.
fn colours() -> (Picture, Vec<[f64; 3]>) {
    let mut px = Vec::new();
    for r in (0..=255).step_by(15) {
        for g in (0..=255).step_by(15) {
            for b in (0..=255).step_by(15) {
                px.extend([r as u8, g as u8, b as u8]);
            }
        }
    }
    let lab = lab_of(&ColorProfile::new_srgb(), &px.iter().map(|v| u16::from(*v) * 257).collect::<Vec<_>>());
    let size = Size::new(18, (px.len() / 54) as u32);
    (Picture::new(size, Samples::U8(px), Orientation::UPRIGHT, None).unwrap(), lab)
}

/// Samples of a profile as Lab, by the colour library.
fn lab_of(profile: &ColorProfile, samples: &[u16]) -> Vec<[f64; 3]> {
    let options =
        TransformOptions { rendering_intent: RenderingIntent::RelativeColorimetric, ..Default::default() };
    let samples: Vec<f32> = samples.iter().map(|v| f32::from(*v) / 65_535.0).collect();
    let xyz_like = ColorProfile::new_aces_aces_2065_1_linear();
    let transform = profile.create_transform_f32(Layout::Rgb, &xyz_like, Layout::Rgb, options).unwrap();
    let mut linear = vec![0f32; samples.len()];
    transform.transform(&samples, &mut linear).unwrap();
    let m = xyz_like.colorant_matrix();
    let white = [0.9642, 1.0, 0.8249];
    let f = |t: f64| if t > 216.0 / 24389.0 { t.cbrt() } else { (24389.0 / 27.0 * t + 16.0) / 116.0 };
    linear
        .as_chunks::<3>()
        .0
        .iter()
        .map(|p| {
            let xyz: [f64; 3] =
                std::array::from_fn(|r| (0..3).map(|c| m.v[r][c] * f64::from(p[c])).sum::<f64>() / white[r]);
            let [x, y, z] = xyz.map(f);
            [116.0 * y - 16.0, 500.0 * (x - y), 200.0 * (y - z)]
        })
        .collect()
}

#[test]
fn colours_go_through_every_profile_and_come_back() {
    let (picture, want) = colours();
    let source = Pyramid::new(picture.clone());
    for (name, profile) in OutputProfile::ALL {
        let kind = step_kind("convert_profile").unwrap();
        let values = serde_json::json!({"profile": name});
        let step = Settings::from(kind.parse(values.as_object().unwrap()).unwrap());
        let plan = Plan::for_picture(vec![step], &source).unwrap();
        let colours = plan.colours().unwrap();
        assert_eq!(colours.icc, profile.colour().icc, "{name}");
        let program = plan.program(1.0);
        let out = program.render_16(&source, program.size().rect(), &colours).unwrap();
        let Pixels::U16(samples) = out.pixels else { panic!() };
        // What another program sees in the file, by its embedded profile.
        let seen = lab_of(&ColorProfile::new_from_slice(&colours.icc).unwrap(), &samples);
        let most = seen.iter().zip(&want).map(|(a, b)| difference(*a, *b)).fold(0.0, f64::max);
        assert!(most < 0.5, "{name}: a colour moved by ΔE00 {most}");
        // And back in through that profile.
        let back =
            Picture::new(picture.size(), Samples::U16(samples), Orientation::UPRIGHT, Some(&colours.icc));
        let back = Pyramid::new(back.unwrap());
        let again = Plan::for_picture(Vec::new(), &back).unwrap().program(1.0);
        let out = again.render(&back, again.size().rect(), OutputProfile::Srgb.colour()).unwrap();
        let (Pixels::U8(out), Samples::U8(first)) = (out.pixels, picture.samples()) else { panic!() };
        let off = out.iter().zip(first).map(|(a, b)| a.abs_diff(*b)).max().unwrap();
        assert!(off <= 1, "{name}: a sample came back off by {off}");
    }
}
