//! The working space: its primaries, its light, and the names of profiles.

use moxcms::ColorProfile;
use std::sync::LazyLock;

/// Row-major 3 × 3 matrix.
pub type Matrix = [[f32; 3]; 3];

/// Luminance of the working space's primaries (ITU-R BT.2020).
pub const LUMINANCE: [f32; 3] = [0.2627, 0.6780, 0.0593];

/// The luminance of a pixel.
pub fn luminance(pixel: &[f32; 3]) -> f32 {
    pixel.iter().zip(LUMINANCE).map(|(v, share)| v * share).sum()
}

/// The working space to XYZ under D65 (ITU-R BT.2020-2).
pub const TO_XYZ: Matrix = [
    [0.636_958_05, 0.144_616_9, 0.168_880_98],
    [0.262_700_2, 0.677_998_07, 0.059_301_72],
    [0.0, 0.028_072_69, 1.060_985],
];
/// XYZ under D65 to the working space.
pub const FROM_XYZ: Matrix = [
    [1.716_651_2, -0.355_670_78, -0.253_366_3],
    [-0.666_684_4, 1.616_481_2, 0.015_768_5],
    [0.017_639_86, -0.042_770_61, 0.942_103_1],
];

pub(crate) static WORKING: LazyLock<ColorProfile> = LazyLock::new(ColorProfile::new_bt2020);

/// A profile's own description, or its kind.
pub(crate) fn profile_name(profile: &ColorProfile) -> String {
    use moxcms::ProfileText as T;
    let text = match &profile.description {
        Some(T::PlainString(s)) => s.clone(),
        Some(T::Localizable(all)) => all.first().map(|l| l.value.clone()).unwrap_or_default(),
        Some(T::Description(d)) => d.ascii_string.clone(),
        None => String::new(),
    };
    let text = text.trim_matches(['\0', ' ']).to_owned();
    if text.is_empty() { "unnamed profile".to_owned() } else { text }
}
