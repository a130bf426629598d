//! Writing results: encoding with profile, camera data and the result's mark.

pub(crate) mod avif;
pub mod dng;
pub mod extras;
pub(crate) mod jxl;
pub(crate) mod png;
mod strips;
mod tiff;
pub(crate) mod webp;

pub use tiff::Packing;

use crate::decode::jpeg;
use crate::encode::extras::Extras;
use crate::metadata::embed;
use crate::{MediaError, bytes_text};
use img_parts::jpeg::Jpeg;
use img_parts::png::Png;
use img_parts::{Bytes, ImageICC};
use rallo_engine::{Encoded, Pixels};
use turbojpeg::Subsamp;

/// Chroma sampling of a JPEG.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Chroma {
    /// 4:4:4, one colour sample a pixel.
    Full,
    /// 4:2:2, one for two pixels of a row.
    Half,
    /// 4:2:0, one for four pixels.
    Quarter,
}

/// A format with its settings.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Encoding {
    /// JPEG.
    Jpeg {
        /// 1 ..= 100.
        quality: u8,
        /// Chroma sampling.
        chroma: Chroma,
        /// Several passes from coarse to fine, a little smaller.
        progressive: bool,
        /// Code tables of its own, a few per cent smaller.
        optimised: bool,
    },
    /// PNG with as many bits as the pixels have.
    Png,
    /// WebP.
    WebP {
        /// 1 ..= 100; nothing is lost without one.
        quality: Option<u8>,
    },
    /// AVIF in sRGB.
    Avif {
        /// 1 ..= 100.
        quality: u8,
    },
    /// JPEG XL with as many bits as the pixels have.
    Jxl {
        /// 1 ..= 100; nothing is lost without one.
        quality: Option<u8>,
    },
    /// TIFF with as many bits as the pixels have.
    Tiff {
        /// How it is packed.
        packing: Packing,
    },
}

impl Encoding {
    /// The same with another quality, where it has one.
    fn at(self, quality: u8) -> Option<Self> {
        match self {
            Self::Jpeg { chroma, progressive, optimised, .. } => {
                Some(Self::Jpeg { quality, chroma, progressive, optimised })
            }
            Self::WebP { quality: Some(_) } => Some(Self::WebP { quality: Some(quality) }),
            Self::Avif { .. } => Some(Self::Avif { quality }),
            Self::Jxl { quality: Some(_) } => Some(Self::Jxl { quality: Some(quality) }),
            Self::Png | Self::WebP { quality: None } | Self::Jxl { quality: None } | Self::Tiff { .. } => {
                None
            }
        }
    }

    fn quality(self) -> u8 {
        match self {
            Self::Jpeg { quality, .. }
            | Self::Avif { quality }
            | Self::WebP { quality: Some(quality) }
            | Self::Jxl { quality: Some(quality) } => quality,
            _ => 100,
        }
    }
}

/// As [`encode`], but with at most so many bytes: the quality goes down, by halving, to the highest that fits. The file and
/// its quality.
///
/// # Errors
/// As [`encode`]; and where the lowest quality is still too large, or the format has none to lower.
pub fn encode_within(
    picture: &Encoded,
    encoding: Encoding,
    extras: &Extras,
    limit: u64,
) -> Result<(Vec<u8>, u8), MediaError> {
    let most = encoding.quality();
    let file = encode(picture, encoding, extras)?;
    if file.len() as u64 <= limit {
        return Ok((file, most));
    }
    let too_large = |bytes: usize| MediaError::Encode {
        format: "a file of that size",
        message: format!(
            "{} at the lowest quality, where {} are allowed; make it smaller in pixels",
            bytes_text(bytes as u64),
            bytes_text(limit)
        ),
    };
    let (mut low, mut high) = (1u8, most);
    let lowest = encoding.at(low).ok_or_else(|| too_large(file.len()))?;
    let mut best = encode(picture, lowest, extras)?;
    if best.len() as u64 > limit {
        return Err(too_large(best.len()));
    }
    // `low` fits, `high` does not.
    while high - low > 1 {
        let middle = low + (high - low) / 2;
        let Some(encoding) = encoding.at(middle) else { break };
        let file = encode(picture, encoding, extras)?;
        if file.len() as u64 <= limit {
            (low, best) = (middle, file);
        } else {
            high = middle;
        }
    }
    Ok((best, low))
}

/// Encodes a rendered picture; the same input gives the same bytes.
///
/// # Errors
/// [`MediaError::Encode`].
pub fn encode(picture: &Encoded, encoding: Encoding, extras: &Extras) -> Result<Vec<u8>, MediaError> {
    match encoding {
        Encoding::Jpeg { quality, chroma, progressive, optimised } => {
            let fail = |message: String| MediaError::Encode { format: "JPEG", message };
            let Pixels::U8(pixels) = &picture.pixels else {
                return Err(fail("16-bit pixels were given".into()));
            };
            let chroma = match chroma {
                Chroma::Full => Subsamp::None,
                Chroma::Half => Subsamp::Sub2x1,
                Chroma::Quarter => Subsamp::Sub2x2,
            };
            let bare = jpeg::encode(picture.size, pixels, quality, chroma, (progressive, optimised))?;
            let mut file = Jpeg::from_bytes(bare.into()).map_err(|e| fail(e.to_string()))?;
            file.set_icc_profile(extras.icc.clone().map(Bytes::from));
            embed::jpeg(&mut file, extras);
            Ok(file.encoder().bytes().to_vec())
        }
        Encoding::WebP { quality } => webp::webp(picture, quality, extras),
        Encoding::Avif { quality } => avif::avif(picture, quality, extras),
        Encoding::Jxl { quality } => jxl::encode(picture, quality, extras),
        Encoding::Tiff { packing } => tiff::tiff(picture, packing, extras),
        Encoding::Png => {
            let fail = |message: String| MediaError::Encode { format: "PNG", message };
            let mut file =
                Png::from_bytes(png::encode(picture, extras)?.into()).map_err(|e| fail(e.to_string()))?;
            embed::png(&mut file, extras);
            file.set_icc_profile(extras.icc.clone().map(Bytes::from));
            Ok(file.encoder().bytes().to_vec())
        }
    }
}
