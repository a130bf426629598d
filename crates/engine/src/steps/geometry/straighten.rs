//! Straighten: turns the picture about its middle and cuts to the largest rectangle of the same proportion
//! that holds no empty corner. Pure geometry: becomes part of one mapping.

use crate::geometry::{Affine, Size};
use crate::step::{Effect, Geometry, Kind, Step, Tool, ToolKind, step, values_of};
use serde_json::Value;

step! {
    /// Turns the picture by a small angle and cuts away the corners that would be empty; the proportion
    /// stays.
    pub struct Straighten: PartialEq {
        id: "straighten",
        title: "Straighten",
        group: "geometry",
        words: ["straighten", "horizon", "tilt", "level", "rotate", "turn", "crooked", "angle"],
        neutral: r#"{"degrees": 0}"#,
        starter: r#"{"degrees": 0}"#,
        facts: {
            moves_pixels: true,
            shapes: true,
            tool: Some(Tool {
                kind: ToolKind::Horizon,
                button: Some("Draw the horizon"),
                hint: "Draw a line along something that should be level or upright.",
                opens_at_once: true,
                shows_input: true,
            }),
            effects: &[Effect::Frames],
        },
    }
    parameters {
        /// Clockwise (above 0) or anticlockwise (below 0).
        degrees: f64 = 0.0, Kind::Number { min: -45.0, max: 45.0, step: 0.1 }, "°";
    }
}

impl Step for Straighten {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        "Straighten by {degrees}.".into()
    }
    fn geometry(&self, size: Size) -> Option<Geometry> {
        if self.degrees == 0.0 {
            return None;
        }
        let (sin, cos) = self.degrees.to_radians().sin_cos();
        let (w, h) = (f64::from(size.width), f64::from(size.height));
        let keep = 1.0 / (cos + (w / h).max(h / w) * sin.abs());
        let side = |n: f64| (n * keep).floor().max(1.0);
        let (ow, oh) = (side(w), side(h));
        // Clockwise on the screen, where y points down: the output is looked up anticlockwise.
        let map = Affine::shift(-ow / 2.0, -oh / 2.0)
            .then(&Affine { a: cos, b: sin, c: 0.0, d: -sin, e: cos, f: 0.0 })
            .then(&Affine::shift(w / 2.0, h / 2.0));
        Some(Geometry { map: map.into(), size: Size::new(ow as u32, oh as u32) })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_corner_lies_outside_and_the_turn_is_clockwise() {
        for (w, h) in [(600, 400), (400, 600), (500, 500)] {
            for degrees in [-45.0, -10.0, 0.3, 1.2, 30.0, 45.0] {
                let size = Size::new(w, h);
                let g = Straighten { degrees }.geometry(size).unwrap();
                let (ow, oh) = (f64::from(g.size.width), f64::from(g.size.height));
                for (x, y) in [(0.0, 0.0), (ow, 0.0), (0.0, oh), (ow, oh)] {
                    let (u, v) = g.map.at(x, y, 1);
                    let inside =
                        u >= -1e-6 && v >= -1e-6 && u <= f64::from(w) + 1e-6 && v <= f64::from(h) + 1e-6;
                    assert!(inside, "{degrees}° of {w} × {h}: {u}, {v}");
                }
            }
        }
        // Turned clockwise, what was right of the middle is now below it.
        let g = Straighten { degrees: 10.0 }.geometry(Size::new(100, 100)).unwrap();
        let middle = f64::from(g.size.width) / 2.0;
        let (_, v) = g.map.at(middle + 20.0, middle, 1);
        assert!(v < 50.0, "right of the middle must come from above: {v}");
    }
}
