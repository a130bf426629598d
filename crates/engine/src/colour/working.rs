//! The working space: its primaries, its light, and the names of profiles.

use moxcms::ColorProfile;
use std::sync::LazyLock;

/// Row-major 3 × 3 matrix.
pub type Matrix = [[f32; 3]; 3];

/// Luminance of the working space's primaries (ITU-R BT.2020).
pub const LUMINANCE: [f32; 3] = [0.2627, 0.6780, 0.0593];

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
