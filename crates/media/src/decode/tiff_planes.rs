//! Planes of a TIFF as pages of their own: libtiff's program mixes up planes that lie in tiles, and unpacks pages well.

use crate::decode::tiff_directory::{self as tags, Page};

/// Whole numbers, each in this many bytes.
type Entry = (u16, Vec<u64>, usize);

/// The file with a directory for every plane of a page behind its end, one after another.
pub(crate) fn as_pages(file: &[u8], page: &Page<'_>, planes: usize, big: bool) -> Option<Vec<u8>> {
    let little = page.is_little();
    let word = if big { 8 } else { 4 };
    let bytes = |value: u64, size: usize| -> Vec<u8> {
        if little { value.to_le_bytes()[..size].to_vec() } else { value.to_be_bytes()[8 - size..].to_vec() }
    };
    let mut out = file.to_vec();
    // Where the number stands that says where the next directory is.
    let mut pointer = if big { 8 } else { 4 };
    for plane in 0..planes {
        let entries = entries(page, plane, planes)?;
        let mut directory = bytes(entries.len() as u64, if big { 8 } else { 2 });
        for (tag, values, size) in &entries {
            // A byte number of the file may need all of it.
            let size = if *size == 4 { word } else { *size };
            let kind = match size {
                2 => 3,
                4 => 4,
                _ => 16,
            };
            directory.extend(bytes(u64::from(*tag), 2));
            directory.extend(bytes(kind, 2));
            directory.extend(bytes(values.len() as u64, word));
            let mut content: Vec<u8> = values.iter().flat_map(|v| bytes(*v, size)).collect();
            if content.len() > word {
                out.resize(out.len().next_multiple_of(2), 0);
                let at = out.len() as u64;
                out.append(&mut content);
                content = bytes(at, word);
            }
            content.resize(word, 0);
            directory.append(&mut content);
        }
        out.resize(out.len().next_multiple_of(8), 0);
        let at = bytes(out.len() as u64, word);
        out.get_mut(pointer..pointer + word)?.copy_from_slice(&at);
        out.append(&mut directory);
        pointer = out.len();
        out.resize(out.len() + word, 0);
    }
    Some(out)
}

/// What is said of one plane: a grey picture with that plane's parts.
fn entries(page: &Page<'_>, plane: usize, planes: usize) -> Option<Vec<Entry>> {
    let first = |tag: u16, size: usize| page.number(tag).map(|value| (tag, vec![value], size));
    let part = |tag: u16| {
        let numbers = page.numbers(tag);
        let count = numbers.len() / planes;
        (count > 0).then(|| (tag, numbers[plane * count..(plane + 1) * count].to_vec(), 4))
    };
    let tiled = page.number(tags::TILE_WIDTH).is_some();
    let (offsets, lengths) =
        if tiled { (tags::TILE_OFFSETS, tags::TILE_BYTES) } else { (tags::STRIP_OFFSETS, tags::STRIP_BYTES) };
    let mut entries: Vec<Entry> = [
        first(tags::WIDTH, 4),
        first(tags::LENGTH, 4),
        first(tags::BITS, 2),
        first(tags::COMPRESSION, 2),
        first(tags::FILL_ORDER, 2),
        first(tags::ROWS_PER_STRIP, 4),
        first(tags::PREDICTOR, 2),
        first(tags::TILE_WIDTH, 4),
        first(tags::TILE_LENGTH, 4),
        first(tags::SAMPLE_FORMAT, 2),
        Some((tags::PHOTOMETRIC, vec![1], 2)),
        Some((tags::SAMPLES, vec![1], 2)),
        Some((tags::PLANAR, vec![1], 2)),
    ]
    .into_iter()
    .flatten()
    .collect();
    entries.push(part(offsets)?);
    entries.push(part(lengths)?);
    entries.sort_by_key(|(tag, ..)| *tag);
    Some(entries)
}
