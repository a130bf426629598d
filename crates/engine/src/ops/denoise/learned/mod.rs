//! The learned way: a small network that was shown scenes drawn by formula with the noise of cameras, and without.
//!
//! Residual blocks at half size on lightness and two colour differences (`training/denoise.py` has the same in another
//! language). Beside the picture it is told how strong the noise is at each pixel: where there is none, the picture stays exactly
//! as it is, and a person's strength scales what is told. It was trained without any photograph (R. Achddou, Y. Gousseau, S. Ladjal, "Synthetic images as a regularity prior for image restoration
//! neural networks", 2021); that noise is told to it is after K. Zhang, W. Zuo and L. Zhang, "FFDNet", 2018.

use super::{Noise, Planes, Strength};
use crate::geometry::Rect;
use crate::ops::network::{self, Grid, Network};
use rayon::prelude::*;
use std::sync::LazyLock;

/// Pixels beyond the result that are needed: ten layers at half size see so far.
pub const HALO: i64 = 24;

/// Values of each pixel at half size that go in: four of each plane, the noise of lightness and of colour.
const INPUTS: usize = 14;
/// What noise is multiplied by before it goes in.
const NOISE: f32 = 8.0;
/// Noise below which less and less is taken out, down to nothing where there is none.
const FAINT: f32 = 1.0 / 255.0;

/// The network that ships with the program.
static NETWORK: LazyLock<Network> = LazyLock::new(|| {
    // What ships with the program is read by its tests.
    Network::read(include_bytes!("weights.safetensors"), INPUTS).expect("the weights that ship are whole")
});

/// Side of the pixels that become one at half size.
const PLACE: i64 = 2;

/// Reach of the mean by which lightness is told to the noise.
const REACH: i64 = 2;

/// Denoises `noisy`, which covers `have` of a picture.
pub fn run(noisy: Planes, have: Rect, noise: &Noise, strength: Strength) -> Planes {
    if noisy.width == 0 || noisy.height == 0 {
        return noisy;
    }
    let view = View::of(&noisy, have, noise, strength);
    let Some(found) = NETWORK.found(view.input()) else { return noisy };
    view.without(noisy.clone(), &found)
}

/// A part of a picture as the network sees it: from an even pixel to another, mirrored at the edges.
struct View<'a> {
    noisy: &'a Planes,
    /// Pixels to the left of the part and above it.
    before: (i64, i64),
    width: usize,
    height: usize,
    /// Lightness around each pixel of the part.
    around: Vec<f32>,
    /// How the noise of lightness and of colour goes with lightness, scaled as wanted.
    noise: [super::noise::PlaneNoise; 2],
}

/// A place beyond the edge, mirrored on it.
fn mirrored(at: i64, side: usize) -> usize {
    let side = side as i64;
    let at = if at < 0 { -at - 1 } else { at };
    let at = if at >= side { 2 * side - 1 - at } else { at };
    at.clamp(0, side - 1) as usize
}

impl<'a> View<'a> {
    fn of(noisy: &'a Planes, have: Rect, noise: &Noise, strength: Strength) -> Self {
        let before = (have.x.rem_euclid(PLACE), have.y.rem_euclid(PLACE));
        let side = |before: i64, length: usize| (before as usize + length).next_multiple_of(PLACE as usize);
        let (width, height) = (side(before.0, noisy.width), side(before.1, noisy.height));
        let detail = 1.25 - 0.5 * strength.detail;
        let [light, one, other] = &noise.0;
        let (mut lightness, mut colour) = (light.clone(), one.clone());
        for (i, d) in lightness.deviation.iter_mut().enumerate() {
            *d *= strength.light * detail;
            let both = one.deviation[i] * one.deviation[i] + other.deviation[i] * other.deviation[i];
            colour.deviation[i] = (both / 2.0).sqrt() * strength.colour * detail;
        }
        let around = Self::around(noisy);
        Self { noisy, before, width, height, around, noise: [lightness, colour] }
    }

    /// The mean of lightness over five by five pixels.
    fn around(noisy: &Planes) -> Vec<f32> {
        let (w, h) = (noisy.width, noisy.height);
        let light = &noisy.planes[0];
        let mut out = vec![0f32; w * h];
        out.par_chunks_mut(w).enumerate().for_each(|(y, out)| {
            let rows: [&[f32]; 5] = std::array::from_fn(|k| {
                let row = mirrored(y as i64 + k as i64 - REACH, h);
                &light[row * w..][..w]
            });
            let columns: Vec<f32> =
                (0..w).map(|x| rows[0][x] + rows[1][x] + rows[2][x] + rows[3][x] + rows[4][x]).collect();
            for (x, out) in out.iter_mut().enumerate() {
                let x = x as i64;
                let at = |k: i64| columns[mirrored(x + k, w)];
                *out = (at(-2) + at(-1) + at(0) + at(1) + at(2)) / 25.0;
            }
        });
        out
    }

    /// Index of the pixel that stands at a place of the view.
    fn at(&self, x: usize, y: usize) -> usize {
        let column = mirrored(x as i64 - self.before.0, self.noisy.width);
        mirrored(y as i64 - self.before.1, self.noisy.height) * self.noisy.width + column
    }

    /// Two by two pixels of all planes side by side, with the noise of both kinds.
    fn input(&self) -> Grid {
        let mut grid = Grid::new(self.width / 2, self.height / 2, INPUTS);
        grid.rows().for_each(|(y, row)| {
            for (x, values) in row.chunks_exact_mut(INPUTS).enumerate() {
                let four = [(0, 0), (1, 0), (0, 1), (1, 1)].map(|(u, v)| self.at(2 * x + u, 2 * y + v));
                for (c, plane) in self.noisy.planes.iter().enumerate() {
                    for (k, at) in four.iter().enumerate() {
                        values[c * 4 + k] = network::taken(plane[*at] - network::MIDDLE);
                    }
                }
                for (c, noise) in self.noise.iter().enumerate() {
                    let [a, b, d, e] = four.map(|at| noise.at(self.around[at]));
                    values[12 + c] = network::taken((a + b + d + e) / 4.0 * NOISE);
                }
            }
        });
        grid
    }

    /// The picture without what was found; where there is no noise, nothing was.
    fn without(&self, mut planes: Planes, found: &[f32]) -> Planes {
        let (w, half) = (planes.width, self.width / 2);
        for (c, plane) in planes.planes.iter_mut().enumerate() {
            let noise = &self.noise[c.min(1)];
            plane.par_chunks_mut(w).enumerate().for_each(|(row, values)| {
                let y = row + self.before.1 as usize;
                for (column, value) in values.iter_mut().enumerate() {
                    let x = column + self.before.0 as usize;
                    let at = (y / 2 * half + x / 2) * network::OUTPUTS + c * 4 + y % 2 * 2 + x % 2;
                    let level = noise.at(self.around[row * w + column]);
                    *value -= found[at] * (level / (level + FAINT));
                }
            });
        }
        planes
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ops::denoise::apart_encoded;

    fn scene(width: usize, height: usize, from: (usize, usize)) -> Planes {
        let mut planes = Planes { width, height, planes: [const { Vec::new() }; 3] };
        for y in from.1..from.1 + height {
            for x in from.0..from.0 + width {
                let noise = |c: usize| {
                    let mut h = ((x * 7919 + y * 104_729) * 3 + c) as u32;
                    h = (h ^ (h >> 15)).wrapping_mul(0x2c1b_3c6d);
                    h = (h ^ (h >> 12)).wrapping_mul(0x297a_2d39);
                    ((h ^ (h >> 15)) & 0xffff) as f32 / 65_535.0 - 0.5
                };
                let base = if (x / 23 + y / 31) % 2 == 0 { 0.3 } else { 0.55 };
                let pixel = apart_encoded(std::array::from_fn(|c| base + 0.2 * noise(c)));
                for (plane, value) in planes.planes.iter_mut().zip(pixel) {
                    plane.push(value);
                }
            }
        }
        planes
    }

    const EVEN: Strength = Strength { light: 1.0, colour: 1.0, detail: 0.5 };

    #[test]
    fn it_computes_what_the_trained_network_computes() {
        let proof = safetensors::SafeTensors::deserialize(include_bytes!("proof.safetensors")).unwrap();
        for kind in ["white", "camera"] {
            let tensor = |name: &str| network::numbers(&proof, &format!("{kind}.{name}")).unwrap();
            let (noisy, noise, done) = (tensor("noisy"), tensor("noise"), tensor("done"));
            let (w, h) = (64, 48);
            let mut grid = Grid::new(w / 2, h / 2, INPUTS);
            grid.rows().for_each(|(y, row)| {
                for (x, values) in row.chunks_exact_mut(INPUTS).enumerate() {
                    let four = [(0, 0), (1, 0), (0, 1), (1, 1)].map(|(u, v)| (2 * y + v) * w + 2 * x + u);
                    for (c, k) in (0..3).flat_map(|c| (0..4).map(move |k| (c, k))) {
                        values[c * 4 + k] = network::taken(noisy[c * w * h + four[k]] - network::MIDDLE);
                    }
                    for c in 0..2 {
                        let sum: f32 = four.iter().map(|at| noise[c * w * h + at]).sum();
                        values[12 + c] = network::taken(sum / 4.0 * NOISE);
                    }
                }
            });
            let found = NETWORK.found(grid).unwrap();
            let (mut off, mut taken_out) = (0.0f64, 0.0f64);
            for c in 0..3 {
                for (x, y) in (0..h).flat_map(|y| (0..w).map(move |x| (x, y))) {
                    let at = c * w * h + y * w + x;
                    let here =
                        found[(y / 2 * (w / 2) + x / 2) * network::OUTPUTS + c * 4 + y % 2 * 2 + x % 2];
                    let level = noise[c.min(1) * w * h + y * w + x];
                    let own = noisy[at] - here * level / (level + FAINT);
                    off += f64::from(own - done[at]).powi(2);
                    taken_out += f64::from(noisy[at] - done[at]).powi(2);
                }
            }
            // What whole numbers make of it is off by less than a hundredth of what is taken out.
            assert!((off / taken_out).sqrt() < 0.01, "{kind}: {}", (off / taken_out).sqrt());
        }
    }

    #[test]
    fn any_part_comes_out_as_in_the_whole() {
        let noise = Noise::white(0.06);
        let (w, h) = (203, 170);
        let whole = run(scene(w, h, (0, 0)), Rect::new(0, 0, w as i64, h as i64), &noise, EVEN);
        for (x, y, width, height) in [(57, 61, 146, 109), (0, 0, 150, 131), (33, 10, 101, 160)] {
            let have = Rect::new(x as i64, y as i64, width as i64, height as i64);
            let part = run(scene(width, height, (x, y)), have, &noise, EVEN);
            let inner = |start: usize, length: usize, side: usize| {
                let first = if start == 0 { 0 } else { HALO as usize };
                first..if start + length == side { length } else { length - HALO as usize }
            };
            for v in inner(y, height, h) {
                for u in inner(x, width, w) {
                    for c in 0..3 {
                        let (own, known) =
                            (part.planes[c][v * width + u], whole.planes[c][(v + y) * w + u + x]);
                        assert!(own == known, "{x} {y}: {u} {v}");
                    }
                }
            }
        }
    }

    #[test]
    fn noise_goes_with_the_strength_and_none_stays_exactly() {
        let (w, h) = (160, 128);
        let have = Rect::new(0, 0, w as i64, h as i64);
        let noise = Noise::white(0.2 / 12f32.sqrt());
        let taken = |light: f32| {
            let before = scene(w, h, (0, 0));
            let after = run(before.clone(), have, &noise, Strength { light, colour: light, detail: 0.5 });
            let both = before.planes.iter().flatten().zip(after.planes.iter().flatten());
            both.map(|(a, b)| f64::from(a - b).powi(2)).sum::<f64>()
        };
        let all: Vec<f64> = [0.0, 0.25, 0.5, 1.0, 1.5].map(taken).into();
        assert!(all[0] == 0.0 && all.windows(2).all(|w| w[0] < w[1]), "{all:?}");
    }

    #[test]
    fn a_flat_field_keeps_its_mean_and_a_ramp_gets_no_bands() {
        let (w, h) = (320, 96);
        let have = Rect::new(0, 0, w as i64, h as i64);
        let noise = Noise::white(0.05);
        for base in [0.15f32, 0.4, 0.8] {
            let mut flat = scene(w, h, (0, 0));
            let even = (0..w * h).map(|i| if (i % w / 23 + i / w / 31) % 2 == 0 { 0.3 } else { 0.55 });
            for (value, tone) in flat.planes[0].iter_mut().zip(even) {
                *value += (base - tone) * 3f32.sqrt();
            }
            let mean = |p: &Planes| p.planes[0].iter().map(|v| f64::from(*v)).sum::<f64>() / (w * h) as f64;
            let after = run(flat.clone(), have, &noise, EVEN);
            assert!((mean(&after) - mean(&flat)).abs() < 0.004, "{base}: {} {}", mean(&flat), mean(&after));
        }
        let tone = |x: usize| 0.2 + 0.4 * x as f32 / w as f32;
        let planes =
            [0, 1, 2].map(|c| (0..w * h).map(|i| apart_encoded([tone(i % w); 3])[c]).collect::<Vec<f32>>());
        let after = run(Planes { width: w, height: h, planes }, have, &Noise::white(0.02), EVEN);
        let column =
            |x: usize| (20..h - 20).map(|y| after.planes[0][y * w + x]).sum::<f32>() / (h - 40) as f32;
        for x in 20..w - 40 {
            let (rise, known) = (column(x + 16) - column(x), (tone(x + 16) - tone(x)) * 3f32.sqrt());
            assert!((rise / known - 1.0).abs() < 0.35, "at {x} it rises by {rise} and not {known}");
        }
    }
}
