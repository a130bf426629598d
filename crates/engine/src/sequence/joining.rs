//! Several frames as one: their weighted mean, that of what they show alike, or the first with what is brighter, or darker, in the
//! others.
//!
//! Frames come one after the other, so that joining needs the room of two, however many there are.
//!
//! ```
//! use rallo_engine::Size;
//! use rallo_engine::sequence::joining::Joining;
//! use rallo_engine::step::JoinBy;
//!
//! let mut joining = Joining::begin(JoinBy::Mean, Size::new(2, 1), vec![0.2; 6], 1.0);
//! joining.add(&[0.6; 6], 1.0);
//! assert_eq!(joining.end(), [0.4; 6]);
//! ```

use crate::colour::working::luminance;
use crate::geometry::Size;
use crate::sequence::alike::alike;
use crate::step::JoinBy;
use rayon::prelude::*;

/// Frames being joined, one after the other.
pub enum Joining {
    /// A weighted sum, and the sum of the weights.
    Mean(Vec<f32>, f32),
    /// The weighted sum of what the others show as the first frame does, and of each pixel the sum of the weights.
    Alike {
        /// Of each frame.
        size: Size,
        /// How much farther than by noise frames may differ.
        tolerance: f32,
        /// The first frame.
        first: Vec<f32>,
        /// The sum so far.
        sum: Vec<f32>,
        /// The weights so far.
        total: Vec<f32>,
    },
    /// Of each pixel of the first frame how much brighter (darker for −1) another one is, as far as it counts, and the pixel
    /// with that.
    Extreme {
        /// 1 or −1.
        sign: f32,
        /// The first frame.
        first: Vec<f32>,
        /// The most for each pixel so far.
        most: Vec<f32>,
        /// The result so far.
        result: Vec<f32>,
    },
}

impl Joining {
    /// With the first frame.
    pub fn begin(by: JoinBy, size: Size, mut values: Vec<f32>, weight: f32) -> Self {
        let sign = match by {
            JoinBy::Mean => {
                values.iter_mut().for_each(|v| *v *= weight);
                return Self::Mean(values, weight);
            }
            JoinBy::Alike { tolerance } => {
                let sum = values.iter().map(|v| v * weight).collect();
                let total = vec![weight; values.len() / 3];
                return Self::Alike { size, tolerance, first: values, sum, total };
            }
            JoinBy::Brighter => 1.0,
            JoinBy::Darker => -1.0,
        };
        Self::Extreme { sign, most: vec![0.0; values.len() / 3], result: values.clone(), first: values }
    }

    /// Joins another frame of the same size.
    pub fn add(&mut self, values: &[f32], weight: f32) {
        match self {
            Self::Mean(sum, total) => {
                sum.iter_mut().zip(values).for_each(|(s, v)| *s += v * weight);
                *total += weight;
            }
            Self::Alike { size, tolerance, first, sum, total } => {
                let share = alike(*size, first, values, *tolerance);
                let pixels = sum.as_chunks_mut::<3>().0.iter_mut().zip(values.as_chunks::<3>().0);
                for ((sum, other), (total, share)) in pixels.zip(total.iter_mut().zip(share)) {
                    let weight = share * weight;
                    sum.iter_mut().zip(other).for_each(|(s, v)| *s += v * weight);
                    *total += weight;
                }
            }
            Self::Extreme { sign, first, most, result } => {
                let pixels = values.as_chunks::<3>().0.iter().zip(first.as_chunks::<3>().0);
                let so_far = most.iter_mut().zip(result.as_chunks_mut::<3>().0);
                for ((other, own), (most, result)) in pixels.zip(so_far) {
                    // All three colours of one pixel come from one frame.
                    let more = *sign * (luminance(other) - luminance(own)) * weight;
                    if more > *most {
                        *most = more;
                        *result = std::array::from_fn(|c| own[c] + (other[c] - own[c]) * weight);
                    }
                }
            }
        }
    }

    /// What they make.
    pub fn end(self) -> Vec<f32> {
        match self {
            Self::Mean(mut sum, total) => {
                sum.iter_mut().for_each(|v| *v /= total);
                sum
            }
            Self::Alike { mut sum, total, .. } => {
                let pixels = sum.as_chunks_mut::<3>().0.iter_mut().zip(total);
                pixels.for_each(|(sum, total)| sum.iter_mut().for_each(|v| *v /= total));
                sum
            }
            Self::Extreme { result, .. } => result,
        }
    }
}

/// Values that are summed over all frames before the next ones: so many stay near.
const NEAR: usize = 4096;

/// The weighted mean of frames of one size that are all there, as [`Joining`] has it: through all frames place by place, so that
/// the sum is not fetched and put back for each of them.
pub fn mean_of(frames: &[(&[f32], f32)]) -> Vec<f32> {
    let Some(((first, weight), others)) = frames.split_first() else { return Vec::new() };
    let total = others.iter().fold(*weight, |total, (_, weight)| total + weight);
    let mut out = vec![0f32; first.len()];
    out.par_chunks_mut(NEAR).enumerate().for_each(|(k, sum)| {
        let here = k * NEAR..k * NEAR + sum.len();
        sum.iter_mut().zip(&first[here.clone()]).for_each(|(s, v)| *s = v * weight);
        for (values, weight) in others {
            sum.iter_mut().zip(&values[here.clone()]).for_each(|(s, v)| *s += v * weight);
        }
        sum.iter_mut().for_each(|v| *v /= total);
    });
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sequence::testing::noise;

    #[test]
    fn frames_that_are_all_there_have_the_same_mean_to_the_bit() {
        let frame = |n: u32| (0..130 * 70 * 3).map(|i| noise(i % 130, i / 130, n)).collect::<Vec<f32>>();
        let frames: Vec<(Vec<f32>, f32)> = (0..9).map(|n| (frame(n), 0.3 + n as f32)).collect();
        let there: Vec<(&[f32], f32)> =
            frames.iter().map(|(values, weight)| (&values[..], *weight)).collect();
        assert_eq!(mean_of(&there), mean(frames.clone().into_iter()));
        assert!(mean_of(&[]).is_empty());
    }

    fn mean(frames: impl Iterator<Item = (Vec<f32>, f32)>) -> Vec<f32> {
        let mut frames = frames;
        let (first, weight) = frames.next().unwrap();
        let mut joining = Joining::begin(JoinBy::Mean, Size::new(first.len() as u32 / 3, 1), first, weight);
        frames.for_each(|(frame, weight)| joining.add(&frame, weight));
        joining.end()
    }

    #[test]
    fn the_mean_counts_each_frame_by_its_weight() {
        let (a, b) = ([0.1, 0.5, 0.9], [0.3, 0.1, 0.7]);
        let got = mean([(a.to_vec(), 3.0), (b.to_vec(), 1.0)].into_iter());
        for ((got, a), b) in got.iter().zip(a).zip(b) {
            assert!((got - (0.75 * a + 0.25 * b)).abs() < 1e-6);
        }
    }

    #[test]
    fn noise_of_two_frames_falls_by_the_root_of_two_and_of_eight_by_that_of_eight() {
        let spread = |count: u32| {
            let frame = |n: u32| (0..64 * 48).map(|i| 0.5 + noise(i % 64, i / 64, n)).collect::<Vec<f32>>();
            let values = mean((0..count).map(|n| (frame(n), 1.0)));
            let square: f32 = values.iter().map(|v| (v - 0.5).powi(2)).sum();
            (square / (64.0 * 48.0)).sqrt()
        };
        let one = spread(1);
        assert!((one - 1.0 / 12f32.sqrt()).abs() < 0.01, "{one}");
        for count in [2, 8] {
            let fallen = one / spread(count);
            assert!((fallen / (count as f32).sqrt() - 1.0).abs() < 0.05, "{count}: {fallen}");
        }
    }

    #[test]
    fn what_is_brighter_shows_by_its_weight_in_one_frame_s_colours() {
        let pixels = |own: [f32; 3], others: &[([f32; 3], f32)], by| {
            let mut joining = Joining::begin(by, Size::new(1, 1), own.to_vec(), 1.0);
            others.iter().for_each(|(other, weight)| joining.add(other, *weight));
            joining.end()
        };
        let (dark, bright, dim) = ([0.1, 0.2, 0.1], [0.5, 0.8, 0.3], [0.02, 0.02, 0.02]);
        let near = |got: Vec<f32>, truth: [f32; 3]| got.iter().zip(truth).all(|(a, b)| (a - b).abs() < 1e-6);
        assert!(near(pixels(dark, &[(bright, 1.0)], JoinBy::Brighter), bright));
        let half = pixels(dark, &[(bright, 0.5), (dim, 1.0)], JoinBy::Brighter);
        assert!(near(half, std::array::from_fn(|c| (dark[c] + bright[c]) / 2.0)));
        assert!(near(pixels(dark, &[(bright, 1.0), (dim, 1.0)], JoinBy::Darker), dim));
    }

    #[test]
    fn what_moved_keeps_its_own_frame_and_the_rest_is_the_mean() {
        let size = Size::new(96, 64);
        // A bar that is elsewhere in each frame, on noise.
        let is_bar = |x: u32, frame: u32| (10 * frame..10 * frame + 6).contains(&x);
        let frame = |n: u32| -> Vec<f32> {
            let pixels = (0..size.height).flat_map(|y| (0..size.width).map(move |x| (x, y)));
            pixels
                .flat_map(|(x, y)| {
                    let light = if is_bar(x, n) { 0.7 } else { 0.2 };
                    std::array::from_fn::<f32, 3, _>(|c| light + 0.04 * noise(x * 3 + c as u32, y, n))
                })
                .collect()
        };
        let mut joining = Joining::begin(JoinBy::Alike { tolerance: 1.0 }, size, frame(0), 1.0);
        (1..8).for_each(|n| joining.add(&frame(n), 1.0));
        let values = joining.end();
        let deviation = |from: u32, to: u32, truth: f32| {
            let part = values.as_chunks::<3>().0.iter().enumerate();
            let part = part.filter(|(i, _)| (from..to).contains(&(*i as u32 % size.width)));
            let off: Vec<f32> = part.flat_map(|(_, pixel)| pixel.map(|v| v - truth)).collect();
            (off.iter().map(|v| v * v).sum::<f32>() / off.len() as f32).sqrt()
        };
        let noise = 0.04 / 12f32.sqrt();
        assert!(deviation(84, 96, 0.2) < noise / 2.3, "{}", deviation(84, 96, 0.2) / noise);
        // Where other frames have their bars, and where this one has its own, nothing of the others shows.
        assert!(deviation(0, 6, 0.7) < noise * 1.1);
        assert!(deviation(10, 76, 0.2) < noise * 0.6, "{}", deviation(10, 76, 0.2) / noise);
    }
}
