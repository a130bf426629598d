//! Where pixels come from: whole, or already reduced by a decoder.

use crate::geometry::{Rect, Size};
use crate::image::picture::{Orientation, Picture};
use crate::raw::RawView;
use std::sync::Arc;

/// Why a source could not deliver its picture.
#[derive(Clone, Debug, thiserror::Error)]
#[error("{0}")]
pub struct SourceError(pub String);

impl SourceError {
    /// The work was given up on its way (see [`crate::pace`]).
    pub fn given_up() -> Self {
        Self("nobody waits for this picture any more".into())
    }
}

/// Where a plan takes its picture from, whole or reduced.
pub trait Source: Sync {
    /// Upright size of the whole picture.
    fn size(&self) -> Size;
    /// The largest level it can deliver.
    fn max_level(&self) -> u8;
    /// The picture at `1 / 2^level` of its size, sides rounded up.
    ///
    /// # Errors
    /// When the picture cannot be decoded.
    fn level(&self, level: u8) -> Result<Arc<Picture>, SourceError>;
    /// How the stored picture was turned to be upright.
    fn orientation(&self) -> Orientation {
        Orientation::UPRIGHT
    }
    /// A number of the picture's own, the same whenever it is read.
    fn seed(&self) -> u64 {
        0
    }
    /// A number that changes whenever the pixels do, for sources whose pixels come bit by bit or depend on more than the
    /// file: what was kept of another state is not used.
    fn state(&self) -> u64 {
        0
    }
    /// The camera raw it is developed from, for steps that work better on that.
    fn raw(&self) -> Option<Arc<RawView>> {
        None
    }
    /// A part of a level as working values, row by row, for sources that have their pixels part by part; nothing where
    /// the whole [`level`](Self::level) is to be asked for.
    fn part(&self, _level: u8, _rect: Rect) -> Option<Result<Vec<[f32; 3]>, SourceError>> {
        None
    }
}
