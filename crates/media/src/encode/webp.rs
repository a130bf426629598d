//! WebP, lossy and lossless, with its data around the pixels.

use crate::MediaError;
use crate::encode::extras::{Extras, Interleaved};
use crate::encode::tiff::{eight, fail};
use rallo_engine::{Encoded, Size};

/// One chunk of RIFF, padded to an even length.
pub(super) fn chunk(kind: &[u8; 4], data: &[u8]) -> Vec<u8> {
    let pad = if data.len() % 2 == 1 { &[0u8][..] } else { &[] };
    [kind.as_slice(), &(data.len() as u32).to_le_bytes(), data, pad].concat()
}

/// WebP (RFC 9649); `quality` 0 ..= 100, nothing is lost without one.
pub fn webp(picture: &Encoded, quality: Option<u8>, extras: &Extras) -> Result<Vec<u8>, MediaError> {
    const LONGEST: u32 = 16_383;
    let Size { width, height } = picture.size;
    if picture.size.long_edge() > LONGEST {
        return Err(fail("WebP", format!("{width} × {height} pixels; a WebP has at most {LONGEST} a side")));
    }
    let pixels = eight(picture, "WebP")?;
    let covered = extras.with_coverage(picture);
    let encoder = match &covered {
        Some(Interleaved::U8(v)) => webp::Encoder::from_rgba(v, width, height),
        _ => webp::Encoder::from_rgb(pixels, width, height),
    };
    let bare = match quality {
        Some(quality) => encoder.encode(f32::from(quality)),
        None => encoder.encode_lossless(),
    };
    // The bare file is RIFF, its length, WEBP, and one chunk of pixels.
    // With coverage, or without it being asked, an extended head may stand before that.
    let image = match bare.get(12..) {
        Some(body) if body.starts_with(b"VP8X") => body.get(18..),
        body => body.filter(|i| i.starts_with(b"VP8")),
    };
    let image = image.ok_or_else(|| fail("WebP", "no pixels came out"))?;
    let xmp = extras.made.as_ref().map(|m| m.xmp(&extras.words));
    let flag = |is: bool, bit: u8| if is { bit } else { 0 };
    let flags = flag(extras.icc.is_some(), 0x20)
        | flag(covered.is_some(), 0x10)
        | flag(extras.exif.is_some(), 0x08)
        | flag(xmp.is_some(), 0x04);
    let side = |n: u32| (n - 1).to_le_bytes();
    let mut head = vec![flags, 0, 0, 0];
    head.extend(&side(width)[..3]);
    head.extend(&side(height)[..3]);
    let mut body = chunk(b"VP8X", &head);
    if let Some(icc) = &extras.icc {
        body.extend(chunk(b"ICCP", icc));
    }
    body.extend(image);
    if let Some(exif) = &extras.exif {
        body.extend(chunk(b"EXIF", exif));
    }
    if let Some(xmp) = xmp {
        body.extend(chunk(b"XMP ", xmp.as_bytes()));
    }
    Ok([b"RIFF".as_slice(), &(body.len() as u32 + 4).to_le_bytes(), b"WEBP", &body].concat())
}
