//! Removes a colour cast: finds the light's colour and balances it away.
//!
//! The light's colour is the mean of the nearly grey pixels between black and white (saturation below a half), each
//! counting the less the stronger its colour: the grey-world assumption (G. Buchsbaum, 1980) held to the pixels it is
//! true for. The work is that of `white_balance`, bounded to ± 40 each way.

use crate::step::{Kind, Op, Place, Step, View, Wants, step, values_of};
use crate::steps::light::auto_range::tenth;
use crate::steps::light::white_balance::WhiteBalance;
use serde_json::Value;

step! {
    /// Finds the colour of the light from what should be grey and balances it away; measured on every
    /// frame, or once and kept for all. At most 40 each way.
    pub struct RemoveCast: PartialEq {
        id: "remove_cast",
        title: "Remove a colour cast",
        group: "light",
        words: [
            "automatic", "auto", "cast", "colour", "color", "white balance", "neutral", "yellow", "blue",
            "lamp",
        ],
        neutral: r#"{"strength": 0}"#,
        starter: r#"{"strength": 80}"#,
    }
    parameters {
        /// How much of what was measured is done.
        strength: f64 = 80.0, Kind::Number { min: 0.0, max: 100.0, step: 1.0 }, "%";
        /// Always a little cooler (below 0) or warmer (above 0) on top.
        temperature: f64 = 0.0, Kind::Number { min: -40.0, max: 40.0, step: 1.0 };
        /// Always a little greener (below 0) or more magenta (above 0) on top.
        tint: f64 = 0.0, Kind::Number { min: -40.0, max: 40.0, step: 1.0 };
        /// Temperature and tint as measured on the sample, for all frames; nothing: measured on every
        /// frame.
        kept: Option<[f64; 2]> = None, Kind::Kept(2);
    }
    measured {
        seen: Option<[f64; 2]> = None;
    }
}

/// Most that is done each way.
const MOST: f64 = 40.0;

impl RemoveCast {
    fn balance(&self) -> Option<WhiteBalance> {
        let [temperature, tint] = self.kept.or(self.seen)?;
        let share = |v: f64, more: f64| tenth(v.clamp(-MOST, MOST) * self.strength / 100.0 + more);
        let balance =
            WhiteBalance { temperature: share(temperature, self.temperature), tint: share(tint, self.tint) };
        (self.strength > 0.0).then_some(balance)
    }
}

/// The mean of the pixels that may be grey.
fn light(pixels: &[[f32; 3]]) -> [f32; 3] {
    let mut sum = [0f64; 3];
    for p in pixels {
        let (most, least) = (p[0].max(p[1]).max(p[2]), p[0].min(p[1]).min(p[2]));
        // Near white a channel may be clipped, near black there is mostly noise.
        if !(0.01..=0.9).contains(&most) {
            continue;
        }
        let colour = 1.0 - least / most;
        let weight = f64::from((1.0 - 2.0 * colour).max(0.0)).powi(2);
        for (s, v) in sum.iter_mut().zip(p) {
            // Every tone counts the same.
            *s += weight * f64::from(v / most);
        }
    }
    sum.map(|s| s as f32)
}

impl Step for RemoveCast {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        let kept = if self.kept.is_some() { ", as on the sample" } else { "" };
        let mut text = format!("Remove {{strength}} of a colour cast{kept}");
        if self.temperature != 0.0 {
            text += if self.temperature < 0.0 {
                ", {temperature|abs} cooler"
            } else {
                ", {temperature|abs} warmer"
            };
        }
        if self.tint != 0.0 {
            text += if self.tint < 0.0 { ", {tint|abs} greener" } else { ", {tint|abs} more magenta" };
        }
        text + "."
    }
    fn wants(&self) -> Wants {
        if self.strength == 0.0 || self.kept.is_some() { Wants::Nothing } else { Wants::Overview }
    }
    fn measured(&self, views: &[View]) -> Option<Box<dyn Step>> {
        let sum = light(&views.first()?.pixels);
        let most = sum[0].max(sum[1]).max(sum[2]);
        // A picture without anything grey tells nothing: it is left alone.
        let found = (most > 0.0).then(|| WhiteBalance::for_neutral(sum.map(|v| 0.5 * v / most))).flatten();
        let seen = Some(found.map_or([0.0; 2], |b| [b.temperature, b.tint]));
        Some(Box::new(Self { seen, ..self.clone() }))
    }
    fn found(&self) -> Vec<(&'static str, f64)> {
        self.kept.or(self.seen).map(|[t, g]| vec![("temperature", t), ("tint", g)]).unwrap_or_default()
    }
    fn kept_values(&self) -> Vec<f64> {
        self.kept.or(self.seen).map(Vec::from).unwrap_or_default()
    }
    fn ordinary(&self) -> Vec<(&'static str, Value)> {
        self.balance().map(|b| vec![("white_balance", b.values())]).unwrap_or_default()
    }
    fn ops(&self, place: &Place) -> Vec<Op> {
        self.balance().map(|b| b.ops(place)).unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Size;
    use crate::steps::testing::{picture, whole};

    #[test]
    fn a_known_cast_goes_and_strong_colours_do_not_mislead() {
        // Greys of many tones under a warm light, and a third of the picture in strong green.
        let scene = picture(Size::new(90, 90), |x, y| {
            let tone = 0.05 + 0.6 * y as f32 / 90.0;
            if x < 30 { [0.05, 0.5, 0.08] } else { [tone, tone * 0.92, tone * 0.84] }
        });
        let (_, out) = whole(RemoveCast { strength: 100.0, ..RemoveCast::default() }, &scene);
        let p = out[45 * 90 + 60];
        assert!((p[0] / p[1] - 1.0).abs() < 0.01 && (p[2] / p[1] - 1.0).abs() < 0.01, "{p:?}");
        // A grey picture is left alone, and so is one with no grey at all.
        for colour in [[0.3; 3], [0.02, 0.5, 0.02]] {
            let flat = picture(Size::new(20, 20), |_, _| colour);
            let (_, out) = whole(RemoveCast { strength: 100.0, ..RemoveCast::default() }, &flat);
            for c in 0..3 {
                assert!((out[0][c] - colour[c]).abs() < 1e-3, "{:?}", out[0]);
            }
        }
    }
}
