//! AVIF.

use crate::MediaError;
use crate::encode::extras::{Extras, Interleaved};
use crate::encode::tiff::{eight, fail};
use rallo_engine::Encoded;
use ravif::{Img, RGB8, RGBA8};

/// The box that carries XMP in ISO base media files (ISO 16684-3).
pub(super) const XMP_BOX: [u8; 16] =
    [0xbe, 0x7a, 0xcf, 0xcb, 0x97, 0xa9, 0x42, 0xe8, 0x9c, 0x71, 0x99, 0x94, 0x91, 0xe3, 0xaf, 0xac];

/// How much the encoder leaves out of its search, 1 ..= 10: as good and as large as 6, which takes four to six times as long; from 10
/// on files are a third larger.
const SPEED: u8 = 9;

/// AVIF (AV1 Image File Format), 8 bits in sRGB; quality 1 ..= 100.
pub fn avif(picture: &Encoded, quality: u8, extras: &Extras) -> Result<Vec<u8>, MediaError> {
    let pixels: Vec<RGB8> =
        eight(picture, "AVIF")?.as_chunks::<3>().0.iter().map(|p| RGB8::new(p[0], p[1], p[2])).collect();
    let mut encoder = ravif::Encoder::new()
        .with_quality(f32::from(quality.clamp(1, 100)))
        .with_bit_depth(ravif::BitDepth::Eight)
        // Each picture of a run has its own threads; more of them would change the bytes.
        .with_num_threads(Some(1))
        .with_speed(SPEED);
    if let Some(exif) = &extras.exif {
        encoder = encoder.with_exif(exif.clone());
    }
    let (width, height) = (picture.size.width as usize, picture.size.height as usize);
    let made = match extras.with_coverage(picture) {
        Some(Interleaved::U8(v)) => {
            let pixels: Vec<RGBA8> =
                v.as_chunks::<4>().0.iter().map(|p| RGBA8::new(p[0], p[1], p[2], p[3])).collect();
            encoder.encode_rgba(Img::new(&pixels, width, height))
        }
        _ => encoder.encode_rgb(Img::new(&pixels, width, height)),
    };
    let mut file = made.map_err(|e| fail("AVIF", e))?.avif_file;
    if let Some(made) = &extras.made {
        let xmp = made.xmp(&extras.words);
        file.extend((xmp.len() as u32 + 24).to_be_bytes());
        file.extend(b"uuid");
        file.extend(XMP_BOX);
        file.extend(xmp.as_bytes());
    }
    Ok(file)
}
