//! One value a pixel behind a repeating pattern of colour filters.

use crate::geometry::Size;
use crate::raw::counts::Counts;
use rayon::prelude::*;
use std::sync::OnceLock;

/// Why a pattern cannot be used.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
pub enum PatternError {
    /// Neither 2 × 2 nor 6 × 6.
    #[error("a colour filter of {0} × {1} cells")]
    Cells(usize, usize),
    /// Other filters than red, green and blue.
    #[error("a colour filter with other colours than red, green and blue")]
    Colours,
    /// The values are not as many as the pixels.
    #[error("{pixels} pixels with {values} values")]
    Values {
        /// Pixels of the size.
        pixels: u64,
        /// Values given.
        values: usize,
    },
}

/// Which filter lies before which pixel, repeating to the right and below: 0 red, 1 green, 2 blue.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Pattern {
    side: usize,
    cells: Vec<u8>,
}

impl Pattern {
    /// From rows of cells.
    ///
    /// # Errors
    /// [`PatternError`] for anything but 2 × 2 (two greens on a diagonal) and 6 × 6 (with each colour in every 3 × 3).
    pub fn new(width: usize, height: usize, cells: &[u8]) -> Result<Self, PatternError> {
        if width != height || !matches!(width, 2 | 6) || cells.len() != width * height {
            return Err(PatternError::Cells(width, height));
        }
        let pattern = Self { side: width, cells: cells.to_vec() };
        let is_bayer = || {
            let [a, b, c, d] = [0, 1, 2, 3].map(|i| cells[i]);
            let rest = |p: u8, q: u8| (p, q) == (0, 2) || (p, q) == (2, 0);
            (a == 1 && d == 1 && rest(b, c)) || (b == 1 && c == 1 && rest(a, d))
        };
        let has_all = |x: usize, y: usize| {
            (0..3u8).all(|colour| (0..9).any(|i| pattern.at(x + i % 3, y + i / 3) == colour))
        };
        let fits = if width == 2 { is_bayer() } else { (0..36).all(|i| has_all(i % 6, i / 6)) };
        if fits { Ok(pattern) } else { Err(PatternError::Colours) }
    }

    /// The filter before a pixel.
    #[inline(always)]
    pub fn at(&self, x: usize, y: usize) -> u8 {
        self.cells[y % self.side * self.side + x % self.side]
    }

    /// Cells to the right until it repeats: 2 or 6.
    pub fn side(&self) -> usize {
        self.side
    }

    /// The pattern of the part that begins `x` pixels further to the right and `y` further down.
    pub fn shifted(&self, x: usize, y: usize) -> Self {
        let side = self.side;
        let cells = (0..side * side).map(|i| self.at(x + i % side, y + i / side)).collect();
        Self { side, cells }
    }
}

/// What a sensor counted, 0 for no light and 1 for the most it can count.
///
/// Where a file has whole numbers they stay so until somebody asks for all of their light: a small picture needs no more than a few
/// rows at a time, and twice the room would take longer to clear than to fill.
#[derive(Clone, Debug)]
pub struct Mosaic {
    pub(crate) size: Size,
    pub(crate) pattern: Pattern,
    /// All of it as light: there from the beginning where nothing is counted.
    light: OnceLock<Vec<f32>>,
    counted: Option<Counted>,
}

/// Whole numbers, and what was mended in them.
#[derive(Clone, Debug)]
struct Counted {
    counts: Counts,
    /// Places whose light is another than their number says, in order.
    mended: Vec<(usize, f32)>,
}

impl Counted {
    /// Light of whole rows from `top` on, as many as fit.
    fn light(&self, top: usize, width: usize, to: &mut [f32]) {
        to.par_chunks_mut(width * TOGETHER).enumerate().for_each(|(k, to)| {
            self.counts.light(top + k * TOGETHER, width, to);
        });
        let (first, end) = (top * width, top * width + to.len());
        let from = self.mended.partition_point(|(at, _)| *at < first);
        for (at, value) in self.mended[from..].iter().take_while(|(at, _)| *at < end) {
            to[at - first] = *value;
        }
    }
}

/// Rows whose light is found by one hand.
const TOGETHER: usize = 64;

impl Mosaic {
    /// From values row by row; black is already taken away.
    ///
    /// # Errors
    /// [`PatternError::Values`] where they are not as many as the pixels.
    pub fn new(size: Size, pattern: Pattern, values: Vec<f32>) -> Result<Self, PatternError> {
        if size.area() != values.len() as u64 || values.is_empty() {
            return Err(PatternError::Values { pixels: size.area(), values: values.len() });
        }
        Ok(Self::of_light(size, pattern, values))
    }

    /// From as many values as there are pixels.
    pub(crate) fn of_light(size: Size, pattern: Pattern, values: Vec<f32>) -> Self {
        Self { size, pattern, light: OnceLock::from(values), counted: None }
    }

    /// From whole numbers as they were read.
    ///
    /// # Errors
    /// [`PatternError::Values`] where there are fewer than pixels.
    pub fn of_counts(size: Size, pattern: Pattern, counts: Counts) -> Result<Self, PatternError> {
        if size.area() == 0 || !counts.has(size.width as usize, size.height as usize) {
            return Err(PatternError::Values { pixels: size.area(), values: counts.numbers.len() });
        }
        let counted = Some(Counted { counts, mended: Vec::new() });
        Ok(Self { size, pattern, light: OnceLock::new(), counted })
    }

    /// Pixels each way.
    pub fn size(&self) -> Size {
        self.size
    }

    /// The filters.
    pub fn pattern(&self) -> &Pattern {
        &self.pattern
    }

    /// The values, row by row.
    pub fn values(&self) -> &[f32] {
        self.light.get_or_init(|| {
            let mut values = vec![0f32; self.size.area() as usize];
            if let Some(counted) = &self.counted {
                counted.light(0, self.size.width as usize, &mut values);
            }
            values
        })
    }

    /// The values of `count` rows from `top` on, for which `room` is used where all of them are not at hand.
    pub(crate) fn rows<'a>(&'a self, top: usize, count: usize, room: &'a mut Vec<f32>) -> &'a [f32] {
        let width = self.size.width as usize;
        match (&self.counted, self.light.get()) {
            (Some(counted), None) => {
                room.resize(count * width, 0.0);
                counted.light(top, width, room);
                room
            }
            _ => &self.values()[top * width..(top + count) * width],
        }
    }

    /// The numbers that it still is: nothing where it is light, or something was mended in it.
    pub(crate) fn counts(&self) -> Option<&Counts> {
        let counted = self.counted.as_ref().filter(|counted| counted.mended.is_empty());
        counted.filter(|_| self.light.get().is_none()).map(|counted| &counted.counts)
    }

    /// Changes values; what was counted is no longer kept.
    pub(crate) fn change(&mut self, change: impl FnOnce(&mut [f32])) {
        self.values();
        let mut values = self.light.take().unwrap_or_default();
        change(&mut values);
        (self.light, self.counted) = (OnceLock::from(values), None);
    }

    /// Puts other values in some places, which are in order.
    pub(crate) fn mend(&mut self, places: Vec<(usize, f32)>) {
        match &mut self.counted {
            Some(counted) if self.light.get().is_none() && counted.mended.is_empty() => {
                counted.mended = places
            }
            _ => self.change(|values| places.iter().for_each(|(at, value)| values[*at] = *value)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::raw::counts::Levels;

    #[test]
    fn patterns_are_those_that_can_be_filled() {
        let bayer = Pattern::new(2, 2, &[0, 1, 1, 2]).unwrap();
        assert_eq!((bayer.at(0, 0), bayer.at(3, 2), bayer.at(5, 5)), (0, 1, 2));
        assert_eq!(bayer.shifted(1, 0), Pattern::new(2, 2, &[1, 0, 2, 1]).unwrap());
        assert_eq!(Pattern::new(2, 2, &[0, 1, 2, 1]), Err(PatternError::Colours));
        assert_eq!(Pattern::new(3, 3, &[1; 9]), Err(PatternError::Cells(3, 3)));
        assert_eq!(Pattern::new(6, 6, &[1; 36]), Err(PatternError::Colours));
        let size = Size::new(2, 2);
        assert!(matches!(Mosaic::new(size, bayer, vec![0.0; 3]), Err(PatternError::Values { .. })));
    }

    #[test]
    fn whole_numbers_are_the_same_light_by_rows_and_all_at_once() {
        // A part that begins two rows down and three columns to the right.
        let (stride, size) = (40usize, Size::new(31, 150));
        let numbers: Vec<u16> = (0..stride * 160).map(|i| (i * 37 % 1100) as u16).collect();
        let levels = || Levels::new((2, 2), |x, y| (10.0 + (x + 2 * y) as f32, 1000.0));
        let counts = |numbers| Counts { numbers, start: 2 * stride + 3, stride, levels: levels() };
        let pattern = Pattern::new(2, 2, &[0, 1, 1, 2]).unwrap();
        let of = |counts| Mosaic::of_counts(size, pattern.clone(), counts);
        let mut mosaic = of(counts(numbers.clone())).unwrap();
        let mended = vec![(5usize, 0.5f32), (31 * 70 + 3, 0.25), (31 * 150 - 1, 0.75)];
        mosaic.mend(mended.clone());

        let mut room = Vec::new();
        let rows: Vec<f32> =
            (0..150).step_by(25).flat_map(|top| mosaic.rows(top, 25, &mut room).to_vec()).collect();
        assert_eq!(rows, mosaic.values());
        for (at, value) in mosaic.values().iter().enumerate() {
            let (x, y) = (at % 31, at / 31);
            let black = 10.0 + (x % 2 + 2 * (y % 2)) as f32;
            let number = f32::from(numbers[(y + 2) * stride + x + 3]);
            let light = ((number - black) / (1000.0 - black)).clamp(-0.1, 1.0);
            let wanted = mended.iter().find(|m| m.0 == at).map_or(light, |m| m.1);
            assert!((value - wanted).abs() < 1e-6, "{x} {y}: {value} instead of {wanted}");
        }
        // All at hand, it is what was mended that is changed.
        mosaic.mend(vec![(6, 0.125)]);
        assert_eq!((mosaic.values()[5], mosaic.values()[6]), (0.5, 0.125));
        assert_eq!(mosaic.rows(0, 1, &mut room)[6], 0.125);
        // One number is missing.
        let short = numbers[..(2 + 149) * stride + 3 + 30].to_vec();
        assert!(matches!(of(counts(short)), Err(PatternError::Values { .. })));
    }
}
