//! Pictures as decoded, and where a plan takes them from.

use crate::colour::space::{self, Embedded, InputColour};
use crate::geometry::Size;
use crate::raw::{Developed, HEADROOM};
use std::sync::Arc;

/// Interleaved RGB samples, row by row, without padding.
#[derive(Clone)]
pub enum Samples {
    /// 0 ..= 255.
    U8(Vec<u8>),
    /// 0 ..= 65535.
    U16(Vec<u16>),
    /// 0 black, 1 white, and above.
    F32(Vec<f32>),
}

impl Samples {
    fn len(&self) -> usize {
        match self {
            Self::U8(v) => v.len(),
            Self::U16(v) => v.len(),
            Self::F32(v) => v.len(),
        }
    }
}

/// The eight orientations of EXIF 2.32, tag 0x0112: how stored rows and columns must be turned to be upright.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Orientation(u8);

impl Orientation {
    /// Stored upright.
    pub const UPRIGHT: Self = Self(1);

    /// From the EXIF value; anything outside 1 ..= 8 counts as upright.
    pub fn from_exif(value: u32) -> Self {
        Self(if (1..=8).contains(&value) { value as u8 } else { 1 })
    }
    /// The EXIF value.
    pub fn exif(self) -> u8 {
        self.0
    }
    /// Whether width and height change places.
    pub fn swaps(self) -> bool {
        self.0 >= 5
    }
    /// The size when upright.
    pub fn upright(self, stored: Size) -> Size {
        if self.swaps() { Size::new(stored.height, stored.width) } else { stored }
    }
    /// Stored column and row of the upright pixel (`x`, `y`), for a picture `stored` in size.
    #[inline]
    pub fn stored(self, x: usize, y: usize, stored: Size) -> (usize, usize) {
        let (w, h) = (stored.width as usize - 1, stored.height as usize - 1);
        match self.0 {
            2 => (w - x, y),
            3 => (w - x, h - y),
            4 => (x, h - y),
            5 => (y, x),
            6 => (y, h - x),
            7 => (w - y, h - x),
            8 => (w - y, x),
            _ => (x, y),
        }
    }
}

/// Why samples do not make a picture.
#[derive(Debug, thiserror::Error)]
pub enum PictureError {
    /// Width × height × 3 is not the number of samples, or a side is 0.
    #[error("{width} × {height} pixels need {wanted} samples, got {got}")]
    Samples {
        /// Pixels per row.
        width: u32,
        /// Rows.
        height: u32,
        /// Samples there should be.
        wanted: usize,
        /// Samples there are.
        got: usize,
    },
    /// The embedded profile cannot be applied.
    #[error("the embedded colour profile {0:?} cannot be applied")]
    Profile(String),
}

/// A decoded picture with its colour; pixels still as stored, orientation not yet applied.
#[derive(Clone)]
pub struct Picture {
    pub(crate) stored: Size,
    pub(crate) samples: Samples,
    pub(crate) orientation: Orientation,
    pub(crate) colour: Arc<InputColour>,
}

impl Picture {
    /// A picture from stored samples; `icc` is the embedded profile, sRGB without one.
    ///
    /// # Errors
    /// [`PictureError`] when samples and size disagree, or the profile fails.
    pub fn new(
        stored: Size,
        samples: Samples,
        orientation: Orientation,
        icc: Option<&[u8]>,
    ) -> Result<Self, PictureError> {
        let wanted = stored.area() as usize * 3;
        if samples.len() != wanted || wanted == 0 {
            return Err(PictureError::Samples {
                width: stored.width,
                height: stored.height,
                wanted,
                got: samples.len(),
            });
        }
        let (samples, colour) = match icc.and_then(space::embedded) {
            None => (samples, InputColour::shared_srgb()),
            Some(Embedded::Shaper(colour)) => (samples, colour),
            Some(Embedded::Convert(profile, name)) => {
                let wide = match samples {
                    Samples::U8(v) => v.iter().map(|&b| u16::from(b) * 257).collect(),
                    Samples::U16(v) => v,
                    // What a table profile says of light above white is not defined.
                    Samples::F32(v) => {
                        v.iter().map(|s| (s.clamp(0.0, 1.0) * 65_535.0 + 0.5) as u16).collect()
                    }
                };
                let done =
                    space::convert_16(&profile, &wide).map_err(|_| PictureError::Profile(name.clone()))?;
                (Samples::U16(done), Arc::new(InputColour::working(&name)))
            }
        };
        Ok(Self { stored, samples, orientation, colour })
    }

    /// A picture of working values, red, green and blue by turns, row by row.
    ///
    /// # Errors
    /// [`PictureError`] when values and size disagree.
    pub fn of_working(size: Size, values: Vec<f32>) -> Result<Self, PictureError> {
        let mut picture = Self::new(size, Samples::F32(values), Orientation::UPRIGHT, None)?;
        picture.colour = Arc::new(InputColour::plain());
        Ok(picture)
    }

    /// How much of each stored pixel is covered, 0 ..= 65535, as a grey picture of working values.
    ///
    /// # Errors
    /// [`PictureError`] when values and size disagree.
    pub fn of_coverage(
        stored: Size,
        coverage: &[u16],
        orientation: Orientation,
    ) -> Result<Self, PictureError> {
        let grey = coverage.iter().flat_map(|v| [*v; 3]).collect();
        let mut picture = Self::new(stored, Samples::U16(grey), orientation, None)?;
        picture.colour = Arc::new(InputColour::plain());
        Ok(picture)
    }

    /// A picture developed from a camera's raw.
    ///
    /// # Errors
    /// [`PictureError`] when samples and size disagree.
    pub fn developed(developed: Developed, orientation: Orientation) -> Result<Self, PictureError> {
        let mut picture = Self::new(developed.size, Samples::U16(developed.samples), orientation, None)?;
        picture.colour = Arc::new(InputColour::scene(HEADROOM));
        Ok(picture)
    }

    /// Upright size.
    pub fn size(&self) -> Size {
        self.orientation.upright(self.stored)
    }
    /// Size as stored.
    pub fn stored_size(&self) -> Size {
        self.stored
    }
    /// Name of the colour profile.
    pub fn profile(&self) -> &str {
        &self.colour.name
    }
    /// The samples as stored.
    pub fn samples(&self) -> &Samples {
        &self.samples
    }
    /// Bytes held.
    pub fn bytes(&self) -> usize {
        match &self.samples {
            Samples::U8(v) => v.len(),
            Samples::U16(v) => v.len() * 2,
            Samples::F32(v) => v.len() * 4,
        }
    }

    /// Half as large each way, rounded up: the mean of 2 × 2 stored samples.
    pub fn halved(&self) -> Self {
        let from = self.stored;
        let to = from.scaled(0.5);
        fn halve<T: Copy>(v: &[T], from: Size, to: Size, mean: impl Fn([T; 4]) -> T) -> Vec<T> {
            let (fw, fh) = (from.width as usize, from.height as usize);
            let mut out = Vec::with_capacity(to.area() as usize * 3);
            for y in 0..to.height as usize {
                let (top, low) = (2 * y * fw, (2 * y + 1).min(fh - 1) * fw);
                for x in 0..to.width as usize {
                    let (left, right) = (2 * x, (2 * x + 1).min(fw - 1));
                    for c in 0..3 {
                        let four = [top + left, top + right, low + left, low + right];
                        out.push(mean(four.map(|i| v[3 * i + c])));
                    }
                }
            }
            out
        }
        let samples = match &self.samples {
            Samples::U8(v) => Samples::U8(halve(v, from, to, |p| {
                ((p.iter().map(|v| u32::from(*v)).sum::<u32>() + 2) / 4) as u8
            })),
            Samples::U16(v) => Samples::U16(halve(v, from, to, |p| {
                ((p.iter().map(|v| u32::from(*v)).sum::<u32>() + 2) / 4) as u16
            })),
            Samples::F32(v) => Samples::F32(halve(v, from, to, |p| p.iter().sum::<f32>() / 4.0)),
        };
        Self { stored: to, samples, orientation: self.orientation, colour: self.colour.clone() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::image::pyramid::Pyramid;
    use crate::image::source::Source;

    #[test]
    fn orientations_turn_as_the_standard_says() {
        // Stored 3 × 2, numbered 0..6 row by row; the upright rows for each EXIF value, by hand.
        let want: [&[&[usize]]; 8] = [
            &[&[0, 1, 2], &[3, 4, 5]],
            &[&[2, 1, 0], &[5, 4, 3]],
            &[&[5, 4, 3], &[2, 1, 0]],
            &[&[3, 4, 5], &[0, 1, 2]],
            &[&[0, 3], &[1, 4], &[2, 5]],
            &[&[3, 0], &[4, 1], &[5, 2]],
            &[&[5, 2], &[4, 1], &[3, 0]],
            &[&[2, 5], &[1, 4], &[0, 3]],
        ];
        let stored = Size::new(3, 2);
        for (i, rows) in want.iter().enumerate() {
            let o = Orientation::from_exif(i as u32 + 1);
            assert_eq!(o.upright(stored), Size::new(rows[0].len() as u32, rows.len() as u32));
            for (y, row) in rows.iter().enumerate() {
                for (x, &n) in row.iter().enumerate() {
                    let (sx, sy) = o.stored(x, y, stored);
                    assert_eq!(sy * 3 + sx, n, "orientation {} at {x},{y}", i + 1);
                }
            }
        }
        assert_eq!(Orientation::from_exif(0), Orientation::UPRIGHT);
    }

    #[test]
    fn wrong_numbers_of_samples_are_refused() {
        let bad = Picture::new(Size::new(2, 2), Samples::U8(vec![0; 11]), Orientation::UPRIGHT, None);
        assert_eq!(bad.err().unwrap().to_string(), "2 × 2 pixels need 12 samples, got 11");
    }

    #[test]
    fn halving_takes_the_mean_and_keeps_odd_edges() {
        let px: Vec<u8> = (0..9u8).flat_map(|v| [v * 10; 3]).collect();
        let p = Picture::new(Size::new(3, 3), Samples::U8(px), Orientation::UPRIGHT, None).unwrap();
        let half = Pyramid::new(p).level(1).unwrap();
        let Samples::U8(v) = half.samples() else { panic!() };
        assert_eq!(half.size(), Size::new(2, 2));
        assert_eq!([v[0], v[3], v[6], v[9]], [20, 35, 65, 80]);
    }
}
