//! The orthonormal cosine transform of 8 × 8 blocks (N. Ahmed, T. Natarajan and K. Rao, 1974), eight columns at a time.
//!
//! Coefficients come out with rows and columns exchanged; nothing here depends on which is which, and the inverse takes
//! them the same way.

/// Side of a block.
pub const SIDE: usize = 8;

/// A block, row by row.
pub type Block = [[f32; SIDE]; SIDE];

/// cos(k π / 16) / 2 for k = 1 ..= 7.
const C: [f32; 7] =
    [0.490_392_64, 0.461_939_77, 0.415_734_8, 0.353_553_4, 0.277_785_12, 0.191_341_72, 0.097_545_16];

type Row = [f32; SIDE];

#[inline(always)]
fn add(a: Row, b: Row) -> Row {
    std::array::from_fn(|i| a[i] + b[i])
}
#[inline(always)]
fn sub(a: Row, b: Row) -> Row {
    std::array::from_fn(|i| a[i] - b[i])
}
#[inline(always)]
fn sum2(a: Row, x: f32, b: Row, y: f32) -> Row {
    std::array::from_fn(|i| a[i] * x + b[i] * y)
}
#[inline(always)]
fn sum4(r: [Row; 4], w: [f32; 4]) -> Row {
    std::array::from_fn(|i| (r[0][i] * w[0] + r[1][i] * w[1]) + (r[2][i] * w[2] + r[3][i] * w[3]))
}

/// Along the columns, all eight at once.
#[inline(always)]
fn columns(b: &Block) -> Block {
    let s: [Row; 4] = std::array::from_fn(|i| add(b[i], b[7 - i]));
    let d: [Row; 4] = std::array::from_fn(|i| sub(b[i], b[7 - i]));
    let (p, q) = (add(s[0], s[3]), add(s[1], s[2]));
    let (u, v) = (sub(s[0], s[3]), sub(s[1], s[2]));
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
fn back(b: &Block) -> Block {
    let (p, q) = (sum2(b[0], C[3], b[4], C[3]), sum2(b[0], C[3], b[4], -C[3]));
    let (u, v) = (sum2(b[2], C[1], b[6], C[5]), sum2(b[2], C[5], b[6], -C[1]));
    let even = [add(p, u), add(q, v), sub(q, v), sub(p, u)];
    let odd = [b[1], b[3], b[5], b[7]];
    let odd = [
        sum4(odd, [C[0], C[2], C[4], C[6]]),
        sum4(odd, [C[2], -C[6], -C[0], -C[4]]),
        sum4(odd, [C[4], -C[0], C[6], C[2]]),
        sum4(odd, [C[6], -C[4], C[2], -C[0]]),
    ];
    std::array::from_fn(|i| if i < 4 { add(even[i], odd[i]) } else { sub(even[7 - i], odd[7 - i]) })
}

#[inline(always)]
fn transposed(b: &Block) -> Block {
    std::array::from_fn(|r| std::array::from_fn(|c| b[c][r]))
}

/// To coefficients.
#[inline(always)]
pub fn forward(b: &Block) -> Block {
    columns(&transposed(&columns(b)))
}

/// From coefficients.
#[inline(always)]
pub fn inverse(b: &Block) -> Block {
    back(&transposed(&back(b)))
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
