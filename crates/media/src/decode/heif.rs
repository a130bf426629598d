//! HEIC and AVIF through Debian's libheif, as its own program: a picture that crashes the decoder fails alone,
//! and one that takes too long is given up.

use crate::MediaError;
use crate::decode::helper::{self, Helper};
use crate::decode::{Decoded, Wanted, png};
use rallo_engine::Size;

/// libheif's decoder: the newer name first.
const DECODER: Helper = Helper {
    programs: &["heif-dec", "heif-convert"],
    package: "libheif-examples",
    what: "HEIC and AVIF need libheif's decoder",
};

/// Boxes of ISO/IEC 14496-12 inside `data`: kind and content.
fn boxes(mut data: &[u8]) -> Vec<([u8; 4], &[u8])> {
    let mut boxes = Vec::new();
    while let Some((head, _)) = data.split_first_chunk::<8>() {
        let length = u32::from_be_bytes([head[0], head[1], head[2], head[3]]) as usize;
        let kind = [head[4], head[5], head[6], head[7]];
        let (start, end) = match length {
            0 => (8, data.len()),
            1 => match data.get(8..16).and_then(|b| b.try_into().ok()).map(u64::from_be_bytes) {
                Some(long) => (16, usize::try_from(long).unwrap_or(usize::MAX)),
                None => break,
            },
            n => (8, n),
        };
        let Some(content) = data.get(start..end.min(data.len())) else { break };
        boxes.push((kind, content));
        if end < start || end >= data.len() {
            break;
        }
        data = &data[end..];
    }
    boxes
}

/// Big-endian number of the first `n` bytes.
fn number(bytes: &[u8], n: usize) -> Option<u32> {
    Some(bytes.get(..n)?.iter().fold(0u32, |number, b| number << 8 | u32::from(*b)))
}

/// Positions (from 1) of the properties that belong to `item` (ISO/IEC 23008-12, 9.3.1).
fn associated(ipma: &[u8], item: u32) -> Option<Vec<usize>> {
    let (version, wide) = (*ipma.first()?, ipma.get(3)? & 1 == 1);
    let count = number(ipma.get(4..)?, 4)?;
    let mut at = 8;
    for _ in 0..count {
        let width = if version == 0 { 2 } else { 4 };
        let id = number(ipma.get(at..)?, width)?;
        let properties = usize::from(*ipma.get(at + width)?);
        at += width + 1;
        let each = if wide { 2 } else { 1 };
        let associations = ipma.get(at..at + properties * each)?;
        if id == item {
            // The highest bit says whether it is essential.
            let mask = if wide { 0x7fff } else { 0x7f };
            return associations.chunks(each).map(|p| number(p, each).map(|n| (n & mask) as usize)).collect();
        }
        at += properties * each;
    }
    None
}

/// What the properties of the main picture say (ISO/IEC 23008-12).
pub(crate) struct Head {
    /// When upright.
    pub size: Size,
    /// Bits a sample.
    pub bits: u8,
    /// Whether they say how it lies: then camera data is not asked.
    pub is_laid: bool,
}

/// Reads them.
pub(crate) fn head(file: &[u8]) -> Result<Head, MediaError> {
    properties(file)
        .ok_or_else(|| MediaError::Damaged("the file does not say how large its picture is".into()))
}

fn properties(file: &[u8]) -> Option<Head> {
    fn inside<'a>(data: &'a [u8], kind: &[u8; 4]) -> Option<&'a [u8]> {
        boxes(data).into_iter().find(|(k, _)| k == kind).map(|(_, content)| content)
    }
    let meta = inside(file, b"meta")?.get(4..)?;
    let pitm = inside(meta, b"pitm")?;
    let main = number(pitm.get(4..)?, if pitm.first() == Some(&0) { 2 } else { 4 })?;
    let iprp = inside(meta, b"iprp")?;
    let properties_there = boxes(inside(iprp, b"ipco")?);
    let mut found = (None::<Size>, 8);
    let (mut turned, mut is_laid) = (false, false);
    for index in associated(inside(iprp, b"ipma")?, main)? {
        let Some((kind, content)) = index.checked_sub(1).and_then(|i| properties_there.get(i)) else {
            continue;
        };
        let side = |at: usize| number(content.get(at..)?, 4);
        match kind {
            b"ispe" => found.0 = Some(Size::new(side(4)?, side(8)?)),
            // The clean aperture: sides as fractions.
            b"clap" => found.0 = Some(Size::new(side(0)? / side(4)?.max(1), side(8)? / side(12)?.max(1))),
            b"irot" => (turned, is_laid) = (content.first()? & 1 == 1, true),
            b"imir" => is_laid = true,
            b"pixi" => found.1 = *content.get(5)?,
            _ => {}
        }
    }
    let size = found.0.filter(|s| s.area() > 0)?;
    let size = if turned { Size::new(size.height, size.width) } else { size };
    Some(Head { size, bits: found.1, is_laid })
}

/// The file with its colour profile hidden from who reads it, and the profile.
fn without_profile(file: &[u8]) -> Option<(Vec<u8>, Vec<u8>)> {
    let find = |kind: &[u8]| memchr::memmem::find(file, kind);
    let at = find(b"colrprof").or_else(|| find(b"colrrICC"))?;
    let start = at.checked_sub(4)?;
    let length = number(file.get(start..)?, 4)? as usize;
    let profile = file.get(at + 8..start + length)?.to_vec();
    let mut bare = file.to_vec();
    // A kind of box that means nothing (ISO/IEC 14496-12, 8.1.2).
    bare[at..at + 4].copy_from_slice(b"free");
    Some((bare, profile))
}

/// Decodes, upright, with the profile the decoder handed on.
pub fn decode(file: &[u8], wanted: &Wanted<'_>) -> Result<Decoded, MediaError> {
    let folder = helper::folder()?;
    let (from, to) = (folder.path().join("in.heif"), folder.path().join("out.png"));
    let decoded = |bytes: &[u8]| {
        helper::put(&from, bytes)?;
        DECODER.run(&[&from, &to])?;
        // It ends well also where it could not write what it had decoded.
        match std::fs::read(&to) {
            Ok(png) if !png.is_empty() => Ok(png),
            _ => Err(MediaError::Damaged("the decoder left no picture".into())),
        }
    };
    let (png, icc) = match decoded(file) {
        Ok(png) => (png, None),
        Err(refused) => {
            // Its PNG cannot hold every profile; without one it is asked again, and the profile is taken from the file.
            let Some((bare, profile)) = without_profile(file) else { return Err(refused) };
            (decoded(&bare).map_err(|_| refused)?, Some(profile))
        }
    };
    let icc = icc.or(png::head(&png)?.icc);
    Ok(Decoded { icc, ..png::decode(&png, wanted)? })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nonsense_is_no_picture() {
        for bytes in
            [&b""[..], b"\0\0\0\x14ftypheic\0\0\0\0mif1", b"\0\0\0\x01meta\xff\xff\xff\xff\xff\xff\xff\xff"]
        {
            assert!(head(bytes).is_err());
        }
    }
}
