//! The work steps are made of: per pixel, with neighbours, resampling, drawing on top.

pub mod denoise;
pub mod enlarge;
pub mod guided_filter;
pub mod mask;
pub(crate) mod network;
pub(crate) mod overlay;
pub mod planes;
pub mod pointwise;
pub mod resample;
pub(crate) mod text;
pub(crate) mod turn;
pub mod warp;
pub(crate) mod warp_resampler;
