//! JPEG XL (ISO/IEC 18181): read through `jxl-oxide`, written by libjxl's own program, as HEIC is read by libheif's. Camera
//! data and the result's mark stand in boxes before the picture (ISO/IEC 18181-2).

use crate::MediaError;
use crate::decode::MAX_PIXELS;
use crate::decode::channels::{Alpha, to_rgb};
use crate::decode::image_crate::complaint;
use crate::decode::{Decoded, Head, Wanted};
use rallo_engine::Size;
use std::io::Cursor;

fn open(file: &[u8]) -> Result<jxl_oxide::JxlImage, MediaError> {
    // Four channels in float, and as much again to work in.
    let limit = jxl_oxide::AllocTracker::with_limit(MAX_PIXELS as usize * 32);
    jxl_oxide::JxlImage::builder()
        .alloc_tracker(limit)
        .read(Cursor::new(file))
        .map_err(|e| complaint(&e, file))
}

/// Size (upright: the decoder turns the picture), profile, depth and camera data of a JPEG XL file.
pub fn head(file: &[u8]) -> Result<Head, MediaError> {
    let picture = open(file)?;
    let bits = picture.image_header().metadata.bit_depth.bits_per_sample().min(32) as u8;
    let size = Size::new(picture.width(), picture.height());
    let exif = match picture.aux_boxes().first_exif() {
        Ok(jxl_oxide::AuxBoxData::Data(raw)) => Some(raw.payload().to_vec()),
        _ => None,
    };
    Ok(Head { size, icc: Some(picture.rendered_icc()), bits, exif, upright: true, ..Head::default() })
}

/// The pixels of the first frame of a JPEG XL file.
pub fn decode(file: &[u8], wanted: &Wanted<'_>) -> Result<Decoded, MediaError> {
    let picture = open(file)?;
    let eight = picture.image_header().metadata.bit_depth.bits_per_sample() <= 8;
    let frame = picture.render_frame(0).map_err(|e| complaint(&e, file))?;
    let mut stream = frame.stream();
    let channels = stream.channels() as usize;
    let size = Size::new(stream.width(), stream.height());
    let mut samples = vec![0f32; size.area() as usize * channels];
    stream.write_to_buffer(&mut samples);
    let alpha = if matches!(channels, 2 | 4) { Alpha::Straight } else { Alpha::None };
    let scaled = |max: f32| move |v: &f32| v.clamp(0.0, 1.0) * max + 0.5;
    let samples = if eight {
        let values: Vec<u8> = samples.iter().map(scaled(255.0)).map(|v| v as u8).collect();
        to_rgb(values, channels, alpha, wanted.ground)
    } else {
        let values: Vec<u16> = samples.iter().map(scaled(65_535.0)).map(|v| v as u16).collect();
        to_rgb(values, channels, alpha, wanted.ground)
    };
    Ok(Decoded::plain(size, samples))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Extras;
    use crate::encode::jxl::encode;
    use rallo_engine::{Encoded, Pixels, Samples};

    fn pixels_of(file: &[u8]) -> (Size, Samples) {
        let decoded = decode(file, &Wanted::default()).unwrap();
        (decoded.size, decoded.samples)
    }

    fn ramp(size: Size) -> impl Iterator<Item = u32> {
        (0..size.height).flat_map(move |y| {
            (0..size.width)
                .flat_map(move |x| [x * 65_535 / size.width, y * 65_535 / size.height, (x * y * 37) % 65_536])
        })
    }

    #[test]
    fn nothing_is_lost_in_eight_and_sixteen_bits_where_nothing_is_to_be_lost() {
        let size = Size::new(45, 31);
        let wide: Vec<u16> = ramp(size).map(|v| v as u16).collect();
        let eight: Vec<u8> = ramp(size).map(|v| (v >> 8) as u8).collect();
        let file =
            encode(&Encoded { size, pixels: Pixels::U8(eight.clone()) }, None, &Extras::default()).unwrap();
        let (back, Samples::U8(samples)) = pixels_of(&file) else { panic!() };
        assert!(back == size && samples == eight);
        let file =
            encode(&Encoded { size, pixels: Pixels::U16(wide.clone()) }, None, &Extras::default()).unwrap();
        let (back, Samples::U16(samples)) = pixels_of(&file) else { panic!() };
        assert!(back == size && samples == wide);
        assert_eq!(head(&file).unwrap().bits, 16);
    }

    #[test]
    fn less_quality_is_a_smaller_file_further_from_the_picture() {
        let size = Size::new(200, 140);
        let eight: Vec<u8> = ramp(size).map(|v| (v >> 8) as u8).collect();
        let picture = Encoded { size, pixels: Pixels::U8(eight.clone()) };
        let apart = |quality: u8| {
            let file = encode(&picture, Some(quality), &Extras::default()).unwrap();
            let (_, Samples::U8(back)) = pixels_of(&file) else { panic!() };
            let sum: u32 = back.iter().zip(&eight).map(|(a, b)| u32::from(a.abs_diff(*b))).sum();
            (file.len(), f64::from(sum) / eight.len() as f64)
        };
        let (fine, coarse) = (apart(95), apart(40));
        assert!(fine.0 > coarse.0 && fine.1 < coarse.1, "{fine:?} {coarse:?}");
        // 100 is no other way of working.
        assert_eq!(apart(100).0, apart(99).0);
    }

    #[test]
    fn camera_data_and_the_mark_are_found_again() {
        let size = Size::new(8, 8);
        let picture = Encoded { size, pixels: Pixels::U8(vec![90; 192]) };
        let camera = crate::CameraData {
            camera: Some("Marlow 24".into()),
            iso: Some(200),
            orientation: 1,
            ..Default::default()
        };
        let made = crate::Made { recipe: "ab".into(), source: "cd".into(), done: vec!["crop".into()] };
        let extras = Extras { exif: camera.write().ok(), made: Some(made.clone()), ..Extras::default() };
        let file = encode(&picture, Some(80), &extras).unwrap();
        assert_eq!(crate::Made::find(&file), Some(made));
        let exif = head(&file).unwrap().exif;
        assert_eq!(crate::CameraData::read(&exif.unwrap()).iso, Some(200));
        assert!(encode(&Encoded { size, pixels: Pixels::F32(vec![0.5; 192]) }, None, &extras).is_err());
    }
}
