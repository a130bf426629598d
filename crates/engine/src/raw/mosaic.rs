//! One value a pixel behind a repeating pattern of colour filters.

use crate::geometry::Size;

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
#[derive(Clone, Debug)]
pub struct Mosaic {
    pub(crate) size: Size,
    pub(crate) pattern: Pattern,
    pub(crate) values: Vec<f32>,
}

impl Mosaic {
    /// From values row by row; black is already taken away.
    ///
    /// # Errors
    /// [`PatternError::Values`] where they are not as many as the pixels.
    pub fn new(size: Size, pattern: Pattern, values: Vec<f32>) -> Result<Self, PatternError> {
        if size.area() != values.len() as u64 || values.is_empty() {
            return Err(PatternError::Values { pixels: size.area(), values: values.len() });
        }
        Ok(Self { size, pattern, values })
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
        &self.values
    }
}

#[cfg(test)]
mod tests {
    use super::*;

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
}
