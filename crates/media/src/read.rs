//! Opening a picture file: what it is, and its pixels whole or reduced.

use crate::camera::CameraData;
use crate::{MediaError, bytes_text, jpeg, png_file};
use rallo_engine::{Orientation, Picture, Size, Source, SourceError};
use serde::Serialize;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

/// Most pixels a picture may have.
pub const MAX_PIXELS: u64 = 400_000_000;

/// Largest file that is read.
pub const MAX_BYTES: u64 = 2_000_000_000;

/// Formats that are read.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Format {
    /// ITU-T T.81.
    Jpeg,
    /// W3C PNG.
    Png,
}

impl Format {
    /// Tells the format by the first bytes; a file's ending says nothing.
    ///
    /// # Errors
    /// [`MediaError::Empty`] or [`MediaError::Unknown`].
    pub fn of(file: &[u8]) -> Result<Self, MediaError> {
        match file {
            [] => Err(MediaError::Empty),
            [0xff, 0xd8, 0xff, ..] => Ok(Self::Jpeg),
            [0x89, b'P', b'N', b'G', ..] => Ok(Self::Png),
            _ => {
                let start = &file[..file.len().min(64)];
                let text = start.iter().all(|b| b.is_ascii_graphic() || b.is_ascii_whitespace());
                Err(MediaError::Unknown(if text {
                    "it holds text".into()
                } else {
                    "unknown kind of file".into()
                }))
            }
        }
    }
}

/// What a file says about its picture, without decoding the pixels.
#[derive(Clone, Debug, Serialize)]
pub struct Facts {
    /// The file.
    pub path: PathBuf,
    /// Format by content.
    pub format: Format,
    /// Upright pixels per row.
    pub width: u32,
    /// Upright rows.
    pub height: u32,
    /// Bits per sample.
    pub bits: u8,
    /// Colour profile's name.
    pub profile: String,
    /// Size of the file.
    pub bytes: u64,
    /// What the camera wrote.
    #[serde(flatten)]
    pub camera: CameraData,
}

/// A picture file in memory: decodes what a plan asks for, each level once.
pub struct FileSource {
    file: Vec<u8>,
    format: Format,
    stored: Size,
    bits: u8,
    icc: Option<Vec<u8>>,
    exif: Option<Vec<u8>>,
    camera: CameraData,
    levels: Mutex<HashMap<u8, Arc<Picture>>>,
}

/// Reads a whole file, within the limit.
///
/// # Errors
/// [`MediaError::Io`], or [`MediaError::Unsupported`] for a file over the limit.
pub fn read_file(path: &Path) -> Result<Vec<u8>, MediaError> {
    let io = |source| MediaError::Io { path: path.to_owned(), source };
    let bytes = std::fs::metadata(path).map_err(io)?.len();
    if bytes > MAX_BYTES {
        return Err(MediaError::Unsupported(format!(
            "the file has {}, the limit is {}",
            bytes_text(bytes),
            bytes_text(MAX_BYTES)
        )));
    }
    std::fs::read(path).map_err(io)
}

impl FileSource {
    /// Opens a file; reads it, but decodes no pixels yet.
    ///
    /// # Errors
    /// [`MediaError`] for anything that is not a readable picture.
    pub fn open(path: &Path) -> Result<Self, MediaError> {
        Self::from_bytes(read_file(path)?)
    }

    /// As [`open`](Self::open), for a file already in memory.
    ///
    /// # Errors
    /// As [`open`](Self::open).
    pub fn from_bytes(file: Vec<u8>) -> Result<Self, MediaError> {
        let format = Format::of(&file)?;
        let (stored, exif, icc, bits) = match format {
            Format::Jpeg => {
                let head = jpeg::head(&file);
                (jpeg::size(&file)?, head.exif, head.icc, head.bits)
            }
            Format::Png => {
                let head = png_file::head(&file)?;
                (head.size, head.exif, head.icc, head.bits)
            }
        };
        if stored.area() > MAX_PIXELS {
            return Err(MediaError::TooLarge { width: stored.width, height: stored.height });
        }
        let camera = exif
            .as_deref()
            .map_or_else(|| CameraData { orientation: 1, ..CameraData::default() }, CameraData::read);
        Ok(Self { file, format, stored, bits, icc, exif, camera, levels: Mutex::new(HashMap::new()) })
    }

    /// What the file says.
    pub fn facts(&self, path: &Path) -> Facts {
        let size = self.size();
        let profile = match self.icc.as_deref().and_then(rallo_engine::colour::embedded) {
            None => "sRGB (none embedded)".to_owned(),
            Some(rallo_engine::colour::Embedded::Shaper(c)) => c.name.clone(),
            Some(rallo_engine::colour::Embedded::Convert(_, name)) => name,
        };
        Facts {
            path: path.to_owned(),
            format: self.format,
            width: size.width,
            height: size.height,
            bits: self.bits,
            profile,
            bytes: self.file.len() as u64,
            camera: self.camera.clone(),
        }
    }

    /// What the camera wrote.
    pub fn camera(&self) -> &CameraData {
        &self.camera
    }
    /// The raw EXIF block.
    pub fn exif(&self) -> Option<&[u8]> {
        self.exif.as_deref()
    }
    /// The file's bytes.
    pub fn bytes(&self) -> &[u8] {
        &self.file
    }

    /// Bytes of a decoded level, known before decoding.
    pub fn decoded_bytes(&self, level: u8) -> u64 {
        let sample = if self.bits > 8 { 2 } else { 1 };
        let reduced = self.stored.scaled(0.5f64.powi(i32::from(level.min(self.max_level()))));
        reduced.area() * 3 * sample + self.file.len() as u64
    }

    /// Decodes at `1 / 2^level`; asked again, the same picture is given out.
    ///
    /// # Errors
    /// [`MediaError`] for damaged or truncated data.
    pub fn decode(&self, level: u8) -> Result<Arc<Picture>, MediaError> {
        if let Some(picture) = self.held().get(&level) {
            return Ok(picture.clone());
        }
        let (size, samples) = match self.format {
            Format::Jpeg => jpeg::decode(&self.file, level)?,
            Format::Png => png_file::decode(&self.file)?,
        };
        let orientation = Orientation::from_exif(self.camera.orientation);
        let picture = Picture::new(size, samples, orientation, self.icc.as_deref())
            .map_err(|e| MediaError::Damaged(e.to_string()))?;
        let picture = Arc::new(picture);
        self.held().insert(level, picture.clone());
        Ok(picture)
    }

    fn held(&self) -> std::sync::MutexGuard<'_, HashMap<u8, Arc<Picture>>> {
        self.levels.lock().unwrap_or_else(|poisoned| poisoned.into_inner())
    }
}

impl Source for FileSource {
    fn size(&self) -> Size {
        Orientation::from_exif(self.camera.orientation).upright(self.stored)
    }
    fn max_level(&self) -> u8 {
        match self.format {
            Format::Jpeg => jpeg::MAX_LEVEL,
            Format::Png => 0,
        }
    }
    fn level(&self, level: u8) -> Result<Arc<Picture>, SourceError> {
        self.decode(level).map_err(|e| SourceError(e.to_string()))
    }
}
