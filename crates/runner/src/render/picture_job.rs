//! One picture to be made.

use crate::frame_context::Decided;
use crate::render::sequence::RunSequence;
use std::path::PathBuf;
use std::sync::Arc;

/// One picture to be made.
#[derive(Clone, Debug)]
pub struct PictureJob {
    /// The original.
    pub source: PathBuf,
    /// Where its results go, one for each file the recipe makes; with the hash of the result that an earlier run wrote
    /// there, where that is known: another one was altered since.
    pub targets: Vec<(PathBuf, Option<String>)>,
    /// What people decided about it.
    pub decided: Decided,
    /// Position in the run, from 1.
    pub number: usize,
    /// The pictures of the run together.
    pub sequence: Arc<RunSequence>,
}
