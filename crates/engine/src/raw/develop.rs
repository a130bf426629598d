//! A mosaic and its camera's colour as a picture in the working space.

use crate::geometry::Size;
use crate::raw::Raw;
use crate::raw::camera::CameraColour;
use crate::raw::demosaic::{self, Band, MARGIN};
use crate::raw::finish::{BLOCK, Block, Finish};
use crate::raw::look::Look;
use crate::raw::mosaic::{Mosaic, Pattern};
use crate::raw::scale::Scale;
use crate::raw::six_by_six;
use multiversion::multiversion;
use rayon::prelude::*;

/// How far above white light is kept.
pub const HEADROOM: f32 = 4.0;

/// Rows that are worked on together.
pub(super) const ROWS: usize = 64;

/// Red, green and blue by turns, as the square root of the light's share of [`HEADROOM`].
pub struct Developed {
    /// Pixels each way.
    pub size: Size,
    /// The samples, row by row.
    pub samples: Vec<u16>,
}

/// Rows `from .. from + rows` of a mosaic with all three colours of every pixel, filled in on `scale`.
pub(super) fn band_of(mosaic: &Mosaic, (from, rows): (usize, usize), gain: [f32; 3], scale: Scale) -> Band {
    let by_pattern = if mosaic.pattern.side() == 2 { demosaic::demosaiced } else { six_by_six::demosaiced };
    let mut band = by_pattern(mosaic, (from, rows), gain, scale);
    let inner = MARGIN * band.width..(MARGIN + rows) * band.width;
    for plane in &mut band.planes {
        scale.take_off(&mut plane[inner.clone()]);
    }
    band
}

/// What a sensor gave.
pub enum Sensor {
    /// One value a pixel behind a filter.
    Mosaic(Mosaic),
    /// Three values a pixel, red, green and blue by turns, 0 for no light and 1 for the most.
    Linear(Size, Vec<f32>),
}

impl Sensor {
    /// Pixels each way.
    pub fn size(&self) -> Size {
        match self {
            Self::Mosaic(mosaic) => mosaic.size,
            Self::Linear(size, _) => *size,
        }
    }
}

/// Develops at `1 / 2^level`: a mosaic whole with demosaicing, from the half on by putting neighbouring filters together.
pub fn develop(raw: &Raw, camera: &CameraColour, level: u8, look: &Look) -> Developed {
    let gain = camera.gains();
    let mosaic = match &raw.sensor {
        Sensor::Mosaic(mosaic) => mosaic,
        Sensor::Linear(size, values) => {
            return linear((*size, values), gain, level, &Finish::of(camera, look));
        }
    };
    let finish = Finish::of(camera, look);
    if level > 0 && mosaic.pattern.side() == 2 {
        return reduced(mosaic, gain, level, &finish);
    }
    let (w, h) = (mosaic.size.width as usize, mosaic.size.height as usize);
    let scale = raw.scale(gain);
    let mut samples = vec![0u16; w * h * 3];
    samples.par_chunks_mut(ROWS * w * 3).enumerate().for_each(|(k, out)| {
        let rows = out.len() / (w * 3);
        let band = band_of(mosaic, (k * ROWS, rows), gain, scale);
        for y in 0..rows {
            let start = (y + MARGIN) * band.width + MARGIN;
            let row = &mut out[y * w * 3..(y + 1) * w * 3];
            finish.kept(row.as_chunks_mut::<3>().0, |from, block| {
                let count = BLOCK.min(w - from);
                for (to, plane) in block.iter_mut().zip(&band.planes) {
                    to[..count].copy_from_slice(&plane[start + from..][..count]);
                }
            });
        }
    });
    let whole = Developed { size: mosaic.size, samples };
    if level > 0 { halved(&whole, level) } else { whole }
}

/// Three values a pixel.
fn linear((size, values): (Size, &[f32]), gain: [f32; 3], level: u8, finish: &Finish<'_>) -> Developed {
    let width = size.width as usize * 3;
    let mut samples = vec![0u16; values.len()];
    samples.par_chunks_mut(width).zip(values.par_chunks(width)).for_each(|(row, values)| {
        let values = values.as_chunks::<3>().0;
        finish.kept(row.as_chunks_mut::<3>().0, |from, block| put(block, &values[from..], gain));
    });
    let whole = Developed { size, samples };
    if level > 0 { halved(&whole, level) } else { whole }
}

/// Puts as many pixels into the block as there are and fit, each value times its colour's `gain`.
fn put(block: &mut Block, pixels: &[[f32; 3]], gain: [f32; 3]) {
    for (i, pixel) in pixels.iter().take(BLOCK).enumerate() {
        for c in 0..3 {
            block[c][i] = pixel[c] * gain[c];
        }
    }
}

/// A 2 × 2 mosaic at a half and less: the filters of each block put together, and blocks averaged.
fn reduced(mosaic: &Mosaic, gain: [f32; 3], level: u8, finish: &Finish<'_>) -> Developed {
    let size = mosaic.size;
    let (w, h) = (size.width as usize, size.height as usize);
    let side = 1usize << level;
    let (width, height) = (w.div_ceil(side), h.div_ceil(side));
    let mut samples = vec![0u16; width * height * 3];
    let whole_blocks = w / side;
    samples.par_chunks_mut(width * 3).enumerate().for_each_init(
        || ([0; 3].map(|_| vec![0f32; whole_blocks]), Vec::new()),
        |(sums, room), (y, row)| {
            // At the lower end it is moved in, so that it holds every filter.
            let top = (y * side).min(h.saturating_sub(2));
            let values = mosaic.rows(top, side.min(h - top), room);
            let whole = if (y + 1) * side <= h { whole_blocks } else { 0 };
            let (row, rest) = row.as_chunks_mut::<3>().0.split_at_mut(whole);
            if whole > 0 {
                block_sums(&mosaic.pattern, values, w, side, sums);
                let each = (side * side) as f32 / 4.0;
                let scale = [gain[0] / each, gain[1] / (2.0 * each), gain[2] / each];
                finish.kept(row, |from, block| put_planes(block, sums, from, scale));
            }
            let mean_at = |x: usize| {
                let of_block = block_mean(&mosaic.pattern, (values, w), ((whole + x) * side, top), side);
                std::array::from_fn(|c| of_block[c] * gain[c])
            };
            let last: Vec<[f32; 3]> = (0..rest.len()).map(mean_at).collect();
            finish.kept(rest, |from, block| put(block, &last[from..], [1.0; 3]));
        },
    );
    Developed { size: Size::new(width as u32, height as u32), samples }
}

/// As [`put`], from a plane for each colour.
fn put_planes(block: &mut Block, planes: &[Vec<f32>; 3], from: usize, gain: [f32; 3]) {
    for ((to, plane), gain) in block.iter_mut().zip(planes).zip(gain) {
        for (to, value) in to.iter_mut().zip(&plane[from..]) {
            *to = value * gain;
        }
    }
}

/// Sums of each filter over whole blocks of `side` rows and columns, along the rows there are; a plane for each colour.
fn block_sums(pattern: &Pattern, values: &[f32], width: usize, side: usize, sums: &mut [Vec<f32>; 3]) {
    sums.iter_mut().for_each(|plane| plane.fill(0.0));
    // Blocks begin with a whole pattern.
    for (y, values) in values.chunks_exact(width).enumerate() {
        for x in 0..2 {
            let plane = &mut sums[usize::from(pattern.at(x, y))];
            match side {
                2 => add_of_pairs(plane, values, x),
                _ => (x..side).step_by(2).for_each(|x| add_of_blocks(plane, values, x, side)),
            }
        }
    }
}

/// Adds the first or the second value of each pair.
#[multiversion(targets("x86_64+avx512f+avx512vl+avx512bw", "x86_64+avx2", "x86_64+sse4.1", "aarch64+neon"))]
fn add_of_pairs(sums: &mut [f32], values: &[f32], at: usize) {
    for (sum, pair) in sums.iter_mut().zip(values.as_chunks::<2>().0) {
        *sum += pair[at];
    }
}

/// Adds one value of each block of `side`.
fn add_of_blocks(sums: &mut [f32], values: &[f32], at: usize, side: usize) {
    for (sum, block) in sums.iter_mut().zip(values.chunks_exact(side)) {
        *sum += block[at];
    }
}

/// Means of each filter over what there is of one block in some rows; at the right end it is moved in, so that it holds every filter.
fn block_mean(
    pattern: &Pattern,
    (values, w): (&[f32], usize),
    (left, top): (usize, usize),
    side: usize,
) -> [f32; 3] {
    let (mut sum, mut count) = ([0f32; 3], [0f32; 3]);
    let left = left.min(w.saturating_sub(2));
    for (v, row) in values.chunks_exact(w).enumerate() {
        for u in left..(left + side).min(w) {
            let c = usize::from(pattern.at(u, top + v));
            sum[c] += row[u];
            count[c] += 1.0;
        }
    }
    std::array::from_fn(|c| sum[c] / count[c].max(1.0))
}

/// Averages blocks of a developed picture, as light.
fn halved(whole: &Developed, level: u8) -> Developed {
    let (w, h) = (whole.size.width as usize, whole.size.height as usize);
    let side = 1usize << level;
    let (width, height) = (w.div_ceil(side), h.div_ceil(side));
    let mut samples = vec![0u16; width * height * 3];
    samples.par_chunks_mut(width * 3).enumerate().for_each(|(y, row)| {
        for (x, to) in row.as_chunks_mut::<3>().0.iter_mut().enumerate() {
            let (mut sum, mut count) = ([0f64; 3], 0.0);
            for v in y * side..((y + 1) * side).min(h) {
                for u in x * side..((x + 1) * side).min(w) {
                    for c in 0..3 {
                        sum[c] += f64::from(whole.samples[(v * w + u) * 3 + c]).powi(2);
                    }
                    count += 1.0;
                }
            }
            *to = sum.map(|s| (s / count).sqrt().round() as u16);
        }
    });
    Developed { size: Size::new(width as u32, height as u32), samples }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::raw::{Calibration, Counts, Levels};

    fn camera(neutral: [f64; 3]) -> CameraColour {
        // Filters that are the working space's own primaries, seen under D65.
        let to_camera = [
            [1.716_651_2, -0.355_670_8, -0.253_366_3],
            [-0.666_684_4, 1.616_481_2, 0.015_768_5],
            [0.017_639_9, -0.042_770_6, 0.942_103_1],
        ];
        let balanced = std::array::from_fn(|r| std::array::from_fn(|c| to_camera[r][c] * neutral[r]));
        let calibration = Calibration { kelvin: 6504.0, to_camera: balanced, forward: None };
        CameraColour { calibrations: vec![calibration], neutral, baseline: 0.0, table: None }
    }

    fn mosaic(w: usize, h: usize, neutral: [f64; 3], pixel: impl Fn(usize, usize) -> [f32; 3]) -> Mosaic {
        let pattern = Pattern::new(2, 2, &[0, 1, 1, 2]).unwrap();
        let value = |x: usize, y: usize| {
            let c = usize::from(pattern.at(x, y));
            (pixel(x, y)[c] * neutral[c] as f32).min(1.0)
        };
        let values = (0..w * h).map(|i| value(i % w, i / w)).collect();
        Mosaic::new(Size::new(w as u32, h as u32), pattern, values).unwrap()
    }

    fn raw(mosaic: Mosaic, neutral: [f64; 3]) -> Raw {
        Raw::new(Sensor::Mosaic(mosaic), camera(neutral), None)
    }

    fn light(developed: &Developed, x: usize, y: usize) -> [f32; 3] {
        let at = (y * developed.size.width as usize + x) * 3;
        [0, 1, 2].map(|c| (f32::from(developed.samples[at + c]) / 65_535.0).powi(2) * HEADROOM)
    }

    #[test]
    fn a_coloured_scene_comes_back_whole_and_reduced() {
        let neutral = [0.5, 1.0, 0.7];
        let scene = |x: usize, y: usize| [0.2 + 0.004 * x as f32, 0.3, 0.15 + 0.003 * y as f32];
        let mosaic = mosaic(80, 70, neutral, scene);
        for level in 0..3u8 {
            let developed = develop(&raw(mosaic.clone(), neutral), &camera(neutral), level, &Look::default());
            let side = 1usize << level;
            assert_eq!(developed.size, Size::new(80u32.div_ceil(side as u32), 70u32.div_ceil(side as u32)));
            for (x, y) in [(20usize, 20usize), (60, 40), (40, 60)] {
                let found = light(&developed, x / side, y / side);
                let wanted = scene(x, y);
                for c in 0..3 {
                    assert!((found[c] - wanted[c]).abs() < 0.02, "{level} {x} {y}: {found:?} {wanted:?}");
                }
            }
        }
    }

    #[test]
    fn bands_join_without_a_seam() {
        let neutral = [0.6, 1.0, 0.8];
        let scene = |x: usize, y: usize| {
            let wave = 0.5 + 0.3 * ((x * 7 + y * 3) as f32 / 9.0).sin();
            [wave * 0.8, wave, wave * 0.9]
        };
        let mosaic = mosaic(50, ROWS * 2 + 9, neutral, scene);
        let whole = develop(&raw(mosaic.clone(), neutral), &camera(neutral), 0, &Look::default());
        // One band over the seam, by itself.
        let gains = camera(neutral).gains();
        let band = band_of(&mosaic, (ROWS - 6, 12), gains, raw(mosaic.clone(), neutral).scale(gains));
        let plain = &Look::default();
        let finish = Finish::of(&camera(neutral), plain);
        for y in 0..12 {
            for x in 0..50 {
                let at = (y + MARGIN) * band.width + x + MARGIN;
                let mut pixel = [[0; 3]];
                finish.kept(&mut pixel, |_, block| {
                    for (to, plane) in block.iter_mut().zip(&band.planes) {
                        to[0] = plane[at];
                    }
                });
                let there = ((ROWS - 6 + y) * 50 + x) * 3;
                assert_eq!(pixel[0], whole.samples[there..there + 3], "{x} {y}");
            }
        }
    }

    #[test]
    fn light_that_fills_the_sensor_is_white_and_not_coloured() {
        let neutral = [0.5, 1.0, 0.7];
        let mosaic = mosaic(40, 40, neutral, |_, _| [9.0; 3]);
        let found = light(&develop(&raw(mosaic, neutral), &camera(neutral), 0, &Look::default()), 20, 20);
        assert!(found.iter().all(|v| (v - found[0]).abs() < 0.01 && *v >= 1.0), "{found:?}");
    }
    #[test]
    fn whole_numbers_become_the_picture_that_their_light_becomes() {
        let neutral = [0.5, 1.0, 0.7];
        let size = Size::new(77, 61);
        let numbers: Vec<u16> = (0..77u64 * 61).map(|i| (i * 2_654_435_761 % 4000) as u16).collect();
        let levels = || Levels::new((1, 1), |_, _| (200.0, 4000.0));
        let counts = Counts { numbers: numbers.clone(), start: 0, stride: 77, levels: levels() };
        let mut light = vec![0f32; numbers.len()];
        levels().of_counts(0, &numbers, &mut light);
        let pattern = Pattern::new(2, 2, &[1, 2, 0, 1]).unwrap();
        let of_light = Mosaic::new(size, pattern.clone(), light).unwrap();
        for level in 0..4 {
            // A new one each time: light that was once asked for is used.
            let counted = Mosaic::of_counts(size, pattern.clone(), counts.clone()).unwrap();
            let [counted, of_light] = [counted, of_light.clone()].map(|m| {
                develop(&raw(m, neutral).mended(), &camera(neutral), level, &Look::default()).samples
            });
            assert_eq!(counted, of_light, "{level}");
        }
    }
}
