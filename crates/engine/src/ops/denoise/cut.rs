//! What noise that is cut off at black and white does to a mean, taken back.
//!
//! Where a channel is so dark that its noise would go below black, what is below is lost, and the mean of what is left is too
//! bright: of a black with deviation σ it is 0.4 σ. For normal noise the mean of what is left is `x Φ(x / σ) + σ φ(x / σ)`
//! where `x` is the true one; this is the way back (A. Foi, "Clipped noisy images: heteroskedastic modeling and practical
//! denoising", 2009). White is the same turned around.

use super::{Noise, together_encoded};

/// True means in deviations, for the mean of what is left from 0.4 on, at steps of 0.1.
const TRUE: [f32; 27] = [
    0.0021, 0.188, 0.3529, 0.5032, 0.6427, 0.7742, 0.8995, 1.0198, 1.1361, 1.2493, 1.36, 1.4685, 1.5754,
    1.6808, 1.7852, 1.8886, 1.9913, 2.0934, 2.195, 2.2963, 2.3973, 2.498, 2.5985, 2.6989, 2.7992, 2.8995,
    2.9996,
];
/// Deviations from black beyond which hardly anything is cut off.
const FAR: f32 = 3.0;

/// The true mean above black, of the one that is left.
#[inline(always)]
fn above(value: f32, deviation: f32) -> f32 {
    if value >= FAR * deviation {
        return value;
    }
    // Below what a black leaves there is black.
    if value < 0.4 * deviation {
        return TRUE[0] * value / 0.4;
    }
    let at = (value / deviation - 0.4).max(0.0) * 10.0;
    let k = (at as usize).min(TRUE.len() - 2);
    let share = at - k as f32;
    (TRUE[k] + (TRUE[k + 1] - TRUE[k]) * share) * deviation
}

/// Lightness and colour differences of a mean, as they are without the cut; `noise` is scaled by `strength` of lightness and
/// colour.
#[inline(always)]
pub fn uncut(parts: [f32; 3], noise: &Noise, strength: [f32; 2]) -> [f32; 3] {
    let mut encoded = together_encoded(parts);
    let deviation = |c: usize| noise.0[c].at(parts[0]) * strength[c.min(1)];
    let [y, u, v] = [0, 1, 2].map(|c| deviation(c) * deviation(c));
    let outer = (y / 3.0 + u / 2.0 + v / 6.0).sqrt();
    let green = (y / 3.0 + v * 2.0 / 3.0).sqrt();
    for (value, deviation) in encoded.iter_mut().zip([outer, green, outer]) {
        // What is beyond white or below black was not cut off.
        if deviation > 0.0 && *value > 0.0 && *value < 1.0 {
            let from_white = above(1.0 - above(*value, deviation), deviation);
            *value = 1.0 - from_white;
        }
    }
    super::apart_encoded(encoded)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ops::denoise::apart_encoded;

    #[test]
    fn means_of_cut_noise_are_taken_back_and_others_stay() {
        let noise = Noise::white(0.1);
        // Nearly normal numbers: sums of twelve even ones.
        let even = |i: u64| {
            let mut z = i.wrapping_mul(0x9e37_79b9_7f4a_7c15);
            z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
            z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
            ((z ^ (z >> 31)) >> 11) as f64 / (1u64 << 53) as f64
        };
        let normal: Vec<f64> =
            (0..4000).map(|i| (1..=12).map(|k| even(i * 12 + k)).sum::<f64>() - 6.0).collect();
        for known in [0.0, 0.03, 0.1, 0.25, 0.5, 0.88, 0.97, 1.0] {
            let left = normal.iter().map(|n| (known + 0.1 * n).clamp(0.0, 1.0)).sum::<f64>() / 4000.0;
            let back = together_encoded(uncut(apart_encoded([left as f32; 3]), &noise, [1.0; 2]));
            for v in back {
                assert!((f64::from(v) - known).abs() < 0.006, "{known} left {left}, taken back to {v}");
            }
        }
        for stays in [[0.5, 0.4, 0.6], [1.2, 0.5, -0.1]] {
            let back = together_encoded(uncut(apart_encoded(stays), &noise, [1.0; 2]));
            assert!(back.iter().zip(stays).all(|(a, b)| (a - b).abs() < 2e-6), "{back:?}");
            let back = together_encoded(uncut(apart_encoded([0.05; 3]), &noise, [0.0; 2]));
            assert!(back.iter().all(|v| (v - 0.05).abs() < 1e-6));
        }
    }
}
