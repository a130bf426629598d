//! Capture sharpening: takes back the softness of lens and sensor by deconvolution, at edges only.
//!
//! Richardson–Lucy iterations (W. H. Richardson, 1972; L. B. Lucy, 1974) on the luminance, linear light, with a
//! Gaussian spread. The result is mixed in by how much the neighbourhood holds beside noise: a mask from the local
//! variance on perceptual values, so that smooth areas keep their noise as it is. Ratios are limited, so that edges get
//! no ringing beyond the range around them. Where the corners are softer, it is done for both, and each pixel takes of the two by the
//! blur at its distance from the middle, whose variance grows with the square of it. Needs a halo of the kernel's radius per pass; allocates five planes the
//! size of a tile.

use crate::analysis::softness::Softness;
use crate::colour::transfer::ENCODE;
use crate::colour::working::LUMINANCE;
use crate::geometry::Rect;
use crate::lens::{self, TakenWith};
use crate::ops::planes::Pixel;
use crate::step::{AreaOp, Effect, Kind, Op, Place, Step, step, values_of};
use multiversion::multiversion;
use serde_json::Value;

step! {
    /// Takes back the softness every lens and sensor leaves, by deconvolution on linear light, at edges and
    /// texture only. Belongs at full size, after the denoise.
    pub struct CaptureSharpening: PartialEq {
        id: "capture_sharpening",
        title: "Capture sharpening",
        group: "detail",
        words: ["capture", "sharpening", "sharpen", "deconvolution", "soft", "lens", "crisp", "raw"],
        neutral: r#"{"amount": 0}"#,
        starter: r#"{"amount": 60}"#,
        facts: {
            once: Some("sharpened"),
            judged_at_full_size: true,
            effects: &[Effect::RaisesNoise, Effect::RestoresCapture],
            starts_as_last_time: true,
        },
    }
    parameters {
        /// How much of it is mixed in.
        amount: f64 = 60.0, Kind::Number { min: 0.0, max: 100.0, step: 1.0 }, "%";
        /// How soft the picture is: standard deviation, in thousandths of the long edge.
        radius: f64 = 0.12, Kind::Number { min: 0.02, max: 1.0, step: 0.01 }, "‰ of the long edge";
        /// The same in the corners, where they are softer; 0: as in the middle.
        corners: f64 = 0.0, Kind::Number { min: 0.0, max: 1.0, step: 0.01 }, "‰ of the long edge";
        /// Whether both are taken as they were measured for the lens a picture was taken with, where they were.
        by_lens: bool = false, Kind::Flag;
        /// Areas with less detail than this are left alone, in hundredths of the brightness range.
        smooth: f64 = 2.0, Kind::Number { min: 0.0, max: 20.0, step: 0.5 }, "%";
    }
    measured {
        measured: Option<Softness> = None;
    }
}

/// How soft a picture is, in pixels.
#[derive(Clone, Copy)]
struct Deviation {
    middle: f64,
    corner: f64,
}

/// Passes of the iteration.
const PASSES: usize = 6;
/// Largest deviation, in pixels: beyond it, the mask's work is that of an unsharp mask.
const WIDEST: f64 = 2.0;

impl CaptureSharpening {
    fn deviation(&self, place: &Place) -> Deviation {
        let Softness { middle, corner } =
            self.measured.unwrap_or(Softness { middle: self.radius, corner: self.corners });
        let pixels =
            |share: f64| (share / 1000.0 * f64::from(place.size.long_edge()) * place.scale).min(WIDEST);
        Deviation { middle: pixels(middle), corner: pixels(corner.max(middle)) }
    }
}

impl Step for CaptureSharpening {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        let radius = match (self.by_lens, self.corners > self.radius) {
            (true, _) => "as measured for the lens",
            (false, true) => "radius {radius}, {corners} in the corners",
            (false, false) => "radius {radius}",
        };
        format!("Capture sharpening {{amount}}, {radius}, smooth areas up to {{smooth}} left alone.")
    }
    fn for_frame(&self, taken: &dyn Fn() -> TakenWith) -> Option<Box<dyn Step>> {
        let lens = self.by_lens.then(|| taken().lens).flatten();
        let measured = lens.as_deref().and_then(lens::softness);
        self.by_lens.then(|| Box::new(Self { measured, ..self.clone() }) as _)
    }
    fn known_of_frame(&self) -> Option<String> {
        self.measured.map(|m| format!("{} {}", m.middle, m.corner))
    }
    fn note(&self) -> Option<String> {
        self.by_lens.then(|| match self.measured {
            Some(Softness { middle, corner }) => {
                format!("Measured: {middle:.2} ‰ in the middle, {corner:.2} ‰ in the corners.")
            }
            None => "This lens was not measured; the values given here are used.".into(),
        })
    }
    fn ops(&self, place: &Place) -> Vec<Op> {
        let Deviation { middle, corner } = self.deviation(place);
        if self.amount == 0.0 || corner < 0.25 {
            return Vec::new();
        }
        // Below a quarter of a pixel there is nothing to be taken back.
        let middle = middle.max(0.25);
        let (w, h) = (f64::from(place.size.width) * place.scale, f64::from(place.size.height) * place.scale);
        let corners = (corner > middle + 0.01).then(|| Corners {
            kernel: kernel(corner),
            centre: (w / 2.0, h / 2.0),
            per: (corner * corner - middle * middle) / ((w * w + h * h) / 4.0),
            deviation: Deviation { middle, corner },
        });
        vec![Op::Area(Box::new(Unblur {
            kernel: kernel(middle),
            corners,
            amount: self.amount as f32 / 100.0,
            smooth: self.smooth as f32 / 100.0,
        }))]
    }
    fn pixels(&self, place: &Place) -> Vec<(&'static str, f64)> {
        let Deviation { middle, corner } = self.deviation(place);
        vec![("radius", middle), ("corners", corner)]
    }
    fn needs_detail(&self) -> bool {
        true
    }
}

/// Half of a Gaussian, its middle first.
fn kernel(sigma: f64) -> Vec<f32> {
    let reach = (2.5 * sigma).ceil() as usize;
    let raw: Vec<f64> = (0..=reach).map(|i| (-((i * i) as f64) / (2.0 * sigma * sigma)).exp()).collect();
    let sum = raw[0] + 2.0 * raw[1..].iter().sum::<f64>();
    raw.iter().map(|v| (v / sum) as f32).collect()
}

/// Corners that are softer than the middle.
struct Corners {
    kernel: Vec<f32>,
    /// The picture's middle, in pixels.
    centre: (f64, f64),
    /// What the variance of the blur grows by with the square of the distance.
    per: f64,
    deviation: Deviation,
}

impl Corners {
    /// How far the blur of a place is that of the corner, 0 ..= 1.
    fn share(&self, x: i64, y: i64) -> f32 {
        let (dx, dy) = (x as f64 + 0.5 - self.centre.0, y as f64 + 0.5 - self.centre.1);
        let Deviation { middle, corner } = self.deviation;
        let here = (middle * middle + self.per * (dx * dx + dy * dy)).sqrt();
        ((here - middle) / (corner - middle)).clamp(0.0, 1.0) as f32
    }
}

struct Unblur {
    /// Half the kernel, the middle first.
    kernel: Vec<f32>,
    corners: Option<Corners>,
    amount: f32,
    smooth: f32,
}

impl AreaOp for Unblur {
    fn halo(&self) -> i64 {
        let widest = self.corners.as_ref().map_or(&self.kernel, |corners| &corners.kernel);
        (widest.len() as i64 - 1) * 2 * PASSES as i64
    }
    fn run(&self, input: &[Pixel], have: Rect, rect: Rect, out: &mut Vec<Pixel>) {
        let (wide, high) = (have.width as usize, have.height as usize);
        let seen: Vec<f32> = input
            .iter()
            .map(|p| (LUMINANCE[0] * p[0] + LUMINANCE[1] * p[1] + LUMINANCE[2] * p[2]).max(1e-6))
            .collect();
        let mut guess = taken_back(&self.kernel, &seen, wide, high);
        if let Some(corners) = &self.corners {
            let softer = taken_back(&corners.kernel, &seen, wide, high);
            for (i, (middle, corner)) in guess.iter_mut().zip(softer).enumerate() {
                let share = corners.share(have.x + (i % wide) as i64, have.y + (i / wide) as i64);
                *middle += (corner - *middle) * share;
            }
        }
        self.put(input, &seen, &guess, have, rect, out);
    }
}

/// The luminance without its blur.
fn taken_back(kernel: &[f32], seen: &[f32], wide: usize, high: usize) -> Vec<f32> {
    let mut guess = seen.to_vec();
    let (mut one, mut two) = (vec![0f32; seen.len()], vec![0f32; seen.len()]);
    for _ in 0..PASSES {
        blur(kernel, &guess, wide, high, &mut one, &mut two);
        for (b, s) in two.iter_mut().zip(seen) {
            // A single pass never more than doubles or halves.
            *b = (s / b.max(1e-6)).clamp(0.5, 2.0);
        }
        let ratio = two.clone();
        blur(kernel, &ratio, wide, high, &mut one, &mut two);
        for (g, r) in guess.iter_mut().zip(&two) {
            *g *= r;
        }
    }
    guess
}

impl Unblur {
    /// Mixes the sharper luminance in where there is detail.
    fn put(
        &self,
        input: &[Pixel],
        seen: &[f32],
        guess: &[f32],
        have: Rect,
        rect: Rect,
        out: &mut Vec<Pixel>,
    ) {
        let wide = have.width;
        out.clear();
        for y in rect.y..rect.bottom() {
            for x in rect.x..rect.right() {
                let (mut sum, mut square, mut n) = (0f32, 0f32, 0f32);
                let (mut low, mut top) = (f32::MAX, f32::MIN);
                for v in (y - 1).max(have.y)..=(y + 1).min(have.bottom() - 1) {
                    for u in (x - 1).max(have.x)..=(x + 1).min(have.right() - 1) {
                        let s = seen[((v - have.y) * wide + u - have.x) as usize];
                        (low, top) = (low.min(s), top.max(s));
                        let e = ENCODE.at(s);
                        sum += e;
                        square += e * e;
                        n += 1.0;
                    }
                }
                let spread = (square / n - (sum / n) * (sum / n)).max(0.0).sqrt();
                let mask = ((spread - self.smooth) / self.smooth.max(0.004)).clamp(0.0, 1.0);
                let at = ((y - have.y) * wide + x - have.x) as usize;
                // Up to half as far beyond the neighbourhood as it is wide: crisp, without rings.
                let room = 0.5 * (top - low);
                let sharp = guess[at].clamp((low - room).max(0.0), top + room);
                let factor = 1.0 + (sharp / seen[at] - 1.0) * mask * self.amount;
                out.push(if factor == 1.0 {
                    input[at]
                } else {
                    input[at].map(|v| (v * factor).clamp(0.0, 16.0))
                });
            }
        }
    }
}

/// `two = kernel ∗ from`, rows then columns, edges repeated.
#[multiversion(targets("x86_64+avx2", "x86_64+sse4.1", "aarch64+neon"))]
fn blur(kernel: &[f32], from: &[f32], wide: usize, high: usize, across: &mut [f32], two: &mut [f32]) {
    let reach = kernel.len() - 1;
    let mut padded = vec![0f32; wide + 2 * reach];
    for (row, to) in from.chunks(wide).zip(across.chunks_mut(wide)) {
        padded[..reach].fill(row[0]);
        padded[reach..reach + wide].copy_from_slice(row);
        padded[reach + wide..].fill(row[wide - 1]);
        for (v, c) in to.iter_mut().zip(&padded[reach..]) {
            *v = c * kernel[0];
        }
        for k in 1..=reach {
            let (a, b) = (&padded[reach - k..], &padded[reach + k..]);
            for ((v, a), b) in to.iter_mut().zip(a).zip(b) {
                *v += (a + b) * kernel[k];
            }
        }
    }
    for y in 0..high {
        let line = |y: i64| {
            let at = y.clamp(0, high as i64 - 1) as usize * wide;
            &across[at..at + wide]
        };
        let to = &mut two[y * wide..(y + 1) * wide];
        for (v, c) in to.iter_mut().zip(line(y as i64)) {
            *v = c * kernel[0];
        }
        for k in 1..=reach {
            let (a, b) = (line(y as i64 - k as i64), line(y as i64 + k as i64));
            for ((v, a), b) in to.iter_mut().zip(a).zip(b) {
                *v += (a + b) * kernel[k];
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Size;
    use crate::steps::testing::{picture, whole};

    /// A scene of soft blobs and an edge, blurred by a Gaussian of deviation `s` in closed form.
    fn scene(s: f64, noise: f64) -> crate::Picture {
        let erf = |x: f64| {
            // A. Abramowitz and I. Stegun, 7.1.26.
            let t = 1.0 / (1.0 + 0.327_591_1 * x.abs());
            let p = t
                * (0.254_829_592
                    + t * (-0.284_496_736 + t * (1.421_413_741 + t * (-1.453_152_027 + t * 1.061_405_429))));
            (1.0 - p * (-x * x).exp()).copysign(x)
        };
        picture(Size::new(1000, 60), move |x, y| {
            let (x, y) = (f64::from(x) + 0.5, f64::from(y) + 0.5);
            let own = (1.0 + s * s).sqrt();
            let mut v = 0.3 + 0.15 * erf((x - 500.0) / (own * 2f64.sqrt()));
            for i in 0..40 {
                let (cx, cy) = (f64::from(i) * 24.0 + 12.0, 10.0 + f64::from(i * 17 % 40));
                let wide = 2.0 + s * s;
                v += 0.2 * 2.0 / wide * (-((x - cx).powi(2) + (y - cy).powi(2)) / (2.0 * wide)).exp();
            }
            let n = ((x * 12.9898 + y * 78.233).sin() * 43_758.547).fract() - 0.5;
            [(v + noise * n) as f32; 3]
        })
    }

    fn error(a: &[[f32; 3]], b: &[[f32; 3]]) -> f64 {
        (a.iter().zip(b).map(|(a, b)| f64::from(a[1] - b[1]).powi(2)).sum::<f64>() / a.len() as f64).sqrt()
    }

    #[test]
    fn a_known_blur_is_taken_back() {
        let nothing = || CaptureSharpening { amount: 0.0, ..CaptureSharpening::default() };
        let (_, truth) = whole(nothing(), &scene(0.0, 0.0));
        let (_, soft) = whole(nothing(), &scene(0.8, 0.0));
        let step =
            CaptureSharpening { amount: 100.0, radius: 0.8, smooth: 0.0, ..CaptureSharpening::default() };
        let (_, sharp) = whole(step, &scene(0.8, 0.0));
        let (before, after) = (error(&soft, &truth), error(&sharp, &truth));
        assert!(after < 0.4 * before, "{before} became {after}");
    }

    #[test]
    fn smooth_areas_keep_their_noise_as_it_is() {
        let flat = |noise: f64| {
            picture(Size::new(400, 40), move |x, y| {
                let n = ((f64::from(x) * 12.9898 + f64::from(y) * 78.233).sin() * 43_758.547).fract() - 0.5;
                [(0.2 + noise * n) as f32; 3]
            })
        };
        let nothing = CaptureSharpening { amount: 0.0, ..CaptureSharpening::default() };
        let (_, before) = whole(nothing, &flat(0.01));
        let step =
            CaptureSharpening { amount: 100.0, radius: 1.0, smooth: 3.0, ..CaptureSharpening::default() };
        let (_, after) = whole(step, &flat(0.01));
        assert_eq!(before, after);
    }

    #[test]
    fn corners_that_are_softer_are_sharpened_as_such_and_the_middle_as_it_is() {
        let nothing = || CaptureSharpening { amount: 0.0, ..CaptureSharpening::default() };
        let step = |corners: f64| CaptureSharpening {
            amount: 100.0,
            radius: 0.4,
            smooth: 0.0,
            corners,
            ..CaptureSharpening::default()
        };
        // As soft everywhere as a lens draws its corners: only there it is taken back.
        let (_, truth) = whole(nothing(), &scene(0.0, 0.0));
        let (_, by_middle) = whole(step(0.0), &scene(0.9, 0.0));
        let (_, by_corners) = whole(step(0.9), &scene(0.9, 0.0));
        let part = |pixels: &[[f32; 3]], from: usize, to: usize| -> Vec<[f32; 3]> {
            pixels.chunks(1000).flat_map(|row| row[from..to].to_vec()).collect()
        };
        let of = |pixels: &[[f32; 3]], from, to| error(&part(pixels, from, to), &part(&truth, from, to));
        assert!(of(&by_corners, 0, 120) < 0.7 * of(&by_middle, 0, 120));
        let (a, b) = (part(&by_middle, 495, 505), part(&by_corners, 495, 505));
        assert!(error(&a, &b) < 0.002);
    }

    #[test]
    fn a_lens_that_was_measured_goes_before_what_is_given() {
        let folder = tempfile::tempdir().unwrap();
        let softness = Softness { middle: 0.2, corner: 0.5 };
        lens::keep_softness(folder.path(), "Hedge 20mm f/4", softness).unwrap();
        let step = CaptureSharpening { by_lens: true, ..CaptureSharpening::default() };
        let with = |lens: &str| TakenWith { lens: Some(lens.into()), ..TakenWith::default() };
        let known = step.for_frame(&|| with("Hedge 20mm f/4")).unwrap();
        assert!(known.note().unwrap().contains("0.20 ‰ in the middle, 0.50 ‰"));
        let unknown = step.for_frame(&|| with("Hedge 90mm f/4")).unwrap();
        assert!(unknown.note().unwrap().contains("not measured"));
        assert!(CaptureSharpening::default().for_frame(&|| with("Hedge 20mm f/4")).is_none());
    }
}
