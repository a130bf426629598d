//! Mathematics of sequences of frames.

pub mod camera_move;
pub mod course;
pub mod interval;
pub mod stack;
