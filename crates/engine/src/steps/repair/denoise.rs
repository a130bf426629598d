//! Denoise: takes out noise as strong, and as coarse, as it is measured in the picture.
//!
//! The methods and their papers are in `denoise/`. Works on sRGB-encoded values, at full size before anything else
//! changes the noise. On a reduced picture the same noise is taken for weaker by the reduction.

use crate::geometry::Rect;
use crate::ops::denoise::cut::uncut;
use crate::ops::denoise::{Noise, Planes, Strength, Way, blocks, learned, sliding, together};
use crate::raw::{MosaicDenoise, RawView};
use crate::step::{Effect, Kind, Op, Place, Step, View, Wants, WholeOp, step, values_of};
use rayon::prelude::*;
use serde_json::Value;
use std::sync::Arc;

step! {
    /// Takes out noise, measured in the picture by lightness and frequency, brightness and colour noise
    /// each with its own strength. Learned knows from drawn scenes what cameras' noise looks like,
    /// thorough compares blocks all over the neighbourhood, quick looks at every block alone. Belongs
    /// first, before anything that sharpens or raises contrast.
    pub struct Denoise {
        id: "denoise",
        title: "Denoise",
        group: "repair",
        words: [
            "noise", "denoise", "noisy", "grainy", "grain", "iso", "smooth", "blotches", "speckle",
            "night",
        ],
        neutral: r#"{"brightness": 0, "colour": 0}"#,
        starter: r#"{"method": "auto"}"#,
        facts: {
            expensive: true,
            once: Some("denoised"),
            judged_at_full_size: true,
            effects: &[Effect::RemovesNoise],
            starts_as_last_time: true,
        },
    }
    parameters {
        /// Auto takes the way that was measured to be best: learned for the noise of cameras and on what a sensor counted,
        /// thorough for white noise and behind filters that are not 2 × 2.
        method: String = "auto".into(), Kind::Choice(&["auto", "learned", "thorough", "quick"]);
        /// Strength against brightness noise; 50 takes out what was measured.
        brightness: f64 = 50.0, Kind::Number { min: 0.0, max: 100.0, step: 1.0 };
        /// Strength against colour noise; 50 takes out what was measured.
        colour: f64 = 50.0, Kind::Number { min: 0.0, max: 100.0, step: 1.0 };
        /// How much faint detail is kept, at the price of some noise; 50 is even-handed.
        detail: f64 = 50.0, Kind::Number { min: 0.0, max: 100.0, step: 1.0 };
        /// 0: measured in every picture. Otherwise the noise's deviation, of 255, taken for white.
        level: f64 = 0.0, Kind::Number { min: 0.0, max: 100.0, step: 0.5 };
    }
    measured {
        noise: Option<Arc<Noise>> = None;
        raw: Option<Arc<RawView>> = None;
    }
}

impl Denoise {
    fn way(&self) -> Way {
        match self.method.as_str() {
            "quick" => Way::Quick,
            "thorough" => Way::Thorough,
            "auto" if self.noise.as_ref().is_some_and(|noise| noise.is_white()) => Way::Thorough,
            _ => Way::Learned,
        }
    }
    /// On what a sensor counted its noise is known; whether it looks white in the picture says nothing.
    fn way_on_raw(&self) -> Way {
        if self.method == "auto" { Way::Learned } else { self.way() }
    }
    fn strength(&self, scale: f32) -> Strength {
        Strength {
            light: (self.brightness / 50.0) as f32 * scale,
            colour: (self.colour / 50.0) as f32 * scale,
            detail: (self.detail / 100.0) as f32,
        }
    }
}

impl Step for Denoise {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        let level = if self.level > 0.0 { ", noise {level}" } else { "" };
        format!(
            "Denoise, {{method}}: brightness {{brightness}}, colour {{colour}}, keep detail {{detail}}{level}."
        )
    }
    fn note(&self) -> Option<String> {
        let is_auto = self.method == "auto";
        let words = match (&self.raw, &self.noise) {
            (Some(raw), _) if raw.is_learned() && (is_auto || self.method == "learned") => {
                "On what the sensor counted, the learned way, colours filled in with it."
            }
            (Some(_), _) if is_auto || self.method == "learned" => {
                "On what the sensor counted, the thorough way."
            }
            (None, Some(noise)) if is_auto && noise.is_white() => "White noise: the thorough way.",
            (None, Some(_)) if is_auto => "A camera's noise: the learned way.",
            _ => return None,
        };
        Some(words.into())
    }
    fn wants(&self) -> Wants {
        let nothing = self.level > 0.0 || (self.brightness == 0.0 && self.colour == 0.0);
        if nothing { Wants::Nothing } else { Wants::Detail }
    }
    fn measured(&self, views: &[View]) -> Option<Box<dyn Step>> {
        Some(Box::new(Self { noise: Some(Arc::new(Noise::measured(views))), ..self.clone() }))
    }
    fn like(&self, measured: &dyn Step) -> Option<Box<dyn Step>> {
        let noise = measured.as_any()?.downcast_ref::<Self>()?.noise.clone()?;
        Some(Box::new(Self { noise: Some(noise), ..self.clone() }))
    }
    fn mosaic_denoise(&self) -> Option<MosaicDenoise> {
        let does = self.level == 0.0 && (self.brightness > 0.0 || self.colour > 0.0);
        does.then(|| MosaicDenoise { strength: self.strength(1.0), way: self.way_on_raw() })
    }
    fn on_raw(&self, raw: &Arc<RawView>) -> Option<Box<dyn Step>> {
        // A level that is given is one of the picture's own scale.
        (self.level == 0.0 && raw.has_mosaic())
            .then(|| Box::new(Self { raw: Some(raw.clone()), ..self.clone() }) as _)
    }
    fn as_any(&self) -> Option<&dyn std::any::Any> {
        Some(self)
    }
    fn found(&self) -> Vec<(&'static str, f64)> {
        self.noise.as_ref().map(|n| vec![("noise", f64::from(n.level()))]).unwrap_or_default()
    }
    fn ops(&self, place: &Place) -> Vec<Op> {
        if self.brightness == 0.0 && self.colour == 0.0 {
            return Vec::new();
        }
        let noise = match &self.noise {
            Some(noise) => noise.clone(),
            None if self.level > 0.0 => Arc::new(Noise::white((self.level / 255.0) as f32)),
            None => return Vec::new(),
        };
        // A reduced picture is the mean of so many pixels, and has so much less noise.
        let strength = self.strength(place.scale as f32);
        let way = self.way();
        if let Some(raw) = self.raw.clone().filter(|_| place.scale >= 1.0) {
            let work = MosaicDenoise { strength, way: self.way_on_raw() };
            return vec![Op::Whole(Box::new(RawWork { raw, work }))];
        }
        vec![Op::Whole(Box::new(Work { noise, strength, way }))]
    }
    fn needs_detail(&self) -> bool {
        true
    }
}

/// On what the sensor counted, in place of what was developed of it.
struct RawWork {
    raw: Arc<RawView>,
    work: MosaicDenoise,
}

impl WholeOp for RawWork {
    fn halo(&self) -> i64 {
        0
    }
    fn run(&self, input: Vec<[f32; 3]>, _have: Rect, rect: Rect) -> Vec<[f32; 3]> {
        self.raw.denoised(rect, self.work).unwrap_or(input)
    }
}

struct Work {
    noise: Arc<Noise>,
    strength: Strength,
    way: Way,
}

impl WholeOp for Work {
    fn halo(&self) -> i64 {
        match self.way {
            Way::Learned => learned::HALO,
            Way::Thorough => blocks::HALO,
            Way::Quick => sliding::HALO,
        }
    }
    fn run(&self, input: Vec<[f32; 3]>, have: Rect, rect: Rect) -> Vec<[f32; 3]> {
        let noisy = Planes::of(&input, have.width as usize);
        drop(input);
        let done = match self.way {
            Way::Learned => learned::run(noisy, have, &self.noise, self.strength),
            Way::Thorough => blocks::run(&noisy, have, rect, &self.noise, self.strength),
            Way::Quick => sliding::run(&noisy, have, &self.noise, self.strength),
        };
        let mut out = vec![[0f32; 3]; rect.area()];
        out.par_chunks_mut(rect.width as usize).enumerate().for_each(|(j, row)| {
            let at = ((rect.y - have.y + j as i64) * have.width + rect.x - have.x) as usize;
            for (i, pixel) in row.iter_mut().enumerate() {
                let parts = done.planes.each_ref().map(|plane| plane[at + i]);
                *pixel = together(match self.way {
                    // It knows of that itself.
                    Way::Learned => parts,
                    _ => uncut(parts, &self.noise, [self.strength.light, self.strength.colour]),
                });
            }
        });
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::colour::transfer::{decode, encode};
    use crate::geometry::Size;
    use crate::steps::testing::{picture, whole};

    /// Nearly normal numbers from a place and a channel.
    fn chance(x: u32, y: u32, c: u32) -> f32 {
        let mut sum = 0.0;
        for k in 0..6u32 {
            let mut h = x.wrapping_mul(0x9e37_79b9)
                ^ y.wrapping_mul(0x85eb_ca6b)
                ^ (c * 6 + k).wrapping_mul(0xc2b2_ae35);
            h = (h ^ (h >> 15)).wrapping_mul(0x2c1b_3c6d);
            h = (h ^ (h >> 12)).wrapping_mul(0x297a_2d39);
            sum += ((h ^ (h >> 15)) & 0xffff) as f32 / 65_535.0 - 0.5;
        }
        sum * std::f32::consts::SQRT_2
    }

    /// Flat parts, edges, a gradient and a pattern that repeats, encoded.
    fn clean(x: u32, y: u32) -> f32 {
        let (u, v) = (x as f32, y as f32);
        let disc = if (u - 150.0).hypot(v - 120.0) < 70.0 { 0.3 } else { 0.0 };
        let bars = if y > 220 { 0.12 * (u * 0.5).sin().signum() } else { 0.0 };
        0.25 + 0.25 * u / 400.0 + disc + bars
    }

    fn noisy(deviation: f32, coarse: bool) -> crate::Picture {
        picture(Size::new(400, 300), move |x, y| {
            let noise = |c: u32| {
                if !coarse {
                    return chance(x, y, c);
                }
                let at = |dx: u32, dy: u32| chance(x + dx, y + dy, c);
                (at(0, 0) + at(1, 0) + at(0, 1) + at(1, 1)) / 2.0
            };
            std::array::from_fn(|c| decode((clean(x, y) + deviation * noise(c as u32)).max(0.0)))
        })
    }

    /// Signal to noise against the clean picture, dB.
    fn quality(pixels: &[[f32; 3]]) -> f64 {
        let sum: f64 = pixels
            .iter()
            .enumerate()
            .flat_map(|(i, p)| p.iter().map(move |v| (i, v)))
            .map(|(i, v)| f64::from(encode(*v) - clean(i as u32 % 400, i as u32 / 400)).powi(2))
            .sum();
        -10.0 * (sum / (3.0 * pixels.len() as f64)).log10()
    }

    #[test]
    fn known_noise_goes_white_or_coarse_with_the_strength_measured() {
        let nothing = || Denoise { brightness: 0.0, colour: 0.0, ..Denoise::default() };
        for (deviation, coarse, least) in
            [(0.06, false, [11.0, 9.0, 11.0, 9.5]), (0.06, true, [5.5, 5.5, 6.0, 5.0])]
        {
            let scene = noisy(deviation, coarse);
            let before = quality(&whole(nothing(), &scene).1);
            let made =
                |method: &str| whole(Denoise { method: method.into(), ..Denoise::default() }, &scene).1;
            assert_eq!(made("auto"), made(if coarse { "learned" } else { "thorough" }), "coarse {coarse}");
            for (method, least) in ["auto", "learned", "thorough", "quick"].into_iter().zip(least) {
                let after =
                    quality(&whole(Denoise { method: method.into(), ..Denoise::default() }, &scene).1);
                assert!(after > before + least, "{method}, coarse {coarse}: {before} dB became {after}");
            }
        }
    }

    #[test]
    fn a_night_sky_keeps_its_stars_through_all_methods() {
        let stars = [(60.4, 50.2, 0.5), (200.7, 90.6, 0.25), (320.1, 200.8, 0.12), (100.5, 240.5, 0.06)];
        let scene = picture(Size::new(400, 300), |x, y| {
            let mut light = 0.01;
            for (sx, sy, peak) in stars {
                let (dx, dy) = (x as f32 + 0.5 - sx, y as f32 + 0.5 - sy);
                light += peak * (-(dx * dx + dy * dy) / (2.0 * 0.9 * 0.9)).exp();
            }
            std::array::from_fn(|c| decode((encode(light) + 0.02 * chance(x, y, c as u32)).max(0.0)))
        });
        for method in ["learned", "thorough", "quick"] {
            let (_, out) = whole(Denoise { method: method.into(), ..Denoise::default() }, &scene);
            for (sx, sy, peak) in stars {
                let around = (-2..=2).flat_map(|v| (-2..=2).map(move |u| (u, v)));
                let flux = |of: &dyn Fn(usize) -> f32| -> f32 {
                    around
                        .clone()
                        .map(|(u, v)| of(((sy as i64 + v) * 400 + sx as i64 + u) as usize) - 0.01)
                        .sum()
                };
                let got = flux(&|i| out[i][1]);
                let want = peak * 2.0 * std::f32::consts::PI * 0.9 * 0.9;
                assert!(got > 0.75 * want, "{method}: a star of {want} was left {got}");
            }
            // And the sky between them is quiet.
            let quiet: Vec<f32> = (0..60)
                .flat_map(|y| (0..100).map(move |x| (y + 110) * 400 + x + 20))
                .map(|i| encode(out[i][1]))
                .collect();
            let mean = quiet.iter().sum::<f32>() / quiet.len() as f32;
            let spread = (quiet.iter().map(|v| (v - mean).powi(2)).sum::<f32>() / quiet.len() as f32).sqrt();
            assert!(spread < 0.007, "{method}: {spread} of 0.02 is left");
        }
    }
}
