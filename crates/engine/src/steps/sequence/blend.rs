//! Blend: each frame of a sequence becomes the mean of those around it, in linear light, so that what moves melts into streaks
//! and noise falls.

use crate::step::{Effect, Join, JoinBy, Joined, Kind, Step, step, values_of};
use crate::steps::sequence::JOINED_IN_A_RUN;
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// How much frames farther off count.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Weights {
    /// All alike.
    #[default]
    Box,
    /// Less by equal steps towards the ends.
    Triangle,
    /// As a bell.
    Gaussian,
}

step! {
    /// Blends each frame of a sequence with those before and after it: their mean in linear light, as one long exposure has
    /// it. What moves melts away, noise falls. Hold the picture steady and even its light before.
    pub struct Blend: PartialEq {
        id: "blend",
        title: "Blend frames",
        group: "sequence",
        words: [
            "blend", "frames", "mean", "average", "smooth", "motion", "blur", "long", "exposure", "sequence", "calm",
        ],
        neutral: r#"{"frames": 1}"#,
        starter: "{}",
        facts: { effects: &[Effect::JoinsFrames, Effect::AveragesFrames] },
    }
    parameters {
        /// How many frames become one. Of an even number those at both ends count half, so that no frame moves in time.
        frames: f64 = 8.0, Kind::Number { min: 1.0, max: 120.0, step: 1.0 }, "frames";
        /// How much frames farther off count: all alike, less by equal steps, or as a bell.
        weights: Weights = Weights::Box, Kind::Choice(&["box", "triangle", "gaussian"]);
    }
}

impl Step for Blend {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        let weights = match self.weights {
            Weights::Box => "",
            Weights::Triangle => ", nearer ones counting more",
            Weights::Gaussian => ", weighted as a bell",
        };
        format!("Blend {{frames}} frames into each{weights}.")
    }
    fn note(&self) -> Option<String> {
        Some(JOINED_IN_A_RUN.into())
    }
    fn joins(&self) -> Option<Join> {
        let frames = self.frames.round();
        if frames <= 1.0 {
            return None;
        }
        // How far the window reaches to each side, and the frames that lie in it or on its edge.
        let half = frames / 2.0;
        let reach = half.floor() as i64;
        let weight = |offset: i64| {
            let far = offset.unsigned_abs() as f64;
            let weight = match self.weights {
                Weights::Box if far + 0.5 > half => half + 0.5 - far,
                Weights::Box => 1.0,
                Weights::Triangle => 1.0 - far / (half + 0.5),
                // A bell that is as wide as the box by its spread: half a window is about 1.73 deviations.
                Weights::Gaussian => (-0.5 * (far * 3f64.sqrt() / half).powi(2)).exp(),
            };
            weight as f32
        };
        // The frame itself first.
        let mut offsets: Vec<i64> = (-reach..=reach).collect();
        offsets.sort_by_key(|offset| (offset.abs(), *offset));
        let pictures = offsets.into_iter().map(|offset| Joined { offset, weight: weight(offset) });
        Some(Join { pictures: pictures.filter(|joined| joined.weight > 0.0).collect(), by: JoinBy::Mean })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn weights(frames: f64, weights: Weights) -> Vec<(i64, f32)> {
        let join = Blend { frames, weights }.joins().unwrap();
        let mut all: Vec<(i64, f32)> = join.pictures.iter().map(|j| (j.offset, j.weight)).collect();
        all.sort_by_key(|(offset, _)| *offset);
        all
    }

    #[test]
    fn windows_lie_evenly_around_their_frame() {
        assert_eq!(weights(3.0, Weights::Box), [(-1, 1.0), (0, 1.0), (1, 1.0)]);
        assert_eq!(weights(4.0, Weights::Box), [(-2, 0.5), (-1, 1.0), (0, 1.0), (1, 1.0), (2, 0.5)]);
        assert_eq!(weights(3.0, Weights::Triangle), [(-1, 0.5), (0, 1.0), (1, 0.5)]);
        let bell = weights(8.0, Weights::Gaussian);
        assert!(bell.len() == 9 && bell.windows(2).take(4).all(|w| w[0].1 < w[1].1), "{bell:?}");
        for kind in [Weights::Box, Weights::Triangle, Weights::Gaussian] {
            for frames in 2..40 {
                let all = weights(f64::from(frames), kind);
                let middle: f32 = all.iter().map(|(offset, weight)| *offset as f32 * weight).sum();
                assert!(middle.abs() < 1e-3 && all.iter().all(|(_, weight)| *weight > 0.0), "{all:?}");
            }
            assert_eq!(Blend { frames: 1.0, weights: kind }.joins(), None);
        }
        let total: f32 = weights(8.0, Weights::Box).iter().map(|(_, weight)| weight).sum();
        assert_eq!(total, 8.0);
    }
}
