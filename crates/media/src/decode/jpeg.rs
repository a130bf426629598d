//! JPEG: segments before the picture, and decoding whole or reduced by libjpeg-turbo.

use crate::decode::{Decoded, Wanted, device_colour};
use crate::{MediaError, bytes_text};
use rallo_engine::{Samples, Size};
use std::borrow::Cow;
use std::ops::Range;
use turbojpeg::{Colorspace, Compressor, Decompressor, Image, PixelFormat, ScalingFactor, Subsamp};

/// The largest reduction the decoder offers: 1/8.
pub const MAX_LEVEL: u8 = 3;

/// What stands before the picture.
#[derive(Default)]
pub struct Head {
    pub exif: Option<Vec<u8>>,
    pub icc: Option<Vec<u8>>,
    pub bits: u8,
    /// Whether nothing is lost in it: such a file has no reductions.
    pub is_lossless: bool,
    /// Whether a marker says that inks are written the other way round, as most programs do.
    adobe: bool,
    /// What is odd, and does the picture no harm.
    pub notes: Vec<String>,
    /// The parts of the file that the picture needs: what lies between them may confuse the decoder.
    needed: Vec<Range<usize>>,
}

/// Walks the marker segments (ITU-T T.81, B.1.1) up to the first scan; passes over bytes that are none.
pub fn head(file: &[u8]) -> Head {
    let mut head = Head { bits: 8, ..Head::default() };
    let mut icc: Vec<(u8, u8, &[u8])> = Vec::new();
    let mut between = 0;
    let mut at = 2;
    while let Some(&[prefix, marker]) = file.get(at..at + 2) {
        // Markers stand alone, may be filled up with FF, and FF00 is none.
        if prefix != 0xff || matches!(marker, 0x00 | 0xff | 0x01 | 0xd0..=0xd8) {
            between += usize::from(prefix != 0xff || marker == 0);
            at += if prefix == 0xff && matches!(marker, 0x01 | 0xd0..=0xd8) { 2 } else { 1 };
            continue;
        }
        let Some(&[high, low]) = file.get(at + 2..at + 4) else { break };
        let length = usize::from(u16::from_be_bytes([high, low])).max(2);
        let Some(body) = file.get(at + 4..at + 2 + length) else { break };
        let whole = at..at + 2 + length;
        match marker {
            0xda => {
                head.needed.push(at..file.len());
                break;
            }
            0xe0 if body.starts_with(b"JFIF\0") && body.len() >= 14 => head.needed.push(whole),
            0xe1 => {
                if let Some(raw) = body.strip_prefix(b"Exif\0\0") {
                    head.exif.get_or_insert_with(|| raw.to_vec());
                }
            }
            0xe2 => {
                if let Some([number, count, part @ ..]) = body.strip_prefix(b"ICC_PROFILE\0") {
                    icc.push((*number, *count, part));
                }
            }
            0xee if body.starts_with(b"Adobe") && body.len() >= 12 => {
                head.adobe = true;
                head.needed.push(whole);
            }
            0xc0..=0xcf if !matches!(marker, 0xc4 | 0xc8 | 0xcc) => {
                head.bits = body.first().copied().unwrap_or(8);
                head.is_lossless = matches!(marker, 0xc3 | 0xc7 | 0xcb | 0xcf);
                head.needed.push(whole);
            }
            0xc4 | 0xcc | 0xdb | 0xdd => head.needed.push(whole),
            _ => {}
        }
        at += 2 + length;
    }
    if between > 0 {
        head.notes
            .push(format!("{between} bytes before the picture belong to nothing and were passed over."));
    }
    icc.sort_by_key(|(number, ..)| *number);
    let is_whole = icc
        .iter()
        .enumerate()
        .all(|(i, (number, count, _))| usize::from(*number) == i + 1 && usize::from(*count) == icc.len());
    if icc.is_empty() {
    } else if is_whole {
        head.icc = Some(icc.into_iter().flat_map(|(.., part)| part).copied().collect());
    } else {
        head.notes.push("Its colour profile is not whole and was passed over.".into());
    }
    head
}

/// The file without what lies between the parts its picture needs.
fn tidied(file: &[u8], head: &Head) -> Vec<u8> {
    let parts = head.needed.iter().map(|part| &file[part.clone()]);
    std::iter::once(&[0xff, 0xd8][..]).chain(parts).flatten().copied().collect()
}

/// What a message of the decoder means for the picture.
enum Harm {
    /// It is whole.
    None,
    /// It ends early.
    CutOff,
    /// From some place on it is not what it was.
    Partly,
    /// There is nothing to show.
    All,
}

/// libjpeg's warnings, by the words of its own list of messages; all else are failures.
fn harm(message: &str) -> Harm {
    let low = message.to_lowercase();
    let has = |words: &[&str]| words.iter().any(|w| low.contains(w));
    if has(&["premature end of jpeg", "premature end of data"]) {
        Harm::CutOff
    } else if has(&["bad huffman", "bad arithmetic", "inconsistent progression", "instead of rst"]) {
        Harm::Partly
    } else if has(&["extraneous bytes", "invalid sos", "unknown adobe", "unknown jfif", "bad icc"]) {
        Harm::None
    } else {
        Harm::All
    }
}

/// The decoder's own words, without its name.
fn words(error: &turbojpeg::Error) -> String {
    let text = error.to_string();
    text.strip_prefix("TurboJPEG error: ").unwrap_or(&text).to_owned()
}

/// The file as the decoder takes it, with what stands before its picture; another one than `file` where bytes in between
/// would stop it.
fn readable<'a>(
    file: &'a [u8],
    head: &Head,
) -> Result<(Cow<'a, [u8]>, turbojpeg::DecompressHeader), MediaError> {
    let mut decoder = Decompressor::new().map_err(|e| MediaError::Damaged(words(&e)))?;
    let refused = match decoder.read_header(file) {
        Ok(header) => return Ok((file.into(), header)),
        Err(e) => words(&e),
    };
    let tidy = tidied(file, head);
    if let Ok(header) = decoder.read_header(&tidy) {
        return Ok((tidy.into(), header));
    }
    Err(if !file.windows(2).any(|w| w == [0xff, 0xda]) {
        MediaError::Truncated(bytes_text(file.len() as u64))
    } else {
        refused_of(head, refused)
    })
}

/// What the decoder does not take: of more bits than it reads, or damaged.
fn refused_of(head: &Head, message: String) -> MediaError {
    if head.bits > 8 {
        MediaError::Unsupported(format!("a JPEG of {} bits, which the decoder does not read", head.bits))
    } else {
        MediaError::Damaged(message)
    }
}

/// Stored size, from the frame header.
pub fn size(file: &[u8], head: &Head) -> Result<Size, MediaError> {
    let (_, header) = readable(file, head)?;
    Ok(Size::new(header.width as u32, header.height as u32))
}

/// Decodes at `1 / 2^level`, level 0 ..= 3.
pub fn decode(file: &[u8], level: u8, wanted: &Wanted<'_>) -> Result<Decoded, MediaError> {
    let damaged = |e: turbojpeg::Error| MediaError::Damaged(words(&e));
    let head = head(file);
    let (file, header) = readable(file, &head)?;
    let inks = matches!(header.colorspace, Colorspace::CMYK | Colorspace::YCCK);
    let mut decoder = Decompressor::new().map_err(damaged)?;
    let factor = ScalingFactor::new(1, 1 << level.min(MAX_LEVEL));
    decoder.set_scaling_factor(factor).map_err(damaged)?;
    decoder.set_scan_limit(500).map_err(damaged)?;
    let (width, height) = (factor.scale(header.width), factor.scale(header.height));
    let (format, channels) = if inks { (PixelFormat::CMYK, 4) } else { (PixelFormat::RGB, 3) };
    let mut pixels = vec![0u8; width * height * channels];
    let image = Image { pixels: pixels.as_mut_slice(), width, pitch: width * channels, height, format };
    let mut notes = Vec::new();
    if let Err(e) = decoder.decompress(&file, image) {
        let message = words(&e);
        match harm(&message) {
            Harm::None => notes.push(format!("The decoder says: {message}.")),
            Harm::CutOff if wanted.part => {
                notes.push("It is cut off; the part that is there is shown.".into())
            }
            Harm::Partly if wanted.part => notes.push(format!("It is damaged in part ({message}).")),
            Harm::CutOff => return Err(MediaError::Truncated(bytes_text(file.len() as u64))),
            Harm::Partly | Harm::All => return Err(refused_of(&head, message)),
        }
    }
    let size = Size::new(width as u32, height as u32);
    if inks {
        let ink = |v: &u8| u16::from(if head.adobe { !v } else { *v }) * 257;
        let values: Vec<u16> = pixels.iter().map(ink).collect();
        let (samples, icc) = device_colour::inks(&values, wanted.icc);
        return Ok(Decoded { icc, notes, ..Decoded::plain(size, samples) });
    }
    Ok(Decoded { notes, ..Decoded::plain(size, Samples::U8(pixels)) })
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
