//! Levels: what is black, what is white, and how bright the middle is, on perceptual values of one channel or all.
//!
//! `out = low + (high − low) · ((in − black) / (white − black))^(1 / middle)`. Allocates nothing.

use crate::colour::transfer::{decode, encode};
use crate::ops::pointwise::{Curve, PointOp};
use crate::step::{Kind, Op, ParamError, Place, Step, step, values_of};
use serde_json::Value;
use std::sync::Arc;

step! {
    /// Says which tone becomes black and which white, how bright the middle is, and how far the result
    /// reaches; on perceptual values, for one channel or all.
    pub struct Levels: PartialEq {
        id: "levels",
        title: "Levels",
        group: "light",
        words: ["levels", "gamma", "range", "flat", "haze", "black", "white", "midtones"],
        neutral: r#"{"black": 0, "white": 100, "middle": 1}"#,
        starter: r#"{"black": 2, "white": 96}"#,
        facts: { clips: &["black", "white"] },
    }
    parameters {
        /// This tone and all below become the darkest.
        black: f64 = 0.0, Kind::Number { min: 0.0, max: 99.0, step: 0.5 }, "%";
        /// This tone and all above become the brightest.
        white: f64 = 100.0, Kind::Number { min: 1.0, max: 100.0, step: 0.5 }, "%";
        /// Brighter (above 1) or darker (below 1) in between, as an exponent.
        middle: f64 = 1.0, Kind::Number { min: 0.1, max: 10.0, step: 0.02 };
        /// The darkest tone of the result.
        low: f64 = 0.0, Kind::Number { min: 0.0, max: 100.0, step: 0.5 }, "%";
        /// The brightest tone of the result.
        high: f64 = 100.0, Kind::Number { min: 0.0, max: 100.0, step: 0.5 }, "%";
        /// Which channel.
        channel: String = "all".into(), Kind::Choice(&CHANNELS);
    }
}

const CHANNELS: [&str; 4] = ["all", "red", "green", "blue"];

impl Levels {
    fn function(&self) -> Curve {
        let (black, white) = (self.black as f32 / 100.0, self.white as f32 / 100.0);
        let (low, high, power) =
            (self.low as f32 / 100.0, self.high as f32 / 100.0, 1.0 / self.middle as f32);
        Arc::new(move |x| {
            let t = (encode(x) - black) / (white - black);
            // Light above white is carried on in proportion, unless white was moved below it on purpose.
            let t = if white >= 1.0 { t.max(0.0) } else { t.clamp(0.0, 1.0) };
            decode((low + (high - low) * t.powf(power)).max(0.0))
        })
    }
}

impl Step for Levels {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        let mut text = "Black from {black}, white from {white}".to_owned();
        if self.middle != 1.0 {
            text += ", middle {middle}";
        }
        if self.low != 0.0 || self.high != 100.0 {
            text += ", reaching from {low} to {high}";
        }
        if self.channel != "all" {
            text += ", {channel} only";
        }
        text + "."
    }
    fn check(&self) -> Result<(), ParamError> {
        if self.black + 1.0 > self.white {
            let message = format!("expected at least 1 more than black ({}), got {}", self.black, self.white);
            return Err(ParamError::new("white", message));
        }
        Ok(())
    }
    fn ops(&self, _: &Place) -> Vec<Op> {
        if *self == (Self { channel: self.channel.clone(), ..Self::default() }) {
            return Vec::new();
        }
        let shared = self.function();
        let Some(channel) = CHANNELS[1..].iter().position(|c| *c == self.channel) else {
            return vec![Op::Point(PointOp::Curves([shared.clone(), shared.clone(), shared]))];
        };
        let same: Curve = Arc::new(|x| x);
        let mut curves = [same.clone(), same.clone(), same];
        curves[channel] = shared;
        vec![Op::Point(PointOp::Curves(curves))]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::steps::testing::one_pixel;

    #[test]
    fn the_formula_on_known_tones() {
        let step =
            Levels { black: 10.0, white: 90.0, middle: 2.0, low: 5.0, high: 95.0, ..Levels::default() };
        let at = |v: f32| encode(one_pixel(&step, [decode(v); 3])[1]);
        assert!((at(0.05) - 0.05).abs() < 1e-3);
        assert!((at(0.95) - 0.95).abs() < 1e-3);
        // (0.3 − 0.1) / 0.8 = 0.25, its root 0.5: half way from 0.05 to 0.95.
        assert!((at(0.3) - 0.5).abs() < 1e-3);
    }

    #[test]
    fn one_channel_alone_and_ends_that_cross() {
        let step = Levels { black: 20.0, channel: "green".into(), ..Levels::default() };
        let out = one_pixel(&step, [decode(0.5); 3]).map(encode);
        assert!((out[0] - 0.5).abs() < 1e-4 && (out[1] - 0.375).abs() < 1e-4, "{out:?}");
        assert!(Levels { black: 60.0, white: 60.0, ..Levels::default() }.check().is_err());
    }
}
