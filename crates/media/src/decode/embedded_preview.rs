//! Pictures embedded in other files: the preview of a camera raw file, the small picture in a JPEG's camera data.

use crate::decode::jpeg;
use crate::decode::tiff_directory::{
    self, PHOTOMETRIC, Page, STRIP_BYTES, STRIP_OFFSETS, TILE_BYTES, TILE_OFFSETS,
};
use rallo_engine::Size;
use std::ops::Range;

/// The tag that gives the version of the DNG standard.
const DNG_VERSION: u16 = 50_706;

/// Whether a file is camera raw: a TIFF structure that holds sensor data, or one of the cameras' own containers.
pub fn is_raw(file: &[u8]) -> bool {
    match file {
        [b'I', b'I', b'R', b'S' | b'O', ..] | [b'M', b'M', b'O', b'R', ..] | [b'I', b'I', b'U', 0, ..] => {
            true
        }
        [b'F', b'U', b'J', b'I', b'F', b'I', b'L', b'M', b'C', b'C', b'D', b'-', ..] => true,
        _ if file.get(4..12) == Some(b"ftypcrx ") => true,
        _ => holds_sensor_data(file),
    }
}

/// TIFF 6.0 and Adobe's DNG 1.7: the photometric kinds of a colour filter array (32803) and of linear raw (34892),
/// and the tag that gives the DNG version.
fn holds_sensor_data(file: &[u8]) -> bool {
    if !tiff_directory::is_classic(file) {
        return false;
    }
    tiff_directory::every(file).iter().any(|page| page.has(DNG_VERSION) || is_of_sensor(page))
}

fn is_of_sensor(page: &Page<'_>) -> bool {
    matches!(page.number(PHOTOMETRIC), Some(32_803 | 34_892))
}

/// What lies between the strips and tiles of a TIFF's sensor data, which are most of such a file; all of any other.
fn besides_sensor_data(file: &[u8]) -> Vec<Range<usize>> {
    let mut parts: Vec<(usize, usize)> = Vec::new();
    if tiff_directory::is_classic(file) {
        for page in tiff_directory::every(file).iter().filter(|page| is_of_sensor(page)) {
            for (offsets, lengths) in [(STRIP_OFFSETS, STRIP_BYTES), (TILE_OFFSETS, TILE_BYTES)] {
                let pairs = page.numbers(offsets).into_iter().zip(page.numbers(lengths));
                let inside = |v: u64| usize::try_from(v).unwrap_or(usize::MAX).min(file.len());
                parts.extend(pairs.map(|(from, length)| (inside(from), inside(from.saturating_add(length)))));
            }
        }
    }
    parts.sort_unstable();
    let mut gaps = Vec::with_capacity(parts.len() + 1);
    let mut at = 0;
    for (from, to) in parts {
        if from > at {
            gaps.push(at..from);
        }
        at = at.max(to);
    }
    gaps.push(at..file.len());
    gaps
}

/// The largest JPEG inside a file, from its first byte to the file's end.
pub fn largest(file: &[u8]) -> Option<(&[u8], Size)> {
    let mut best: Option<(&[u8], Size)> = None;
    let begins = memchr::memmem::Finder::new(&[0xff, 0xd8, 0xff]);
    for gap in besides_sensor_data(file) {
        for at in begins.find_iter(&file[gap.clone()]) {
            let inside = &file[gap.start + at..];
            if let Some(size) = baseline_size(inside)
                && best.is_none_or(|(_, b)| size.area() > b.area())
                && jpeg::size(inside, &jpeg::head(inside)).is_ok()
            {
                best = Some((inside, size));
            }
        }
    }
    best
}

/// Size in the frame header of a JPEG that a common decoder reads (SOF0 to SOF2); sensor data are stored as SOF3.
fn baseline_size(file: &[u8]) -> Option<Size> {
    let mut at = 2;
    loop {
        let [0xff, marker, high, low] = *file.get(at..at + 4)? else { return None };
        match marker {
            0xc0..=0xc2 => {
                let [h1, h2, w1, w2] = *file.get(at + 5..at + 9)? else { return None };
                return Some(Size::new(
                    u16::from_be_bytes([w1, w2]).into(),
                    u16::from_be_bytes([h1, h2]).into(),
                ));
            }
            0xc3 | 0xd8 | 0xda => return None,
            _ => at += 2 + usize::from(u16::from_be_bytes([high, low])).max(2),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rallo_engine::{Encoded, Pixels};

    fn jpeg(w: u32, h: u32) -> Vec<u8> {
        let picture = Encoded { size: Size::new(w, h), pixels: Pixels::U8(vec![90; (w * h * 3) as usize]) };
        let encoding = crate::Encoding::Jpeg {
            quality: 80,
            chroma: crate::Chroma::Quarter,
            progressive: false,
            optimised: false,
        };
        crate::encode(&picture, encoding, &crate::Extras::default()).unwrap()
    }

    /// A TIFF structure with one directory of short values.
    fn tiff(entries: &[(u16, u16)]) -> Vec<u8> {
        let mut file = b"II*\0\x08\0\0\0".to_vec();
        file.extend((entries.len() as u16).to_le_bytes());
        for (tag, value) in entries {
            file.extend(tag.to_le_bytes());
            file.extend(3u16.to_le_bytes());
            file.extend(1u32.to_le_bytes());
            file.extend(value.to_le_bytes());
            file.extend([0, 0]);
        }
        file.extend(0u32.to_le_bytes());
        file
    }

    #[test]
    fn the_largest_preview_is_found() {
        let file =
            [tiff(&[(262, 32_803)]), jpeg(160, 120), vec![7; 100], jpeg(640, 480), jpeg(32, 32)].concat();
        assert!(is_raw(&file));
        assert_eq!(largest(&file).unwrap().1, Size::new(640, 480));
        assert_eq!(largest(b"nothing here"), None);
    }

    #[test]
    fn what_a_sensor_counted_is_no_preview() {
        let (small, large) = (jpeg(160, 120), jpeg(640, 480));
        // The directory of three entries takes 50 bytes; what looks like a larger picture lies in the strip of counts.
        let strip = [&large[..], &[5; 40]].concat();
        let head = tiff(&[(262, 32_803), (273, 50), (279, strip.len() as u16)]);
        assert_eq!(head.len(), 50);
        let file = [&head[..], &strip, &small].concat();
        assert_eq!(largest(&file).unwrap().1, Size::new(160, 120));
        assert_eq!(besides_sensor_data(&file), [0..50, 50 + strip.len()..file.len()]);
        // A strip that is said to go on behind the file's end.
        let cut = [tiff(&[(262, 32_803), (273, 50), (279, 60_000)]), small].concat();
        assert_eq!(largest(&cut), None);
        assert_eq!(besides_sensor_data(&cut), [0..50, cut.len()..cut.len()]);
    }

    #[test]
    fn an_ordinary_tiff_is_no_raw() {
        assert!(!is_raw(&tiff(&[(262, 2)])));
        assert!(is_raw(&tiff(&[(50_706, 1)])));
        assert!(!is_raw(b"II*\0") && !is_raw(b"") && !is_raw(&tiff(&[(330, 9)])));
    }
}
