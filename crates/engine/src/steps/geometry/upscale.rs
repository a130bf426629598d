//! Upscale: two, three or four times as large each way, keeping edges.
//!
//! The ways are in `ops/enlarge/`. On sRGB-encoded values.

use crate::geometry::{Affine, Size};
use crate::ops::enlarge::{AlongEdges, Learned};
use crate::step::{Effect, EnlargeOp, Geometry, Kind, Step, step, values_of};
use serde_json::Value;

step! {
    /// Makes the picture two, three or four times as large each way, with clean edges. Learned was shown drawn scenes small
    /// and large and tells fine detail best; along edges never leaves the range of the pixels around, so that nothing rings.
    /// Cannot sensibly be done twice. The result may have at most 400 megapixels.
    pub struct Upscale: PartialEq {
        id: "upscale",
        title: "Upscale",
        group: "geometry",
        words: [
            "upscale", "enlarge", "larger", "bigger", "double", "resolution", "super", "2x", "4x",
            "print",
        ],
        neutral: r#"{"factor": "1"}"#,
        starter: r#"{"factor": "2"}"#,
        facts: {
            moves_pixels: true,
            once: Some("enlarged"),
            effects: &[Effect::RaisesNoise, Effect::Resizes, Effect::Enlarges],
            starts_as_last_time: true,
        },
    }
    parameters {
        /// How many times as large each way.
        factor: String = "2".into(), Kind::Choice(&["1", "2", "3", "4"]);
        /// How: by the trained network, or by interpolation along the edges.
        method: String = "learned".into(), Kind::Choice(&["learned", "along edges"]);
    }
}

impl Upscale {
    fn times(&self) -> u32 {
        self.factor.parse().unwrap_or(1)
    }
}

impl Step for Upscale {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn brief(&self) -> Option<String> {
        Some(format!("{} times", self.factor))
    }
    fn sentence(&self) -> String {
        "Upscale {factor} times, {method}.".into()
    }
    fn geometry(&self, size: Size) -> Option<Geometry> {
        let n = self.times();
        let map = Affine::scale(1.0 / f64::from(n), 1.0 / f64::from(n));
        let size = Size::new(size.width.saturating_mul(n), size.height.saturating_mul(n));
        (n > 1).then(|| Geometry { map: map.into(), size })
    }
    fn enlarger(&self) -> Option<Box<dyn EnlargeOp>> {
        let n = self.times() as usize;
        let is_learned = self.method == "learned";
        (n > 1).then(|| -> Box<dyn EnlargeOp> {
            if is_learned { Box::new(Learned::new(n)) } else { Box::new(AlongEdges::new(n)) }
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::steps::testing::{picture, whole};

    #[test]
    fn both_ways_make_it_so_many_times_as_large() {
        let small = picture(Size::new(40, 25), |x, y| [(x + y) as f32 / 80.0, 0.3, 0.2]);
        let mut before = Vec::new();
        for method in ["learned", "along edges"] {
            for factor in ["1", "2", "3", "4"] {
                let step = Upscale { factor: factor.into(), method: method.into() };
                let n: u32 = factor.parse().unwrap();
                let (size, out) = whole(step, &small);
                assert_eq!(size, Size::new(40 * n, 25 * n));
                assert_eq!(out.len(), size.area() as usize);
                if n == 2 {
                    before.push(out);
                }
            }
        }
        assert!(before[0] != before[1], "both methods give the same");
    }
}
