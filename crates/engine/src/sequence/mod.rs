//! Mathematics of sequences of frames.

pub mod alignment;
pub mod alike;
pub mod camera_move;
pub mod course;
pub mod edges;
pub mod exposure_jumps;
pub mod flow;
pub mod in_between;
pub mod interval;
pub mod joining;
pub mod ramp_curve;
pub mod speed_curve;
pub mod star_gaps;
pub mod steadying;
pub mod usual;

#[cfg(test)]
pub(crate) mod testing;
