//! Pictures held open for the viewer: the last few, each decoded once.

use rallo_engine::DecodeSettings;
use rallo_media::{FileSource, MediaError};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

/// Pictures kept open.
const KEPT: usize = 3;

/// An open picture, with its file, that file's time, and how it is read.
type Open = (PathBuf, Option<std::time::SystemTime>, DecodeSettings, Arc<FileSource>);

/// The open pictures, the last used first; a changed file is opened anew.
#[derive(Default)]
pub struct Sources(Mutex<Vec<Open>>);

impl Sources {
    /// Opens a picture, or gives out the one already open.
    pub fn open(&self, path: &Path, decode: &DecodeSettings) -> Result<Arc<FileSource>, MediaError> {
        let changed = std::fs::metadata(path).and_then(|m| m.modified()).ok();
        let mut held = self.0.lock().unwrap_or_else(|p| p.into_inner());
        if let Some(at) = held.iter().position(|(p, c, d, _)| p == path && *c == changed && d == decode) {
            let source = held.remove(at);
            held.insert(0, source);
            return Ok(held[0].3.clone());
        }
        drop(held);
        let source = Arc::new(FileSource::open(path)?.decoding_by(decode));
        let mut held = self.0.lock().unwrap_or_else(|p| p.into_inner());
        held.retain(|(p, _, d, _)| p != path || d != decode);
        held.insert(0, (path.to_owned(), changed, decode.clone(), source.clone()));
        held.truncate(KEPT);
        Ok(source)
    }
}
