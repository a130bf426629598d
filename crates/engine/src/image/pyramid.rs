//! A picture in memory with its reductions, as a source.

use crate::geometry::Size;
use crate::image::picture::Picture;
use crate::image::source::{Source, SourceError};
use std::sync::{Arc, Mutex};

/// A picture in memory with its reductions, each made when first asked for.
pub struct Pyramid {
    pub(super) size: Size,
    levels: Mutex<Vec<Arc<Picture>>>,
}

impl Pyramid {
    /// Levels 0 ..= this are offered.
    pub const LEVELS: u8 = 5;

    /// Takes the whole picture.
    pub fn new(picture: Picture) -> Self {
        Self::of(Arc::new(picture))
    }

    /// As [`new`](Self::new), for a picture that others hold too.
    pub fn of(picture: Arc<Picture>) -> Self {
        Self { size: picture.size(), levels: Mutex::new(vec![picture]) }
    }
}

impl Source for Pyramid {
    fn size(&self) -> Size {
        self.size
    }
    fn max_level(&self) -> u8 {
        Self::LEVELS
    }
    fn level(&self, level: u8) -> Result<Arc<Picture>, SourceError> {
        let mut levels = self.levels.lock().unwrap_or_else(|poisoned| poisoned.into_inner());
        while levels.len() <= usize::from(level.min(Self::LEVELS)) {
            let next = levels[levels.len() - 1].halved();
            levels.push(Arc::new(next));
        }
        Ok(levels[usize::from(level.min(Self::LEVELS))].clone())
    }
}
