//! One file per step, in a folder per group; a new one is registered by one line in [`registry`].

pub mod colour;
pub mod detail;
pub mod geometry;
pub mod light;
pub mod marks;
pub mod output;
pub mod registry;
pub mod repair;
pub mod sequence;

#[cfg(test)]
pub(crate) mod testing;
