//! Unsharp mask on lightness: `L' = L + amount · detail`, `detail` being the difference to a Gaussian blur,
//! held back below a threshold. Colour is kept: the three channels are scaled alike.
//!
//! The lightness is the perceptual scale of the luminance. Needs a halo of three times the radius; allocates
//! two planes of floats the size of a tile.

use crate::colour::transfer::{CodedTable, DECODE, ENCODE, Table};
use crate::colour::working::LUMINANCE;
use crate::geometry::Rect;
use crate::ops::planes::Pixel;
use crate::step::{AreaOp, Effect, Kind, Op, Place, Step, step, values_of};
use multiversion::multiversion;
use serde_json::Value;

step! {
    /// Sharpens by raising the difference to a blurred copy; on the lightness only, computed on perceptual
    /// values. Best after the resize.
    pub struct UnsharpMask: PartialEq {
        id: "unsharp_mask",
        title: "Unsharp mask",
        group: "detail",
        words: ["sharp", "sharpen", "soft", "blurry", "crisp", "detail", "usm", "unsharp"],
        neutral: r#"{"amount": 0}"#,
        starter: r#"{"amount": 60}"#,
        facts: {
            judged_at_full_size: true,
            effects: &[Effect::RaisesNoise, Effect::SharpensEdges],
            starts_as_last_time: true,
        },
    }
    parameters {
        /// How much of the difference is added; 100 doubles fine detail.
        amount: f64 = 50.0, Kind::Number { min: 0.0, max: 100.0, step: 1.0 };
        /// Radius (standard deviation) of the blur, in thousandths of the long edge here.
        radius: f64 = 0.5, Kind::Number { min: 0.05, max: 5.0, step: 0.05 }, "‰ of the long edge";
        /// Differences below this, in hundredths of the brightness range, are left alone.
        threshold: f64 = 2.0, Kind::Number { min: 0.0, max: 100.0, step: 0.5 }, "%";
    }
}

impl UnsharpMask {
    fn sigma(&self, place: &Place) -> f64 {
        self.radius / 1000.0 * f64::from(place.size.long_edge()) * place.scale
    }
}

impl Step for UnsharpMask {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        "Unsharp mask {amount}, radius {radius}, from {threshold} on.".into()
    }
    fn ops(&self, place: &Place) -> Vec<Op> {
        let sigma = self.sigma(place);
        // Below a tenth of a pixel the blur is the picture itself.
        if self.amount == 0.0 || sigma < 0.1 {
            return Vec::new();
        }
        vec![Op::Area(Box::new(Mask::new(sigma, self.amount as f32 / 100.0, self.threshold as f32 / 100.0)))]
    }
    fn pixels(&self, place: &Place) -> Vec<(&'static str, f64)> {
        vec![("radius", self.sigma(place))]
    }
}

/// The work itself, for steps that sharpen for a purpose too.
pub(super) struct Mask {
    /// Half the kernel, the middle first.
    kernel: Vec<f32>,
    amount: f32,
    threshold: f32,
}

impl Mask {
    pub(super) fn new(sigma: f64, amount: f32, threshold: f32) -> Self {
        let reach = (3.0 * sigma).ceil().max(1.0) as usize;
        let raw: Vec<f64> = (0..=reach).map(|i| (-((i * i) as f64) / (2.0 * sigma * sigma)).exp()).collect();
        let sum = raw[0] + 2.0 * raw[1..].iter().sum::<f64>();
        Self { kernel: raw.iter().map(|v| (v / sum) as f32).collect(), amount, threshold }
    }
}

impl AreaOp for Mask {
    fn halo(&self) -> i64 {
        self.kernel.len() as i64 - 1
    }
    fn run(&self, input: &[Pixel], have: Rect, rect: Rect, out: &mut Vec<Pixel>) {
        let (encode, decode): (&Table, &CodedTable) = (&ENCODE, &DECODE);
        // Every pixel is written.
        out.resize(rect.area(), [0.0; 4]);
        sharpen(self, encode, decode, input, have, rect, out);
    }
}

const RUN: usize = 64;

#[multiversion(targets(
    "x86_64+avx512f+avx512vl+avx512dq+avx512bw",
    "x86_64+avx2",
    "x86_64+sse4.1",
    "aarch64+neon"
))]
fn sharpen(
    mask: &Mask,
    encode: &Table,
    decode: &CodedTable,
    input: &[Pixel],
    have: Rect,
    rect: Rect,
    out: &mut [Pixel],
) {
    let reach = mask.kernel.len() - 1;
    let (wide, high) = (have.width as usize, have.height as usize);
    let (width, height) = (rect.width as usize, rect.height as usize);
    let (left, top) = ((rect.x - have.x) as usize, (rect.y - have.y) as usize);
    // Lightness with the edge pixel repeated where the picture ends.
    let padded = width + 2 * reach;
    let mut light = vec![0f32; padded * high];
    let mut y = [0f32; RUN];
    for (row, to) in input.chunks(wide).zip(light.chunks_mut(padded)) {
        // Pixel i of the row stands at i + shift.
        let shift = reach - left;
        for (part, to) in row.chunks(RUN).zip(to[shift..].chunks_mut(RUN)) {
            for (v, p) in y.iter_mut().zip(part) {
                *v = LUMINANCE[0] * p[0] + LUMINANCE[1] * p[1] + LUMINANCE[2] * p[2];
            }
            encode.apply(&mut y);
            let n = part.len().min(to.len());
            to[..n].copy_from_slice(&y[..n]);
        }
        let first = to[shift];
        to[..shift].fill(first);
        let end = (shift + wide).min(padded);
        let last = to[end - 1];
        to[end..].fill(last);
    }
    let mut across = vec![0f32; width * high];
    for (row, to) in light.chunks(padded).zip(across.chunks_mut(width)) {
        for (v, c) in to.iter_mut().zip(&row[reach..reach + width]) {
            *v = c * mask.kernel[0];
        }
        for (k, w) in mask.kernel.iter().enumerate().skip(1) {
            let (before, after) = (&row[reach - k..reach - k + width], &row[reach + k..reach + k + width]);
            for ((v, a), b) in to.iter_mut().zip(before).zip(after) {
                *v += (a + b) * w;
            }
        }
    }
    let mut blur = vec![0f32; width];
    let line = |y: i64| {
        let at = y.clamp(0, high as i64 - 1) as usize * width;
        &across[at..at + width]
    };
    for j in 0..height {
        let middle = (j + top) as i64;
        for (v, c) in blur.iter_mut().zip(line(middle)) {
            *v = c * mask.kernel[0];
        }
        for (k, w) in mask.kernel.iter().enumerate().skip(1) {
            let (above, below) = (line(middle - k as i64), line(middle + k as i64));
            for ((v, a), b) in blur.iter_mut().zip(above).zip(below) {
                *v += (a + b) * w;
            }
        }
        let at = (j + top) * wide + left;
        let source = &input[at..at + width];
        let row_light = &light[(j + top) * padded + reach..][..width];
        let to = &mut out[j * width..(j + 1) * width];
        for i in (0..width).step_by(RUN) {
            let n = RUN.min(width - i);
            let mut target = [0f32; RUN];
            for k in 0..n {
                let detail = row_light[i + k] - blur[i + k];
                let size = (detail.abs() - mask.threshold).max(0.0);
                target[k] = row_light[i + k] + mask.amount * size.copysign(detail);
            }
            decode.apply(&mut target);
            for k in 0..n {
                let p = source[i + k];
                let y = LUMINANCE[0] * p[0] + LUMINANCE[1] * p[1] + LUMINANCE[2] * p[2];
                // Near black there is no colour to keep: the difference is added instead.
                let ratio = if y > 1e-4 { (target[k] / y).min(16.0) } else { 1.0 };
                let add = if y > 1e-4 { 0.0 } else { target[k] - y };
                // Untouched where the mask does nothing, so that rounding in the tables never shows.
                let detail = (row_light[i + k] - blur[i + k]).abs();
                let still = detail <= mask.threshold;
                to[i + k] = if still { p } else { p.map(|v| (v * ratio + add).clamp(0.0, 16.0)) };
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::colour::transfer::{decode, encode};

    #[test]
    fn a_step_edge_gets_the_overshoot_the_formula_gives() {
        // A vertical edge 0.3 | 0.7 on the perceptual scale, σ = 2: right beside the edge the blur is
        // the kernel's cumulative sum, so the sharpened value is known.
        let (width, height) = (40i64, 9i64);
        let rect = Rect::new(0, 0, width, height);
        let value = |x: i64| decode(if x < 20 { 0.3 } else { 0.7 });
        let input: Vec<Pixel> = (0..width * height)
            .map(|i| {
                let v = value(i % width);
                [v, v, v, 0.0]
            })
            .collect();
        let mask = Mask::new(2.0, 1.0, 0.0);
        let mut out = Vec::new();
        mask.run(&input, rect, rect, &mut out);
        let tail: f32 = mask.kernel[1..].iter().sum();
        let blur = 0.7 - 0.4 * tail;
        let want = 0.7 + (0.7 - blur);
        let got = encode(out[(4 * width + 20) as usize][0]);
        assert!((got - want).abs() < 1e-3, "{got} against {want}");
        // Far from the edge nothing happens.
        assert!((encode(out[(4 * width + 5) as usize][0]) - 0.3).abs() < 1e-4);
    }

    #[test]
    fn colour_is_kept_and_the_threshold_holds_back() {
        let rect = Rect::new(0, 0, 30, 5);
        let input: Vec<Pixel> = (0..150)
            .map(|i| if i % 30 < 15 { [0.2, 0.1, 0.05, 0.0] } else { [0.22, 0.11, 0.055, 0.0] })
            .collect();
        let mut out = Vec::new();
        Mask::new(1.5, 1.0, 0.0).run(&input, rect, rect, &mut out);
        let p = out[2 * 30 + 15];
        assert!(p[0] > 0.2205 && (p[0] / p[1] - 2.0).abs() < 1e-4, "{p:?}");
        Mask::new(1.5, 1.0, 0.1).run(&input, rect, rect, &mut out);
        assert_eq!(out, input);
    }
}
