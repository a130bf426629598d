//! JPEG: segments before the picture, and decoding whole or reduced by libjpeg-turbo.

use crate::{MediaError, bytes_text};
use rallo_engine::{Samples, Size};
use turbojpeg::{Colorspace, Compressor, Decompressor, Image, PixelFormat, ScalingFactor, Subsamp};

/// The largest reduction the decoder offers: 1/8.
pub const MAX_LEVEL: u8 = 3;

/// What stands before the picture.
#[derive(Default)]
pub struct Head {
    pub exif: Option<Vec<u8>>,
    pub icc: Option<Vec<u8>>,
    pub bits: u8,
}

/// Walks the marker segments (ITU-T T.81, B.1.1) up to the first scan; stops quietly where they make no sense.
pub fn head(file: &[u8]) -> Head {
    let mut head = Head { bits: 8, ..Head::default() };
    let mut icc: Vec<(u8, &[u8])> = Vec::new();
    let mut at = 2;
    while let Some(&[0xff, marker, high, low]) = file.get(at..at + 4) {
        let length = usize::from(u16::from_be_bytes([high, low]));
        let Some(body) = file.get(at + 4..at + 2 + length.max(2)) else { break };
        match marker {
            0xda => break,
            0xe1 => {
                if let Some(raw) = body.strip_prefix(b"Exif\0\0") {
                    head.exif.get_or_insert_with(|| raw.to_vec());
                }
            }
            0xe2 => {
                if let Some([number, _count, part @ ..]) = body.strip_prefix(b"ICC_PROFILE\0") {
                    icc.push((*number, part));
                }
            }
            0xc0..=0xc3 => head.bits = body.first().copied().unwrap_or(8),
            _ => {}
        }
        at += 2 + length.max(2);
    }
    if !icc.is_empty() {
        icc.sort_by_key(|(number, _)| *number);
        head.icc = Some(icc.into_iter().flat_map(|(_, part)| part).copied().collect());
    }
    head
}

/// Turns the decoder's message into one for people; `None` where the picture is whole in spite of it.
fn complaint(message: &str, file: &[u8]) -> Option<MediaError> {
    let low = message.to_lowercase();
    if low.contains("extraneous bytes") || low.contains("invalid sos") {
        None
    } else if low.contains("premature end") {
        Some(MediaError::Truncated(bytes_text(file.len() as u64)))
    } else {
        Some(MediaError::Damaged(message.to_owned()))
    }
}

/// Stored size, from the frame header.
pub fn size(file: &[u8]) -> Result<Size, MediaError> {
    let mut decoder = Decompressor::new().map_err(|e| MediaError::Damaged(e.to_string()))?;
    let header = decoder.read_header(file).map_err(|e| {
        let at_end = !file.windows(2).any(|w| w == [0xff, 0xda]);
        if at_end {
            MediaError::Truncated(bytes_text(file.len() as u64))
        } else {
            MediaError::Damaged(e.to_string())
        }
    })?;
    if matches!(header.colorspace, Colorspace::CMYK | Colorspace::YCCK) {
        return Err(MediaError::Unsupported("this JPEG is in CMYK, for print; save it as RGB first".into()));
    }
    Ok(Size::new(header.width as u32, header.height as u32))
}

/// Decodes at `1 / 2^level`, level 0 ..= 3.
pub fn decode(file: &[u8], level: u8) -> Result<(Size, Samples), MediaError> {
    let damaged = |e: turbojpeg::Error| MediaError::Damaged(e.to_string());
    let full = size(file)?;
    let mut decoder = Decompressor::new().map_err(damaged)?;
    let factor = ScalingFactor::new(1, 1 << level.min(MAX_LEVEL));
    decoder.set_scaling_factor(factor).map_err(damaged)?;
    decoder.set_scan_limit(500).map_err(damaged)?;
    let (width, height) = (factor.scale(full.width as usize), factor.scale(full.height as usize));
    let mut pixels = vec![0u8; width * height * 3];
    let image =
        Image { pixels: pixels.as_mut_slice(), width, pitch: width * 3, height, format: PixelFormat::RGB };
    if let Err(e) = decoder.decompress(file, image)
        && let Some(error) = complaint(&e.to_string(), file)
    {
        return Err(error);
    }
    Ok((Size::new(width as u32, height as u32), Samples::U8(pixels)))
}

/// Encodes interleaved RGB.
pub fn encode(
    size: Size,
    pixels: &[u8],
    quality: u8,
    chroma: Subsamp,
    (progressive, optimised): (bool, bool),
) -> Result<Vec<u8>, MediaError> {
    let run = || -> Result<Vec<u8>, turbojpeg::Error> {
        let mut encoder = Compressor::new()?;
        encoder.set_quality(i32::from(quality.clamp(1, 100)))?;
        encoder.set_subsamp(chroma)?;
        encoder.set_progressive(progressive)?;
        encoder.set_optimize(optimised)?;
        let (width, height) = (size.width as usize, size.height as usize);
        encoder.compress_to_vec(Image { pixels, width, pitch: width * 3, height, format: PixelFormat::RGB })
    };
    run().map_err(|e| MediaError::Encode { format: "JPEG", message: e.to_string() })
}
