//! What goes into a file beside its pixels.

use crate::metadata::fields::DescriptiveFields;
use crate::metadata::provenance::Made;

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
    /// Pixels per inch, for the file's own tag.
    pub resolution: Option<u32>,
}
