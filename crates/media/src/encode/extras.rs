//! What goes into a file beside its pixels.

use crate::metadata::fields::DescriptiveFields;
use crate::metadata::provenance::Made;
use rallo_engine::{Encoded, Pixels};

/// What goes into the file beside the pixels.
#[derive(Clone, Debug, Default)]
pub struct Extras {
    /// ICC profile.
    pub icc: Option<Vec<u8>>,
    /// EXIF block.
    pub exif: Option<Vec<u8>>,
    /// The result's mark.
    pub made: Option<Made>,
    /// What is said about the picture; written with the mark.
    pub words: DescriptiveFields,
    /// How much of each pixel is covered, 0 ..= 65535, row by row; all of it without.
    pub coverage: Option<Vec<u16>>,
    /// Pixels per inch, for the file's own tag.
    pub resolution: Option<u32>,
}

/// Samples of a picture, of its colours alone or with how much is covered as a fourth.
pub(crate) enum Interleaved {
    /// 0 ..= 255.
    U8(Vec<u8>),
    /// 0 ..= 65535.
    U16(Vec<u16>),
    /// 0.0 ..= 1.0.
    F32(Vec<f32>),
}

fn with<T: Copy>(colours: &[T], coverage: &[u16], of: impl Fn(u16) -> T) -> Vec<T> {
    let pixels = colours.as_chunks::<3>().0.iter().zip(coverage);
    pixels.flat_map(|([r, g, b], cover)| [*r, *g, *b, of(*cover)]).collect()
}

/// 0 ..= 65535 as 0 ..= 255.
fn byte(cover: u16) -> u8 {
    ((u32::from(cover) + 128) / 257) as u8
}

impl Extras {
    /// The picture's samples with how much of each pixel is covered; nothing where all of it is.
    pub(crate) fn with_coverage(&self, picture: &Encoded) -> Option<Interleaved> {
        let coverage = self.coverage.as_deref()?;
        Some(match &picture.pixels {
            Pixels::U8(v) => Interleaved::U8(with(v, coverage, byte)),
            Pixels::U16(v) => Interleaved::U16(with(v, coverage, |c| c)),
            Pixels::F32(v) => Interleaved::F32(with(v, coverage, |c| f32::from(c) / 65_535.0)),
        })
    }
}
