//! PNG, as small as it gets without losing anything.

use crate::MediaError;
use crate::encode::extras::{Extras, Interleaved};
use rallo_engine::{Encoded, Pixels, Size};

/// How hard is packed, 0 ..= 12: from 6 on it takes much longer for little.
pub(super) const PACKING: u8 = 5;

/// The same for 16 bits: their lower bytes are noise that nothing packs, and searching longer made files no smaller.
const PACKING_DEEP: u8 = 1;

/// The colours of a picture that has few, and for each pixel which of them it has.
pub(super) fn palette(pixels: &[u8]) -> Option<(Vec<[u8; 3]>, Vec<u8>)> {
    let mut known: std::collections::HashMap<[u8; 3], u8> = std::collections::HashMap::new();
    let mut colours = Vec::new();
    let mut places = Vec::with_capacity(pixels.len() / 3);
    for pixel in pixels.as_chunks::<3>().0 {
        let place = match known.get(pixel) {
            Some(place) => *place,
            None => {
                let place = u8::try_from(colours.len()).ok()?;
                colours.push(*pixel);
                known.insert(*pixel, place);
                place
            }
        };
        places.push(place);
    }
    Some((colours, places))
}

pub fn encode(picture: &Encoded, extras: &Extras) -> Result<Vec<u8>, MediaError> {
    let fail = |message: String| MediaError::Encode { format: "PNG", message };
    let rgb = oxipng::ColorType::RGB { transparent_color: None };
    let covered = extras.with_coverage(picture);
    let few = match (&covered, &picture.pixels) {
        (None, Pixels::U8(v)) => palette(v),
        _ => None,
    };
    let big_endian = |v: &[u16]| v.iter().flat_map(|s| s.to_be_bytes()).collect();
    let (eight, sixteen) = (oxipng::BitDepth::Eight, oxipng::BitDepth::Sixteen);
    let (colours, depth, filter, samples) = match (few, &picture.pixels) {
        _ if covered.is_some() => match covered {
            Some(Interleaved::U8(v)) => (oxipng::ColorType::RGBA, eight, oxipng::RowFilter::Paeth, v),
            Some(Interleaved::U16(v)) => {
                (oxipng::ColorType::RGBA, sixteen, oxipng::RowFilter::Paeth, big_endian(&v))
            }
            _ => return Err(fail("floats were given".into())),
        },
        // Nothing is lost, and it is smaller; places in a palette are not like their neighbours.
        (Some((colours, places)), _) => {
            let colours = colours.iter().map(|[r, g, b]| oxipng::RGBA8::new(*r, *g, *b, 255)).collect();
            let colours = oxipng::ColorType::Indexed { palette: colours };
            (colours, eight, oxipng::RowFilter::None, places)
        }
        (None, Pixels::U8(v)) => (rgb, eight, oxipng::RowFilter::Paeth, v.clone()),
        (None, Pixels::U16(v)) => (rgb, sixteen, oxipng::RowFilter::Paeth, big_endian(v)),
        (None, Pixels::F32(_)) => return Err(fail("floats were given".into())),
    };
    let is_palette = matches!(colours, oxipng::ColorType::Indexed { .. });
    let packing = if depth == sixteen { PACKING_DEEP } else { PACKING };
    let Size { width, height } = picture.size;
    let image =
        oxipng::RawImage::new(width, height, colours, depth, samples).map_err(|e| fail(e.to_string()))?;
    let options = oxipng::Options {
        filters: [oxipng::FilterStrategy::Basic(filter)].into_iter().collect(),
        // Photographs stay RGB with the bits that were asked for; a palette's places take no more than they need.
        bit_depth_reduction: is_palette,
        palette_reduction: is_palette,
        color_type_reduction: false,
        grayscale_reduction: false,
        deflater: oxipng::Deflater::Libdeflater { compression: packing },
        ..oxipng::Options::default()
    };
    image.create_optimized_png(&options).map_err(|e| fail(e.to_string()))
}
