//! Graduated filter: exposure, contrast, temperature and saturation over one side of a line, fading across it.
//!
//! The four are those of the steps of the same names, done one after the other and mixed in by the gradient of
//! `area.rs`. Point-wise; allocates nothing.

use crate::ops::mask::{Area, Combine, Form, Mask, Shape};
use crate::ops::pointwise::{Masked, PointOp, PointProgram};
use crate::step::{Kind, Op, ParamError, Place, Step, Tool, ToolKind, step, values_of};
use crate::steps::colour::saturation::Saturation;
use crate::steps::light::contrast::Contrast;
use crate::steps::light::exposure::Exposure;
use crate::steps::light::white_balance::WhiteBalance;
use serde_json::Value;
use std::sync::Arc;

step! {
    /// Darkens a sky or lightens a foreground like a graduated glass before the lens: all of it before the
    /// line, nothing after it, softly between. Each part as in the step of its name.
    pub struct GraduatedFilter: PartialEq {
        id: "graduated_filter",
        title: "Graduated filter",
        group: "light",
        words: [
            "graduated", "gradient", "sky", "horizon", "filter", "grey grad", "foreground", "darken sky",
        ],
        neutral: r#"{"stops": 0, "contrast": 0, "temperature": 0, "saturation": 0}"#,
        starter: r#"{"stops": -0.7}"#,
        facts: {
            tool: Some(Tool {
                kind: ToolKind::Ramp,
                button: Some("Draw it on the picture"),
                hint: "Drag from where it is full to where it ends.",
                opens_at_once: false,
                shows_input: false,
            }),
        },
    }
    parameters {
        /// Where it begins to fade; before this, all of it.
        from: [f64; 2] = [0.5, 0.2], Kind::Spot;
        /// Where it has faded; beyond this, nothing.
        to: [f64; 2] = [0.5, 0.5], Kind::Spot;
        /// Darker (below 0) or brighter (above 0).
        stops: f64 = 0.0, Kind::Number { min: -5.0, max: 5.0, step: 0.05 }, "stops";
        /// Less (below 0) or more (above 0) contrast.
        contrast: f64 = 0.0, Kind::Number { min: -100.0, max: 100.0, step: 1.0 };
        /// Cooler (below 0) or warmer (above 0).
        temperature: f64 = 0.0, Kind::Number { min: -100.0, max: 100.0, step: 1.0 };
        /// Weaker (below 0) or stronger (above 0) colours.
        saturation: f64 = 0.0, Kind::Number { min: -100.0, max: 100.0, step: 1.0 };
    }
}

impl Step for GraduatedFilter {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        let mut phrases = Vec::new();
        if self.stops != 0.0 {
            phrases.push(if self.stops < 0.0 {
                "{stops|abs} stops darker"
            } else {
                "{stops|abs} stops brighter"
            });
        }
        if self.contrast != 0.0 {
            phrases.push("contrast {contrast}");
        }
        if self.temperature != 0.0 {
            phrases.push(if self.temperature < 0.0 {
                "{temperature|abs} cooler"
            } else {
                "{temperature|abs} warmer"
            });
        }
        if self.saturation != 0.0 {
            phrases.push("saturation {saturation}");
        }
        if phrases.is_empty() {
            phrases.push("nothing yet");
        }
        format!("Graduated filter: {}.", phrases.join(", "))
    }
    fn check(&self) -> Result<(), ParamError> {
        if (self.from[0] - self.to[0]).hypot(self.from[1] - self.to[1]) < 1e-3 {
            return Err(ParamError::new("to", "expected another place than from"));
        }
        Ok(())
    }
    fn ops(&self, place: &Place) -> Vec<Op> {
        let parts: [Box<dyn Step>; 4] = [
            Box::new(Exposure { stops: self.stops }),
            Box::new(Contrast { amount: self.contrast }),
            Box::new(WhiteBalance { temperature: self.temperature, tint: 0.0 }),
            Box::new(Saturation { amount: self.saturation }),
        ];
        let inner =
            PointProgram::new(parts.iter().flat_map(|s| s.ops(place)).filter_map(Op::point).collect());
        if inner.is_empty() {
            return Vec::new();
        }
        let form = Form::Gradient { from: self.from, to: self.to };
        let area = Area(vec![Shape { form, invert: false, combine: Combine::Add }]);
        let mask = Some(Mask::new(&area, place.size, place.scale));
        vec![Op::Point(PointOp::Pixels(Arc::new(Masked { inner, mask, mix: 1.0 })))]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Size;
    use crate::steps::testing::{picture, whole};

    #[test]
    fn all_before_the_line_nothing_after_half_on_it() {
        let scene = picture(Size::new(40, 100), |_, _| [0.2, 0.3, 0.4]);
        let step = GraduatedFilter { from: [0.5, 0.2], to: [0.5, 0.6], stops: 1.0, ..Default::default() };
        let (_, out) = whole(step.clone(), &scene);
        let at = |y: usize| out[y * 40 + 20][0];
        assert!((at(5) - 0.4).abs() < 1e-5 && at(80) == 0.2, "{} {}", at(5), at(80));
        assert!((at(39) + at(40) - 0.6).abs() < 1e-3);
        let flat = GraduatedFilter { to: step.from, ..step };
        assert_eq!(flat.check().unwrap_err().path, "to");
    }
}
