//! Automatic contrast: brings a picture's middle and spread of tones towards what is looked at with ease.
//!
//! On the perceptual scale the median of the light is drawn towards 0.46 (mid grey) by `levels`, and its spread (half
//! of what lies between the 10th and the 90th part in a hundred) towards 0.28 by `contrast`; both half the way at full
//! strength and bounded, since a night should stay a night.

use crate::colour::transfer::encode;
use crate::colour::working::LUMINANCE;
use crate::step::{Kind, Op, Place, Step, View, Wants, step, values_of};
use crate::steps::light::auto_range::{percentile, tenth};
use crate::steps::light::contrast::Contrast;
use crate::steps::light::levels::Levels;
use serde_json::Value;

step! {
    /// Brings brightness and contrast towards an easy middle, half the way and bounded, so that a night
    /// stays a night; measured on every frame, or once and kept for all.
    pub struct AutoContrast: PartialEq {
        id: "auto_contrast",
        title: "Automatic contrast",
        group: "light",
        words: ["automatic", "auto", "contrast", "brightness", "tone", "even", "flat", "dull"],
        neutral: r#"{"strength": 0}"#,
        starter: r#"{"strength": 80}"#,
    }
    parameters {
        /// How much of what was measured is done.
        strength: f64 = 80.0, Kind::Number { min: 0.0, max: 100.0, step: 1.0 }, "%";
        /// Always a little less (below 0) or more (above 0) contrast on top.
        nudge: f64 = 0.0, Kind::Number { min: -50.0, max: 50.0, step: 1.0 };
        /// Middle and spread as measured on the sample, for all frames; nothing: measured on every frame.
        kept: Option<[f64; 2]> = None, Kind::Kept(2), "%";
    }
    measured {
        seen: Option<[f64; 2]> = None;
    }
}

const MIDDLE: f64 = 46.0;
const SPREAD: f64 = 28.0;

impl AutoContrast {
    fn chosen(&self) -> Option<(Levels, Contrast)> {
        let [middle, spread] = self.kept.or(self.seen)?;
        let share = 0.5 * self.strength / 100.0;
        // The exponent that takes the median to mid grey: median^(1/m) = middle.
        let to_middle = (middle.clamp(2.0, 98.0) / 100.0).ln() / (MIDDLE / 100.0).ln();
        let levels = Levels {
            middle: (to_middle.powf(share).clamp(0.6, 1.7) * 100.0).round() / 100.0,
            ..Levels::default()
        };
        // Contrast of 100 doubles the slope in the middle.
        let more = 100.0 * (SPREAD / spread.max(1.0)).log2() * share;
        let amount = tenth(more.clamp(-30.0, 50.0) + self.nudge);
        (self.strength > 0.0).then_some((levels, Contrast { amount }))
    }
}

impl Step for AutoContrast {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        let kept = if self.kept.is_some() { ", as on the sample" } else { "" };
        let nudge = match self.nudge {
            v if v < 0.0 => ", {nudge|abs} less",
            v if v > 0.0 => ", {nudge|abs} more",
            _ => "",
        };
        format!("Automatic contrast {{strength}}{kept}{nudge}.")
    }
    fn wants(&self) -> Wants {
        if self.strength == 0.0 || self.kept.is_some() { Wants::Nothing } else { Wants::Overview }
    }
    fn measured(&self, views: &[View]) -> Option<Box<dyn Step>> {
        let light = |p: &[f32; 3]| encode(p.iter().zip(LUMINANCE).map(|(v, l)| v * l).sum());
        let mut lightness: Vec<f32> = views.first()?.pixels.iter().map(light).collect();
        let [low, middle, high] =
            [0.1, 0.5, 0.9].map(|share| f64::from(percentile(&mut lightness, share)) * 100.0);
        let seen = Some([tenth(middle), tenth((high - low) / 2.0)]);
        Some(Box::new(Self { seen, ..self.clone() }))
    }
    fn found(&self) -> Vec<(&'static str, f64)> {
        let Some((levels, contrast)) = self.chosen() else { return Vec::new() };
        vec![("middle", levels.middle), ("contrast", contrast.amount)]
    }
    fn kept_values(&self) -> Vec<f64> {
        self.kept.or(self.seen).map(Vec::from).unwrap_or_default()
    }
    fn ordinary(&self) -> Vec<(&'static str, Value)> {
        let Some((levels, contrast)) = self.chosen() else { return Vec::new() };
        vec![("levels", levels.values()), ("contrast", contrast.values())]
    }
    fn ops(&self, place: &Place) -> Vec<Op> {
        let Some((levels, contrast)) = self.chosen() else { return Vec::new() };
        levels.ops(place).into_iter().chain(contrast.ops(place)).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::colour::transfer::decode;
    use crate::geometry::Size;
    use crate::steps::testing::{picture, whole};

    #[test]
    fn dark_and_flat_goes_half_the_way_and_a_night_stays_a_night() {
        let ramp = |low: f32, high: f32| {
            picture(Size::new(400, 20), move |x, _| [decode(low + (high - low) * x as f32 / 399.0); 3])
        };
        let full = || AutoContrast { strength: 100.0, ..AutoContrast::default() };
        let (_, out) = whole(full(), &ramp(0.2, 0.4));
        let (low, middle, high) = (encode(out[40][0]), encode(out[200][0]), encode(out[359][0]));
        assert!(middle > 0.33 && middle < 0.46, "{middle}");
        assert!(high - low > 0.19, "{}", high - low);
        let (_, night) = whole(full(), &ramp(0.0, 0.06));
        assert!(encode(night[200][0]) < 0.2, "{}", encode(night[200][0]));
        // What is in the middle already is left nearly alone.
        let (_, fine) = whole(full(), &ramp(0.11, 0.81));
        assert!((encode(fine[200][0]) - 0.46).abs() < 0.02);
    }
}
