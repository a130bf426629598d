//! Resampling for mappings that are not affine: perspective, lenses.
//!
//! The mapping is computed exactly at the corners of blocks of 16 × 16 output pixels that lie on a fixed grid, and
//! interpolated between them: the error against the exact mapping is below 1/50 pixel for any lens and perspective the
//! steps offer. The kernel (the cubic of `resample.rs`) is stretched by the reduction in the middle of the block,
//! rounded up to quarter powers of two. Beyond the picture's edge the edge pixel is repeated. Allocates one row of
//! taps.

use crate::geometry::{Rect, Size};
use crate::ops::planes::Pixel;
use crate::ops::resample::{Axis, Place, any_window, row_sum, taps, together};
use crate::ops::warp::Warp;
use crate::simd::{Lanes, Plain};

/// Side of a block, in output pixels.
const BLOCK: i64 = 16;

/// Kernels per doubling of the reduction.
const PER_OCTAVE: f64 = 4.0;

/// Largest reduction a kernel is made for: beyond it, single pixels are left out.
const MOST: usize = 16;

/// Where the corners of a block come from, for one channel: left top, right top, left bottom, right bottom.
type Corners = [(f64, f64); 4];

/// A resampling by any mapping, ready for any tile.
pub struct WarpResampler {
    warp: Warp,
    input: Size,
    /// Kernels for steps 2^(i/4).
    axes: Vec<Axis>,
    channels: Vec<usize>,
}

/// A block's place in the input.
struct Block {
    rect: Rect,
    corners: Vec<Corners>,
    axis: (usize, usize),
}

fn level(step: f64) -> usize {
    if step <= 1.0 { 0 } else { ((step.log2() * PER_OCTAVE).ceil() as usize).min(MOST) }
}

impl WarpResampler {
    /// `warp` goes from output (of size `output`) to input coordinates; `input` is the whole input's size.
    pub fn new(warp: Warp, input: Size, output: Size) -> Self {
        let (w, h) = (f64::from(output.width), f64::from(output.height));
        let mut most = 0;
        for i in 0..=8 {
            for j in 0..=8 {
                let (sx, sy) = warp.steps_at(w * f64::from(i) / 8.0, h * f64::from(j) / 8.0);
                most = most.max(level(sx)).max(level(sy));
            }
        }
        let axes = (0..=most).map(|i| Axis::new(2f64.powf(i as f64 / PER_OCTAVE))).collect();
        let channels = if warp.splits() { vec![0, 1, 2] } else { vec![1] };
        Self { warp, input, axes, channels }
    }

    fn block(&self, x: i64, y: i64) -> Block {
        let (x0, y0) = (x * BLOCK, y * BLOCK);
        let far = f64::from(self.input.long_edge()) * 2.0;
        let corners = self
            .channels
            .iter()
            .map(|&c| {
                [(0, 0), (BLOCK, 0), (0, BLOCK), (BLOCK, BLOCK)].map(|(dx, dy)| {
                    let (u, v) = self.warp.at((x0 + dx) as f64, (y0 + dy) as f64, c);
                    (u.clamp(-far, 2.0 * far), v.clamp(-far, 2.0 * far))
                })
            })
            .collect();
        let half = BLOCK as f64 / 2.0;
        let (sx, sy) = self.warp.steps_at(x0 as f64 + half, y0 as f64 + half);
        let most = self.axes.len() - 1;
        Block {
            rect: Rect::new(x0, y0, BLOCK, BLOCK),
            corners,
            axis: (level(sx).min(most), level(sy).min(most)),
        }
    }

    fn blocks(&self, rect: Rect) -> impl Iterator<Item = Block> + '_ {
        let range = |from: i64, to: i64| from.div_euclid(BLOCK)..=(to - 1).div_euclid(BLOCK);
        range(rect.y, rect.bottom())
            .flat_map(move |y| range(rect.x, rect.right()).map(move |x| self.block(x, y)))
    }

    /// The part of the input needed for `out`, inside the input.
    pub fn needs(&self, out: Rect) -> Rect {
        let (mut x, mut y) = ((i64::MAX, i64::MIN), (i64::MAX, i64::MIN));
        for block in self.blocks(out) {
            let (ax, ay) = (&self.axes[block.axis.0], &self.axes[block.axis.1]);
            for (u, v) in block.corners.into_iter().flatten() {
                let (px, py) = (ax.place(u).0, ay.place(v).0);
                x = (x.0.min(px), x.1.max(px + ax.taps as i64 + 1));
                y = (y.0.min(py), y.1.max(py + ay.taps as i64 + 1));
            }
        }
        let side = |(low, high): (i64, i64), side: u32| {
            let first = low.clamp(0, i64::from(side) - 1);
            (first, high.clamp(first + 1, i64::from(side)) - first)
        };
        let ((x, width), (y, height)) = (side(x, self.input.width), side(y, self.input.height));
        Rect::new(x, y, width, height)
    }

    /// Fills `out` for the output rectangle `rect` from `input`, which covers `have` (at least [`needs`](Self::needs)).
    pub fn run(&self, input: &[Pixel], have: Rect, rect: Rect, out: &mut Vec<Pixel>) {
        out.clear();
        out.resize(rect.area(), [0.0; 4]);
        #[cfg(target_arch = "x86_64")]
        {
            #[target_feature(enable = "avx,avx2")]
            fn wide(r: &WarpResampler, input: &[Pixel], have: Rect, rect: Rect, out: &mut [Pixel]) {
                warped::<crate::simd::Avx>(r, input, have, rect, out);
            }
            if is_x86_feature_detected!("avx2") {
                // Sound: the processor was just asked.
                return unsafe { wide(self, input, have, rect, out) };
            }
        }
        warped::<Plain>(self, input, have, rect, out);
    }
}

/// A coordinate along the row at `t` from top to bottom, between what it is at the corners. No closure: one would be compiled
/// for the common instruction set.
#[inline(always)]
fn between([a, b, c, d]: [f64; 4], t: f64) -> [f64; BLOCK as usize] {
    let mut values = [0.0; BLOCK as usize];
    for (i, value) in values.iter_mut().enumerate() {
        let s = (i as f64 + 0.5) / BLOCK as f64;
        *value = (a + (b - a) * s) * (1.0 - t) + (c + (d - c) * s) * t;
    }
    values
}

/// Where the pixels of a row of a block come from: their windows' first columns and rows, and the phases.
#[derive(Clone, Copy, Default)]
struct RowPlaces {
    x: [Place; BLOCK as usize],
    y: [Place; BLOCK as usize],
}

impl RowPlaces {
    /// Of the row at `t` from top to bottom, for corners `c`; several at once.
    #[inline(always)]
    fn new(c: &Corners, t: f64, (ax, ay): (&Axis, &Axis), have: Rect) -> Self {
        let u = between(c.map(|corner| corner.0), t);
        let v = between(c.map(|corner| corner.1), t);
        let mut places = Self::default();
        ax.places(&u, 0.0, have.x, &mut places.x);
        ay.places(&v, 0.0, have.y, &mut places.y);
        places
    }
}

impl WarpResampler {
    /// Whether all windows of a block lie inside what there is: every pixel comes from between the corners.
    fn is_inside(&self, block: &Block, have: Rect) -> bool {
        let lies = |axis: &Axis, at: f64, first: i64, end: i64| {
            // As far as the interpolation may be off by rounding.
            let (low, high) = (axis.place(at - 0.01).0, axis.place(at + 0.01).0);
            low >= first && high + axis.taps as i64 <= end
        };
        let (ax, ay) = (&self.axes[block.axis.0], &self.axes[block.axis.1]);
        let mut corners = block.corners.iter().flatten();
        corners.all(|c| lies(ax, c.0, have.x, have.right()) && lies(ay, c.1, have.y, have.bottom()))
    }
}

#[inline(always)]
fn warped<L: Lanes>(r: &WarpResampler, input: &[Pixel], have: Rect, rect: Rect, out: &mut [Pixel]) {
    let width = have.width as usize;
    let mut spare = vec![[0.0; 4]; r.axes[r.axes.len() - 1].taps];
    let most = L::splat(16.0);
    for block in r.blocks(rect) {
        let part = block.rect.within(rect);
        let (ax, ay) = (&r.axes[block.axis.0], &r.axes[block.axis.1]);
        let is_inside = r.is_inside(&block, have);
        let first = (part.x - block.rect.x) as usize;
        for y in part.y..part.bottom() {
            let t = ((y - block.rect.y) as f64 + 0.5) / BLOCK as f64;
            let at = ((y - rect.y) * rect.width + part.x - rect.x) as usize;
            let row = &mut out[at..at + part.width as usize];
            for (k, c) in block.corners.iter().enumerate() {
                let places = RowPlaces::new(c, t, (ax, ay), have);
                let places = places.x[first..].iter().zip(&places.y[first..]);
                for (pixel, (x, y)) in row.iter_mut().zip(places) {
                    let (xw, yw) = (ax.weights(x.phase as usize), ay.narrow_weights(y.phase as usize));
                    let sum: L = if is_inside {
                        let window = &input[y.at as usize * width + x.at as usize..];
                        any_window(window, width, xw, yw)
                    } else {
                        let mut sum = L::zero();
                        for (n, w) in yw.iter().enumerate() {
                            let line =
                                (i64::from(y.at) + n as i64).clamp(0, have.height - 1) as usize * width;
                            let row = taps(&input[line..line + width], i64::from(x.at), ax.taps, &mut spare);
                            sum = sum.plus_product(row_sum(row, xw), L::splat(*w));
                        }
                        sum
                    };
                    let value = together(sum.folded(L::zero()).between(L::zero(), most));
                    if block.corners.len() == 1 {
                        *pixel = value;
                    } else {
                        pixel[k] = value[k];
                    }
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Affine;
    use crate::ops::warp::{Lens, Projective};

    fn wave(x: f64, y: f64) -> f64 {
        0.5 + 0.2 * (x * 0.11).sin() + 0.2 * (y * 0.07 + x * 0.03).cos()
    }

    fn run(r: &WarpResampler, size: Size, out: Rect) -> Vec<Pixel> {
        let need = r.needs(out);
        let part: Vec<Pixel> = (need.y..need.bottom())
            .flat_map(|y| {
                (need.x..need.right()).map(move |x| [wave(x as f64 + 0.5, y as f64 + 0.5) as f32; 4])
            })
            .collect();
        let mut got = Vec::new();
        r.run(&part, need, out, &mut got);
        let mut plain = vec![[0.0; 4]; out.area()];
        warped::<Plain>(r, &part, need, out, &mut plain);
        assert_eq!(got, plain, "every instruction set gives the same bits");
        assert!(need.within(size.rect()) == need);
        got
    }

    #[test]
    fn a_warped_wave_is_the_wave_at_the_mapped_places() {
        let size = Size::new(400, 300);
        let lens = Lens {
            centre: (200.0, 150.0),
            radius: 250.0,
            bend: [0.12, -0.03],
            zoom: 0.9,
            scale: [1.004, 1.0, 0.997],
        };
        let tilt =
            Projective::from_square([(30.0, 20.0), (350.0, 40.0), (380.0, 270.0), (20.0, 260.0)]).unwrap();
        let tilt = Warp::from(Affine::scale(1.0 / 200.0, 1.0 / 150.0)).then(&Warp::from(tilt));
        for (warp, output) in [
            (Warp::from(lens), Size::new(400, 300)),
            (tilt.clone(), Size::new(200, 150)),
            (tilt.then(&Warp::from(lens)), Size::new(200, 150)),
        ] {
            let r = WarpResampler::new(warp.clone(), size, output);
            let whole = output.rect();
            let got = run(&r, size, whole);
            let mut worst: f64 = 0.0;
            for (i, p) in got.iter().enumerate() {
                let (x, y) = (i as i64 % whole.width, i as i64 / whole.width);
                for c in 0..3 {
                    let (u, v) = warp.at(x as f64 + 0.5, y as f64 + 0.5, c);
                    if (8.0..392.0).contains(&u) && (8.0..292.0).contains(&v) {
                        worst = worst.max((f64::from(p[c]) - wave(u, v)).abs());
                    }
                }
            }
            // The kernel itself takes 0.003 off a wave this short where it reduces.
            assert!(worst < 6e-3, "{worst}");
            for tile in whole.tiles(53, 37) {
                for (i, p) in run(&r, size, tile).iter().enumerate() {
                    let (x, y) = (tile.x + i as i64 % tile.width, tile.y + i as i64 / tile.width);
                    assert_eq!(*p, got[(y * whole.width + x) as usize]);
                }
            }
        }
    }
}
