//! Files in and out: what is written can be read, and bad files say why.

use rallo_engine::{DecodeSettings, Encoded, OutputProfile, Pixels, Plan, Samples, Size, Source};
use rallo_media::*;

fn gradient(w: u32, h: u32) -> Encoded {
    let v = (0..w * h).flat_map(|i| [(i % w * 255 / w) as u8, (i / w * 255 / h) as u8, 120]).collect();
    Encoded { size: Size::new(w, h), pixels: Pixels::U8(v) }
}

const GOOD: Encoding =
    Encoding::Jpeg { quality: 95, chroma: Chroma::Full, progressive: false, optimised: false };

fn extras() -> Extras {
    let camera =
        CameraData { camera: Some("Marlow 24".into()), iso: Some(400), orientation: 1, ..Default::default() };
    Extras {
        icc: Some(OutputProfile::DisplayP3.colour().icc.clone()),
        exif: Some(camera.write().unwrap()),
        made: Some(Made { recipe: content_hash(b"r"), source: content_hash(b"s"), done: Vec::new() }),
        ..Extras::default()
    }
}

fn samples(source: &FileSource, level: u8) -> (Size, Vec<u8>) {
    let picture = source.decode(level).unwrap();
    match picture.samples() {
        Samples::U8(v) => (picture.size(), v.clone()),
        _ => panic!("8 bits expected"),
    }
}

#[test]
fn jpeg_and_png_come_back_with_everything() {
    let picture = gradient(200, 120);
    let progressive =
        Encoding::Jpeg { quality: 95, chroma: Chroma::Half, progressive: true, optimised: false };
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
fn what_is_covered_comes_back_from_every_format_that_knows_of_it() {
    let size = Size::new(32, 24);
    let cover: Vec<u16> = (0..size.area()).map(|i| (i % 32 * 65_535 / 31) as u16 / 257 * 257).collect();
    let eight = Pixels::U8((0..size.area() * 3).map(|i| (i * 7 % 200) as u8).collect());
    let wide = Pixels::U16((0..size.area() * 3).map(|i| (i * 1777 % 60_000) as u16).collect());
    let floats = Pixels::F32((0..size.area() * 3).map(|i| (i % 97) as f32 / 97.0).collect());
    let tiff = Encoding::Tiff { packing: rallo_media::Packing::Lzw };
    let jxl = Encoding::Jxl { quality: None };
    let webp = Encoding::WebP { quality: None };
    let kinds = [
        (Encoding::Png, &eight),
        (Encoding::Png, &wide),
        (webp, &eight),
        (Encoding::WebP { quality: Some(80) }, &eight),
        (Encoding::Avif { quality: 90 }, &eight),
        (jxl, &eight),
        (jxl, &wide),
        (tiff, &eight),
        (tiff, &wide),
        (tiff, &floats),
    ];
    for (encoding, pixels) in kinds {
        let picture = Encoded { size, pixels: pixels.clone() };
        let extras = Extras { coverage: Some(cover.clone()), ..Extras::default() };
        let source = FileSource::from_bytes(encode(&picture, encoding, &extras).unwrap()).unwrap();
        let cut_out = source.cut_out().unwrap().unwrap_or_else(|| panic!("{encoding:?} is not transparent"));
        let Samples::U16(back) = cut_out.coverage.level(0).unwrap().samples().clone() else { panic!() };
        let off = back.as_chunks::<3>().0.iter().zip(&cover).map(|(b, c)| b[0].abs_diff(*c)).max().unwrap();
        // An AVIF's coverage is encoded as a picture is.
        let room = if matches!(encoding, Encoding::Avif { .. }) { 2_000 } else { 257 };
        assert!(off <= room, "{encoding:?}: coverage is off by {off}");
        // Without being asked for it, nothing is transparent.
        let opaque = FileSource::from_bytes(encode(&picture, encoding, &Extras::default()).unwrap()).unwrap();
        assert!(opaque.cut_out().unwrap().is_none(), "{encoding:?}");
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
        "this is not a picture that can be read (it holds text); JPEG, PNG, TIFF, WebP, AVIF, HEIC, JPEG XL, JPEG 2000, GIF, BMP, PNM, TGA, ICO, OpenEXR, Radiance and camera raw can"
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

/// The picture in `tests/formats`: made by numpy as `[40 + 4x, 60 + 5y, 200 − 2x − y]`, 48 × 32, and written by
/// other libraries: pyvips (`tiffsave` deflate and LZW, `heifsave` AV1 4:4:4 Q 95), tifffile (float), Pillow (WebP
/// lossless and quality 95, GIF of 256 colours, BMP), libheif's `heif-enc -q 95 -p chroma=444`, `cjxl -d 0`.
fn drawn(i: usize) -> [f32; 3] {
    let (x, y) = ((i % 48) as f32, (i / 48) as f32);
    [40.0 + 4.0 * x, 60.0 + 5.0 * y, 200.0 - 2.0 * x - y]
}

#[test]
fn every_format_is_read_as_other_libraries_wrote_it() {
    for (name, format, bits, most) in [
        ("eight.tif", Format::Tiff, 8, 0.01),
        ("sixteen.tif", Format::Tiff, 16, 0.01),
        ("float.tif", Format::Tiff, 32, 0.01),
        ("lossless.webp", Format::WebP, 8, 0.01),
        ("lossy.webp", Format::WebP, 8, 6.0),
        ("palette.gif", Format::Gif, 8, 5.0),
        ("plain.bmp", Format::Bmp, 8, 0.01),
        ("still.avif", Format::Avif, 8, 2.0),
        ("still.heic", Format::Heic, 8, 2.0),
        ("lossless.jxl", Format::Jxl, 8, 0.51),
    ] {
        let path = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/formats").join(name);
        let facts = decode::facts(&path).unwrap_or_else(|e| panic!("{name}: {e}"));
        assert_eq!((facts.format, facts.width, facts.height, facts.bits), (format, 48, 32, bits), "{name}");
        let source = FileSource::open(&path).unwrap();
        assert_eq!(source.size(), Size::new(48, 32), "{name}");
        let picture = source.decode(0).unwrap_or_else(|e| panic!("{name}: {e}"));
        let values: Vec<f32> = match picture.samples() {
            Samples::U8(v) => v.iter().map(|s| f32::from(*s)).collect(),
            Samples::U16(v) => v.iter().map(|s| f32::from(*s) / 257.0).collect(),
            Samples::F32(v) => v.iter().map(|s| s * 255.0).collect(),
        };
        let mean = values.as_chunks::<3>().0.iter().enumerate().map(|(i, p)| {
            let want = drawn(i);
            (0..3).map(|c| (p[c] - want[c]).abs()).sum::<f32>() / 3.0
        });
        let mean = mean.sum::<f32>() / (48.0 * 32.0);
        assert!(mean <= most, "{name}: mean difference {mean}");
    }
}

#[test]
fn damaged_files_of_every_format_say_so() {
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/formats");
    for entry in std::fs::read_dir(folder).unwrap().flatten() {
        let whole = std::fs::read(entry.path()).unwrap();
        for part in [20, whole.len() / 3, whole.len() * 2 / 3] {
            // Cut short, a file is refused on opening or on decoding; it never takes the program along.
            let opened = FileSource::from_bytes(whole[..part].to_vec());
            if let Ok(source) = opened {
                let _ = source.decode(0);
            }
        }
        assert!(FileSource::from_bytes(whole[..8].to_vec()).is_err(), "{:?}", entry.path());
    }
}

#[test]
fn a_camera_raw_is_seen_through_its_preview() {
    // A TIFF structure whose first directory holds colour filter array data (32803), then a preview.
    let mut file = b"II*\0\x08\0\0\0\x01\0".to_vec();
    file.extend([6, 1, 3, 0, 1, 0, 0, 0, 0x23, 0x80, 0, 0, 0, 0, 0, 0]);
    file.extend(encode(&gradient(120, 80), GOOD, &extras()).unwrap());
    let source = FileSource::from_bytes(file).unwrap();
    assert_eq!((source.format(), source.size()), (Format::Raw, Size::new(120, 80)));
    assert_eq!(source.decode(1).unwrap().size(), Size::new(60, 40));
}

#[test]
fn an_embedded_preview_serves_where_it_is_large_enough() {
    let small = encode(&gradient(160, 120), GOOD, &Extras::default()).unwrap();
    let mut camera = CameraData { orientation: 1, ..Default::default() }.write().unwrap();
    camera.extend(small);
    let of = |w, h| {
        let file = encode(&gradient(w, h), GOOD, &Extras { exif: Some(camera.clone()), ..Extras::default() })
            .unwrap();
        FileSource::from_bytes(file).unwrap()
    };
    assert_eq!(of(800, 600).embedded(160).unwrap().size(), Size::new(160, 120));
    assert!(of(800, 600).embedded(400).is_none(), "too small");
    assert!(of(800, 500).embedded(160).is_none(), "another proportion");
}

/// A file that names no profile is read as it is told; one that names its own keeps that.
#[test]
fn the_profile_of_files_that_name_none_can_be_said() {
    let size = Size::new(2, 1);
    let picture = Encoded { size, pixels: Pixels::U8(vec![200, 40, 90, 10, 220, 30]) };
    let file = |icc: Option<Vec<u8>>| {
        let extras = Extras { icc, ..Extras::default() };
        rallo_media::encode(&picture, Encoding::Png, &extras).unwrap()
    };
    let wide = DecodeSettings { assumed_profile: Some("display-p3".into()), ..DecodeSettings::default() };
    let values = |file: Vec<u8>, settings: &DecodeSettings| {
        let source = FileSource::from_bytes(file).unwrap().decoding_by(settings);
        let program = Plan::new(Vec::new(), size).unwrap().program(1.0);
        program.render_values(&source, size.rect()).unwrap().1
    };
    let usual = DecodeSettings::default();
    let named = |profile: OutputProfile| file(Some(profile.colour().icc.clone()));
    assert_eq!(values(file(None), &wide), values(named(OutputProfile::DisplayP3), &usual));
    // A profile keeps its numbers in 16 bits, the standard's formula is exact.
    let both = values(file(None), &usual).into_iter().zip(values(named(OutputProfile::Srgb), &usual));
    assert!(both.into_iter().all(|(formula, profile)| (formula - profile).abs() < 1e-4));
    assert_eq!(values(named(OutputProfile::Srgb), &wide), values(named(OutputProfile::Srgb), &usual));
    assert_ne!(values(file(None), &wide), values(file(None), &usual));
}

#[test]
fn when_a_picture_was_taken_is_told_by_its_head_as_by_the_whole_file() {
    let folder = tempfile::tempdir().unwrap();
    let at: jiff::civil::DateTime = "2026-05-04T08:44:40".parse().unwrap();
    let camera = CameraData { taken: Some(at), orientation: 1, ..Default::default() };
    let exif = camera.write().unwrap();
    let extras = Extras { exif: Some(exif.clone()), ..Extras::default() };
    let jpeg = folder.path().join("a.jpg");
    std::fs::write(&jpeg, encode(&gradient(40, 30), GOOD, &extras).unwrap()).unwrap();
    // A TIFF structure that goes on long after its head, as camera raw does.
    let long = folder.path().join("b.dng");
    std::fs::write(&long, [exif, vec![0; 400_000]].concat()).unwrap();
    let named = [jpeg, long];
    assert_eq!(named.each_ref().map(|path| decode::taken(path)), [Some(at); 2]);
    let pictures = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/pictures");
    for entry in std::fs::read_dir(pictures).unwrap() {
        let path = entry.unwrap().path();
        let whole = decode::facts(&path).ok().and_then(|facts| facts.camera.taken);
        assert_eq!(decode::taken(&path), whole, "{}", path.display());
    }
    assert_eq!(decode::taken(&folder.path().join("nothing.jpg")), None);
}
