//! White balance: a chromatic adaptation from an assumed light to D65. One 3 × 3 matrix on linear light.
//!
//! The assumed light moves along the Planckian locus by one mired per unit of temperature (its chromaticity by
//! M. Krystek, "An algorithm to calculate correlated colour temperature", 1985, taken as a difference from
//! 6504 K so that 0 is exactly D65), and across it, in CIE 1960 (u, v), by 0.0005 per unit of tint. The
//! adaptation is the linear Bradford transform (CIE TC 8-01).

use crate::colour::light;
use crate::colour::space::{self, multiply};
use crate::colour::working::{FROM_XYZ, Matrix, TO_XYZ};
use crate::ops::pointwise::PointOp;
use crate::step::{Kind, Op, Place, Step, Tool, ToolKind, step, values_of};
use serde_json::Value;

step! {
    /// Makes the picture warmer or cooler, greener or more magenta, as if it had been taken for another
    /// light; a chromatic adaptation on linear light, one unit of temperature is one mired.
    pub struct WhiteBalance: PartialEq {
        id: "white_balance",
        title: "White balance",
        group: "light",
        words: [
            "warm", "warmer", "cool", "cooler", "yellow", "blue", "green", "magenta", "temperature",
            "tint", "neutral", "grey", "cast",
        ],
        neutral: r#"{"temperature": 0, "tint": 0}"#,
        starter: r#"{"temperature": 5}"#,
        facts: {
            tool: Some(Tool {
                kind: ToolKind::Neutral,
                button: Some("Pick a neutral spot"),
                hint: "Click on something that should be grey.",
                opens_at_once: false,
                shows_input: true,
            }),
        },
    }
    parameters {
        /// Cooler (below 0) or warmer (above 0).
        temperature: f64 = 0.0, Kind::Number { min: -100.0, max: 100.0, step: 1.0 };
        /// Greener (below 0) or more magenta (above 0).
        tint: f64 = 0.0, Kind::Number { min: -100.0, max: 100.0, step: 1.0 };
    }
}

const BRADFORD: Matrix = [[0.8951, 0.2664, -0.1614], [-0.7502, 1.7135, 0.0367], [0.0389, -0.0685, 1.0296]];
const FROM_BRADFORD: Matrix = [
    [0.986_992_9, -0.147_054_3, 0.159_962_7],
    [0.432_305_3, 0.518_360_3, 0.049_291_2],
    [-0.008_528_7, 0.040_042_8, 0.968_486_7],
];

const D65_MIRED: f64 = 1e6 / 6504.0;
/// D65 in CIE 1960 (u, v).
const D65: (f64, f64) = (0.197_83, 0.312_2);

/// Chromaticity (CIE 1960) of the assumed light.
fn assumed(temperature: f64, tint: f64) -> (f64, f64) {
    let mired = D65_MIRED - temperature;
    let (here, start) = (light::black_body(mired), light::black_body(D65_MIRED));
    // Across the locus, towards green: a greener light makes the result more magenta.
    let (du, dv) = light::across(mired);
    let far = 0.0005 * tint;
    (D65.0 + here.0 - start.0 + du * far, D65.1 + here.1 - start.1 + dv * far)
}

fn xyz(uv: (f64, f64)) -> [f32; 3] {
    let (u, v) = uv;
    let d = 2.0 * u - 8.0 * v + 4.0;
    let (x, y) = (3.0 * u / d, 2.0 * v / d);
    [(x / y) as f32, 1.0, ((1.0 - x - y) / y) as f32]
}

/// The adaptation from `from` to D65 on working values.
fn adaptation(from: (f64, f64)) -> Matrix {
    let (a, b) = (space::apply(&BRADFORD, xyz(from)), space::apply(&BRADFORD, xyz(D65)));
    // Lights without one of the cone responses cannot be adapted to: the gain is limited.
    let gain: [f32; 3] = std::array::from_fn(|i| (b[i] / a[i].max(0.02)).min(20.0));
    let scale = [[gain[0], 0.0, 0.0], [0.0, gain[1], 0.0], [0.0, 0.0, gain[2]]];
    let inner = multiply(&FROM_BRADFORD, &multiply(&scale, &BRADFORD));
    multiply(&FROM_XYZ, &multiply(&inner, &TO_XYZ))
}

impl WhiteBalance {
    /// The values that make `sample` (working values) neutral, rounded to tenths; the nearest there are when
    /// it lies outside the range. `None` for black.
    pub fn for_neutral(sample: [f32; 3]) -> Option<Self> {
        let [x, y, z] = space::apply(&TO_XYZ, sample).map(f64::from);
        let d = x + 15.0 * y + 3.0 * z;
        if y < 1e-4 || d <= 0.0 {
            return None;
        }
        let want = (4.0 * x / d, 6.0 * y / d);
        let miss = |t: f64, g: f64| {
            let at = assumed(t, g);
            (at.0 - want.0, at.1 - want.1)
        };
        // Newton's method on two unknowns; the map is smooth and nearly orthogonal.
        let (mut t, mut g) = (0.0f64, 0.0f64);
        for _ in 0..40 {
            let f = miss(t, g);
            let (ft, fg) = (miss(t + 0.01, g), miss(t, g + 0.01));
            let (a, b, c, e) =
                ((ft.0 - f.0) / 0.01, (fg.0 - f.0) / 0.01, (ft.1 - f.1) / 0.01, (fg.1 - f.1) / 0.01);
            let det = a * e - b * c;
            t = (t - (e * f.0 - b * f.1) / det).clamp(-100.0, 100.0);
            g = (g - (a * f.1 - c * f.0) / det).clamp(-100.0, 100.0);
        }
        let tenth = |v: f64| (v * 10.0).round() / 10.0;
        Some(Self { temperature: tenth(t), tint: tenth(g) })
    }
}

impl Step for WhiteBalance {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        let warm = if self.temperature < 0.0 { "cooler" } else { "warmer" };
        let tint = if self.tint < 0.0 { "greener" } else { "more magenta" };
        match (self.temperature == 0.0, self.tint == 0.0) {
            (true, false) => format!("White {{tint|abs}} {tint}."),
            (_, true) => format!("White {{temperature|abs}} {warm}."),
            _ => format!("White {{temperature|abs}} {warm} and {{tint|abs}} {tint}."),
        }
    }
    fn ops(&self, _: &Place) -> Vec<Op> {
        if self.temperature == 0.0 && self.tint == 0.0 {
            return Vec::new();
        }
        vec![Op::Point(PointOp::Matrix(adaptation(assumed(self.temperature, self.tint))))]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::steps::testing::one_pixel;

    #[test]
    fn the_matrices_are_inverse() {
        for (a, b) in [(&TO_XYZ, &FROM_XYZ), (&BRADFORD, &FROM_BRADFORD)] {
            let one = multiply(a, b);
            for r in 0..3 {
                for c in 0..3 {
                    assert!((one[r][c] - space::IDENTITY[r][c]).abs() < 1e-5, "{one:?}");
                }
            }
        }
    }

    #[test]
    fn the_locus_has_its_known_places() {
        // CIE standard illuminant A, 2856 K: u = 0.2560, v = 0.3495.
        let (u, v) = light::black_body(1e6 / 2856.0);
        assert!((u - 0.2560).abs() < 3e-4 && (v - 0.3495).abs() < 3e-4, "{u} {v}");
    }

    #[test]
    fn directions_are_as_said() {
        let grey = [0.4; 3];
        let warm = one_pixel(&WhiteBalance { temperature: 30.0, tint: 0.0 }, grey);
        assert!(warm[0] > warm[2] * 1.1, "{warm:?}");
        let green = one_pixel(&WhiteBalance { temperature: 0.0, tint: -30.0 }, grey);
        assert!(green[1] > green[0] && green[1] > green[2], "{green:?}");
    }

    #[test]
    fn a_sample_becomes_neutral() {
        for sample in [[0.5, 0.4, 0.3], [0.2, 0.25, 0.3], [0.3, 0.36, 0.3], [0.52, 0.44, 0.35]] {
            let step = WhiteBalance::for_neutral(sample).unwrap();
            let out = one_pixel(&step, sample);
            let (low, high) =
                (out.iter().cloned().fold(9.0, f32::min), out.iter().cloned().fold(0.0, f32::max));
            assert!(high / low < 1.004, "{sample:?} with {step:?} gave {out:?}");
        }
        assert!(WhiteBalance::for_neutral([0.0; 3]).is_none());
    }
}
