//! Steps that change tones.

pub mod auto_contrast;
pub mod auto_range;
pub mod contrast;
pub mod curve;
pub mod end_points;
pub mod exposure;
pub mod graduated_filter;
pub mod levels;
pub mod lift_gamma_gain;
pub mod local_contrast;
pub mod remove_cast;
pub mod shadows_highlights;
pub mod vignette;
pub mod white_balance;
