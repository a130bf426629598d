//! A sensor's numbers as a file holds them, and the light that they stand for.

use multiversion::multiversion;

/// Values that are worked on together.
const TOGETHER: usize = 256;

/// What a sensor's numbers mean: black, and what is multiplied by above it, of cells that repeat to the right and below.
#[derive(Clone, Debug)]
pub struct Levels {
    /// Blacks and factors along a row of cells, as often as they repeat in about [`TOGETHER`] values.
    rows: Vec<(Vec<f32>, Vec<f32>)>,
    /// Values after which they repeat.
    across: usize,
}

impl Levels {
    /// Cells that repeat after so many values of a row, and after so many rows: black and white of each, by its value and row.
    pub fn new((across, down): (usize, usize), cell: impl Fn(usize, usize) -> (f32, f32)) -> Self {
        let across = across.max(1);
        let times = TOGETHER.div_ceil(across);
        let row = |y: usize| {
            let cells = (0..across).map(|x| cell(x, y));
            let cells: Vec<(f32, f32)> =
                cells.map(|(black, white)| (black, 1.0 / (white - black).max(1.0))).collect();
            cells.repeat(times).into_iter().unzip()
        };
        Self { rows: (0..down.max(1)).map(row).collect(), across }
    }

    /// The light of a row of whole numbers: 0 for none, 1 for the most that is counted.
    pub fn of_counts(&self, row: usize, counts: &[u16], light: &mut [f32]) {
        let (black, factor) = &self.rows[row % self.rows.len()];
        lit_counts(counts, black, factor, light);
    }

    /// Whether numbers two places apart, to the side or below, mean the same.
    fn repeat_by_two(&self) -> bool {
        2 % self.across == 0 && 2 % self.rows.len() == 0
    }

    /// The light of a row of numbers that are not whole.
    pub fn of_floats(&self, row: usize, numbers: &[f32], light: &mut [f32]) {
        let (black, factor) = &self.rows[row % self.rows.len()];
        lit(numbers, black, factor, light);
    }
}

/// In whole numbers along a row of cells, as often as they repeat in about [`TOGETHER`] values: what counts as least and as most
/// light, and a difference.
pub(super) struct Limits {
    pub least: Vec<u16>,
    pub most: Vec<u16>,
    pub apart: Vec<u16>,
}

impl Limits {
    fn of((black, factor): &(Vec<f32>, Vec<f32>), apart: f32) -> Option<Self> {
        let each = || black.iter().zip(factor);
        let limits = Self {
            least: each().map(|(black, factor)| (black + DARKEST / factor).floor() as u16).collect(),
            most: each().map(|(black, factor)| (black + 1.0 / factor).ceil() as u16).collect(),
            // Both ends may be a number off, and their distance counts twice.
            apart: factor.iter().map(|factor| ((apart / factor).floor() - 4.0).max(0.0) as u16).collect(),
        };
        let tells = limits.apart.iter().all(|apart| *apart >= 8);
        tells.then_some(limits)
    }
}

#[multiversion(targets("x86_64+avx512f+avx512vl", "x86_64+avx2", "x86_64+sse4.1", "aarch64+neon"))]
fn lit_counts(counts: &[u16], black: &[f32], factor: &[f32], light: &mut [f32]) {
    lit(counts, black, factor, light);
}

#[inline(always)]
fn lit<T: Copy + Into<f32>>(numbers: &[T], black: &[f32], factor: &[f32], light: &mut [f32]) {
    for (light, numbers) in light.chunks_mut(black.len()).zip(numbers.chunks(black.len())) {
        for (((light, number), black), factor) in light.iter_mut().zip(numbers).zip(black).zip(factor) {
            *light = one_lit((*number).into(), *black, *factor);
        }
    }
}

/// A little below black is noise, whose mean has to stay.
const DARKEST: f32 = -0.1;

#[inline(always)]
fn one_lit(number: f32, black: f32, factor: f32) -> f32 {
    let value = (number - black) * factor;
    // What is no number is no light.
    if value.is_finite() { value.clamp(DARKEST, 1.0) } else { 0.0 }
}

/// A part of a sensor's whole numbers.
#[derive(Clone, Debug)]
pub struct Counts {
    /// All that were read, row by row.
    pub numbers: Vec<u16>,
    /// Where the part begins in them.
    pub start: usize,
    /// Numbers from one row to the next.
    pub stride: usize,
    /// What they mean, from the part's first number on.
    pub levels: Levels,
}

impl Counts {
    /// Light of rows of the part, from row `top` on; as many as fit.
    pub(super) fn light(&self, top: usize, width: usize, light: &mut [f32]) {
        for (y, light) in (top..).zip(light.chunks_exact_mut(width)) {
            self.levels.of_counts(y, self.row(y, width), light);
        }
    }

    /// A row of the part.
    pub(super) fn row(&self, y: usize, width: usize) -> &[u16] {
        &self.numbers[self.start + y * self.stride..][..width]
    }

    /// Light of one number of the part.
    pub(super) fn at(&self, x: usize, y: usize) -> f32 {
        let (black, factor) = &self.levels.rows[y % self.levels.rows.len()];
        let cell = x % black.len();
        let number = self.numbers[self.start + y * self.stride + x];
        one_lit(f32::from(number), black[cell], factor[cell])
    }

    /// Limits of the even and of the odd rows, and what `apart` is at least in numbers; nothing where numbers two places apart mean
    /// different things, or light takes only few of them.
    pub(super) fn limits(&self, apart: f32) -> Option<[Limits; 2]> {
        let of = |row: usize| Limits::of(&self.levels.rows[row % self.levels.rows.len()], apart);
        if !self.levels.repeat_by_two() {
            return None;
        }
        Some([of(0)?, of(1)?])
    }

    /// Whether every row of a part that large is among the numbers.
    pub(super) fn has(&self, width: usize, height: usize) -> bool {
        let end = height.checked_sub(1).and_then(|rows| rows.checked_mul(self.stride));
        let end = end.and_then(|at| at.checked_add(self.start)).and_then(|at| at.checked_add(width));
        end.is_some_and(|end| end <= self.numbers.len())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_the_light_between_their_own_black_and_white() {
        // Two cells across and two down, each with a black and a white of its own.
        let black = |x: usize, y: usize| 100.0 + 10.0 * x as f32 + y as f32;
        let white = |x: usize, y: usize| 1000.0 + 100.0 * x as f32 + 50.0 * y as f32;
        let levels = Levels::new((2, 2), |x, y| (black(x, y), white(x, y)));
        let width = TOGETHER + 77;
        let numbers: Vec<u16> = (0..width as u16).map(|i| 90 + i * 3).collect();
        let floats: Vec<f32> = numbers.iter().map(|n| f32::from(*n)).collect();
        for row in 0..5 {
            let (mut light, mut same) = (vec![0f32; width], vec![0f32; width]);
            levels.of_counts(row, &numbers, &mut light);
            levels.of_floats(row, &floats, &mut same);
            assert_eq!(light, same);
            for (x, found) in light.iter().enumerate() {
                let (black, white) = (f64::from(black(x % 2, row % 2)), f64::from(white(x % 2, row % 2)));
                let wanted = ((f64::from(numbers[x]) - black) / (white - black)).clamp(-0.1, 1.0);
                assert!((f64::from(*found) - wanted).abs() < 1e-6, "{row} {x}: {found} instead of {wanted}");
            }
        }
        let mut odd = [9.0; 3];
        levels.of_floats(0, &[f32::NAN, f32::INFINITY, -1e9], &mut odd);
        assert_eq!(odd, [0.0, 0.0, -0.1]);
    }
}
