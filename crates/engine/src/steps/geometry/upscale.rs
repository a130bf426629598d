//! Upscale: two, three or four times as large each way, keeping edges.
//!
//! Cubic interpolation, then twice: along edges only, smoothed by what the structure tensor (W. Förstner and E. Gülch,
//! 1987) says is their direction; and corrected until the result, reduced again, is the picture it came from (M. Irani
//! and S. Peleg, "Improving resolution by image registration", 1991). No value leaves the range of the 3 × 3 pixels of
//! the original around it, so that nothing rings. On sRGB-encoded values. Needs a halo of 26, 36 or 56 input pixels; allocates
//! some planes the size of a tile's result.

use crate::geometry::{Affine, Rect, Size};
use crate::ops::denoise::{apart, together};
use crate::ops::planes::Pixel;
use crate::ops::resample::cubic;
use crate::step::{Effect, EnlargeOp, Geometry, Kind, Step, step, values_of};
use multiversion::multiversion;
use serde_json::Value;

step! {
    /// Makes the picture two, three or four times as large each way, with clean edges and without rings.
    /// Cannot sensibly be done twice. The result may have at most 400 megapixels.
    pub struct Upscale: PartialEq {
        id: "upscale",
        title: "Upscale",
        group: "geometry",
        words: [
            "upscale", "enlarge", "larger", "bigger", "double", "resolution", "super", "2x", "4x",
            "print",
        ],
        neutral: r#"{"factor": "1"}"#,
        starter: r#"{"factor": "2"}"#,
        facts: {
            moves_pixels: true,
            once: Some("enlarged"),
            effects: &[Effect::RaisesNoise, Effect::Resizes, Effect::Enlarges],
            starts_as_last_time: true,
        },
    }
    parameters {
        /// How many times as large each way.
        factor: String = "2".into(), Kind::Choice(&["1", "2", "3", "4"]);
    }
}

impl Upscale {
    fn times(&self) -> u32 {
        self.factor.parse().unwrap_or(1)
    }
}

impl Step for Upscale {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        "Upscale {factor} times.".into()
    }
    fn geometry(&self, size: Size) -> Option<Geometry> {
        let n = self.times();
        let map = Affine::scale(1.0 / f64::from(n), 1.0 / f64::from(n));
        let size = Size::new(size.width.saturating_mul(n), size.height.saturating_mul(n));
        (n > 1).then(|| Geometry { map: map.into(), size })
    }
    fn enlarger(&self) -> Option<Box<dyn EnlargeOp>> {
        let n = self.times() as usize;
        (n > 1).then(|| Box::new(Enlarge::new(n)) as Box<dyn EnlargeOp>)
    }
}

/// Rounds of smoothing along edges, by the factor; found on photographs (`benches/upscale`).
const ROUNDS: [usize; 5] = [0, 0, 2, 3, 5];
/// Corrections in each round.
const CORRECTIONS: usize = 2;
/// How far the samples along an edge lie from each other, in input pixels.
const ALONG: f32 = 0.75;
/// Furthest that two of those samples reach, in pixels of the result, and one more.
const AWAY: usize = 8;

struct Enlarge {
    factor: usize,
    /// Weights of four input pixels for each output pixel of one.
    cubic: Vec<[f32; 4]>,
    /// Half the Gaussian the tensor is gathered with, the middle first.
    gather: Vec<f32>,
}

impl Enlarge {
    fn new(factor: usize) -> Self {
        let weights = (0..factor)
            .map(|i| {
                // Where the pixel's middle lies, from the middle of the one it belongs to.
                let at = (i as f64 + 0.5) / factor as f64 - 0.5;
                let first = if at < 0.0 { -2.0 } else { -1.0 };
                std::array::from_fn(|k| cubic(first + k as f64 - at) as f32)
            })
            .collect();
        let sigma = 0.8 * factor as f64;
        let raw: Vec<f64> =
            (0..=2 * factor).map(|i| (-((i * i) as f64) / (2.0 * sigma * sigma)).exp()).collect();
        let sum = raw[0] + 2.0 * raw[1..].iter().sum::<f64>();
        Self { factor, cubic: weights, gather: raw.iter().map(|v| (v / sum) as f32).collect() }
    }

    /// A plane enlarged by cubic interpolation, edges repeated.
    fn up(&self, small: &Plane) -> Plane {
        let f = self.factor;
        let mut across = Plane::new(small.width * f, small.height);
        let (mut wide, mut one) = (Vec::new(), vec![0f32; small.width]);
        for y in 0..small.height {
            repeat_ends(small.row(y as i64), 2, &mut wide);
            let to = &mut across.values[y * small.width * f..][..small.width * f];
            for (i, weights) in self.cubic.iter().enumerate() {
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
            for (i, weights) in self.cubic.iter().enumerate() {
                let first = y as i64 - if 2 * i + 1 < f { 2 } else { 1 };
                let rows: [&[f32]; 4] = std::array::from_fn(|k| across.row(first + k as i64));
                let to = &mut out.values[(y * f + i) * across.width..][..across.width];
                four(rows, weights, to);
            }
        }
        out
    }

    /// What is missing in the means over each input pixel.
    fn missing(&self, small: &Plane, large: &Plane) -> Plane {
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

    /// Corrects a plane until, reduced, it is the small one; within the range around each small pixel.
    fn correct(&self, small: &Plane, range: &(Plane, Plane), large: &mut Plane) {
        let f = self.factor;
        let width = large.width;
        let (mut low, mut high) = (vec![0f32; width], vec![0f32; width]);
        for _ in 0..CORRECTIONS {
            let more = self.up(&self.missing(small, large));
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

/// A row with its first and last value repeated `count` times.
fn repeat_ends(row: &[f32], count: usize, out: &mut Vec<f32>) {
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

/// Values row by row.
struct Plane {
    width: usize,
    height: usize,
    values: Vec<f32>,
}

impl Plane {
    fn new(width: usize, height: usize) -> Self {
        Self { width, height, values: vec![0.0; width * height] }
    }

    fn row(&self, y: i64) -> &[f32] {
        let y = y.clamp(0, self.height as i64 - 1) as usize;
        &self.values[y * self.width..(y + 1) * self.width]
    }

    #[inline]
    fn at(&self, x: i64, y: i64) -> f32 {
        self.row(y)[x.clamp(0, self.width as i64 - 1) as usize]
    }

    fn blurred(&self, kernel: &[f32]) -> Self {
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
    fn range(&self) -> (Self, Self) {
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

impl EnlargeOp for Enlarge {
    fn factor(&self) -> i64 {
        self.factor as i64
    }
    fn halo(&self) -> i64 {
        // Interpolation and corrections at first; slopes, their gathering, samples and corrections in each round.
        6 + 10 * ROUNDS[self.factor] as i64
    }
    fn run(&self, input: &[Pixel], have: Rect, rect: Rect, out: &mut Vec<Pixel>) {
        let mut small = [0; 3].map(|_| Plane::new(have.width as usize, have.height as usize));
        for (i, p) in input.iter().enumerate() {
            for (plane, v) in small.iter_mut().zip(apart([p[0], p[1], p[2]])) {
                plane.values[i] = v;
            }
        }
        let ranges: [_; 3] = std::array::from_fn(|c| small[c].range());
        let mut large: [Plane; 3] = std::array::from_fn(|c| {
            let mut plane = self.up(&small[c]);
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
        let f = self.factor as i64;
        out.clear();
        for y in rect.y..rect.bottom() {
            for x in rect.x..rect.right() {
                let i = ((y - have.y * f) * have.width * f + x - have.x * f) as usize;
                let [r, g, b] = together([large[0].values[i], large[1].values[i], large[2].values[i]]);
                out.push([r, g, b, 0.0]);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::colour::transfer::{decode, encode};
    use crate::steps::testing::{picture, whole};

    /// A disc, a slanted edge and waves, as encoded values, each pixel the mean over its area.
    fn scene(x: f64, y: f64, side: f64) -> f64 {
        let n = 6;
        let mut sum = 0.0;
        for j in 0..n {
            for i in 0..n {
                let (u, v) = (
                    x + (f64::from(i) + 0.5) / f64::from(n) * side,
                    y + (f64::from(j) + 0.5) / f64::from(n) * side,
                );
                let disc = (u - 60.0).hypot(v - 55.0) < 31.3;
                let edge = 0.31 * u + v > 118.0;
                let wave = 0.08 * (0.55 * u + 0.21 * v).sin();
                sum += if disc {
                    0.8
                } else if edge {
                    0.25
                } else {
                    0.5 + wave
                };
            }
        }
        sum / f64::from(n * n)
    }

    fn error(f: u32, enlarged: &[f32]) -> f64 {
        let size = 120 / f * f;
        let mut sum = 0.0;
        for y in 8..size - 8 {
            for x in 8..size - 8 {
                let want = scene(f64::from(x), f64::from(y), 1.0);
                sum += (f64::from(enlarged[(y * size + x) as usize]) - want).powi(2);
            }
        }
        -10.0 * (sum / f64::from((size - 16) * (size - 16))).log10()
    }

    #[test]
    fn it_is_better_than_cubic_and_no_value_leaves_the_range() {
        for f in [2u32, 3, 4] {
            let side = 120 / f;
            let small = picture(Size::new(side, side), |x, y| {
                [decode(scene(f64::from(x * f), f64::from(y * f), f.into()) as f32); 3]
            });
            let (size, out) = whole(Upscale { factor: f.to_string() }, &small);
            assert_eq!(size, Size::new(side * f, side * f));
            let got: Vec<f32> = out.iter().map(|p| encode(p[1])).collect();
            let low = got.iter().copied().fold(1.0, f32::min);
            let high = got.iter().copied().fold(0.0, f32::max);
            assert!(low > 0.245 && high < 0.805, "{f}: rings to {low} and {high}");
            let op = Enlarge::new(f as usize);
            let mut plane = Plane::new(side as usize, side as usize);
            for y in 0..side {
                for x in 0..side {
                    plane.values[(y * side + x) as usize] =
                        scene(f64::from(x * f), f64::from(y * f), f.into()) as f32;
                }
            }
            let plain = op.up(&plane).values;
            let (ours, cubic) = (error(f, &got), error(f, &plain));
            assert!(ours > cubic + 0.8, "{f} times: {ours} dB, cubic {cubic} dB");
        }
    }
}
