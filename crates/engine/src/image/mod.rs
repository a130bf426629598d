//! Pictures in memory, and where their pixels come from.

pub mod decode_settings;
pub mod picture;
pub mod pyramid;
pub mod source;
