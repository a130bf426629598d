//! Colour balance: moves dark, middle and bright tones towards or away from red, green and blue, keeping luminance.
//!
//! On perceptual values each channel is moved by `0.3 · amount · weight`, the three weights being smooth functions of
//! the pixel's lightness with a sum of 1; then the three channels are scaled alike on linear light so that the
//! luminance is what it was. Allocates nothing.

use crate::colour::working::LUMINANCE;
use crate::ops::planes::{CHUNK, Planes};
use crate::ops::pointwise::{PixelOp, PointOp};
use crate::step::{Kind, Op, Place, Step, step, values_of};
use serde_json::Value;
use std::sync::Arc;

step! {
    /// Moves shadows, midtones and highlights towards or away from red, green and blue; the brightness of
    /// every pixel is kept.
    pub struct ColourBalance: PartialEq {
        id: "colour_balance",
        title: "Colour balance",
        group: "colour",
        words: [
            "colour", "color", "balance", "shadows", "midtones", "highlights", "toning", "cast", "teal",
            "grading",
        ],
        neutral: r#"{"shadows": [0, 0, 0], "midtones": [0, 0, 0], "highlights": [0, 0, 0]}"#,
        starter: r#"{"shadows": [0, 0, 6], "highlights": [6, 2, 0]}"#,
    }
    parameters {
        /// Dark tones towards (above 0) or away from red, green, blue.
        shadows: [f64; 3] = [0.0; 3], Kind::Triple { min: -100.0, max: 100.0, step: 1.0 };
        /// Middle tones towards (above 0) or away from red, green, blue.
        midtones: [f64; 3] = [0.0; 3], Kind::Triple { min: -100.0, max: 100.0, step: 1.0 };
        /// Bright tones towards (above 0) or away from red, green, blue.
        highlights: [f64; 3] = [0.0; 3], Kind::Triple { min: -100.0, max: 100.0, step: 1.0 };
    }
}

impl Step for ColourBalance {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        let phrases: Vec<&str> = [
            (&self.shadows, "shadows {shadows}"),
            (&self.midtones, "midtones {midtones}"),
            (&self.highlights, "highlights {highlights}"),
        ]
        .into_iter()
        .filter(|(v, _)| **v != [0.0; 3])
        .map(|(_, text)| text)
        .collect();
        if phrases.is_empty() {
            "Colour balance as it is.".into()
        } else {
            format!("Colour balance: {}.", phrases.join(", "))
        }
    }
    fn ops(&self, _: &Place) -> Vec<Op> {
        if *self == Self::default() {
            return Vec::new();
        }
        let moves = [self.shadows, self.midtones, self.highlights].map(|t| t.map(|v| 0.3 * v as f32 / 100.0));
        vec![Op::Point(PointOp::Pixels(Arc::new(Balance(moves))))]
    }
}

/// Moves for shadows, midtones, highlights.
struct Balance([[f32; 3]; 3]);

/// Weights of shadows, midtones and highlights at a lightness; their sum is 1.
#[inline(always)]
fn weights(v: f32) -> [f32; 3] {
    let v = v.clamp(0.0, 1.0);
    let (low, high) = ((1.0 - v) * (1.0 - v), v * v);
    [low, 1.0 - low - high, high]
}

impl PixelOp for Balance {
    fn run(&self, _: i64, _: i64, planes: &mut Planes) {
        let light = planes.luminance();
        planes.encode();
        for i in 0..CHUNK {
            let luminance =
                LUMINANCE[0] * planes.r[i] + LUMINANCE[1] * planes.g[i] + LUMINANCE[2] * planes.b[i];
            let w = weights(luminance);
            let by = |c: usize| (0..3).map(|k| w[k] * self.0[k][c]).sum::<f32>();
            // Black has no room to be coloured in.
            let room = (luminance * 8.0).min(1.0);
            planes.r[i] += by(0) * room;
            planes.g[i] += by(1) * room;
            planes.b[i] += by(2) * room;
        }
        planes.decode();
        let now = planes.luminance();
        let factors =
            std::array::from_fn(|i| if now[i] > 1e-6 { (light[i] / now[i]).clamp(0.0, 16.0) } else { 1.0 });
        planes.scale(&factors);
    }

    fn is_placeless(&self) -> bool {
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::colour::transfer::{decode, encode};
    use crate::steps::testing::one_pixel;

    #[test]
    fn tones_are_moved_where_they_are_and_keep_their_luminance() {
        let light = |p: [f32; 3]| p.iter().zip(LUMINANCE).map(|(v, l)| v * l).sum::<f32>();
        let step =
            ColourBalance { shadows: [0.0, 0.0, 60.0], highlights: [60.0, 0.0, 0.0], ..Default::default() };
        let (dark, bright) = ([decode(0.2); 3], [decode(0.85); 3]);
        let (d, b) = (one_pixel(&step, dark), one_pixel(&step, bright));
        assert!(d[2] > 1.3 * d[1] && b[0] > 1.05 * b[1], "{d:?} {b:?}");
        assert!((light(d) - light(dark)).abs() < 1e-4 && (light(b) - light(bright)).abs() < 1e-4);
        // The same in all three channels is no colour.
        let same = one_pixel(&ColourBalance { midtones: [30.0; 3], ..Default::default() }, [decode(0.5); 3]);
        assert!(same.iter().all(|v| (encode(*v) - 0.5).abs() < 1e-3), "{same:?}");
        assert!((weights(0.3).iter().sum::<f32>() - 1.0).abs() < 1e-6);
    }
}
