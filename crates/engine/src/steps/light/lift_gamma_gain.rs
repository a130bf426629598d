//! Lift, gamma, gain: three handles for the dark, the middle and the bright tones, each with a colour.
//!
//! `out = (gain · (v + lift · (1 − v)))^(1 / gamma)` on perceptual values, per channel. Allocates nothing.

use crate::colour::transfer::{decode, encode};
use crate::ops::pointwise::{Curve, PointOp};
use crate::step::{Kind, Op, Place, Step, step, values_of};
use serde_json::Value;
use std::sync::Arc;

step! {
    /// Three handles for grading: lift moves the dark end, gamma the middle, gain the bright end, each for
    /// red, green and blue; on perceptual values.
    pub struct LiftGammaGain: PartialEq {
        id: "lift_gamma_gain",
        title: "Lift, gamma, gain",
        group: "light",
        words: ["lift", "gamma", "gain", "grade", "grading", "colour", "look", "film", "video"],
        neutral: r#"{"lift": [0, 0, 0], "gamma": [1, 1, 1], "gain": [1, 1, 1]}"#,
        starter: r#"{"lift": [0.01, 0.01, 0.02], "gain": [1.03, 1.02, 1]}"#,
    }
    parameters {
        /// Raises (above 0) or lowers the dark end.
        lift: [f64; 3] = [0.0; 3], Kind::Triple { min: -0.5, max: 0.5, step: 0.01 };
        /// Brightens (above 1) or darkens the middle.
        gamma: [f64; 3] = [1.0; 3], Kind::Triple { min: 0.2, max: 5.0, step: 0.02 };
        /// Raises (above 1) or lowers the bright end.
        gain: [f64; 3] = [1.0; 3], Kind::Triple { min: 0.0, max: 4.0, step: 0.02 };
    }
}

impl Step for LiftGammaGain {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        let mut phrases = Vec::new();
        if self.lift != [0.0; 3] {
            phrases.push("lift {lift}");
        }
        if self.gamma != [1.0; 3] {
            phrases.push("gamma {gamma}");
        }
        if self.gain != [1.0; 3] {
            phrases.push("gain {gain}");
        }
        if phrases.is_empty() {
            return "Lift, gamma, gain as they are.".into();
        }
        let text = phrases.join(", ");
        format!("{}{}.", text[..1].to_uppercase(), &text[1..])
    }
    fn ops(&self, _: &Place) -> Vec<Op> {
        if *self == Self::default() {
            return Vec::new();
        }
        let channel_curve = |c: usize| -> Curve {
            let (lift, gain) = (self.lift[c] as f32, self.gain[c] as f32);
            let power = 1.0 / self.gamma[c] as f32;
            Arc::new(move |x| {
                let v = encode(x);
                decode((gain * (v + lift * (1.0 - v))).max(0.0).powf(power))
            })
        };
        vec![Op::Point(PointOp::Curves([channel_curve(0), channel_curve(1), channel_curve(2)]))]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::steps::testing::one_pixel;

    #[test]
    fn the_formula_channel_by_channel() {
        let step = LiftGammaGain { lift: [0.1, 0.0, 0.0], gamma: [1.0, 2.0, 1.0], gain: [1.0, 1.0, 1.5] };
        let out = one_pixel(&step, [decode(0.4); 3]).map(encode);
        for (got, want) in out.iter().zip([0.46, 0.4f32.sqrt(), 0.6]) {
            assert!((got - want).abs() < 1e-3, "{out:?}");
        }
    }
}
