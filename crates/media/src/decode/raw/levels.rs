//! What a sensor's numbers mean: black and white of every place.

use rallo_engine::raw::{Counts, Levels as Cells};
use rawler::RawImage;
use rawler::rawimage::RawImageData;
use rayon::prelude::*;

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

    /// What the numbers of a part of the sensor mean, from its left and top on.
    fn cells(&self, (left, top): (usize, usize), channels: usize) -> Cells {
        let repeat = (self.repeat.0 * channels, self.repeat.1);
        Cells::new(repeat, |value, row| self.cell(left + value / channels, top + row, value % channels))
    }

    /// A part of the sensor (left, top, width, height) as it was counted, where `stride` numbers are from row to row.
    pub fn counts(&self, numbers: Vec<u16>, stride: usize, [left, top, ..]: [usize; 4]) -> Counts {
        Counts { numbers, start: top * stride + left, stride, levels: self.cells((left, top), 1) }
    }

    /// Light of every value of it.
    pub fn part(&self, data: &RawImageData, stride: usize, part: [usize; 4], channels: usize) -> Vec<f32> {
        let [left, top, width, height] = part;
        let cells = self.cells((left, top), channels);
        let mut values = vec![0f32; width * height * channels];
        values.par_chunks_mut(width * channels).enumerate().for_each(|(row, to)| {
            let from = (top + row) * stride + left * channels;
            let numbers = from..from + to.len();
            match data {
                RawImageData::Integer(v) => cells.of_counts(row, &v[numbers], to),
                RawImageData::Float(v) => cells.of_floats(row, &v[numbers], to),
            }
        });
        values
    }

    /// Black and white of a place.
    fn cell(&self, x: usize, y: usize, channel: usize) -> (f32, f32) {
        let (w, h, channels) = self.repeat;
        let column = (x + w * 64 - self.origin.0 % w) % w;
        let row = (y + h * 64 - self.origin.1 % h) % h;
        let black = self.black[(row * w + column) * channels + channel.min(channels - 1)];
        let white = self.white[channel.min(self.white.len() - 1)];
        (black, white)
    }
}
