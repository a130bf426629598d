//! What a step has to do with the other pictures of a run.

use crate::geometry::Size;
use serde_json::{Map, Value};
use std::any::Any;
use std::sync::Arc;

/// Long edge of the reduced pictures that are measured before a run decides about all of them together.
pub const MEASURED_EDGE: u32 = 160;

/// What a step made of a reduced picture, to measure it by, or others against it.
pub type Seen = Arc<dyn Any + Send + Sync>;

/// Another picture that one is measured against.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Against {
    /// The one at a share of the run, 0 ..= 1.
    Share(f64),
    /// The one before it.
    Before,
    /// The one after it.
    After,
}

impl Against {
    /// The place it stands at in a run of `count` pictures, for the one at `at`; nothing before the first.
    pub fn place(self, at: usize, count: usize) -> Option<usize> {
        match self {
            Self::Share(share) => {
                let last = count.checked_sub(1)?;
                Some(((last as f64 * share).round() as usize).min(last))
            }
            Self::Before => at.checked_sub(1),
            Self::After => Some(at + 1).filter(|place| *place < count),
        }
    }
}

/// A step whose values for one picture depend on all of them. Every picture is measured as it comes to the step, reduced;
/// when all are measured the step decides; then each picture is made with what was decided for it.
pub trait AcrossPictures {
    /// Long edge of the reduced pictures it is shown.
    fn edge(&self) -> u32 {
        MEASURED_EDGE
    }

    /// The other pictures each one may be measured against.
    fn against(&self) -> Vec<Against> {
        Vec::new()
    }

    /// What is made of a picture: working values (linear light, red, green and blue of each pixel by rows).
    fn see(&self, size: Size, values: &[f32]) -> Seen;

    /// What is to be known of a picture, and of it [`against`](Self::against) others: `other` shows the one of that place in
    /// the list, and costs time; nothing for one that cannot be had.
    fn measure(&self, own: &Seen, other: &dyn Fn(usize) -> Option<Seen>) -> Vec<f64>;

    /// The step's values for each picture, in their order, by what was measured of each; a picture that could not be
    /// measured, or to which the step does not apply, has nothing. What is not named stays as the recipe has it.
    fn decide(&self, measured: &[Option<Vec<f64>>]) -> Vec<Map<String, Value>>;

    /// What people should know of that, in sentences; `names` are those of the pictures.
    fn told(&self, _measured: &[Option<Vec<f64>>], _names: &[String]) -> Vec<String> {
        Vec::new()
    }
}

/// A picture that is joined with another one: its distance in the run, 0 being that one itself, and how much it counts.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Joined {
    /// Pictures before it, below 0, or after it.
    pub offset: i64,
    /// Its weight against the others, above 0.
    pub weight: f32,
}

/// How pictures are joined.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum JoinBy {
    /// The weighted mean.
    Mean,
    /// The weighted mean of what shows the same, so that what moves stays as it is in the picture itself.
    Alike {
        /// How much farther than by noise alone pictures may differ; 1 is as far as noise goes.
        tolerance: f32,
    },
    /// What is brighter in another one shows by its weight; 1 is all of it.
    Brighter,
    /// What is darker in another one shows by its weight; 1 is all of it.
    Darker,
}

/// Pictures that stand, joined, in the place of one.
#[derive(Clone, Debug, PartialEq)]
pub struct Join {
    /// Which.
    pub pictures: Vec<Joined>,
    /// How.
    pub by: JoinBy,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn others_lie_inside_the_run() {
        assert_eq!(Against::Share(0.5).place(0, 14), Some(7));
        assert_eq!((Against::Share(0.0).place(3, 14), Against::Share(1.0).place(3, 14)), (Some(0), Some(13)));
        assert_eq!((Against::Before.place(0, 3), Against::Before.place(2, 3)), (None, Some(1)));
        assert_eq!((Against::After.place(1, 3), Against::After.place(2, 3)), (Some(2), None));
        assert_eq!(Against::Share(0.5).place(0, 0), None);
    }
}
