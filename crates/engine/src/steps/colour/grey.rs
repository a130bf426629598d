//! Grey: one luminance from weighted red, green and blue. One 3 × 3 matrix on linear light.

use crate::ops::pointwise::PointOp;
use crate::step::{Kind, Op, Place, Step, step, values_of};
use serde_json::Value;

step! {
    /// Black and white, with a say in how much of red, green and blue counts, as a coloured filter before
    /// the lens would; the weights are brought to a sum of 100 % where their sum is above 0. On linear
    /// light.
    pub struct Grey: PartialEq {
        id: "grey",
        title: "Grey from channels",
        group: "colour",
        words: ["grey", "gray", "black and white", "monochrome", "b&w", "desaturate", "channel", "mixer"],
        neutral: r#"{"amount": 0}"#,
        starter: r#"{"red": 40, "green": 50, "blue": 10}"#,
    }
    parameters {
        /// How much the red light counts.
        red: f64 = 26.0, Kind::Number { min: -100.0, max: 200.0, step: 1.0 }, "%";
        /// How much the green light counts.
        green: f64 = 68.0, Kind::Number { min: -100.0, max: 200.0, step: 1.0 }, "%";
        /// How much the blue light counts.
        blue: f64 = 6.0, Kind::Number { min: -100.0, max: 200.0, step: 1.0 }, "%";
        /// How much of the colour goes.
        amount: f64 = 100.0, Kind::Number { min: 0.0, max: 100.0, step: 1.0 }, "%";
    }
}

impl Step for Grey {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        if self.amount < 100.0 {
            "Grey from red {red}, green {green}, blue {blue}, {amount} of it.".into()
        } else {
            "Grey from red {red}, green {green}, blue {blue}.".into()
        }
    }
    fn ops(&self, _: &Place) -> Vec<Op> {
        if self.amount == 0.0 {
            return Vec::new();
        }
        // Weights that take as much as they give are left as they are.
        let sum = self.red + self.green + self.blue;
        let sum = if sum < 1.0 { 100.0 } else { sum };
        let row = [self.red, self.green, self.blue].map(|w| (w / sum) as f32);
        vec![Op::Point(PointOp::Matrix([row; 3]).mixed(self.amount as f32 / 100.0))]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::steps::testing::one_pixel;

    #[test]
    fn weights_count_and_grey_stays_grey() {
        let step = Grey { red: 100.0, green: 0.0, blue: 0.0, ..Grey::default() };
        assert_eq!(one_pixel(&step, [0.3, 0.5, 0.7]), [0.3; 3]);
        let out = one_pixel(&Grey { red: 80.0, green: 90.0, blue: 30.0, amount: 50.0 }, [0.4; 3]);
        assert!(out.iter().all(|v| (v - 0.4).abs() < 1e-6));
    }
}
