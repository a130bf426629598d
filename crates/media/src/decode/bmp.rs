//! Windows bitmaps. The `image` crate reads them; heads of OS/2 are written as it knows them, and a JPEG or PNG inside is
//! read as what it is.

use crate::MediaError;
use crate::decode::{Decoded, Format, Head, Wanted, image_crate, jpeg, png};
use std::borrow::Cow;

/// Lengths of the heads there are, from OS/2's first to Windows' fifth.
const HEADS: [u32; 9] = [12, 16, 40, 52, 56, 64, 108, 124, 48];

const FILE_HEAD: usize = 14;

fn word(file: &[u8], at: usize) -> Option<u32> {
    file.get(at..at + 4)?.try_into().ok().map(u32::from_le_bytes)
}

/// Whether a file is one.
pub(crate) fn is_bmp(file: &[u8]) -> bool {
    file.starts_with(b"BM") && word(file, FILE_HEAD).is_some_and(|head| HEADS.contains(&head))
}

/// A picture in another format that the bitmap only wraps.
enum Inside<'a> {
    Jpeg(&'a [u8]),
    Png(&'a [u8]),
}

fn inside(file: &[u8]) -> Option<Inside<'_>> {
    if word(file, FILE_HEAD)? < 40 {
        return None;
    }
    let pixels = file.get(word(file, 10)? as usize..)?;
    match word(file, 30)? {
        4 => Some(Inside::Jpeg(pixels)),
        5 => Some(Inside::Png(pixels)),
        _ => None,
    }
}

/// OS/2's second head, of 16 to 64 bytes, as the 40 bytes that Windows has for the same.
fn as_windows(file: &[u8]) -> Cow<'_, [u8]> {
    let (Some(length), Some(offset)) = (word(file, FILE_HEAD), word(file, 10)) else { return file.into() };
    if !matches!(length, 16 | 48 | 64) {
        return file.into();
    }
    let end = FILE_HEAD + length as usize;
    let (Some(head), Some(rest)) = (file.get(FILE_HEAD + 4..end), file.get(end..)) else {
        return file.into();
    };
    let kept = &head[..head.len().min(36)];
    let bytes = [
        &file[..10],
        &offset.saturating_add(40).saturating_sub(length).to_le_bytes(),
        &40u32.to_le_bytes(),
        kept,
        &vec![0; 36 - kept.len()],
        rest,
    ];
    bytes.concat().into()
}

/// What stands before the pixels.
pub(crate) fn head(file: &[u8]) -> Result<Head, MediaError> {
    match inside(file) {
        Some(Inside::Jpeg(inside)) => {
            let head = jpeg::head(inside);
            Ok(Head { size: jpeg::size(inside, &head)?, bits: 8, ..Head::default() })
        }
        Some(Inside::Png(inside)) => png::head(inside),
        None => image_crate::head(&as_windows(file), Format::Bmp),
    }
}

/// The pixels.
pub(crate) fn decode(file: &[u8], wanted: &Wanted<'_>) -> Result<Decoded, MediaError> {
    match inside(file) {
        Some(Inside::Jpeg(inside)) => jpeg::decode(inside, 0, wanted),
        Some(Inside::Png(inside)) => png::decode(inside, wanted),
        None => image_crate::decode(&as_windows(file), Format::Bmp, wanted),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_head_of_64_bytes_becomes_one_of_40_and_the_pixels_stay() {
        // Two pixels of 24 bits: red and blue.
        let pixels = [0, 0, 255, 255, 0, 0, 0, 0];
        let mut file = b"BM\0\0\0\0\0\0\0\0\x4e\0\0\0\x40\0\0\0\x02\0\0\0\x01\0\0\0\x01\0\x18\0".to_vec();
        file.resize(14 + 64, 0);
        file.extend(pixels);
        assert!(is_bmp(&file));
        let decoded = decode(&file, &Wanted::default()).unwrap();
        let rallo_engine::Samples::U8(rgb) = decoded.samples else { panic!() };
        assert_eq!(rgb, [255, 0, 0, 0, 0, 255]);
    }
}
