//! Deflicker: evens the light of a sequence from frame to frame (`sequence/course.rs`), in linear light, so that an exposure
//! that was a little off is exactly taken back.
//!
//! Every frame is measured reduced, as it comes to this line: the light of 96 blocks of the picture, or of a part of it, in
//! stops. Blocks with clipped pixels and nearly black ones do not count.

use crate::colour::working::LUMINANCE;
use crate::geometry::Size;
use crate::ops::pointwise::{Curve, PointOp};
use crate::sequence::course::{Blocks, contrast_corrections, corrections};
use crate::step::{AcrossPictures, Effect, Kind, Op, Place, Seen, Step, step, values_of};
use crate::steps::sequence::DECIDED_IN_A_RUN;
use serde_json::{Map, Value, json};
use std::sync::Arc;

step! {
    /// Evens the light from frame to frame of a sequence: what flickers goes, what changes slowly stays. Measured on all
    /// frames of a run as they come to this line; things that move through the picture do not count.
    pub struct Deflicker: PartialEq {
        id: "deflicker",
        title: "Deflicker",
        group: "sequence",
        words: [
            "flicker", "deflicker", "even", "light", "sequence", "exposure", "pumping", "brightness", "frames",
        ],
        neutral: r#"{"strength": 0}"#,
        starter: "{}",
        facts: { effects: &[Effect::EvensLight] },
    }
    parameters {
        /// How many frames to each side say what is slow: more leave less flicker, fewer follow faster changes.
        smooth: f64 = 40.0, Kind::Number { min: 2.0, max: 500.0, step: 1.0 }, "frames";
        /// How much of the flicker is taken out.
        strength: f64 = 100.0, Kind::Number { min: 0.0, max: 100.0, step: 1.0 }, "%";
        /// The part of the picture that is measured; nothing: all of it.
        area: Option<[f64; 4]> = None, Kind::Part;
        /// Whether red, green and blue are evened each by itself, where the colour of the light flickers too.
        per_channel: bool = false, Kind::Flag;
        /// Whether contrast that changes from frame to frame is evened too, as haze or a camera's own tone makes it change.
        contrast: bool = false, Kind::Flag;
        /// The power that the light of one frame is raised by, red, green and blue: above 1 gives it more contrast; decided
        /// for each frame of a run.
        power: Option<[f64; 3]> = None, Kind::Kept(3);
        /// Stops that one frame is made brighter, red, green and blue; decided for each frame of a run.
        stops: Option<[f64; 3]> = None, Kind::Kept(3);
    }
}

/// Blocks across and down.
const COLUMNS: usize = 12;
const ROWS: usize = 8;

/// From here on a pixel may be clipped, and so many in a hundred of a block make it tell nothing.
const CLIPPED: f32 = 0.95;
const MOST_CLIPPED: usize = 20;

/// Light below this is mostly noise.
const DARKEST: f32 = 3e-4;

/// Stands for a block that tells nothing.
const NOTHING: f64 = -99.0;

/// The light that a change of contrast leaves as it is.
const PIVOT: f32 = 0.18;

/// The most one frame is made brighter or darker, in stops.
const MOST: f64 = 4.0;

impl Step for Deflicker {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        let part = if self.area.is_some() { " of a part" } else { "" };
        let each = if self.per_channel { ", each colour by itself" } else { "" };
        let light = if self.contrast { "light and contrast" } else { "light" };
        format!("Even the {light}{part} over {{smooth}} frames to each side, {{strength}}{each}.")
    }
    fn ops(&self, _: &Place) -> Vec<Op> {
        let stops = self.stops.unwrap_or_default();
        if self.strength == 0.0 {
            return Vec::new();
        }
        if let Some(power) = self.power.filter(|power| *power != [1.0; 3]) {
            return vec![Op::Point(PointOp::Curves(std::array::from_fn(|c| curve(stops[c], power[c]))))];
        }
        if stops == [0.0; 3] {
            return Vec::new();
        }
        let gain = stops.map(|stops| 2f64.powf(stops) as f32);
        vec![Op::Point(PointOp::Matrix([[gain[0], 0.0, 0.0], [0.0, gain[1], 0.0], [0.0, 0.0, gain[2]]]))]
    }
    fn note(&self) -> Option<String> {
        self.stops.is_none().then(|| DECIDED_IN_A_RUN.into())
    }
    fn across(&self) -> Option<&dyn AcrossPictures> {
        (self.strength > 0.0).then_some(self as _)
    }
}

/// What light becomes: gain and contrast about a fixed light. Very dark light, where a power would be steep without end,
/// keeps the gain of a little brighter one.
fn curve(stops: f64, power: f64) -> Curve {
    let (power, gain) = (power as f32, 2f64.powf(stops) as f32);
    Arc::new(move |light| light * gain * (light.max(DARKEST) / PIVOT).powf(power - 1.0))
}

impl Deflicker {
    /// Red, green and blue of each block in stops, by rows of blocks.
    fn light_of_blocks(&self, size: Size, values: &[f32]) -> Vec<f64> {
        let (w, h) = (size.width as usize, size.height as usize);
        let [x, y, wide, high] = self.area.unwrap_or([0.0, 0.0, 1.0, 1.0]);
        let mut out = Vec::with_capacity(COLUMNS * ROWS * 3);
        for row in 0..ROWS {
            for column in 0..COLUMNS {
                let edge = |from: f64, side: f64, k: usize, count: usize, length: usize| {
                    (((from + side * k as f64 / count as f64) * length as f64).round() as usize).min(length)
                };
                let (left, right) =
                    (edge(x, wide, column, COLUMNS, w), edge(x, wide, column + 1, COLUMNS, w));
                let (top, bottom) = (edge(y, high, row, ROWS, h), edge(y, high, row + 1, ROWS, h));
                let (mut sum, mut clipped, mut count) = ([0f64; 3], 0, 0);
                for v in top..bottom {
                    for pixel in values[(v * w + left) * 3..(v * w + right) * 3].as_chunks::<3>().0 {
                        for (sum, value) in sum.iter_mut().zip(pixel) {
                            *sum += f64::from(value.max(0.0));
                        }
                        clipped += usize::from(pixel.iter().any(|v| *v >= CLIPPED));
                        count += 1;
                    }
                }
                let tells = count > 0 && clipped * 100 <= count * MOST_CLIPPED;
                let light = sum.map(|sum| sum / f64::from(count.max(1) as u32));
                let bright = light.iter().all(|v| *v >= f64::from(DARKEST));
                // Four digits are a hundredth of a thousandth of a stop's light.
                let stops = |v: f64| (v.log2() * 1e4).round() / 1e4;
                out.extend(light.map(|v| if tells && bright { stops(v) } else { NOTHING }));
            }
        }
        out
    }

    /// Of what was measured of a frame the light of its blocks: in one colour, or in all together.
    fn blocks(measured: &[f64], colour: Option<usize>) -> Option<Blocks> {
        if measured.len() != COLUMNS * ROWS * 3 {
            return None;
        }
        let told = |v: f64| (v > NOTHING / 2.0).then_some(v as f32);
        let of = |block: &[f64]| match colour {
            Some(c) => told(block[c]),
            None => {
                let light: Option<f32> = (0..3).map(|c| Some(told(block[c])?.exp2() * LUMINANCE[c])).sum();
                light.map(f32::log2)
            }
        };
        Some(measured.chunks_exact(3).map(of).collect())
    }
}

impl AcrossPictures for Deflicker {
    fn see(&self, size: Size, values: &[f32]) -> Seen {
        Arc::new(self.light_of_blocks(size, values))
    }

    fn measure(&self, own: &Seen, _: &dyn Fn(usize) -> Option<Seen>) -> Vec<f64> {
        own.downcast_ref::<Vec<f64>>().cloned().unwrap_or_default()
    }

    fn decide(&self, measured: &[Option<Vec<f64>>]) -> Vec<Map<String, Value>> {
        let of = |colour: Option<usize>| -> Vec<(f64, f64)> {
            let mut frames: Vec<Option<Blocks>> =
                measured.iter().map(|m| Self::blocks(m.as_ref()?, colour)).collect();
            let mut powers = vec![1.0; frames.len()];
            if self.contrast {
                powers = contrast_corrections(&frames, self.smooth);
                let share = self.strength / 100.0;
                for (frame, power) in frames.iter_mut().zip(&mut powers) {
                    *power = power.powf(share);
                    let pivot = PIVOT.log2();
                    let raised = |v: f32| pivot + (v - pivot) * *power as f32;
                    frame.iter_mut().flatten().for_each(|light| *light = light.map(raised));
                }
            }
            corrections(&frames, self.smooth).into_iter().zip(powers).collect()
        };
        let tidy = |v: f64| (v * 1e5).round() / 1e5;
        let stops = |v: f64| tidy((v * self.strength / 100.0).clamp(-MOST, MOST));
        let colours =
            if self.per_channel { [0, 1, 2].map(|c| of(Some(c))) } else { [(); 3].map(|()| of(None)) };
        (0..measured.len())
            .map(|i| {
                let mut values = Map::new();
                values.insert("stops".into(), json!([0, 1, 2].map(|c| stops(colours[c][i].0))));
                if self.contrast {
                    values.insert("power".into(), json!([0, 1, 2].map(|c| tidy(colours[c][i].1))));
                }
                values
            })
            .collect()
    }

    fn told(&self, measured: &[Option<Vec<f64>>], names: &[String]) -> Vec<String> {
        let stops = |values: &Map<String, Value>| -> Option<f64> {
            let stops: [f64; 3] = serde_json::from_value(values.get("stops")?.clone()).ok()?;
            stops.into_iter().max_by(|a, b| a.abs().total_cmp(&b.abs()))
        };
        let decided = self.decide(measured);
        let all = decided.iter().zip(names).filter_map(|(values, name)| Some((stops(values)?, name)));
        let Some((most, name)) = all.max_by(|a, b| a.0.abs().total_cmp(&b.0.abs())) else {
            return Vec::new();
        };
        let how = if most < 0.0 { "darker" } else { "brighter" };
        vec![format!("Of all frames {name} was changed most: {:.2} stops {how}.", most.abs())]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sequence::course::tests::chance;

    const SIZE: Size = Size { width: 160, height: 100 };

    /// A scene with a bright sky that clips, a dark corner, and a thing that passes.
    fn frame(i: usize, stops: [f64; 3]) -> Vec<f32> {
        (0..SIZE.area() as usize)
            .flat_map(|k| {
                let (x, y) = (k % SIZE.width as usize, k / SIZE.width as usize);
                let texture = 0.15 + 0.1 * ((x / 7 + y / 5) % 5) as f64;
                let light = match () {
                    () if y < 20 => 1.4,
                    () if x < 12 && y > 80 => 1e-5,
                    () if (x + 160 - i * 9 % 160) % 160 < 20 => 0.03,
                    () => texture,
                };
                stops.map(|s| ((light * 2f64.powf(s)).min(1.0) + 0.002 * chance(k * 3 + i)) as f32)
            })
            .collect()
    }

    fn decided(step: &Deflicker, flicker: impl Fn(usize) -> [f64; 3], count: usize) -> Vec<[f64; 3]> {
        let measured: Vec<_> =
            (0..count).map(|i| Some(step.light_of_blocks(SIZE, &frame(i, flicker(i))))).collect();
        let values = step.decide(&measured);
        values.iter().map(|v| serde_json::from_value(v["stops"].clone()).unwrap()).collect()
    }

    #[test]
    fn frames_get_back_the_light_they_should_have_had() {
        let flicker = |i: usize| [0.12 * chance(i * 17); 3];
        let found = decided(&Deflicker::default(), flicker, 160);
        // At the ends only one side tells what is slow.
        let inside = || found.iter().enumerate().skip(20).take(120);
        let left: f64 = inside().map(|(i, f)| (f[1] + flicker(i)[1]).powi(2)).sum();
        let was: f64 = inside().map(|(i, _)| flicker(i)[1].powi(2)).sum();
        // What of chance is as slow as the reach cannot be told from slow light.
        assert!(left < 0.07 * was, "{:.3} of the variance is left", left / was);
        let half = decided(&Deflicker { strength: 50.0, ..Deflicker::default() }, flicker, 160);
        assert!((half[5][0] - found[5][0] / 2.0).abs() < 1e-4);
    }

    #[test]
    fn colours_are_evened_apart_where_that_is_asked_for() {
        let flicker = |i: usize| [0.12 * chance(i * 17), 0.0, -0.1 * chance(i * 23)];
        let step = Deflicker { per_channel: true, ..Deflicker::default() };
        let found = decided(&step, flicker, 160);
        for c in 0..3 {
            let inside = || found.iter().enumerate().skip(20).take(120);
            let left: f64 = inside().map(|(i, f)| (f[c] + flicker(i)[c]).powi(2)).sum();
            let was: f64 = inside().map(|(i, _)| flicker(i)[c].powi(2)).sum();
            assert!(left <= 0.07 * was + 1e-3, "{c}: {left} of {was}");
        }
    }

    #[test]
    fn contrast_is_evened_where_that_is_asked_for() {
        // Frames whose contrast about some light flickers: what is left of the spread of their light is counted.
        let power = |i: usize| (0.08 * chance(i * 19)).exp2();
        let step = Deflicker { contrast: true, ..Deflicker::default() };
        let frames: Vec<Vec<f32>> = (0..120)
            .map(|i| frame(0, [0.0; 3]).iter().map(|v| 0.3 * (v / 0.3).powf(power(i) as f32)).collect())
            .collect();
        let measured: Vec<_> = frames.iter().map(|values| Some(step.light_of_blocks(SIZE, values))).collect();
        let spread = |values: &[f32]| {
            let lights = values.iter().skip(25 * 160 * 3).step_by(3).filter(|v| **v > 0.02 && **v < 0.9);
            let (low, high) =
                lights.fold((f32::MAX, f32::MIN), |(low, high), v| (low.min(v.log2()), high.max(v.log2())));
            f64::from(high - low)
        };
        let decided = step.decide(&measured);
        let unevenness = |spreads: &[f64]| {
            spreads.windows(3).map(|w| (w[0] - 2.0 * w[1] + w[2]).powi(2)).sum::<f64>().sqrt()
        };
        let before: Vec<f64> = frames.iter().map(|values| spread(values)).collect();
        let after: Vec<f64> = frames
            .iter()
            .zip(decided)
            .map(|(values, decided)| {
                let read = |name: &str| serde_json::from_value::<[f64; 3]>(decided[name].clone()).unwrap();
                let curve = curve(read("stops")[1], read("power")[1]);
                spread(&values.iter().map(|v| curve(*v)).collect::<Vec<_>>())
            })
            .collect();
        let share = unevenness(&after) / unevenness(&before);
        assert!(share < 0.2, "{share} of the unevenness is left");
    }

    #[test]
    fn what_was_decided_is_what_is_done() {
        let size = Size::new(4, 4);
        let place = Place { size, output: size, to_output: 1.0, scale: 1.0, seed: 0 };
        let brighter = Deflicker { stops: Some([1.0; 3]), ..Deflicker::default() };
        let Some(Op::Point(PointOp::Matrix(gain))) = brighter.ops(&place).pop() else { panic!() };
        assert_eq!((gain[0][0], gain[0][1], gain[2][2]), (2.0, 0.0, 2.0));
        let steeper = Deflicker { power: Some([1.0, 2.0, 1.0]), ..brighter };
        let Some(Op::Point(PointOp::Curves(curves))) = steeper.ops(&place).pop() else { panic!() };
        // A light of 0.18 keeps only its gain; twice that has twice as much again where the power is two.
        for (curve, above) in curves.iter().zip([0.72, 1.44, 0.72]) {
            assert!((curve(0.18) - 0.36).abs() < 1e-6 && (curve(0.36) - above).abs() < 1e-5);
        }
        assert!(Deflicker { strength: 0.0, ..steeper }.ops(&place).is_empty());
        assert!(Deflicker::default().ops(&place).is_empty());
    }

    #[test]
    fn only_the_part_that_is_named_counts() {
        // The left half flickers, the right one does not.
        let step = Deflicker { area: Some([0.5, 0.2, 0.5, 0.8]), ..Deflicker::default() };
        let measured: Vec<_> = (0..60)
            .map(|i| {
                let mut values = frame(0, [0.0; 3]);
                for (k, pixel) in values.as_chunks_mut::<3>().0.iter_mut().enumerate() {
                    if k % 160 < 78 {
                        *pixel = pixel.map(|v| v * 2f32.powf(0.3 * chance(i) as f32));
                    }
                }
                Some(step.light_of_blocks(SIZE, &values))
            })
            .collect();
        for values in step.decide(&measured) {
            let stops: [f64; 3] = serde_json::from_value(values["stops"].clone()).unwrap();
            assert!(stops.iter().all(|s| s.abs() < 0.01), "{stops:?}");
        }
    }
}
