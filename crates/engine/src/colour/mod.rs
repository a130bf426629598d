//! Colour: the working space, profiles of files, the perceptual scale.

pub mod hex;
pub mod icc;
pub mod light;
pub mod space;
pub mod transfer;
pub mod working;
