//! What was measured and made for looks at sequences, held so that a changed line computes only what depends on it.

use crate::lock::lock;
use crate::render::joined_frames::MadeFrames;
use crate::render::measurements::Measurements;
use crate::render::preview::joined_sample::JoinedSample;
use quick_cache::Weighter;
use quick_cache::sync::Cache;
use std::collections::HashSet;
use std::sync::{Arc, Mutex};

/// Bytes of pictures that are held.
const PICTURES: u64 = 300_000_000;

/// Bytes of frames to be joined that are held for one state of the lines before.
const JOINED: usize = 500_000_000;

/// So many states of the lines before what joins frames are held.
pub(super) const STATES: usize = 2;

/// A picture that was made: of what, and which frame.
pub(super) type PictureKey = (String, usize);

/// By their bytes.
#[derive(Clone)]
pub(super) struct Bytes;

impl Weighter<PictureKey, Arc<Vec<u8>>> for Bytes {
    fn weight(&self, _: &PictureKey, picture: &Arc<Vec<u8>>) -> u64 {
        picture.len().max(1) as u64
    }
}

/// What was measured and made for previews so far.
pub struct PreviewMemory {
    pub(super) measured: Arc<Measurements>,
    /// Frames that could not be measured, by lines and place: not kept, since a file may be read another time.
    pub(super) unreadable: Mutex<HashSet<(String, usize)>>,
    pub(super) pictures: Cache<PictureKey, Arc<Vec<u8>>, Bytes>,
    /// Frames to be joined, by the lines before; the last used last.
    made: Mutex<Vec<(String, Arc<MadeFrames>)>>,
    /// The sample joined with its neighbours, by the lines until then; the last used last.
    pub(super) samples: Mutex<Vec<(String, Arc<JoinedSample>)>>,
}

impl PreviewMemory {
    /// With what is kept of measurements.
    pub fn new(measured: Arc<Measurements>) -> Self {
        Self {
            measured,
            unreadable: Mutex::default(),
            pictures: Cache::with_weighter(4000, PICTURES, Bytes),
            made: Mutex::default(),
            samples: Mutex::default(),
        }
    }
}

impl std::fmt::Debug for PreviewMemory {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("PreviewMemory").finish_non_exhaustive()
    }
}

/// What is held under a key among the last few, made where it is not there; the last used last.
pub(super) fn recalled<T: Clone, E>(
    held: &Mutex<Vec<(String, T)>>,
    key: String,
    most: usize,
    make: impl FnOnce() -> Result<T, E>,
) -> Result<T, E> {
    let known = {
        let mut held = lock(held);
        held.iter().position(|(known, _)| *known == key).map(|at| held.remove(at).1)
    };
    let one = known.map_or_else(make, Ok)?;
    let mut held = lock(held);
    held.push((key, one.clone()));
    if held.len() > most {
        held.remove(0);
    }
    Ok(one)
}

impl PreviewMemory {
    pub(super) fn made(&self, key: String) -> Arc<MadeFrames> {
        let make = || Ok::<_, std::convert::Infallible>(Arc::new(MadeFrames::holding(JOINED)));
        match recalled(&self.made, key, STATES, make) {
            Ok(made) => made,
        }
    }
}
