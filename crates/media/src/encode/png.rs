//! PNG (ISO/IEC 15948). Photographs are filtered here, row by row, and packed by libdeflate: a general encoder takes longer for its
//! filter than libdeflate for all of the packing. Pictures of few colours go to `oxipng`, which keeps them as a palette.

use crate::MediaError;
use crate::encode::extras::{Extras, Interleaved};
use rallo_engine::{Encoded, Pixels, Size};

/// How hard a photograph is packed, 1 ..= 12: at 5 it takes half as long again for 2 % of its bytes.
const PACKING: i32 = 3;

/// The same for 16 bits: their lower bytes are noise that nothing packs, and searching longer made files no smaller.
const PACKING_DEEP: i32 = 1;

/// How hard a palette's places are packed.
const PACKING_FEW: u8 = 5;

/// The most bytes of packed data in one chunk.
const CHUNK: usize = 1 << 24;

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

fn fail(message: impl ToString) -> MediaError {
    MediaError::Encode { format: "PNG", message: message.to_string() }
}

pub fn encode(picture: &Encoded, extras: &Extras) -> Result<Vec<u8>, MediaError> {
    let covered = extras.with_coverage(picture);
    match (&covered, &picture.pixels) {
        (Some(Interleaved::U8(v)), _) => photograph(picture.size, 4, &Values::Bytes(v)),
        (Some(Interleaved::U16(v)), _) => photograph(picture.size, 4, &Values::Words(v)),
        (None, Pixels::U8(v)) => match palette(v) {
            Some(few) => indexed(picture.size, few),
            None => photograph(picture.size, 3, &Values::Bytes(v)),
        },
        (None, Pixels::U16(v)) => photograph(picture.size, 3, &Values::Words(v)),
        (Some(Interleaved::F32(_)), _) | (None, Pixels::F32(_)) => Err(fail("floats were given")),
    }
}

/// A picture of few colours: nothing is lost, and it is smaller.
fn indexed(
    Size { width, height }: Size,
    (colours, places): (Vec<[u8; 3]>, Vec<u8>),
) -> Result<Vec<u8>, MediaError> {
    let palette = colours.iter().map(|[r, g, b]| oxipng::RGBA8::new(*r, *g, *b, 255)).collect();
    let colours = oxipng::ColorType::Indexed { palette };
    let image =
        oxipng::RawImage::new(width, height, colours, oxipng::BitDepth::Eight, places).map_err(fail)?;
    let options = oxipng::Options {
        // Places in a palette are not like their neighbours; they take no more bits than they need.
        filters: [oxipng::FilterStrategy::Basic(oxipng::RowFilter::None)].into_iter().collect(),
        color_type_reduction: false,
        grayscale_reduction: false,
        deflater: oxipng::Deflater::Libdeflater { compression: PACKING_FEW },
        ..oxipng::Options::default()
    };
    image.create_optimized_png(&options).map_err(fail)
}

/// Samples of a photograph.
enum Values<'a> {
    Bytes(&'a [u8]),
    Words(&'a [u16]),
}

impl Values<'_> {
    /// Bytes of a sample.
    fn bytes(&self) -> usize {
        match self {
            Self::Bytes(_) => 1,
            Self::Words(_) => 2,
        }
    }

    /// A row of so many samples as the file keeps it.
    fn row(&self, y: usize, samples: usize, to: &mut [u8]) {
        let range = y * samples..(y + 1) * samples;
        match self {
            Self::Bytes(v) => to.copy_from_slice(&v[range]),
            Self::Words(v) => {
                for (to, sample) in to.as_chunks_mut::<2>().0.iter_mut().zip(&v[range]) {
                    *to = sample.to_be_bytes();
                }
            }
        }
    }
}

/// A picture of red, green and blue, and how much is covered where there are four `channels`, with the bits it has.
fn photograph(
    Size { width, height }: Size,
    channels: usize,
    values: &Values<'_>,
) -> Result<Vec<u8>, MediaError> {
    let samples = width as usize * channels;
    let unit = channels * values.bytes();
    let filtered =
        filtered(samples * values.bytes(), height as usize, unit, |y, to| values.row(y, samples, to));
    let packing = if values.bytes() == 1 { PACKING } else { PACKING_DEEP };
    let level = libdeflater::CompressionLvl::new(packing).map_err(|_| fail("no such level"))?;
    let mut packer = libdeflater::Compressor::new(level);
    let mut packed = vec![0; packer.zlib_compress_bound(filtered.len())];
    let length = packer.zlib_compress(&filtered, &mut packed).map_err(fail)?;
    drop(filtered);
    let mut file = b"\x89PNG\r\n\x1a\n".to_vec();
    file.reserve(length + length / CHUNK * 12 + 64);
    let mut head = [width.to_be_bytes(), height.to_be_bytes()].concat();
    // Bits of a sample; colours alone or with how much is covered; one way each to pack, to filter and to lay rows.
    head.extend([8 * values.bytes() as u8, if channels == 4 { 6 } else { 2 }, 0, 0, 0]);
    chunk(&mut file, b"IHDR", &head);
    packed[..length].chunks(CHUNK).for_each(|part| chunk(&mut file, b"IDAT", part));
    chunk(&mut file, b"IEND", &[]);
    Ok(file)
}

fn chunk(file: &mut Vec<u8>, kind: &[u8; 4], data: &[u8]) {
    file.extend((data.len() as u32).to_be_bytes());
    let start = file.len();
    file.extend(kind);
    file.extend(data);
    let sum = crc32fast::hash(&file[start..]);
    file.extend(sum.to_be_bytes());
}

/// Rows as a file keeps them: each told by how it differs from what was before, in the way that leaves least; `unit` bytes are a pixel.
fn filtered(width: usize, rows: usize, unit: usize, fill: impl Fn(usize, &mut [u8])) -> Vec<u8> {
    let mut out = Vec::with_capacity((width + 1) * rows);
    let [mut above, mut row, mut mean, mut nearest] = [0; 4].map(|_| vec![0u8; width]);
    for y in 0..rows {
        fill(y, &mut row);
        // The first pixel of a row has nothing to its left.
        for i in 0..unit {
            mean[i] = row[i].wrapping_sub(above[i] / 2);
            nearest[i] = row[i].wrapping_sub(above[i]);
        }
        let before =
            Before { left: &row[..width - unit], above: &above[unit..], aside: &above[..width - unit] };
        before.mean(&row[unit..], &mut mean[unit..]);
        before.nearest(&row[unit..], &mut nearest[unit..]);
        let (way, differences) =
            if left_over(&mean) < left_over(&nearest) { (3, &mean) } else { (4, &nearest) };
        out.push(way);
        out.extend_from_slice(differences);
        std::mem::swap(&mut above, &mut row);
    }
    out
}

/// What stands before the bytes of a row: a pixel to the left, above, and to the left above.
struct Before<'a> {
    left: &'a [u8],
    above: &'a [u8],
    aside: &'a [u8],
}

impl Before<'_> {
    /// How bytes differ from the mean of left and above (ISO/IEC 15948, 9.2, Average).
    fn mean(&self, row: &[u8], to: &mut [u8]) {
        for (((to, value), left), above) in to.iter_mut().zip(row).zip(self.left).zip(self.above) {
            *to = value.wrapping_sub(((u16::from(*left) + u16::from(*above)) / 2) as u8);
        }
    }

    /// How bytes differ from that of the three which is nearest to where they lead (ISO/IEC 15948, 9.4, Paeth).
    fn nearest(&self, row: &[u8], to: &mut [u8]) {
        let before = self.left.iter().zip(self.above).zip(self.aside);
        for ((to, value), ((left, above), aside)) in to.iter_mut().zip(row).zip(before) {
            let (a, b, c) = (i16::from(*left), i16::from(*above), i16::from(*aside));
            let (from_left, from_above, from_aside) = ((b - c).abs(), (a - c).abs(), (a + b - 2 * c).abs());
            let nearest = if from_left <= from_above && from_left <= from_aside {
                a
            } else if from_above <= from_aside {
                b
            } else {
                c
            };
            *to = value.wrapping_sub(nearest as u8);
        }
    }
}

/// How much differences are together, as a guess at what packing leaves of them.
fn left_over(differences: &[u8]) -> u64 {
    // Parts whose sum surely fits, so that many are added at once.
    let of_part = |part: &[u8]| part.iter().map(|d| u32::from((*d as i8).unsigned_abs())).sum::<u32>();
    differences.chunks(4096).map(|part| u64::from(of_part(part))).sum()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A picture as the general decoder reads it.
    fn read(file: &[u8]) -> (png::OutputInfo, Vec<u8>) {
        let mut reader = png::Decoder::new(std::io::Cursor::new(file)).read_info().unwrap();
        let mut bytes = vec![0; reader.output_buffer_size().unwrap()];
        let info = reader.next_frame(&mut bytes).unwrap();
        (info, bytes)
    }

    fn noise(i: usize) -> u16 {
        (i as u32).wrapping_mul(2_654_435_761).rotate_right(7) as u16
    }

    #[test]
    fn another_decoder_reads_what_was_written() {
        // Slopes, which one filter suits, noise, which the other does, and the narrowest there is.
        for (width, height) in [(1, 1), (1, 5), (2, 3), (61, 40), (300, 270)] {
            let size = Size::new(width, height);
            let count = size.area() as usize * 3;
            let samples: Vec<u16> =
                (0..count).map(|i| if i % 7 < 4 { (i * 41) as u16 } else { noise(i) }).collect();
            let coverage: Vec<u16> = (0..count / 3).map(|i| noise(i + 5)).collect();
            for covered in [false, true] {
                let extras = Extras { coverage: covered.then(|| coverage.clone()), ..Extras::default() };
                let wide = Encoded { size, pixels: Pixels::U16(samples.clone()) };
                let (info, bytes) = read(&encode(&wide, &extras).unwrap());
                assert_eq!(
                    (info.width, info.height, info.bit_depth),
                    (width, height, png::BitDepth::Sixteen)
                );
                let words: Vec<u16> =
                    bytes.as_chunks::<2>().0.iter().map(|b| u16::from_be_bytes(*b)).collect();
                let units = if covered { 4 } else { 3 };
                for (i, word) in words.iter().enumerate() {
                    let want =
                        if i % units == 3 { coverage[i / 4] } else { samples[i / units * 3 + i % units] };
                    assert_eq!(*word, want, "{width} × {height}, {covered}, {i}");
                }
                let narrow: Vec<u8> = samples.iter().map(|s| (s >> 8) as u8).collect();
                let small = Encoded { size, pixels: Pixels::U8(narrow.clone()) };
                let (info, bytes) = read(&encode(&small, &extras).unwrap());
                if info.color_type == png::ColorType::Indexed {
                    continue;
                }
                for (i, byte) in bytes.iter().enumerate().filter(|(i, _)| i % units < 3) {
                    assert_eq!(
                        *byte,
                        narrow[i / units * 3 + i % units],
                        "{width} × {height}, {covered}, {i}"
                    );
                }
            }
        }
    }

    #[test]
    fn much_packed_data_stands_in_several_chunks() {
        // Noise, which is not packed at all.
        let size = Size::new(3000, 2100);
        let mut state = 1u64;
        let mut next = |_| {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (state >> 56) as u8
        };
        let pixels = Pixels::U8((0..size.area() as usize * 3).map(&mut next).collect());
        let picture = Encoded { size, pixels };
        let file = encode(&picture, &Extras::default()).unwrap();
        assert!(file.windows(4).filter(|w| w == b"IDAT").count() > 1);
        assert!(Pixels::U8(read(&file).1) == picture.pixels);
    }
}
