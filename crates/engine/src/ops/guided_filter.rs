//! A smooth picture of the light that keeps the edges: what shadows, highlights and local contrast go by.
//!
//! The guided filter of K. He, J. Sun and X. Tang ("Guided Image Filtering", 2013), in the fast form (K. He and J. Sun,
//! "Fast Guided Filter", 2015): its two coefficients are computed on a reduced picture and interpolated, the light
//! itself is taken at full size. So it is the same at every scale, needs no halo, and costs one pass. Light is the
//! perceptual scale of the luminance.

use crate::colour::transfer::encode;
use crate::colour::working::LUMINANCE;
use crate::ops::planes::CHUNK;
use crate::step::View;
use rayon::prelude::*;

/// The filter of one picture: `base = a · light + b`, `a` and `b` varying slowly.
#[derive(Debug)]
pub struct Guide {
    width: usize,
    height: usize,
    /// `a` and `b`, row by row.
    pairs: Vec<[f32; 2]>,
}

/// The mean over a square of side `2 radius + 1`, edges repeated less.
fn boxed(values: &[f32], width: usize, height: usize, radius: usize) -> Vec<f32> {
    let near = |i: usize, n: usize| (i.saturating_sub(radius), (i + radius + 1).min(n));
    let mut across = vec![0f32; values.len()];
    across.par_chunks_mut(width).zip(values.par_chunks(width)).for_each_init(Vec::new, |sums, (out, row)| {
        sums.clear();
        sums.push(0f64);
        for v in row {
            sums.push(sums[sums.len() - 1] + f64::from(*v));
        }
        for (i, o) in out.iter_mut().enumerate() {
            let (low, high) = near(i, width);
            *o = ((sums[high] - sums[low]) / (high - low) as f64) as f32;
        }
    });
    // Downwards a row at a time: the sum of those that are near, one joining and one leaving.
    let row = |y: usize| &across[y * width..][..width];
    let mut sums = vec![0f64; width];
    let mut out = Vec::with_capacity(values.len());
    let mut held = (0, 0);
    for y in 0..height {
        let (low, high) = near(y, height);
        while held.1 < high {
            sums.iter_mut().zip(row(held.1)).for_each(|(s, v)| *s += f64::from(*v));
            held.1 += 1;
        }
        while held.0 < low {
            sums.iter_mut().zip(row(held.0)).for_each(|(s, v)| *s -= f64::from(*v));
            held.0 += 1;
        }
        let share = 1.0 / (high - low) as f64;
        out.extend(sums.iter().map(|s| (s * share) as f32));
    }
    out
}

impl Guide {
    /// From the whole picture, reduced. `radius` is a share of the long edge; edges of more than about `edge` on the
    /// perceptual scale are kept.
    pub fn new(view: &View, radius: f64, edge: f32) -> Self {
        let (width, height) = (view.size.width as usize, view.size.height as usize);
        let reach = (radius * f64::from(view.size.long_edge())).round().max(1.0) as usize;
        let light: Vec<f32> = view
            .pixels
            .par_iter()
            .map(|p| encode(LUMINANCE[0] * p[0] + LUMINANCE[1] * p[1] + LUMINANCE[2] * p[2]))
            .collect();
        let square: Vec<f32> = light.iter().map(|v| v * v).collect();
        let mean_of = |values: &[f32]| boxed(values, width, height, reach);
        let (mean, spread) = rayon::join(|| mean_of(&light), || mean_of(&square));
        let (mut a, mut b) = (Vec::with_capacity(light.len()), Vec::with_capacity(light.len()));
        for (m, s) in mean.iter().zip(&spread) {
            let variance = (s - m * m).max(0.0);
            let keep = variance / (variance + edge * edge);
            a.push(keep);
            b.push(m * (1.0 - keep));
        }
        let (a, b) = rayon::join(|| mean_of(&a), || mean_of(&b));
        Self { width, height, pairs: a.into_iter().zip(b).map(|(a, b)| [a, b]).collect() }
    }

    /// The base under a run of pixels: the first lies at column `x` of row `y`, in a picture of `size` (pixels at the
    /// scale of the plan); `light` is their own.
    pub fn base(&self, x: i64, y: i64, size: (f64, f64), light: &[f32; CHUNK]) -> [f32; CHUNK] {
        let place = |at: i64, side: f64, count: usize| {
            let v = ((at as f64 + 0.5) * (count as f64 / side) - 0.5).clamp(0.0, count as f64 - 1.0);
            let whole = (v as usize).min(count.saturating_sub(2));
            (whole, (v - whole as f64) as f32)
        };
        let between = |a: [f32; 2], b: [f32; 2], t: f32| [a[0] + (b[0] - a[0]) * t, a[1] + (b[1] - a[1]) * t];
        let (y0, t) = place(y, size.1, self.height);
        let y1 = (y0 + 1).min(self.height - 1);
        let (top, low) =
            (&self.pairs[y0 * self.width..][..self.width], &self.pairs[y1 * self.width..][..self.width]);
        // Between the rows first: once for each of the guide's columns that the run lies over.
        let (first, _) = place(x, size.0, self.width);
        let (last, _) = place(x + CHUNK as i64 - 1, size.0, self.width);
        let count = (last + 2).min(self.width) - first;
        let mut few = [[0f32; 2]; 2 * CHUNK + 4];
        let mut many = Vec::new();
        let columns: &mut [[f32; 2]] = if count <= few.len() {
            &mut few[..count]
        } else {
            many.resize(count, [0f32; 2]);
            &mut many
        };
        for ((c, up), down) in columns.iter_mut().zip(&top[first..]).zip(&low[first..]) {
            *c = between(*up, *down, t);
        }
        std::array::from_fn(|i| {
            let (at, s) = place(x + i as i64, size.0, self.width);
            let at = at - first;
            let pair = between(columns[at], columns[(at + 1).min(count - 1)], s);
            pair[0] * light[i] + pair[1]
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::colour::transfer::decode;
    use crate::geometry::Size;

    #[test]
    fn edges_stay_and_texture_goes() {
        // Two halves, 0.2 and 0.8, with a fine texture of ± 0.02.
        let size = Size::new(200, 100);
        let value = |x: usize, y: usize| {
            (if x < 100 { 0.2 } else { 0.8 })
                + if (x / 2 + y / 2).is_multiple_of(2) { 0.02f32 } else { -0.02 }
        };
        let pixels = (0..20_000).map(|i| [decode(value(i % 200, i / 200)); 3]).collect();
        let guide = Guide::new(&View { size, pixels, around: None }, 0.04, 0.08);
        let mut light = [0f32; CHUNK];
        for (i, v) in light.iter_mut().enumerate() {
            *v = value(70 + i, 50);
        }
        let base = guide.base(70, 50, (200.0, 100.0), &light);
        // Far from the edge the texture is gone, beside it no halo of more than a few hundredths is left.
        assert!((base[2] - 0.2).abs() < 0.01 && (base[60] - 0.8).abs() < 0.01, "{} {}", base[2], base[60]);
        for i in 0..CHUNK {
            let want = if 70 + i < 100 { 0.2 } else { 0.8 };
            // Beside the edge the texture itself is kept as well.
            assert!((base[i] - want).abs() < 0.05, "{i}: {}", base[i]);
        }
    }

    #[test]
    fn a_box_is_the_mean_and_small_pictures_work() {
        let out = boxed(&[0.0, 3.0, 6.0, 9.0], 4, 1, 1);
        assert_eq!(out, [1.5, 3.0, 6.0, 7.5]);
        let one = Guide::new(&View { size: Size::new(1, 1), pixels: vec![[0.5; 3]], around: None }, 0.1, 0.1);
        assert!(one.base(0, 0, (1.0, 1.0), &[0.5; CHUNK])[0].is_finite());
    }
}
