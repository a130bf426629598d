//! Contrast: an S through black, middle and white on the perceptual scale, per channel. Allocates nothing.

use crate::colour::transfer::{decode, encode};
use crate::ops::pointwise::PointOp;
use crate::step::{Kind, Op, Place, Step, step, values_of};
use serde_json::Value;

step! {
    /// Draws tones away from the middle (above 0) without clipping black or white, or towards it (below 0);
    /// computed on perceptual values.
    pub struct Contrast: PartialEq {
        id: "contrast",
        title: "Contrast",
        group: "light",
        words: ["contrast", "flat", "flatter", "punch", "hard", "soft", "dull", "fog"],
        neutral: r#"{"amount": 0}"#,
        starter: r#"{"amount": 10}"#,
    }
    parameters {
        /// Less (below 0) or more (above 0).
        amount: f64 = 0.0, Kind::Number { min: -100.0, max: 100.0, step: 1.0 };
    }
}

/// The tone function on the perceptual scale. Above white it runs on without a jump.
fn tone(value: f32, amount: f32) -> f32 {
    if amount < 0.0 {
        return 0.5 + (value - 0.5) * (1.0 + amount * 0.8);
    }
    // The gain function of C. Schlick (1994) in its power form.
    let power = 2f32.powf(amount);
    match value {
        v if v < 0.5 => 0.5 * (2.0 * v).powf(power),
        v if v <= 1.0 => 1.0 - 0.5 * (2.0 - 2.0 * v).powf(power),
        v => v,
    }
}

impl Step for Contrast {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        if self.amount < 0.0 {
            "Take {amount|abs} of the contrast away."
        } else {
            "Add {amount|abs} of contrast."
        }
        .into()
    }
    fn ops(&self, _: &Place) -> Vec<Op> {
        if self.amount == 0.0 {
            return Vec::new();
        }
        let amount = (self.amount / 100.0) as f32;
        vec![Op::Point(PointOp::curve(move |x| decode(tone(encode(x), amount))))]
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_middle_and_the_ends_stay_and_the_slope_is_as_asked() {
        for amount in [-1.0f32, -0.4, 0.3, 1.0] {
            assert!((tone(0.5, amount) - 0.5).abs() < 1e-6);
            let slope = (tone(0.51, amount) - tone(0.49, amount)) / 0.02;
            let want = if amount < 0.0 { 1.0 + 0.8 * amount } else { 2f32.powf(amount) };
            assert!((slope - want).abs() < 0.03, "{amount}: {slope}");
            let all: Vec<f32> = (0..=150).map(|i| tone(i as f32 / 100.0, amount)).collect();
            assert!(all.windows(2).all(|w| w[1] >= w[0]), "not monotone at {amount}");
        }
        assert_eq!((tone(0.0, 1.0), tone(1.0, 1.0)), (0.0, 1.0));
    }
}
