//! The quick way: every block of 8 × 8 by itself, on a grid of two pixels.
//!
//! First coefficients below the noise are dropped (G. Yu and G. Sapiro, "DCT Image Denoising", 2011); then each is
//! scaled by what the first result says is signal (the empirical Wiener filter of S. Ghael, A. Sayeed and R. Baraniuk,
//! 1997). Overlapping blocks are averaged, those with more left in them counting less. Blocks lie on a fixed grid and
//! are summed in a fixed order, so that any part of a picture comes out as in the whole.

use super::dct::{Block, SIDE, forward, inverse};
use super::{Noise, Planes, Strength};
use crate::geometry::Rect;
use multiversion::multiversion;

/// Pixels from block to block.
const STEP: usize = 2;

/// Pixels beyond the result that are needed.
pub const HALO: i64 = 2 * SIDE as i64;

/// Thresholds in deviations, and scale of the deviation in the second pass.
const DROP: f32 = 2.7;
const SECOND: f32 = 1.0;

/// Denoises `noisy`, which covers `have` of a picture of that whole size.
pub fn run(noisy: &Planes, have: Rect, noise: &Noise, strength: Strength) -> Planes {
    let first = pass(noisy, None, have, noise, strength);
    pass(noisy, Some(&first), have, noise, strength)
}

fn pass(noisy: &Planes, basic: Option<&Planes>, have: Rect, noise: &Noise, strength: Strength) -> Planes {
    let mut out = noisy.clone();
    let light = &basic.unwrap_or(noisy).planes[0];
    for c in 0..3 {
        let factor = if c == 0 { strength.light } else { strength.colour };
        if factor <= 0.0 {
            continue;
        }
        let plane = Work {
            noisy: &noisy.planes[c],
            basic: basic.map(|b| b.planes[c].as_slice()),
            light,
            noise: &noise.0[c],
            factor: factor * (1.25 - 0.5 * strength.detail),
        };
        filter(&plane, have, &mut out.planes[c]);
    }
    out
}

struct Work<'a> {
    noisy: &'a [f32],
    basic: Option<&'a [f32]>,
    light: &'a [f32],
    noise: &'a super::noise::PlaneNoise,
    factor: f32,
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

#[multiversion(targets("x86_64+avx2", "x86_64+sse4.1", "aarch64+neon"))]
fn filter(work: &Work, have: Rect, out: &mut [f32]) {
    let (w, h) = (have.width as usize, have.height as usize);
    if w < SIDE || h < SIDE {
        return;
    }
    let mut sum = vec![0f32; w * h];
    let mut weight = vec![0f32; w * h];
    let deviations: [f32; 64] = std::array::from_fn(|k| work.noise.spread[k].sqrt() * work.factor);
    let load = |plane: &[f32], at: usize| -> Block {
        std::array::from_fn(|v| {
            let row = &plane[at + v * w..at + v * w + SIDE];
            std::array::from_fn(|u| row[u])
        })
    };
    for y in starts(have.y, h) {
        for x in starts(have.x, w) {
            let at = y * w + x;
            let mut block = forward(&load(work.noisy, at));
            let middle = at + 3 * w + 3;
            let light = (work.light[middle]
                + work.light[middle + 1]
                + work.light[middle + w]
                + work.light[middle + w + 1])
                / 4.0;
            let level = work.noise.at(light);
            let mut kept = 0f32;
            match work.basic {
                None => {
                    for (k, v) in block.as_flattened_mut().iter_mut().enumerate() {
                        let keep = k == 0 || v.abs() > DROP * level * deviations[k];
                        let keep = if keep { 1.0 } else { 0.0 };
                        *v *= keep;
                        kept += keep;
                    }
                }
                Some(basic) => {
                    let basic = forward(&load(basic, at));
                    for (k, (v, b)) in
                        block.as_flattened_mut().iter_mut().zip(basic.as_flattened()).enumerate()
                    {
                        let n = level * deviations[k] * SECOND;
                        let share = (b * b) / (b * b + n * n + 1e-12);
                        *v *= share;
                        kept += share * share;
                    }
                }
            }
            let own = 1.0 / kept.max(0.5);
            let block = inverse(&block);
            for (v, row) in block.iter().enumerate() {
                let at = at + v * w;
                for u in 0..SIDE {
                    sum[at + u] += row[u] * own;
                    weight[at + u] += own;
                }
            }
        }
    }
    for ((o, s), w) in out.iter_mut().zip(&sum).zip(&weight) {
        if *w > 0.0 {
            *o = s / w;
        }
    }
}
