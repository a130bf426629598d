//! One file per step; registering one is one line here.

use crate::step::StepKind;

pub mod auto_contrast;
pub mod auto_range;
pub mod border;
pub mod caption;
pub mod capture_sharpening;
pub mod colour_balance;
pub mod contrast;
pub mod convert_profile;
pub mod crop;
pub mod curve;
pub mod data;
pub mod denoise;
pub mod dust;
pub mod end_points;
pub mod exposure;
pub mod gentle_saturation;
pub mod graduated_filter;
pub mod grain;
pub mod grey;
pub mod hot_pixels;
pub mod lens;
pub mod levels;
pub mod lift_gamma_gain;
pub mod local_contrast;
pub mod lut;
pub mod mirror;
pub mod output_sharpening;
pub mod perspective;
pub mod remove_cast;
pub mod resize;
pub mod rotate;
pub mod saturation;
pub mod shadows_highlights;
pub mod slate;
pub mod straighten;
pub mod tint;
pub mod unsharp_mask;
pub mod upscale;
pub mod vignette;
pub mod watermark;
pub mod white_balance;

/// Every kind of step, in the order they are listed.
pub static ALL: &[&StepKind] = &[
    &hot_pixels::KIND,
    &denoise::KIND,
    &lens::KIND,
    &dust::KIND,
    &rotate::KIND,
    &mirror::KIND,
    &straighten::KIND,
    &perspective::KIND,
    &upscale::KIND,
    &crop::KIND,
    &resize::KIND,
    &auto_range::KIND,
    &auto_contrast::KIND,
    &remove_cast::KIND,
    &exposure::KIND,
    &white_balance::KIND,
    &shadows_highlights::KIND,
    &end_points::KIND,
    &levels::KIND,
    &contrast::KIND,
    &curve::KIND,
    &local_contrast::KIND,
    &graduated_filter::KIND,
    &vignette::KIND,
    &lift_gamma_gain::KIND,
    &saturation::KIND,
    &gentle_saturation::KIND,
    &colour_balance::KIND,
    &tint::KIND,
    &grey::KIND,
    &lut::KIND,
    &convert_profile::KIND,
    &capture_sharpening::KIND,
    &unsharp_mask::KIND,
    &output_sharpening::KIND,
    &grain::KIND,
    &watermark::KIND,
    &border::KIND,
    &caption::KIND,
    &slate::KIND,
    &data::KIND,
];
