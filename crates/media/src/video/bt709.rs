//! Frames as the luma and chroma planes of ITU-R BT.709.

use multiversion::multiversion;
use rayon::prelude::*;

/// Values 0 ..= 255 as samples of so many bits, those of more than 8 in two bytes. What lies beyond the range becomes its end.
#[inline(always)]
pub(super) fn put(bits: u8, values: &[f32], to: &mut [u8]) {
    let most = f32::from((1u16 << bits) - 1);
    let scale = f32::from(1u16 << (bits - 8));
    // Sound: the limits leave what the type holds; `max` first turns NaN into 0.
    let level =
        |value: f32| -> i32 { unsafe { (value * scale + 0.5).max(0.0).min(most).to_int_unchecked() } };
    if bits == 8 {
        for (to, value) in to.iter_mut().zip(values) {
            *to = level(*value) as u8;
        }
    } else {
        for (to, value) in to.as_chunks_mut::<2>().0.iter_mut().zip(values) {
            *to = (level(*value) as u16).to_le_bytes();
        }
    }
}

/// Rows of a picture that have one row of colours together, and room for what is computed on the way.
pub(super) struct Band {
    pub(super) luma: Vec<f32>,
    /// Sums over the rows of B′ − Y′ and R′ − Y′, with a column more on the left.
    pub(super) blue: Vec<f32>,
    red: Vec<f32>,
    colours: Vec<f32>,
}

impl Band {
    pub(super) fn new(width: usize) -> Self {
        let zeros = |n: usize| vec![0f32; n];
        Self { luma: zeros(width), blue: zeros(width + 1), red: zeros(width + 1), colours: zeros(width / 2) }
    }
}

/// A band of interleaved samples into its rows of luma and its two rows of colours.
#[multiversion(targets(
    "x86_64+avx512f+avx512vl+avx512dq+avx512bw",
    "x86_64+avx2",
    "x86_64+sse4.1",
    "aarch64+neon"
))]
pub(super) fn separate(
    samples: &[u16],
    bits: u8,
    band: &mut Band,
    y_rows: &mut [u8],
    b_row: &mut [u8],
    r_row: &mut [u8],
) {
    let width = band.luma.len();
    let bytes = if bits > 8 { 2 } else { 1 };
    band.blue.fill(0.0);
    band.red.fill(0.0);
    for (row, y_row) in samples.chunks_exact(3 * width).zip(y_rows.chunks_exact_mut(width * bytes)) {
        let pixels = row.as_chunks::<3>().0;
        let (blue, red, luma) =
            (&mut band.blue[1..][..width], &mut band.red[1..][..width], &mut band.luma[..width]);
        for (i, pixel) in pixels.iter().enumerate().take(width) {
            let [r, g, b] = [0, 1, 2].map(|c| f32::from(pixel[c]) * (1.0 / 65_535.0));
            let y = 0.2126 * r + 0.7152 * g + 0.0722 * b;
            luma[i] = 16.0 + 219.0 * y;
            blue[i] += b - y;
            red[i] += r - y;
        }
        put(bits, luma, y_row);
    }
    (band.blue[0], band.red[0]) = (band.blue[1], band.red[1]);
    let share = 0.25 * width as f32 * 3.0 / samples.len() as f32;
    for (plane, sums, most) in [(b_row, &band.blue, 1.8556f32), (r_row, &band.red, 1.5748)] {
        // Sited on the even column: a quarter, a half, a quarter.
        for (x, colour) in band.colours.iter_mut().enumerate() {
            let mean = (sums[2 * x] + 2.0 * sums[2 * x + 1] + sums[2 * x + 2]) * share;
            *colour = 128.0 + 224.0 / most * mean;
        }
        put(bits, &band.colours, plane);
    }
}

/// Y′CbCr of ITU-R BT.709-6, items 3.2 to 3.5, from interleaved R′G′B′ samples 0 ..= 65 535.
pub(super) fn chroma(width: usize, height: usize, bits: u8, rows: usize, samples: &[u16]) -> Vec<u8> {
    let bytes = if bits > 8 { 2 } else { 1 };
    let (luma, half) = (width * height, width / 2);
    let small = half * (height / rows);
    let mut out = vec![0u8; (luma + 2 * small) * bytes];
    let (y_plane, colours) = out.split_at_mut(luma * bytes);
    let (b_plane, r_plane) = colours.split_at_mut(small * bytes);
    y_plane
        .par_chunks_mut(width * rows * bytes)
        .zip(b_plane.par_chunks_mut(half * bytes))
        .zip(r_plane.par_chunks_mut(half * bytes))
        .zip(samples.par_chunks(width * rows * 3))
        .for_each_init(
            || Band::new(width),
            |band, (((y_rows, b_row), r_row), samples)| separate(samples, bits, band, y_rows, b_row, r_row),
        );
    out
}

/// Tags of ITU-R BT.709 in narrow range.
pub(super) const COLOURS: [&str; 8] =
    ["-color_range", "tv", "-colorspace", "bt709", "-color_primaries", "bt709", "-color_trc", "bt709"];
