//! Black and white point: how much is let fall to full black and rise to full white, without moving the middle.
//!
//! On perceptual values two parabolas, one from each end, reach to the middle: `out = v + w · (1 − v)³ · k`-shaped
//! pulls that leave 0.5 where it is within a few hundredths and keep the order of all tones. Allocates nothing.

use crate::colour::transfer::{decode, encode};
use crate::ops::pointwise::PointOp;
use crate::step::{Kind, Op, Place, Step, step, values_of};
use serde_json::Value;

step! {
    /// Lets the darkest tones fall to black or lifts them, and lets the brightest rise to white or holds
    /// them back; the middle stays. On perceptual values.
    pub struct EndPoints: PartialEq {
        id: "end_points",
        title: "Black and white point",
        group: "light",
        words: ["black", "white", "point", "blacks", "whites", "clip", "deep", "flat", "haze", "fade"],
        neutral: r#"{"black": 0, "white": 0}"#,
        starter: r#"{"black": -10, "white": 10}"#,
        facts: { clips: &["black", "white"] },
    }
    parameters {
        /// Darker (below 0: more tones become black) or lighter (above 0) at the dark end.
        black: f64 = 0.0, Kind::Number { min: -100.0, max: 100.0, step: 1.0 };
        /// Darker (below 0) or lighter (above 0: more tones become white) at the bright end.
        white: f64 = 0.0, Kind::Number { min: -100.0, max: 100.0, step: 1.0 };
    }
}

/// Share of the scale an end moves at 100.
const MOST: f32 = 0.2;

fn moved(v: f32, black: f32, white: f32) -> f32 {
    // (1 − v)³ falls off fastest with a slope of 3, and 3 · 0.2 < 1: tones never change places.
    let (from_black, from_white) = (1.0 - v.clamp(0.0, 1.0), v.clamp(0.0, 1.0));
    v + MOST * (black * from_black.powi(3) + white * from_white.powi(3))
}

impl Step for EndPoints {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        let black = if self.black < 0.0 {
            "Black point {black|abs} deeper"
        } else {
            "Black point {black|abs} lighter"
        };
        let white = if self.white < 0.0 {
            "white point {white|abs} darker"
        } else {
            "white point {white|abs} brighter"
        };
        match (self.black == 0.0, self.white == 0.0) {
            (false, true) => format!("{black}."),
            (true, false) => format!("W{}.", &white[1..]),
            _ => format!("{black}, {white}."),
        }
    }
    fn ops(&self, _: &Place) -> Vec<Op> {
        if self.black == 0.0 && self.white == 0.0 {
            return Vec::new();
        }
        let (black, white) = (self.black as f32 / 100.0, self.white as f32 / 100.0);
        vec![Op::Point(PointOp::curve(move |x| decode(moved(encode(x), black, white).max(0.0))))]
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ends_move_the_middle_hardly_and_order_is_kept() {
        for (black, white) in [(-1.0, 1.0), (1.0, -1.0), (1.0, 1.0), (-1.0, -1.0)] {
            assert!((moved(0.0, black, white) - 0.2 * black).abs() < 1e-6);
            assert!((moved(1.0, black, white) - 1.0 - 0.2 * white).abs() < 1e-6);
            assert!((moved(0.5, black, white) - 0.5).abs() <= 0.05 + 1e-6);
            let all: Vec<f32> = (0..=1000).map(|i| moved(i as f32 / 1000.0, black, white)).collect();
            assert!(all.windows(2).all(|w| w[1] > w[0]), "{black} {white}");
        }
    }
}
