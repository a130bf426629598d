//! Rotate: by quarter turns. Pure geometry, no pixel is computed anew.

use crate::geometry::{Affine, Size};
use crate::step::{Effect, Geometry, Kind, Step, step, values_of};
use serde_json::Value;

step! {
    /// Turns the picture by quarter turns; no pixel is changed.
    pub struct Rotate: PartialEq {
        id: "rotate",
        title: "Rotate",
        group: "geometry",
        words: ["rotate", "turn", "quarter", "90", "180", "portrait", "landscape", "upright", "sideways"],
        neutral: r#"{"turn": "none"}"#,
        starter: r#"{"turn": "right"}"#,
        facts: { moves_pixels: true, shapes: true, effects: &[Effect::Turns] },
    }
    parameters {
        /// Clockwise (right), anticlockwise (left), or half way round.
        turn: String = "right".into(), Kind::Choice(&["none", "right", "left", "half"]);
    }
}

impl Step for Rotate {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        match self.turn.as_str() {
            "none" => "Do not turn ({turn}).",
            "half" => "Turn {turn} way round.",
            _ => "Turn to the {turn}.",
        }
        .into()
    }
    fn geometry(&self, size: Size) -> Option<Geometry> {
        let (w, h) = (f64::from(size.width), f64::from(size.height));
        let turned = Size::new(size.height, size.width);
        let (map, size) = match self.turn.as_str() {
            // What was the left edge becomes the top one.
            "right" => (Affine { a: 0.0, b: 1.0, c: 0.0, d: -1.0, e: 0.0, f: h }, turned),
            "left" => (Affine { a: 0.0, b: -1.0, c: w, d: 1.0, e: 0.0, f: 0.0 }, turned),
            "half" => (Affine { a: -1.0, b: 0.0, c: w, d: 0.0, e: -1.0, f: h }, size),
            _ => return None,
        };
        Some(Geometry { map: map.into(), size })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::steps::testing::{picture, whole};

    #[test]
    fn every_pixel_goes_where_it_belongs_unchanged() {
        // Numbered 0..6 row by row, 3 × 2; the rows after each turn, by hand.
        let scene = picture(Size::new(3, 2), |x, y| [(y * 3 + x) as f32 / 10.0; 3]);
        for (turn, width, want) in [
            ("right", 2, [3, 0, 4, 1, 5, 2]),
            ("left", 2, [2, 5, 1, 4, 0, 3]),
            ("half", 3, [5, 4, 3, 2, 1, 0]),
        ] {
            let (size, out) = whole(Rotate { turn: turn.into() }, &scene);
            assert_eq!(size.width, width);
            let got: Vec<f32> = out.iter().map(|p| p[0]).collect();
            let want: Vec<f32> = want.iter().map(|v| *v as f32 / 10.0).collect();
            assert!(got.iter().zip(&want).all(|(a, b)| (a - b).abs() < 1e-6), "{turn}: {got:?}");
        }
    }
}
