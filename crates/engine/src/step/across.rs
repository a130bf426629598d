//! What a step has to do with the other pictures of a run.

use crate::geometry::Size;
use serde_json::{Map, Value};

/// Long edge of the reduced pictures that are measured before a run decides about all of them together.
pub const MEASURED_EDGE: u32 = 160;

/// A step whose values for one picture depend on all of them. Every picture is measured as it comes to the step, reduced;
/// when all are measured the step decides; then each picture is made with what was decided for it.
pub trait AcrossPictures {
    /// What is to be known of a picture: working values (linear light, red, green and blue of each pixel by rows).
    fn measure(&self, size: Size, values: &[f32]) -> Vec<f64>;

    /// The step's values for each picture, in their order, by what was measured of each; a picture that could not be
    /// measured, or to which the step does not apply, has nothing. What is not named stays as the recipe has it.
    fn decide(&self, measured: &[Option<Vec<f64>>]) -> Vec<Map<String, Value>>;
}

/// A picture that is joined with another one: its distance in the run, 0 being that one itself, and how much it counts.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Joined {
    /// Pictures before it, below 0, or after it.
    pub offset: i64,
    /// Its weight against the others, above 0.
    pub weight: f32,
}
