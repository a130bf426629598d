//! The orthonormal cosine transform of 8 × 8 blocks (N. Ahmed, T. Natarajan and K. Rao, 1974), eight columns at a time.
//!
//! Coefficients come out with rows and columns exchanged; nothing here depends on which is which, and the inverse takes
//! them the same way.

use crate::simd::{Lanes, Plain, load_block};

/// Side of a block.
pub const SIDE: usize = 8;

/// A block, row by row.
pub type Block = [[f32; SIDE]; SIDE];

/// cos(k π / 16) / 2 for k = 1 ..= 7.
const C: [f32; 7] =
    [0.490_392_64, 0.461_939_77, 0.415_734_8, 0.353_553_4, 0.277_785_12, 0.191_341_72, 0.097_545_16];

#[inline(always)]
fn sum2<L: Lanes>(a: L, x: f32, b: L, y: f32) -> L {
    a.times(L::splat(x)).plus_product(b, L::splat(y))
}
#[inline(always)]
fn sum4<L: Lanes>(r: [L; 4], w: [f32; 4]) -> L {
    sum2(r[0], w[0], r[1], w[1]).plus(sum2(r[2], w[2], r[3], w[3]))
}

/// Along the columns, all eight at once.
#[inline(always)]
fn columns<L: Lanes>(b: &[L; SIDE]) -> [L; SIDE] {
    let s = [b[0].plus(b[7]), b[1].plus(b[6]), b[2].plus(b[5]), b[3].plus(b[4])];
    let d = [b[0].minus(b[7]), b[1].minus(b[6]), b[2].minus(b[5]), b[3].minus(b[4])];
    let (p, q) = (s[0].plus(s[3]), s[1].plus(s[2]));
    let (u, v) = (s[0].minus(s[3]), s[1].minus(s[2]));
    [
        sum2(p, C[3], q, C[3]),
        sum4(d, [C[0], C[2], C[4], C[6]]),
        sum2(u, C[1], v, C[5]),
        sum4(d, [C[2], -C[6], -C[0], -C[4]]),
        sum2(p, C[3], q, -C[3]),
        sum4(d, [C[4], -C[0], C[6], C[2]]),
        sum2(u, C[5], v, -C[1]),
        sum4(d, [C[6], -C[4], C[2], -C[0]]),
    ]
}

/// The inverse of [`columns`].
#[inline(always)]
fn back<L: Lanes>(b: &[L; SIDE]) -> [L; SIDE] {
    let (p, q) = (sum2(b[0], C[3], b[4], C[3]), sum2(b[0], C[3], b[4], -C[3]));
    let (u, v) = (sum2(b[2], C[1], b[6], C[5]), sum2(b[2], C[5], b[6], -C[1]));
    let even = [p.plus(u), q.plus(v), q.minus(v), p.minus(u)];
    let odd = [b[1], b[3], b[5], b[7]];
    let odd = [
        sum4(odd, [C[0], C[2], C[4], C[6]]),
        sum4(odd, [C[2], -C[6], -C[0], -C[4]]),
        sum4(odd, [C[4], -C[0], C[6], C[2]]),
        sum4(odd, [C[6], -C[4], C[2], -C[0]]),
    ];
    [
        even[0].plus(odd[0]),
        even[1].plus(odd[1]),
        even[2].plus(odd[2]),
        even[3].plus(odd[3]),
        even[3].minus(odd[3]),
        even[2].minus(odd[2]),
        even[1].minus(odd[1]),
        even[0].minus(odd[0]),
    ]
}

/// To coefficients.
#[inline(always)]
pub(super) fn forward_in<L: Lanes>(b: &[L; SIDE]) -> [L; SIDE] {
    columns(&L::transposed(columns(b)))
}

/// From coefficients.
#[inline(always)]
pub(super) fn inverse_in<L: Lanes>(b: &[L; SIDE]) -> [L; SIDE] {
    back(&L::transposed(back(b)))
}

/// To coefficients.
pub fn forward(b: &Block) -> Block {
    forward_in(&b.map(|row| Plain::load(&row))).map(Lanes::array)
}

/// From coefficients.
pub fn inverse(b: &Block) -> Block {
    inverse_in(&b.map(|row| Plain::load(&row))).map(Lanes::array)
}

/// A block of a plane that is `width` wide, from its first pixel on.
#[inline(always)]
pub(super) fn load<L: Lanes>(plane: &[f32], width: usize, at: usize) -> [L; SIDE] {
    load_block(&plane[at..], width)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn block() -> Block {
        std::array::from_fn(|y| {
            std::array::from_fn(|x| ((x * 7 + y * 13) % 11) as f32 - 3.0 + 0.1 * x as f32)
        })
    }

    #[test]
    fn it_is_the_definition_and_its_inverse_is_its_inverse() {
        let b = block();
        let got = forward(&b);
        let basis = |k: usize, n: usize| {
            let scale = if k == 0 { (1.0f64 / 8.0).sqrt() } else { 0.5 };
            scale * (std::f64::consts::PI * (n as f64 + 0.5) * k as f64 / 8.0).cos()
        };
        for ky in 0..8 {
            for kx in 0..8 {
                let mut want = 0.0;
                for (y, row) in b.iter().enumerate() {
                    for (x, v) in row.iter().enumerate() {
                        want += f64::from(*v) * basis(ky, y) * basis(kx, x);
                    }
                }
                // Rows and columns are exchanged.
                assert!((f64::from(got[kx][ky]) - want).abs() < 1e-4, "{kx} {ky}: {} {want}", got[kx][ky]);
            }
        }
        let again = inverse(&got);
        for y in 0..8 {
            for x in 0..8 {
                assert!((again[y][x] - b[y][x]).abs() < 1e-5);
            }
        }
    }
}
