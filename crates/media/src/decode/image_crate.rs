//! What the `image` crate reads: common TIFF, WebP, GIF, BMP, PNM, TGA, icons, OpenEXR and Radiance; the first frame of an
//! animation, transparent parts laid on a colour.

use crate::decode::channels::{Alpha, to_rgb};
use crate::decode::{Decoded, Format, Head, MAX_PIXELS, Wanted};
use crate::{MediaError, bytes_text};
use image::{DynamicImage, ImageDecoder, ImageReader, Limits};
use rallo_engine::Size;
use rallo_engine::colour::transfer;
use std::io::Cursor;

pub(crate) fn complaint(error: &dyn std::fmt::Display, file: &[u8]) -> MediaError {
    let text = error.to_string();
    let low = text.to_lowercase();
    if ["unexpected end", "eof", "failed to fill", "truncated", "unexpected end of file"]
        .iter()
        .any(|w| low.contains(w))
    {
        MediaError::Truncated(bytes_text(file.len() as u64))
    } else {
        MediaError::Damaged(text)
    }
}

fn container(format: Format) -> Option<image::ImageFormat> {
    Some(match format {
        Format::Tiff => image::ImageFormat::Tiff,
        Format::WebP => image::ImageFormat::WebP,
        Format::Gif => image::ImageFormat::Gif,
        Format::Bmp => image::ImageFormat::Bmp,
        Format::Pnm => image::ImageFormat::Pnm,
        Format::Tga => image::ImageFormat::Tga,
        Format::Ico => image::ImageFormat::Ico,
        Format::Exr => image::ImageFormat::OpenExr,
        Format::Hdr => image::ImageFormat::Hdr,
        _ => return None,
    })
}

fn decoder(file: &[u8], format: Format) -> Result<impl ImageDecoder, MediaError> {
    let kind = container(format).ok_or_else(|| MediaError::Unknown("unknown kind of file".into()))?;
    let mut reader = ImageReader::with_format(Cursor::new(file), kind);
    let mut limits = Limits::default();
    limits.max_alloc = Some(MAX_PIXELS * 12);
    reader.limits(limits);
    reader.into_decoder().map_err(|e| complaint(&e, file))
}

/// Size, profile, camera data and depth.
pub fn head(file: &[u8], format: Format) -> Result<Head, MediaError> {
    let mut decoder = decoder(file, format)?;
    let (width, height) = decoder.dimensions();
    let kind = decoder.original_color_type();
    let bits = (kind.bits_per_pixel() / u16::from(kind.channel_count().max(1))) as u8;
    let exif = decoder.exif_metadata().ok().flatten();
    Ok(Head {
        size: Size::new(width, height),
        icc: decoder.icc_profile().ok().flatten(),
        exif: exif.map(|e| crate::decode::without_exif_head(&e).to_vec()),
        bits: bits.max(1),
        ..Head::default()
    })
}

/// The curve of sRGB (IEC 61966-2-1) up to white; above it light stays as it is, which is how it is read again.
fn encoded(linear: f32) -> f32 {
    if linear > 1.0 { linear } else { transfer::encode(linear) }
}

/// The pixels.
pub fn decode(file: &[u8], format: Format, wanted: &Wanted<'_>) -> Result<Decoded, MediaError> {
    let picture = DynamicImage::from_decoder(decoder(file, format)?).map_err(|e| complaint(&e, file))?;
    let size = Size::new(picture.width(), picture.height());
    let channels = usize::from(picture.color().channel_count());
    // A TGA says in its head how many bits of coverage there are; without any, the fourth byte means nothing.
    let is_idle = format == Format::Tga && file.get(17).is_some_and(|b| b & 15 == 0);
    let alpha = if picture.color().has_alpha() && !is_idle { Alpha::Straight } else { Alpha::None };
    let ground = wanted.ground;
    // These hold light, not encoded values; OpenEXR multiplies its colours by their coverage.
    let is_light = matches!(format, Format::Exr | Format::Hdr);
    let samples = match picture {
        DynamicImage::ImageLuma8(v) => to_rgb(v.into_raw(), channels, alpha, ground),
        DynamicImage::ImageLumaA8(v) => to_rgb(v.into_raw(), channels, alpha, ground),
        DynamicImage::ImageRgb8(v) => to_rgb(v.into_raw(), channels, alpha, ground),
        DynamicImage::ImageRgba8(v) => to_rgb(v.into_raw(), channels, alpha, ground),
        DynamicImage::ImageLuma16(v) => to_rgb(v.into_raw(), channels, alpha, ground),
        DynamicImage::ImageLumaA16(v) => to_rgb(v.into_raw(), channels, alpha, ground),
        DynamicImage::ImageRgb16(v) => to_rgb(v.into_raw(), channels, alpha, ground),
        DynamicImage::ImageRgba16(v) => to_rgb(v.into_raw(), channels, alpha, ground),
        DynamicImage::ImageRgb32F(v) if is_light => {
            to_rgb(v.into_raw().into_iter().map(encoded).collect(), channels, alpha, ground)
        }
        DynamicImage::ImageRgba32F(v) if is_light => {
            let mut values = v.into_raw();
            for pixel in values.as_chunks_mut::<4>().0 {
                let cover = pixel[3].clamp(0.0, 1.0);
                let whole = if cover > 0.0 { cover } else { 1.0 };
                for value in &mut pixel[..3] {
                    *value = encoded(*value / whole);
                }
            }
            to_rgb(values, channels, alpha, ground)
        }
        DynamicImage::ImageRgb32F(v) => to_rgb(v.into_raw(), channels, alpha, ground),
        other => to_rgb(other.into_rgba32f().into_raw(), 4, alpha, ground),
    };
    Ok(Decoded::plain(size, samples))
}
