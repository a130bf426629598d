//! Enlarging by a small network that was shown scenes drawn by formula, small and large.
//!
//! Residual blocks at the size of the small picture tell what the lightness of a picture lacks that was enlarged by cubic
//! interpolation, four values for each pixel (W. Shi and others, arXiv 1609.05158, 2016); colours, which are soft in
//! photographs, stay as that makes them. `training/upscale.py` trained it, without any photograph. The result is corrected
//! half way to what it must be so that, reduced again, it is the small picture. Four times as large is twice as large,
//! twice; three times is that, reduced.

use super::plane::{Cubic, Plane};
use super::{pixels_of, planes_of};
use crate::geometry::Rect;
use crate::ops::network::{self, Grid, Network};
use crate::ops::planes::Pixel;
use crate::step::EnlargeOp;
use rayon::prelude::*;
use std::sync::LazyLock;

/// Values of each pixel that go in: the three planes, and one that is always 0, since they go in by pairs.
const INPUTS: usize = 4;

/// Pixels around one that have to do with it: as many as there are layers, and what the correction interpolates.
const REACH: i64 = 14;

/// Share of what the result lacks, reduced again, that is added: all of it would bring the noise of worn pictures back.
const CORRECTED: f32 = 0.5;

/// How far lightness may leave the range of the pixels around, as a share of that range; so nothing rings much.
const BEYOND: f32 = 0.1;

/// The network that ships with the program.
static NETWORK: LazyLock<Network> = LazyLock::new(|| {
    // What ships with the program is read by its tests.
    Network::read(include_bytes!("weights.safetensors"), INPUTS).expect("the weights that ship are whole")
});

/// Enlarges by the network.
pub struct Learned {
    factor: usize,
    double: Cubic,
}

impl Learned {
    /// To so many times the size: 2, 3 or 4.
    pub fn new(factor: usize) -> Self {
        Self { factor, double: Cubic::new(2) }
    }

    /// Twice as large.
    fn doubled(&self, small: &[Plane; 3]) -> [Plane; 3] {
        let mut large = self.told(small);
        for (large, small) in large.iter_mut().zip(small) {
            let more = self.double.up(&self.double.missing(small, large));
            for (value, more) in large.values.iter_mut().zip(&more.values) {
                *value += CORRECTED * more;
            }
        }
        let (low, high) = small[0].range();
        let w = small[0].width;
        for (y, row) in large[0].values.chunks_exact_mut(2 * w).enumerate() {
            for (x, value) in row.iter_mut().enumerate() {
                let at = y / 2 * w + x / 2;
                let (low, high) = (low.values[at], high.values[at]);
                let beyond = BEYOND * (high - low);
                *value = value.max(low - beyond).min(high + beyond);
            }
        }
        large
    }

    /// What the network tells. Cubic interpolation alone where nobody waits for it any more.
    pub(super) fn told(&self, small: &[Plane; 3]) -> [Plane; 3] {
        let w = small[0].width;
        let mut large = small.each_ref().map(|p| self.double.up(p));
        let Some(found) = NETWORK.found(seen(small)) else { return large };
        for (y, row) in large[0].values.chunks_exact_mut(2 * w).enumerate() {
            for (x, value) in row.iter_mut().enumerate() {
                *value += found[(y / 2 * w + x / 2) * network::OUTPUTS + y % 2 * 2 + x % 2];
            }
        }
        large
    }
}

/// A picture as the network sees it.
fn seen(planes: &[Plane; 3]) -> Grid {
    let mut grid = Grid::new(planes[0].width, planes[0].height, INPUTS);
    grid.rows().for_each(|(y, row)| {
        for (x, values) in row.chunks_exact_mut(INPUTS).enumerate() {
            for (value, plane) in values.iter_mut().zip(planes) {
                *value = network::taken(plane.values[y * plane.width + x] - network::MIDDLE);
            }
        }
    });
    grid
}

/// Three pixels from each four, both ways: means over their areas.
fn three_from_four(large: &Plane) -> Plane {
    /// Weights of a group of four.
    const SHARES: [[f32; 4]; 3] = [[0.75, 0.25, 0.0, 0.0], [0.0, 0.5, 0.5, 0.0], [0.0, 0.0, 0.25, 0.75]];
    let mut out = Plane::new(large.width / 4 * 3, large.height / 4 * 3);
    let width = out.width;
    for (y, row) in out.values.chunks_exact_mut(width).enumerate() {
        let rows: [&[f32]; 4] = std::array::from_fn(|k| large.row((y / 3 * 4 + k) as i64));
        let down = SHARES[y % 3];
        for (x, value) in row.iter_mut().enumerate() {
            let mut sum = 0.0;
            for (row, down) in rows.iter().zip(down) {
                let four = &row[x / 3 * 4..][..4];
                let across = SHARES[x % 3];
                sum += down
                    * (across[0] * four[0] + across[1] * four[1] + across[2] * four[2] + across[3] * four[3]);
            }
            *value = sum;
        }
    }
    out
}

impl EnlargeOp for Learned {
    fn factor(&self) -> i64 {
        self.factor as i64
    }
    fn halo(&self) -> i64 {
        // The second time it is done at half as large pixels.
        if self.factor == 2 { REACH } else { REACH + REACH / 2 }
    }
    fn run(&self, input: &[Pixel], have: Rect, rect: Rect, out: &mut Vec<Pixel>) {
        let mut large = self.doubled(&planes_of(input, have));
        if self.factor > 2 {
            large = self.doubled(&large);
        }
        if self.factor == 3 {
            large = large.each_ref().map(three_from_four);
        }
        pixels_of(&large, have, self.factor as i64, rect, out);
    }
}
