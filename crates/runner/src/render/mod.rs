//! One picture of a run: reading, rendering, encoding, writing.

pub mod intermediate;
pub mod item;
pub mod work;
