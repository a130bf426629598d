//! Trails: what is brighter, or darker, than the frame stays in it and fades, so that lights draw their way and birds leave
//! theirs.

use crate::step::{Effect, Join, JoinBy, Joined, Kind, Step, step, values_of};
use crate::steps::sequence::JOINED_IN_A_RUN;
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// What leaves a trail.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Leaves {
    /// What is brighter.
    #[default]
    Brighter,
    /// What is darker.
    Darker,
}

step! {
    /// Lets what is brighter (or darker) in the frames before stay in each frame of a sequence and fade: headlights, stars and
    /// sparks draw lines. Each place takes what stands out most there, with its own colours, in linear light.
    pub struct Trails: PartialEq {
        id: "trails",
        title: "Trails",
        group: "sequence",
        words: ["trail", "trails", "lines", "lights", "stars", "fade", "tail", "sequence", "frames", "comet"],
        neutral: r#"{"frames": 0}"#,
        starter: "{}",
        facts: { effects: &[Effect::JoinsFrames] },
    }
    parameters {
        /// How many frames a trail takes to fade.
        frames: f64 = 20.0, Kind::Number { min: 0.0, max: 120.0, step: 1.0 }, "frames";
        /// What leaves a trail: what is brighter, or what is darker.
        of: Leaves = Leaves::Brighter, Kind::Choice(&["brighter", "darker"]);
    }
}

impl Step for Trails {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        "Let what is {of} leave trails that fade over {frames} frames.".into()
    }
    fn note(&self) -> Option<String> {
        Some(JOINED_IN_A_RUN.into())
    }
    fn joins(&self) -> Option<Join> {
        let frames = self.frames.round() as i64;
        if frames < 1 {
            return None;
        }
        let weight = |far: i64| (1.0 - far as f64 / (frames + 1) as f64) as f32;
        let pictures = (0..=frames).map(|far| Joined { offset: -far, weight: weight(far) }).collect();
        let by = if self.of == Leaves::Brighter { JoinBy::Brighter } else { JoinBy::Darker };
        Some(Join { pictures, by })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_trail_fades_by_equal_steps() {
        let join = Trails { frames: 3.0, of: Leaves::Darker }.joins().unwrap();
        assert_eq!(join.by, JoinBy::Darker);
        let told: Vec<(i64, f32)> = join.pictures.iter().map(|j| (j.offset, j.weight)).collect();
        assert_eq!(told, [(0, 1.0), (-1, 0.75), (-2, 0.5), (-3, 0.25)]);
        assert_eq!(Trails { frames: 0.0, of: Leaves::Brighter }.joins(), None);
    }
}
