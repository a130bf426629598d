//! Frames on the disk: looking for them, keeping them in memory, copying and watching.

pub mod frame_alignment;
pub mod frame_light;
pub mod lens_softness;
pub mod openable;
pub mod scan;
pub mod shoot_index;
pub mod verified_copy;
pub mod watch_folder;
