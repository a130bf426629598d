//! Pictures held open for the viewer: the last few, each decoded once.

use rallo_media::{FileSource, MediaError};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

/// Pictures kept open.
const KEPT: usize = 3;

/// An open picture, with its file and that file's time.
type Open = (PathBuf, Option<std::time::SystemTime>, Arc<FileSource>);

/// The open pictures, the last used first; a changed file is opened anew.
#[derive(Default)]
pub struct Sources(Mutex<Vec<Open>>);

impl Sources {
    /// Opens a picture, or gives out the one already open.
    pub fn open(&self, path: &Path) -> Result<Arc<FileSource>, MediaError> {
        let changed = std::fs::metadata(path).and_then(|m| m.modified()).ok();
        let mut held = self.0.lock().unwrap_or_else(|p| p.into_inner());
        if let Some(at) = held.iter().position(|(p, c, _)| p == path && *c == changed) {
            let one = held.remove(at);
            held.insert(0, one);
            return Ok(held[0].2.clone());
        }
        drop(held);
        let source = Arc::new(FileSource::open(path)?);
        let mut held = self.0.lock().unwrap_or_else(|p| p.into_inner());
        held.retain(|(p, _, _)| p != path);
        held.insert(0, (path.to_owned(), changed, source.clone()));
        held.truncate(KEPT);
        Ok(source)
    }
}
