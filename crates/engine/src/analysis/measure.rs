//! What a picture measures: tone, clipping, sharpness, noise, mean colour. Numbers to sort and sieve frames by.
//!
//! Tone and colour are measured on a reduced picture, sharpness and noise on every stored pixel, because both
//! vanish when a picture is made smaller. Values are perceptual (the picture's own encoding), as people see them.

use crate::colour::transfer::encode;
use crate::geometry::Size;
use crate::image::picture::{Picture, Samples};
use crate::image::source::{Source, SourceError};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Measures of one picture.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Measures {
    /// Mean luma, 0 black … 100 white.
    pub brightness: f32,
    /// Standard deviation of luma, on the same scale.
    pub contrast: f32,
    /// Share of pixels at black in every channel, per cent.
    pub black: f32,
    /// Share of pixels at white in any channel, per cent.
    pub white: f32,
    /// Mean slope of the sharpest hundredth of the edges, noise taken off, on the luma scale per pixel.
    pub sharpness: f32,
    /// Standard deviation of the noise in luma, of 255.
    pub noise: f32,
    /// Mean colour, encoded red, green and blue.
    pub colour: [u8; 3],
    /// Hash of the reduced pixels: equal for pictures with the same pixels.
    pub pixels: String,
}

/// Luma weights of ITU-R BT.709 on encoded values.
const LUMA: [f32; 3] = [0.2126, 0.7152, 0.0722];

/// Long edge the tone is measured at, about.
const TONE_EDGE: u32 = 700;

/// What 16-bit samples look like, 0 ..= 255: as they are encoded, or on the perceptual scale where they are light.
struct Wide(Option<Box<[f32]>>);

impl Wide {
    fn of(picture: &Picture) -> Self {
        let shown = |headroom: f32| {
            move |s: u16| encode((f32::from(s) / 65_535.0).powi(2) * headroom).min(1.0) * 255.0
        };
        Self(picture.colour.headroom.map(|headroom| (0..=u16::MAX).map(shown(headroom)).collect()))
    }

    fn at(&self, sample: u16) -> f32 {
        self.0.as_ref().map_or(f32::from(sample) / 257.0, |shown| shown[usize::from(sample)])
    }

    fn byte(&self, sample: u16) -> u8 {
        self.0.as_ref().map_or((sample >> 8) as u8, |shown| (shown[usize::from(sample)] + 0.5) as u8)
    }
}

/// Encoded values of a picture, 0 ..= 255, by stored row.
fn row(picture: &Picture, wide: &Wide, y: usize, out: &mut [f32]) {
    let width = picture.stored_size().width as usize;
    let luma = |p: [f32; 3]| p[0] * LUMA[0] + p[1] * LUMA[1] + p[2] * LUMA[2];
    let range = y * width * 3..(y + 1) * width * 3;
    match picture.samples() {
        Samples::U8(v) => {
            for (o, p) in out.iter_mut().zip(v[range].as_chunks::<3>().0) {
                *o = luma(p.map(f32::from));
            }
        }
        Samples::U16(v) => {
            for (o, p) in out.iter_mut().zip(v[range].as_chunks::<3>().0) {
                *o = luma(p.map(|s| wide.at(s)));
            }
        }
        Samples::F32(v) => {
            for (o, p) in out.iter_mut().zip(v[range].as_chunks::<3>().0) {
                *o = luma(p.map(|s| s.clamp(0.0, 1.0) * 255.0));
            }
        }
    }
}

struct Tone {
    brightness: f32,
    contrast: f32,
    black: f32,
    white: f32,
    colour: [u8; 3],
    pixels: String,
}

fn tone(picture: &Picture) -> Tone {
    let bytes: std::borrow::Cow<'_, [u8]> = match picture.samples() {
        Samples::U8(v) => v.as_slice().into(),
        Samples::U16(v) => {
            let wide = Wide::of(picture);
            v.iter().map(|s| wide.byte(*s)).collect::<Vec<u8>>().into()
        }
        Samples::F32(v) => {
            v.iter().map(|s| (s.clamp(0.0, 1.0) * 255.0 + 0.5) as u8).collect::<Vec<u8>>().into()
        }
    };
    let (mut sum, mut square, mut black, mut white) = (0f64, 0f64, 0u64, 0u64);
    let mut means = [0u64; 3];
    let pixels = bytes.as_chunks::<3>().0;
    for p in pixels {
        let luma = f64::from(p[0]) * 0.2126 + f64::from(p[1]) * 0.7152 + f64::from(p[2]) * 0.0722;
        sum += luma;
        square += luma * luma;
        black += u64::from(p.iter().all(|v| *v <= 2));
        white += u64::from(p.iter().any(|v| *v >= 254));
        for c in 0..3 {
            means[c] += u64::from(p[c]);
        }
    }
    let n = pixels.len().max(1) as f64;
    let mean = sum / n;
    let share = |count: u64| (count as f64 * 100.0 / n) as f32;
    Tone {
        brightness: (mean / 2.55) as f32,
        contrast: ((square / n - mean * mean).max(0.0).sqrt() / 2.55) as f32,
        black: share(black),
        white: share(white),
        colour: means.map(|m| (m as f64 / n).round() as u8),
        pixels: fingerprint(&bytes, picture.stored_size()),
    }
}

/// A 64-bit FNV-1a hash (G. Fowler, L. C. Noll, K.-P. Vo) over size and bytes, as 16 hexadecimal digits.
fn fingerprint(bytes: &[u8], size: Size) -> String {
    let mut hash = 0xcbf2_9ce4_8422_2325u64;
    let head = [size.width, size.height].into_iter().flat_map(u32::to_le_bytes);
    for byte in head.chain(bytes.iter().copied()) {
        hash = (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3);
    }
    format!("{hash:016x}")
}

/// Side of the blocks noise is measured in.
const BLOCK: usize = 16;

/// Share of the blocks, the quietest first, whose noise counts as the picture's: texture only adds.
const QUIET: f32 = 0.2;

/// What a normal distribution's sigma is times, when read at [`QUIET`] of blocks of [`BLOCK`]² samples; found by
/// simulation with white noise.
const QUIET_BIAS: f32 = 0.955;

/// Noise and sharpness from all stored pixels.
///
/// Noise: J. Immerkær, "Fast noise variance estimation" (1996), in blocks, of which the quietest fifth counts.
/// Sharpness: the slope of luma between pixels two apart, its top hundredth averaged; what the noise alone would
/// give there is taken off in squares.
fn detail(picture: &Picture) -> (f32, f32) {
    let size = picture.stored_size();
    let (w, h) = (size.width as usize, size.height as usize);
    if w < 3 || h < 3 {
        return (0.0, 0.0);
    }
    let mut rows = [vec![0f32; w], vec![0f32; w], vec![0f32; w]];
    let wide = Wide::of(picture);
    row(picture, &wide, 0, &mut rows[1]);
    row(picture, &wide, 1, &mut rows[2]);
    // Slopes as a histogram in quarters of a level.
    let mut slopes = vec![0u64; 1024];
    let columns = (w - 2).div_ceil(BLOCK);
    let mut sums = vec![(0f32, 0u32); columns];
    let mut sigmas = Vec::new();
    let mut flush = |sums: &mut Vec<(f32, u32)>| {
        for (sum, count) in sums.iter_mut() {
            // Clipped areas have no noise to be seen.
            if *count >= (BLOCK * BLOCK / 2) as u32 {
                sigmas.push((std::f32::consts::PI / 2.0).sqrt() / 6.0 * *sum / *count as f32);
            }
            (*sum, *count) = (0.0, 0);
        }
    };
    for y in 1..h - 1 {
        rows.rotate_left(1);
        row(picture, &wide, y + 1, &mut rows[2]);
        let [a, b, c] = &rows;
        for x in 1..w - 1 {
            let slope = ((b[x + 1] - b[x - 1]).powi(2) + (c[x] - a[x]).powi(2)).sqrt() * 0.5;
            slopes[((slope * 4.0) as usize).min(1023)] += 1;
            if b[x] > 4.0 && b[x] < 251.0 {
                let mask = a[x - 1] - 2.0 * a[x] + a[x + 1] - 2.0 * b[x - 1] + 4.0 * b[x] - 2.0 * b[x + 1]
                    + c[x - 1]
                    - 2.0 * c[x]
                    + c[x + 1];
                let block = &mut sums[(x - 1) / BLOCK];
                block.0 += mask.abs();
                block.1 += 1;
            }
        }
        if y % BLOCK == 0 {
            flush(&mut sums);
        }
    }
    flush(&mut sums);
    sigmas.sort_by(f32::total_cmp);
    let noise = match sigmas.len() {
        0 => 0.0,
        n => sigmas[((n as f32 * QUIET) as usize).min(n - 1)] / QUIET_BIAS,
    };
    let mut left = ((w - 2) * (h - 2)) as u64 / 100 + 1;
    let wanted = left;
    let mut sum = 0f64;
    for (i, &count) in slopes.iter().enumerate().rev() {
        let take = count.min(left);
        sum += take as f64 * (i as f64 + 0.5) / 4.0;
        left -= take;
        if left == 0 {
            break;
        }
    }
    let top = (sum / wanted as f64) as f32;
    // The top hundredth of a Rayleigh distribution of this slope lies at about 2.4 times the noise's sigma.
    let sharp = (top * top - (2.4 * noise).powi(2)).max(0.0).sqrt();
    (sharp / 2.55, noise)
}

/// Measures a picture; decodes it whole.
///
/// # Errors
/// The source's, when it cannot be decoded.
pub fn measure(source: &dyn Source) -> Result<Measures, SourceError> {
    let whole = source.level(0)?;
    let mut small = whole.clone();
    while small.stored_size().long_edge() > TONE_EDGE * 2 {
        small = std::sync::Arc::new(small.halved());
    }
    let tone = tone(&small);
    let (sharpness, noise) = detail(&whole);
    let round = |v: f32| (v * 100.0).round() / 100.0;
    Ok(Measures {
        brightness: round(tone.brightness),
        contrast: round(tone.contrast),
        black: round(tone.black),
        white: round(tone.white),
        sharpness: round(sharpness),
        noise: round(noise),
        colour: tone.colour,
        pixels: tone.pixels,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::image::picture::Orientation;
    use crate::image::pyramid::Pyramid;

    fn measured(w: u32, h: u32, value: impl Fn(u32, u32) -> [f32; 3]) -> Measures {
        let px =
            (0..w * h).flat_map(|i| value(i % w, i / w).map(|v| v.round().clamp(0.0, 255.0) as u8)).collect();
        let p = Picture::new(Size::new(w, h), Samples::U8(px), Orientation::UPRIGHT, None).unwrap();
        measure(&Pyramid::new(p)).unwrap()
    }

    /// Normal noise from the sum of twelve uniform numbers of a hash.
    fn normal(x: u32, y: u32, c: u32) -> f32 {
        let mut s =
            (x.wrapping_mul(73_856_093) ^ y.wrapping_mul(19_349_663) ^ c.wrapping_mul(83_492_791)) | 1;
        let mut sum = -6.0;
        for _ in 0..12 {
            s ^= s << 13;
            s ^= s >> 17;
            s ^= s << 5;
            sum += s as f32 / u32::MAX as f32;
        }
        sum
    }

    #[test]
    fn tone_of_known_pictures() {
        let half = measured(200, 100, |x, _| if x < 100 { [0.0; 3] } else { [255.0; 3] });
        assert!((half.brightness - 50.0).abs() < 0.1 && (half.contrast - 50.0).abs() < 0.1, "{half:?}");
        assert!((half.black - 50.0).abs() < 0.1 && (half.white - 50.0).abs() < 0.1);
        let green = measured(64, 64, |_, _| [10.0, 200.0, 30.0]);
        assert_eq!(green.colour, [10, 200, 30]);
        assert!((green.brightness - (10.0 * 0.2126 + 200.0 * 0.7152 + 30.0 * 0.0722) / 2.55).abs() < 0.1);
        assert_eq!((green.noise, green.sharpness, green.contrast), (0.0, green.sharpness, 0.0));
    }

    #[test]
    fn a_developed_raw_measures_as_it_looks() {
        use crate::raw::{Developed, HEADROOM};
        // Left a light of 0.2, right twice as bright as white.
        let size = Size::new(60, 40);
        let coded = |light: f32| ((light / HEADROOM).sqrt() * 65_535.0 + 0.5) as u16;
        let samples = (0..60 * 40).flat_map(|i| [coded(if i % 60 < 30 { 0.2 } else { 2.0 }); 3]).collect();
        let picture = Picture::developed(Developed { size, samples }, Orientation::UPRIGHT).unwrap();
        let found = measure(&Pyramid::new(picture)).unwrap();
        assert!((found.brightness - 50.0 * (encode(0.2) + 1.0)).abs() < 0.5, "{found:?}");
        assert!((found.white - 50.0).abs() < 0.1 && found.black == 0.0, "{found:?}");
    }

    #[test]
    fn noise_that_was_added_is_found() {
        for sigma in [2.0f32, 5.0, 12.0] {
            // Slow waves, some edges, and the same noise in every channel, so that luma has this sigma.
            let m = measured(600, 400, |x, y| {
                let base =
                    110.0 + 40.0 * (x as f32 * 0.02).sin() + if (y / 90) % 2 == 0 { 25.0 } else { 0.0 };
                [base + sigma * normal(x, y, 0); 3]
            });
            assert!((m.noise / sigma - 1.0).abs() < 0.12, "σ {sigma}: {}", m.noise);
        }
    }

    #[test]
    fn a_softer_picture_is_less_sharp_and_noise_is_no_sharpness() {
        let edges = |soft: f32, noise: f32| {
            measured(500, 400, move |x, y| {
                let at = ((x as f32 % 100.0 - 50.0).abs() - 25.0) / soft;
                [60.0 + 120.0 / (1.0 + (-at).exp()) + noise * normal(x, y, 1); 3]
            })
            .sharpness
        };
        let (sharp, soft, softer) = (edges(0.5, 0.0), edges(2.0, 0.0), edges(5.0, 0.0));
        assert!(sharp > soft * 1.5 && soft > softer * 1.5, "{sharp} {soft} {softer}");
        assert!((edges(2.0, 4.0) / soft - 1.0).abs() < 0.25, "{} {soft}", edges(2.0, 4.0));
    }

    #[test]
    fn the_fingerprint_tells_pictures_apart() {
        let one = |d: f32| measured(40, 30, move |x, y| [x as f32 * 3.0, y as f32 * 5.0, d]).pixels;
        assert_eq!(one(4.0), one(4.0));
        assert_ne!(one(4.0), one(5.0));
        // FNV-1a of eight bytes of size and none of picture.
        assert_eq!(fingerprint(b"", Size::new(0, 0)), "a8c7f832281a39c5");
    }

    #[test]
    fn the_smallest_pictures_are_measured() {
        for (w, h) in [(1, 1), (1, 9), (2, 2), (3, 3)] {
            assert!((measured(w, h, |_, _| [128.0; 3]).brightness - 50.2).abs() < 0.1);
        }
    }
}
