//! Gentle saturation: strengthens pale colours most, saturated ones least, and holds skin tones back.
//!
//! On linear light the distance from grey is scaled as in `saturation`, but by a factor per pixel:
//! `1 + amount · (1 − s)^1.5 · (1 − skin / 2)`, `s` being the HSV-like saturation of the pixel (1 − least / most) and
//! `skin` a soft window of hues around 25°. Luminance is kept. Allocates nothing.

use crate::ops::planes::{CHUNK, Planes};
use crate::ops::pointwise::{PixelOp, PointOp};
use crate::step::{Kind, Op, Place, Step, step, values_of};
use multiversion::multiversion;
use serde_json::Value;
use std::sync::Arc;

step! {
    /// Stronger or weaker colours where they are pale; saturated colours and skin change least. On linear
    /// light, luminance is kept.
    pub struct GentleSaturation: PartialEq {
        id: "gentle_saturation",
        title: "Gentle saturation",
        group: "colour",
        words: ["gentle", "saturation", "colour", "color", "pale", "skin", "portrait", "vivid", "muted"],
        neutral: r#"{"amount": 0}"#,
        starter: r#"{"amount": 20}"#,
    }
    parameters {
        /// Weaker (below 0) or stronger (above 0).
        amount: f64 = 0.0, Kind::Number { min: -100.0, max: 100.0, step: 1.0 };
    }
}

impl Step for GentleSaturation {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        let how = if self.amount < 0.0 { "weaker" } else { "stronger" };
        format!("Pale colours {{amount|abs}} {how}, skin held back.")
    }
    fn ops(&self, _: &Place) -> Vec<Op> {
        if self.amount == 0.0 {
            return Vec::new();
        }
        vec![Op::Point(PointOp::Pixels(Arc::new(Gentle(self.amount as f32 / 100.0))))]
    }
}

struct Gentle(f32);

impl PixelOp for Gentle {
    fn run(&self, _: i64, _: i64, planes: &mut Planes) {
        gentle(self.0, planes);
    }

    fn is_placeless(&self) -> bool {
        true
    }
}

/// How near the hue is to skin: 1 within about 15° of a warm orange, 0 from 40° on.
#[inline(always)]
fn skin(r: f32, g: f32, b: f32, most: f32) -> f32 {
    // On the plane across grey: along red, and from blue to green.
    let (a, c) = (r - 0.5 * (g + b), 0.866_025_4 * (g - b));
    let size = (a * a + c * c).sqrt().max(1e-6 * most.max(1e-6));
    // Cosine of the angle to 25°.
    let near = (a * 0.906_307_8 + c * 0.422_618_3) / size;
    ((near - 0.766) / (0.966 - 0.766)).clamp(0.0, 1.0)
}

#[multiversion(targets("x86_64+avx2", "x86_64+sse4.1", "aarch64+neon"))]
fn gentle(amount: f32, planes: &mut Planes) {
    let light = planes.luminance();
    for i in 0..CHUNK {
        let (r, g, b) = (planes.r[i], planes.g[i], planes.b[i]);
        let (most, least) = (r.max(g).max(b), r.min(g).min(b).max(0.0));
        let pale = if most > 1e-6 { least / most } else { 1.0 };
        let factor = 1.0 + amount * pale * pale.sqrt() * (1.0 - 0.5 * skin(r, g, b, most));
        let y = light[i];
        planes.r[i] = y + (r - y) * factor;
        planes.g[i] = y + (g - y) * factor;
        planes.b[i] = y + (b - y) * factor;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::colour::working::LUMINANCE;
    use crate::steps::testing::one_pixel;

    fn stretch(pixel: [f32; 3]) -> f32 {
        let out = one_pixel(&GentleSaturation { amount: 100.0 }, pixel);
        let light = |p: [f32; 3]| p.iter().zip(LUMINANCE).map(|(v, l)| v * l).sum::<f32>();
        assert!((light(out) - light(pixel)).abs() < 1e-5, "luminance changed: {out:?}");
        let grey = light(pixel);
        (out[0] - grey) / (pixel[0] - grey)
    }

    #[test]
    fn pale_most_saturated_least_skin_held_back() {
        let (pale, strong) = (stretch([0.3, 0.36, 0.36]), stretch([0.02, 0.5, 0.4]));
        assert!(pale > 1.6 && strong < 1.1, "{pale} {strong}");
        // As pale as the first, but of a skin's hue (25°).
        let skin = stretch([0.36, 0.325, 0.3]);
        assert!(skin < 1.0 + (pale - 1.0) * 0.7, "{skin} against {pale}");
        assert_eq!(one_pixel(&GentleSaturation { amount: 80.0 }, [0.4; 3]), [0.4; 3]);
    }
}
