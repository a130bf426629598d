//! The formats that are read, and how each is told from its first bytes.

use crate::MediaError;
use crate::decode::{bmp, embedded_preview};
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
    /// ISO/IEC 15444-1, JPEG 2000.
    Jp2,
    /// Portable pixmaps, greymaps, bitmaps and arbitrary maps.
    Pnm,
    /// Truevision TGA.
    Tga,
    /// The largest picture of an icon.
    Ico,
    /// OpenEXR, light in floating point.
    Exr,
    /// Radiance, light with a shared exponent.
    Hdr,
    /// Camera raw, seen through the preview inside it.
    Raw,
}

impl Format {
    /// Whether a file of it can be transparent in parts.
    pub fn may_be_transparent(self) -> bool {
        !matches!(self, Self::Jpeg | Self::Raw | Self::Hdr)
    }

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
            _ if bmp::is_bmp(file) => Ok(Self::Bmp),
            [0, 0, 0, 12, b'j', b'P', b' ', b' ', ..] | [0xff, 0x4f, 0xff, 0x51, ..] => Ok(Self::Jp2),
            [b'P', b'1'..=b'7', b' ' | b'\n' | b'\r' | b'\t' | b'#', ..] => Ok(Self::Pnm),
            [0, 0, 1, 0, 1..=255, _, ..] => Ok(Self::Ico),
            [0x76, 0x2f, 0x31, 0x01, ..] => Ok(Self::Exr),
            [b'#', b'?', ..] if file.starts_with(b"#?RADIANCE") || file.starts_with(b"#?RGBE") => {
                Ok(Self::Hdr)
            }
            [b'R', b'I', b'F', b'F', _, _, _, _, b'W', b'E', b'B', b'P', ..] => Ok(Self::WebP),
            [0xff, 0x0a, ..] | [0, 0, 0, 12, b'J', b'X', b'L', b' ', ..] => Ok(Self::Jxl),
            _ if embedded_preview::is_raw(file) => Ok(Self::Raw),
            [b'I', b'I', 42 | 43, 0, ..] | [b'M', b'M', 0, 42 | 43, ..] => Ok(Self::Tiff),
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
            // It has no mark at its beginning, so that all others are asked first.
            _ if is_tga(file) => Ok(Self::Tga),
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
            Self::Jp2 => "JPEG 2000",
            Self::Pnm => "PNM",
            Self::Tga => "TGA",
            Self::Ico => "icon",
            Self::Exr => "OpenEXR",
            Self::Hdr => "Radiance",
            Self::Raw => "camera raw",
        }
    }
}

/// Whether a head of 18 bytes makes sense as a TGA's in every field, or the file ends with the format's own mark.
fn is_tga(file: &[u8]) -> bool {
    let Some(head) = file.first_chunk::<18>() else { return false };
    let word = |at: usize| u16::from_le_bytes([head[at], head[at + 1]]);
    let (map, kind, map_bits, bits) = (head[1], head[2], head[7], head[16]);
    let by_kind = match kind {
        1 | 9 => map == 1 && bits == 8 && matches!(map_bits, 15 | 16 | 24 | 32) && word(5) > 0,
        2 | 10 => map == 0 && matches!(bits, 15 | 16 | 24 | 32),
        3 | 11 => map == 0 && matches!(bits, 8 | 16),
        _ => false,
    };
    let has_size = word(12) > 0 && word(14) > 0;
    by_kind && has_size && head[17] & 0xc0 == 0 || file.ends_with(b"TRUEVISION-XFILE.\0") && has_size
}
