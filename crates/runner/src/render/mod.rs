//! One picture of a run: reading, rendering, encoding, writing.

pub mod execute;
pub mod existing_file;
pub mod fault;
pub mod intermediate;
pub mod item;
pub mod variant;
pub mod work;
