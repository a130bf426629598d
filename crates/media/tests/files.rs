//! Files in and out: what is written can be read, and bad files say why.

use rallo_engine::{Encoded, OutputProfile, Pixels, Samples, Size, Source};
use rallo_media::*;

fn gradient(w: u32, h: u32) -> Encoded {
    let v = (0..w * h).flat_map(|i| [(i % w * 255 / w) as u8, (i / w * 255 / h) as u8, 120]).collect();
    Encoded { size: Size::new(w, h), pixels: Pixels::U8(v) }
}

const GOOD: Encoding = Encoding::Jpeg { quality: 95, chroma: Chroma::Full, progressive: false };

fn extras() -> Extras {
    let camera =
        CameraData { camera: Some("Marlow 24".into()), iso: Some(400), orientation: 1, ..Default::default() };
    Extras {
        icc: Some(OutputProfile::DisplayP3.colour().icc.clone()),
        exif: Some(camera.write().unwrap()),
        made: Some(Made { recipe: content_hash(b"r"), source: content_hash(b"s") }),
    }
}

fn samples(source: &FileSource, level: u8) -> (Size, Vec<u8>) {
    let picture = source.decode(level).unwrap();
    match picture.samples() {
        Samples::U8(v) => (picture.size(), v.clone()),
        Samples::U16(_) => panic!("8 bits expected"),
    }
}

#[test]
fn jpeg_and_png_come_back_with_everything() {
    let picture = gradient(200, 120);
    let progressive = Encoding::Jpeg { quality: 95, chroma: Chroma::Half, progressive: true };
    for (encoding, exact) in [(GOOD, 3.0), (progressive, 3.0), (Encoding::Png, 0.0)] {
        let file = encode(&picture, encoding, &extras()).unwrap();
        assert_eq!(file, encode(&picture, encoding, &extras()).unwrap(), "not the same bytes twice");
        assert_eq!(Made::find(&file), extras().made);
        let source = FileSource::from_bytes(file).unwrap();
        let facts = source.facts(std::path::Path::new("x"));
        assert_eq!((facts.width, facts.height, facts.bits), (200, 120, 8));
        assert_eq!((facts.camera.iso, facts.camera.camera.as_deref()), (Some(400), Some("Marlow 24")));
        assert!(facts.profile.contains("P3"), "{}", facts.profile);
        let (_, back) = samples(&source, 0);
        let Pixels::U8(want) = &picture.pixels else { panic!() };
        let mean =
            back.iter().zip(want).map(|(a, b)| f64::from(a.abs_diff(*b))).sum::<f64>() / want.len() as f64;
        assert!(mean <= exact, "{encoding:?}: mean difference {mean}");
    }
}

#[test]
fn reduced_decoding_is_the_reduced_picture() {
    let file = encode(&gradient(203, 121), GOOD, &Extras::default()).unwrap();
    let source = FileSource::from_bytes(file).unwrap();
    let (_, whole) = samples(&source, 0);
    for level in 1..=3u8 {
        let (size, small) = samples(&source, level);
        assert_eq!(size, source.size().scaled(0.5f64.powi(level.into())));
        let n = 1usize << level;
        // Away from the edges: the mean of a block of a gradient.
        for (x, y) in [(3usize, 3usize), (10, 7)] {
            for c in 0..3 {
                let mut sum = 0.0;
                for j in 0..n {
                    for i in 0..n {
                        sum += f64::from(whole[((y * n + j) * 203 + x * n + i) * 3 + c]);
                    }
                }
                let got = f64::from(small[(y * size.width as usize + x) * 3 + c]);
                assert!((got - sum / (n * n) as f64).abs() < 3.0, "level {level} at {x},{y}");
            }
        }
    }
}

#[test]
fn sixteen_bit_png_keeps_its_bits() {
    let v: Vec<u16> = (0..300u32).map(|i| (i * 218) as u16).collect();
    let picture = Encoded { size: Size::new(10, 10), pixels: Pixels::U16(v.clone()) };
    let source =
        FileSource::from_bytes(encode(&picture, Encoding::Png, &Extras::default()).unwrap()).unwrap();
    assert_eq!(source.facts(std::path::Path::new("x")).bits, 16);
    let picture = source.decode(0).unwrap();
    let Samples::U16(back) = picture.samples() else { panic!() };
    assert_eq!(*back, v);
}

#[test]
fn grey_palette_and_transparent_png_become_rgb() {
    for (color, data, want) in [
        (png::ColorType::Grayscale, vec![10u8, 200], [10, 10, 10, 200, 200, 200]),
        (png::ColorType::GrayscaleAlpha, vec![10, 255, 10, 0], [10, 10, 10, 255, 255, 255]),
        (png::ColorType::Rgba, vec![9, 8, 7, 255, 0, 0, 0, 128], [9, 8, 7, 127, 127, 127]),
    ] {
        let mut file = Vec::new();
        let mut encoder = png::Encoder::new(&mut file, 2, 1);
        encoder.set_color(color);
        encoder.set_depth(png::BitDepth::Eight);
        encoder.write_header().unwrap().write_image_data(&data).unwrap();
        assert_eq!(samples(&FileSource::from_bytes(file).unwrap(), 0).1, want, "{color:?}");
    }
}

#[test]
fn bad_files_say_what_is_wrong() {
    let said = |bytes: Vec<u8>| match FileSource::from_bytes(bytes) {
        Err(e) => e.to_string(),
        Ok(source) => source.decode(0).err().expect("read without a word").to_string(),
    };
    let good = encode(&gradient(300, 200), GOOD, &Extras::default()).unwrap();
    assert_eq!(said(Vec::new()), "the file is empty");
    assert_eq!(
        said(b"hello, I am a shopping list".to_vec()),
        "this is not a picture that can be read (it holds text); JPEG and PNG can"
    );
    let cut = said(good[..good.len() / 2].to_vec());
    assert!(cut.starts_with("the file ends in the middle of the picture ("), "{cut}");
    assert!(said(good[..40].to_vec()).starts_with("the file ends in the middle"));
    let png = encode(&gradient(300, 200), Encoding::Png, &Extras::default()).unwrap();
    let cut = said(png[..png.len() / 2].to_vec());
    assert!(cut.starts_with("the file ends in the middle"), "{cut}");
    let mut noisy = good.clone();
    let middle = noisy.len() / 2;
    noisy[middle..middle + 40].copy_from_slice(&[0xff, 0xc4, 0, 2].repeat(10));
    // Damage inside the data is either named or decodes to something; it never takes the program down.
    if let Ok(source) = FileSource::from_bytes(noisy) {
        let _ = source.decode(0);
    }
    // Even reduced reading, which skips much of the data, notices a missing end.
    let source = FileSource::from_bytes(good[..good.len() / 2].to_vec()).unwrap();
    assert!(source.decode(3).is_err());
}
