//! The formats that are read, and how each is told from its first bytes.

use crate::MediaError;
use crate::decode::embedded_preview;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Formats that are read.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Format {
    /// ITU-T T.81.
    Jpeg,
    /// W3C PNG.
    Png,
    /// TIFF 6.0.
    Tiff,
    /// WebP, RFC 9649.
    WebP,
    /// AV1 in the image file format, by libheif.
    Avif,
    /// ISO/IEC 23008-12, what telephones write, by libheif.
    Heic,
    /// ISO/IEC 18181, JPEG XL.
    Jxl,
    /// The first frame of a GIF.
    Gif,
    /// Windows bitmap.
    Bmp,
    /// Camera raw, seen through the preview inside it.
    Raw,
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
            [b'G', b'I', b'F', b'8', ..] => Ok(Self::Gif),
            [b'B', b'M', _, _, _, _, 0, 0, 0, 0, ..] => Ok(Self::Bmp),
            [b'R', b'I', b'F', b'F', _, _, _, _, b'W', b'E', b'B', b'P', ..] => Ok(Self::WebP),
            [0xff, 0x0a, ..] | [0, 0, 0, 12, b'J', b'X', b'L', b' ', ..] => Ok(Self::Jxl),
            _ if embedded_preview::is_raw(file) => Ok(Self::Raw),
            [b'I', b'I', 42, 0, ..] | [b'M', b'M', 0, 42, ..] => Ok(Self::Tiff),
            [_, _, _, _, b'f', b't', b'y', b'p', rest @ ..] => {
                let brands = &rest[..rest.len().min(40)];
                let has = |brand: &[u8; 4]| brands.as_chunks::<4>().0.contains(brand);
                if has(b"avif") {
                    Ok(Self::Avif)
                } else if has(b"heic") || has(b"heix") || has(b"mif1") {
                    Ok(Self::Heic)
                } else {
                    Err(MediaError::Unknown("a film or another kind of container".into()))
                }
            }
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

    /// Name for people.
    pub fn title(self) -> &'static str {
        match self {
            Self::Jpeg => "JPEG",
            Self::Png => "PNG",
            Self::Tiff => "TIFF",
            Self::WebP => "WebP",
            Self::Avif => "AVIF",
            Self::Heic => "HEIC",
            Self::Jxl => "JPEG XL",
            Self::Gif => "GIF",
            Self::Bmp => "BMP",
            Self::Raw => "camera raw",
        }
    }
}
