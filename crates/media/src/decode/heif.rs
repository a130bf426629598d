//! HEIC and AVIF through Debian's libheif, as its own program: a picture that crashes the decoder fails alone,
//! and one that takes too long is given up.

use crate::MediaError;
use crate::decode::png;
use rallo_engine::{Samples, Size};
use std::io::Read;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// Longest time one picture may take.
const PATIENCE: Duration = Duration::from_secs(60);

/// Names of libheif's decoder: the newer one first.
const PROGRAMS: [&str; 2] = ["heif-dec", "heif-convert"];

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

/// Size of the main picture when upright, and bits a sample, from its properties (ISO/IEC 23008-12).
pub fn head(file: &[u8]) -> Result<(Size, u8), MediaError> {
    properties(file)
        .ok_or_else(|| MediaError::Damaged("the file does not say how large its picture is".into()))
}

fn properties(file: &[u8]) -> Option<(Size, u8)> {
    fn inside<'a>(data: &'a [u8], kind: &[u8; 4]) -> Option<&'a [u8]> {
        boxes(data).into_iter().find(|(k, _)| k == kind).map(|(_, content)| content)
    }
    let meta = inside(file, b"meta")?.get(4..)?;
    let pitm = inside(meta, b"pitm")?;
    let main = number(pitm.get(4..)?, if pitm.first() == Some(&0) { 2 } else { 4 })?;
    let iprp = inside(meta, b"iprp")?;
    let properties_there = boxes(inside(iprp, b"ipco")?);
    let mut found = (None::<Size>, 8);
    let mut turned = false;
    for index in associated(inside(iprp, b"ipma")?, main)? {
        let Some((kind, content)) = index.checked_sub(1).and_then(|i| properties_there.get(i)) else {
            continue;
        };
        let side = |at: usize| number(content.get(at..)?, 4);
        match kind {
            b"ispe" => found.0 = Some(Size::new(side(4)?, side(8)?)),
            // The clean aperture: sides as fractions.
            b"clap" => found.0 = Some(Size::new(side(0)? / side(4)?.max(1), side(8)? / side(12)?.max(1))),
            b"irot" => turned = content.first()? & 1 == 1,
            b"pixi" => found.1 = *content.get(5)?,
            _ => {}
        }
    }
    let size = found.0.filter(|s| s.area() > 0)?;
    Some((if turned { Size::new(size.height, size.width) } else { size }, found.1))
}

/// Decodes, upright; also gives the profile the decoder handed on.
pub fn decode(file: &[u8]) -> Result<(Size, Samples, Option<Vec<u8>>), MediaError> {
    let system = |e: std::io::Error| MediaError::Unsupported(format!("no room to decode this picture: {e}"));
    let folder = tempfile::tempdir().map_err(system)?;
    let (from, to) = (folder.path().join("in.heif"), folder.path().join("out.png"));
    std::fs::write(&from, file).map_err(system)?;
    let child = PROGRAMS.iter().find_map(|program| {
        Command::new(program)
            .arg(&from)
            .arg(&to)
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::piped())
            .spawn()
            .ok()
    });
    let Some(mut child) = child else {
        return Err(MediaError::Unsupported(
            "HEIC and AVIF need libheif's decoder; install Debian's package libheif-examples".into(),
        ));
    };
    let start = Instant::now();
    let status = loop {
        match child.try_wait().map_err(system)? {
            Some(status) => break status,
            None if start.elapsed() > PATIENCE => {
                let _ = child.kill();
                let _ = child.wait();
                return Err(MediaError::Unsupported(
                    "decoding took longer than a minute and was given up".into(),
                ));
            }
            None => std::thread::sleep(Duration::from_millis(4)),
        }
    };
    let done = std::fs::read(&to);
    match done {
        Ok(png) if status.success() => {
            let head = png::head(&png)?;
            let (size, samples) = png::decode(&png)?;
            Ok((size, samples, head.icc))
        }
        _ => {
            let mut complaint = String::new();
            if let Some(error) = &mut child.stderr {
                let _ = error.take(2000).read_to_string(&mut complaint);
            }
            let line = complaint.lines().next().unwrap_or("the decoder gave up").trim().to_owned();
            Err(MediaError::Damaged(line))
        }
    }
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
