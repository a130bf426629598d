//! Opening a picture file: what it is, and its pixels whole or reduced.

pub(crate) mod embedded_preview;
mod format;
pub(crate) mod heif;
pub(crate) mod image_crate;
pub(crate) mod jpeg;
pub(crate) mod jxl;
mod limits;
pub(crate) mod png;

pub use crate::decode::format::Format;
pub use crate::decode::limits::{MAX_BYTES, MAX_PIXELS};

use crate::metadata::exif::CameraData;
use crate::{MediaError, bytes_text};
use rallo_engine::{DecodeSettings, Orientation, Picture, Size, Source, SourceError};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

/// What a file says about its picture, without decoding the pixels.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
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
    /// Rating that stands in the file, 0 none … 5.
    #[serde(default)]
    pub rating: u8,
    /// Keywords that stand in the file.
    #[serde(default)]
    pub keywords: Vec<String>,
    /// What earlier runs did to it, by the names of the steps.
    #[serde(default)]
    pub done: Vec<String>,
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
    settings: DecodeSettings,
    levels: Mutex<HashMap<u8, Arc<Picture>>>,
    /// Held by who decodes.
    decoding: Mutex<()>,
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

/// What stands before the pixels.
struct Head {
    size: Size,
    exif: Option<Vec<u8>>,
    icc: Option<Vec<u8>>,
    bits: u8,
    /// Whether the decoder turns the picture itself.
    upright: bool,
}

impl Head {
    fn of(file: &[u8], format: Format) -> Result<Self, MediaError> {
        Ok(match format {
            Format::Jpeg => {
                let head = jpeg::head(file);
                Self {
                    size: jpeg::size(file)?,
                    exif: head.exif,
                    icc: head.icc,
                    bits: head.bits,
                    upright: false,
                }
            }
            Format::Png => {
                let head = png::head(file)?;
                Self { size: head.size, exif: head.exif, icc: head.icc, bits: head.bits, upright: false }
            }
            Format::Raw => {
                let (inside, size) = embedded_preview::largest(file)
                    .ok_or_else(|| MediaError::Unsupported("this camera raw holds no preview".into()))?;
                let head = jpeg::head(inside);
                Self {
                    size,
                    exif: contained_exif(file).or(head.exif),
                    icc: head.icc,
                    bits: 8,
                    upright: false,
                }
            }
            Format::Heic | Format::Avif => {
                let (size, bits) = heif::head(file)?;
                Self { size, exif: contained_exif(file), icc: None, bits, upright: true }
            }
            Format::Jxl => {
                let (head, exif) = jxl::head(file)?;
                Self { size: head.size, exif, icc: head.icc, bits: head.bits, upright: true }
            }
            _ => {
                let head = image_crate::head(file, format)?;
                let exif = contained_exif(file);
                Self { size: head.size, exif, icc: head.icc, bits: head.bits, upright: false }
            }
        })
    }
}

/// The EXIF block of a file in one of the other containers.
fn contained_exif(file: &[u8]) -> Option<Vec<u8>> {
    exif::Reader::new().read_from_container(&mut std::io::Cursor::new(file)).ok().map(|e| e.buf().to_vec())
}

/// Bytes from the start of a JPEG that hold all its data but the pixels, nearly always.
const HEAD_BYTES: u64 = 256 * 1024;

/// What a file says, read from its beginning where that is enough.
///
/// # Errors
/// As [`FileSource::open`].
pub fn facts(path: &Path) -> Result<Facts, MediaError> {
    use std::io::Read;
    let io = |source| MediaError::Io { path: path.to_owned(), source };
    let file = std::fs::File::open(path).map_err(io)?;
    let bytes = file.metadata().map_err(io)?.len();
    let mut head = Vec::new();
    file.take(HEAD_BYTES).read_to_end(&mut head).map_err(io)?;
    let whole = bytes <= HEAD_BYTES;
    if !whole && matches!(Format::of(&head), Ok(Format::Jpeg)) {
        if let Ok(source) = FileSource::from_bytes(head) {
            return Ok(Facts { bytes, ..source.facts(path) });
        }
        return Ok(FileSource::open(path)?.facts(path));
    }
    let source = if whole { FileSource::from_bytes(head)? } else { FileSource::open(path)? };
    Ok(source.facts(path))
}

impl FileSource {
    /// Opens a file; reads it, but decodes no pixels yet.
    ///
    /// # Errors
    /// [`MediaError`] for anything that is not a readable picture.
    pub fn open(path: &Path) -> Result<Self, MediaError> {
        Self::from_bytes(read_file(path)?)
    }

    /// The same file, to be decoded by these settings.
    pub fn decoding_by(self, settings: &DecodeSettings) -> Self {
        // What was decoded by other settings is no longer what it is.
        Self { settings: settings.clone(), levels: Mutex::default(), ..self }
    }

    /// As [`open`](Self::open), for a file already in memory.
    ///
    /// # Errors
    /// As [`open`](Self::open).
    pub fn from_bytes(file: Vec<u8>) -> Result<Self, MediaError> {
        let format = Format::of(&file)?;
        let Head { size: stored, exif, icc, bits, upright } = Head::of(&file, format)?;
        if stored.area() > MAX_PIXELS {
            return Err(MediaError::TooLarge { width: stored.width, height: stored.height });
        }
        let mut camera = exif
            .as_deref()
            .map_or_else(|| CameraData { orientation: 1, ..CameraData::default() }, CameraData::read);
        if upright {
            camera.orientation = 1;
        }
        Ok(Self {
            file,
            format,
            stored,
            bits,
            icc,
            exif,
            camera,
            settings: DecodeSettings::default(),
            levels: Mutex::default(),
            decoding: Mutex::default(),
        })
    }

    /// What the file says.
    pub fn facts(&self, path: &Path) -> Facts {
        let size = self.size();
        let profile = match self.icc.as_deref().and_then(rallo_engine::colour::space::embedded) {
            None => "sRGB (none embedded)".to_owned(),
            Some(rallo_engine::colour::space::Embedded::Shaper(c)) => c.name.clone(),
            Some(rallo_engine::colour::space::Embedded::Convert(_, name)) => name,
        };
        let head = &self.file[..self.file.len().min(HEAD_BYTES as usize)];
        let crate::metadata::xmp::Sidecar { rating, keywords } =
            crate::metadata::xmp::Sidecar::inside(head).unwrap_or_default();
        Facts {
            path: path.to_owned(),
            format: self.format,
            width: size.width,
            height: size.height,
            bits: self.bits,
            profile,
            bytes: self.file.len() as u64,
            rating,
            keywords,
            done: crate::Made::find(head).map(|m| m.done).unwrap_or_default(),
            camera: self.camera.clone(),
        }
    }

    /// The format by content.
    pub fn format(&self) -> Format {
        self.format
    }

    /// A smaller picture embedded in the file, of at least `edge` pixels and of the same proportion.
    pub fn embedded(&self, edge: u32) -> Option<Self> {
        let (inside, size) = embedded_preview::largest(self.exif.as_deref()?)?;
        let ratio = |s: Size| f64::from(s.width) / f64::from(s.height);
        let fits = size.long_edge() >= edge && (ratio(size) / ratio(self.stored) - 1.0).abs() < 0.01;
        let mut small = Self::from_bytes(inside.to_vec()).ok().filter(|_| fits)?;
        small.camera.orientation = self.camera.orientation;
        small.icc.clone_from(&self.icc);
        Some(small)
    }

    /// What the camera wrote.
    pub fn camera(&self) -> &CameraData {
        &self.camera
    }
    /// Length of the embedded colour profile, 0 without one.
    pub fn icc_bytes(&self) -> usize {
        self.icc.as_ref().map_or(0, Vec::len)
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
        let sample = match self.bits {
            ..=8 => 1,
            9..=16 => 2,
            _ => 4,
        };
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
        // Who comes meanwhile waits for this one instead of decoding as well.
        let _alone = self.decoding.lock().unwrap_or_else(|poisoned| poisoned.into_inner());
        if let Some(picture) = self.held().get(&level) {
            return Ok(picture.clone());
        }
        let (size, samples, icc) = match self.format {
            Format::Jpeg => jpeg::decode(&self.file, level).map(|(s, p)| (s, p, None))?,
            Format::Raw => {
                let (inside, _) = embedded_preview::largest(&self.file)
                    .ok_or_else(|| MediaError::Unsupported("this camera raw holds no preview".into()))?;
                jpeg::decode(inside, level).map(|(s, p)| (s, p, None))?
            }
            Format::Png => png::decode(&self.file).map(|(s, p)| (s, p, None))?,
            Format::Heic | Format::Avif => heif::decode(&self.file)?,
            Format::Jxl => jxl::decode(&self.file).map(|(s, p)| (s, p, None))?,
            _ => image_crate::decode(&self.file, self.format).map(|(s, p)| (s, p, None))?,
        };
        // libheif knows of more ways to cut and turn a picture than its header is read for here.
        let is_known = matches!(self.format, Format::Heic | Format::Avif) || level > 0 || size == self.stored;
        if !is_known {
            return Err(MediaError::Damaged("the picture is not as large as its file says".into()));
        }
        let orientation = Orientation::from_exif(self.camera.orientation);
        let assumed = self.settings.assumed().map(|profile| profile.colour().icc.as_slice());
        let icc = self.icc.as_deref().or(icc.as_deref()).or(assumed);
        let picture =
            Picture::new(size, samples, orientation, icc).map_err(|e| MediaError::Damaged(e.to_string()))?;
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
            Format::Jpeg | Format::Raw => jpeg::MAX_LEVEL,
            _ => 0,
        }
    }
    fn level(&self, level: u8) -> Result<Arc<Picture>, SourceError> {
        self.decode(level).map_err(|e| SourceError(e.to_string()))
    }
    fn orientation(&self) -> Orientation {
        Orientation::from_exif(self.camera.orientation)
    }
    fn seed(&self) -> u64 {
        let head = &self.file[..self.file.len().min(HEAD_BYTES as usize)];
        u64::from_str_radix(&crate::content_hash(head)[..16], 16).unwrap_or_default()
    }
}
