//! Output sharpening: for a screen, or for paper by its surface and the distance it is looked at from.
//!
//! An unsharp mask whose radius is what the eye can just tell apart. For a screen that is half a pixel of the output.
//! For paper it is half of one minute of arc (E. H. Weber's and later measurements of visual acuity: 1′ for good
//! light) at the viewing distance, in pixels of the print; ink spreads more on matte paper, so the amount is higher
//! there. The radius is relative to the output, whatever stands after this line.

use crate::step::{Effect, Kind, Op, Place, Step, step, values_of};
use crate::steps::detail::unsharp_mask::Mask;
use serde_json::Value;

step! {
    /// The last sharpening, for where the picture will be looked at: a screen, or paper by its surface,
    /// width and distance. On the lightness, perceptual values. Belongs after the resize.
    pub struct OutputSharpening: PartialEq {
        id: "output_sharpening",
        title: "Output sharpening",
        group: "detail",
        words: [
            "output", "sharpening", "sharpen", "screen", "print", "paper", "matte", "glossy", "web",
            "final",
        ],
        neutral: r#"{"strength": 0}"#,
        starter: r#"{"target": "screen", "strength": 50}"#,
        facts: {
            judged_at_full_size: true,
            effects: &[Effect::RaisesNoise, Effect::SharpensOutput],
            starts_as_last_time: true,
        },
    }
    parameters {
        /// Where it is looked at.
        target: String = "screen".into(), Kind::Choice(&["screen", "glossy paper", "matte paper"]);
        /// How strong; 50 is ordinary.
        strength: f64 = 50.0, Kind::Number { min: 0.0, max: 100.0, step: 1.0 };
        /// Long edge of the print.
        width: f64 = 30.0, Kind::Number { min: 5.0, max: 500.0, step: 1.0 }, "cm";
        /// How far away it is looked at.
        distance: f64 = 40.0, Kind::Number { min: 10.0, max: 1000.0, step: 5.0 }, "cm";
    }
}

impl OutputSharpening {
    /// Radius in pixels of the output, and amount at full strength.
    fn chosen(&self, long: f64) -> (f64, f64) {
        if self.target == "screen" {
            return (0.5, 1.2);
        }
        let pixels = long / self.width;
        let minute = self.distance * (1f64 / 60.0).to_radians().tan();
        ((0.5 * minute * pixels).clamp(0.4, 6.0), if self.target == "matte paper" { 2.4 } else { 1.7 })
    }

    /// Radius in pixels of this place, at full scale.
    fn radius(&self, place: &Place) -> f64 {
        self.chosen(f64::from(place.output.long_edge())).0 / place.to_output.max(1e-6)
    }
}

impl Step for OutputSharpening {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        if self.target == "screen" {
            "Sharpen for a {target}, {strength}.".into()
        } else {
            "Sharpen for {target}, {width} cm wide, seen from {distance} cm, {strength}.".into()
        }
    }
    fn ops(&self, place: &Place) -> Vec<Op> {
        let sigma = self.radius(place) * place.scale;
        if self.strength == 0.0 || sigma < 0.1 {
            return Vec::new();
        }
        let amount = self.chosen(1.0).1 * self.strength / 100.0;
        vec![Op::Area(Box::new(Mask::new(sigma, amount as f32, 0.005)))]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Size;

    #[test]
    fn the_radius_is_what_the_eye_can_tell_apart() {
        let print = OutputSharpening { target: "glossy paper".into(), ..OutputSharpening::default() };
        // 40 cm away one minute of arc is 0.1164 mm; 3543 pixels on 30 cm are 118 a centimetre: 0.69 pixels.
        assert!((print.chosen(3543.0).0 - 0.687).abs() < 0.003, "{:?}", print.chosen(3543.0));
        // Twice as far, twice the radius.
        let far = OutputSharpening { distance: 80.0, ..print.clone() };
        assert!((far.chosen(3543.0).0 / print.chosen(3543.0).0 - 2.0).abs() < 1e-9);
        // Before a resize to a third, three times as many pixels are meant.
        let place = Place {
            size: Size::new(3000, 2000),
            output: Size::new(1000, 667),
            to_output: 1.0 / 3.0,
            scale: 1.0,
            seed: 0,
        };
        assert!((OutputSharpening::default().radius(&place) - 1.5).abs() < 1e-9);
    }
}
