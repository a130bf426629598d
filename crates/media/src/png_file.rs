//! PNG through the `png` crate: 8 and 16 bit, palettes and grey made RGB, transparent parts laid on white.

use crate::{MediaError, bytes_text};
use png::{BitDepth, ColorType, DecodingError, Limits, Transformations};
use rallo_engine::{Encoded, Pixels, Samples, Size};
use std::io::Cursor;

/// Bytes that texts and profiles may unpack to, and a row of pixels may have.
const BESIDE: usize = 256_000_000;

/// What stands before the picture.
pub struct Head {
    pub size: Size,
    pub exif: Option<Vec<u8>>,
    pub icc: Option<Vec<u8>>,
    pub bits: u8,
}

fn complaint(error: DecodingError, file: &[u8]) -> MediaError {
    match error {
        DecodingError::IoError(e) if e.kind() == std::io::ErrorKind::UnexpectedEof => {
            MediaError::Truncated(bytes_text(file.len() as u64))
        }
        DecodingError::LimitsExceeded => {
            MediaError::Unsupported("decoding would need more memory than the limit".into())
        }
        other => MediaError::Damaged(other.to_string()),
    }
}

fn reader(file: &[u8]) -> Result<png::Reader<Cursor<&[u8]>>, MediaError> {
    let mut decoder = png::Decoder::new_with_limits(Cursor::new(file), Limits { bytes: BESIDE });
    decoder.set_transformations(Transformations::EXPAND);
    decoder.read_info().map_err(|e| complaint(e, file))
}

pub fn head(file: &[u8]) -> Result<Head, MediaError> {
    let reader = reader(file)?;
    let info = reader.info();
    Ok(Head {
        size: Size::new(info.width, info.height),
        exif: info.exif_metadata.as_ref().map(|e| e.to_vec()),
        icc: info.icc_profile.as_ref().map(|p| p.to_vec()),
        bits: info.bit_depth as u8,
    })
}

/// Lays one sample with coverage `alpha` on white, both of `max`.
fn on_white(value: u32, alpha: u32, max: u32) -> u32 {
    (value * alpha + max * (max - alpha) + max / 2) / max
}

fn to_rgb<T: Copy + Into<u32> + TryFrom<u32>>(samples: &[T], channels: usize, max: u32) -> Vec<T> {
    let laid = |v: T, a: T| T::try_from(on_white(v.into(), a.into(), max)).unwrap_or(v);
    samples
        .chunks_exact(channels)
        .flat_map(|p| match *p {
            [v] => [v; 3],
            [v, a] => [laid(v, a); 3],
            [r, g, b] => [r, g, b],
            [r, g, b, a, ..] => [laid(r, a), laid(g, a), laid(b, a)],
            [] => unreachable!("a pixel has at least one channel"),
        })
        .collect()
}

pub fn decode(file: &[u8]) -> Result<(Size, Samples), MediaError> {
    let mut reader = reader(file)?;
    let bytes = reader
        .output_buffer_size()
        .ok_or_else(|| MediaError::Unsupported("the picture is too large".into()))?;
    let mut buffer = vec![0; bytes];
    let frame = reader.next_frame(&mut buffer).map_err(|e| complaint(e, file))?;
    let channels = match frame.color_type {
        ColorType::Grayscale => 1,
        ColorType::GrayscaleAlpha => 2,
        ColorType::Rgb | ColorType::Indexed => 3,
        ColorType::Rgba => 4,
    };
    let data = &buffer[..frame.buffer_size()];
    let samples = if frame.bit_depth == BitDepth::Sixteen {
        let wide: Vec<u16> = data.as_chunks::<2>().0.iter().map(|b| u16::from_be_bytes(*b)).collect();
        // 16-bit products fit u32 only just: 65535² < 2³².
        Samples::U16(to_rgb_wide(&wide, channels))
    } else {
        Samples::U8(to_rgb(data, channels, 255))
    };
    Ok((Size::new(frame.width, frame.height), samples))
}

fn to_rgb_wide(samples: &[u16], channels: usize) -> Vec<u16> {
    if channels == 1 || channels == 3 {
        return to_rgb(samples, channels, 65_535);
    }
    let laid = |v: u16, a: u16| {
        let (v, a, max) = (u64::from(v), u64::from(a), 65_535u64);
        ((v * a + max * (max - a) + max / 2) / max) as u16
    };
    samples
        .chunks_exact(channels)
        .flat_map(|p| {
            if channels == 2 {
                [laid(p[0], p[1]); 3]
            } else {
                [laid(p[0], p[3]), laid(p[1], p[3]), laid(p[2], p[3])]
            }
        })
        .collect()
}

/// The colours of a picture that has few, and for each pixel which of them it has.
fn palette(pixels: &[u8]) -> Option<(Vec<[u8; 3]>, Vec<u8>)> {
    let mut known: std::collections::HashMap<[u8; 3], u8> = std::collections::HashMap::new();
    let mut colours = Vec::new();
    let mut places = Vec::with_capacity(pixels.len() / 3);
    for pixel in pixels.as_chunks::<3>().0 {
        let place = match known.get(pixel) {
            Some(place) => *place,
            None => {
                let place = u8::try_from(colours.len()).ok()?;
                colours.push(*pixel);
                known.insert(*pixel, place);
                place
            }
        };
        places.push(place);
    }
    Some((colours, places))
}

/// Rows of palette places, so many bits each (W3C PNG, 7.2).
fn packed(places: &[u8], width: usize, bits: usize) -> Vec<u8> {
    let pack = |row: &[u8]| -> Vec<u8> {
        let each = 8 / bits;
        let byte =
            |some: &[u8]| (0..each).fold(0u8, |b, i| (b << (bits % 8)) | some.get(i).copied().unwrap_or(0));
        row.chunks(each).map(byte).collect()
    };
    if bits == 8 { places.to_vec() } else { places.chunks(width).flat_map(pack).collect() }
}

pub fn encode(picture: &Encoded) -> Result<Vec<u8>, MediaError> {
    let run = || -> Result<Vec<u8>, png::EncodingError> {
        let mut out = Vec::new();
        let mut encoder = png::Encoder::new(&mut out, picture.size.width, picture.size.height);
        encoder.set_color(ColorType::Rgb);
        encoder.set_compression(png::Compression::Balanced);
        let few = match &picture.pixels {
            Pixels::U8(v) => palette(v),
            _ => None,
        };
        if let Some((colours, places)) = few {
            // Nothing is lost, and it is smaller.
            let (bits, depth) = match colours.len() {
                0..=2 => (1, BitDepth::One),
                3..=4 => (2, BitDepth::Two),
                5..=16 => (4, BitDepth::Four),
                _ => (8, BitDepth::Eight),
            };
            encoder.set_color(ColorType::Indexed);
            encoder.set_depth(depth);
            encoder.set_palette(colours.concat());
            let rows = packed(&places, picture.size.width as usize, bits);
            encoder.write_header()?.write_image_data(&rows)?;
            return Ok(out);
        }
        match &picture.pixels {
            Pixels::F32(_) => return Err(png::EncodingError::LimitsExceeded),
            Pixels::U8(v) => {
                encoder.set_depth(BitDepth::Eight);
                encoder.write_header()?.write_image_data(v)?;
            }
            Pixels::U16(v) => {
                encoder.set_depth(BitDepth::Sixteen);
                let bytes: Vec<u8> = v.iter().flat_map(|s| s.to_be_bytes()).collect();
                encoder.write_header()?.write_image_data(&bytes)?;
            }
        }
        Ok(out)
    };
    run().map_err(|e| MediaError::Encode { format: "PNG", message: e.to_string() })
}
