//! What a TIFF says beside its pixels, without the pixels: as a small TIFF of its own, and whether the beginning of a file says
//! all of it.
//!
//! A camera raw is a TIFF of tens of megabytes whose directories are a few kilobytes. A reader of camera data that is given the
//! whole file copies it, so it is given the excerpt.

use crate::decode::tiff_directory::{
    self, Bytes, DIRECTORIES, EXIF, GPS, INTEROPERABILITY, MOST_FOLLOWED, Page, size_of,
};
use std::collections::HashSet;

/// Values that a camera writes of a picture are smaller; what is larger are previews and notes of the maker's own.
const MOST_BYTES: u64 = 64 * 1024;

/// Where the values of a directory stand that name others: none of their places is true in an excerpt.
const BELOW: [u16; 3] = [EXIF, GPS, INTEROPERABILITY];

/// The first directory of a TIFF (not a BigTIFF), and those of EXIF, of places on the earth and of interoperability that it
/// names, as a TIFF of their own. Values larger than 64 kB are left out. Nothing for other files.
pub(crate) fn camera_part(file: &[u8]) -> Option<Vec<u8>> {
    if !tiff_directory::is_classic(file) {
        return None;
    }
    let (bytes, first) = Bytes::of(file);
    let (first, _) = tiff_directory::page(bytes, first?)?;
    let mut excerpt = Excerpt { out: file[..4].to_vec(), little: bytes.little };
    excerpt.number(8, 4);
    excerpt.directory(bytes, &first, BELOW.len());
    Some(excerpt.out)
}

struct Excerpt {
    out: Vec<u8>,
    little: bool,
}

impl Excerpt {
    fn bytes_of(&self, number: u64, size: usize) -> Vec<u8> {
        let bytes = number.to_le_bytes();
        let low = bytes[..size].iter().copied();
        if self.little { low.collect() } else { low.rev().collect() }
    }

    fn number(&mut self, number: u64, size: usize) {
        let bytes = self.bytes_of(number, size);
        self.out.extend(bytes);
    }

    fn put(&mut self, at: usize, number: u64, size: usize) {
        let bytes = self.bytes_of(number, size);
        self.out[at..at + size].copy_from_slice(&bytes);
    }

    /// A directory at the end of what is there, its values behind it, and those below it, as many levels as may be.
    fn directory(&mut self, bytes: Bytes<'_>, page: &Page<'_>, levels: usize) {
        let mut entries: Vec<(u16, u16, u64, &[u8])> = Vec::new();
        let mut below = Vec::new();
        for (&tag, &(kind, count, at)) in &page.entries {
            let Some(length) = size_of(kind).and_then(|size| size.checked_mul(count)) else { continue };
            if BELOW.contains(&tag) {
                let named = page.number(tag).and_then(|at| tiff_directory::page(bytes, at));
                if let Some((named, _)) = named.filter(|_| levels > 0) {
                    below.push((tag, named));
                }
            } else if length <= MOST_BYTES
                && let Some(value) = page.part(at, length)
            {
                entries.push((tag, kind, count, value));
            }
        }
        entries.extend(below.iter().map(|(tag, _)| (*tag, 4, 1, &[0u8; 4][..])));
        entries.sort_unstable_by_key(|entry| entry.0);
        self.number(entries.len() as u64, 2);
        let start = self.out.len();
        self.out.resize(start + entries.len() * 12 + 4, 0);
        for (i, (tag, kind, count, value)) in entries.iter().enumerate() {
            let at = start + i * 12;
            self.put(at, u64::from(*tag), 2);
            self.put(at + 2, u64::from(*kind), 2);
            self.put(at + 4, *count, 4);
            if value.len() <= 4 {
                self.out[at + 8..at + 8 + value.len()].copy_from_slice(value);
            } else {
                let place = self.out.len() as u64;
                self.put(at + 8, place, 4);
                self.out.extend(*value);
                // Directories and values begin at even places (TIFF 6.0, section 2).
                self.out.resize(self.out.len().next_multiple_of(2), 0);
            }
        }
        for (tag, named) in below {
            let i = entries.iter().position(|entry| entry.0 == tag).unwrap_or_default();
            let place = self.out.len() as u64;
            self.put(start + i * 12 + 8, place, 4);
            self.directory(bytes, &named, levels - 1);
        }
    }
}

/// Whether the beginning of a TIFF holds all its directories and their values, wherever the pixels are.
pub(crate) fn says_all(head: &[u8]) -> bool {
    let (bytes, first) = Bytes::of(head);
    let Some(first) = first else { return false };
    let (mut open, mut met) = (vec![first], HashSet::new());
    while let Some(at) = open.pop() {
        if !met.insert(at) {
            continue;
        }
        let Some((page, Some(after))) = tiff_directory::page(bytes, at).filter(|_| met.len() < MOST_FOLLOWED)
        else {
            return false;
        };
        let is_here = |&(kind, count, at): &(u16, u64, u64)| {
            let length = size_of(kind).unwrap_or(1).saturating_mul(count);
            at.saturating_add(length) <= head.len() as u64
        };
        if !page.entries.values().all(is_here) {
            return false;
        }
        open.extend(DIRECTORIES.iter().flat_map(|tag| page.numbers(*tag)));
        open.extend(Some(after).filter(|next| *next != 0));
    }
    true
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::metadata::exif::CameraData;
    use proptest::prelude::*;

    fn camera() -> CameraData {
        CameraData {
            taken: Some(jiff::civil::date(2026, 5, 4).at(9, 31, 7, 250_000_000)),
            camera: Some("Marlow 24".into()),
            lens: Some("Marlow 35 mm f/2".into()),
            iso: Some(800),
            orientation: 6,
            gps: Some([51.5, -2.25]),
            ..CameraData::default()
        }
    }

    /// The camera's data, with pixels behind them.
    fn file() -> (Vec<u8>, usize) {
        let told = camera().write().unwrap();
        let length = told.len();
        ([told, vec![7; 3_000_000]].concat(), length)
    }

    #[test]
    fn an_excerpt_says_what_the_file_says_and_is_small() {
        let (file, length) = file();
        let part = camera_part(&file).unwrap();
        assert!(part.len() <= length + 64, "{} {length}", part.len());
        assert_eq!(CameraData::read(&part), CameraData::read(&file));
        assert_eq!(CameraData::read(&part), camera());
        assert!(says_all(&part));
        assert_eq!(camera_part(b"no TIFF at all"), None);
    }

    #[test]
    fn a_beginning_says_all_where_every_value_lies_in_it() {
        let (file, length) = file();
        assert!(says_all(&file[..length]) && says_all(&file));
        for short in 0..length {
            assert!(!says_all(&file[..short]), "{short} of {length}");
        }
    }

    proptest! {
        #[test]
        fn changed_files_end(places in proptest::collection::vec((0usize..400, any::<u8>()), 1..12), big in any::<bool>()) {
            let (mut file, _) = file();
            file.truncate(400);
            for (at, byte) in places {
                file[at] = byte;
            }
            if big {
                file[..4].copy_from_slice(b"MM\0\x2a");
            }
            let _ = camera_part(&file);
            let _ = says_all(&file);
        }
    }
}
