//! Local contrast: raises or flattens what stands out from its surroundings, without touching the tones as a whole.
//!
//! On the perceptual scale `L' = B + (1 + amount) · d`, `B` being the edge-keeping base of `guide.rs` and `d = L − B`
//! limited softly to a fifth of the scale; the three channels are scaled alike. One pass, no halo.

use crate::colour::transfer::{DECODE, ENCODE};
use crate::ops::guided_filter::Guide;
use crate::ops::planes::{CHUNK, Planes};
use crate::ops::pointwise::{PixelOp, PointOp};
use crate::step::{Effect, Kind, Op, Place, Step, View, Wants, step, values_of};
use serde_json::Value;
use std::sync::Arc;

step! {
    /// Raises texture against its surroundings (above 0) or smooths it (below 0), without halos at strong
    /// edges; on perceptual values, colour is kept. Raises noise too: denoise first.
    pub struct LocalContrast {
        id: "local_contrast",
        title: "Local contrast",
        group: "light",
        words: ["local", "contrast", "texture", "structure", "detail", "punch", "flat", "haze", "soft"],
        neutral: r#"{"amount": 0}"#,
        starter: r#"{"amount": 25}"#,
        facts: { effects: &[Effect::RaisesNoise] },
    }
    parameters {
        /// Smoother (below 0) or stronger (above 0); 100 doubles it.
        amount: f64 = 0.0, Kind::Number { min: -100.0, max: 100.0, step: 1.0 };
        /// How large the surroundings are, in hundredths of the long edge.
        reach: f64 = 2.0, Kind::Number { min: 0.2, max: 10.0, step: 0.1 }, "% of the long edge";
    }
    measured {
        guide: Option<Arc<Guide>> = None;
    }
}

/// Differences on the perceptual scale that count as edges.
const EDGE: f32 = 0.15;

/// Largest difference that is raised.
const MOST: f32 = 0.2;

impl Step for LocalContrast {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        if self.amount < 0.0 {
            "Local contrast {amount|abs} smoother, over {reach}.".into()
        } else {
            "Local contrast {amount|abs} stronger, over {reach}.".into()
        }
    }
    fn wants(&self) -> Wants {
        if self.amount == 0.0 { Wants::Nothing } else { Wants::Overview }
    }
    fn measured(&self, views: &[View]) -> Option<Box<dyn Step>> {
        let guide = Guide::new(views.first()?, self.reach / 100.0, EDGE);
        Some(Box::new(Self { guide: Some(Arc::new(guide)), ..self.clone() }))
    }
    fn ops(&self, place: &Place) -> Vec<Op> {
        let Some(guide) = self.guide.clone() else { return Vec::new() };
        let side = |n: u32| f64::from(n) * place.scale;
        let size = (side(place.size.width), side(place.size.height));
        vec![Op::Point(PointOp::Pixels(Arc::new(Local { guide, amount: self.amount as f32 / 100.0, size })))]
    }
    fn pixels(&self, place: &Place) -> Vec<(&'static str, f64)> {
        vec![("reach", self.reach / 100.0 * f64::from(place.size.long_edge()) * place.scale)]
    }
}

struct Local {
    guide: Arc<Guide>,
    amount: f32,
    size: (f64, f64),
}

impl PixelOp for Local {
    fn run(&self, x: i64, y: i64, planes: &mut Planes) {
        let before = planes.luminance();
        let mut light = before;
        ENCODE.apply(&mut light);
        let base = self.guide.base(x, y, self.size, &light);
        let mut after: [f32; CHUNK] = std::array::from_fn(|i| {
            let d = light[i] - base[i];
            // d / (1 + |d| / most)-shaped: hardly limited while small.
            light[i] + self.amount * d / (1.0 + (d / MOST) * (d / MOST)).sqrt()
        });
        DECODE.apply(&mut after);
        let factors =
            std::array::from_fn(
                |i| {
                    if before[i] > 1e-5 { (after[i] / before[i]).clamp(0.0, 16.0) } else { 1.0 }
                },
            );
        planes.scale(&factors);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::colour::transfer::{decode, encode};
    use crate::geometry::Size;
    use crate::steps::testing::{picture, whole};

    #[test]
    fn texture_doubles_the_mean_stays_and_edges_get_no_halo() {
        let size = Size::new(300, 120);
        let value = |x: u32, y: u32| {
            let base = if x < 150 { 0.3 } else { 0.8 };
            [decode(base + if (x / 2 + y / 2).is_multiple_of(2) { 0.02 } else { -0.02 }); 3]
        };
        let scene = picture(size, value);
        let at = |amount: f64, x: usize| {
            let (_, out) = whole(LocalContrast { amount, ..LocalContrast::default() }, &scene);
            encode(out[60 * 300 + x][1])
        };
        let (a, b) = (at(100.0, 40), at(100.0, 42));
        assert!(((a - b).abs() - 0.08).abs() < 0.006, "{a} {b}");
        assert!(((a + b) / 2.0 - 0.3).abs() < 0.004);
        let (a, b) = (at(-100.0, 40), at(-100.0, 42));
        assert!((a - b).abs() < 0.006, "{a} {b}");
        let (near, far) = (at(100.0, 152), at(100.0, 240));
        assert!((near - far).abs() < 0.04, "halo: {near} against {far}");
    }
}
