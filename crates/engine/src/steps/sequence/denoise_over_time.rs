//! Denoise over time: each frame of a sequence takes from its neighbours what they show as it does.

use crate::step::{Effect, Join, JoinBy, Joined, Kind, Step, step, values_of};
use crate::steps::sequence::JOINED_IN_A_RUN;
use serde_json::Value;

step! {
    /// Takes noise out of each frame of a sequence by the frames beside it: where they show the same their mean counts, and what
    /// moved stays as it is. Nothing of a still scene is smoothed away. Hold the picture steady and even its light before;
    /// Denoise behind it takes what is left.
    pub struct DenoiseOverTime: PartialEq {
        id: "denoise_over_time",
        title: "Denoise over time",
        group: "sequence",
        words: ["denoise", "noise", "grain", "frames", "time", "temporal", "mean", "night", "sequence"],
        neutral: r#"{"frames": 1}"#,
        starter: "{}",
        facts: { effects: &[Effect::JoinsFrames, Effect::AveragesFrames] },
    }
    parameters {
        /// How many frames are held together, half of them before and half behind.
        frames: f64 = 5.0, Kind::Number { min: 1.0, max: 31.0, step: 2.0 }, "frames";
        /// How far places may differ before they count as moved: more takes more noise, less keeps more of what moves.
        allow: f64 = 50.0, Kind::Number { min: 0.0, max: 100.0, step: 1.0 }, "%";
    }
}

impl Step for DenoiseOverTime {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        "Denoise over {frames} frames; what differs by more than {allow} counts as moved.".into()
    }
    fn note(&self) -> Option<String> {
        Some(JOINED_IN_A_RUN.into())
    }
    fn joins(&self) -> Option<Join> {
        let reach = (self.frames / 2.0).floor() as i64;
        if reach < 1 {
            return None;
        }
        // The frame itself first, since the others are held against it.
        let mut offsets: Vec<i64> = (-reach..=reach).collect();
        offsets.sort_by_key(|offset| (offset.abs(), *offset));
        let pictures = offsets.into_iter().map(|offset| Joined { offset, weight: 1.0 }).collect();
        let tolerance = 2f32.powf((self.allow as f32 - 50.0) / 50.0);
        Some(Join { pictures, by: JoinBy::Alike { tolerance } })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_frame_itself_comes_first_and_the_window_lies_around_it() {
        let join = DenoiseOverTime { frames: 5.0, allow: 50.0 }.joins().unwrap();
        let offsets: Vec<i64> = join.pictures.iter().map(|joined| joined.offset).collect();
        assert_eq!((offsets, join.by), (vec![0, -1, 1, -2, 2], JoinBy::Alike { tolerance: 1.0 }));
        assert_eq!(DenoiseOverTime { frames: 1.0, allow: 50.0 }.joins(), None);
        let join = DenoiseOverTime { frames: 4.0, allow: 100.0 }.joins().unwrap();
        assert_eq!((join.pictures.len(), join.by), (5, JoinBy::Alike { tolerance: 2.0 }));
    }
}
