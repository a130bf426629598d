//! The list of all steps.

use super::{colour, detail, geometry, light, marks, output, repair, sequence};
use crate::step::StepKind;
use std::sync::{Mutex, MutexGuard};

/// Every kind of step, in the order they are listed.
static ALL: &[&StepKind] = &[
    &repair::hot_pixels::KIND,
    &repair::denoise::KIND,
    &repair::lens_profile::KIND,
    &repair::lens::KIND,
    &repair::dust::KIND,
    &geometry::rotate::KIND,
    &geometry::mirror::KIND,
    &geometry::straighten::KIND,
    &geometry::perspective::KIND,
    &geometry::upscale::KIND,
    &geometry::crop::KIND,
    &geometry::resize::KIND,
    &sequence::deflicker::KIND,
    &sequence::hold_steady::KIND,
    &sequence::denoise_over_time::KIND,
    &sequence::blend::KIND,
    &sequence::trails::KIND,
    &light::auto_range::KIND,
    &light::auto_contrast::KIND,
    &light::remove_cast::KIND,
    &light::exposure::KIND,
    &light::white_balance::KIND,
    &light::shadows_highlights::KIND,
    &light::end_points::KIND,
    &light::levels::KIND,
    &light::contrast::KIND,
    &light::curve::KIND,
    &light::local_contrast::KIND,
    &light::graduated_filter::KIND,
    &light::vignette::KIND,
    &light::lift_gamma_gain::KIND,
    &colour::saturation::KIND,
    &colour::gentle_saturation::KIND,
    &colour::colour_balance::KIND,
    &colour::tint::KIND,
    &colour::grey::KIND,
    &colour::lut::KIND,
    &colour::convert_profile::KIND,
    &detail::capture_sharpening::KIND,
    &detail::unsharp_mask::KIND,
    &detail::output_sharpening::KIND,
    &detail::grain::KIND,
    &marks::watermark::KIND,
    &marks::border::KIND,
    &marks::caption::KIND,
    &marks::slate::KIND,
    &output::data::KIND,
];

/// Every kind of step, in the order they are listed.
pub fn registry() -> &'static [&'static StepKind] {
    ALL
}

/// The kind of that name.
pub fn step_kind(id: &str) -> Option<&'static StepKind> {
    let listed = registry().iter().copied().find(|k| k.info.id == id);
    listed.or_else(|| for_tests().iter().copied().find(|k| k.info.id == id))
}

static FOR_TESTS: Mutex<Vec<&'static StepKind>> = Mutex::new(Vec::new());

fn for_tests() -> MutexGuard<'static, Vec<&'static StepKind>> {
    FOR_TESTS.lock().unwrap_or_else(|poisoned| poisoned.into_inner())
}

/// Lets recipes name a step that is not listed, until the program ends: what only tests have.
#[doc(hidden)]
pub fn add_for_tests(kind: &'static StepKind) {
    for_tests().push(kind);
}
