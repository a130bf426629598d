//! Small files that say, or unpack to, something huge: each is refused by itself, before its pixels are asked for.

use rallo_media::*;
use std::path::Path;

fn file(name: &str) -> Vec<u8> {
    std::fs::read(Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/formats").join(name)).unwrap()
}

/// CRC-32 as PNG has it (ISO 3309), bit by bit.
fn crc(bytes: &[u8]) -> u32 {
    let step = |crc: u32| if crc & 1 == 1 { (crc >> 1) ^ 0xedb8_8320 } else { crc >> 1 };
    !bytes.iter().fold(!0u32, |crc, b| (0..8).fold(crc ^ u32::from(*b), |c, _| step(c)))
}

fn chunk(kind: &[u8; 4], data: &[u8]) -> Vec<u8> {
    let body = [kind.as_slice(), data].concat();
    [&(data.len() as u32).to_be_bytes(), body.as_slice(), &crc(&body).to_be_bytes()].concat()
}

fn png(width: u32, height: u32, more: &[u8]) -> Vec<u8> {
    let head = [&width.to_be_bytes(), &height.to_be_bytes(), [8u8, 2, 0, 0, 0].as_slice()].concat();
    [
        b"\x89PNG\r\n\x1a\n".as_slice(),
        &chunk(b"IHDR", &head),
        more,
        &chunk(b"IDAT", &[0x78, 1, 3, 0, 0, 0, 0, 1]),
        &chunk(b"IEND", &[]),
    ]
    .concat()
}

/// Every place where two bytes or more say `from` says `to` instead.
fn replaced(file: &[u8], from: &[u8], to: &[u8]) -> Vec<u8> {
    let mut out = file.to_vec();
    let found: Vec<usize> =
        (0..file.len() - from.len()).filter(|at| &file[*at..at + from.len()] == from).collect();
    assert!(!found.is_empty(), "{from:?} is not in the file");
    for at in found {
        out[at..at + to.len()].copy_from_slice(to);
    }
    out
}

/// What opening and decoding a file gives: it must not be a picture.
fn refusal(name: &str, file: Vec<u8>) -> MediaError {
    match FileSource::from_bytes(file) {
        Err(e) => e,
        Ok(source) => source.decode(0).err().unwrap_or_else(|| panic!("{name} is a picture")),
    }
}

fn is_too_large(name: &str, file: Vec<u8>) {
    let refused = FileSource::from_bytes(file).err().unwrap_or_else(|| panic!("{name} was opened"));
    let fits = matches!(&refused, MediaError::TooLarge { .. })
        || refused.to_string().to_lowercase().contains("limit")
        || refused.to_string().contains("memory");
    assert!(fits, "{name}: {refused}");
}

#[test]
fn sizes_beyond_the_limit_are_refused_by_their_headers() {
    is_too_large("png", png(60_000, 60_000, &[]));
    let jpeg = {
        let picture = rallo_engine::Encoded {
            size: rallo_engine::Size::new(48, 32),
            pixels: rallo_engine::Pixels::U8(vec![9; 48 * 32 * 3]),
        };
        let plain =
            Encoding::Jpeg { quality: 90, chroma: Chroma::Full, progressive: false, optimised: false };
        encode(&picture, plain, &Extras::default()).unwrap()
    };
    // The frame header: precision, height, width.
    is_too_large("jpeg", replaced(&jpeg, &[8, 0, 32, 0, 48], &[8, 0xff, 0xdc, 0xff, 0xdc]));
    // TIFF: the entries of width (256) and length (257), as short numbers.
    for name in ["eight.tif", "sixteen.tif", "float.tif"] {
        let tiff = file(name);
        let little = tiff.starts_with(b"II");
        let short = |n: u16| if little { n.to_le_bytes() } else { n.to_be_bytes() };
        let entry = |tag: u16, kind: u16, value: u16| {
            let count = if little { 1u32.to_le_bytes() } else { 1u32.to_be_bytes() };
            [short(tag).as_slice(), &short(kind), &count, &short(value)].concat()
        };
        let mut big = tiff.clone();
        for (tag, side) in [(256, 48), (257, 32)] {
            let kind = if tiff.windows(10).any(|w| w == entry(tag, 3, side)) { 3 } else { 4 };
            big = replaced(&big, &entry(tag, kind, side), &entry(tag, kind, 60_000));
        }
        assert!(FileSource::from_bytes(big).is_err(), "{name}");
    }
    // GIF and BMP say it at fixed places; a GIF's frame says it again.
    let gif = file("palette.gif");
    let huge = replaced(&gif, &[48, 0, 32, 0], &[0xff, 0xff, 0xff, 0xff]);
    is_too_large("gif", huge);
    let mut bmp = file("plain.bmp");
    bmp[18..22].copy_from_slice(&60_000u32.to_le_bytes());
    bmp[22..26].copy_from_slice(&60_000u32.to_le_bytes());
    is_too_large("bmp", bmp);
    // HEIC and AVIF: the property of the spatial extents.
    for name in ["still.heic", "still.avif"] {
        let still = file(name);
        let at = still.windows(4).position(|w| w == b"ispe").unwrap() + 8;
        let mut big = still.clone();
        big[at..at + 4].copy_from_slice(&60_000u32.to_be_bytes());
        big[at + 4..at + 8].copy_from_slice(&60_000u32.to_be_bytes());
        let all = still.windows(4).filter(|w| w == b"ispe").count();
        if all == 1 {
            is_too_large(name, big);
        } else {
            // Tiles and the whole have their own; each is made huge.
            let mut from = 0;
            while let Some(next) = big[from..].windows(4).position(|w| w == b"ispe") {
                from += next + 8;
                for side in [0, 4] {
                    big[from + side..from + side + 4].copy_from_slice(&60_000u32.to_be_bytes());
                }
            }
            is_too_large(name, big);
        }
    }
    // JPEG XL: signature, then a size header with 30-bit sides (ISO/IEC 18181-1, A.2): small = 0, 3 for the 30 bits, the
    // height less one, proportion 0, 3 again, the width less one.
    let mut bits: Vec<bool> = Vec::new();
    let mut put = |value: u64, count: u32| bits.extend((0..count).map(|i| value >> i & 1 == 1));
    put(0, 1);
    put(3, 2);
    put(100_000_000, 30);
    put(0, 3);
    put(3, 2);
    put(100_000_000, 30);
    put(1, 1);
    let packed: Vec<u8> =
        bits.chunks(8).map(|b| b.iter().enumerate().map(|(i, on)| u8::from(*on) << i).sum()).collect();
    let jxl = [&[0xff, 0x0a], packed.as_slice(), &[0; 64]].concat();
    assert!(FileSource::from_bytes(jxl).is_err());
}

#[test]
fn a_webp_that_claims_the_largest_size_there_is_has_no_pixels_for_it() {
    // 16383 x 16383 is within the limit; what stands behind the header is not there.
    let lossless = file("lossless.webp");
    let at = lossless.windows(4).position(|w| w == b"VP8L").unwrap() + 8;
    assert_eq!(lossless[at], 0x2f);
    let mut big = lossless.clone();
    let sides: u32 = 16_382 | 16_382 << 14;
    let rest = u32::from_le_bytes(big[at + 1..at + 5].try_into().unwrap()) & 0xf000_0000;
    big[at + 1..at + 5].copy_from_slice(&(sides | rest).to_le_bytes());
    let told = refusal("webp", big).to_string();
    assert!(told.contains("damaged") || told.contains("ends in the middle"), "{told}");
}

#[test]
fn what_unpacks_to_far_more_is_not_unpacked() {
    // A colour profile of zeros, 600 MB of them behind four (zlib, stored as runs of one match).
    let profile = [b"x\0\0".as_slice(), &zeros()].concat();
    assert!(profile.len() < 5_000_000);
    let bomb = png(8, 8, &chunk(b"iCCP", &profile));
    let _alone = MEASURED.lock().unwrap_or_else(|p| p.into_inner());
    let before = peak();
    // The profile is left out or the file is refused; either way nothing of that size is made.
    if let Ok(source) = FileSource::from_bytes(bomb) {
        assert!(source.icc_bytes() < 10_000_000);
    }
    assert!(peak() - before < 400_000_000, "{} bytes more", peak() - before);
}

#[test]
fn a_document_whose_page_unpacks_to_far_more_is_refused() {
    let zeros = zeros();
    let mut file = b"%PDF-1.5\n".to_vec();
    let mut places = Vec::new();
    for object in [
        b"<< /Type /Catalog /Pages 2 0 R >>".to_vec(),
        b"<< /Type /Pages /Kids [3 0 R] /Count 1 >>".to_vec(),
        b"<< /Type /Page /Parent 2 0 R /MediaBox [0 0 100 100] /Contents 4 0 R >>".to_vec(),
        [
            format!("<< /Length {} /Filter /FlateDecode >>\nstream\n", zeros.len()).as_bytes(),
            &zeros,
            b"\nendstream",
        ]
        .concat(),
    ] {
        places.push(file.len());
        file.extend(format!("{} 0 obj\n", places.len()).bytes());
        file.extend(object);
        file.extend(b"\nendobj\n");
    }
    let table = file.len();
    file.extend(b"xref\n0 5\n0000000000 65535 f \n");
    for place in places {
        file.extend(format!("{place:010} 00000 n \n").bytes());
    }
    file.extend(format!("trailer\n<< /Size 5 /Root 1 0 R >>\nstartxref\n{table}\n%%EOF\n").bytes());
    let _alone = MEASURED.lock().unwrap_or_else(|p| p.into_inner());
    let before = peak();
    let told = rallo_media::pdf::shrink::smaller(&file, 150, 80).unwrap_err().to_string();
    assert!(told.starts_with("this PDF cannot be read"), "{told}");
    assert!(peak() - before < 450_000_000, "{} bytes more", peak() - before);
}

/// Held while memory is measured: tests of one program share it.
static MEASURED: std::sync::Mutex<()> = std::sync::Mutex::new(());

/// 600 MB of zeros in zlib's format.
fn zeros() -> Vec<u8> {
    let mut deflated = vec![0x78, 0x9c];
    let mut writer = Bits::default();
    // One fixed block: a literal zero, then matches of 258 at distance 1.
    writer.put(1, 1);
    writer.put(1, 2);
    writer.code(0x30, 8);
    for _ in 0..2_400_000 {
        // Length 258 is code 285 (fixed: 8 bits, 0xc5), no extra bits; distance 1 is code 0 (5 bits).
        writer.code(0xc5, 8);
        writer.code(0, 5);
    }
    writer.code(0, 7);
    deflated.extend(writer.done());
    deflated.extend([0, 0, 0, 0]);
    deflated
}

/// Most memory this process ever had (`VmHWM`), in bytes.
fn peak() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap();
    let line = status.lines().find(|l| l.starts_with("VmHWM:")).unwrap();
    line.split_whitespace().nth(1).unwrap().parse::<u64>().unwrap() * 1024
}

/// Bits as deflate has them (RFC 1951): numbers from the lowest bit on, codes from the highest.
#[derive(Default)]
struct Bits {
    bytes: Vec<u8>,
    held: u32,
    count: u32,
}

impl Bits {
    fn put(&mut self, value: u32, bits: u32) {
        self.held |= value << self.count;
        self.count += bits;
        while self.count >= 8 {
            self.bytes.push(self.held as u8);
            self.held >>= 8;
            self.count -= 8;
        }
    }

    fn code(&mut self, code: u32, bits: u32) {
        self.put(code.reverse_bits() >> (32 - bits), bits);
    }

    fn done(mut self) -> Vec<u8> {
        self.put(0, 7);
        self.bytes
    }
}

#[test]
fn a_tiff_of_very_many_channels_is_refused() {
    // 20,000 × 20,000 pixels of 64 channels with one bit each: 26 thousand million samples in a few bytes.
    let mut file = b"II*\0\x08\0\0\0\x05\0".to_vec();
    for (tag, value) in [(256u16, 20_000u32), (257, 20_000), (258, 1), (262, 1), (277, 64)] {
        file.extend(tag.to_le_bytes());
        file.extend([4, 0, 1, 0, 0, 0]);
        file.extend(value.to_le_bytes());
    }
    file.extend([0; 4]);
    assert!(matches!(FileSource::from_bytes(file), Err(MediaError::TooLarge { .. })));
}
