//! TIFF. The kinds that most programs write are read by the `image` crate; what else there is (inks, palettes, CIELAB,
//! fax, other packings, planes, odd numbers of bits) is unpacked by libtiff's own program, and its samples are made
//! colours here.

use crate::decode::channels::{Alpha, Ground, Rgb, Sample, to_rgb};
use crate::decode::device_colour::{self, Coloured};
use crate::decode::helper::{self, Helper};
use crate::decode::tiff_directory::{self as tags, Directory, Page};
use crate::decode::tiff_planes::as_pages;
use crate::decode::{Decoded, Format, Head, MAX_PIXELS, Wanted, image_crate};
use crate::{MediaError, bytes_text};
use rallo_engine::Size;

/// Unpacks whatever libtiff reads, samples as they are.
const UNPACK: Helper = Helper {
    programs: &["tiffcp"],
    package: "libtiff-tools",
    what: "this kind of TIFF is read by libtiff's programs",
};

/// Makes 8-bit colours of what cannot be unpacked alone: luma and chroma, and JPEG as it was before TIFF 6.0.
const TO_COLOUR: Helper = Helper { programs: &["tiff2rgba"], ..UNPACK };

const MIN_IS_WHITE: u64 = 0;
const MIN_IS_BLACK: u64 = 1;
const RGB: u64 = 2;
const PALETTE: u64 = 3;
const SEPARATED: u64 = 5;
const LUMA_CHROMA: u64 = 6;
const CIE_LAB: u64 = 8;
const ICC_LAB: u64 = 9;
const ITU_LAB: u64 = 10;

const JPEG_BEFORE_6: u64 = 6;
const JPEG: u64 = 7;

/// A picture at the limit of pixels has at most so many channels: every sample is held as a number of 32 bits.
const MOST_CHANNELS: u64 = 5;

/// How one page's samples lie.
struct Layout {
    size: Size,
    bits: u32,
    /// Samples of a pixel.
    count: usize,
    format: u64,
    photometric: u64,
    compression: u64,
    separate: bool,
    extra: Vec<u64>,
}

impl Layout {
    fn of(page: &Page<'_>) -> Result<Self, MediaError> {
        let side = |tag| page.number(tag).and_then(|n| u32::try_from(n).ok()).unwrap_or(0);
        let photometric = page.number(tags::PHOTOMETRIC).unwrap_or(MIN_IS_BLACK);
        let usual = if matches!(photometric, RGB | LUMA_CHROMA | CIE_LAB | ICC_LAB) { 3 } else { 1 };
        let count = page.number_or(tags::SAMPLES, usual) as usize;
        let all_bits: Vec<u64> = page.numbers(tags::BITS).into_iter().take(count).collect();
        let bits = all_bits.first().copied().unwrap_or(1);
        let mut extra = page.numbers(tags::EXTRA_SAMPLES);
        if extra.is_empty() && photometric == RGB && count == 4 {
            // Written by programs that leave the word out, it is coverage.
            extra = vec![2];
        }
        if all_bits.iter().any(|b| *b != bits) {
            return Err(MediaError::Unsupported("a TIFF with different bits per channel".into()));
        }
        if !(1..=64).contains(&bits) || !(1..=64).contains(&count) {
            return Err(MediaError::Unsupported(format!("a TIFF with {count} channels of {bits} bits")));
        }
        let size = Size::new(side(tags::WIDTH), side(tags::LENGTH));
        if size.area().saturating_mul(count as u64) > MAX_PIXELS * MOST_CHANNELS {
            return Err(MediaError::TooLarge { width: size.width, height: size.height });
        }
        Ok(Self {
            size,
            bits: bits as u32,
            count,
            format: page.number_or(tags::SAMPLE_FORMAT, 1),
            photometric,
            compression: page.number_or(tags::COMPRESSION, 1),
            separate: page.number_or(tags::PLANAR, 1) == 2,
            extra,
        })
    }

    /// What the channels behind the colours say.
    fn alpha(&self) -> Alpha {
        match self.extra.first() {
            Some(1) => Alpha::Premultiplied,
            Some(2) => Alpha::Straight,
            _ => Alpha::None,
        }
    }

    /// How many channels are colours.
    fn colours(&self) -> usize {
        let colours = match self.photometric {
            RGB | LUMA_CHROMA | CIE_LAB | ICC_LAB | ITU_LAB => 3,
            SEPARATED => 4,
            _ => 1,
        };
        colours.min(self.count)
    }

    /// Whether the `image` crate reads it, and as it is meant.
    fn is_common(&self, page: &Page<'_>) -> bool {
        let packed = matches!(self.compression, 1 | 5 | 8 | 32_773 | 32_946);
        let numbers = match self.format {
            1 => matches!(self.bits, 8 | 16),
            3 => self.bits == 32 && self.photometric == RGB,
            _ => false,
        };
        let channels = match (self.photometric, self.count) {
            (MIN_IS_BLACK | MIN_IS_WHITE, 1) | (RGB, 3) => self.extra.is_empty(),
            (RGB, 4) => self.extra.first() == Some(&2),
            _ => false,
        };
        let usual =
            page.number_or(tags::FILL_ORDER, 1) == 1 && matches!(page.number_or(tags::PREDICTOR, 1), 1..=3);
        packed && numbers && channels && usual && !self.separate
    }
}

/// What stands before the pixels.
pub(crate) fn head(file: &[u8]) -> Result<Head, MediaError> {
    let directory = Directory::read(file)?;
    let page = directory.picture();
    let layout = Layout::of(page)?;
    let mut notes = Vec::new();
    if directory.pages.len() > 1 {
        let count = directory.pages.len();
        notes.push(format!("It has {count} pages; page {} is taken.", directory.chosen + 1));
    }
    Ok(Head {
        size: layout.size,
        exif: if directory.is_big { None } else { crate::decode::contained_exif(file) },
        icc: page.bytes(tags::PROFILE).filter(|p| p.len() > 128).map(<[u8]>::to_vec),
        bits: layout.bits.min(255) as u8,
        notes,
        ..Head::default()
    })
}

/// The pixels.
pub(crate) fn decode(file: &[u8], wanted: &Wanted<'_>) -> Result<Decoded, MediaError> {
    let directory = Directory::read(file)?;
    let page = directory.picture();
    let layout = Layout::of(page)?;
    if directory.chosen == 0 && layout.is_common(page) && !wanted.part {
        // What it refuses, libtiff may still make sense of.
        match image_crate::decode(file, Format::Tiff, wanted) {
            Ok(decoded) => return Ok(decoded),
            Err(refused) => return unpacked(file, &directory, &layout, wanted).map_err(|_| refused),
        }
    }
    unpacked(file, &directory, &layout, wanted)
}

/// Through libtiff's programs.
fn unpacked(
    file: &[u8],
    directory: &Directory<'_>,
    layout: &Layout,
    wanted: &Wanted<'_>,
) -> Result<Decoded, MediaError> {
    let folder = helper::folder()?;
    let (from, to) = (folder.path().join("in.tif"), folder.path().join("out.tif"));
    let tiled = directory.picture().number(tags::TILE_WIDTH).is_some();
    if layout.separate && tiled && layout.count > 1 {
        let paged = as_pages(file, directory.picture(), layout.count, directory.is_big)
            .ok_or_else(|| MediaError::Damaged("the TIFF's planes are not all there".into()))?;
        helper::put(&from, &paged)?;
        UNPACK
            .run(&unpacking(&from.to_string_lossy(), &to.to_string_lossy(), wanted))
            .map_err(|e| cut_off(e, file))?;
        let plain = unpacked_file(&to)?;
        let parts = Directory::read(&plain)?;
        let planes = parts.pages.iter().map(|page| (page, Layout::of(page)));
        let planes = planes.map(|(page, layout)| planes_of(page, &layout?)).collect::<Result<Vec<_>, _>>()?;
        let planes: Vec<Vec<u8>> = planes.into_iter().flatten().collect();
        let little = parts.picture().is_little();
        return colours(&Unpacked { planes, little, page: directory.picture(), layout }, wanted);
    }
    helper::put(&from, file)?;
    let chroma = layout.photometric == LUMA_CHROMA && layout.compression != JPEG;
    let mut result = Err(MediaError::Damaged(String::new()));
    if layout.compression != JPEG_BEFORE_6 && !chroma {
        let page = format!("{},{}", from.display(), directory.chosen);
        result = UNPACK.run(&unpacking(&page, &to.to_string_lossy(), wanted));
    }
    if matches!(result, Err(MediaError::Damaged(_))) && matches!(layout.photometric, RGB | LUMA_CHROMA) {
        let arguments = ["-c".as_ref(), "none".as_ref(), "-n".as_ref(), from.as_os_str(), to.as_os_str()];
        let coloured = TO_COLOUR.run(&arguments);
        result = match result {
            // The first complaint says more, unless there was none.
            Err(MediaError::Damaged(text)) if coloured.is_err() && !text.is_empty() => {
                Err(MediaError::Damaged(text))
            }
            _ => coloured,
        };
    }
    result.map_err(|e| cut_off(e, file))?;
    let plain = unpacked_file(&to)?;
    let directory = Directory::read(&plain)?;
    let page = directory.picture();
    let layout = Layout::of(page)?;
    let planes = planes_of(page, &layout)?;
    colours(&Unpacked { planes, little: page.is_little(), page, layout: &layout }, wanted)
}

/// How libtiff's program is asked to unpack.
fn unpacking(from: &str, to: &str, wanted: &Wanted<'_>) -> Vec<String> {
    let mut arguments: Vec<&str> = vec!["-c", "none", "-L", "-f", "msb2lsb"];
    if wanted.part {
        arguments.push("-i");
    }
    arguments.extend([from, to]);
    arguments.into_iter().map(str::to_owned).collect()
}

fn unpacked_file(path: &std::path::Path) -> Result<Vec<u8>, MediaError> {
    std::fs::read(path).map_err(|e| MediaError::Damaged(format!("the decoder left no picture: {e}")))
}

/// Samples without any packing, and what is said of them.
struct Unpacked<'a> {
    /// One plane with all channels by turns, or one for each channel.
    planes: Vec<Vec<u8>>,
    little: bool,
    page: &'a Page<'a>,
    layout: &'a Layout,
}

/// Tells a file that ends early from other damage.
fn cut_off(error: MediaError, file: &[u8]) -> MediaError {
    match &error {
        MediaError::Damaged(text) if text.contains("Read error") || text.contains("read error") => {
            MediaError::Truncated(bytes_text(file.len() as u64))
        }
        _ => error,
    }
}

/// Colours of unpacked samples.
fn colours(unpacked: &Unpacked<'_>, wanted: &Wanted<'_>) -> Result<Decoded, MediaError> {
    let Unpacked { page, layout, .. } = unpacked;
    let size = layout.size;
    let icc = page.bytes(tags::PROFILE);
    let decoded = |rgb: Rgb| Decoded::plain(size, rgb);
    let with = |(samples, icc): Coloured| Decoded { icc, ..Decoded::plain(size, samples) };
    let (count, alpha) = (layout.colours(), layout.alpha());
    let kept = count + usize::from(alpha != Alpha::None);
    if layout.format == 3 {
        let light = leading(floats(unpacked)?, layout.count, kept);
        return match layout.photometric {
            MIN_IS_BLACK | RGB => Ok(decoded(to_rgb(light, kept, alpha, wanted.ground))),
            other => Err(unknown(other, "floating point")),
        };
    }
    let numbers = numbers(unpacked)?;
    if layout.photometric == PALETTE {
        let map: Vec<u16> = page.numbers(tags::COLOUR_MAP).iter().map(|v| *v as u16).collect();
        return Ok(decoded(palette(&numbers, layout, &map, alpha, wanted.ground)));
    }
    let mut values = leading(numbers, layout.count, kept);
    if layout.format == 2 && !matches!(layout.photometric, CIE_LAB) {
        // Signed numbers: the darkest is the most negative.
        let half = 1u32 << (layout.bits.min(32) - 1);
        values.iter_mut().for_each(|v| *v ^= half);
    }
    Ok(match layout.photometric {
        MIN_IS_WHITE | MIN_IS_BLACK | RGB if layout.bits <= 8 => {
            let values = scaled(&values, layout.bits, 255, |v| v as u8);
            decoded(to_rgb(inverted(values, kept, layout.photometric, alpha), kept, alpha, wanted.ground))
        }
        MIN_IS_WHITE | MIN_IS_BLACK | RGB => {
            let values = scaled(&values, layout.bits, 65_535, |v| v as u16);
            decoded(to_rgb(inverted(values, kept, layout.photometric, alpha), kept, alpha, wanted.ground))
        }
        SEPARATED if count == 4 => {
            let inks = scaled(&leading(values, kept, 4), layout.bits, 65_535, |v| v as u16);
            with(device_colour::inks(&inks, wanted.icc.or(icc)))
        }
        CIE_LAB | ICC_LAB | ITU_LAB if count == 3 => {
            with(device_colour::lab(&lab(&leading(values, kept, 3), layout.bits, layout.photometric)))
        }
        other => return Err(unknown(other, &format!("{count} channels"))),
    })
}

fn unknown(photometric: u64, what: &str) -> MediaError {
    MediaError::Unsupported(format!("a TIFF of photometric kind {photometric} with {what}"))
}

/// The first `kept` channels of `count`.
fn leading<T: Copy>(values: Vec<T>, count: usize, kept: usize) -> Vec<T> {
    if kept >= count {
        return values;
    }
    values.chunks_exact(count).flat_map(|p| &p[..kept]).copied().collect()
}

/// Numbers of so many bits as numbers up to `most`.
fn scaled<T>(values: &[u32], bits: u32, most: u64, narrow: impl Fn(u64) -> T) -> Vec<T> {
    let full = if bits >= 32 { u64::from(u32::MAX) } else { (1 << bits) - 1 };
    values.iter().map(|v| narrow((u64::from(*v).min(full) * most + full / 2) / full)).collect()
}

/// Where the smallest number is white, the colours turned round; coverage stays.
fn inverted<T: Sample + std::ops::Not<Output = T>>(
    mut values: Vec<T>,
    count: usize,
    photometric: u64,
    alpha: Alpha,
) -> Vec<T> {
    if photometric == MIN_IS_WHITE {
        let colours = count - usize::from(alpha != Alpha::None);
        values.chunks_exact_mut(count).for_each(|p| p[..colours].iter_mut().for_each(|v| *v = !*v));
    }
    values
}

/// Colours out of a table of three columns, 16 bits each.
fn palette(numbers: &[u32], layout: &Layout, map: &[u16], alpha: Alpha, ground: Ground) -> Rgb {
    let rows = map.len() / 3;
    // Some programs write the table with 8 bits.
    let factor = if map.iter().all(|v| *v < 256) { 257 } else { 1 };
    let colour =
        |index: usize| [0, 1, 2].map(|c| map.get(c * rows + index).map_or(0, |v| v.wrapping_mul(factor)));
    let eight = map.iter().all(|v| v.wrapping_mul(factor) % 257 == 0 || v % 256 == 0 || *v < 256);
    let full = ((1u64 << layout.bits.min(16)) - 1) as u32;
    let pixels = numbers.chunks_exact(layout.count);
    let cover = |p: &[u32]| (alpha != Alpha::None).then(|| (p[1] * (65_535 / full.max(1))) as u16);
    let values = pixels.flat_map(|p| colour(p[0] as usize).into_iter().chain(cover(p)));
    let channels = if alpha == Alpha::None { 3 } else { 4 };
    if eight {
        to_rgb(values.map(|v| (v >> 8) as u8).collect(), channels, alpha, ground)
    } else {
        to_rgb(values.collect(), channels, alpha, ground)
    }
}

/// L*, a* and b* as the three photometric kinds write them (TIFF 6.0, section 23, and its technical notes).
fn lab(values: &[u32], bits: u32, photometric: u64) -> Vec<[f32; 3]> {
    let full = ((1u64 << bits.min(16)) - 1) as f32;
    let signed =
        |v: u32| if bits <= 8 { f32::from(v as u8 as i8) } else { f32::from(v as u16 as i16) / 256.0 };
    let pixels = values.as_chunks::<3>().0.iter();
    pixels
        .map(|[l, a, b]| {
            let light = *l as f32 / full * 100.0;
            match photometric {
                CIE_LAB => [light, signed(*a), signed(*b)],
                ICC_LAB => {
                    let offset = |v: u32| if bits <= 8 { v as f32 - 128.0 } else { v as f32 / 256.0 - 128.0 };
                    [light, offset(*a), offset(*b)]
                }
                // ITU-T T.42: a* −85 … 85, b* −75 … 125.
                _ => [light, *a as f32 / full * 170.0 - 85.0, *b as f32 / full * 200.0 - 75.0],
            }
        })
        .collect()
}

/// The unpacked bytes of every plane, its rows one after another, each beginning on a byte.
fn planes_of(page: &Page<'_>, layout: &Layout) -> Result<Vec<Vec<u8>>, MediaError> {
    let damaged = || MediaError::Damaged("the TIFF's parts do not make a whole picture".into());
    let (count, per_plane) = if layout.separate { (layout.count, 1) } else { (1, layout.count) };
    let (width, height) = (layout.size.width as usize, layout.size.height as usize);
    let row_bytes = |pixels: usize| (pixels * per_plane * layout.bits as usize).div_ceil(8);
    let row = row_bytes(width);
    let tiled = page.number(tags::TILE_WIDTH).is_some();
    let (offsets, lengths) = if tiled {
        (page.numbers(tags::TILE_OFFSETS), page.numbers(tags::TILE_BYTES))
    } else {
        (page.numbers(tags::STRIP_OFFSETS), page.numbers(tags::STRIP_BYTES))
    };
    let side = |tag, usual: usize| page.number(tag).map_or(usual, |n| n as usize).clamp(1, 1 << 24);
    let (wide, high) = if tiled {
        (side(tags::TILE_WIDTH, width), side(tags::TILE_LENGTH, height))
    } else {
        (width, side(tags::ROWS_PER_STRIP, height).min(height))
    };
    let (across, down) = (width.div_ceil(wide), height.div_ceil(high));
    let part_row = row_bytes(wide);
    if tiled && part_row * 8 != wide * per_plane * layout.bits as usize {
        return Err(MediaError::Unsupported("a TIFF with tiles whose rows do not end on a byte".into()));
    }
    let mut planes = Vec::with_capacity(count);
    for plane in 0..count {
        let mut bytes = vec![0u8; row * height];
        for part in 0..across * down {
            let index = plane * across * down + part;
            let (Some(at), Some(length)) = (offsets.get(index), lengths.get(index)) else {
                return Err(damaged());
            };
            let source = page.part(*at, *length).ok_or_else(damaged)?;
            let (column, line) = (part % across * part_row, part / across * high);
            for (k, from) in source.chunks_exact(part_row).take(high.min(height - line)).enumerate() {
                let start = (line + k) * row + column;
                let end = (start + part_row).min((line + k + 1) * row);
                bytes[start..end].copy_from_slice(&from[..end - start]);
            }
        }
        planes.push(bytes);
    }
    Ok(planes)
}

/// Every sample as read by `read` from its row, by pixels.
fn each<T: Copy + Default>(unpacked: &Unpacked<'_>, read: impl Fn(&[u8], usize) -> T) -> Vec<T> {
    let Unpacked { planes, layout, .. } = unpacked;
    let (width, height) = (layout.size.width as usize, layout.size.height as usize);
    let is_separate = planes.len() > 1;
    let per_plane = if is_separate { 1 } else { layout.count };
    let row = (width * per_plane * layout.bits as usize).div_ceil(8);
    let mut values = vec![T::default(); width * height * layout.count];
    for (p, plane) in planes.iter().take(layout.count).enumerate() {
        for (y, bytes) in plane.chunks_exact(row.max(1)).take(height).enumerate() {
            for k in 0..width * per_plane {
                let (x, channel) = (k / per_plane, if is_separate { p } else { k % per_plane });
                values[(y * width + x) * layout.count + channel] = read(bytes, k);
            }
        }
    }
    values
}

fn numbers(unpacked: &Unpacked<'_>) -> Result<Vec<u32>, MediaError> {
    let (bits, little) = (unpacked.layout.bits as usize, unpacked.little);
    let whole = move |bytes: &[u8], size: usize, k: usize| {
        let part = &bytes[k * size..(k + 1) * size];
        let join = |number: u64, byte: &u8| number << 8 | u64::from(*byte);
        if little { part.iter().rev().fold(0, join) } else { part.iter().fold(0, join) }
    };
    match bits {
        8 | 16 | 24 | 32 => Ok(each(unpacked, |bytes, k| whole(bytes, bits / 8, k) as u32)),
        64 => Ok(each(unpacked, |bytes, k| (whole(bytes, 8, k) >> 32) as u32)),
        // Packed from the highest bit of each byte on.
        1..=31 => Ok(each(unpacked, |bytes, k| {
            (k * bits..(k + 1) * bits)
                .fold(0u32, |n, bit| n << 1 | u32::from(bytes[bit / 8] >> (7 - bit % 8) & 1))
        })),
        _ => Err(MediaError::Unsupported(format!("a TIFF with {bits} bits per channel"))),
    }
}

fn floats(unpacked: &Unpacked<'_>) -> Result<Vec<f32>, MediaError> {
    let little = unpacked.little;
    let word = move |bytes: &[u8], size: usize, k: usize| {
        let part = &bytes[k * size..(k + 1) * size];
        let join = |number: u64, byte: &u8| number << 8 | u64::from(*byte);
        if little { part.iter().rev().fold(0u64, join) } else { part.iter().fold(0u64, join) }
    };
    let finite = |v: f32| if v.is_finite() { v } else { 0.0 };
    match unpacked.layout.bits {
        16 => Ok(each(unpacked, |bytes, k| finite(half(word(bytes, 2, k) as u16)))),
        32 => Ok(each(unpacked, |bytes, k| finite(f32::from_bits(word(bytes, 4, k) as u32)))),
        64 => Ok(each(unpacked, |bytes, k| finite(f64::from_bits(word(bytes, 8, k)) as f32))),
        bits => Err(MediaError::Unsupported(format!("a TIFF with {bits}-bit floating point"))),
    }
}

/// IEEE 754 binary16.
fn half(bits: u16) -> f32 {
    let (sign, exponent, fraction) = (bits >> 15, i32::from(bits >> 10 & 31), f32::from(bits & 1023));
    let value = match exponent {
        0 => fraction * 2f32.powi(-24),
        31 => f32::INFINITY,
        e => (1.0 + fraction / 1024.0) * 2f32.powi(e - 15),
    };
    if sign == 1 { -value } else { value }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn half_precision_numbers_are_read() {
        let known =
            [(0x3c00, 1.0), (0xc000, -2.0), (0x3555, 0.333_251_95), (0x0001, 5.960_464_5e-8), (0, 0.0)];
        for (bits, value) in known {
            assert_eq!(half(bits), value);
        }
        assert!(half(0x7c00).is_infinite());
    }

    #[test]
    fn numbers_of_few_bits_reach_from_black_to_white() {
        assert_eq!(scaled(&[0, 1, 2, 3], 2, 255, |v| v as u8), [0, 85, 170, 255]);
        assert_eq!(scaled(&[0, 4095], 12, 65_535, |v| v as u16), [0, 65_535]);
        assert_eq!(scaled(&[u32::MAX], 32, 65_535, |v| v as u16), [65_535]);
    }

    #[test]
    fn the_three_ways_to_write_lab_say_the_same() {
        for (photometric, values) in [(CIE_LAB, [255, 20, 236]), (ICC_LAB, [255, 148, 108])] {
            assert_eq!(lab(&values, 8, photometric), [[100.0, 20.0, -20.0]]);
        }
        let [l, a, b] = lab(&[255, 255, 0], 8, ITU_LAB)[0];
        assert_eq!((l, a, b), (100.0, 85.0, -75.0));
    }
}
