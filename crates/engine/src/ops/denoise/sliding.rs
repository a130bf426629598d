//! The quick way: every block of 8 × 8 by itself, on a grid of two pixels.
//!
//! First coefficients below the noise are dropped (G. Yu and G. Sapiro, "DCT Image Denoising", 2011); then each is
//! scaled by what the first result says is signal (the empirical Wiener filter of S. Ghael, A. Sayeed and R. Baraniuk,
//! 1997). Overlapping blocks are averaged, those with more left in them counting less. Blocks lie on a fixed grid and
//! are summed in a fixed order, so that any part of a picture comes out as in the whole.

use super::dct::{SIDE, forward_in, inverse_in, load};
use super::{Noise, Planes, Strength, starts};
use crate::geometry::Rect;
use crate::simd::{Lanes, Plain, add_block};
use rayon::prelude::*;

/// Pixels from block to block.
const STEP: usize = 2;

/// Rows done at a time.
const BAND: usize = 128;

/// Pixels beyond the result that are needed.
pub const HALO: i64 = 2 * SIDE as i64;

/// In deviations: what is dropped.
const DROP: f32 = 2.7;

/// Denoises `noisy`, which covers `have` of a picture of that whole size.
pub fn run(noisy: &Planes, have: Rect, noise: &Noise, strength: Strength) -> Planes {
    let first = pass(noisy, None, have, noise, strength);
    pass(noisy, Some(&first), have, noise, strength)
}

fn pass(noisy: &Planes, basic: Option<&Planes>, have: Rect, noise: &Noise, strength: Strength) -> Planes {
    let mut out = noisy.clone();
    if noisy.width < SIDE || noisy.height < SIDE {
        return out;
    }
    let light = &basic.unwrap_or(noisy).planes[0];
    let w = noisy.width;
    let factor = |c: usize| if c == 0 { strength.light } else { strength.colour };
    // Each band of each plane computes what its rows need by itself, so that none waits for another.
    let planes = out.planes.iter_mut().enumerate().filter(|(c, _)| factor(*c) > 0.0);
    let bands: Vec<(usize, usize, &mut [f32])> = planes
        .flat_map(|(c, plane)| plane.chunks_mut(BAND * w).enumerate().map(move |(i, rows)| (c, i, rows)))
        .collect();
    bands.into_par_iter().for_each(|(c, i, rows)| {
        let (first, last) = (i * BAND, i * BAND + rows.len() / w);
        let need = |v: usize| v.next_multiple_of(STEP);
        let top = need(first).saturating_sub(need(SIDE));
        let bottom = (last + SIDE).min(noisy.height);
        let bottom = if bottom - top < SIDE { (top + SIDE).min(noisy.height) } else { bottom };
        let top = top.min(bottom - SIDE);
        let part = top * w..bottom * w;
        let plane = Work {
            noisy: &noisy.planes[c][part.clone()],
            basic: basic.map(|b| &b.planes[c][part.clone()]),
            light: &light[part.clone()],
            noise: &noise.0[c],
            factor: factor(c) * (1.25 - 0.5 * strength.detail),
        };
        let mut done = noisy.planes[c][part].to_vec();
        let rect = Rect::new(have.x, have.y + top as i64, w as i64, (bottom - top) as i64);
        filter(&plane, rect, &mut done);
        let at = (first - top) * w;
        rows.copy_from_slice(&done[at..at + rows.len()]);
    });
    out
}

struct Work<'a> {
    noisy: &'a [f32],
    basic: Option<&'a [f32]>,
    light: &'a [f32],
    noise: &'a super::noise::PlaneNoise,
    factor: f32,
}

/// In the widest version this processor runs.
fn filter(work: &Work, have: Rect, out: &mut [f32]) {
    #[cfg(target_arch = "x86_64")]
    {
        #[target_feature(enable = "avx,avx2")]
        fn wide(work: &Work, have: Rect, out: &mut [f32]) {
            filter_in::<crate::simd::Avx>(work, have, out);
        }
        if is_x86_feature_detected!("avx2") {
            // Sound: the processor was just asked.
            return unsafe { wide(work, have, out) };
        }
    }
    filter_in::<Plain>(work, have, out);
}

#[inline(always)]
fn filter_in<L: Lanes>(work: &Work, have: Rect, out: &mut [f32]) {
    let (w, h) = (have.width as usize, have.height as usize);
    let mut sum = vec![0f32; w * h];
    let mut weight = vec![0f32; w * h];
    let deviations: [[f32; SIDE]; SIDE] = std::array::from_fn(|v| {
        std::array::from_fn(|u| work.noise.spread[v * SIDE + u].sqrt() * work.factor)
    });
    let columns = starts(have.x, w, STEP);
    for y in starts(have.y, h, STEP) {
        if !crate::pace::go_on() {
            return;
        }
        for &x in &columns {
            let at = y * w + x;
            let mut block = forward_in(&load::<L>(work.noisy, w, at));
            let middle = at + 3 * w + 3;
            let beside = |at: usize| work.light[at] + work.light[at + 1];
            let level = work.noise.at((beside(middle) + beside(middle + w)) / 4.0);
            let mut kept = L::zero();
            match work.basic {
                None => {
                    let constant = block[0].array()[0];
                    for (row, d) in block.iter_mut().zip(&deviations) {
                        let keep = row.above(L::load(d).times(L::splat(DROP * level)));
                        kept = kept.plus(keep);
                        *row = row.times(keep);
                    }
                    // The mean always stays.
                    let mut first = block[0].array();
                    first[0] = constant;
                    block[0] = L::load(&first);
                }
                Some(basic) => {
                    let basic = forward_in(&load::<L>(basic, w, at));
                    for ((row, b), d) in block.iter_mut().zip(basic).zip(&deviations) {
                        let d = L::load(d).times(L::splat(level));
                        let b = b.times(b);
                        let share = b.over(b.plus(L::splat(1e-12).plus_product(d, d)));
                        kept = kept.plus_product(share, share);
                        *row = row.times(share);
                    }
                }
            }
            let block_weight = L::splat(1.0 / kept.array().iter().sum::<f32>().max(0.5));
            add_block(&mut sum[at..], &mut weight[at..], w, &inverse_in(&block), &[block_weight; SIDE]);
        }
    }
    for ((o, s), w) in out.iter_mut().zip(&sum).zip(&weight) {
        if *w > 0.0 {
            *o = s / w;
        }
    }
}
