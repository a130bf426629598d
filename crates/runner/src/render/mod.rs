//! One picture of a run: reading, rendering, encoding, writing.

pub mod disk_cache;
pub mod elsewhere;
pub mod execute;
pub mod existing_file;
pub mod fault;
pub mod intermediate;
pub mod item;
pub mod joined_frames;
pub mod measurements;
pub mod memory_budget;
pub mod picture_job;
pub mod preview;
pub mod sequence;
pub mod variant;
pub mod work;
