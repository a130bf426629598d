//! What a run is planned for: pictures with what is known of them.

use crate::frame_context::Decided;
use rallo_media::Facts;
use std::path::PathBuf;

/// A picture to be worked on, as far as it is known.
#[derive(Clone, Debug)]
pub struct Source {
    /// Absolute path.
    pub path: PathBuf,
    /// What the file says; nothing where it cannot be read.
    pub facts: Option<Facts>,
    /// What people decided about it.
    pub decided: Decided,
}
