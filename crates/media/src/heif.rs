//! HEIC and AVIF through Debian's libheif, as its own program: a picture that crashes the decoder fails alone,
//! and one that takes too long is given up.

use crate::{MediaError, png_file};
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
    let mut all = Vec::new();
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
        all.push((kind, content));
        if end < start || end >= data.len() {
            break;
        }
        data = &data[end..];
    }
    all
}

/// Size of the picture when upright, and bits a sample, from its properties (ISO/IEC 23008-12): the largest
/// spatial extents, which for a picture in tiles are those of the whole.
pub fn head(file: &[u8]) -> Result<(Size, u8), MediaError> {
    let inside =
        |data: &'_ [u8], kind: &[u8; 4]| boxes(data).iter().find(|(k, _)| k == kind).map(|(_, c)| c.to_vec());
    let properties = inside(file, b"meta")
        .and_then(|meta| inside(meta.get(4..)?, b"iprp"))
        .and_then(|iprp| inside(&iprp, b"ipco"))
        .ok_or_else(|| MediaError::Damaged("the file's head says nothing of the picture".into()))?;
    let (mut size, mut cut, mut turned, mut bits) = (None::<Size>, None::<Size>, false, 8);
    for (kind, content) in boxes(&properties) {
        match (&kind, content) {
            (b"ispe", [_, _, _, _, w0, w1, w2, w3, h0, h1, h2, h3, ..]) => {
                let one = Size::new(
                    u32::from_be_bytes([*w0, *w1, *w2, *w3]),
                    u32::from_be_bytes([*h0, *h1, *h2, *h3]),
                );
                if size.is_none_or(|s| s.area() < one.area()) {
                    size = Some(one);
                }
            }
            // The clean aperture: sides as fractions, behind them where it lies.
            (b"clap", content) if content.len() >= 16 => {
                let number = |at: usize| content[at..at + 4].iter().fold(0u32, |n, b| n << 8 | u32::from(*b));
                let one = Size::new(number(0) / number(4).max(1), number(8) / number(12).max(1));
                if cut.is_none_or(|s| s.area() < one.area()) {
                    cut = Some(one);
                }
            }
            (b"irot", [angle, ..]) => turned = angle & 1 == 1,
            (b"pixi", [_, _, _, _, _, depth, ..]) => bits = bits.max(*depth),
            _ => {}
        }
    }
    let size = cut.or(size).filter(|s| s.area() > 0);
    let size =
        size.ok_or_else(|| MediaError::Damaged("the file does not say how large the picture is".into()))?;
    Ok((if turned { Size::new(size.height, size.width) } else { size }, bits))
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
            let head = png_file::head(&png)?;
            let (size, samples) = png_file::decode(&png)?;
            Ok((size, samples, head.icc))
        }
        _ => {
            let mut said = String::new();
            if let Some(error) = &mut child.stderr {
                let _ = error.take(2000).read_to_string(&mut said);
            }
            let line = said.lines().next().unwrap_or("the decoder gave up").trim().to_owned();
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
