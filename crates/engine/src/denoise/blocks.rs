//! The thorough way: blocks that look alike are found, laid on each other, and filtered together.
//!
//! Block matching and filtering in three dimensions (K. Dabov, A. Foi, V. Katkovnik and K. Egiazarian, "Image Denoising
//! by Sparse 3-D Transform-Domain Collaborative Filtering", 2007), its form for colour (the same authors, "Color Image
//! Denoising via Sparse 3D Collaborative Filtering with Grouping Constraint in Luminance-Chrominance Space", 2007:
//! matching on lightness only), with the noise's own spread over the frequencies in place of a single deviation. Two
//! passes: dropping what is below the noise, then an empirical Wiener filter going by the first result.
//!
//! Reference blocks lie on a fixed grid; sums are taken in a fixed order over bands on a fixed grid of their own, so that
//! any part of a picture comes out as in the whole, with any number of threads. Allocates sums for every band.

use super::dct::{Block, SIDE, forward, inverse};
use super::noise::PlaneNoise;
use super::{Noise, Planes, Strength};
use crate::geometry::Rect;
use multiversion::multiversion;
use rayon::prelude::*;

/// Pixels from reference block to reference block.
const STEP: usize = 4;
/// How far alike blocks are looked for, each way.
const REACH: usize = 12;
/// Most blocks filtered together.
const GROUP: usize = 16;
/// Rows of a band; a multiple of the step.
const BAND: i64 = 64;
/// Reference blocks whose matches are looked for at a time.
const RUN: usize = 48;
/// In deviations: what is dropped.
const DROP: f32 = 2.7;

/// Pixels beyond the result that are needed.
pub const HALO: i64 = 2 * (SIDE + REACH + SIDE) as i64;

/// Denoises `noisy`, which covers `have`.
pub fn run(noisy: &Planes, have: Rect, noise: &Noise, strength: Strength) -> Planes {
    if noisy.width < SIDE || noisy.height < SIDE {
        return noisy.clone();
    }
    let first = pass(noisy, None, have, noise, strength);
    pass(noisy, Some(&first), have, noise, strength)
}

struct Work<'a> {
    noisy: &'a Planes,
    basic: Option<&'a Planes>,
    /// What blocks are compared by.
    light: &'a [f32],
    noise: &'a Noise,
    /// Deviation per plane and coefficient, times the strength.
    deviations: [[f32; SIDE * SIDE]; 3],
    on: [bool; 3],
    /// First columns of the reference blocks.
    columns: Vec<usize>,
    window: Block,
}

/// First positions of blocks along a side: on the fixed grid, and flush with both ends.
fn starts(from: i64, length: usize) -> Vec<usize> {
    let last = length - SIDE;
    let first = (STEP as i64 - from.rem_euclid(STEP as i64)) as usize % STEP;
    let mut all: Vec<usize> = (first..=last).step_by(STEP).collect();
    if first > 0 {
        all.insert(0, 0);
    }
    if all.last() != Some(&last) {
        all.push(last);
    }
    all
}

/// Weights of a block's pixels: the window of J. Kaiser with β = 2.
fn window() -> Block {
    let bessel = |x: f64| {
        let (mut sum, mut term) = (1.0, 1.0);
        for k in 1..20 {
            term *= (x / 2.0 / f64::from(k)).powi(2);
            sum += term;
        }
        sum
    };
    let side: [f64; SIDE] = std::array::from_fn(|i| {
        let t = 2.0 * i as f64 / (SIDE - 1) as f64 - 1.0;
        bessel(2.0 * (1.0 - t * t).sqrt()) / bessel(2.0)
    });
    std::array::from_fn(|y| std::array::from_fn(|x| (side[y] * side[x]) as f32))
}

/// Sums over some rows.
struct Band {
    first: usize,
    rows: usize,
    sum: [Vec<f32>; 3],
    weight: [Vec<f32>; 3],
}

fn pass(noisy: &Planes, basic: Option<&Planes>, have: Rect, noise: &Noise, strength: Strength) -> Planes {
    let factors = [strength.light, strength.colour, strength.colour];
    let detail = 1.25 - 0.5 * strength.detail;
    let work = Work {
        noisy,
        basic,
        light: &basic.unwrap_or(noisy).planes[0],
        noise,
        deviations: std::array::from_fn(|c| {
            std::array::from_fn(|k| noise.0[c].spread[k].sqrt() * factors[c] * detail)
        }),
        on: factors.map(|f| f > 0.0),
        columns: starts(have.x, noisy.width),
        window: window(),
    };
    let rows = starts(have.y, noisy.height);
    // By the grid of bands in the whole picture.
    let band_of = |row: usize| (have.y + row as i64).div_euclid(BAND);
    let bands: Vec<&[usize]> = rows.chunk_by(|a, b| band_of(*a) == band_of(*b)).collect();
    let mut out = noisy.clone();
    let (w, h) = (noisy.width, noisy.height);
    let (mut sum, mut weight) = ([0; 3].map(|_| vec![0f32; w * h]), [0; 3].map(|_| vec![0f32; w * h]));
    // A few bands at a time, so that their sums do not all stand in memory at once.
    for some in bands.chunks(4 * rayon::current_num_threads()) {
        let done: Vec<Band> = some.par_iter().map(|rows| work.band(rows)).collect();
        for band in done {
            for c in 0..3 {
                let at = band.first * w;
                let add = |to: &mut [f32], from: &[f32]| {
                    for (t, f) in to.iter_mut().zip(from) {
                        *t += f;
                    }
                };
                add(&mut sum[c][at..at + band.rows * w], &band.sum[c]);
                add(&mut weight[c][at..at + band.rows * w], &band.weight[c]);
            }
        }
    }
    for c in 0..3 {
        for ((o, s), w) in out.planes[c].iter_mut().zip(&sum[c]).zip(&weight[c]) {
            if *w > 0.0 {
                *o = s / w;
            }
        }
    }
    out
}

/// The blocks most like each of a run of reference blocks: distances and positions, the nearest first.
struct Alike {
    distance: [[f32; GROUP]; RUN],
    at: [[u32; GROUP]; RUN],
    count: [usize; RUN],
}

impl Alike {
    fn empty() -> Self {
        Self { distance: [[f32::INFINITY; GROUP]; RUN], at: [[0; GROUP]; RUN], count: [0; RUN] }
    }

    #[inline(always)]
    fn offer(&mut self, i: usize, distance: f32, at: u32) {
        let (d, p) = (&mut self.distance[i], &mut self.at[i]);
        let mut k = self.count[i].min(GROUP - 1);
        while k > 0 && d[k - 1] > distance {
            (d[k], p[k]) = (d[k - 1], p[k - 1]);
            k -= 1;
        }
        (d[k], p[k]) = (distance, at);
        self.count[i] = (self.count[i] + 1).min(GROUP);
    }
}

impl Work<'_> {
    fn band(&self, rows: &[usize]) -> Band {
        let (w, h) = (self.noisy.width, self.noisy.height);
        let first = rows[0].saturating_sub(REACH);
        let last = (rows[rows.len() - 1] + REACH + SIDE).min(h);
        let empty = || [0; 3].map(|_| vec![0f32; (last - first) * w]);
        let mut band = Band { first, rows: last - first, sum: empty(), weight: empty() };
        let mut alike = Box::new(Alike::empty());
        for &row in rows {
            for columns in self.columns.chunks(RUN) {
                *alike = Alike::empty();
                find(self.light, w, h, row, columns, &mut alike);
                for (i, &column) in columns.iter().enumerate() {
                    filter(self, &alike.at[i][..alike.count[i]], row * w + column, &mut band);
                }
            }
        }
        band
    }
}

/// Finds the blocks most like those at `columns` of `row`.
#[multiversion(targets("x86_64+avx2", "x86_64+sse4.1", "aarch64+neon"))]
fn find(light: &[f32], w: usize, h: usize, row: usize, columns: &[usize], alike: &mut Alike) {
    let (left, right) = (columns[0], columns[columns.len() - 1] + SIDE);
    let mut across = [0f32; RUN * STEP + 2 * SIDE];
    let (low, high) = (row.saturating_sub(REACH), (row + REACH).min(h - SIDE));
    for other in low..=high {
        for dx in -(REACH as i64)..=REACH as i64 {
            // Columns whose moved block would leave the picture are left out below.
            let from = (left as i64 + dx).max(0) - dx;
            let to = (right as i64 + dx).min(w as i64) - dx;
            if to - from < SIDE as i64 {
                continue;
            }
            let (from, to) = (from as usize, to as usize);
            let sums = &mut across[from - left..to - left];
            sums.fill(0.0);
            for v in 0..SIDE {
                let a = &light[(row + v) * w + from..(row + v) * w + to];
                let start = ((other + v) * w + from) as i64 + dx;
                let b = &light[start as usize..start as usize + (to - from)];
                for ((s, a), b) in sums.iter_mut().zip(a).zip(b) {
                    let d = a - b;
                    *s += d * d;
                }
            }
            for (i, &column) in columns.iter().enumerate() {
                if column < from || column + SIDE > to {
                    continue;
                }
                let s = &across[column - left..column - left + SIDE];
                let distance = ((s[0] + s[4]) + (s[1] + s[5])) + ((s[2] + s[6]) + (s[3] + s[7]));
                if distance < alike.distance[i][GROUP - 1] {
                    alike.offer(i, distance, ((other * w + column) as i64 + dx) as u32);
                }
            }
        }
    }
}

/// Along a group, orthonormal (A. Haar, 1910); the length is a power of two.
#[inline(always)]
fn haar(group: &mut [Block], count: usize, scratch: &mut [Block; GROUP]) {
    let mut n = count;
    while n > 1 {
        for i in 0..n / 2 {
            for v in 0..SIDE {
                for u in 0..SIDE {
                    let (a, b) = (group[2 * i][v][u], group[2 * i + 1][v][u]);
                    scratch[i][v][u] = (a + b) * std::f32::consts::FRAC_1_SQRT_2;
                    scratch[n / 2 + i][v][u] = (a - b) * std::f32::consts::FRAC_1_SQRT_2;
                }
            }
        }
        group[..n].copy_from_slice(&scratch[..n]);
        n /= 2;
    }
}

#[inline(always)]
fn haar_back(group: &mut [Block], count: usize, scratch: &mut [Block; GROUP]) {
    let mut n = 2;
    while n <= count {
        for i in 0..n / 2 {
            for v in 0..SIDE {
                for u in 0..SIDE {
                    let (a, b) = (group[i][v][u], group[n / 2 + i][v][u]);
                    scratch[2 * i][v][u] = (a + b) * std::f32::consts::FRAC_1_SQRT_2;
                    scratch[2 * i + 1][v][u] = (a - b) * std::f32::consts::FRAC_1_SQRT_2;
                }
            }
        }
        group[..n].copy_from_slice(&scratch[..n]);
        n *= 2;
    }
}

const NOTHING: Block = [[0.0; SIDE]; SIDE];

/// Filters one group and adds it to the sums.
#[multiversion(targets("x86_64+avx2", "x86_64+sse4.1", "aarch64+neon"))]
fn filter(work: &Work, all: &[u32], reference: usize, band: &mut Band) {
    let w = work.noisy.width;
    let count = 1 << all.len().ilog2();
    let all = &all[..count];
    let mean = {
        let mut sum = 0f32;
        for v in 0..SIDE {
            sum += work.light[reference + v * w..reference + v * w + SIDE].iter().sum::<f32>();
        }
        sum / (SIDE * SIDE) as f32
    };
    let (mut group, mut clean, mut scratch) = ([NOTHING; GROUP], [NOTHING; GROUP], [NOTHING; GROUP]);
    for c in 0..3 {
        if !work.on[c] {
            continue;
        }
        let load = |plane: &[f32], at: u32| -> Block {
            std::array::from_fn(|v| {
                let at = at as usize + v * w;
                let row = &plane[at..at + SIDE];
                std::array::from_fn(|u| row[u])
            })
        };
        for (to, at) in group.iter_mut().zip(all) {
            *to = forward(&load(&work.noisy.planes[c], *at));
        }
        haar(&mut group, count, &mut scratch);
        let noise: &PlaneNoise = &work.noise.0[c];
        let level = noise.at(mean).max(1e-6);
        let deviations: &[f32; SIDE * SIDE] = &work.deviations[c];
        let mut kept = 0f32;
        match work.basic {
            None => {
                let limits: [f32; SIDE * SIDE] = std::array::from_fn(|k| DROP * level * deviations[k]);
                for (n, block) in group[..count].iter_mut().enumerate() {
                    for (k, v) in block.as_flattened_mut().iter_mut().enumerate() {
                        let keep = if v.abs() > limits[k] || (n == 0 && k == 0) { 1.0 } else { 0.0 };
                        *v *= keep;
                        kept += keep;
                    }
                }
            }
            Some(basic) => {
                for (to, at) in clean.iter_mut().zip(all) {
                    *to = forward(&load(&basic.planes[c], *at));
                }
                haar(&mut clean, count, &mut scratch);
                let powers: [f32; SIDE * SIDE] =
                    std::array::from_fn(|k| (level * deviations[k]).powi(2) + 1e-12);
                for (block, basic) in group[..count].iter_mut().zip(&clean) {
                    for (k, (v, b)) in
                        block.as_flattened_mut().iter_mut().zip(basic.as_flattened()).enumerate()
                    {
                        let share = b * b / (b * b + powers[k]);
                        *v *= share;
                        kept += share * share;
                    }
                }
            }
        }
        haar_back(&mut group, count, &mut scratch);
        let own = 1.0 / (kept.max(0.5) * level * level);
        for (block, at) in group.iter().zip(all) {
            let block = inverse(block);
            let start = *at as usize - band.first * w;
            for v in 0..SIDE {
                let at = start + v * w;
                let (sum, weight) = (&mut band.sum[c][at..at + SIDE], &mut band.weight[c][at..at + SIDE]);
                for u in 0..SIDE {
                    let by = own * work.window[v][u];
                    sum[u] += block[v][u] * by;
                    weight[u] += by;
                }
            }
        }
    }
}
