//! Upscale: two, three or four times as large each way, keeping edges.
//!
//! Cubic interpolation, then twice: along edges only, smoothed by what the structure tensor (W. Förstner and E. Gülch,
//! 1987) says is their direction; and corrected until the result, reduced again, is the picture it came from (M. Irani
//! and S. Peleg, "Improving resolution by image registration", 1991). No value leaves the range of the 3 × 3 pixels of
//! the original around it, so that nothing rings. On sRGB-encoded values. Needs a halo of 28 input pixels; allocates
//! some planes the size of a tile's result.

use crate::denoise::{apart, together};
use crate::geometry::{Affine, Rect, Size};
use crate::point::Pixel;
use crate::resample::cubic;
use crate::step::{EnlargeOp, Geometry, Kind, Param, Step, StepInfo, StepKind, values_of};
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// Description.
pub static INFO: StepInfo = StepInfo {
    id: "upscale",
    title: "Upscale",
    group: "geometry",
    about: "Makes the picture two, three or four times as large each way, with clean edges and without rings. Cannot sensibly be done twice. The result may have at most 400 megapixels.",
    words: &["upscale", "enlarge", "larger", "bigger", "double", "resolution", "super", "2x", "4x", "print"],
    neutral: r#"{"factor": "1"}"#,
    starter: r#"{"factor": "2"}"#,
};

static PARAMS: [Param; 1] = [Param {
    name: "factor",
    about: "How many times as large each way.",
    unit: "",
    kind: Kind::Choice(&["1", "2", "3", "4"]),
}];

/// Registration.
pub static KIND: StepKind = StepKind::of::<Upscale>(&INFO, &PARAMS);

/// Values of the step.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Upscale {
    /// `1` … `4`.
    pub factor: String,
}

impl Default for Upscale {
    fn default() -> Self {
        Self { factor: "2".into() }
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

/// Rounds of smoothing along edges, and corrections in each.
const ROUNDS: usize = 2;
const CORRECTIONS: usize = 2;

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
        for y in 0..small.height {
            for x in 0..small.width {
                for (i, w) in self.cubic.iter().enumerate() {
                    let first = x as i64 - if 2 * i + 1 < f { 2 } else { 1 };
                    let v = (0..4).map(|k| small.at(first + k, y as i64) * w[k as usize]).sum();
                    across.values[y * across.width + x * f + i] = v;
                }
            }
        }
        let mut out = Plane::new(across.width, small.height * f);
        for y in 0..small.height {
            for (i, w) in self.cubic.iter().enumerate() {
                let first = y as i64 - if 2 * i + 1 < f { 2 } else { 1 };
                let rows: [&[f32]; 4] = std::array::from_fn(|k| across.row(first + k as i64));
                let to = &mut out.values[(y * f + i) * across.width..][..across.width];
                for (x, o) in to.iter_mut().enumerate() {
                    *o = rows[0][x] * w[0] + rows[1][x] * w[1] + rows[2][x] * w[2] + rows[3][x] * w[3];
                }
            }
        }
        out
    }

    /// The mean over each input pixel.
    fn down(&self, large: &Plane) -> Plane {
        let f = self.factor;
        let mut out = Plane::new(large.width / f, large.height / f);
        for y in 0..out.height {
            for x in 0..out.width {
                let mut sum = 0f32;
                for v in 0..f {
                    let at = (y * f + v) * large.width + x * f;
                    sum += large.values[at..at + f].iter().sum::<f32>();
                }
                out.values[y * out.width + x] = sum / (f * f) as f32;
            }
        }
        out
    }

    /// Corrects a plane until, reduced, it is the small one; within the range around each small pixel.
    fn correct(&self, small: &Plane, range: &(Plane, Plane), large: &mut Plane) {
        let f = self.factor;
        for _ in 0..CORRECTIONS {
            let mut off = self.down(large);
            for (o, s) in off.values.iter_mut().zip(&small.values) {
                *o = s - *o;
            }
            let more = self.up(&off);
            for y in 0..large.height {
                for x in 0..large.width {
                    let (at, own) = (y * large.width + x, y / f * small.width + x / f);
                    let v = large.values[at] + more.values[at];
                    large.values[at] = v.clamp(range.0.values[own], range.1.values[own]);
                }
            }
        }
    }

    /// Directions along the edges, times how clearly there is one.
    fn edges(&self, light: &Plane) -> (Plane, Plane, Plane) {
        let (w, h) = (light.width, light.height);
        let mut tensor = [0; 3].map(|_| Plane::new(w, h));
        for y in 0..h as i64 {
            for x in 0..w as i64 {
                let at = |dx: i64, dy: i64| light.at(x + dx, y + dy);
                let gx = 3.0 * (at(1, -1) - at(-1, -1))
                    + 10.0 * (at(1, 0) - at(-1, 0))
                    + 3.0 * (at(1, 1) - at(-1, 1));
                let gy = 3.0 * (at(-1, 1) - at(-1, -1))
                    + 10.0 * (at(0, 1) - at(0, -1))
                    + 3.0 * (at(1, 1) - at(1, -1));
                let i = y as usize * w + x as usize;
                for (t, v) in tensor.iter_mut().zip([gx * gx, gx * gy, gy * gy]) {
                    t.values[i] = v / 1024.0;
                }
            }
        }
        let [a, b, c] = tensor.map(|t| t.blurred(&self.gather));
        let (mut along_x, mut along_y, mut clear) = (Plane::new(w, h), Plane::new(w, h), Plane::new(w, h));
        for i in 0..w * h {
            let (a, b, c) = (a.values[i], b.values[i], c.values[i]);
            let spread = ((a - c) * (a - c) + 4.0 * b * b).sqrt();
            let angle = 0.5 * (2.0 * b).atan2(a - c);
            (along_x.values[i], along_y.values[i]) = (-angle.sin(), angle.cos());
            clear.values[i] = spread / (a + c + 1e-5);
        }
        (along_x, along_y, clear)
    }
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

    /// Between the pixels, linearly: so far away from a pixel.
    fn between(&self, x: i64, y: i64, dx: f32, dy: f32) -> f32 {
        let (fx, fy) = (dx.floor(), dy.floor());
        let (s, t) = (dx - fx, dy - fy);
        let (x, y) = (x + fx as i64, y + fy as i64);
        (self.at(x, y) * (1.0 - s) + self.at(x + 1, y) * s) * (1.0 - t)
            + (self.at(x, y + 1) * (1.0 - s) + self.at(x + 1, y + 1) * s) * t
    }

    fn blurred(&self, kernel: &[f32]) -> Self {
        let reach = kernel.len() as i64 - 1;
        let mut across = Self::new(self.width, self.height);
        for y in 0..self.height {
            let row = self.row(y as i64);
            for x in 0..self.width as i64 {
                let near = |x: i64| row[x.clamp(0, self.width as i64 - 1) as usize];
                let v = (1..=reach).map(|k| (near(x - k) + near(x + k)) * kernel[k as usize]).sum::<f32>();
                across.values[y * self.width + x as usize] = v + near(x) * kernel[0];
            }
        }
        let mut out = Self::new(self.width, self.height);
        for y in 0..self.height {
            let to = &mut out.values[y * self.width..(y + 1) * self.width];
            for (o, c) in to.iter_mut().zip(across.row(y as i64)) {
                *o = c * kernel[0];
            }
            for k in 1..=reach {
                let (up, low) = (across.row(y as i64 - k), across.row(y as i64 + k));
                for ((o, a), b) in to.iter_mut().zip(up).zip(low) {
                    *o += (a + b) * kernel[k as usize];
                }
            }
        }
        out
    }

    /// Smallest and largest of the 3 × 3 around each pixel.
    fn range(&self) -> (Self, Self) {
        let (mut low, mut high) = (Self::new(self.width, self.height), Self::new(self.width, self.height));
        for y in 0..self.height as i64 {
            for x in 0..self.width as i64 {
                let (mut a, mut b) = (f32::MAX, f32::MIN);
                for v in -1..=1 {
                    for u in -1..=1 {
                        let n = self.at(x + u, y + v);
                        (a, b) = (a.min(n), b.max(n));
                    }
                }
                let i = y as usize * self.width + x as usize;
                (low.values[i], high.values[i]) = (a, b);
            }
        }
        (low, high)
    }

    /// Smoothed along the edges.
    fn along(&self, (dx, dy, clear): &(Self, Self, Self)) -> Self {
        let mut out = Self::new(self.width, self.height);
        for y in 0..self.height {
            for x in 0..self.width {
                let i = y * self.width + x;
                let (u, v) = (1.5 * dx.values[i], 1.5 * dy.values[i]);
                let (px, py) = (x as i64, y as i64);
                let pair = |k: f32| self.between(px, py, k * u, k * v) + self.between(px, py, -k * u, -k * v);
                let own = self.values[i];
                let mean = 0.4 * own + 0.2 * pair(1.0) + 0.1 * pair(2.0);
                out.values[i] = own + (mean - own) * clear.values[i];
            }
        }
        out
    }
}

impl EnlargeOp for Enlarge {
    fn factor(&self) -> i64 {
        self.factor as i64
    }
    fn halo(&self) -> i64 {
        28
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
        for _ in 0..ROUNDS {
            let edges = self.edges(&large[0]);
            for c in 0..3 {
                let mut smooth = large[c].along(&edges);
                self.correct(&small[c], &ranges[c], &mut smooth);
                large[c] = smooth;
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
    use crate::steps_testing::{picture, whole};
    use crate::tone::{decode, encode};

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
