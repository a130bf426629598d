//! Opening a picture file: what it is, and its pixels whole or reduced.

mod bmp;
mod channels;
mod device_colour;
pub(crate) mod embedded_preview;
mod format;
mod gif;
pub(crate) mod heif;
mod helper;
pub(crate) mod image_crate;
pub(crate) mod jpeg;
mod jpeg2000;
pub(crate) mod jxl;
mod limits;
pub(crate) mod png;
pub(crate) mod raw;
mod tiff;
pub(crate) mod tiff_directory;
mod tiff_excerpt;
mod tiff_planes;

pub use crate::decode::format::Format;
pub use crate::decode::limits::{MAX_BYTES, MAX_PIXELS};
pub use crate::decode::raw::own_profiles as camera_profiles;

use crate::decode::channels::{Coverage, Ground, Rgb};
use crate::metadata::exif::CameraData;
use crate::{MediaError, bytes_text};
use rallo_engine::colour::transfer::{self, Table};
use rallo_engine::colour::working::LUMINANCE;
use rallo_engine::lens::EmbeddedLens;
use rallo_engine::raw::{Look, Raw, RawView};
use rallo_engine::{
    DecodeSettings, Orientation, Picture, Pyramid, RawLook, Samples, Size, Source, SourceError,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, OnceLock};

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
    /// What is odd about the file, and does the picture no harm.
    #[serde(default)]
    pub notes: Vec<String>,
    /// What earlier runs did to it, by the names of the steps.
    #[serde(default)]
    pub done: Vec<String>,
    /// What the camera wrote.
    #[serde(flatten)]
    pub camera: CameraData,
}

/// A picture file in memory: decodes what a plan asks for, each level once.
pub struct FileSource {
    file: Arc<Vec<u8>>,
    format: Format,
    stored: Size,
    bits: u8,
    icc: Option<Vec<u8>>,
    exif: Option<Vec<u8>>,
    camera: CameraData,
    settings: DecodeSettings,
    notes: Mutex<Vec<String>>,
    is_preview: bool,
    max_level: u8,
    /// What a camera raw holds, unpacked once.
    raw: OnceLock<Arc<Raw>>,
    /// The tone of its camera's own preview.
    tone: OnceLock<Option<Table>>,
    levels: Mutex<HashMap<u8, Arc<Picture>>>,
    /// Whether transparent parts keep their own colours instead of being laid on one.
    is_cut_out: bool,
    /// Whether any pixel is not covered wholly, once it is decoded.
    is_transparent: OnceLock<bool>,
    /// How much of each pixel is, where that is kept.
    coverage: OnceLock<Arc<Picture>>,
    /// Held by who decodes.
    decoding: Mutex<()>,
}

/// A picture that is transparent in parts.
pub struct CutOut {
    /// Its colours, everywhere.
    pub colours: FileSource,
    /// How much of each pixel is covered (see [`Picture::of_coverage`]).
    pub coverage: Pyramid,
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
pub(crate) struct Head {
    pub size: Size,
    pub exif: Option<Vec<u8>>,
    pub icc: Option<Vec<u8>>,
    pub bits: u8,
    /// Whether the decoder turns the picture itself.
    pub upright: bool,
    /// What is odd about the file, and does the picture no harm.
    pub notes: Vec<String>,
    /// Whether it is only a preview of a camera raw that cannot be developed.
    pub is_preview: bool,
    /// The largest reduction it can be decoded at.
    pub max_level: u8,
    /// What the camera wrote of its lens.
    pub lens: Option<EmbeddedLens>,
}

impl Default for Head {
    fn default() -> Self {
        Self {
            size: Size::new(0, 0),
            exif: None,
            icc: None,
            bits: 8,
            upright: false,
            notes: Vec::new(),
            is_preview: false,
            max_level: 0,
            lens: None,
        }
    }
}

/// How pixels are wanted.
pub(crate) struct Wanted<'a> {
    /// Of a damaged file the part that is there, instead of a refusal.
    pub part: bool,
    /// What becomes of transparent parts.
    pub ground: Ground,
    /// The profile that was found in the file's head.
    pub icc: Option<&'a [u8]>,
}

impl Default for Wanted<'_> {
    fn default() -> Self {
        Self { part: false, ground: Ground::Colour([1.0; 3]), icc: None }
    }
}

/// What a decoder makes of a file.
pub(crate) struct Decoded {
    pub size: Size,
    pub samples: Samples,
    pub coverage: Coverage,
    /// The profile the samples are in, where it is another than the head's.
    pub icc: Option<Vec<u8>>,
    pub notes: Vec<String>,
}

impl Decoded {
    /// With nothing to say beside the pixels.
    pub fn plain(size: Size, rgb: impl Into<Rgb>) -> Self {
        let Rgb { samples, coverage } = rgb.into();
        Self { size, samples, coverage, icc: None, notes: Vec::new() }
    }
}

impl Head {
    fn of(file: &Arc<Vec<u8>>, format: Format) -> Result<Self, MediaError> {
        Ok(match format {
            Format::Jpeg => {
                let head = jpeg::head(file);
                let size = jpeg::size(file, &head)?;
                Self {
                    size,
                    exif: head.exif,
                    icc: head.icc,
                    bits: head.bits,
                    notes: head.notes,
                    max_level: if head.is_lossless { 0 } else { jpeg::MAX_LEVEL },
                    ..Self::default()
                }
            }
            Format::Png => png::head(file)?,
            Format::Raw => match guarded(format, || raw::head(file)) {
                Ok(raw::RawHead { size, bits, lens, notes }) => Self {
                    size,
                    exif: raw_exif(file),
                    bits,
                    lens,
                    notes,
                    max_level: jpeg::MAX_LEVEL,
                    ..Self::default()
                },
                Err(e @ MediaError::TooLarge { .. }) => return Err(e),
                Err(reason) => {
                    let (inside, size) = embedded_preview::largest(file)
                        .ok_or(MediaError::Unsupported(format!("{reason}; and it holds no preview")))?;
                    let head = jpeg::head(inside);
                    let note = format!("Its preview is shown: {reason}.");
                    let exif = contained_exif(file).or(head.exif);
                    let max_level = jpeg::MAX_LEVEL;
                    Self {
                        size,
                        exif,
                        icc: head.icc,
                        notes: vec![note],
                        is_preview: true,
                        max_level,
                        ..Self::default()
                    }
                }
            },
            Format::Heic | Format::Avif => {
                let heif::Head { size, bits, is_laid } = heif::head(file)?;
                Self { size, exif: contained_exif(file), bits, upright: is_laid, ..Self::default() }
            }
            Format::Jxl => jxl::head(file)?,
            Format::Jp2 => jpeg2000::head(file)?,
            Format::Tiff => tiff::head(file)?,
            Format::Bmp => bmp::head(file)?,
            Format::Gif => gif::head(file)?,
            Format::WebP | Format::Pnm | Format::Tga | Format::Ico | Format::Exr | Format::Hdr => {
                image_crate::head(file, format)?
            }
        })
    }
}

/// Pixels at `1 / 2^level`.
fn pixels(file: &[u8], format: Format, level: u8, wanted: &Wanted<'_>) -> Result<Decoded, MediaError> {
    match format {
        Format::Jpeg => jpeg::decode(file, level, wanted),
        Format::Raw => {
            let (inside, _) = embedded_preview::largest(file)
                .ok_or_else(|| MediaError::Unsupported("this camera raw holds no preview".into()))?;
            jpeg::decode(inside, level, wanted)
        }
        Format::Png => png::decode(file, wanted),
        Format::Heic | Format::Avif => heif::decode(file, wanted),
        Format::Jxl => jxl::decode(file, wanted),
        Format::Jp2 => jpeg2000::decode(file, wanted),
        Format::Tiff => tiff::decode(file, wanted),
        Format::Bmp => bmp::decode(file, wanted),
        Format::Gif => gif::decode(file, wanted),
        Format::WebP | Format::Pnm | Format::Tga | Format::Ico | Format::Exr | Format::Hdr => {
            image_crate::decode(file, format, wanted)
        }
    }
}

/// Does what a decoder does; where it stops the program on an odd file, that file alone fails.
fn guarded<T>(format: Format, work: impl FnOnce() -> Result<T, MediaError>) -> Result<T, MediaError> {
    std::panic::catch_unwind(std::panic::AssertUnwindSafe(work)).unwrap_or_else(|cause| {
        let text = cause.downcast_ref::<String>().map(String::as_str);
        let text = text.or_else(|| cause.downcast_ref::<&str>().copied()).unwrap_or("it gave no reason");
        let name = format.title();
        Err(MediaError::Damaged(format!("the decoder for {name} failed on it ({text}); please report this")))
    })
}

/// Camera data without the six bytes that stand before it in a JPEG, and in other formats by mistake.
pub(crate) fn without_exif_head(bytes: &[u8]) -> &[u8] {
    bytes.strip_prefix(b"Exif\0\0").unwrap_or(bytes)
}

/// The EXIF block of a camera raw: its own, or its preview's.
fn raw_exif(file: &[u8]) -> Option<Vec<u8>> {
    contained_exif(file).or_else(|| jpeg::head(embedded_preview::largest(file)?.0).exif)
}

/// The EXIF block of a file in one of the other containers.
pub(crate) fn contained_exif(file: &[u8]) -> Option<Vec<u8>> {
    if let Some(part) = tiff_excerpt::camera_part(file) {
        return Some(part);
    }
    let read = |reader: &exif::Reader| reader.read_from_container(&mut std::io::Cursor::new(file));
    crate::metadata::exif::as_far_as_it_goes(read).map(|exif| exif.buf().to_vec())
}

/// Bytes from the start of a JPEG or a DNG that hold all its data but the pixels, nearly always.
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
    let is_enough = match Format::of(&head) {
        Ok(Format::Jpeg) => true,
        Ok(Format::Raw) => raw::is_told_by(&head),
        _ => false,
    };
    if !whole && is_enough {
        if let Ok(source) = FileSource::from_bytes(head) {
            return Ok(Facts { bytes, ..source.facts(path) });
        }
        return Ok(FileSource::open(path)?.facts(path));
    }
    let source = if whole { FileSource::from_bytes(head)? } else { FileSource::open(path)? };
    Ok(source.facts(path))
}

/// When a picture was taken, from the head of its file where that says so: nothing is decoded, not even as far as [`facts`]
/// does for camera raw.
pub fn taken(path: &Path) -> Option<jiff::civil::DateTime> {
    use std::io::Read;
    let mut head = Vec::new();
    std::fs::File::open(path).ok()?.take(HEAD_BYTES).read_to_end(&mut head).ok()?;
    // Camera raw is mostly TIFF, and Exif is TIFF too.
    if !tiff_directory::is_classic(&head) {
        return facts(path).ok()?.camera.taken;
    }
    // Some write their directories behind the pixels.
    let from_head = CameraData::read(&head).taken;
    from_head.or_else(|| CameraData::read(&read_file(path).ok()?).taken)
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
        let raw = if settings.raw.mend_defects == self.settings.raw.mend_defects {
            self.raw
        } else {
            OnceLock::new()
        };
        Self { settings: settings.clone(), levels: Mutex::default(), raw, ..self }
    }

    /// As [`open`](Self::open), for a file already in memory.
    ///
    /// # Errors
    /// As [`open`](Self::open).
    pub fn from_bytes(file: Vec<u8>) -> Result<Self, MediaError> {
        let format = Format::of(&file)?;
        let file = Arc::new(file);
        let Head { size: stored, exif, icc, bits, upright, notes, is_preview, max_level, lens } =
            guarded(format, || Head::of(&file, format))?;
        if stored.area() > MAX_PIXELS {
            return Err(MediaError::TooLarge { width: stored.width, height: stored.height });
        }
        let (mut camera, lies) = exif.as_deref().map(CameraData::read_with_orientation).unwrap_or_default();
        camera.orientation = lies.unwrap_or(1);
        camera.embedded_lens = lens;
        if upright {
            camera.orientation = 1;
        } else if lies.is_none() {
            let head = &file
                [..if format == Format::Jpeg { file.len().min(HEAD_BYTES as usize) } else { file.len() }];
            camera.orientation = crate::metadata::xmp::orientation(head).unwrap_or(1);
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
            notes: Mutex::new(notes),
            is_preview,
            max_level,
            raw: OnceLock::new(),
            tone: OnceLock::new(),
            levels: Mutex::default(),
            is_cut_out: false,
            is_transparent: OnceLock::new(),
            coverage: OnceLock::new(),
            decoding: Mutex::default(),
        })
    }

    /// What the file says.
    pub fn facts(&self, path: &Path) -> Facts {
        let size = self.size();
        let profile = match self.icc.as_deref().and_then(rallo_engine::colour::space::embedded) {
            None if self.format == Format::Raw && !self.is_preview => "the camera's own".to_owned(),
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
            notes: self.notes(),
            camera: self.camera.clone(),
        }
    }

    /// The format by content.
    pub fn format(&self) -> Format {
        self.format
    }

    /// A smaller picture embedded in the file, of at least `edge` pixels and of the same proportion.
    pub fn embedded(&self, edge: u32) -> Option<Self> {
        let beside = match self.format {
            Format::Raw | Format::Tiff => self.file.as_slice(),
            _ => self.exif.as_deref()?,
        };
        let (inside, size) = embedded_preview::largest(beside)?;
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
    /// The file's bytes, to be shared.
    pub fn shared_bytes(&self) -> &Arc<Vec<u8>> {
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
        // What the sensor counted stands beside the picture that is made of it.
        let counted = if self.format == Format::Raw && !self.is_preview { self.stored.area() * 4 } else { 0 };
        reduced.area() * 3 * sample + counted + self.file.len() as u64
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
        if self.format == Format::Raw && !self.is_preview {
            let picture = Arc::new(self.developed(level)?);
            self.held().insert(level, picture.clone());
            return Ok(picture);
        }
        let ground = if self.is_cut_out { Ground::Kept } else { Ground::Colour(self.settings.ground()) };
        let wanted = Wanted { part: self.settings.use_part, ground, icc: self.icc.as_deref() };
        let Decoded { size, mut samples, coverage, icc, notes } =
            guarded(self.format, || pixels(&self.file, self.format, level, &wanted))?;
        // libheif knows of more ways to cut and turn a picture than its header is read for here.
        let is_known = matches!(self.format, Format::Heic | Format::Avif) || level > 0 || size == self.stored;
        if !is_known {
            return Err(MediaError::Damaged("the picture is not as large as its file says".into()));
        }
        self.note(notes);
        let orientation = Orientation::from_exif(self.camera.orientation);
        self.is_transparent.get_or_init(|| coverage != Coverage::Full);
        if let Coverage::Kept(coverage) = coverage {
            channels::fill_uncovered(&mut samples, &coverage, size.width as usize);
            let picture = Picture::of_coverage(size, &coverage, orientation)
                .map_err(|e| MediaError::Damaged(e.to_string()))?;
            self.coverage.get_or_init(|| Arc::new(picture));
        }
        let assumed = self.settings.assumed().map(|profile| profile.colour().icc.as_slice());
        let own = self.icc.as_deref().filter(|_| icc.is_none());
        let (samples, icc) = match own.filter(|own| device_colour::is_grey(own)) {
            Some(grey) => device_colour::grey(&samples, grey).unwrap_or((samples, None)),
            None => (samples, icc),
        };
        let icc = icc.as_deref().or(own).or(assumed);
        let picture =
            Picture::new(size, samples, orientation, icc).map_err(|e| MediaError::Damaged(e.to_string()))?;
        let picture = Arc::new(picture);
        self.held().insert(level, picture.clone());
        Ok(picture)
    }

    /// The picture apart from how much of it is covered, for results that keep that; nothing where all of it is.
    ///
    /// # Errors
    /// As [`decode`](Self::decode).
    pub fn cut_out(&self) -> Result<Option<CutOut>, MediaError> {
        if !self.format.may_be_transparent() {
            return Ok(None);
        }
        if self.is_transparent.get().is_none() {
            self.decode(0)?;
        }
        if self.is_transparent.get() != Some(&true) {
            return Ok(None);
        }
        let colours = Self {
            file: self.file.clone(),
            icc: self.icc.clone(),
            exif: self.exif.clone(),
            camera: self.camera.clone(),
            settings: self.settings.clone(),
            notes: Mutex::default(),
            raw: OnceLock::new(),
            tone: OnceLock::new(),
            levels: Mutex::default(),
            is_cut_out: true,
            is_transparent: OnceLock::new(),
            coverage: OnceLock::new(),
            decoding: Mutex::default(),
            ..*self
        };
        colours.decode(0)?;
        let coverage = colours.coverage.get().map(|picture| Pyramid::of(picture.clone()));
        Ok(coverage.map(|coverage| CutOut { colours, coverage }))
    }

    /// Whether transparent parts keep their own colours instead of being laid on one.
    pub fn is_cut_out(&self) -> bool {
        self.is_cut_out
    }

    /// Whether it is a camera raw of which only the embedded preview can be shown.
    pub fn is_preview(&self) -> bool {
        self.is_preview
    }

    /// A camera raw, developed as its camera was set.
    fn developed(&self, level: u8) -> Result<Picture, MediaError> {
        let RawView { raw, camera, look, .. } = self.raw_view()?;
        let developed = rallo_engine::raw::develop(&raw, &camera, level, &look);
        let orientation = Orientation::from_exif(self.camera.orientation);
        Picture::developed(developed, orientation).map_err(|e| MediaError::Damaged(e.to_string()))
    }

    /// What a camera raw holds, unpacked once, with the tone of its look.
    fn raw_view(&self) -> Result<RawView, MediaError> {
        let raw = match self.raw.get() {
            Some(raw) => raw.clone(),
            None => {
                let raw =
                    Arc::new(guarded(self.format, || raw::read(&self.file, self.settings.raw.mend_defects))?);
                self.raw.get_or_init(|| raw).clone()
            }
        };
        let given = self.settings.raw.given_white();
        let camera = given.map_or_else(|| raw.camera.clone(), |light| raw.camera.under(light));
        let profile = &raw.profile;
        let look = match self.settings.raw.look {
            // A profile without a tone of its own is made for the one the camera shows.
            RawLook::Camera if profile.tone.is_some() => Look::of_profile(profile, camera.kelvin(), None),
            RawLook::Camera => {
                let tone = self.tone.get_or_init(|| self.camera_tone(&raw)).clone();
                Look::of_profile(profile, camera.kelvin(), tone)
            }
            RawLook::Neutral => Look::neutral(profile, camera.kelvin()),
            RawLook::Linear => Look::default(),
        };
        Ok(RawView { raw, camera, look, orientation: self.orientation() })
    }

    /// The tone of the camera's own preview, where there is one that says anything.
    fn camera_tone(&self, raw: &Raw) -> Option<Table> {
        // A few thousand pixels of each are enough.
        const LEVEL: u8 = 3;
        let (preview, _) = embedded_preview::largest(&self.file)?;
        let Samples::U8(shown) = jpeg::decode(preview, LEVEL, &Wanted::default()).ok()?.samples else {
            return None;
        };
        let linear = |v: u8| transfer::decode(f32::from(v) / 255.0);
        // Luminance of sRGB's primaries (IEC 61966-2-1) and of the working space's.
        let shown: Vec<f32> = shown
            .as_chunks::<3>()
            .0
            .iter()
            .map(|[r, g, b]| 0.2126 * linear(*r) + 0.7152 * linear(*g) + 0.0722 * linear(*b))
            .collect();
        let developed = rallo_engine::raw::develop(raw, &raw.camera, LEVEL, &Look::default());
        let light = |v: u16| (f32::from(v) / 65_535.0).powi(2) * rallo_engine::raw::HEADROOM;
        let developed: Vec<f32> = developed
            .samples
            .as_chunks::<3>()
            .0
            .iter()
            .map(|p| p.iter().zip(LUMINANCE).map(|(v, share)| light(*v) * share).sum())
            .collect();
        rallo_engine::raw::matched(&developed, &shown)
    }

    /// What is odd about the file, and does the picture no harm: known from its head, and after decoding from its pixels.
    pub fn notes(&self) -> Vec<String> {
        self.notes.lock().unwrap_or_else(|poisoned| poisoned.into_inner()).clone()
    }

    fn note(&self, new: Vec<String>) {
        let mut notes = self.notes.lock().unwrap_or_else(|poisoned| poisoned.into_inner());
        for note in new {
            if !notes.contains(&note) {
                notes.push(note);
            }
        }
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
        self.max_level
    }
    fn level(&self, level: u8) -> Result<Arc<Picture>, SourceError> {
        self.decode(level).map_err(|e| SourceError(e.to_string()))
    }
    fn orientation(&self) -> Orientation {
        Orientation::from_exif(self.camera.orientation)
    }
    fn raw(&self) -> Option<Arc<RawView>> {
        let is_raw = self.format == Format::Raw && !self.is_preview;
        is_raw.then(|| self.raw_view().ok().map(Arc::new)).flatten()
    }
    fn seed(&self) -> u64 {
        let head = &self.file[..self.file.len().min(HEAD_BYTES as usize)];
        u64::from_str_radix(&crate::content_hash(head)[..16], 16).unwrap_or_default()
    }
}
