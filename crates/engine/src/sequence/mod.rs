//! Mathematics of sequences of frames.

pub mod camera_move;
pub mod course;
pub mod exposure_jumps;
pub mod interval;
pub mod ramp_curve;
pub mod stack;
pub mod usual;
