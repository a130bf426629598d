//! Shadows and highlights: lightens or darkens the dark and the bright parts, each as a whole.
//!
//! Goes by the edge-keeping base of `guide.rs`: every pixel is multiplied, on linear light, by what the tone function
//! does to its base, so that local contrast is kept as a ratio and edges get no halo. On the perceptual scale the tone
//! function is `B · (1 + k (1 − B)³)` for shadows and the same seen from white for highlights; light above white is
//! drawn back when highlights are darkened. One pass, no halo.

use crate::colour::transfer::{CodedTable, ENCODE, decode};
use crate::ops::guided_filter::Guide;
use crate::ops::planes::{CHUNK, Planes};
use crate::ops::pointwise::{PixelOp, PointOp};
use crate::step::{Effect, Kind, Op, Place, Step, View, Wants, step, values_of};
use serde_json::Value;
use std::sync::Arc;

step! {
    /// Lightens or darkens the dark parts and the bright parts as wholes: local contrast stays, edges get
    /// no halo. The factor comes from perceptual values and works on linear light.
    pub struct ShadowsHighlights {
        id: "shadows_highlights",
        title: "Shadows and highlights",
        group: "light",
        words: [
            "shadows", "highlights", "dark", "bright", "backlight", "lift", "recover", "sky", "dynamic",
            "fill",
        ],
        neutral: r#"{"shadows": 0, "highlights": 0}"#,
        starter: r#"{"shadows": 25, "highlights": -20}"#,
        facts: { effects: &[Effect::RaisesNoise] },
    }
    parameters {
        /// Darker (below 0) or lighter (above 0) where it is dark.
        shadows: f64 = 0.0, Kind::Number { min: -100.0, max: 100.0, step: 1.0 };
        /// Darker (below 0) or lighter (above 0) where it is bright.
        highlights: f64 = 0.0, Kind::Number { min: -100.0, max: 100.0, step: 1.0 };
        /// How large the parts are that count as one, in hundredths of the long edge.
        reach: f64 = 1.5, Kind::Number { min: 0.2, max: 10.0, step: 0.1 }, "% of the long edge";
    }
    measured {
        guide: Option<Arc<Guide>> = None;
    }
}

/// Differences on the perceptual scale that count as edges.
const EDGE: f32 = 0.1;

/// What the base becomes, on the perceptual scale.
fn tone(b: f32, shadows: f32, highlights: f32) -> f32 {
    // Pulling down is held to 0.8, so that tones never change places.
    let k = |amount: f32| if amount < 0.0 { 0.8 * amount } else { 1.2 * amount };
    let lifted = b * (1.0 + k(shadows) * (1.0 - b.min(1.0)).powi(3));
    if lifted > 1.0 {
        return 1.0 + (lifted - 1.0) * (1.0 + 0.7 * highlights.min(0.0));
    }
    1.0 - (1.0 - lifted) * (1.0 + k(-highlights) * lifted.powi(3))
}

impl Step for ShadowsHighlights {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        let how = |v: f64| if v < 0.0 { "darker" } else { "lighter" };
        let (s, h) = (how(self.shadows), how(self.highlights));
        match (self.shadows == 0.0, self.highlights == 0.0) {
            (false, true) => format!("Shadows {{shadows|abs}} {s}."),
            (true, false) => format!("Highlights {{highlights|abs}} {h}."),
            _ => format!("Shadows {{shadows|abs}} {s}, highlights {{highlights|abs}} {h}."),
        }
    }
    fn wants(&self) -> Wants {
        if self.shadows == 0.0 && self.highlights == 0.0 { Wants::Nothing } else { Wants::Overview }
    }
    fn measured(&self, views: &[View]) -> Option<Box<dyn Step>> {
        let guide = Guide::new(views.first()?, self.reach / 100.0, EDGE);
        Some(Box::new(Self { guide: Some(Arc::new(guide)), ..self.clone() }))
    }
    fn ops(&self, place: &Place) -> Vec<Op> {
        let Some(guide) = self.guide.clone() else { return Vec::new() };
        let (s, h) = (self.shadows as f32 / 100.0, self.highlights as f32 / 100.0);
        let factor = CodedTable::new(move |base| {
            let base = base.max(1e-3);
            decode(tone(base, s, h).max(0.0)) / decode(base)
        });
        let side = |n: u32| f64::from(n) * place.scale;
        let size = (side(place.size.width), side(place.size.height));
        vec![Op::Point(PointOp::Pixels(Arc::new(Lit { guide, factor, size })))]
    }
    fn pixels(&self, place: &Place) -> Vec<(&'static str, f64)> {
        vec![("reach", self.reach / 100.0 * f64::from(place.size.long_edge()) * place.scale)]
    }
}

struct Lit {
    guide: Arc<Guide>,
    factor: CodedTable,
    size: (f64, f64),
}

impl PixelOp for Lit {
    fn run(&self, x: i64, y: i64, planes: &mut Planes) {
        let mut light = planes.luminance();
        ENCODE.apply(&mut light);
        let base = self.guide.base(x, y, self.size, &light);
        let mut factors: [f32; CHUNK] = base;
        self.factor.apply(&mut factors);
        planes.scale(&factors);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::colour::transfer::encode;
    use crate::geometry::Size;
    use crate::steps::testing::{picture, whole};

    #[test]
    fn tones_keep_their_order_and_ends() {
        for s in [-1.0, -0.3, 0.5, 1.0] {
            for h in [-1.0, 0.4, 1.0] {
                let all: Vec<f32> = (0..=1300).map(|i| tone(i as f32 / 1000.0, s, h)).collect();
                assert!(all.windows(2).all(|w| w[1] >= w[0] - 1e-6), "{s} {h}");
                assert!(all[0] == 0.0 && (all[1000] - 1.0).abs() < 1e-6);
            }
        }
    }

    #[test]
    fn local_contrast_is_kept_and_edges_get_no_halo() {
        // A dark and a bright half, both with a fine pattern of ± 5 % of the light.
        let size = Size::new(300, 120);
        let value = |x: u32, y: u32| {
            let base = decode(if x < 150 { 0.25 } else { 0.85 });
            [base * if (x / 2 + y / 2).is_multiple_of(2) { 1.05 } else { 0.95 }; 3]
        };
        let step = ShadowsHighlights { shadows: 80.0, ..ShadowsHighlights::default() };
        let (_, out) = whole(step, &picture(size, value));
        let at = |x: usize, y: usize| out[y * 300 + x][1];
        let ratio = at(40, 40) / at(42, 40);
        assert!((ratio - 1.05 / 0.95).abs() < 0.02, "local contrast became {ratio}");
        let lifted = encode((at(40, 40) * at(42, 40)).sqrt());
        assert!((lifted - tone(0.25, 0.8, 0.0)).abs() < 0.02, "{lifted}");
        // Across the edge every bright pixel is as bright as far away, within 3 %.
        for x in 152..200 {
            let same =
                if (at(x, 60) - at(280, 60)).abs() < (at(x, 60) - at(282, 60)).abs() { 280 } else { 282 };
            assert!(
                (at(x, 60) / at(same, 60) - 1.0).abs() < 0.03,
                "halo at {x}: {} {}",
                at(x, 60),
                at(same, 60)
            );
        }
    }
}
