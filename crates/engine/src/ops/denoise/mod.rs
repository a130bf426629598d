//! Denoising: what noise a picture has, and two ways to take it out.
//!
//! Everything works on three planes that stand square to each other: lightness `(R + G + B) / √3` and two colour
//! differences `(R − B) / √2` and `(R − 2 G + B) / √6` of sRGB-encoded values, so that white noise stays white and
//! equally strong in all three. The noise is described per plane by its deviation over lightness and by how it spreads
//! over the 64 frequencies of an 8 × 8 block ([`Noise`]): in a camera's JPEG it is coarse, and a method that took it
//! for white would leave the coarse part.
//!
//! `blocks` is the thorough way (matching blocks, filtered together, twice), `sliding` the quick one (every block by
//! itself, twice), `learned` a network that was shown what noise looks like.

pub mod blocks;
pub mod cut;
pub mod dct;
pub mod learned;
pub mod noise;
pub mod sliding;

pub use noise::Noise;

use crate::colour::space::{InputColour, OutputProfile, apply};
use crate::colour::transfer::{DECODE, ENCODE};
use crate::colour::working::Matrix;
use rayon::prelude::*;
use std::sync::LazyLock;

/// Three planes over the same rectangle, row by row.
#[derive(Clone, Debug)]
pub struct Planes {
    /// Columns.
    pub width: usize,
    /// Rows.
    pub height: usize,
    /// Lightness and the two colour differences.
    pub planes: [Vec<f32>; 3],
}

/// Working values to encoded sRGB, and back.
static MATRICES: LazyLock<(Matrix, Matrix)> =
    LazyLock::new(|| (OutputProfile::Srgb.colour().from_working, InputColour::srgb().to_working));

const THIRD: f32 = 0.577_350_26;
const HALF: f32 = 0.707_106_77;
const SIXTH: f32 = 0.408_248_3;

/// The encoding carried on below 0, so that colours outside of sRGB survive.
#[inline(always)]
fn encoded(v: f32) -> f32 {
    ENCODE.at(v.abs()).copysign(v)
}
#[inline(always)]
fn decoded(v: f32) -> f32 {
    DECODE.at(v.abs()).copysign(v)
}

/// A working pixel as lightness and colour differences.
#[inline(always)]
pub fn apart(pixel: [f32; 3]) -> [f32; 3] {
    apart_encoded(apply(&MATRICES.0, pixel).map(encoded))
}

/// Encoded values as lightness and colour differences.
#[inline(always)]
pub fn apart_encoded([r, g, b]: [f32; 3]) -> [f32; 3] {
    [(r + g + b) * THIRD, (r - b) * HALF, (r - 2.0 * g + b) * SIXTH]
}

/// The inverse of [`apart_encoded`].
#[inline(always)]
pub fn together_encoded(parts: [f32; 3]) -> [f32; 3] {
    let [y, u, v] = [parts[0] * THIRD, parts[1] * HALF, parts[2] * SIXTH];
    [y + u + v, y - 2.0 * v, y - u + v]
}

/// Whether a channel stands at black or white of the encoding.
fn is_cut(pixel: [f32; 3]) -> bool {
    apply(&MATRICES.0, pixel).iter().any(|v| *v <= 1e-5 || *v >= 0.999)
}

/// Lightness and colour differences as a working pixel.
#[inline(always)]
pub fn together(parts: [f32; 3]) -> [f32; 3] {
    apply(&MATRICES.1, together_encoded(parts).map(decoded)).map(|v| v.clamp(0.0, 16.0))
}

impl Planes {
    /// Of working pixels.
    pub fn of(pixels: &[[f32; 3]], width: usize) -> Self {
        let width = width.max(1);
        let [mut a, mut b, mut c] = [0; 3].map(|_| vec![0f32; pixels.len()]);
        let rows = pixels.par_chunks(width).zip(a.par_chunks_mut(width));
        rows.zip(b.par_chunks_mut(width).zip(c.par_chunks_mut(width))).for_each(|((from, a), (b, c))| {
            for (i, pixel) in from.iter().enumerate() {
                [a[i], b[i], c[i]] = apart(*pixel);
            }
        });
        Self { width, height: pixels.len() / width, planes: [a, b, c] }
    }
}

/// First positions of blocks along a side that begins at `from`: every `step` pixels on a fixed grid, and flush with both
/// ends.
fn starts(from: i64, length: usize, step: usize) -> Vec<usize> {
    let last = length - dct::SIDE;
    let first = (step as i64 - from.rem_euclid(step as i64)) as usize % step;
    let mut positions: Vec<usize> = (first..=last).step_by(step).collect();
    if first > 0 {
        positions.insert(0, 0);
    }
    if positions.last() != Some(&last) {
        positions.push(last);
    }
    positions
}

/// How noise is taken out.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Way {
    /// By a network.
    Learned,
    /// By blocks that are alike.
    Thorough,
    /// Every block by itself.
    Quick,
}

/// How strongly a method works.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Strength {
    /// Of lightness noise: 1 is what was measured.
    pub light: f32,
    /// Of colour noise.
    pub colour: f32,
    /// Share of faint detail left in, 0 ..= 1; a half is neutral.
    pub detail: f32,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn apart_and_together_are_inverse_and_keep_lengths() {
        for p in [[0.2, 0.3, 0.1], [0.0, 0.0, 0.0], [1.0, 0.9, 0.05], [0.01, 0.5, 0.02]] {
            for (a, b) in together(apart(p)).iter().zip(p) {
                assert!((a - b).abs() < 3e-4, "{a} {b}");
            }
        }
        let (a, b) = (apart([0.3, 0.3, 0.3]), apart([0.4, 0.4, 0.4]));
        assert!(a[1].abs() < 1e-4 && a[2].abs() < 1e-4);
        // A grey step of the encoded values is √3 times as long as one channel's.
        let step = ENCODE.at(0.4) - ENCODE.at(0.3);
        assert!((b[0] - a[0] - step * 3f32.sqrt()).abs() < 1e-4);
    }
}
