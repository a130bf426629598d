//! Saturation: moves every pixel towards or away from the grey of its own luminance, on linear light.
//! One 3 × 3 matrix; luminance is kept.

use crate::colour::space::IDENTITY;
use crate::colour::working::LUMINANCE;
use crate::ops::pointwise::PointOp;
use crate::step::{Kind, Op, Place, Step, step, values_of};
use serde_json::Value;

step! {
    /// Stronger or weaker colours at the same brightness; −100 is grey, 100 twice the distance from grey,
    /// on linear light.
    pub struct Saturation: PartialEq {
        id: "saturation",
        title: "Saturation",
        group: "colour",
        words: [
            "saturation", "colour", "color", "vivid", "pale", "muted", "grey", "monochrome",
            "black and white",
        ],
        neutral: r#"{"amount": 0}"#,
        starter: r#"{"amount": 8}"#,
    }
    parameters {
        /// Weaker (below 0) or stronger (above 0).
        amount: f64 = 0.0, Kind::Number { min: -100.0, max: 100.0, step: 1.0 };
    }
}

impl Step for Saturation {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        if self.amount < 0.0 { "Colours {amount|abs} weaker." } else { "Colours {amount|abs} stronger." }
            .into()
    }
    fn ops(&self, _: &Place) -> Vec<Op> {
        if self.amount == 0.0 {
            return Vec::new();
        }
        let keep = (1.0 + self.amount / 100.0) as f32;
        let matrix = IDENTITY.map(|row| std::array::from_fn(|c| row[c] * keep + LUMINANCE[c] * (1.0 - keep)));
        vec![Op::Point(PointOp::Matrix(matrix))]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::steps::testing::one_pixel;

    #[test]
    fn none_is_the_luminance_and_twice_is_twice_as_far() {
        let pixel = [0.3, 0.5, 0.4];
        let y: f32 = pixel.iter().zip(LUMINANCE).map(|(p, l)| p * l).sum();
        let grey = one_pixel(&Saturation { amount: -100.0 }, pixel);
        assert!(grey.iter().all(|v| (v - y).abs() < 1e-6), "{grey:?}");
        let vivid = one_pixel(&Saturation { amount: 100.0 }, pixel);
        for c in 0..3 {
            assert!((vivid[c] - (y + 2.0 * (pixel[c] - y))).abs() < 1e-6);
        }
    }
}
