//! The noise of a sensor: light is counted in portions, so it grows with the light, and reading the counts adds some of its
//! own. Both are found in the picture itself, or are told by the file.

use crate::raw::mosaic::Mosaic;

/// Values of one filter a side of a block that is looked at.
const BLOCK: usize = 8;
/// Pairs of pairs in it, each of which says something by itself.
const SAMPLES: f32 = (BLOCK * BLOCK / 4) as f32;
/// Of the blocks of one brightness, so many show less than this one: what shows more has texture.
const QUIET: f32 = 0.1;
/// What a normal distribution has below that share, in deviations.
const QUIET_DEVIATIONS: f32 = 1.281_55;
/// Ranges of brightness, and the fewest blocks of one.
const RANGES: usize = 12;
const FEWEST: usize = 12;
/// Blocks that reach so far are cut off by the sensor's end.
const BRIGHTEST: f32 = 0.95;

/// What a point above the line counts of one below, and how often that is said anew.
const ABOVE: f64 = 0.3;
const TIMES: usize = 10;
/// Reading's noise is never more than that of so many counted portions.
const MOST_READ: f64 = 16.0;

/// The variance of a value: `shot · value + read`, where 1 is the most the sensor counts.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct SensorNoise {
    /// The part that grows with the light.
    pub shot: f32,
    /// The part that is there without any.
    pub read: f32,
}

/// One block of values behind the same filter.
struct Seen {
    mean: f32,
    variance: f32,
}

impl SensorNoise {
    /// From what a file says; none where that makes no sense.
    pub fn told(shot: f64, read: f64) -> Option<Self> {
        let fits =
            shot.is_finite() && read.is_finite() && shot > 0.0 && (0.0..0.1).contains(&read) && shot < 0.1;
        fits.then_some(Self { shot: shot as f32, read: read as f32 })
    }

    /// Found in a picture: in each range of brightness by what its quiet blocks have in their finest differences. None
    /// where the picture is too small.
    pub fn measured(mosaic: &Mosaic) -> Option<Self> {
        let mut seen = blocks(mosaic);
        if seen.len() < FEWEST {
            return None;
        }
        seen.sort_by(|a, b| a.mean.total_cmp(&b.mean));
        let ranges = (seen.len() / FEWEST).clamp(1, RANGES);
        let quiet = 1.0 - QUIET_DEVIATIONS * (2.0 / SAMPLES).sqrt();
        let points: Vec<(f64, f64)> = seen
            .chunks(seen.len().div_ceil(ranges))
            .map(|range| {
                let mean = range.iter().map(|s| s.mean).sum::<f32>() / range.len() as f32;
                let mut variances: Vec<f32> = range.iter().map(|s| s.variance).collect();
                let at = (variances.len() as f32 * QUIET) as usize;
                let variance = *variances.select_nth_unstable_by(at, f32::total_cmp).1 / quiet;
                (f64::from(mean.max(0.0)), f64::from(variance.max(1e-12)))
            })
            .collect();
        let (shot, read) = fitted(&points);
        Some(Self { shot: shot.max(1e-8) as f32, read: read.max(0.0) as f32 })
    }

    /// A value on the scale where its noise has a deviation of 1 whatever the light (F. Anscombe's square root for counts,
    /// 1948, with the reading's share added).
    #[inline(always)]
    pub fn steady(self, value: f32) -> f32 {
        let counts = value / self.shot + 0.375 + self.read / (self.shot * self.shot);
        2.0 * counts.max(0.0).sqrt()
    }

    /// The value whose counts have this mean on that scale (M. Mäkitalo and A. Foi, "Optimal inversion of the generalized
    /// Anscombe transformation for Poisson-Gaussian noise", 2013).
    #[inline(always)]
    pub fn value(self, steady: f32) -> f32 {
        const ROOT: f32 = 1.224_744_9;
        let d = steady.max(0.5);
        let one = 1.0 / d;
        let counts = 0.25 * d * d + one * (0.25 * ROOT + one * (-1.375 + one * 0.625 * ROOT)) - 0.125;
        (counts - self.read / (self.shot * self.shot)) * self.shot
    }
}

/// The line through points of brightness and variance; neither share is negative, and the reading adds no more than sensors do.
/// What lies above a first line counts less in the next, since texture only adds.
fn fitted(points: &[(f64, f64)]) -> (f64, f64) {
    let mut line = fitted_by(points, |_| 1.0);
    for _ in 0..TIMES {
        let (slope, base) = line;
        line = fitted_by(points, |(x, y)| if y > slope * x + base { ABOVE } else { 1.0 });
    }
    line
}

/// The line with points counting by their own size and by a share. Where the picture's own texture hides it, the one that no point
/// lies below.
fn fitted_by(points: &[(f64, f64)], share: impl Fn((f64, f64)) -> f64) -> (f64, f64) {
    let (mut w, mut wx, mut wy, mut wxx, mut wxy) = (0.0, 0.0, 0.0, 0.0, 0.0);
    for (x, y) in points {
        let weight = share((*x, *y)) / (y * y);
        w += weight;
        wx += weight * x;
        wy += weight * y;
        wxx += weight * x * x;
        wxy += weight * x * y;
    }
    let det = w * wxx - wx * wx;
    let through_zero = (wxy / wxx.max(1e-30), 0.0);
    if det <= 1e-9 * w * wxx {
        return through_zero;
    }
    let (slope, base) = ((w * wxy - wx * wy) / det, (wxx * wy - wx * wxy) / det);
    if base < 0.0 {
        return through_zero;
    }
    if slope > 0.0 && base <= (MOST_READ * slope).powi(2) {
        return (slope, base);
    }
    // The slope at which the most that reading adds comes to a point: x s + (r s)² = y.
    let square = MOST_READ * MOST_READ;
    let at_most = |(x, y): &(f64, f64)| ((x * x + 4.0 * square * y).sqrt() - x) / (2.0 * square);
    let slope = points.iter().map(at_most).fold(f64::INFINITY, f64::min);
    (slope, square * slope * slope)
}

/// Every block of the picture that is not cut off, filter by filter.
fn blocks(mosaic: &Mosaic) -> Vec<Seen> {
    let (w, h) = (mosaic.size.width as usize, mosaic.size.height as usize);
    let period = mosaic.pattern.side();
    let side = BLOCK * period;
    let mut seen = Vec::new();
    // Large pictures say enough in a part of their blocks.
    let skip = ((w * h) as f64 / 6e6).sqrt().ceil().max(1.0) as usize;
    let mut room = Vec::new();
    for top in (0..(h + 1).saturating_sub(side)).step_by(side * skip) {
        let values = mosaic.rows(top, side, &mut room);
        for left in (0..(w + 1).saturating_sub(side)).step_by(side * skip) {
            for place in 0..period * period {
                let at = |x: usize, y: usize| {
                    let (u, v) = (left + place % period + x * period, place / period + y * period);
                    values[v * w + u]
                };
                let (mut sum, mut squares, mut most) = (0f32, 0f32, 0f32);
                for y in (0..BLOCK).step_by(2) {
                    for x in (0..BLOCK).step_by(2) {
                        let [a, b, c, d] = [at(x, y), at(x + 1, y), at(x, y + 1), at(x + 1, y + 1)];
                        sum += a + b + c + d;
                        squares += ((a - b - c + d) * 0.5).powi(2);
                        most = most.max(a).max(b).max(c).max(d);
                    }
                }
                if most < BRIGHTEST && squares > 0.0 {
                    seen.push(Seen { mean: sum / (BLOCK * BLOCK) as f32, variance: squares / SAMPLES });
                }
            }
        }
    }
    seen
}

#[cfg(test)]
pub(super) mod tests {
    use super::*;
    use crate::geometry::Size;
    use crate::raw::mosaic::Pattern;

    /// Nearly normal numbers, always the same.
    pub(in crate::raw) fn chance(n: u64) -> f32 {
        (0..12u64)
            .map(|k| {
                let mut z = (n * 12 + k).wrapping_mul(0x9e37_79b9_7f4a_7c15);
                z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
                z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
                ((z ^ (z >> 31)) >> 40) as f32 / (1u64 << 24) as f32
            })
            .sum::<f32>()
            - 6.0
    }

    #[test]
    fn noise_is_found_in_a_picture_with_texture() {
        let (w, h) = (640usize, 480usize);
        for truth in [SensorNoise { shot: 2e-4, read: 1e-6 }, SensorNoise { shot: 4e-3, read: 4e-5 }] {
            for cells in [vec![0, 1, 1, 2], six()] {
                let side = if cells.len() == 4 { 2 } else { 6 };
                let pattern = Pattern::new(side, side, &cells).unwrap();
                let values = (0..w * h).map(|i| {
                    let (x, y) = (i % w, i / w);
                    let ramp = 0.02 + 0.8 * x as f32 / w as f32;
                    // A third of the picture is full of fine texture.
                    let texture =
                        if y % 240 < 80 { 0.2 * ((x * 7 + y * 3) as f32).sin() * ramp } else { 0.0 };
                    let light = ramp + texture;
                    light + chance(i as u64) * (truth.shot * light + truth.read).sqrt()
                });
                let mosaic = Mosaic::new(Size::new(w as u32, h as u32), pattern, values.collect()).unwrap();
                let found = SensorNoise::measured(&mosaic).unwrap();
                for light in [0.05f32, 0.2, 0.6] {
                    let (a, b) = (found.shot * light + found.read, truth.shot * light + truth.read);
                    assert!((a / b - 1.0).abs() < 0.2, "{found:?} instead of {truth:?} at {light}");
                }
            }
        }
    }

    #[test]
    fn texture_of_the_picture_is_not_taken_for_the_noise_of_reading() {
        let truth = SensorNoise { shot: 2e-5, read: 5e-9 };
        let (w, h) = (640usize, 480usize);
        let values = (0..w * h).map(|i| {
            let (x, y) = (i % w, i / w);
            // Dark parts are rough, bright ones have the sensor's noise alone.
            let ramp = 0.05 + 0.8 * x as f32 / w as f32;
            let rough = if x < w / 2 { 0.02 * chance((x / 2 + y / 2 * w) as u64 + 9_000_000) } else { 0.0 };
            let light = (ramp + rough).max(0.0);
            light + chance(i as u64) * (truth.shot * light + truth.read).sqrt()
        });
        let pattern = Pattern::new(2, 2, &[0, 1, 1, 2]).unwrap();
        let mosaic = Mosaic::new(Size::new(w as u32, h as u32), pattern, values.collect()).unwrap();
        let found = SensorNoise::measured(&mosaic).unwrap();
        assert!(f64::from(found.read).sqrt() <= MOST_READ * f64::from(found.shot) * 1.001, "{found:?}");
        for light in [0.5f32, 0.8] {
            let (a, b) = (found.shot * light + found.read, truth.shot * light + truth.read);
            assert!((a / b - 1.0).abs() < 0.3, "{found:?} instead of {truth:?} at {light}");
        }
    }

    fn six() -> Vec<u8> {
        vec![
            1, 0, 1, 1, 2, 1, 2, 1, 2, 0, 1, 0, 1, 0, 1, 1, 2, 1, 1, 2, 1, 1, 0, 1, 0, 1, 0, 2, 1, 2, 1, 2,
            1, 1, 0, 1,
        ]
    }

    #[test]
    fn the_steady_scale_makes_noise_even_and_its_inverse_has_no_bias() {
        let noise = SensorNoise { shot: 2e-3, read: 3e-6 };
        for light in [0.02f32, 0.1, 0.4, 0.9] {
            let many = 20_000u64;
            let deviation = (noise.shot * light + noise.read).sqrt();
            let steady: Vec<f32> = (0..many).map(|n| noise.steady(light + chance(n) * deviation)).collect();
            let mean = steady.iter().sum::<f32>() / many as f32;
            let variance = steady.iter().map(|v| (v - mean).powi(2)).sum::<f32>() / many as f32;
            assert!((variance - 1.0).abs() < 0.06, "{light}: {variance}");
            assert!(
                (noise.value(mean) - light).abs() < 0.01 * light + 2e-4,
                "{light}: {}",
                noise.value(mean)
            );
        }
    }

    #[test]
    fn what_a_file_says_is_taken_where_it_makes_sense() {
        assert!(SensorNoise::told(1e-4, 1e-7).is_some());
        for (shot, read) in [(0.0, 0.0), (f64::NAN, 0.0), (1e-4, -1.0), (5.0, 0.0)] {
            assert!(SensorNoise::told(shot, read).is_none());
        }
    }
}
