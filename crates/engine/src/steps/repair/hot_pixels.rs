//! Hot pixels: single pixels, and small specks of one colour, that stand far out of their surroundings.
//!
//! A lens spreads every star over several pixels and all colours; a hot photosite is one pixel, or, after the mosaic was
//! filled in, a speck of one colour no larger than 3 × 3. On perceptual values a pixel is hot when it stands out from
//! the ring two pixels away by more than the threshold, and either no neighbour comes up to a quarter of that, or one
//! channel does so and no other comes up to a third of it while the ring is even. It takes the ring's median. Needs a
//! halo of three pixels; allocates three planes the size of a tile. Of camera raw the sensor's counts are mended when it is read
//! (`raw/defects.rs`), which does more; then nothing is left to be done here.

use crate::colour::transfer::{ENCODE, decode};
use crate::geometry::Rect;
use crate::ops::planes::Pixel;
use crate::raw::RawView;
use crate::step::{AreaOp, Effect, Kind, Op, Place, Step, step, values_of};
use serde_json::Value;
use std::sync::Arc;

step! {
    /// Removes single bright or dark pixels and one-coloured specks that a warm sensor leaves in long
    /// exposures; stars, which a lens spreads over several pixels, stay. Belongs before the denoise.
    pub struct HotPixels: PartialEq {
        id: "hot_pixels",
        title: "Hot pixels",
        group: "repair",
        words: [
            "hot", "pixel", "pixels", "dead", "stuck", "speck", "specks", "long exposure", "night",
            "stars",
        ],
        neutral: r#"{"strength": 0}"#,
        starter: r#"{"strength": 60}"#,
        facts: { judged_at_full_size: true, effects: &[Effect::FindsHotPixels] },
    }
    parameters {
        /// How little a pixel must stand out to be taken for a hot one.
        strength: f64 = 60.0, Kind::Number { min: 0.0, max: 100.0, step: 1.0 };
    }
    measured {
        done_on_counts: bool = false;
    }
}

impl Step for HotPixels {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        "Remove hot pixels, {strength} strong.".into()
    }
    fn ops(&self, place: &Place) -> Vec<Op> {
        // On a reduced picture hot pixels are averaged away already.
        if self.strength == 0.0 || place.scale < 1.0 || self.done_on_counts {
            return Vec::new();
        }
        let threshold = (0.4 * (-self.strength / 40.0).exp()).max(0.02) as f32;
        vec![Op::Area(Box::new(Hot { threshold }))]
    }
    fn needs_detail(&self) -> bool {
        true
    }
    fn works_on_raw(&self) -> bool {
        self.strength > 0.0
    }
    fn on_raw(&self, raw: &Arc<RawView>) -> Option<Box<dyn Step>> {
        raw.raw.is_mended().then(|| Box::new(Self { done_on_counts: true, ..self.clone() }) as _)
    }
    fn note(&self) -> Option<String> {
        self.done_on_counts.then(|| "Done to the sensor's own counts, when the raw was read.".into())
    }
}

struct Hot {
    threshold: f32,
}

/// Pixels from the middle to the ring, and from a speck's middle to its rim.
const RING: i64 = 2;
const RIM: i64 = 1;

/// Three planes of perceptual values.
struct Seen {
    have: Rect,
    planes: [Vec<f32>; 3],
}

impl Seen {
    fn at(&self, x: i64, y: i64, c: usize) -> f32 {
        let (x, y) =
            (x.clamp(self.have.x, self.have.right() - 1), y.clamp(self.have.y, self.have.bottom() - 1));
        self.planes[c][((y - self.have.y) * self.have.width + x - self.have.x) as usize]
    }

    /// Median and spread (largest minus smallest, the two farthest left out) of the ring around a pixel.
    fn ring(&self, x: i64, y: i64, c: usize) -> (f32, f32) {
        let mut ring = [0f32; 16];
        let mut n = 0;
        for d in -RING..=RING {
            for (u, v) in [(d, -RING), (d, RING)] {
                ring[n] = self.at(x + u, y + v, c);
                n += 1;
            }
            if d.abs() < RING {
                for (u, v) in [(-RING, d), (RING, d)] {
                    ring[n] = self.at(x + u, y + v, c);
                    n += 1;
                }
            }
        }
        ring.sort_unstable_by(f32::total_cmp);
        ((ring[7] + ring[8]) * 0.5, ring[14] - ring[1])
    }

    /// The largest of the neighbours' distances from `from`, in the direction of `sign`.
    fn around(&self, x: i64, y: i64, c: usize, from: f32, sign: f32) -> f32 {
        let mut most = f32::MIN;
        for v in -RIM..=RIM {
            for u in -RIM..=RIM {
                if (u, v) != (0, 0) {
                    most = most.max((self.at(x + u, y + v, c) - from) * sign);
                }
            }
        }
        most
    }

    /// What a channel of a hot pixel should be; nothing where it is none.
    fn mended(&self, x: i64, y: i64, c: usize, threshold: f32) -> Option<f32> {
        let value = self.at(x, y, c);
        // Quickly done with: hardly any pixel stands out from both its neighbours.
        let beside = (self.at(x - RING, y, c), self.at(x + RING, y, c));
        let out = (value - beside.0).abs().min((value - beside.1).abs());
        if out <= threshold || (value > beside.0) != (value > beside.1) {
            return None;
        }
        let (ring, spread) = self.ring(x, y, c);
        let excess = value - ring;
        if excess.abs() <= threshold || spread > 0.5 * excess.abs() {
            return None;
        }
        let sign = excess.signum();
        let near = self.around(x, y, c, ring, sign);
        if near < 0.25 * excess.abs() {
            return Some(ring);
        }
        // A speck of one colour: its middle stands out most, the other channels hardly.
        let alone = (0..3).filter(|k| *k != c).all(|k| {
            let (other, _) = self.ring(x, y, k);
            (self.at(x, y, k) - other) * sign < 0.33 * excess.abs()
        });
        (alone && near <= excess.abs()).then_some(ring)
    }
}

impl AreaOp for Hot {
    fn halo(&self) -> i64 {
        RING + RIM
    }
    fn run(&self, input: &[Pixel], have: Rect, rect: Rect, out: &mut Vec<Pixel>) {
        let mut planes = [0, 1, 2].map(|_| vec![0f32; input.len()]);
        for (i, p) in input.iter().enumerate() {
            for c in 0..3 {
                planes[c][i] = ENCODE.at(p[c]);
            }
        }
        let seen = Seen { have, planes };
        out.clear();
        for y in rect.y..rect.bottom() {
            let at = ((y - have.y) * have.width + rect.x - have.x) as usize;
            out.extend_from_slice(&input[at..at + rect.width as usize]);
        }
        let near = rect.grown(RIM).within(have);
        for y in near.y..near.bottom() {
            for x in near.x..near.right() {
                for c in 0..3 {
                    let Some(ring) = seen.mended(x, y, c, self.threshold) else { continue };
                    let excess = seen.at(x, y, c) - ring;
                    // The speck's rim goes with it, as far as it stands out the same way.
                    for v in -RIM..=RIM {
                        for u in -RIM..=RIM {
                            let (px, py) = (x + u, y + v);
                            let inside =
                                px >= rect.x && py >= rect.y && px < rect.right() && py < rect.bottom();
                            let part = (seen.at(px, py, c) - ring) / excess;
                            if inside && ((u, v) == (0, 0) || part > 0.1) {
                                out[((py - rect.y) * rect.width + px - rect.x) as usize][c] = decode(ring);
                            }
                        }
                    }
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::colour::transfer::encode;
    use crate::geometry::Size;
    use crate::steps::testing::{picture, whole};

    /// Stars as a lens draws them (deviation 0.8 pixels), over a dim sky.
    fn sky(x: u32, y: u32) -> [f32; 3] {
        let mut light = 0.004;
        for (i, (sx, sy)) in [(20.3, 30.8), (70.0, 45.5), (110.6, 20.2), (90.9, 80.4)].into_iter().enumerate()
        {
            let (dx, dy) = (f64::from(x) + 0.5 - sx, f64::from(y) + 0.5 - sy);
            light += 0.5 / (i + 1) as f64 * (-(dx * dx + dy * dy) / (2.0 * 0.8 * 0.8)).exp();
        }
        [light as f32, light as f32 * 0.9, light as f32 * 1.1]
    }

    #[test]
    fn hot_pixels_go_and_stars_stay() {
        let hot = [(40u32, 60u32), (100, 50), (10, 90)];
        let specks = [(60u32, 20u32), (30, 75)];
        let scene = picture(Size::new(130, 100), |x, y| {
            let mut p = sky(x, y);
            if hot.contains(&(x, y)) {
                p = [0.6, 0.5, 0.7];
            }
            for (i, (sx, sy)) in specks.iter().enumerate() {
                let (dx, dy) = (x.abs_diff(*sx), y.abs_diff(*sy));
                if dx <= 1 && dy <= 1 {
                    p[2 * i] += 0.5 / f32::powi(2.0, (dx + dy) as i32);
                }
            }
            p
        });
        let (_, out) = whole(HotPixels::default(), &scene);
        for (i, p) in out.iter().enumerate() {
            let (x, y) = (i as u32 % 130, i as u32 / 130);
            let want = sky(x, y);
            for c in 0..3 {
                let off = (encode(p[c]) - encode(want[c])).abs();
                assert!(off < 0.02, "{x},{y} channel {c}: {} instead of {}", p[c], want[c]);
            }
        }
    }

    #[test]
    fn corners_lines_and_texture_stay() {
        let scene = picture(Size::new(120, 80), |x, y| {
            let line = x == 40 || y == 20 || (x + y) % 50 == 0;
            let check = x > 70 && (x / 2 + y / 2).is_multiple_of(2);
            [if line || check { 0.6 } else { 0.2 }; 3]
        });
        let (_, out) = whole(HotPixels { strength: 100.0, ..HotPixels::default() }, &scene);
        let (_, before) = whole(HotPixels { strength: 0.0, ..HotPixels::default() }, &scene);
        assert_eq!(out, before);
    }
}
