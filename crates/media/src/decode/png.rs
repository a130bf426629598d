//! PNG, read through the `png` crate: 8 and 16 bit, palettes and grey made RGB, transparent parts laid on a colour.

use crate::decode::channels::{Alpha, to_rgb};
use crate::decode::{Decoded, Head, Wanted};
use crate::{MediaError, bytes_text};
use moxcms::{
    Chromaticity, CicpProfile, ColorPrimaries, ColorProfile, MatrixCoefficients, ToneReprCurve, XyY,
};
use png::{BitDepth, ColorType, DecodingError, Limits, Transformations};
use rallo_engine::Size;
use std::io::Cursor;

/// Bytes that texts and profiles may unpack to, and a row of pixels may have.
const BESIDE: usize = 256_000_000;

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

/// What stands before the pixels.
pub fn head(file: &[u8]) -> Result<Head, MediaError> {
    let reader = reader(file)?;
    let info = reader.info();
    let exif = info.exif_metadata.as_ref().map(|e| e.to_vec()).or_else(|| exif_text(info));
    let mut notes = Vec::new();
    let broken = broken_chunks(file);
    if !broken.is_empty() {
        notes.push(format!(
            "Its parts {} do not match their check sums and were passed over.",
            broken.join(", ")
        ));
    }
    Ok(Head {
        size: Size::new(info.width, info.height),
        exif,
        icc: code_points(info)
            .or_else(|| info.icc_profile.as_ref().map(|p| p.to_vec()))
            .or_else(|| described(info)),
        bits: info.bit_depth as u8,
        notes,
        ..Head::default()
    })
}

/// Chunks before the pixels that need not be understood, and whose check sum is wrong.
fn broken_chunks(file: &[u8]) -> Vec<String> {
    let mut broken = Vec::new();
    let mut at = 8;
    while let Some(head) = file.get(at..at + 8) {
        let length = u32::from_be_bytes([head[0], head[1], head[2], head[3]]) as usize;
        let kind = &head[4..8];
        let end = at.saturating_add(length).saturating_add(8);
        let (Some(body), Some(sum)) = (file.get(at + 4..end), file.get(end..end + 4)) else { break };
        if kind == b"IDAT" {
            break;
        }
        let is_auxiliary = kind[0] & 0x20 != 0;
        if is_auxiliary && crc32fast::hash(body).to_be_bytes() != sum {
            broken.push(String::from_utf8_lossy(kind).into_owned());
        }
        at = end + 4;
    }
    broken
}

/// Camera data as some programs wrote it before there was a chunk for it: hexadecimal digits in a text.
fn exif_text(info: &png::Info<'_>) -> Option<Vec<u8>> {
    let is = |keyword: &str| matches!(keyword, "Raw profile type exif" | "Raw profile type APP1");
    let packed = info.compressed_latin1_text.iter().find(|t| is(&t.keyword)).and_then(|t| t.get_text().ok());
    let text = packed
        .or_else(|| info.uncompressed_latin1_text.iter().find(|t| is(&t.keyword)).map(|t| t.text.clone()))?;
    // A line with the kind, a line with the length, then the digits.
    let digits: Vec<u8> =
        text.trim_start().split('\n').skip(2).flat_map(str::bytes).filter(u8::is_ascii_hexdigit).collect();
    let digit = |b: u8| (b as char).to_digit(16).unwrap_or(0) as u8;
    let bytes: Vec<u8> = digits.as_chunks::<2>().0.iter().map(|[a, b]| digit(*a) << 4 | digit(*b)).collect();
    Some(crate::decode::without_exif_head(&bytes).to_vec())
}

/// The profile of the colours a `cICP` chunk names (ITU-T H.273).
fn code_points(info: &png::Info<'_>) -> Option<Vec<u8>> {
    let points = info.coding_independent_code_points?;
    let profile = CicpProfile {
        color_primaries: points.color_primaries.try_into().ok()?,
        transfer_characteristics: points.transfer_function.try_into().ok()?,
        matrix_coefficients: MatrixCoefficients::Identity,
        full_range: points.is_video_full_range_image,
    };
    // Where it knows the primaries or the curve not, it leaves them out.
    let colours = ColorProfile::new_from_cicp(profile);
    colours.red_trc.is_some().then(|| colours.encode().ok()).flatten()
}

/// The gamma that sRGB pictures are given, and how far from it is still meant as that.
const USUAL_GAMMA: (f32, f32) = (0.454_55, 0.005);

/// The profile of the colours that `gAMA` and `cHRM` describe, where they are not sRGB's.
fn described(info: &png::Info<'_>) -> Option<Vec<u8>> {
    if info.srgb.is_some() {
        return None;
    }
    let gamma = info.gama_chunk.map(png::ScaledFloat::into_value).filter(|g| *g > 0.0);
    let odd_gamma = gamma.filter(|g| (g - USUAL_GAMMA.0).abs() > USUAL_GAMMA.1);
    let pairs = info
        .chrm_chunk
        .map(|c| [c.white, c.red, c.green, c.blue].map(|(x, y)| (x.into_value(), y.into_value())));
    let srgb = [(0.3127, 0.3290), (0.64, 0.33), (0.30, 0.60), (0.15, 0.06)];
    let near = |(a, b): (&(f32, f32), &(f32, f32))| (a.0 - b.0).abs() < 0.005 && (a.1 - b.1).abs() < 0.005;
    let odd_pairs =
        pairs.filter(|p| !p.iter().zip(&srgb).all(near) && p.iter().all(|(x, y)| *x > 0.0 && *y > 0.0));
    if odd_gamma.is_none() && odd_pairs.is_none() {
        return None;
    }
    let mut profile = ColorProfile::new_srgb();
    if let Some([white, red, green, blue]) = odd_pairs {
        let place = |(x, y): (f32, f32)| Chromaticity { x, y };
        let white = XyY { x: f64::from(white.0), y: f64::from(white.1), yb: 1.0 };
        profile.update_rgb_colorimetry(
            white,
            ColorPrimaries { red: place(red), green: place(green), blue: place(blue) },
        );
    }
    if let Some(gamma) = odd_gamma {
        let curve = Some(ToneReprCurve::Parametric(vec![1.0 / gamma]));
        (profile.red_trc, profile.green_trc, profile.blue_trc) = (curve.clone(), curve.clone(), curve);
        profile.cicp = None;
    }
    profile.encode().ok()
}

/// The pixels.
pub fn decode(file: &[u8], wanted: &Wanted<'_>) -> Result<Decoded, MediaError> {
    let mut reader = reader(file)?;
    let bytes = reader
        .output_buffer_size()
        .ok_or_else(|| MediaError::Unsupported("the picture is too large".into()))?;
    let mut buffer = vec![0; bytes];
    let size = Size::new(reader.info().width, reader.info().height);
    let mut notes = Vec::new();
    if let Err(e) = reader.next_frame(&mut buffer) {
        let error = complaint(e, file);
        if !wanted.part {
            return Err(error);
        }
        notes.push("It is cut off; the part that is there is shown.".into());
    }
    let (colour, depth) = reader.output_color_type();
    let (channels, alpha) = match colour {
        ColorType::Grayscale => (1, Alpha::None),
        ColorType::GrayscaleAlpha => (2, Alpha::Straight),
        ColorType::Rgb | ColorType::Indexed => (3, Alpha::None),
        ColorType::Rgba => (4, Alpha::Straight),
    };
    let samples = if depth == BitDepth::Sixteen {
        let wide: Vec<u16> = buffer.as_chunks::<2>().0.iter().map(|b| u16::from_be_bytes(*b)).collect();
        to_rgb(wide, channels, alpha, wanted.ground)
    } else {
        to_rgb(buffer, channels, alpha, wanted.ground)
    };
    Ok(Decoded { notes, ..Decoded::plain(size, samples) })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Extras;
    use crate::encode::png::encode;
    use rallo_engine::{Encoded, Pixels, Samples};

    fn file(size: Size, pixels: Pixels) -> (Vec<u8>, png::Info<'static>) {
        let file = encode(&Encoded { size, pixels }, &Extras::default()).unwrap();
        let info = png::Decoder::new(Cursor::new(&file)).read_info().unwrap().info().clone();
        (file, info)
    }

    fn pixels_of(file: &[u8]) -> Samples {
        decode(file, &Wanted::default()).unwrap().samples
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
        let Samples::U8(back) = pixels_of(&bytes) else { panic!() };
        assert!(back == eight);
        // 16 bits stay 16, also where 8 would do.
        for fine in [true, false] {
            let sample = |v: u32| if fine { (v >> 5) as u16 } else { (v >> 9) as u16 % 256 * 257 };
            let wide: Vec<u16> = noise(61 * 47 * 3).map(sample).collect();
            let (bytes, info) = file(size, Pixels::U16(wide.clone()));
            assert_eq!((info.color_type, info.bit_depth), (ColorType::Rgb, BitDepth::Sixteen));
            let Samples::U16(back) = pixels_of(&bytes) else { panic!() };
            assert!(back == wide);
        }
        let floats = Pixels::F32(vec![0.0; 61 * 47 * 3]);
        assert!(encode(&Encoded { size, pixels: floats }, &Extras::default()).is_err());
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
            let Samples::U8(back) = pixels_of(&bytes) else { panic!() };
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
