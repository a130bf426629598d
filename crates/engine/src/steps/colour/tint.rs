//! Tint: tones the picture with one colour, keeping every pixel's luminance.
//!
//! On linear light each pixel moves by `amount` towards the tint scaled to the pixel's luminance.
//! One 3 × 3 matrix.

use crate::colour::hex::parse_colour;
use crate::colour::space::{IDENTITY, InputColour, apply};
use crate::colour::working::LUMINANCE;
use crate::ops::pointwise::PointOp;
use crate::step::{Kind, Op, Place, Step, step, values_of};
use serde_json::Value;

step! {
    /// Tones the picture with one colour at the same brightness, such as a warm brown over grey; on linear
    /// light.
    pub struct Tint: PartialEq {
        id: "tint",
        title: "Tint",
        group: "colour",
        words: ["tint", "tone", "toning", "sepia", "brown", "duotone", "old", "colour wash"],
        neutral: r#"{"amount": 0}"#,
        starter: r##"{"colour": "#b98d5a", "amount": 40}"##,
    }
    parameters {
        /// The colour; only its hue and strength count.
        colour: String = "#b98d5a".into(), Kind::Colour;
        /// How far the picture's own colours give way.
        amount: f64 = 30.0, Kind::Number { min: 0.0, max: 100.0, step: 1.0 }, "%";
    }
}

/// A `#rrggbb` colour (sRGB) as working values.
pub fn working(colour: &str) -> [f32; 3] {
    let bytes = parse_colour(colour).unwrap_or([255; 3]);
    let srgb = InputColour::srgb();
    apply(&srgb.to_working, std::array::from_fn(|c| srgb.byte[c][usize::from(bytes[c])]))
}

impl Step for Tint {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        "Tint with {colour}, {amount}.".into()
    }
    fn ops(&self, _: &Place) -> Vec<Op> {
        if self.amount == 0.0 {
            return Vec::new();
        }
        let colour = working(&self.colour);
        let light: f32 = colour.iter().zip(LUMINANCE).map(|(v, l)| v * l).sum();
        // Black has no hue: it tints grey.
        let hue = if light > 1e-5 { colour.map(|v| v / light) } else { [1.0; 3] };
        let share = self.amount as f32 / 100.0;
        let matrix = std::array::from_fn(|r| {
            std::array::from_fn(|c| IDENTITY[r][c] * (1.0 - share) + hue[r] * LUMINANCE[c] * share)
        });
        vec![Op::Point(PointOp::Matrix(matrix))]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::steps::testing::one_pixel;

    #[test]
    fn luminance_is_kept_and_the_hue_is_the_tints() {
        let light = |p: [f32; 3]| p.iter().zip(LUMINANCE).map(|(v, l)| v * l).sum::<f32>();
        let step = Tint { colour: "#804020".into(), amount: 100.0 };
        let out = one_pixel(&step, [0.2, 0.3, 0.4]);
        assert!((light(out) - light([0.2, 0.3, 0.4])).abs() < 1e-5);
        let want = working("#804020");
        assert!((out[0] / out[2] - want[0] / want[2]).abs() < 1e-3, "{out:?} {want:?}");
        assert_eq!(one_pixel(&Tint { amount: 0.0, ..step }, [0.2, 0.3, 0.4]), [0.2, 0.3, 0.4]);
    }
}
