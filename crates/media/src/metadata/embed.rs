//! What goes into a file beside its pixels: the mark, what is said about the picture, camera data, pixels per inch. Files that
//! are encoded get it, and files whose pixels are carried over as they are.

use crate::MediaError;
use crate::decode::Format;
use crate::encode::extras::Extras;
use crate::metadata::fields::DescriptiveFields;
use img_parts::jpeg::{Jpeg, JpegSegment, markers};
use img_parts::png::{Png, PngChunk};
use img_parts::riff::{RiffChunk, RiffContent};
use img_parts::webp::WebP;
use img_parts::{Bytes, ImageEXIF};

const XMP_JPEG: &[u8] = b"http://ns.adobe.com/xap/1.0/\0";
const MORE_XMP_JPEG: &[u8] = b"http://ns.adobe.com/xmp/extension/\0";
const XMP_PNG: &[u8] = b"XML:com.adobe.xmp\0";

/// Bytes that a JPEG's segment holds beside its length (ITU-T T.81, B.1.1.4).
const LONGEST_SEGMENT: usize = 65_533;

/// Into a JPEG that has none of it.
pub fn jpeg(file: &mut Jpeg, extras: &Extras) {
    if let Some(dpi) = extras.resolution {
        set_density(file, dpi);
    }
    let at = usize::from(file.segments().first().is_some_and(|s| s.marker() == markers::APP0));
    if let Some(iptc) = extras.words.segment() {
        file.segments_mut().insert(at, JpegSegment::new_with_contents(markers::APP13, iptc.into()));
    }
    if let Some(made) = &extras.made {
        let mut packet = [XMP_JPEG, made.xmp(&extras.words).as_bytes()].concat();
        if packet.len() > LONGEST_SEGMENT {
            // What other programs said does not fit in with the mark.
            let words = DescriptiveFields { others: Default::default(), ..extras.words.clone() };
            packet = [XMP_JPEG, made.xmp(&words).as_bytes()].concat();
        }
        file.segments_mut().insert(at, JpegSegment::new_with_contents(markers::APP1, packet.into()));
    }
    file.set_exif(extras.exif.clone().map(Bytes::from));
}

/// Into a PNG that has none of it.
pub fn png(file: &mut Png, extras: &Extras) {
    if let Some(made) = &extras.made {
        // iTXt: keyword, no compression, no language, no translation (W3C PNG, 11.3.3.4).
        let text = [XMP_PNG, b"\0\0\0\0".as_slice(), made.xmp(&extras.words).as_bytes()].concat();
        file.chunks_mut().insert(1, PngChunk::new(*b"iTXt", text.into()));
    }
    if let Some(dpi) = extras.resolution {
        // Pixels per metre, both ways, unit 1 (W3C PNG, 11.3.4.3).
        let per_metre = (f64::from(dpi) / 0.0254).round() as u32;
        let density = [per_metre.to_be_bytes(), per_metre.to_be_bytes()].concat();
        let content = [density, vec![1]].concat();
        file.chunks_mut().insert(1, PngChunk::new(*b"pHYs", content.into()));
    }
    file.set_exif(extras.exif.clone().map(Bytes::from));
}

/// Writes pixels per inch into the JFIF segment (ITU-T T.871, 10.1).
fn set_density(file: &mut Jpeg, dpi: u32) {
    let Some(segment) = file.segments_mut().iter_mut().find(|s| s.marker() == markers::APP0) else { return };
    let mut jfif = segment.contents().to_vec();
    if jfif.starts_with(b"JFIF\0") && jfif.len() >= 12 {
        let [high, low] = (dpi.min(65_535) as u16).to_be_bytes();
        jfif[7..12].copy_from_slice(&[1, high, low, high, low]);
        *segment = JpegSegment::new_with_contents(markers::APP0, jfif.into());
    }
}

/// Formats whose data can be changed around pixels that stay.
pub fn can_carry(format: Format) -> bool {
    matches!(format, Format::Jpeg | Format::Png | Format::WebP)
}

/// A file with its compressed pixels exactly as they are, and other data: camera data, words and mark are replaced, its
/// profile stays.
///
/// # Errors
/// [`MediaError::Unsupported`] for formats that cannot; a file that is none.
pub fn carried_over(file: &[u8], format: Format, extras: &Extras) -> Result<Vec<u8>, MediaError> {
    let damaged = |e: img_parts::Error| MediaError::Damaged(e.to_string());
    let bytes = Bytes::copy_from_slice(file);
    Ok(match format {
        Format::Jpeg => {
            let mut jpeg_file = Jpeg::from_bytes(bytes).map_err(damaged)?;
            let is_said = |s: &JpegSegment| match s.marker() {
                markers::APP1 => {
                    let c = s.contents();
                    c.starts_with(b"Exif\0\0") || c.starts_with(XMP_JPEG) || c.starts_with(MORE_XMP_JPEG)
                }
                markers::APP13 => true,
                _ => false,
            };
            jpeg_file.segments_mut().retain(|s| !is_said(s));
            jpeg(&mut jpeg_file, extras);
            jpeg_file.encoder().bytes().to_vec()
        }
        Format::Png => {
            let mut png_file = Png::from_bytes(bytes).map_err(damaged)?;
            let density = extras.resolution.is_some();
            png_file.chunks_mut().retain(|c| match &c.kind() {
                b"iTXt" => !c.contents().starts_with(XMP_PNG),
                b"pHYs" => !density,
                _ => true,
            });
            png(&mut png_file, extras);
            png_file.encoder().bytes().to_vec()
        }
        Format::WebP => {
            let mut webp = WebP::from_bytes(bytes).map_err(damaged)?;
            webp.remove_chunks_by_id(*b"XMP ");
            webp.set_exif(extras.exif.clone().map(Bytes::from));
            if let Some(made) = &extras.made {
                let xmp = made.xmp(&extras.words);
                let content = RiffContent::Data(Bytes::from(xmp.into_bytes()));
                extended(&mut webp);
                webp.chunks_mut().push(RiffChunk::new(*b"XMP ", content));
            }
            webp.encoder().bytes().to_vec()
        }
        _ => {
            return Err(MediaError::Unsupported(
                "the data of a file of this format cannot be changed around its pixels; deliver another format".into(),
            ));
        }
    })
}

/// Sees to the head that says that XMP follows (RFC 9649, 2.7).
fn extended(webp: &mut WebP) {
    let size = webp.dimensions();
    let head = webp.chunks().iter().position(|c| c.id() == *b"VP8X");
    let mut content = match head.and_then(|at| webp.chunks()[at].content().data()) {
        Some(data) => data.to_vec(),
        None => {
            let (width, height) = size.unwrap_or((1, 1));
            let side = |n: u32| (n.max(1) - 1).to_le_bytes();
            [&[0u8; 4][..], &side(width)[..3], &side(height)[..3]].concat()
        }
    };
    if let Some(flags) = content.first_mut() {
        *flags |= 0x04;
    }
    let chunk = RiffChunk::new(*b"VP8X", RiffContent::Data(content.into()));
    match head {
        Some(at) => webp.chunks_mut()[at] = chunk,
        None => webp.chunks_mut().insert(0, chunk),
    }
}
