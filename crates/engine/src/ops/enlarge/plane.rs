//! A plane of values, and enlarging it by cubic interpolation (R. Keys, 1981).

use crate::ops::resample::cubic;
use multiversion::multiversion;

/// Values row by row.
pub(super) struct Plane {
    pub width: usize,
    pub height: usize,
    pub values: Vec<f32>,
}

impl Plane {
    pub fn new(width: usize, height: usize) -> Self {
        Self { width, height, values: vec![0.0; width * height] }
    }

    pub fn row(&self, y: i64) -> &[f32] {
        let y = y.clamp(0, self.height as i64 - 1) as usize;
        &self.values[y * self.width..(y + 1) * self.width]
    }

    #[inline]
    pub fn at(&self, x: i64, y: i64) -> f32 {
        self.row(y)[x.clamp(0, self.width as i64 - 1) as usize]
    }

    pub fn blurred(&self, kernel: &[f32]) -> Self {
        let reach = kernel.len() - 1;
        let mut across = Self::new(self.width, self.height);
        let mut wide = Vec::new();
        for y in 0..self.height {
            repeat_ends(self.row(y as i64), reach, &mut wide);
            let to = &mut across.values[y * self.width..(y + 1) * self.width];
            scaled(to, &wide[reach..], kernel[0]);
            for k in 1..=reach {
                add_pair(to, &wide[reach - k..], &wide[reach + k..], kernel[k]);
            }
        }
        let mut out = Self::new(self.width, self.height);
        for y in 0..self.height {
            let to = &mut out.values[y * self.width..(y + 1) * self.width];
            scaled(to, across.row(y as i64), kernel[0]);
            for k in 1..=reach {
                let (up, low) = (across.row(y as i64 - k as i64), across.row(y as i64 + k as i64));
                add_pair(to, up, low, kernel[k]);
            }
        }
        out
    }

    /// Smallest and largest of the 3 × 3 around each pixel.
    pub fn range(&self) -> (Self, Self) {
        let (mut low, mut high) = (Self::new(self.width, self.height), Self::new(self.width, self.height));
        let mut rows = [0; 3].map(|_| Vec::new());
        for y in 0..self.height {
            for (row, k) in rows.iter_mut().zip(-1i64..) {
                repeat_ends(self.row(y as i64 + k), 1, row);
            }
            for x in 0..self.width {
                let (mut a, mut b) = (f32::MAX, f32::MIN);
                for row in &rows {
                    for n in &row[x..x + 3] {
                        (a, b) = (a.min(*n), b.max(*n));
                    }
                }
                let i = y * self.width + x;
                (low.values[i], high.values[i]) = (a, b);
            }
        }
        (low, high)
    }
}

/// Cubic interpolation to a whole multiple of the size.
pub(super) struct Cubic {
    factor: usize,
    /// Weights of four input pixels for each output pixel of one.
    weights: Vec<[f32; 4]>,
}

impl Cubic {
    pub fn new(factor: usize) -> Self {
        let weights = (0..factor)
            .map(|i| {
                // Where the pixel's middle lies, from the middle of the one it belongs to.
                let at = (i as f64 + 0.5) / factor as f64 - 0.5;
                let first = if at < 0.0 { -2.0 } else { -1.0 };
                std::array::from_fn(|k| cubic(first + k as f64 - at) as f32)
            })
            .collect();
        Self { factor, weights }
    }

    /// A plane enlarged by cubic interpolation, edges repeated.
    pub fn up(&self, small: &Plane) -> Plane {
        let f = self.factor;
        let mut across = Plane::new(small.width * f, small.height);
        let (mut wide, mut one) = (Vec::new(), vec![0f32; small.width]);
        for y in 0..small.height {
            repeat_ends(small.row(y as i64), 2, &mut wide);
            let to = &mut across.values[y * small.width * f..][..small.width * f];
            for (i, weights) in self.weights.iter().enumerate() {
                // The first of the four lies two or one to the left.
                let from = &wide[usize::from(2 * i + 1 >= f)..];
                four([from, &from[1..], &from[2..], &from[3..]], weights, &mut one);
                for (o, v) in to.iter_mut().skip(i).step_by(f).zip(&one) {
                    *o = *v;
                }
            }
        }
        let mut out = Plane::new(across.width, small.height * f);
        for y in 0..small.height {
            for (i, weights) in self.weights.iter().enumerate() {
                let first = y as i64 - if 2 * i + 1 < f { 2 } else { 1 };
                let rows: [&[f32]; 4] = std::array::from_fn(|k| across.row(first + k as i64));
                let to = &mut out.values[(y * f + i) * across.width..][..across.width];
                four(rows, weights, to);
            }
        }
        out
    }

    /// What is missing in the means over each input pixel.
    pub fn missing(&self, small: &Plane, large: &Plane) -> Plane {
        let f = self.factor;
        let mut out = Plane::new(small.width, small.height);
        let mut sums = vec![0f32; large.width];
        let share = 1.0 / (f * f) as f32;
        for y in 0..out.height {
            sums.fill(0.0);
            for v in 0..f {
                for (s, l) in sums.iter_mut().zip(large.row((y * f + v) as i64)) {
                    *s += l;
                }
            }
            let to = &mut out.values[y * small.width..][..small.width];
            for ((o, s), sums) in to.iter_mut().zip(small.row(y as i64)).zip(sums.chunks_exact(f)) {
                *o = s - sums.iter().sum::<f32>() * share;
            }
        }
        out
    }
}

/// A row with its first and last value repeated `count` times.
pub(super) fn repeat_ends(row: &[f32], count: usize, out: &mut Vec<f32>) {
    out.clear();
    let (Some(first), Some(last)) = (row.first(), row.last()) else { return };
    out.extend(std::iter::repeat_n(*first, count));
    out.extend_from_slice(row);
    out.extend(std::iter::repeat_n(*last, count + 1));
}

/// Four rows, weighed.
#[multiversion(targets("x86_64+avx2", "x86_64+sse4.1", "aarch64+neon"))]
fn four(rows: [&[f32]; 4], weights: &[f32; 4], out: &mut [f32]) {
    let n = out.len();
    let [a, b, c, d] = rows.map(|r| &r[..n]);
    for i in 0..n {
        out[i] = a[i] * weights[0] + b[i] * weights[1] + c[i] * weights[2] + d[i] * weights[3];
    }
}

#[multiversion(targets("x86_64+avx2", "x86_64+sse4.1", "aarch64+neon"))]
fn scaled(to: &mut [f32], from: &[f32], weight: f32) {
    for (o, v) in to.iter_mut().zip(from) {
        *o = v * weight;
    }
}

#[multiversion(targets("x86_64+avx2", "x86_64+sse4.1", "aarch64+neon"))]
fn add_pair(to: &mut [f32], first: &[f32], other: &[f32], weight: f32) {
    let n = to.len();
    let (first, other) = (&first[..n], &other[..n]);
    for i in 0..n {
        to[i] += (first[i] + other[i]) * weight;
    }
}
