//! A picture inside the network: whole numbers, all channels of a pixel side by side, with an edge of zeros around it.

use super::layer::{Layer, Then};
use rayon::prelude::*;

/// Such a picture.
pub(crate) struct Grid {
    width: usize,
    height: usize,
    channels: usize,
    values: Vec<i16>,
}

impl Grid {
    /// All zero.
    pub(crate) fn new(width: usize, height: usize, channels: usize) -> Self {
        Self { width, height, channels, values: vec![0; (width + 2) * (height + 2) * channels] }
    }

    /// All zero, of the same size.
    pub(super) fn like(&self, channels: usize) -> Self {
        Self::new(self.width, self.height, channels)
    }

    /// Values of a row with its edges.
    fn pitch(&self) -> usize {
        (self.width + 2) * self.channels
    }

    /// A row from the edge of the left on; −1 and the height are the edges above and below.
    fn row(&self, y: isize) -> &[i16] {
        let pitch = self.pitch();
        &self.values[(y + 1) as usize * pitch..][..pitch]
    }

    /// Its rows without edges, each with its number.
    pub(crate) fn rows(&mut self) -> impl IndexedParallelIterator<Item = (usize, &mut [i16])> {
        let (pitch, channels, inner) = (self.pitch(), self.channels, self.width * self.channels);
        let all = &mut self.values[pitch..pitch * (self.height + 1)];
        all.par_chunks_mut(pitch).map(move |row| &mut row[channels..channels + inner]).enumerate()
    }

    /// What `layer` makes of three rows and columns around each pixel, put or added to `to`, which has the same size.
    pub(super) fn around(&self, layer: &Layer, to: &mut Self, then: Then) {
        to.rows().for_each(|(y, row)| {
            let y = y as isize;
            layer.row([self.row(y - 1), self.row(y), self.row(y + 1)], row, then);
        });
    }

    /// The same as numbers with fractions.
    pub(super) fn around_as_fractions(&self, layer: &Layer) -> Vec<f32> {
        let mut out = vec![0f32; self.width * self.height * layer.outputs()];
        out.par_chunks_mut(self.width * layer.outputs()).enumerate().for_each(|(y, row)| {
            let y = y as isize;
            layer.row_of_fractions([self.row(y - 1), self.row(y), self.row(y + 1)], row);
        });
        out
    }
}
