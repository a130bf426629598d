//! Vignette: darkens or lightens towards the corners. On linear light, multiplied by `2^(stops · t)`, `t` going
//! smoothly from 0 at the inner ellipse to 1 at the corners. Allocates nothing.

use crate::ops::planes::{CHUNK, Planes};
use crate::ops::pointwise::{PixelOp, PointOp};
use crate::step::{Effect, Kind, Op, Place, Step, step, values_of};
use serde_json::Value;
use std::sync::Arc;

step! {
    /// Darkens or lightens towards the corners of the picture as it is at this line, so best after the
    /// crop; on linear light.
    pub struct Vignette: PartialEq {
        id: "vignette",
        title: "Vignette",
        group: "light",
        words: ["vignette", "corners", "edges", "dark", "frame", "burn", "attention"],
        neutral: r#"{"stops": 0}"#,
        starter: r#"{"stops": -0.7}"#,
        facts: { effects: &[Effect::GoesByCorners] },
    }
    parameters {
        /// Darker (below 0) or lighter (above 0) in the corners.
        stops: f64 = 0.0, Kind::Number { min: -4.0, max: 4.0, step: 0.05 }, "stops";
        /// How far from the middle it begins; 100 is the corner.
        inside: f64 = 30.0, Kind::Number { min: 0.0, max: 95.0, step: 1.0 }, "%";
        /// A circle (100) or an ellipse of the picture's proportion (0).
        round: f64 = 30.0, Kind::Number { min: 0.0, max: 100.0, step: 1.0 }, "%";
        /// How gently it begins.
        soft: f64 = 60.0, Kind::Number { min: 0.0, max: 100.0, step: 1.0 }, "%";
    }
}

impl Step for Vignette {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        if self.stops < 0.0 {
            "Corners {stops|abs} stops darker, from {inside} on."
        } else {
            "Corners {stops|abs} stops lighter, from {inside} on."
        }
        .into()
    }
    fn ops(&self, place: &Place) -> Vec<Op> {
        if self.stops == 0.0 {
            return Vec::new();
        }
        let (w, h) = (f64::from(place.size.width) * place.scale, f64::from(place.size.height) * place.scale);
        let round = self.round / 100.0;
        // Half sides of the unit ellipse: from the picture's own to a circle, through the corner in any case.
        let mean = (w * h).sqrt();
        let side = |half_side: f64| 0.5 * (half_side * (1.0 - round) + mean * round);
        let (a, b) = (side(w), side(h));
        let corner = (w / 2.0 / a).hypot(h / 2.0 / b);
        let shade = Shade {
            centre: (w / 2.0, h / 2.0),
            per: (1.0 / (a * corner), 1.0 / (b * corner)),
            inside: self.inside / 100.0,
            // Between a straight ramp and one that begins like the fourth power.
            power: 1.0 + 2.0 * self.soft / 100.0,
            stops: self.stops as f32,
        };
        vec![Op::Point(PointOp::Pixels(Arc::new(shade)))]
    }
}

struct Shade {
    centre: (f64, f64),
    per: (f64, f64),
    inside: f64,
    power: f64,
    stops: f32,
}

impl PixelOp for Shade {
    fn run(&self, x: i64, y: i64, planes: &mut Planes) {
        let dy = (y as f64 + 0.5 - self.centre.1) * self.per.1;
        let factors: [f32; CHUNK] = std::array::from_fn(|i| {
            let dx = ((x + i as i64) as f64 + 0.5 - self.centre.0) * self.per.0;
            let t = ((dx.hypot(dy) - self.inside) / (1.0 - self.inside)).clamp(0.0, 1.0);
            (self.stops * t.powf(self.power) as f32).exp2()
        });
        planes.scale(&factors);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Size;
    use crate::steps::testing::{picture, whole};

    #[test]
    fn the_middle_stays_and_the_corners_get_the_stops() {
        let scene = picture(Size::new(301, 201), |_, _| [0.4; 3]);
        for round in [0.0, 100.0] {
            let step = Vignette { stops: -1.0, inside: 20.0, round, soft: 0.0 };
            let (_, out) = whole(step, &scene);
            assert_eq!(out[100 * 301 + 150], [0.4; 3]);
            for corner in [0, 300, 200 * 301, 200 * 301 + 300] {
                assert!((out[corner][0] - 0.2).abs() < 0.004, "{:?}", out[corner]);
            }
        }
        // A straight ramp: half way between 20 % and the corner it is half a stop.
        let (_, out) = whole(Vignette { stops: -1.0, inside: 20.0, round: 0.0, soft: 0.0 }, &scene);
        let at = out[(100.0 + 0.6 * 100.5) as usize * 301 + (150.0 + 0.6 * 150.5) as usize][0];
        assert!((at - 0.4 * 0.5f32.sqrt()).abs() < 0.004, "{at}");
    }
}
