//! TIFF, WebP, GIF and BMP through the `image` crate: 8 and 16 bit and float, the first frame of an animation,
//! transparent parts laid on white.

use crate::decode::{Format, MAX_PIXELS};
use crate::{MediaError, bytes_text};
use image::{DynamicImage, ImageDecoder, ImageReader, Limits};
use rallo_engine::{Samples, Size};
use std::io::Cursor;

/// What stands before the picture.
pub struct Head {
    pub size: Size,
    pub icc: Option<Vec<u8>>,
    pub bits: u8,
}

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

/// Size, profile and depth.
pub fn head(file: &[u8], format: Format) -> Result<Head, MediaError> {
    let mut decoder = decoder(file, format)?;
    let (width, height) = decoder.dimensions();
    let kind = decoder.original_color_type();
    let bits = (kind.bits_per_pixel() / u16::from(kind.channel_count().max(1))) as u8;
    Ok(Head { size: Size::new(width, height), icc: decoder.icc_profile().ok().flatten(), bits: bits.max(1) })
}

/// The pixels.
pub fn decode(file: &[u8], format: Format) -> Result<(Size, Samples), MediaError> {
    let picture = DynamicImage::from_decoder(decoder(file, format)?).map_err(|e| complaint(&e, file))?;
    let size = Size::new(picture.width(), picture.height());
    let alpha = picture.color().has_alpha();
    let samples = match &picture {
        DynamicImage::ImageRgb32F(_) | DynamicImage::ImageRgba32F(_) => {
            Samples::F32(laid(picture.into_rgba32f().as_raw(), alpha))
        }
        DynamicImage::ImageLuma16(_)
        | DynamicImage::ImageLumaA16(_)
        | DynamicImage::ImageRgb16(_)
        | DynamicImage::ImageRgba16(_) => {
            if alpha {
                let wide: Vec<f32> =
                    picture.into_rgba16().as_raw().iter().map(|v| f32::from(*v) / 65_535.0).collect();
                Samples::U16(laid(&wide, true).iter().map(|v| (v * 65_535.0 + 0.5) as u16).collect())
            } else {
                Samples::U16(picture.into_rgb16().into_raw())
            }
        }
        _ if alpha => {
            let wide: Vec<f32> =
                picture.into_rgba8().as_raw().iter().map(|v| f32::from(*v) / 255.0).collect();
            Samples::U8(laid(&wide, true).iter().map(|v| (v * 255.0 + 0.5) as u8).collect())
        }
        _ => Samples::U8(picture.into_rgb8().into_raw()),
    };
    Ok((size, samples))
}

/// Red, green, blue and coverage to red, green and blue on white.
fn laid(rgba: &[f32], alpha: bool) -> Vec<f32> {
    let on_white = |v: f32, a: f32| if alpha { v * a + 1.0 - a } else { v };
    rgba.as_chunks::<4>().0.iter().flat_map(|p| [0, 1, 2].map(|c| on_white(p[c], p[3]))).collect()
}
