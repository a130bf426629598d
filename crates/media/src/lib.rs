//! Codecs and camera data: files to engine pictures and back.
//!
//! Reads JPEG (whole or reduced, as the decoder offers it), PNG, TIFF (8 and 16 bit, float), WebP, AVIF, HEIC,
//! JPEG XL, GIF, BMP, and camera raw through the preview inside it; writes JPEG, PNG, WebP, AVIF, JPEG XL and TIFF, with the colour profile, the
//! camera data and the mark that says which recipe made them.

pub mod decode;
pub mod encode;
pub mod equipment;
pub mod metadata;
pub mod pdf;
pub mod video;

pub use decode::{CutOut, Facts, FileSource, Format, camera_profiles};
pub use encode::dng::{LinearDng, MosaicDng, linear_dng, mosaic_dng};
pub use encode::extras::Extras;
pub use encode::jxl::is_there as writes_jxl;
pub use encode::{Chroma, Encoding, Packing, encode, encode_within};
pub use metadata::embed::{can_carry, carried_over};
pub use metadata::exif::CameraData;
pub use metadata::fields::DescriptiveFields;
pub use metadata::provenance::{Made, content_hash, file_hash};

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};

/// Whether programs of others start here, each asked for its version. Once found they stay; plans are made often.
fn is_found(found: &AtomicBool, programs: &[(&str, &str)]) -> bool {
    let starts = |(name, version): &(&str, &str)| {
        Command::new(name).arg(version).stdout(Stdio::null()).stderr(Stdio::null()).status().is_ok()
    };
    let there = found.load(Ordering::Relaxed) || programs.iter().all(starts);
    found.store(there, Ordering::Relaxed);
    there
}

/// Why a file could not be read or written; the texts are meant for people.
#[derive(Debug, thiserror::Error)]
pub enum MediaError {
    /// The system refused.
    #[error("cannot read {path}: {source}")]
    Io {
        /// The file.
        path: PathBuf,
        /// What the system said.
        source: std::io::Error,
    },
    /// No bytes at all.
    #[error("the file is empty")]
    Empty,
    /// Not a picture in a known format.
    #[error(
        "this is not a picture that can be read ({0}); JPEG, PNG, TIFF, WebP, AVIF, HEIC, JPEG XL, JPEG 2000, GIF, BMP, PNM, TGA, ICO, OpenEXR, Radiance and camera raw can"
    )]
    Unknown(String),
    /// The file stops before the picture does.
    #[error("the file ends in the middle of the picture ({0} are there)")]
    Truncated(String),
    /// The picture's data make no sense.
    #[error("the picture's data are damaged: {0}")]
    Damaged(String),
    /// Right format, but of a kind that is not read.
    #[error("{0}")]
    Unsupported(String),
    /// More pixels than the limit.
    #[error("{width} × {height} pixels are more than the limit of {} megapixels", decode::MAX_PIXELS / 1_000_000)]
    TooLarge {
        /// Pixels per row.
        width: u32,
        /// Rows.
        height: u32,
    },
    /// No room was left where the result goes.
    #[error("the {format} cannot be written: there is no room left")]
    NoRoom {
        /// Format name.
        format: &'static str,
    },
    /// The result could not be encoded.
    #[error("the result could not be written as {format}: {message}")]
    Encode {
        /// Format name.
        format: &'static str,
        /// What the encoder said.
        message: String,
    },
}

/// A byte count for people: `240 kB`, `6.2 MB`.
pub fn bytes_text(bytes: u64) -> String {
    match bytes {
        0..1000 => format!("{bytes} bytes"),
        1000..1_000_000 => format!("{} kB", (bytes + 500) / 1000),
        1_000_000..10_000_000 => format!("{:.1} MB", bytes as f64 / 1e6),
        10_000_000..1_000_000_000 => format!("{} MB", (bytes + 500_000) / 1_000_000),
        _ => format!("{:.1} GB", bytes as f64 / 1e9),
    }
}

/// Whether the file's ending is one of a picture that can be read.
pub fn has_picture_ending(path: &Path) -> bool {
    let ending = path.extension().and_then(|e| e.to_str()).unwrap_or_default().to_ascii_lowercase();
    const ENDINGS: [&str; 56] = [
        "jpg", "jpeg", "jpe", "jfif", "mpo", "png", "apng", "tif", "tiff", "webp", "avif", "heic", "heif",
        "hif", "jxl", "gif", "bmp", "dib", "jp2", "j2k", "j2c", "jpc", "jpx", "jpf", "pnm", "pbm", "pgm",
        "ppm", "pam", "tga", "vda", "icb", "vst", "ico", "exr", "hdr", "rgbe", // Camera raw, by maker.
        "dng", "3fr", "arw", "cr2", "cr3", "crw", "dcr", "erf", "iiq", "kdc", "mrw", "nef", "nrw", "orf",
        "pef", "raf", "raw", "rw2", "srw",
    ];
    ENDINGS.contains(&ending.as_str())
}
