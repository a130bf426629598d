//! What a sensor's numbers mean: black and white of every place.

use rawler::RawImage;
use rawler::rawimage::RawImageData;
use rayon::prelude::*;

/// Values that are worked on together.
const TOGETHER: usize = 256;

/// Black and white of every place.
pub(super) struct Levels {
    black: Vec<f32>,
    /// Cells across and down, and values a pixel.
    repeat: (usize, usize, usize),
    /// Where the cells begin.
    origin: (usize, usize),
    white: Vec<f32>,
}

impl Levels {
    pub fn of(image: &RawImage) -> Self {
        let black = &image.blacklevel;
        let repeat = (black.width.max(1), black.height.max(1), black.cpp.max(1));
        let mut values = black.as_vec();
        values.resize(repeat.0 * repeat.1 * repeat.2, values.last().copied().unwrap_or(0.0));
        let origin = image.active_area.map_or((0, 0), |a| (a.p.x, a.p.y));
        let mut white = image.whitelevel.as_vec();
        if white.is_empty() {
            white.push(((1u64 << image.bps.clamp(1, 16)) - 1) as f32);
        }
        Self { black: values, repeat, origin, white }
    }

    /// Light of every value of a part of the sensor (left, top, width, height), where `stride` values are from row to row.
    pub fn part(&self, data: &RawImageData, stride: usize, part: [usize; 4], channels: usize) -> Vec<f32> {
        let [left, top, width, height] = part;
        let mut values = vec![0f32; width * height * channels];
        values.par_chunks_mut(width * channels).enumerate().for_each(|(row, to)| {
            let y = top + row;
            let from = y * stride + left * channels;
            let count = to.len();
            let period = self.repeat.0 * channels;
            // As often as they repeat in about so many values: long rows of sums are worked several at a time.
            let times = TOGETHER.div_ceil(period);
            let cells: Vec<(f32, f32)> =
                (0..period).map(|k| self.cell(left + k / channels, y, k % channels)).collect();
            let (black, scale): (Vec<f32>, Vec<f32>) = cells.repeat(times).into_iter().unzip();
            match data {
                RawImageData::Integer(v) => lit(&v[from..from + count], (&black, &scale), to),
                RawImageData::Float(v) => lit(&v[from..from + count], (&black, &scale), to),
            }
        });
        values
    }

    /// Black of a place, and what is to be multiplied by above it.
    fn cell(&self, x: usize, y: usize, channel: usize) -> (f32, f32) {
        let (w, h, channels) = self.repeat;
        let column = (x + w * 64 - self.origin.0 % w) % w;
        let row = (y + h * 64 - self.origin.1 % h) % h;
        let black = self.black[(row * w + column) * channels + channel.min(channels - 1)];
        let white = self.white[channel.min(self.white.len() - 1)];
        (black, 1.0 / (white - black).max(1.0))
    }
}

/// 0 for no light, 1 for the most that is counted.
fn lit<T: Copy + Into<f32>>(counted: &[T], (black, scale): (&[f32], &[f32]), to: &mut [f32]) {
    for (to, counted) in to.chunks_mut(black.len()).zip(counted.chunks(black.len())) {
        for (((to, counted), black), scale) in to.iter_mut().zip(counted).zip(black).zip(scale) {
            let light = ((*counted).into() - black) * scale;
            // A little below black is noise, whose mean has to stay. What is no number is no light.
            *to = if light.is_finite() { light.clamp(-0.1, 1.0) } else { 0.0 };
        }
    }
}
