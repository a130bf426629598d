//! What a TIFF says of its pages (TIFF 6.0 and BigTIFF): the numbers behind the tags, without looking at the pixels.

use crate::MediaError;
use std::collections::{HashMap, HashSet};

/// Pages that are looked at; a file with more is read all the same.
const MOST_PAGES: usize = 1000;

/// Directories that are looked at where all are.
const MOST_DIRECTORIES: usize = 64;

/// Values of one tag that are read.
const MOST_VALUES: u64 = 10_000_000;

/// Fractions of one tag that are read.
const MOST_FRACTIONS: u64 = 1_000_000;

pub(crate) const NEW_SUBFILE: u16 = 254;
pub(crate) const WIDTH: u16 = 256;
pub(crate) const LENGTH: u16 = 257;
pub(crate) const BITS: u16 = 258;
pub(crate) const COMPRESSION: u16 = 259;
pub(crate) const PHOTOMETRIC: u16 = 262;
pub(crate) const FILL_ORDER: u16 = 266;
pub(crate) const STRIP_OFFSETS: u16 = 273;
pub(crate) const SAMPLES: u16 = 277;
pub(crate) const ROWS_PER_STRIP: u16 = 278;
pub(crate) const STRIP_BYTES: u16 = 279;
pub(crate) const PLANAR: u16 = 284;
pub(crate) const PREDICTOR: u16 = 317;
const SUB_DIRECTORIES: u16 = 330;
pub(super) const EXIF: u16 = 34_665;
pub(super) const GPS: u16 = 34_853;
pub(super) const INTEROPERABILITY: u16 = 40_965;
pub(crate) const COLOUR_MAP: u16 = 320;
pub(crate) const TILE_WIDTH: u16 = 322;
pub(crate) const TILE_LENGTH: u16 = 323;
pub(crate) const TILE_OFFSETS: u16 = 324;
pub(crate) const TILE_BYTES: u16 = 325;
pub(crate) const EXTRA_SAMPLES: u16 = 338;
pub(crate) const SAMPLE_FORMAT: u16 = 339;
pub(crate) const PROFILE: u16 = 34_675;

/// Bytes of one value of a kind; nothing for a kind that is not known.
pub(super) fn size_of(kind: u16) -> Option<u64> {
    Some(match kind {
        1 | 2 | 6 | 7 => 1,
        3 | 8 => 2,
        4 | 9 | 11 | 13 => 4,
        5 | 10 | 12 | 16..=18 => 8,
        _ => return None,
    })
}

/// The bytes of a file and how its numbers are written.
#[derive(Clone, Copy)]
pub(super) struct Bytes<'a> {
    file: &'a [u8],
    pub little: bool,
    big_tiff: bool,
}

/// Whether a file begins as a TIFF that is no BigTIFF.
pub(crate) fn is_classic(file: &[u8]) -> bool {
    matches!(file, [b'M', b'M', 0, 42, ..] | [b'I', b'I', 42, 0, ..])
}

impl<'a> Bytes<'a> {
    /// A file's, and where its first directory stands.
    pub fn of(file: &'a [u8]) -> (Self, Option<u64>) {
        let little = file.starts_with(b"II");
        let big_tiff = Bytes { file, little, big_tiff: false }.number(2, 2) == Some(43);
        let bytes = Self { file, little, big_tiff };
        (bytes, if big_tiff { bytes.number(8, 8) } else { bytes.number(4, 4) })
    }

    /// A whole number of `size` bytes.
    fn number(self, at: u64, size: u64) -> Option<u64> {
        let start = usize::try_from(at).ok()?;
        let bytes = self.file.get(start..start.checked_add(size as usize)?)?;
        let join = |number: u64, byte: &u8| number << 8 | u64::from(*byte);
        Some(if self.little { bytes.iter().rev().fold(0, join) } else { bytes.iter().fold(0, join) })
    }
}

/// One page.
pub(crate) struct Page<'a> {
    bytes: Bytes<'a>,
    /// Kind of value, number of values, and where they stand, by tag.
    pub(super) entries: HashMap<u16, (u16, u64, u64)>,
}

impl<'a> Page<'a> {
    /// The whole numbers of a tag; empty where it is missing or of another kind.
    pub fn numbers(&self, tag: u16) -> Vec<u64> {
        let Some(&(kind, count, at)) = self.entries.get(&tag) else { return Vec::new() };
        let Some(size) = size_of(kind).filter(|_| !matches!(kind, 2 | 5 | 10..=12)) else {
            return Vec::new();
        };
        (0..count.min(MOST_VALUES)).map_while(|i| self.bytes.number(at + i * size, size)).collect()
    }

    /// Whether it has a tag.
    pub fn has(&self, tag: u16) -> bool {
        self.entries.contains_key(&tag)
    }

    /// The first number of a tag.
    pub fn number(&self, tag: u16) -> Option<u64> {
        self.numbers(tag).first().copied()
    }

    /// The first number of a tag that has a usual value.
    pub fn number_or(&self, tag: u16, usual: u64) -> u64 {
        self.number(tag).unwrap_or(usual)
    }

    /// The fractions of a tag, signed or not.
    pub fn fractions(&self, tag: u16) -> Vec<f64> {
        let Some(&(kind, count, at)) = self.entries.get(&tag) else { return Vec::new() };
        let part = |at: u64| self.bytes.number(at, 4).map(|n| n as u32);
        let number = |n: u32| if kind == 10 { f64::from(n as i32) } else { f64::from(n) };
        let fraction = |i: u64| {
            let below = number(part(at + i * 8 + 4)?);
            (below != 0.0).then_some(number(part(at + i * 8)?) / below)
        };
        match kind {
            5 | 10 => (0..count.min(MOST_FRACTIONS)).map_while(fraction).collect(),
            11 => (0..count.min(MOST_FRACTIONS))
                .map_while(|i| part(at + i * 4))
                .map(|n| f64::from(f32::from_bits(n)))
                .collect(),
            12 => (0..count.min(MOST_FRACTIONS))
                .map_while(|i| self.bytes.number(at + i * 8, 8))
                .map(f64::from_bits)
                .collect(),
            _ => Vec::new(),
        }
    }

    /// The bytes of a tag.
    pub fn bytes(&self, tag: u16) -> Option<&'a [u8]> {
        let &(_, count, at) = self.entries.get(&tag)?;
        let start = usize::try_from(at).ok()?;
        self.bytes.file.get(start..start.checked_add(usize::try_from(count).ok()?)?)
    }

    /// A part of the file.
    pub fn part(&self, at: u64, length: u64) -> Option<&'a [u8]> {
        let start = usize::try_from(at).ok()?;
        self.bytes.file.get(start..start.checked_add(usize::try_from(length).ok()?)?)
    }

    pub fn is_little(&self) -> bool {
        self.bytes.little
    }

    /// Whether it is a small picture of another page, or a mask.
    fn is_secondary(&self) -> bool {
        self.number_or(NEW_SUBFILE, 0) & 0b101 != 0
    }
}

/// Every directory of a file, those below others too, in no order; those that make no sense are passed over.
pub(crate) fn every(file: &[u8]) -> Vec<Page<'_>> {
    let (bytes, first) = Bytes::of(file);
    let (mut open, mut found): (Vec<u64>, _) = (first.into_iter().collect(), Vec::new());
    let mut looked = 0;
    while let Some(at) = open.pop() {
        looked += 1;
        let Some((page, after)) = page(bytes, at).filter(|_| looked < MOST_DIRECTORIES) else { continue };
        open.extend(page.numbers(SUB_DIRECTORIES).into_iter().take(16));
        open.extend(after.filter(|next| *next != 0));
        found.push(page);
    }
    found
}

/// Tags whose values are places of directories: those below, of EXIF, of places on the earth, of interoperability.
pub(super) const DIRECTORIES: [u16; 4] = [SUB_DIRECTORIES, EXIF, GPS, INTEROPERABILITY];

/// Tags by which a reader makes room.
const SIZES: [u16; 7] = [WIDTH, LENGTH, BITS, SAMPLES, ROWS_PER_STRIP, TILE_WIDTH, TILE_LENGTH];

/// Directories of a file that is read by others; one with more is refused.
pub(super) const MOST_FOLLOWED: usize = 4096;

/// Directories below each other.
const DEEPEST: usize = 64;

/// Whether a reader that does not look out comes to an end in a file, and with the memory there is: no tag says that it has
/// more values than the file has bytes, sizes are told once and in whole numbers, and no directory leads back to itself. Files
/// that are no TIFF do.
///
/// # Errors
/// [`MediaError::Damaged`] with what is wrong.
pub(crate) fn comes_to_an_end(file: &[u8]) -> Result<(), MediaError> {
    if !file.starts_with(b"II") && !file.starts_with(b"MM") {
        return Ok(());
    }
    let (bytes, first) = Bytes::of(file);
    let mut walk = Walk { bytes, above: Vec::new(), followed: 0, depth: 0 };
    first.map_or(Ok(()), |first| walk.chain(first)).map_err(|why| MediaError::Damaged(why.into()))
}

/// A way through the directories of a file.
struct Walk<'a> {
    bytes: Bytes<'a>,
    /// Those it came through, next pages as well as those above.
    above: Vec<u64>,
    followed: usize,
    depth: usize,
}

impl Walk<'_> {
    /// A directory, those below it, and the next ones.
    fn chain(&mut self, first: u64) -> Result<(), &'static str> {
        let begin = self.above.len();
        let mut next = Some(first);
        while let Some(at) = next.filter(|at| *at != 0) {
            if self.above.contains(&at) {
                return Err("one of its directories leads back to itself");
            }
            self.above.push(at);
            self.followed += 1;
            if self.followed > MOST_FOLLOWED {
                return Err("it has more directories than any camera writes");
            }
            next = self.directory(at)?;
        }
        self.above.truncate(begin);
        Ok(())
    }

    /// One below that it is at.
    fn below(&mut self, at: u64) -> Result<(), &'static str> {
        if self.depth == DEEPEST {
            return Err("its directories lie too deep in each other");
        }
        self.depth += 1;
        self.chain(at)?;
        self.depth -= 1;
        Ok(())
    }

    /// Looks at one; where the next stands.
    fn directory(&mut self, at: u64) -> Result<Option<u64>, &'static str> {
        let bytes = self.bytes;
        let (head, entry, wide) = if bytes.big_tiff { (8, 20, 8) } else { (2, 12, 4) };
        let Some(count) = bytes.number(at, head) else { return Ok(None) };
        let mut sizes = Vec::new();
        for i in 0..count.min(65_536) {
            let at = at.saturating_add(head + i * entry);
            let kind = bytes.number(at.saturating_add(2), 2);
            let (Some(tag), Some(kind), Some(values)) =
                (bytes.number(at, 2), kind, bytes.number(at.saturating_add(4), wide))
            else {
                break;
            };
            let size = size_of(kind as u16).unwrap_or(1);
            if values.saturating_mul(size) > bytes.file.len() as u64 {
                return Err("a part of it is said to be larger than the whole file");
            }
            if SIZES.contains(&(tag as u16)) {
                // Readers differ in which of two they take, and in what they make of a fraction.
                if sizes.contains(&tag) || !matches!(kind, 1 | 3 | 4 | 16) {
                    return Err("a size of it is told twice, or in no whole number");
                }
                sizes.push(tag);
            }
            if DIRECTORIES.contains(&(tag as u16)) && values > 0 {
                let inside = values.saturating_mul(size) <= wide;
                let place = at.saturating_add(4 + wide);
                let place = if inside { Some(place) } else { bytes.number(place, wide) };
                for k in 0..values.min(MOST_FOLLOWED as u64) {
                    let below = place.and_then(|place| bytes.number(place.saturating_add(k * size), size));
                    if let Some(below) = below {
                        self.below(below)?;
                    }
                }
            }
        }
        Ok(bytes.number(at.saturating_add(head + count.min(65_536) * entry), wide))
    }
}

/// The pages of a file, and which of them is the picture: the first that is no reduced one and no mask.
pub(crate) struct Directory<'a> {
    pub pages: Vec<Page<'a>>,
    pub chosen: usize,
    pub is_big: bool,
}

impl<'a> Directory<'a> {
    /// Reads the pages up to the first that makes no sense.
    ///
    /// # Errors
    /// [`MediaError::Damaged`] where there is none with a width and a height.
    pub fn read(file: &'a [u8]) -> Result<Self, MediaError> {
        let damaged = || MediaError::Damaged("the TIFF has no readable page".into());
        let (bytes, mut next) = Bytes::of(file);
        let (mut pages, mut seen) = (Vec::new(), HashSet::new());
        while let Some(at) = next.filter(|at| *at != 0 && pages.len() < MOST_PAGES && seen.insert(*at)) {
            let Some((page, after)) = page(bytes, at) else { break };
            let has_size = |tag| page.number(tag).is_some_and(|n| n > 0);
            if has_size(WIDTH) && has_size(LENGTH) {
                pages.push(page);
            }
            next = after;
        }
        let chosen = pages.iter().position(|p| !p.is_secondary()).unwrap_or(0);
        if pages.is_empty() { Err(damaged()) } else { Ok(Self { pages, chosen, is_big: bytes.big_tiff }) }
    }

    /// The page that is the picture.
    pub fn picture(&self) -> &Page<'a> {
        &self.pages[self.chosen]
    }
}

/// A page, and where the next one stands.
pub(super) fn page(bytes: Bytes<'_>, at: u64) -> Option<(Page<'_>, Option<u64>)> {
    let (head, entry, wide) = if bytes.big_tiff { (8, 20, 8) } else { (2, 12, 4) };
    let count = bytes.number(at, head)?;
    if count > 4096 {
        return None;
    }
    let mut entries = HashMap::new();
    for i in 0..count {
        let start = at.checked_add(head + i * entry)?;
        let (Some(tag), Some(kind)) = (bytes.number(start, 2), bytes.number(start + 2, 2)) else { break };
        let Some(number) = bytes.number(start + 4, wide) else { break };
        let size = size_of(kind as u16).unwrap_or(8);
        let inline = number.checked_mul(size).is_some_and(|n| n <= wide);
        let values = start + 4 + wide;
        let place = if inline { Some(values) } else { bytes.number(values, wide) };
        if let Some(place) = place {
            entries.entry(tag as u16).or_insert((kind as u16, number, place));
        }
    }
    let after = at.checked_add(head + count * entry).and_then(|end| bytes.number(end, wide));
    Some((Page { bytes, entries }, after))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A TIFF of directories at given places, each with one entry that names another below it, and the next.
    fn of_directories(each: &[(u32, u32, u32)]) -> Vec<u8> {
        let mut file = b"II\x2a\0".to_vec();
        file.extend(each[0].0.to_le_bytes());
        file.resize(200, 0);
        for (at, below, next) in each {
            let mut directory = vec![1, 0, 0x4a, 1, 4, 0, 1, 0, 0, 0];
            directory.extend(below.to_le_bytes());
            directory.extend(next.to_le_bytes());
            file[*at as usize..*at as usize + directory.len()].copy_from_slice(&directory);
        }
        file
    }

    #[test]
    fn directories_that_lead_back_to_themselves_are_refused() {
        let said =
            |each: &[(u32, u32, u32)]| comes_to_an_end(&of_directories(each)).map_err(|e| e.to_string());
        // Two pages, with one below the first; and one that two others name is no circle.
        assert_eq!(said(&[(8, 40, 80), (40, 0, 0), (80, 0, 0)]), Ok(()));
        assert_eq!(said(&[(8, 40, 80), (40, 0, 0), (80, 40, 0)]), Ok(()));
        for circle in [
            &[(8, 0, 8)][..],
            &[(8, 8, 0)],
            &[(8, 40, 0), (40, 8, 0)],
            &[(8, 40, 0), (40, 0, 8)],
            &[(8, 0, 40), (40, 0, 80), (80, 0, 40)],
        ] {
            let said = said(circle).unwrap_err();
            assert!(said.contains("leads back to itself"), "{circle:?}: {said}");
        }
        let large = [&b"II\x2a\0\x08\0\0\0\x01\0\x11\x01\x04\0"[..], &[255, 255, 0, 0], &[0; 8]].concat();
        assert!(comes_to_an_end(&large).unwrap_err().to_string().contains("larger than the whole file"));
        assert!(comes_to_an_end(b"no TIFF").is_ok());
        let entry = |kind: u8| [1u8, 1, kind, 0, 1, 0, 0, 0, 9, 0, 0, 0];
        let told = |kinds: &[u8]| {
            let head = [&b"II\x2a\0\x08\0\0\0"[..], &(kinds.len() as u16).to_le_bytes()].concat();
            comes_to_an_end(
                &[&head[..], &kinds.iter().flat_map(|k| entry(*k)).collect::<Vec<_>>(), &[0; 4]].concat(),
            )
        };
        assert!(told(&[4]).is_ok() && told(&[4, 4]).is_err() && told(&[5]).is_err());
    }

    #[test]
    fn cut_and_circular_files_end() {
        // One page that names itself as the next, with a width and a height.
        let mut file = b"II\x2a\0\x08\0\0\0\x02\0".to_vec();
        file.extend([0, 1, 3, 0, 1, 0, 0, 0, 5, 0, 0, 0]);
        file.extend([1, 1, 4, 0, 1, 0, 0, 0, 7, 0, 0, 0]);
        file.extend([8, 0, 0, 0]);
        let directory = Directory::read(&file).unwrap();
        assert_eq!(directory.pages.len(), 1);
        assert_eq!(
            (directory.picture().number(WIDTH), directory.picture().number(LENGTH)),
            (Some(5), Some(7))
        );
        assert!(directory.picture().numbers(BITS).is_empty());
        for length in 0..file.len() {
            let _ = Directory::read(&file[..length]);
        }
        assert!(Directory::read(b"II\x2b\0\x08\0\0\0\xff\xff\xff\xff\xff\xff\xff\xff").is_err());
    }
}
