//! A TIFF's picture in strips that are packed side by side, on all cores.

use crate::encode::tiff::Packing;
use libdeflater::{CompressionLvl, Compressor};
use rayon::prelude::*;
use std::io::{Seek, Write};
use tiff::TiffError;
use tiff::encoder::compression::{CompressionAlgorithm, Lzw};
use tiff::encoder::{DirectoryEncoder, TiffKind};
use tiff::tags::{CompressionMethod, PhotometricInterpretation, Predictor, Tag};

/// Bytes of a strip before it is packed, about: enough that packing each by itself costs nothing.
const STRIP: usize = 512 * 1024;
/// Strips that are held at a time.
const TOGETHER: usize = 64;
/// How hard deflate tries: what zlib's middle level comes to, in a third of its time.
const EFFORT: i32 = 6;

/// A sample of a pixel as it stands in a file.
pub(super) trait Sample: Copy + Send + Sync {
    /// Bits of it.
    const BITS: u16;
    /// 1 for whole numbers, 3 for floats.
    const FORMAT: u16;
    /// Whether what it is more than its neighbour packs better than itself.
    const DIFFERS: bool;
    /// What it is more than its neighbour.
    fn more_than(self, other: Self) -> Self;
    /// Its bytes.
    fn put(self, out: &mut Vec<u8>);
}

macro_rules! whole_numbers {
    ($($kind:ty)*) => {$(
        impl Sample for $kind {
            const BITS: u16 = <$kind>::BITS as u16;
            const FORMAT: u16 = 1;
            const DIFFERS: bool = true;
            fn more_than(self, other: Self) -> Self {
                self.wrapping_sub(other)
            }
            fn put(self, out: &mut Vec<u8>) {
                out.extend(self.to_ne_bytes());
            }
        }
    )*};
}
whole_numbers!(u8 u16);

impl Sample for f32 {
    const BITS: u16 = 32;
    const FORMAT: u16 = 3;
    const DIFFERS: bool = false;
    fn more_than(self, _: Self) -> Self {
        self
    }
    fn put(self, out: &mut Vec<u8>) {
        out.extend(self.to_ne_bytes());
    }
}

/// Rows of samples as bytes; with `differing` each sample but a row's first as what it is more than that of its neighbour.
fn bytes_of<S: Sample>(rows: &[S], width: usize, channels: usize, differing: bool) -> Vec<u8> {
    let mut out = Vec::with_capacity(size_of_val(rows));
    if !differing {
        rows.iter().for_each(|sample| sample.put(&mut out));
        return out;
    }
    for row in rows.chunks(width * channels) {
        row[..channels].iter().for_each(|sample| sample.put(&mut out));
        row[channels..].iter().zip(row).for_each(|(sample, before)| sample.more_than(*before).put(&mut out));
    }
    out
}

fn packed(bytes: Vec<u8>, packing: Packing) -> Result<Vec<u8>, TiffError> {
    match packing {
        Packing::None => Ok(bytes),
        Packing::Lzw => {
            let mut out = Vec::with_capacity(bytes.len());
            Lzw.write_to(&mut out, &bytes)?;
            Ok(out)
        }
        Packing::Deflate => {
            let effort = CompressionLvl::new(EFFORT).unwrap_or_default();
            let mut deflate = Compressor::new(effort);
            let mut out = vec![0; deflate.zlib_compress_bound(bytes.len())];
            let length = deflate.zlib_compress(&bytes, &mut out).map_err(std::io::Error::other)?;
            out.truncate(length);
            Ok(out)
        }
    }
}

/// Writes a picture's samples, and the tags that say how they stand, into its directory.
pub(super) fn write<S: Sample, W: Write + Seek, K: TiffKind>(
    directory: &mut DirectoryEncoder<'_, W, K>,
    (width, channels): (u32, u16),
    samples: &[S],
    packing: Packing,
) -> Result<(), TiffError> {
    let row = width as usize * usize::from(channels);
    let rows = (STRIP / (row * size_of::<S>()).max(1)).max(1);
    let differs = S::DIFFERS && packing != Packing::None;
    let (mut offsets, mut lengths) = (Vec::<u32>::new(), Vec::<u32>::new());
    for some in samples.chunks(rows * row * TOGETHER) {
        let strips = some.par_chunks(rows * row);
        let strips =
            strips.map(|strip| packed(bytes_of(strip, width as usize, channels.into(), differs), packing));
        for strip in strips.collect::<Vec<_>>() {
            let strip = strip?;
            lengths.push(u32::try_from(strip.len())?);
            offsets.push(u32::try_from(directory.write_data(&strip[..])?)?);
        }
    }
    let method = match packing {
        Packing::None => CompressionMethod::None,
        Packing::Lzw => CompressionMethod::LZW,
        Packing::Deflate => CompressionMethod::Deflate,
    };
    directory.write_tag(Tag::ImageWidth, width)?;
    directory.write_tag(Tag::ImageLength, u32::try_from(samples.len() / row.max(1))?)?;
    directory.write_tag(Tag::BitsPerSample, &vec![S::BITS; channels.into()][..])?;
    directory.write_tag(Tag::SampleFormat, &vec![S::FORMAT; channels.into()][..])?;
    directory.write_tag(Tag::SamplesPerPixel, channels)?;
    directory.write_tag(Tag::PhotometricInterpretation, PhotometricInterpretation::RGB.to_u16())?;
    directory.write_tag(Tag::Compression, method.to_u16())?;
    let predictor = if differs { Predictor::Horizontal } else { Predictor::None };
    directory.write_tag(Tag::Predictor, predictor.to_u16())?;
    directory.write_tag(Tag::RowsPerStrip, u32::try_from(rows)?)?;
    directory.write_tag(Tag::StripOffsets, &offsets[..])?;
    directory.write_tag(Tag::StripByteCounts, &lengths[..])?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Cursor;
    use tiff::decoder::{Decoder, DecodingResult};
    use tiff::encoder::TiffEncoder;

    fn written<S: Sample>(width: u32, channels: u16, samples: &[S], packing: Packing) -> Vec<u8> {
        let mut out = Cursor::new(Vec::new());
        let mut file = TiffEncoder::new(&mut out).unwrap();
        let mut directory = file.image_directory().unwrap();
        write(&mut directory, (width, channels), samples, packing).unwrap();
        directory.finish().unwrap();
        out.into_inner()
    }

    fn read(file: Vec<u8>) -> DecodingResult {
        Decoder::new(Cursor::new(file)).unwrap().read_image().unwrap()
    }

    #[test]
    fn what_is_written_in_many_strips_is_read_back_by_the_library() {
        // Some twenty strips of the widest samples, the last one shorter.
        let (width, height) = (613u32, 1411u32);
        for packing in [Packing::None, Packing::Lzw, Packing::Deflate] {
            for channels in [3u16, 4] {
                let count = (width * height * u32::from(channels)) as usize;
                let value = |i: usize| (i * 31 + i / 7 * 13) as u32;
                let bytes: Vec<u8> = (0..count).map(|i| (value(i) >> 3) as u8).collect();
                let words: Vec<u16> = (0..count).map(|i| (value(i) * 7) as u16).collect();
                let floats: Vec<f32> = (0..count).map(|i| value(i) as f32 / 1000.0 - 3.0).collect();
                assert!(
                    matches!(read(written(width, channels, &bytes, packing)), DecodingResult::U8(v) if v == bytes)
                );
                assert!(
                    matches!(read(written(width, channels, &words, packing)), DecodingResult::U16(v) if v == words)
                );
                assert!(
                    matches!(read(written(width, channels, &floats, packing)), DecodingResult::F32(v) if v == floats)
                );
            }
        }
    }

    #[test]
    fn a_ramp_packs_to_almost_nothing() {
        let ramp: Vec<u16> = (0..600 * 400).flat_map(|i| [(i % 600 * 50) as u16; 3]).collect();
        let plain = written(600, 3, &ramp, Packing::None).len();
        for packing in [Packing::Lzw, Packing::Deflate] {
            assert!(written(600, 3, &ramp, packing).len() * 30 < plain, "{packing:?}");
        }
    }
}
