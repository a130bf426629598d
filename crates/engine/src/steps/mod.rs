//! One file per step; registering one is one line here.

use crate::step::StepKind;

pub mod contrast;
pub mod crop;
pub mod curve;
pub mod exposure;
pub mod resize;
pub mod saturation;
pub mod straighten;
pub mod unsharp_mask;
pub mod watermark;
pub mod white_balance;

/// Every kind of step, in the order they are listed.
pub static ALL: &[&StepKind] = &[
    &exposure::KIND,
    &white_balance::KIND,
    &contrast::KIND,
    &curve::KIND,
    &saturation::KIND,
    &straighten::KIND,
    &crop::KIND,
    &resize::KIND,
    &unsharp_mask::KIND,
    &watermark::KIND,
];
