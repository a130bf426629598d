//! What noise a picture has, measured in the picture itself.
//!
//! Flat blocks show the noise alone. Each block's coefficients are parted into two sets, alternating over the
//! frequencies: of the blocks of one range of lightness, those with the least energy in the one set tell the noise in
//! the other, so that choosing does not bias what is measured (after N. Ponomarenko et al., "An automatic approach to
//! lossy compression of AVIRIS images", 2007, and M. Colom and A. Buades, "Analysis and Extension of the Ponomarenko et
//! al. Method", 2013). Variances are medians of squares, which a few textured blocks among the chosen do not move.

use super::Planes;
use super::dct::{Block, SIDE, forward};
use crate::step::View;

/// Coefficients of a block.
const COUNT: usize = SIDE * SIDE;
/// Ranges of lightness.
const BINS: usize = 8;
/// Nodes of the curves over lightness.
pub const NODES: usize = 17;
/// Largest lightness: white.
const WHITE: f32 = 1.732_050_8;

/// Noise of one plane.
#[derive(Clone, Debug, PartialEq)]
pub struct PlaneNoise {
    /// Deviation at lightness 0, 1/16 … 1 of white, in units of the encoded scale.
    pub deviation: [f32; NODES],
    /// How the variance spreads over the frequencies of a block; the mean is 1.
    pub spread: [f32; COUNT],
}

/// Noise of a picture.
#[derive(Clone, Debug, PartialEq)]
pub struct Noise(pub [PlaneNoise; 3]);

impl PlaneNoise {
    /// Deviation at a lightness.
    #[inline(always)]
    pub fn at(&self, light: f32) -> f32 {
        let v = (light / WHITE).clamp(0.0, 1.0) * (NODES - 1) as f32;
        let i = (v as usize).min(NODES - 2);
        self.deviation[i] + (self.deviation[i + 1] - self.deviation[i]) * (v - i as f32)
    }
}

/// A block that was looked at.
struct Seen {
    /// Pixels at black or white.
    cut: usize,
    light: f32,
    /// Energies of the two sets.
    energy: [f32; 2],
    /// Coefficients of the three planes.
    values: [[f32; COUNT]; 3],
}

/// The set a coefficient belongs to; the constant one belongs to none.
fn set(k: usize) -> Option<usize> {
    let (u, v) = (k / SIDE, k % SIDE);
    (k > 0).then_some((u + v) % 2)
}

impl Noise {
    /// White noise of that deviation (of 1) in every channel.
    pub fn white(deviation: f32) -> Self {
        let plane = PlaneNoise { deviation: [deviation; NODES], spread: [1.0; COUNT] };
        Self([plane.clone(), plane.clone(), plane])
    }

    /// Measured in parts of a picture at full size; no noise where they are too small.
    pub fn measured(views: &[View]) -> Self {
        let mut seen = Vec::new();
        let pixels: u64 = views.iter().map(|v| v.size.area()).sum();
        // Small pictures have few flat places: they are looked for more finely.
        let step = if pixels < 700_000 { SIDE / 4 } else { SIDE / 2 };
        for view in views {
            blocks(view, step, &mut seen);
        }
        // What is cut off at black and white is missing from the noise: blocks with hardly anything cut are taken, if
        // there are enough of them.
        let enough = (seen.len() / 40).clamp(64, 2000);
        let most = CUT.into_iter().find(|most| seen.iter().filter(|s| s.cut <= *most).count() >= enough);
        seen.retain(|s| s.cut <= most.unwrap_or(SIDE * SIDE));
        if seen.len() < 64 {
            return Self::white(0.0);
        }
        seen.sort_by(|a, b| a.light.total_cmp(&b.light));
        let count = (seen.len() / FEWEST).clamp(1, BINS);
        let bins: Vec<&[Seen]> = seen.chunks(seen.len().div_ceil(count)).collect();
        let variances: Vec<_> = bins.iter().map(|bin| variances(bin)).collect();
        let middles: Vec<f32> =
            bins.iter().map(|bin| bin.iter().map(|s| s.light).sum::<f32>() / bin.len() as f32).collect();
        let noise = Self(std::array::from_fn(|c| plane(&middles, &variances, c)));
        let between = middles.iter().filter(|m| (0.2 * WHITE..0.8 * WHITE).contains(*m)).count();
        if between >= 3 { noise.evened() } else { noise }
    }

    /// White noise that is equally strong at all middle tones is so at all tones: what was measured less at the others was
    /// cut off there.
    fn evened(mut self) -> Self {
        let middle = |plane: &PlaneNoise| {
            let tones = &plane.deviation[NODES / 4..=3 * NODES / 4];
            let mean = tones.iter().sum::<f32>() / tones.len() as f32;
            tones.iter().all(|d| (d / mean - 1.0).abs() < 0.1).then_some(mean)
        };
        if let (true, [Some(a), Some(b), Some(c)]) = (self.is_white(), self.0.each_ref().map(middle)) {
            for (plane, mean) in self.0.iter_mut().zip([a, b, c]) {
                *plane = PlaneNoise { deviation: [mean; NODES], spread: [1.0; COUNT] };
            }
        }
        self
    }

    /// Whether it is as strong at high frequencies as at others: in pictures of a camera it is not, being spread by
    /// demosaicing and weakened by JPEG.
    pub fn is_white(&self) -> bool {
        let high = |k: &usize| k / SIDE + k % SIDE >= 8;
        let shares: Vec<f32> = (0..COUNT).filter(high).map(|k| self.0[0].spread[k]).collect();
        shares.iter().sum::<f32>() / shares.len() as f32 > 0.75
    }

    /// One number for people: the mean deviation of lightness noise, of 255.
    pub fn level(&self) -> f32 {
        self.0[0].deviation.iter().sum::<f32>() / NODES as f32 * 255.0
    }
}

/// Most pixels of a block that may stand at black or white, one after the other tried.
const CUT: [usize; 5] = [1, 3, 7, 14, 28];

fn blocks(view: &View, step: usize, seen: &mut Vec<Seen>) {
    let planes = Planes::of(&view.pixels, view.size.width as usize);
    let cut: Vec<bool> = view.pixels.iter().map(|p| super::is_cut(*p)).collect();
    let (w, h) = (planes.width, planes.height);
    for y in (0..(h + 1).saturating_sub(SIDE)).step_by(step) {
        for x in (0..(w + 1).saturating_sub(SIDE)).step_by(step) {
            let cut_off =
                (0..SIDE).flat_map(|v| &cut[(y + v) * w + x..(y + v) * w + x + SIDE]).filter(|c| **c).count();
            let mut values = [[0f32; COUNT]; 3];
            let mut energy = [0f32; 2];
            let mut light = 0.0;
            for c in 0..3 {
                let block: Block = std::array::from_fn(|v| {
                    let at = (y + v) * w + x;
                    std::array::from_fn(|u| planes.planes[c][at + u])
                });
                values[c].copy_from_slice(forward(&block).as_flattened());
                if c == 0 {
                    light = values[0][0] / SIDE as f32;
                }
                for (k, v) in values[c].iter().enumerate() {
                    if let Some(s) = set(k) {
                        energy[s] += v * v;
                    }
                }
            }
            seen.push(Seen { cut: cut_off, light, energy, values });
        }
    }
}

/// Share of a bin's blocks that are taken for flat.
const FLAT: f64 = 0.02;
/// Fewest blocks of a range of lightness.
const FEWEST: usize = 1500;

/// Variance per plane and coefficient in one range of lightness.
fn variances(bin: &[Seen]) -> [[f32; COUNT]; 3] {
    let count = ((bin.len() as f64 * FLAT) as usize).max(40).min(bin.len());
    let mut out = [[0f32; COUNT]; 3];
    for other in 0..2 {
        let mut order: Vec<&Seen> = bin.iter().collect();
        order.sort_by(|a, b| a.energy[other].total_cmp(&b.energy[other]));
        for k in (0..COUNT).filter(|k| set(*k) == Some(1 - other)) {
            for (c, plane) in out.iter_mut().enumerate() {
                let mut squares: Vec<f32> = order[..count].iter().map(|s| s.values[c][k].powi(2)).collect();
                let middle = count / 2;
                // The median of the square of a normal value is 0.4549 of its variance.
                plane[k] = *squares.select_nth_unstable_by(middle, f32::total_cmp).1 / 0.454_94;
            }
        }
    }
    out
}

/// Lightness over which the rise of the noise towards black is taken.
const NEAR: f32 = 0.1 * WHITE;

/// Most that the variance is taken to rise below the darkest range that could be measured.
const MOST_RISE: f32 = 2.5;

fn plane(middles: &[f32], variances: &[[[f32; COUNT]; 3]], c: usize) -> PlaneNoise {
    // Lightness changing evenly stands in the lowest frequencies: they are left out here.
    let trusted = |k: &usize| k / SIDE + k % SIDE >= 3;
    let mean: Vec<f32> = variances
        .iter()
        .map(|v| {
            let values: Vec<f32> = (0..COUNT).filter(trusted).map(|k| v[c][k]).collect();
            (values.iter().sum::<f32>() / values.len() as f32).max(1e-10)
        })
        .collect();
    let mut spread = [0f32; COUNT];
    for (v, mean) in variances.iter().zip(&mean) {
        for k in 0..COUNT {
            spread[k] += v[c][k] / mean / variances.len() as f32;
        }
    }
    let spread = towards_white(smooth(&spread));
    // The level by the high frequencies, where hardly any picture has much, each against its own share.
    let high = |k: &usize| k / SIDE + k % SIDE >= 6;
    let level: Vec<f32> = variances
        .iter()
        .map(|v| {
            let levels: Vec<f32> = (0..COUNT).filter(high).map(|k| v[c][k] / spread[k]).collect();
            (levels.iter().sum::<f32>() / levels.len() as f32).max(1e-10)
        })
        .collect();
    let curve = fitted(middles, &level);
    let deviation = std::array::from_fn(|i| {
        let light = i as f32 / (NODES - 1) as f32 * WHITE;
        let darkest = middles[0];
        // Not carried on above what was seen; below, where noise is cut off at black and cannot be seen, as it rises there.
        let seen = curve(light.clamp(darkest, middles[middles.len() - 1]));
        let rise = (curve(darkest) / curve(darkest + NEAR)).max(1.0).powf((darkest - light).max(0.0) / NEAR);
        (seen * rise.min(MOST_RISE)).sqrt()
    });
    PlaneNoise { deviation, spread }
}

/// Unevenness (deviation of the logarithm) that chance and a little texture make of white noise.
const CHANCE: f32 = 0.22;

/// The spread with a mean of 1, drawn to even where it is hardly more uneven than chance makes it.
fn towards_white(spread: [f32; COUNT]) -> [f32; COUNT] {
    let logs = spread.map(f32::ln);
    let mean = logs.iter().sum::<f32>() / COUNT as f32;
    let uneven = logs.iter().map(|v| (v - mean).powi(2)).sum::<f32>() / COUNT as f32;
    let keep = (1.0 - CHANCE * CHANCE / uneven.max(1e-6)).max(0.0);
    let drawn = logs.map(|v| ((v - mean) * keep).exp());
    let mean = drawn.iter().sum::<f32>() / COUNT as f32;
    drawn.map(|v| v / mean)
}

/// Terms of the surface the spread is smoothed to: powers of both frequencies up to the fourth together.
const TERMS: usize = 15;

/// The spread as a smooth surface: the logarithm is fitted by polynomials, so that chance in single frequencies goes.
/// The lowest frequencies, in which lightness changing evenly stands, are carried on from their neighbours.
fn smooth(spread: &[f32; COUNT]) -> [f32; COUNT] {
    let terms = |k: usize| -> [f64; TERMS] {
        let place = |i: usize| (i as f64 - 3.5) / 3.5;
        let (u, v) = (place(k / SIDE), place(k % SIDE));
        let mut terms = [0.0; TERMS];
        let mut n = 0;
        for i in 0..=4 {
            for j in 0..=4 - i {
                terms[n] = u.powi(i) * v.powi(j);
                n += 1;
            }
        }
        terms
    };
    let mut a = vec![[0.0f64; TERMS + 1]; TERMS];
    for k in (0..COUNT).filter(|k| k / SIDE + k % SIDE >= 2) {
        let t = terms(k);
        let y = f64::from(spread[k].max(1e-4)).ln();
        for r in 0..TERMS {
            for c in 0..TERMS {
                a[r][c] += t[r] * t[c];
            }
            a[r][TERMS] += t[r] * y;
        }
    }
    for (r, row) in a.iter_mut().enumerate() {
        row[r] += 1e-3;
    }
    let p = solved(a);
    let at =
        |k: usize| terms(k).iter().zip(&p).map(|(t, p)| t * p).sum::<f64>().clamp(-9.0, 4.0).exp() as f32;
    let mut out: [f32; COUNT] = std::array::from_fn(at);
    // Not more in the lowest than half as much again as just above them.
    let above = (out[2] + out[2 * SIDE] + out[SIDE + 1]) / 3.0;
    for k in [0, 1, SIDE] {
        out[k] = out[k].clamp(above * 0.7, above * 1.5);
    }
    out
}

/// A smooth course of the variance over lightness: its logarithm is a parabola, fitted so that what lies above it (bins
/// in which nothing is flat) counts less than what lies below.
fn fitted(middles: &[f32], variances: &[f32]) -> impl Fn(f32) -> f32 {
    let low = variances.iter().copied().fold(f32::INFINITY, f32::min).max(1e-10);
    let values: Vec<f64> = variances.iter().map(|v| f64::from((v / low).min(1e4)).ln()).collect();
    let mut weights = vec![1.0; values.len()];
    let mut p = vec![0.0f64; 3];
    for _ in 0..30 {
        // Normal equations with a little stiffness against bending.
        let mut a = vec![[0.0f64; 4]; 3];
        for ((x, y), w) in middles.iter().zip(&values).zip(&weights) {
            let x = f64::from(*x);
            let basis = [1.0, x, x * x];
            for r in 0..3 {
                for c in 0..3 {
                    a[r][c] += w * basis[r] * basis[c];
                }
                a[r][3] += w * basis[r] * y;
            }
        }
        a[1][1] += 0.02;
        a[2][2] += 0.05;
        p = solved(a);
        for ((x, y), w) in middles.iter().zip(&values).zip(&mut weights) {
            let x = f64::from(*x);
            let off = y - (p[0] + p[1] * x + p[2] * x * x);
            *w =
                if off > 0.0 { 1.0 / (1.0 + (off / 0.1).powi(2)) } else { 1.0 / (1.0 + (off / 0.4).powi(2)) };
        }
    }
    move |light| {
        let x = f64::from(light);
        low * (p[0] + p[1] * x + p[2] * x * x).clamp(-4.0, 8.0).exp() as f32
    }
}

/// As many equations as unknowns, the right side in the last column, by elimination.
fn solved<const N: usize>(mut a: Vec<[f64; N]>) -> Vec<f64> {
    let count = a.len();
    let whole = |v: f64| if v.abs() < 1e-12 { 1e-12 } else { v };
    for i in 0..count {
        let best = (i..count).max_by(|x, y| a[*x][i].abs().total_cmp(&a[*y][i].abs())).unwrap_or(i);
        a.swap(i, best);
        let pivot_row = a[i];
        for (r, row) in a.iter_mut().enumerate() {
            if r != i {
                let f = row[i] / whole(pivot_row[i]);
                for (v, o) in row.iter_mut().zip(pivot_row).skip(i) {
                    *v -= f * o;
                }
            }
        }
    }
    (0..count).map(|i| a[i][count] / whole(a[i][i])).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::colour::transfer::decode;
    use crate::geometry::Size;

    /// Even numbers with the deviation of the normal distribution, from a fixed sequence.
    struct Chance(u64);

    impl Chance {
        fn even(&mut self) -> f64 {
            self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (self.0 >> 11) as f64 / (1u64 << 53) as f64
        }
        /// By the method of G. Box and M. Muller.
        fn normal(&mut self) -> f64 {
            (-2.0 * (1.0 - self.even()).ln()).sqrt() * (std::f64::consts::TAU * self.even()).cos()
        }
    }

    /// A scene with flat parts, slow gradients and texture, and noise whose deviation goes by the tone.
    fn view(deviation: impl Fn(f64) -> f64, coarse: bool) -> View {
        let (w, h) = (512usize, 384usize);
        let mut chance = Chance(7);
        let mut noise: Vec<[f64; 3]> = (0..w * h).map(|_| [0; 3].map(|_| chance.normal())).collect();
        if coarse {
            // The mean of 2 × 2, as strong as before.
            let fine = noise.clone();
            for y in 0..h {
                for x in 0..w {
                    for c in 0..3 {
                        let at =
                            |dx: usize, dy: usize| fine[(y + dy).min(h - 1) * w + (x + dx).min(w - 1)][c];
                        noise[y * w + x][c] = (at(0, 0) + at(1, 0) + at(0, 1) + at(1, 1)) / 2.0;
                    }
                }
            }
        }
        let srgb = crate::colour::space::InputColour::srgb();
        let pixels = (0..w * h)
            .map(|i| {
                let (x, y) = ((i % w) as f64, (i / w) as f64);
                let tone = 0.15 + 0.7 * x / w as f64;
                let texture = if y > 200.0 { 0.1 * (x * 0.9).sin() * (y * 1.3).cos() } else { 0.0 };
                let v =
                    std::array::from_fn(|c| decode((tone + texture + deviation(tone) * noise[i][c]) as f32));
                crate::colour::space::apply(&srgb.to_working, v)
            })
            .collect();
        View { size: Size::new(w as u32, h as u32), pixels, around: None }
    }

    #[test]
    fn white_noise_is_found_white_and_as_strong_as_it_is() {
        for deviation in [0.01, 0.04, 0.08] {
            let noise = Noise::measured(&[view(|_| deviation, false)]);
            for (c, plane) in noise.0.iter().enumerate() {
                for tone in [0.25, 0.5, 0.75] {
                    let got = f64::from(plane.at(tone * WHITE));
                    assert!(
                        (got / deviation - 1.0).abs() < 0.08,
                        "plane {c} at {tone}: {got} of {deviation}"
                    );
                }
                assert!(noise.is_white());
                let (low, high) = (plane.spread[2], plane.spread[63]);
                assert!((low - 1.0).abs() < 0.35 && (high - 1.0).abs() < 0.35, "{low} {high}");
            }
        }
    }

    #[test]
    fn coarse_noise_is_found_coarse_and_the_tone_counts() {
        let noise = Noise::measured(&[view(|t| 0.06 * (1.2 - t), true)]);
        let plane = &noise.0[0];
        // The mean of 2 × 2 lets low frequencies through and stops the highest.
        assert!(plane.spread[SIDE * 2] > 2.0 && plane.spread[63] < 0.1, "{:?}", plane.spread);
        assert!(!noise.is_white());
        for tone in [0.25, 0.5, 0.75] {
            let (got, want) = (f64::from(plane.at(tone as f32 * WHITE)), 0.06 * (1.2 - tone));
            assert!((got / want - 1.0).abs() < 0.12, "at {tone}: {got} of {want}");
        }
        assert_eq!(Noise::measured(&[]).0[0].deviation[0], 0.0);
    }
}
