//! JPEG 2000 (ISO/IEC 15444-1), bare or in its container, by `hayro-jpeg2000`, which has no unsafe code.

use crate::MediaError;
use crate::decode::channels::{Alpha, to_rgb};
use crate::decode::{Decoded, Head, MAX_PIXELS, Wanted, device_colour, image_crate};
use hayro_jpeg2000::{ColorSpace, DecodeSettings, DecoderContext, Image};
use rallo_engine::Size;

fn opened(file: &[u8]) -> Result<Image<'_>, MediaError> {
    Image::new(file, &DecodeSettings::default()).map_err(|e| image_crate::complaint(&e, file))
}

fn profile(image: &Image<'_>) -> Option<Vec<u8>> {
    match image.color_space() {
        ColorSpace::Icc { profile, .. } => Some(profile.clone()),
        _ => None,
    }
}

/// What stands before the pixels.
pub(crate) fn head(file: &[u8]) -> Result<Head, MediaError> {
    let image = opened(file)?;
    Ok(Head {
        size: Size::new(image.width(), image.height()),
        icc: profile(&image),
        bits: image.original_bit_depth(),
        ..Head::default()
    })
}

/// The pixels.
pub(crate) fn decode(file: &[u8], wanted: &Wanted<'_>) -> Result<Decoded, MediaError> {
    let image = opened(file)?;
    let size = Size::new(image.width(), image.height());
    if size.area() > MAX_PIXELS {
        return Err(MediaError::TooLarge { width: size.width, height: size.height });
    }
    let mut context = DecoderContext::default();
    let decoded = image.decode(&mut context).map_err(|e| image_crate::complaint(&e, file))?;
    let channels = decoded.components();
    let count = channels.len();
    let pixels = size.area() as usize;
    let Some(first) = channels.first().filter(|c| c.samples().len() >= pixels) else {
        return Err(MediaError::Damaged("it has no channels of its own size".into()));
    };
    if channels.iter().any(|c| c.samples().len() < pixels) {
        return Err(MediaError::Unsupported("a JPEG 2000 whose channels differ in size".into()));
    }
    let alpha = if image.has_alpha() && count > 1 { Alpha::Straight } else { Alpha::None };
    let value = |i: usize, most: f32| {
        let (channel, pixel) = (&channels[i % count], i / count);
        let full = ((1u64 << channel.bit_depth().min(32)) - 1) as f32;
        channel.samples()[pixel].clamp(0.0, full) / full * most + 0.5
    };
    let colours = count - usize::from(alpha != Alpha::None);
    if colours == 4 {
        let inks: Vec<u16> = (0..pixels)
            .flat_map(|p| (0..4).map(move |c| p * count + c))
            .map(|i| value(i, 65_535.0) as u16)
            .collect();
        let (samples, icc) = device_colour::inks(&inks, wanted.icc);
        return Ok(Decoded { icc, ..Decoded::plain(size, samples) });
    }
    let samples = if first.bit_depth() <= 8 {
        let values = (0..pixels * count).map(|i| value(i, 255.0) as u8).collect();
        to_rgb::<u8>(values, count, alpha, wanted.ground)
    } else {
        let values = (0..pixels * count).map(|i| value(i, 65_535.0) as u16).collect();
        to_rgb::<u16>(values, count, alpha, wanted.ground)
    };
    Ok(Decoded::plain(size, samples))
}
