//! Whatever bytes come in: headers, camera data, XMP and pixels are read or refused, and nothing falls over.

use proptest::prelude::*;
use rallo_media::metadata::xmp::Sidecar;
use rallo_media::*;
use std::path::Path;

fn files() -> Vec<Vec<u8>> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/formats");
    let mut all: Vec<Vec<u8>> =
        std::fs::read_dir(folder).unwrap().map(|e| std::fs::read(e.unwrap().path()).unwrap()).collect();
    let picture = rallo_engine::Encoded {
        size: rallo_engine::Size::new(48, 32),
        pixels: rallo_engine::Pixels::U8((0..48 * 32 * 3).map(|i| (i * 7 % 251) as u8).collect()),
    };
    let camera =
        CameraData { camera: Some("Marlow 24".into()), iso: Some(400), orientation: 6, ..Default::default() };
    let words = DescriptiveFields {
        keywords: vec!["pots".into()],
        creator: "A. Thistlewick".into(),
        ..DescriptiveFields::default()
    };
    let made = Made { recipe: content_hash(b"a"), source: content_hash(b"b"), done: vec!["crop".into()] };
    let extras = Extras { exif: camera.write().ok(), made: Some(made), words, ..Extras::default() };
    let jpeg =
        |progressive| Encoding::Jpeg { quality: 90, chroma: Chroma::Half, progressive, optimised: false };
    for encoding in [jpeg(false), jpeg(true), Encoding::Png] {
        all.push(encode(&picture, encoding, &extras).unwrap());
    }
    // HEIC and AVIF are decoded by a program of its own, and are slow here for that.
    all.retain(|f| !f.windows(4).take(16).any(|w| w == b"ftyp"));
    assert!(all.len() >= 10);
    all.sort();
    all
}

fn opened(file: Vec<u8>) {
    let _ = Made::find(&file);
    let _ = Sidecar::inside(&file);
    if let Ok(source) = FileSource::from_bytes(file) {
        let _ = source.facts(Path::new("x"));
        let _ = source.embedded(16);
        let _ = DescriptiveFields::read(source.bytes(), source.exif());
        let _ = metadata::exif::carried(source.exif(), &metadata::exif::Carry::default());
        let size = rallo_engine::Source::size(&source);
        // A changed header may ask for much; that it may is another test's matter.
        if size.area() < 4_000_000 {
            let _ = source.decode(0);
            let _ = source.decode(2);
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 500, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn files_with_some_bytes_changed(which in any::<prop::sample::Index>(), changes in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 1..6), cut in prop::option::of(any::<prop::sample::Index>())) {
        let all = files();
        let mut file = all[which.index(all.len())].clone();
        for (at, byte) in changes {
            let at = at.index(file.len());
            file[at] = byte;
        }
        if let Some(cut) = cut {
            file.truncate(cut.index(file.len()));
        }
        opened(file);
    }

    #[test]
    fn headers_with_some_bytes_changed(which in any::<prop::sample::Index>(), changes in prop::collection::vec((0usize..64, any::<u8>()), 1..4)) {
        let all = files();
        let mut file = all[which.index(all.len())].clone();
        for (at, byte) in changes {
            if let Some(place) = file.get_mut(at) {
                *place = byte;
            }
        }
        opened(file);
    }

    #[test]
    fn bytes_of_any_kind(start in prop::sample::select(vec![&b"\xff\xd8\xff\xe1"[..], b"\x89PNG\r\n\x1a\n", b"GIF89a", b"RIFF....WEBP", b"II*\0", b"MM\0*", b"\0\0\0\x0cJXL ", b"\xff\x0a", b"BM", b"Exif\0\0II*\0", b""]), rest in prop::collection::vec(any::<u8>(), 0..400)) {
        let file = [start, &rest].concat();
        opened(file.clone());
        let _ = CameraData::read(&file);
        let _ = DescriptiveFields::read(&file, Some(&rest));
    }

    #[test]
    fn xmp_of_any_text(text in ".{0,200}", at in any::<prop::sample::Index>(), put in "[<>&\"'/=:a-z \u{0}-\u{1f}]{0,12}") {
        let _ = Sidecar::parse(&text);
        let mut packet = Sidecar { rating: 3, keywords: vec!["pots".into(), "seedlings & <trays>".into()] }.packet();
        let mut at = at.index(packet.len());
        while !packet.is_char_boundary(at) {
            at -= 1;
        }
        packet.insert_str(at, &put);
        let _ = Sidecar::parse(&packet);
        let _ = Sidecar::inside(packet.as_bytes());
        let _ = DescriptiveFields::read(packet.as_bytes(), None);
        let _ = Made::find(packet.as_bytes());
    }

    #[test]
    fn sidecars_come_back(rating in 0u8..=5, keywords in prop::collection::vec("[^\u{0}-\u{1f}\u{7f}-\u{9f}\u{fffe}\u{ffff}]{1,20}", 0..5)) {
        let keywords: Vec<String> = keywords.into_iter().map(|k| k.trim().to_owned()).filter(|k| !k.is_empty()).collect();
        let one = Sidecar { rating, keywords };
        let back = Sidecar::parse(&one.packet()).unwrap();
        prop_assert_eq!((back.rating, back.keywords), (one.rating, one.keywords));
    }
}
