//! Enlarging along edges, without training.
//!
//! Cubic interpolation, then twice: along edges only, smoothed by what the structure tensor (W. Förstner and E. Gülch,
//! 1987) says is their direction; and corrected until the result, reduced again, is the picture it came from (M. Irani
//! and S. Peleg, "Improving resolution by image registration", 1991). No value leaves the range of the 3 × 3 pixels of
//! the original around it, so that nothing rings. Needs a halo of 26, 36 or 56 input pixels; allocates some planes the size
//! of a tile's result.

use super::plane::{Cubic, Plane, repeat_ends};
use super::{pixels_of, planes_of};
use crate::geometry::Rect;
use crate::ops::planes::Pixel;
use crate::step::EnlargeOp;
use multiversion::multiversion;

/// Rounds of smoothing along edges, by the factor; found on photographs (`benches/upscale`).
const ROUNDS: [usize; 5] = [0, 0, 2, 3, 5];
/// Corrections in each round.
const CORRECTIONS: usize = 2;
/// How far the samples along an edge lie from each other, in input pixels.
const ALONG: f32 = 0.75;
/// Furthest that two of those samples reach, in pixels of the result, and one more.
const AWAY: usize = 8;

/// Enlarges along edges.
pub struct AlongEdges {
    factor: usize,
    cubic: Cubic,
    /// Half the Gaussian the tensor is gathered with, the middle first.
    gather: Vec<f32>,
}

impl AlongEdges {
    /// To so many times the size: 2, 3 or 4.
    pub fn new(factor: usize) -> Self {
        let sigma = 0.8 * factor as f64;
        let raw: Vec<f64> =
            (0..=2 * factor).map(|i| (-((i * i) as f64) / (2.0 * sigma * sigma)).exp()).collect();
        let sum = raw[0] + 2.0 * raw[1..].iter().sum::<f64>();
        Self { factor, cubic: Cubic::new(factor), gather: raw.iter().map(|v| (v / sum) as f32).collect() }
    }

    /// Corrects a plane until, reduced, it is the small one; within the range around each small pixel.
    fn correct(&self, small: &Plane, range: &(Plane, Plane), large: &mut Plane) {
        let f = self.factor;
        let width = large.width;
        let (mut low, mut high) = (vec![0f32; width], vec![0f32; width]);
        for _ in 0..CORRECTIONS {
            let more = self.cubic.up(&self.cubic.missing(small, large));
            for y in 0..small.height {
                for (to, from) in [(&mut low, &range.0), (&mut high, &range.1)] {
                    for (to, from) in to.chunks_exact_mut(f).zip(from.row(y as i64)) {
                        to.fill(*from);
                    }
                }
                for v in y * f..(y + 1) * f {
                    let to = &mut large.values[v * width..][..width];
                    within(to, &more.values[v * width..][..width], &low, &high);
                }
            }
        }
    }

    /// Directions along the edges, times how clearly there is one.
    fn edges(&self, light: &Plane) -> (Plane, Plane, Plane) {
        let (w, h) = (light.width, light.height);
        let mut tensor = [0; 3].map(|_| Plane::new(w, h));
        let mut rows = [0; 3].map(|_| Vec::new());
        for y in 0..h {
            for (row, k) in rows.iter_mut().zip(-1i64..) {
                repeat_ends(light.row(y as i64 + k), 1, row);
            }
            let [a, b, c] = &mut tensor;
            let at = y * w..(y + 1) * w;
            slopes(&rows, &mut a.values[at.clone()], &mut b.values[at.clone()], &mut c.values[at]);
        }
        let [mut a, mut b, mut c] = tensor.map(|t| t.blurred(&self.gather));
        directions(&mut a.values, &mut b.values, &mut c.values);
        (a, b, c)
    }
}

/// Adds `more`, and holds the sums between `low` and `high`.
#[multiversion(targets("x86_64+avx2", "x86_64+sse4.1", "aarch64+neon"))]
fn within(to: &mut [f32], more: &[f32], low: &[f32], high: &[f32]) {
    let n = to.len();
    let (more, low, high) = (&more[..n], &low[..n], &high[..n]);
    for i in 0..n {
        to[i] = (to[i] + more[i]).max(low[i]).min(high[i]);
    }
}

/// The tensor of the slopes (H. Scharr's 3 × 3 kernels) of the middle one of three rows, each with its ends repeated.
#[multiversion(targets("x86_64+avx2", "x86_64+sse4.1", "aarch64+neon"))]
fn slopes(rows: &[Vec<f32>; 3], xx: &mut [f32], xy: &mut [f32], yy: &mut [f32]) {
    let n = xx.len();
    let (xy, yy) = (&mut xy[..n], &mut yy[..n]);
    let [up, mid, low] = rows;
    let (up, mid, low) = (&up[..n + 2], &mid[..n + 2], &low[..n + 2]);
    for i in 0..n {
        let gx = 3.0 * (up[i + 2] - up[i]) + 10.0 * (mid[i + 2] - mid[i]) + 3.0 * (low[i + 2] - low[i]);
        let gy = 3.0 * (low[i] - up[i]) + 10.0 * (low[i + 1] - up[i + 1]) + 3.0 * (low[i + 2] - up[i + 2]);
        xx[i] = gx * gx / 1024.0;
        xy[i] = gx * gy / 1024.0;
        yy[i] = gy * gy / 1024.0;
    }
}

/// Turns tensors into the direction along the edge, and how clear it is: the eigenvector of the smaller eigenvalue, by
/// the half-angle formulas.
#[multiversion(targets("x86_64+avx2", "x86_64+sse4.1", "aarch64+neon"))]
fn directions(xx: &mut [f32], xy: &mut [f32], yy: &mut [f32]) {
    let n = xx.len();
    let (xy, yy) = (&mut xy[..n], &mut yy[..n]);
    for i in 0..n {
        let (a, b, c) = (xx[i], xy[i], yy[i]);
        let spread = ((a - c) * (a - c) + 4.0 * b * b).sqrt();
        let double = (a - c) / (spread + 1e-20);
        let (cos, sin) = ((0.5 + 0.5 * double).max(0.0).sqrt(), (0.5 - 0.5 * double).max(0.0).sqrt());
        xx[i] = if b < 0.0 { sin } else { -sin };
        xy[i] = cos;
        yy[i] = spread / (a + c + 1e-5);
    }
}

/// All three planes smoothed along the edges, by what `edges` found in one.
fn along(planes: &[Plane; 3], (dx, dy, clear): &(Plane, Plane, Plane), step: f32) -> [Plane; 3] {
    let (w, h) = (planes[0].width, planes[0].height);
    let mut out = [0; 3].map(|_| Plane::new(w, h));
    for y in 0..h {
        for x in 0..w {
            let i = y * w + x;
            let (u, v) = (step * dx.values[i], step * dy.values[i]);
            let mut sums = [0f32; 3];
            let inside = x >= AWAY && y >= AWAY && x + AWAY + 1 < w && y + AWAY + 1 < h;
            for (k, weight) in [(1.0f32, 0.25f32), (-1.0, 0.25), (2.0, 0.125), (-2.0, 0.125)] {
                // Between four pixels, linearly.
                let (px, py) = (k * u + AWAY as f32, k * v + AWAY as f32);
                let (left, top) = (px as usize, py as usize);
                let (s, t) = (px - left as f32, py - top as f32);
                if inside {
                    let at = (y + top - AWAY) * w + x + left - AWAY;
                    for c in 0..3 {
                        let (up, low) =
                            (&planes[c].values[at..at + 2], &planes[c].values[at + w..at + w + 2]);
                        let (a, b) = (up[0] + (up[1] - up[0]) * s, low[0] + (low[1] - low[0]) * s);
                        sums[c] += weight * (a + (b - a) * t);
                    }
                } else {
                    let (px, py) = ((x + left) as i64 - AWAY as i64, (y + top) as i64 - AWAY as i64);
                    for c in 0..3 {
                        let p = &planes[c];
                        let a = p.at(px, py) + (p.at(px + 1, py) - p.at(px, py)) * s;
                        let b = p.at(px, py + 1) + (p.at(px + 1, py + 1) - p.at(px, py + 1)) * s;
                        sums[c] += weight * (a + (b - a) * t);
                    }
                }
            }
            for c in 0..3 {
                let value = planes[c].values[i];
                out[c].values[i] = value + (0.25 * value + sums[c] - value) * clear.values[i];
            }
        }
    }
    out
}

impl EnlargeOp for AlongEdges {
    fn factor(&self) -> i64 {
        self.factor as i64
    }
    fn halo(&self) -> i64 {
        // Interpolation and corrections at first; slopes, their gathering, samples and corrections in each round.
        6 + 10 * ROUNDS[self.factor] as i64
    }
    fn run(&self, input: &[Pixel], have: Rect, rect: Rect, out: &mut Vec<Pixel>) {
        let small = planes_of(input, have);
        let ranges: [_; 3] = std::array::from_fn(|c| small[c].range());
        let mut large: [Plane; 3] = std::array::from_fn(|c| {
            let mut plane = self.cubic.up(&small[c]);
            self.correct(&small[c], &ranges[c], &mut plane);
            plane
        });
        for _ in 0..ROUNDS[self.factor] {
            let edges = self.edges(&large[0]);
            large = along(&large, &edges, ALONG * self.factor as f32);
            for c in 0..3 {
                self.correct(&small[c], &ranges[c], &mut large[c]);
            }
        }
        pixels_of(&large, have, self.factor as i64, rect, out);
    }
}
