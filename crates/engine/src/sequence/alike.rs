//! Frames of one scene held against each other: where they show the same apart from their noise, and where something moved.
//!
//! The noise is told from the frames themselves: how far most places differ that are not far from each other, so that a change of
//! light over the whole frame does not count. A place where the means of small squares differ by more than that shows something
//! else in the other frame.
//!
//! ```
//! use rallo_engine::Size;
//! use rallo_engine::sequence::alike::alike;
//!
//! let size = Size::new(64, 64);
//! let own = vec![0.2; 64 * 64 * 3];
//! let mut other = own.clone();
//! other[(32 * 64 + 32) * 3..][..3].copy_from_slice(&[0.9; 3]);
//! let share = alike(size, &own, &other, 1.0);
//! assert_eq!((share[0], share[32 * 64 + 32]), (1.0, 0.0));
//! ```

use crate::colour::working::luminance;
use crate::geometry::Size;

/// Pixels to each side of the small squares.
const REACH: usize = 2;

/// Pixels between two places whose differences are held against each other: farther than noise of one pixel reaches, after
/// demosaicing and the squares.
const APART: usize = 8;

/// Steps of brightness that noise is told for.
const LEVELS: usize = 24;

/// So many places tell the noise of a step of brightness at least.
const FEWEST: usize = 200;

/// So many are looked at at most, of all.
const MOST_LOOKED_AT: usize = 400_000;

/// The share of places that tell the noise: those that differ least, so that up to half of a frame may move.
const QUIETEST: f64 = 0.3;

/// How far that share of a normal distribution reaches, in deviations.
const QUIETEST_REACH: f32 = 0.385_32;

/// Deviations up to which squares count as the same, and from which on as something else.
const SAME: f32 = 2.2;
const ELSE: f32 = 5.0;

/// The same of single pixels: so much farther.
const SINGLE: f32 = 1.8;

/// The step of brightness of a light.
fn level(light: f32) -> usize {
    ((light.max(0.0).sqrt() * LEVELS as f32) as usize).min(LEVELS - 1)
}

/// Deviations that are never gone below: a third of a code of 8 bits, in light.
fn least(level: usize) -> f32 {
    let seen = (level as f32 + 0.5) / LEVELS as f32;
    2.6e-3 * seen * 0.5 + 1e-5
}

/// The means of small squares of one channel.
fn squares(size: Size, values: &[f32]) -> Vec<f32> {
    let (wide, high) = (size.width as usize, size.height as usize);
    let mut across = vec![0.0f32; values.len()];
    for (row, out) in values.chunks_exact(wide).zip(across.chunks_exact_mut(wide)) {
        for (x, out) in out.iter_mut().enumerate() {
            let part = &row[x.saturating_sub(REACH)..(x + REACH + 1).min(wide)];
            *out = part.iter().sum::<f32>() / part.len() as f32;
        }
    }
    let mut out = vec![0.0f32; values.len()];
    for (y, out) in out.chunks_exact_mut(wide).enumerate() {
        let (from, to) = (y.saturating_sub(REACH), (y + REACH + 1).min(high));
        let share = 1.0 / (to - from) as f32;
        for row in across[from * wide..to * wide].chunks_exact(wide) {
            out.iter_mut().zip(row).for_each(|(out, v)| *out += v * share);
        }
    }
    out
}

/// The deviation of what differs by noise, for each step of brightness; `light` is that of either frame.
fn noise(size: Size, light: [&[f32]; 2], difference: &[f32]) -> [f32; LEVELS] {
    let wide = size.width as usize;
    let mut apart: [Vec<f32>; LEVELS] = std::array::from_fn(|_| Vec::new());
    let stride = (difference.len() / MOST_LOOKED_AT).max(1);
    for at in (0..difference.len()).step_by(stride) {
        // What is of another brightness altogether moved.
        let [own, other] = light.map(|light| level(light[at]));
        if at % wide + APART < wide && own.abs_diff(other) < 2 {
            let far = (difference[at] - difference[at + APART]).abs();
            apart[own].push(far * std::f32::consts::FRAC_1_SQRT_2);
        }
    }
    let told: Vec<Option<f32>> = apart
        .iter_mut()
        .map(|apart| {
            let at = (apart.len() as f64 * QUIETEST) as usize;
            let (_, far, _) =
                (apart.len() >= FEWEST).then(|| apart.select_nth_unstable_by(at, f32::total_cmp))?;
            Some(*far / QUIETEST_REACH)
        })
        .collect();
    std::array::from_fn(|i| {
        // A step that too few places have takes the nearest one's.
        let nearest = (0..LEVELS).filter_map(|k| Some((k.abs_diff(i), told[k]?))).min_by_key(|(far, _)| *far);
        nearest.map_or(0.0, |(_, noise)| noise).max(least(i))
    })
}

/// For each pixel how much another frame shows the same as the own one, 0 to 1; at twice the `tolerance` places may differ twice as
/// much.
pub fn alike(size: Size, own: &[f32], other: &[f32], tolerance: f32) -> Vec<f32> {
    let pixels = || own.as_chunks::<3>().0.iter().zip(other.as_chunks::<3>().0);
    let light = |frame: &[f32]| -> Vec<f32> {
        squares(size, &frame.as_chunks::<3>().0.iter().map(luminance).collect::<Vec<f32>>())
    };
    let light = [light(own), light(other)];
    let light = light.each_ref().map(Vec::as_slice);
    let mut far = vec![0.0f32; light[0].len()];
    for channel in 0..3 {
        let difference: Vec<f32> = pixels().map(|(a, b)| b[channel] - a[channel]).collect();
        let smooth = squares(size, &difference);
        let (single, square) = (noise(size, light, &difference), noise(size, light, &smooth));
        let light = light[0].iter().zip(light[1]);
        for ((far, (a, b)), (single_off, square_off)) in
            far.iter_mut().zip(light).zip(difference.iter().zip(&smooth))
        {
            // The mean of both has less noise to choose a step of brightness by.
            let level = level((a + b) / 2.0);
            let here = (square_off.abs() / square[level]).max(single_off.abs() / (single[level] * SINGLE));
            *far = far.max(here);
        }
    }
    let share = |far: f32| {
        let t = ((far / tolerance - SAME) / (ELSE - SAME)).clamp(0.0, 1.0);
        (1.0 - t * t).powi(2)
    };
    far.into_iter().map(share).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sequence::testing::noise as chance;

    const SIZE: Size = Size { width: 160, height: 120 };

    /// A grey ramp with noise that grows with the light, brighter by a factor, and a bright bar from a column on.
    fn frame(seed: u32, gain: f32, bar: Option<u32>) -> Vec<f32> {
        let value = |x: u32, y: u32| {
            let light = match bar {
                Some(from) if (from..from + 12).contains(&x) && (40..80).contains(&y) => 0.6,
                _ => 0.05 + 0.5 * x as f32 / 160.0,
            };
            let noise = |c: u32| chance(x * 3 + c, y, seed) * 0.1 * light.sqrt();
            std::array::from_fn::<f32, 3, _>(|c| gain * light + noise(c as u32))
        };
        (0..SIZE.height).flat_map(|y| (0..SIZE.width).flat_map(move |x| value(x, y))).collect()
    }

    fn mean(share: &[f32], part: impl Fn(u32, u32) -> bool) -> f32 {
        let at = |i: usize| (i as u32 % SIZE.width, i as u32 / SIZE.width);
        let inside: Vec<f32> = share
            .iter()
            .enumerate()
            .filter_map(|(i, share)| part(at(i).0, at(i).1).then_some(*share))
            .collect();
        inside.iter().sum::<f32>() / inside.len() as f32
    }

    #[test]
    fn noise_alone_is_alike_and_what_moved_is_not() {
        let share = alike(SIZE, &frame(1, 1.0, Some(20)), &frame(2, 1.0, Some(60)), 1.0);
        let is_bar = |x: u32, y: u32| (y > 42 && y < 77) && ((22..30).contains(&x) || (62..70).contains(&x));
        let away = |x: u32, y: u32| !(36..84).contains(&y) && x > 4;
        assert!(mean(&share, away) > 0.85, "{}", mean(&share, away));
        assert!(mean(&share, is_bar) < 0.02, "{}", mean(&share, is_bar));
        let wider = alike(SIZE, &frame(1, 1.0, None), &frame(2, 1.0, None), 2.0);
        assert!(mean(&wider, away) > mean(&share, away));
    }

    #[test]
    fn frames_without_noise_and_small_ones_are_told_too() {
        let flat = vec![0.3; SIZE.area() as usize * 3];
        assert!(alike(SIZE, &flat, &flat, 1.0).iter().all(|share| *share == 1.0));
        let other: Vec<f32> = flat.iter().map(|v| v * 1.2).collect();
        assert!(alike(SIZE, &flat, &other, 1.0).iter().all(|share| *share == 0.0));
        assert_eq!(alike(Size::new(1, 1), &[0.1; 3], &[0.1; 3], 1.0), [1.0]);
    }
}
