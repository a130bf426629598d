//! GIF: the first picture. A file without any table of colours is read as greys.

use crate::MediaError;
use crate::decode::{Decoded, Format, Head, Wanted, image_crate};
use std::borrow::Cow;

/// Where the packed fields of the screen's description stand (GIF89a, section 18).
const FIELDS: usize = 10;

/// The file with a table of greys for all its pictures, where it has none of its own for all.
fn with_table(file: &[u8]) -> Cow<'_, [u8]> {
    match file.get(FIELDS) {
        Some(fields) if fields & 0x80 == 0 && file.len() > 13 => {
            let greys: Vec<u8> = (0..=255).flat_map(|v| [v; 3]).collect();
            let mut bytes = [&file[..13], &greys, &file[13..]].concat();
            bytes[FIELDS] = 0x87 | fields & 0x70;
            bytes.into()
        }
        _ => file.into(),
    }
}

/// What stands before the pixels.
pub(crate) fn head(file: &[u8]) -> Result<Head, MediaError> {
    image_crate::head(&with_table(file), Format::Gif)
}

/// The pixels.
pub(crate) fn decode(file: &[u8], wanted: &Wanted<'_>) -> Result<Decoded, MediaError> {
    image_crate::decode(&with_table(file), Format::Gif, wanted)
}
