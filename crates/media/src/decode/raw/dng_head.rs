//! What a DNG tells of its picture (Adobe's DNG 1.7, chapter 4) before its pixels are unpacked: the raw reader unpacks all of
//! them even where only this is asked for, which takes as long as the picture itself.

use crate::decode::tiff_directory::{self, Page};
use rallo_engine::Size;
use rallo_engine::raw::Pattern;
use rawler::tags::DngTag;

const CFA_PATTERN: u16 = 33_422;
const LINEARIZATION: u16 = 50_712;

/// Ways of packing that are surely read: none, JPEG of both kinds, JPEG XL.
const PACKED: [u64; 4] = [1, 7, 34_892, 52_546];

/// Size and depth of the picture.
#[derive(Debug, PartialEq)]
pub(super) struct DngHead {
    pub size: Size,
    pub bits: u8,
}

/// Whole numbers of a tag, which a DNG may give as fractions too.
fn whole(page: &Page<'_>, tag: DngTag) -> Option<Vec<u64>> {
    let numbers = page.numbers(tag as u16);
    if !numbers.is_empty() {
        return Some(numbers);
    }
    let whole = |v: f64| (v >= 0.0 && v.fract() == 0.0).then_some(v as u64);
    page.fractions(tag as u16).into_iter().map(whole).collect()
}

/// The head of a DNG; nothing for other files, and for one that leaves a doubt: the raw reader is asked of those.
pub(super) fn of(pages: &[Page<'_>]) -> Option<DngHead> {
    if !pages.first()?.has(DngTag::DNGVersion as u16) {
        return None;
    }
    let is_whole = |page: &&Page<'_>| {
        page.has(tiff_directory::COMPRESSION) && page.number_or(tiff_directory::NEW_SUBFILE, 0) & 1 == 0
    };
    let mut wholes = pages.iter().filter(is_whole);
    let page = wholes.next().filter(|_| wholes.next().is_none())?;
    let is_plain = PACKED.contains(&page.number(tiff_directory::COMPRESSION)?)
        && page.number_or(tiff_directory::SAMPLE_FORMAT, 1) == 1;
    let is_pattern = || {
        let cells = page.bytes(CFA_PATTERN).unwrap_or_default();
        let side = cells.len().isqrt();
        Pattern::new(side, side, cells).is_ok()
    };
    let is_read = match (page.number(tiff_directory::PHOTOMETRIC)?, page.number(tiff_directory::SAMPLES)?) {
        (32_803, 1) => is_pattern(),
        (34_892, 1 | 3) | (1, 1) => true,
        _ => false,
    };
    if !is_plain || !is_read {
        return None;
    }
    let (width, height) = (page.number(tiff_directory::WIDTH)?, page.number(tiff_directory::LENGTH)?);
    // Top, left, bottom, right.
    let active = match &whole(page, DngTag::ActiveArea)?[..] {
        [] => [0, 0, height, width],
        &[top, left, bottom, right] if top < bottom && left < right && bottom <= height && right <= width => {
            [top, left, bottom, right]
        }
        _ => return None,
    };
    let crop = (whole(page, DngTag::DefaultCropOrigin)?, whole(page, DngTag::DefaultCropSize)?);
    let [wide, high] = match (&crop.0[..], &crop.1[..]) {
        ([left, top], &[wide, high]) => {
            let fits = |start: u64, from: &u64, length: u64, end: u64| {
                start.checked_add(*from).and_then(|at| at.checked_add(length)).is_some_and(|at| at <= end)
            };
            if !fits(active[1], left, wide, width) || !fits(active[0], top, high, height) {
                return None;
            }
            [wide, high]
        }
        ([], _) | (_, []) => [active[3] - active[1], active[2] - active[0]],
        _ => return None,
    };
    let bits = if page.has(LINEARIZATION) { 16 } else { page.number_or(tiff_directory::BITS, 16) };
    let side = |v: u64| u32::try_from(v).ok().filter(|v| *v > 1);
    Some(DngHead { size: Size::new(side(wide)?, side(high)?), bits: bits.clamp(1, 32) as u8 })
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::Arc;

    #[test]
    fn it_is_what_the_raw_reader_tells_with_all_pixels() {
        let folder = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/pictures");
        let mut found = Vec::new();
        for entry in std::fs::read_dir(folder).unwrap().flatten() {
            let path = entry.path();
            if path.extension().is_none_or(|e| e != "dng") {
                continue;
            }
            let file = Arc::new(std::fs::read(&path).unwrap());
            let told = of(&tiff_directory::every(&file));
            let image = super::super::image(&file, true).unwrap();
            let [_, _, width, height] = super::super::part(&image).unwrap();
            let size = Size::new(width as u32, height as u32);
            let read = DngHead { size, bits: image.bps.clamp(1, 32) as u8 };
            found.push(told.is_some());
            assert!(told.is_none_or(|told| told == read), "{path:?}: {read:?}");
        }
        assert!(found.iter().filter(|told| **told).count() * 3 > found.len() * 2, "{found:?}");
    }

    #[test]
    fn a_doubt_is_left_to_the_raw_reader() {
        let file =
            std::fs::read(concat!(env!("CARGO_MANIFEST_DIR"), "/tests/pictures/raw-bayer.dng")).unwrap();
        assert!(of(&tiff_directory::every(&file)).is_some());
        assert_eq!(of(&tiff_directory::every(&file[..file.len() / 8])), None);
        assert_eq!(of(&[]), None);
    }
}
