//! One file per step; registering one is one line here.

use crate::step::StepKind;

pub mod colour_balance;
pub mod contrast;
pub mod crop;
pub mod curve;
pub mod end_points;
pub mod exposure;
pub mod gentle_saturation;
pub mod grey;
pub mod levels;
pub mod lift_gamma_gain;
pub mod resize;
pub mod saturation;
pub mod straighten;
pub mod tint;
pub mod unsharp_mask;
pub mod watermark;
pub mod white_balance;

/// Every kind of step, in the order they are listed.
pub static ALL: &[&StepKind] = &[
    &exposure::KIND,
    &white_balance::KIND,
    &levels::KIND,
    &end_points::KIND,
    &contrast::KIND,
    &curve::KIND,
    &lift_gamma_gain::KIND,
    &saturation::KIND,
    &gentle_saturation::KIND,
    &colour_balance::KIND,
    &tint::KIND,
    &grey::KIND,
    &straighten::KIND,
    &crop::KIND,
    &resize::KIND,
    &unsharp_mask::KIND,
    &watermark::KIND,
];
