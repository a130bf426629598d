//! Automatic range: finds the darkest and the brightest tone that matter and makes them black and white.
//!
//! On the perceptual scale: `black` is the tone below which `leave` per mille of the pixels have their darkest
//! channel, `white` the same from above with the brightest channel, both bounded, and both held back to `strength`.
//! The work is that of `levels`.

use crate::colour::transfer::encode;
use crate::step::{Kind, Op, Place, Step, View, Wants, step, values_of};
use crate::steps::light::levels::Levels;
use serde_json::Value;

step! {
    /// Stretches the tones so that the darkest that matter become black and the brightest white; measured
    /// on every frame, or once and kept for all. Bounded: black takes at most 30 % of the scale, white
    /// starts at 55 % or above.
    pub struct AutoRange: PartialEq {
        id: "auto_range",
        title: "Automatic range",
        group: "light",
        words: ["automatic", "auto", "range", "levels", "flat", "haze", "fog", "stretch", "normalise"],
        neutral: r#"{"strength": 0}"#,
        starter: r#"{"strength": 80}"#,
        facts: { clips: &["black", "white"] },
    }
    parameters {
        /// How much of what was measured is done.
        strength: f64 = 80.0, Kind::Number { min: 0.0, max: 100.0, step: 1.0 }, "%";
        /// So many thousandths of the pixels may become full black, and as many full white.
        leave: f64 = 1.0, Kind::Number { min: 0.0, max: 50.0, step: 0.5 }, "‰";
        /// Always a little darker (below 0) or brighter (above 0) on top.
        nudge: f64 = 0.0, Kind::Number { min: -50.0, max: 50.0, step: 1.0 };
        /// Black and white as measured on the sample, for all frames; nothing: measured on every frame.
        kept: Option<[f64; 2]> = None, Kind::Kept(2), "%";
    }
    measured {
        seen: Option<[f64; 2]> = None;
    }
}

/// The tone below which `share` of the values lie; `values` change their order.
pub fn percentile(values: &mut [f32], share: f64) -> f32 {
    if values.is_empty() {
        return 0.0;
    }
    let at = ((values.len() - 1) as f64 * share.clamp(0.0, 1.0)).round() as usize;
    *values.select_nth_unstable_by(at, f32::total_cmp).1
}

/// To tenths, as people read them.
pub fn tenth(value: f64) -> f64 {
    (value * 10.0).round() / 10.0
}

impl AutoRange {
    fn levels(&self) -> Option<Levels> {
        let [black, white] = self.kept.or(self.seen)?;
        let share = self.strength / 100.0;
        let levels = Levels {
            black: tenth(black.clamp(0.0, 30.0) * share),
            white: tenth(100.0 - (100.0 - white.clamp(55.0, 100.0)) * share),
            middle: ((2f64.powf(self.nudge / 50.0)) * 1000.0).round() / 1000.0,
            ..Levels::default()
        };
        (self.strength > 0.0).then_some(levels)
    }
}

impl Step for AutoRange {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        let kept = if self.kept.is_some() { ", as on the sample" } else { "" };
        let nudge = match self.nudge {
            v if v < 0.0 => ", {nudge|abs} darker",
            v if v > 0.0 => ", {nudge|abs} brighter",
            _ => "",
        };
        format!("Automatic range {{strength}}{kept}{nudge}.")
    }
    fn wants(&self) -> Wants {
        if self.strength == 0.0 || self.kept.is_some() { Wants::Nothing } else { Wants::Overview }
    }
    fn measured(&self, views: &[View]) -> Option<Box<dyn Step>> {
        let view = views.first()?;
        let of = |pick: fn(f32, f32) -> f32| -> Vec<f32> {
            view.pixels.iter().map(|p| encode(pick(pick(p[0], p[1]), p[2]))).collect()
        };
        let black = percentile(&mut of(f32::min), self.leave / 1000.0);
        let white = percentile(&mut of(f32::max), 1.0 - self.leave / 1000.0);
        let seen = Some([black, white].map(|v| tenth(f64::from(v) * 100.0)));
        Some(Box::new(Self { seen, ..self.clone() }))
    }
    fn found(&self) -> Vec<(&'static str, f64)> {
        let seen = self.kept.or(self.seen);
        seen.map(|[black, white]| vec![("black", black), ("white", white)]).unwrap_or_default()
    }
    fn kept_values(&self) -> Vec<f64> {
        self.kept.or(self.seen).map(Vec::from).unwrap_or_default()
    }
    fn ordinary(&self) -> Vec<(&'static str, Value)> {
        self.levels().map(|l| vec![("levels", l.values())]).unwrap_or_default()
    }
    fn ops(&self, place: &Place) -> Vec<Op> {
        self.levels().map(|l| l.ops(place)).unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::colour::transfer::decode;
    use crate::geometry::Size;
    use crate::steps::testing::{picture, whole};

    #[test]
    fn a_flat_ramp_fills_the_range_and_bounds_hold() {
        let ramp = |low: f32, high: f32| {
            picture(Size::new(400, 40), move |x, _| [decode(low + (high - low) * x as f32 / 399.0); 3])
        };
        let step = AutoRange { strength: 100.0, leave: 0.0, ..AutoRange::default() };
        let (_, out) = whole(step.clone(), &ramp(0.2, 0.7));
        assert!(encode(out[0][0]) < 0.005 && (encode(out[399][0]) - 1.0).abs() < 0.005);
        assert!((encode(out[200][0]) - 0.5).abs() < 0.01);
        // Half the strength goes half the way.
        let half = AutoRange { strength: 50.0, ..step.clone() };
        assert!((encode(whole(half, &ramp(0.2, 0.7)).1[0][0]) - 0.1 / 0.75).abs() < 0.01);
        // A picture of fog is not torn apart.
        let (_, fog) = whole(step.clone(), &ramp(0.45, 0.5));
        let span = encode(fog[399][0]) - encode(fog[0][0]);
        assert!((span - 0.05 / 0.25).abs() < 0.01, "{span}");
        // Kept values are used whatever the picture is, and become an ordinary step.
        let kept = AutoRange { kept: Some([20.0, 70.0]), ..step };
        let (_, out) = whole(kept.clone(), &ramp(0.0, 1.0));
        assert!((encode(out[180][0]) - (0.4511 - 0.2) / 0.5).abs() < 0.01);
        assert_eq!(kept.ordinary()[0].0, "levels");
        assert_eq!((kept.ordinary()[0].1["black"].clone(), kept.found()[1].1), (20.0.into(), 70.0));
    }
}
