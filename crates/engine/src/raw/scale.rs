//! The scale on which missing colours are filled in.
//!
//! On the square root of light an edge is about as high as the eye sees it, so that what is wrong along it is seen less:
//! `benches/raw --only quality` shows 0.5 dB more than on light itself. Just above black the root becomes a straight line,
//! since noise goes below black and its mean has to stay.

use crate::raw::noise::SensorNoise;
use multiversion::multiversion;

/// Light that the root is taken behind, and the root itself.
const START: f32 = 0.005;
const ROOT: f32 = 0.070_710_68;

/// Roots begin so far above nothing that what lies below black is positive too.
const ROOM: f32 = 0.25;

/// What a mosaic's values are brought to before missing colours are filled in, and the noise that they have there.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Scale {
    /// Whether they are light, and are taken to its square root; otherwise they are on an even scale already.
    is_light: bool,
    /// The variance of the noise on the scale, nearly the same everywhere.
    pub noise: f32,
}

impl Scale {
    /// An even scale on which the values are already.
    pub(super) fn as_it_is(noise: f32) -> Self {
        Self { is_light: false, noise }
    }

    /// The square root of light whose noise grows with it: there its variance is a quarter of that growth, times what the
    /// filters' values are multiplied by.
    pub(super) fn root(noise: Option<SensorNoise>, gain: [f32; 3]) -> Self {
        let mean = 0.25 * (gain[0] + 2.0 * gain[1] + gain[2]);
        Self { is_light: true, noise: noise.map_or(0.0, |noise| 0.25 * noise.shot * mean) }
    }

    pub(super) fn put_on(self, values: &mut [f32]) {
        if self.is_light {
            roots(values);
        }
    }

    pub(super) fn take_off(self, values: &mut [f32]) {
        if self.is_light {
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
        let scale = Scale::root(None, [1.0; 3]);
        let mut there = values.clone();
        scale.put_on(&mut there);
        assert!(there.is_sorted_by(|a, b| a < b));
        scale.take_off(&mut there);
        for (found, wanted) in there.iter().zip(&values) {
            assert!((found - wanted).abs() < 1e-5, "{found} {wanted}");
        }
    }
}
