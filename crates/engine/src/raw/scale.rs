//! The scale on which missing colours are filled in.
//!
//! On the square root of light an edge is about as high as the eye sees it, so that what is wrong along it is seen less:
//! `benches/raw --only quality` shows 0.5 dB more than on light itself. Just above black the root becomes a straight line,
//! since noise goes below black and its mean has to stay.

use multiversion::multiversion;

/// Light that the root is taken behind, and the root itself.
const START: f32 = 0.005;
const ROOT: f32 = 0.070_710_68;

/// Roots begin so far above nothing that what lies below black is positive too.
const ROOM: f32 = 0.25;

/// What a mosaic's values are brought to before missing colours are filled in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Scale {
    /// They are on an even scale already.
    AsItIs,
    /// They are light, and are taken to its square root.
    Root,
}

impl Scale {
    pub(super) fn put_on(self, values: &mut [f32]) {
        if self == Self::Root {
            roots(values);
        }
    }

    pub(super) fn take_off(self, values: &mut [f32]) {
        if self == Self::Root {
            squares(values);
        }
    }
}

#[multiversion(targets("x86_64+avx512f+avx512vl", "x86_64+avx2", "x86_64+sse4.1", "aarch64+neon"))]
fn roots(values: &mut [f32]) {
    for v in values {
        let root = (v.max(0.0) + START).sqrt();
        let line = ROOT + *v * (0.5 / ROOT);
        *v = ROOM + if *v >= 0.0 { root } else { line };
    }
}

#[multiversion(targets("x86_64+avx512f+avx512vl", "x86_64+avx2", "x86_64+sse4.1", "aarch64+neon"))]
fn squares(values: &mut [f32]) {
    for v in values {
        let root = *v - ROOM;
        let square = root * root - START;
        let line = (root - ROOT) * (2.0 * ROOT);
        *v = if root >= ROOT { square } else { line };
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_come_back_and_keep_their_order() {
        let values: Vec<f32> = (-100..=3000).map(|i| i as f32 / 1000.0).collect();
        let mut there = values.clone();
        Scale::Root.put_on(&mut there);
        assert!(there.is_sorted_by(|a, b| a < b));
        Scale::Root.take_off(&mut there);
        for (found, wanted) in there.iter().zip(&values) {
            assert!((found - wanted).abs() < 1e-5, "{found} {wanted}");
        }
    }
}
