//! Tint: tones the picture with one colour, keeping every pixel's luminance.
//!
//! On linear light each pixel moves by `amount` towards the tint scaled to the pixel's luminance.
//! One 3 × 3 matrix.

use crate::colour::space::{IDENTITY, InputColour, LUMINANCE, apply};
use crate::ops::pointwise::PointOp;
use crate::step::{Kind, Op, Param, Place, Step, StepInfo, StepKind, parse_colour, values_of};
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// Description.
pub static INFO: StepInfo = StepInfo {
    id: "tint",
    title: "Tint",
    group: "colour",
    about: "Tones the picture with one colour at the same brightness, such as a warm brown over grey; on linear light.",
    words: &["tint", "tone", "toning", "sepia", "brown", "duotone", "old", "colour wash"],
    neutral: r#"{"amount": 0}"#,
    starter: r##"{"colour": "#b98d5a", "amount": 40}"##,
};

static PARAMS: [Param; 2] = [
    Param {
        name: "colour",
        about: "The colour; only its hue and strength count.",
        unit: "",
        kind: Kind::Colour,
    },
    Param {
        name: "amount",
        about: "How far the picture's own colours give way.",
        unit: "%",
        kind: Kind::Number { min: 0.0, max: 100.0, step: 1.0 },
    },
];

/// Registration.
pub static KIND: StepKind = StepKind::of::<Tint>(&INFO, &PARAMS);

/// Values of the step.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Tint {
    /// `#rrggbb`.
    pub colour: String,
    /// 0 ..= 100 %.
    pub amount: f64,
}

impl Default for Tint {
    fn default() -> Self {
        Self { colour: "#b98d5a".into(), amount: 30.0 }
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
