//! Small pictures of every kind, one scene by formula in each, written by other libraries (`pictures/make.py`).

use rallo_engine::{DecodeSettings, Encoded, OutputProfile, Pixels, Plan, Size, Source};
use rallo_media::{Chroma, Encoding, Extras, FileSource, MediaError};
use std::path::{Path, PathBuf};

const WIDTH: usize = 16;
const HEIGHT: usize = 12;

fn folder() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/pictures")
}

fn file(name: &str) -> Vec<u8> {
    std::fs::read(folder().join(name)).unwrap()
}

/// The scene's pixel at a place, 0 … 255.
fn scene(x: usize, y: usize) -> [f64; 3] {
    [10.0 + 14.0 * x as f64, 20.0 + 17.0 * y as f64, 200.0 - 5.0 * x as f64 - 6.0 * y as f64]
}

/// A file as it is shown: upright, in sRGB, 0 … 255.
fn shown(source: &FileSource) -> Result<Vec<[f64; 3]>, Box<dyn std::error::Error>> {
    let size = source.size();
    let program = Plan::new(Vec::new(), size)?.program(1.0);
    let encoded = program.render_16(source, size.rect(), OutputProfile::Srgb.colour())?;
    let Pixels::U16(values) = encoded.pixels else { panic!("16 bits were asked for") };
    Ok(values.as_chunks::<3>().0.iter().map(|p| p.map(|v| f64::from(v) / 257.0)).collect())
}

#[test]
fn every_kind_of_file_shows_the_scene() {
    let mut names: Vec<String> = std::fs::read_dir(folder())
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .filter(|name| !name.ends_with(".py"))
        .collect();
    names.sort();
    assert!(names.len() >= 60, "{}", names.len());
    let mut faults = Vec::new();
    for name in &names {
        let pixels = FileSource::from_bytes(file(name)).map_err(Into::into).and_then(|source| {
            let size = source.size();
            assert_eq!((size.width as usize, size.height as usize), (WIDTH, HEIGHT), "{name}");
            shown(&source)
        });
        let pixels = match pixels {
            Ok(pixels) => pixels,
            Err(e) => {
                faults.push(format!("{name}: {e}"));
                continue;
            }
        };
        let (kind, _) = name.split_once('-').unwrap();
        let most = if kind == "near" || kind == "raw" { 12.0 } else { 1.01 };
        let wanted = |i: usize| {
            let (x, y) = (i % WIDTH, i / WIDTH);
            match kind {
                "grey" => [scene(x, y)[0]; 3],
                "white" if x >= WIDTH / 2 => [255.0; 3],
                _ => scene(x, y),
            }
        };
        // The scene is so steep that a mosaic's outermost pixels cannot be told.
        let is_counted = |i: usize| {
            let (x, y) = (i % WIDTH, i / WIDTH);
            kind != "raw" || (3..WIDTH - 3).contains(&x) && (3..HEIGHT - 3).contains(&y)
        };
        let apart = pixels.iter().enumerate().filter(|(i, _)| is_counted(*i)).flat_map(|(i, p)| {
            let wanted = wanted(i);
            (0..3).map(move |c| (p[c] - wanted[c]).abs())
        });
        let apart = apart.fold(0.0, f64::max);
        if apart > most {
            faults.push(format!("{name}: up to {apart:.1} of 255 apart"));
        }
    }
    assert!(faults.is_empty(), "{faults:#?}");
}

#[test]
fn what_is_odd_and_does_no_harm_is_a_note() {
    let notes = |name: &str| FileSource::from_bytes(file(name)).unwrap().notes().join(" ");
    assert!(notes("near-jpeg.jpg").is_empty());
    assert!(
        notes("near-jpeg-junk.jpg").contains("3 bytes before the picture"),
        "{}",
        notes("near-jpeg-junk.jpg")
    );
    assert!(notes("near-jpeg-bad-profile.jpg").contains("colour profile is not whole"));
    assert!(
        notes("rgb-png-wrong-sum.png").contains("tIME do not match"),
        "{}",
        notes("rgb-png-wrong-sum.png")
    );
    assert!(notes("rgb-tiff-pages.tif").contains("2 pages; page 1 is taken"));
}

#[test]
fn of_a_file_that_is_cut_off_the_part_that_is_there_can_be_used() {
    let part = DecodeSettings { use_part: true, ..DecodeSettings::default() };
    // Noise packs badly, so that a share of the bytes is a share of the rows.
    let size = Size::new(160, 120);
    let noise = (0..160 * 120 * 3u32).map(|i| (i.wrapping_mul(2_654_435_761) >> 27) as u8);
    let picture = Encoded { size, pixels: Pixels::U8(noise.map(|n| 100 + n).collect()) };
    let jpeg = Encoding::Jpeg { quality: 90, chroma: Chroma::Full, progressive: false, optimised: false };
    for (name, encoding) in [("JPEG", jpeg), ("PNG", Encoding::Png)] {
        let whole = rallo_media::encode(&picture, encoding, &Extras::default()).unwrap();
        let cut = whole[..whole.len() * 3 / 4].to_vec();
        let refused = FileSource::from_bytes(cut.clone()).unwrap().decode(0).err().unwrap();
        assert!(matches!(refused, MediaError::Truncated(_)), "{name}: {refused}");
        let source = FileSource::from_bytes(cut).unwrap().decoding_by(&part);
        let pixels = shown(&source).unwrap();
        let shown_whole = shown(&FileSource::from_bytes(whole).unwrap()).unwrap();
        let rows = |y: usize| y * 160..(y + 1) * 160;
        assert_eq!(pixels[rows(60)], shown_whole[rows(60)], "{name}");
        assert_ne!(pixels[rows(119)], shown_whole[rows(119)], "{name}");
        assert!(source.notes().join(" ").contains("cut off"), "{name}");
    }
}

#[test]
fn transparent_parts_lie_on_the_colour_that_is_named() {
    let green = DecodeSettings { background: Some("#00ff00".into()), ..DecodeSettings::default() };
    for name in ["white-png.png", "white-tiff.tif", "white-tiff-multiplied.tif", "white-tga.tga"] {
        let pixels = shown(&FileSource::from_bytes(file(name)).unwrap().decoding_by(&green)).unwrap();
        let corner = pixels[WIDTH - 1];
        assert!(corner[0] < 1.0 && corner[1] > 254.0 && corner[2] < 1.0, "{name}: {corner:?}");
    }
}

#[test]
fn a_refusal_says_of_which_kind_it_is() {
    let refused =
        |bytes: Vec<u8>| FileSource::from_bytes(bytes).and_then(|s| s.decode(0).map(drop)).unwrap_err();
    assert!(matches!(refused(b"just some words".to_vec()), MediaError::Unknown(_)));
    assert!(matches!(refused(Vec::new()), MediaError::Empty));
    let mut large = file("rgb-png-16.png");
    // Width and height of the head, and its check sum.
    large[16..24].copy_from_slice(&[0, 1, 0x86, 0xa0, 0, 1, 0x86, 0xa0]);
    let sum = crc32fast::hash(&large[12..29]);
    large[29..33].copy_from_slice(&sum.to_be_bytes());
    let too_large = refused(large);
    assert!(matches!(too_large, MediaError::TooLarge { .. }), "{too_large}");
    let mut odd = file("rgb-tiff-ink.tif");
    odd.truncate(odd.len() / 4);
    assert!(matches!(refused(odd), MediaError::Damaged(_) | MediaError::Truncated(_)));
}

#[test]
fn what_a_decoder_has_not_finished_fails_that_file_alone() {
    // Found by feeding changed files to the decoders (`script/fuzz`).
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/odd");
    for name in ["unfinished-profile.jxl", "unfinished-kind.dng"] {
        let bytes = std::fs::read(folder.join(name)).unwrap();
        let refused =
            FileSource::from_bytes(bytes).and_then(|s| s.decode(0).map(drop)).unwrap_err().to_string();
        assert!(
            refused.contains("please report") && refused.contains("not yet implemented"),
            "{name}: {refused}"
        );
    }
    // Its first directory names itself as the next: a reader that follows it needs more and more memory.
    let circle = std::fs::read(folder.join("circle.dng")).unwrap();
    let refused = FileSource::from_bytes(circle).map(drop).unwrap_err().to_string();
    assert!(refused.contains("leads back to itself"), "{refused}");
    // It has two heights: the one that is small stands first, and a reader that takes the other asks for 82 GB.
    let heights = std::fs::read(folder.join("two-heights.dng")).unwrap();
    let refused = FileSource::from_bytes(heights).map(drop).unwrap_err().to_string();
    assert!(refused.contains("told twice"), "{refused}");
}

#[test]
fn a_jpeg_of_twelve_bits_is_refused_as_that_and_not_as_damaged() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/odd/twelve-bits.jpg");
    let refused = FileSource::open(&path).and_then(|s| s.decode(0).map(drop)).unwrap_err();
    assert!(matches!(&refused, MediaError::Unsupported(text) if text.contains("12 bits")), "{refused}");
}

#[test]
fn a_raws_colours_are_those_of_an_icc_profile_with_its_cameras_name() {
    // A camera of its own, so that no other test reads by these profiles.
    let mut dng = file("raw-bayer.dng");
    let at = dng.windows(11).position(|w| w == b"Marlow 24 R").unwrap();
    dng[at..at + 11].copy_from_slice(b"Marlow 25 R");
    let by = |profile: &moxcms::ColorProfile| {
        rallo_media::camera_profiles::add(&profile.encode().unwrap(), "marlow 25 r").unwrap();
        shown(&FileSource::from_bytes(dng.clone()).unwrap()).unwrap()
    };
    let own = shown(&FileSource::from_bytes(dng.clone()).unwrap()).unwrap();
    let plain = moxcms::ColorProfile::new_srgb();
    let mut swapped = plain.clone();
    (swapped.red_colorant, swapped.blue_colorant) = (plain.blue_colorant, plain.red_colorant);
    let (straight, crossed) = (by(&plain), by(&swapped));
    for (i, (a, b)) in straight.iter().zip(&crossed).enumerate() {
        let apart = (0..3).map(|c| (a[c] - b[2 - c]).abs()).fold(0.0, f64::max);
        assert!(apart < 1.0, "{i}: {a:?} {b:?}");
    }
    let changed = own.iter().zip(&straight).map(|(a, b)| (a[1] - b[1]).abs()).fold(0.0, f64::max);
    assert!(changed > 5.0, "the profile changed nothing");
    let refused = rallo_media::camera_profiles::add(&[0; 128], "marlow 25 r").unwrap_err();
    assert!(refused.to_string().contains("no camera profile"), "{refused}");
}
