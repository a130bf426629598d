//! Grain: an even noise, or one like film: soft clumps, strongest in the middle tones.
//!
//! Values come from a hash of the picture's own number and of places on a lattice whose cells have the grain's size, so
//! that the same frame always has the same grain, every part of it the same at every scale, and the next frame
//! another. Film grain is the sum of two lattices of different size, interpolated smoothly. Added on the perceptual
//! scale. Allocates nothing.

use crate::ops::planes::{CHUNK, Planes};
use crate::ops::pointwise::{PixelOp, PointOp};
use crate::step::{Effect, Kind, Op, Place, Step, step, values_of};
use serde_json::Value;
use std::sync::Arc;

step! {
    /// Adds grain: even, or like film; its size is relative to the picture. The same frame always gets the
    /// same grain, the next frame another. On perceptual values.
    pub struct Grain: PartialEq {
        id: "grain",
        title: "Grain",
        group: "detail",
        words: ["grain", "noise", "film", "texture", "analogue", "analog", "rough"],
        neutral: r#"{"amount": 0}"#,
        starter: r#"{"amount": 25}"#,
        facts: { judged_at_full_size: true, effects: &[Effect::RaisesNoise], starts_as_last_time: true },
    }
    parameters {
        /// How strong.
        amount: f64 = 25.0, Kind::Number { min: 0.0, max: 100.0, step: 1.0 };
        /// Size of a grain, in thousandths of the long edge.
        size: f64 = 0.4, Kind::Number { min: 0.1, max: 5.0, step: 0.05 }, "‰ of the long edge";
        /// As on film, strongest in the middle tones, or even.
        kind: String = "film".into(), Kind::Choice(&["film", "even"]);
        /// How different the three colours are; 0 is grain of brightness only.
        colour: f64 = 20.0, Kind::Number { min: 0.0, max: 100.0, step: 1.0 }, "%";
    }
}

impl Grain {
    fn cell(&self, place: &Place) -> f64 {
        self.size / 1000.0 * f64::from(place.size.long_edge()) * place.scale
    }
}

impl Step for Grain {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        let kind = if self.kind == "film" { "Film grain" } else { "Even grain" };
        format!("{kind} {{amount}}, size {{size}}.")
    }
    fn ops(&self, place: &Place) -> Vec<Op> {
        if self.amount == 0.0 {
            return Vec::new();
        }
        let cell = self.cell(place);
        // Smaller than a pixel, grains average out: what is left of them is seen.
        let seen = cell.min(1.0);
        let op = Grains {
            seed: place.seed,
            per: 1.0 / cell.max(1.0),
            amount: (0.12 * self.amount / 100.0 * seen) as f32,
            film: self.kind == "film",
            colour: self.colour as f32 / 100.0,
        };
        vec![Op::Point(PointOp::Pixels(Arc::new(op)))]
    }
    fn pixels(&self, place: &Place) -> Vec<(&'static str, f64)> {
        vec![("size", self.cell(place))]
    }
}

struct Grains {
    seed: u64,
    /// Cells per pixel.
    per: f64,
    amount: f32,
    film: bool,
    colour: f32,
}

/// A well-mixed number for a cell (the finaliser of MurmurHash3, A. Appleby, public domain).
#[inline(always)]
fn mixed(seed: u64, x: i64, y: i64) -> u64 {
    let mut h = seed
        ^ (x as u64).wrapping_mul(0x9e37_79b9_7f4a_7c15)
        ^ (y as u64).wrapping_mul(0xc2b2_ae3d_27d4_eb4f);
    h = (h ^ (h >> 33)).wrapping_mul(0xff51_afd7_ed55_8ccd);
    h = (h ^ (h >> 33)).wrapping_mul(0xc4ce_b9fe_1a85_ec53);
    h ^ (h >> 33)
}

/// Nearly normal, mean 0, deviation 1: the sum of four even numbers.
#[inline(always)]
fn normal(h: u64) -> f32 {
    let part = |shift: u32| ((h >> shift) & 0xffff) as f32 / 65_535.0;
    (part(0) + part(16) + part(32) + part(48) - 2.0) * 1.732_050_8
}

impl Grains {
    /// Smooth noise at a place, deviation about 1.
    fn value(&self, x: f64, y: f64, channel: u64) -> f32 {
        let (fx, fy) = (x.floor(), y.floor());
        let (s, t) = ((x - fx) as f32, (y - fy) as f32);
        let (cx, cy) = (fx as i64, fy as i64);
        let seed = self.seed.wrapping_add(channel.wrapping_mul(0x5851_f42d_4c95_7f2d));
        let n = |dx: i64, dy: i64| normal(mixed(seed, cx + dx, cy + dy));
        let (a, b, c, d) = ((1.0 - s) * (1.0 - t), s * (1.0 - t), (1.0 - s) * t, s * t);
        let sum = n(0, 0) * a + n(1, 0) * b + n(0, 1) * c + n(1, 1) * d;
        // Interpolation takes some of the deviation away; it is given back.
        sum / (a * a + b * b + c * c + d * d).sqrt()
    }

    fn grain(&self, x: f64, y: f64, channel: u64) -> f32 {
        let fine = self.value(x * self.per, y * self.per, channel);
        if !self.film {
            return fine;
        }
        // Clumps of two and a half grains, turned against the first lattice.
        let per = self.per / 2.5;
        let coarse =
            self.value((x * 0.8 - y * 0.6) * per + 17.3, (x * 0.6 + y * 0.8) * per - 9.1, channel + 3);
        0.8 * fine + 0.6 * coarse
    }
}

impl PixelOp for Grains {
    fn run(&self, x: i64, y: i64, planes: &mut Planes) {
        planes.encode();
        let row = y as f64 + 0.5;
        for i in 0..CHUNK {
            let at = (x + i as i64) as f64 + 0.5;
            let grey = self.grain(at, row, 0);
            let channel = |c: u64| {
                if self.colour == 0.0 { grey } else { grey + self.colour * (self.grain(at, row, c) - grey) }
            };
            let light = (planes.r[i] + planes.g[i] + planes.b[i]) / 3.0;
            // Neither black nor white film has grain.
            let room = if self.film { (4.0 * light * (1.0 - light)).clamp(0.0, 1.0) } else { 1.0 };
            let by = self.amount * room;
            planes.r[i] += by * channel(7);
            planes.g[i] += by * channel(14);
            planes.b[i] += by * channel(21);
        }
        planes.decode();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::colour::transfer::{decode, encode};
    use crate::geometry::{Rect, Size};
    use crate::ops::pointwise::PointProgram;

    fn grained(step: &Grain, seed: u64, value: f32, scale: f64) -> Vec<f32> {
        let size = Size::new(1000, 800);
        let place = Place { size, output: size, to_output: 1.0, scale, seed };
        let rect = Rect::new(0, 0, (1000.0 * scale) as i64, (800.0 * scale) as i64);
        let ops = step.ops(&place).into_iter().filter_map(Op::point).collect();
        let mut pixels = vec![[decode(value); 4]; rect.area()];
        PointProgram::new(ops).run(rect, &mut pixels);
        pixels.iter().map(|p| encode(p[1]) - value).collect()
    }

    fn deviation(all: &[f32]) -> f64 {
        let mean: f64 = all.iter().map(|v| f64::from(*v)).sum::<f64>() / all.len() as f64;
        assert!(mean.abs() < 0.004, "grain must not change the brightness: {mean}");
        (all.iter().map(|v| (f64::from(*v) - mean).powi(2)).sum::<f64>() / all.len() as f64).sqrt()
    }

    #[test]
    fn it_has_the_strength_it_says_and_film_has_none_in_white() {
        let even = Grain { amount: 50.0, size: 2.0, kind: "even".into(), colour: 0.0 };
        let d = deviation(&grained(&even, 5, 0.5, 1.0));
        assert!((d - 0.06).abs() < 0.006, "{d}");
        let film = Grain { kind: "film".into(), ..even };
        let d = deviation(&grained(&film, 5, 0.5, 1.0));
        assert!((d - 0.06).abs() < 0.01, "{d}");
        assert!(deviation(&grained(&film, 5, 0.97, 1.0)) < 0.01);
    }

    #[test]
    fn the_same_frame_has_the_same_grain_and_the_next_another() {
        let step = Grain::default();
        let (a, b, c) =
            (grained(&step, 1, 0.5, 1.0), grained(&step, 1, 0.5, 1.0), grained(&step, 2, 0.5, 1.0));
        assert!(a == b && a != c);
        let same: f64 = a.iter().zip(&c).map(|(a, c)| f64::from(a * c)).sum::<f64>() / a.len() as f64;
        assert!(same.abs() < 0.05 * deviation(&a) * deviation(&c), "neighbours are alike: {same}");
    }

    #[test]
    fn large_grains_lie_at_the_same_places_at_half_the_scale() {
        let step = Grain { amount: 60.0, size: 5.0, kind: "even".into(), colour: 0.0 };
        let (full, half) = (grained(&step, 9, 0.5, 1.0), grained(&step, 9, 0.5, 0.5));
        let mean = |x: usize, y: usize| {
            (full[2 * y * 1000 + 2 * x]
                + full[2 * y * 1000 + 2 * x + 1]
                + full[(2 * y + 1) * 1000 + 2 * x]
                + full[(2 * y + 1) * 1000 + 2 * x + 1])
                / 4.0
        };
        let mut all = (0.0, 0.0, 0.0);
        for y in 0..400 {
            for x in 0..500 {
                let (a, b) = (f64::from(mean(x, y)), f64::from(half[y * 500 + x]));
                all = (all.0 + a * b, all.1 + a * a, all.2 + b * b);
            }
        }
        let alike = all.0 / (all.1 * all.2).sqrt();
        assert!(alike > 0.9, "correlation {alike}");
    }
}
