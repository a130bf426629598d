//! The files a delivery makes of one picture, and how each is encoded.

use rallo_engine::colour::hex::parse_colour;
use rallo_engine::{Encoded, Pixels, Size};
use rallo_media::{Chroma, Encoding, Packing};
use rallo_recipe::delivery::OutputFrame;
use rallo_recipe::{Pictures, Recipe};

/// The settings of the encoder a delivery asks for.
pub fn encoding(delivery: &Pictures) -> Encoding {
    let chroma = match delivery.chroma.as_str() {
        "4:4:4" => Chroma::Full,
        "4:2:2" => Chroma::Half,
        _ => Chroma::Quarter,
    };
    let packing = match delivery.compression.as_str() {
        "none" => Packing::None,
        "lzw" => Packing::Lzw,
        _ => Packing::Deflate,
    };
    let quality = delivery.quality;
    match delivery.format.as_str() {
        "png" => Encoding::Png,
        "webp" => Encoding::WebP { quality: (!delivery.lossless).then_some(quality) },
        "avif" => Encoding::Avif { quality },
        "jxl" => Encoding::Jxl { quality: (!delivery.lossless).then_some(quality) },
        "tiff" => Encoding::Tiff { packing },
        _ => {
            let (progressive, optimised) = (delivery.progressive, delivery.optimised);
            Encoding::Jpeg { quality, chroma, progressive, optimised }
        }
    }
}

/// One file that is made of each picture: a delivery, in one of its widths.
#[derive(Clone, Debug)]
pub struct Variant {
    /// Which of the recipe's deliveries it belongs to.
    pub at: usize,
    /// What is delivered.
    pub delivery: Pictures,
    /// Its width, where the delivery has several.
    pub width: Option<u32>,
}

/// Every file a recipe makes of each picture, in order.
pub fn variants(recipe: &Recipe) -> Vec<Variant> {
    let files = recipe.files().into_iter();
    files
        .flat_map(|(at, delivery)| {
            let widths = delivery.variants();
            widths.into_iter().map(move |width| Variant { at, delivery: delivery.clone(), width })
        })
        .collect()
}

/// A picture in the middle of a frame of another size, on a colour (`#rrggbb`, as the picture's own values).
pub(super) fn framed(picture: Encoded, frame: &OutputFrame) -> Encoded {
    let (from, to) = (picture.size, Size::new(frame.width, frame.height));
    if from == to || from.width > to.width || from.height > to.height {
        return picture;
    }
    let ground = parse_colour(&frame.colour).unwrap_or_default();
    fn laid<T: Copy>(v: &[T], from: Size, to: Size, ground: [T; 3]) -> Vec<T> {
        let mut out = ground.repeat(to.area() as usize);
        let left = ((to.width - from.width) / 2) as usize;
        let top = ((to.height - from.height) / 2) as usize;
        let (row, whole) = (from.width as usize * 3, to.width as usize * 3);
        for (y, line) in v.chunks_exact(row).enumerate() {
            let start = (top + y) * whole + left * 3;
            out[start..start + row].copy_from_slice(line);
        }
        out
    }
    let pixels = match picture.pixels {
        Pixels::U8(v) => Pixels::U8(laid(&v, from, to, ground)),
        Pixels::U16(v) => Pixels::U16(laid(&v, from, to, ground.map(|c| u16::from(c) * 257))),
        Pixels::F32(v) => Pixels::F32(laid(&v, from, to, ground.map(|c| f32::from(c) / 255.0))),
    };
    Encoded { size: to, pixels }
}
