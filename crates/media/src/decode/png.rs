//! PNG, read through the `png` crate: 8 and 16 bit, palettes and grey made RGB, transparent parts laid on white. Written
//! through `oxipng`, whose libdeflate packs as small as the usual library in a quarter of the time.

use crate::{MediaError, bytes_text};
use png::{BitDepth, ColorType, DecodingError, Limits, Transformations};
use rallo_engine::{Samples, Size};
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::encode::png::encode;
    use rallo_engine::{Encoded, Pixels};

    fn file(size: Size, pixels: Pixels) -> (Vec<u8>, png::Info<'static>) {
        let file = encode(&Encoded { size, pixels }).unwrap();
        let info = png::Decoder::new(Cursor::new(&file)).read_info().unwrap().info().clone();
        (file, info)
    }

    fn noise(n: usize) -> impl Iterator<Item = u32> {
        (0..n as u32).map(|i| i.wrapping_mul(2_654_435_761).rotate_left(7) ^ i.wrapping_mul(40_503))
    }

    #[test]
    fn photographs_come_back_exactly_with_their_bits() {
        let size = Size::new(61, 47);
        let eight: Vec<u8> = noise(61 * 47 * 3).map(|v| (v >> 9) as u8).collect();
        let (bytes, info) = file(size, Pixels::U8(eight.clone()));
        assert_eq!((info.color_type, info.bit_depth), (ColorType::Rgb, BitDepth::Eight));
        let Samples::U8(back) = decode(&bytes).unwrap().1 else { panic!() };
        assert!(back == eight);
        // 16 bits stay 16, also where 8 would do.
        for fine in [true, false] {
            let sample = |v: u32| if fine { (v >> 5) as u16 } else { (v >> 9) as u16 % 256 * 257 };
            let wide: Vec<u16> = noise(61 * 47 * 3).map(sample).collect();
            let (bytes, info) = file(size, Pixels::U16(wide.clone()));
            assert_eq!((info.color_type, info.bit_depth), (ColorType::Rgb, BitDepth::Sixteen));
            let Samples::U16(back) = decode(&bytes).unwrap().1 else { panic!() };
            assert!(back == wide);
        }
        assert!(encode(&Encoded { size, pixels: Pixels::F32(vec![0.0; 61 * 47 * 3]) }).is_err());
    }

    #[test]
    fn few_colours_are_a_palette_that_takes_no_more_than_it_needs() {
        let size = Size::new(83, 29);
        for (colours, bits) in [(2, 1), (4, 2), (16, 4), (17, 5), (256, 8)] {
            let pixel = |v: u32| {
                let k = v % colours;
                [(k * 3 % 256) as u8, (k * 7 % 256) as u8, k as u8]
            };
            let pixels: Vec<u8> = noise(83 * 29).map(|v| v >> 3).flat_map(pixel).collect();
            let (bytes, info) = file(size, Pixels::U8(pixels.clone()));
            assert_eq!(info.color_type, ColorType::Indexed, "{colours}");
            assert!(info.trns.is_none());
            // The places, the palette, and what a file has around them.
            let most = 83 * 29 * bits / 8 * 11 / 10 + colours as usize * 3 + 120;
            assert!(bytes.len() < most, "{colours}: {} of {most}", bytes.len());
            let Samples::U8(back) = decode(&bytes).unwrap().1 else { panic!() };
            assert!(back == pixels, "{colours}");
        }
        // One more than a palette holds; and greys, which stay RGB for the sake of their profile.
        let many: Vec<u8> = (0..83 * 29u32)
            .flat_map(|i| [(i % 257 / 2) as u8, (i % 257) as u8, (i % 257 / 256) as u8])
            .collect();
        assert_eq!(file(size, Pixels::U8(many)).1.color_type, ColorType::Rgb);
        let greys: Vec<u16> = noise(83 * 29).flat_map(|v| [(v >> 8) as u16; 3]).collect();
        assert_eq!(file(size, Pixels::U16(greys)).1.color_type, ColorType::Rgb);
    }

    #[test]
    fn flat_areas_take_next_to_nothing_and_the_same_picture_the_same_bytes() {
        let size = Size::new(640, 400);
        let ramp: Vec<u8> = (0..400u32)
            .flat_map(|y| (0..640u32).flat_map(move |x| [(x / 3) as u8, (y / 2) as u8, ((x + y) / 5) as u8]))
            .collect();
        let (bytes, _) = file(size, Pixels::U8(ramp.clone()));
        assert!(bytes.len() * 20 < ramp.len(), "{} of {}", bytes.len(), ramp.len());
        assert!(file(size, Pixels::U8(ramp)).0 == bytes);
    }
}
