//! Intermediate results kept on the disk, within a bound, where they took several times longer to compute than to read.

use crate::files::free_space::free_bytes;
use rallo_engine::{Picture, Samples, Size};
use std::fs::File;
use std::io::{BufReader, BufWriter, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, SystemTime};

/// Denoised pictures kept on the disk, up to a number of bytes.
#[derive(Debug)]
pub struct IntermediateCache {
    folder: PathBuf,
    limit: AtomicU64,
}

/// Bytes kept where nothing else is said.
pub const USUAL: u64 = 8_000_000_000;

/// What is not used for so long makes room for others.
pub(crate) const IDLE: Duration = Duration::from_secs(24 * 3600);

/// Room that stays on the disk.
pub(crate) const SPARE: u64 = 2_000_000_000;

/// Bytes a second that a disk surely writes and reads; what is not several times slower to compute is not kept.
pub(crate) const DISK: f64 = 150e6;

pub(crate) const WORTH: f64 = 3.0;

/// The file's first bytes, with the number of its shape.
pub(crate) const MAGIC: [u8; 8] = *b"RALLOKW1";

impl IntermediateCache {
    /// What is kept in a folder; nothing is read or made before it is used.
    pub fn new(folder: &Path) -> Self {
        Self { folder: folder.to_owned(), limit: AtomicU64::new(USUAL) }
    }

    /// Keeps at most so many bytes, from the next picture on.
    pub fn set_limit(&self, bytes: u64) {
        self.limit.store(bytes, Ordering::Relaxed);
        self.make_room(0, Duration::ZERO);
    }

    /// Most bytes kept.
    pub fn limit(&self) -> u64 {
        self.limit.load(Ordering::Relaxed)
    }

    /// Files with their bytes and when they were last used, those least lately used first.
    fn files(&self) -> Vec<(SystemTime, u64, PathBuf)> {
        let about = |e: std::fs::DirEntry| {
            let meta = e.metadata().ok()?;
            Some((meta.modified().ok()?, meta.len(), e.path()))
        };
        let mut files: Vec<_> =
            std::fs::read_dir(&self.folder).into_iter().flatten().flatten().filter_map(about).collect();
        files.sort();
        files
    }

    /// Pictures kept, and their bytes.
    pub fn held(&self) -> (usize, u64) {
        let files = self.files();
        (files.len(), files.iter().map(|f| f.1).sum())
    }

    /// Keeps nothing any more of what there is.
    pub fn empty(&self) {
        for (_, _, path) in self.files() {
            let _ = std::fs::remove_file(path);
        }
    }

    /// Removes what was not used for `idle`, the oldest first, until `bytes` more fit; whether they do.
    fn make_room(&self, bytes: u64, idle: Duration) -> bool {
        let files = self.files();
        let mut held: u64 = files.iter().map(|f| f.1).sum();
        for (used, size, path) in files {
            if held + bytes <= self.limit() {
                break;
            }
            let old = used.elapsed().is_ok_and(|t| t >= idle);
            if old && std::fs::remove_file(path).is_ok() {
                held -= size;
            }
        }
        held + bytes <= self.limit()
    }

    pub(super) fn find(&self, key: &str) -> Option<Picture> {
        let path = self.folder.join(key);
        let picture = read(&path);
        if picture.is_some() {
            // When it was last used; a clock that cannot be set only lets it go earlier.
            let _ = File::options().write(true).open(&path).and_then(|f| f.set_modified(SystemTime::now()));
        } else if path.exists() {
            let _ = std::fs::remove_file(&path);
        }
        picture
    }

    /// Keeps a picture that took so long, where that is worth the room; what goes wrong costs nothing but time.
    pub(super) fn keep(&self, key: &str, picture: &Picture, took: Duration) {
        let Samples::F32(values) = picture.samples() else { return };
        let bytes = values.len() as u64 * 4 + 64;
        let worth = took.as_secs_f64() >= WORTH * bytes as f64 / DISK;
        let free = || free_bytes(&self.folder).unwrap_or(0);
        if !worth || std::fs::create_dir_all(&self.folder).is_err() || free() < bytes + SPARE {
            return;
        }
        if self.make_room(bytes, IDLE)
            && let Err(e) = write(&self.folder, key, picture.size(), values)
        {
            tracing::warn!("a denoised picture was not kept: {e}");
        }
    }
}

pub(crate) fn write(folder: &Path, key: &str, size: Size, values: &[f32]) -> std::io::Result<()> {
    let mut part = crate::files::atomic_file::part_in(folder)?;
    let mut hash = 0u64;
    {
        let mut out = BufWriter::with_capacity(1 << 20, part.as_file_mut());
        out.write_all(&MAGIC)?;
        out.write_all(&size.width.to_le_bytes())?;
        out.write_all(&size.height.to_le_bytes())?;
        let mut bytes = Vec::with_capacity(4096 * 4);
        for chunk in values.chunks(4096) {
            bytes.clear();
            bytes.extend(chunk.iter().flat_map(|v| v.to_le_bytes()));
            hash = mixed(hash, &bytes);
            out.write_all(&bytes)?;
        }
        out.write_all(&hash.to_le_bytes())?;
        out.flush()?;
    }
    part.persist(folder.join(key)).map_err(|e| e.error)?;
    Ok(())
}

/// A sum that tells a file that was cut or spoilt by accident (multiply and rotate, eight bytes at a time).
pub(crate) fn mixed(mut hash: u64, bytes: &[u8]) -> u64 {
    for word in bytes.as_chunks::<4>().0 {
        hash =
            (hash ^ u64::from(u32::from_le_bytes(*word))).wrapping_mul(0x9e37_79b9_7f4a_7c15).rotate_left(29);
    }
    hash
}

pub(crate) fn read(path: &Path) -> Option<Picture> {
    let mut file = BufReader::with_capacity(1 << 20, File::open(path).ok()?);
    let mut head = [0u8; 16];
    file.read_exact(&mut head).ok()?;
    let side = |at: usize| Some(u32::from_le_bytes(head.get(at..at + 4)?.try_into().ok()?));
    let size = Size::new(side(8)?, side(12)?);
    if head[..8] != MAGIC || size.area() == 0 || size.area() > LARGEST {
        return None;
    }
    let count = size.area() as usize * 3;
    let mut values = Vec::with_capacity(count);
    let (mut hash, mut bytes) = (0u64, vec![0u8; 4096 * 4]);
    while values.len() < count {
        let part = &mut bytes[..4 * (count - values.len()).min(4096)];
        file.read_exact(part).ok()?;
        hash = mixed(hash, part);
        values.extend(part.as_chunks::<4>().0.iter().map(|b| f32::from_le_bytes(*b)));
    }
    let mut end = Vec::new();
    file.read_to_end(&mut end).ok()?;
    (end == hash.to_le_bytes()).then(|| Picture::of_working(size, values).ok())?
}

/// Largest picture that is kept like this, in pixels: 16 bytes each with its reductions.
pub const LARGEST: u64 = 60_000_000;
