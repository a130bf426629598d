//! How everything in a picture moved to the next one: a motion for each pixel.
//!
//! From small sizes to large ones; at each size small patches are laid where the size before puts them and moved until they fit
//! best (the inverse form of S. Baker and I. Matthews, 2004, on a dense grid as T. Kroeger and others, "Fast optical flow using
//! dense inverse search", 2016); each pixel takes the mean of the patches over it, those that fit it best the most.

use crate::sequence::alignment::{Plane, around};
use rayon::prelude::*;

/// Pixels across and down a patch, and between two of them.
const SIDE: usize = 8;
const APART: usize = 4;

/// Rounds of a patch at one size.
const ROUNDS: usize = 10;

/// A patch that goes farther than this, in pixels of a size, was lost.
const FARTHEST: f64 = 6.0;

/// The shortest long edge of the smallest size.
pub(super) const SMALLEST: usize = 24;

/// The long edge of the largest size that is searched; beyond it motions are enlarged.
const LARGEST: usize = 1000;

/// Slopes below which a patch shows nothing to hold on to.
const LEAST_SLOPE: f64 = 1e-5;

/// A motion for each pixel, in pixels.
#[derive(Clone, Debug)]
pub struct Flow {
    width: usize,
    height: usize,
    /// Across and down, row by row.
    pub(super) motions: Vec<[f32; 2]>,
}

impl Flow {
    fn still(width: usize, height: usize) -> Self {
        Self { width, height, motions: vec![[0.0; 2]; width * height] }
    }

    /// How one picture moved to another of the same size; both by their sizes.
    pub(super) fn between(from: &[Plane], to: &[Plane]) -> Self {
        let last = from.len() - 1;
        let first = from.iter().position(|p| p.width.max(p.height) <= LARGEST).unwrap_or(last);
        let mut flow = Self::still(from[last].width, from[last].height);
        for level in (first..=last).rev() {
            flow = flow.enlarged(from[level].width, from[level].height).refined(&from[level], &to[level]);
        }
        flow.enlarged(from[0].width, from[0].height)
    }

    /// The motion at a place in pixels (the middle of the first pixel is 0.5), between those around; beyond the edge its own.
    pub(super) fn at(&self, x: f32, y: f32) -> [f32; 2] {
        let ([a, b, c, d], u, v) = around((self.width, self.height), x, y);
        let [a, b, c, d] = [a, b, c, d].map(|at| self.motions[at]);
        std::array::from_fn(|k| (a[k] * (1.0 - u) + b[k] * u) * (1.0 - v) + (c[k] * (1.0 - u) + d[k] * u) * v)
    }

    /// For a picture of another size.
    fn enlarged(&self, width: usize, height: usize) -> Self {
        if (width, height) == (self.width, self.height) {
            return self.clone();
        }
        let (across, down) = (width as f32 / self.width as f32, height as f32 / self.height as f32);
        let motions = (0..width * height).map(|i| {
            let place = ((i % width) as f32 + 0.5, (i / width) as f32 + 0.5);
            let [x, y] = self.at(place.0 / across, place.1 / down);
            [x * across, y * down]
        });
        Self { width, height, motions: motions.collect() }
    }

    /// Made better at its size.
    fn refined(&self, from: &Plane, to: &Plane) -> Self {
        let (width, height) = (self.width, self.height);
        if width <= SIDE + 2 || height <= SIDE + 2 {
            return self.clone();
        }
        let starts = |length: usize| -> Vec<usize> {
            let last = length - SIDE - 1;
            (1..last).step_by(APART).chain([last]).collect()
        };
        let (columns, rows) = (starts(width), starts(height));
        let found: Vec<[f32; 2]> = rows
            .par_iter()
            .flat_map_iter(|top| columns.iter().map(move |left| (*left, *top)))
            .map(|corner| self.patch(from, to, corner))
            .collect();
        // Each row of pixels takes from the rows of patches over it.
        let motions: Vec<[f32; 2]> = (0..height)
            .into_par_iter()
            .flat_map_iter(|y| {
                let mut sums = vec![[0.0f32; 3]; width];
                for (j, top) in rows.iter().enumerate().filter(|(_, top)| (**top..**top + SIDE).contains(&y))
                {
                    let _ = top;
                    for (i, left) in columns.iter().enumerate() {
                        let [u, v] = found[j * columns.len() + i];
                        for x in *left..*left + SIDE {
                            let there = to.near(x as f32 + 0.5 + u, y as f32 + 0.5 + v);
                            let weight = 1.0 / (from.values[y * width + x] - there).abs().max(0.01);
                            let sum = &mut sums[x];
                            *sum = [sum[0] + u * weight, sum[1] + v * weight, sum[2] + weight];
                        }
                    }
                }
                let own = move |x: usize, [u, v, weight]: [f32; 3]| {
                    if weight > 0.0 { [u / weight, v / weight] } else { self.motions[y * width + x] }
                };
                sums.into_iter().enumerate().map(move |(x, sum)| own(x, sum))
            })
            .collect();
        Self { width, height, motions }
    }

    /// Where a patch goes.
    fn patch(&self, from: &Plane, to: &Plane, (left, top): (usize, usize)) -> [f32; 2] {
        let middle = (left + SIDE / 2, top + SIDE / 2);
        let begin = self.motions[middle.1 * self.width + middle.0].map(f64::from);
        let value = |x: usize, y: usize| f64::from(from.values[y * self.width + x]);
        let mut rows = [[0.0f64; 3]; SIDE * SIDE];
        for (k, row) in rows.iter_mut().enumerate() {
            let (x, y) = (left + k % SIDE, top + k / SIDE);
            let slope = |a: f64, b: f64| (b - a) / 2.0;
            *row = [
                value(x, y),
                slope(value(x - 1, y), value(x + 1, y)),
                slope(value(x, y - 1), value(x, y + 1)),
            ];
        }
        let count = (SIDE * SIDE) as f64;
        let means: [f64; 3] = std::array::from_fn(|c| rows.iter().map(|row| row[c]).sum::<f64>() / count);
        for row in &mut rows {
            row.iter_mut().zip(means).for_each(|(v, mean)| *v -= mean);
        }
        let sum = |a: usize, b: usize| rows.iter().map(|row| row[a] * row[b]).sum::<f64>();
        let (xx, xy, yy) = (sum(1, 1), sum(1, 2), sum(2, 2));
        let keeps = 0.02 * (xx + yy);
        let det = (xx + keeps) * (yy + keeps) - xy * xy;
        if (xx + yy) / count < LEAST_SLOPE || det <= 0.0 {
            return begin.map(|v| v as f32);
        }
        let mut at = begin;
        let mut best = (f64::INFINITY, begin);
        for _ in 0..ROUNDS {
            let mut there = [0.0f64; SIDE * SIDE];
            for (k, there) in there.iter_mut().enumerate() {
                let (x, y) = ((left + k % SIDE) as f64 + 0.5 + at[0], (top + k / SIDE) as f64 + 0.5 + at[1]);
                *there = f64::from(to.near(x as f32, y as f32));
            }
            let mean = there.iter().sum::<f64>() / count;
            let (mut off, mut bx, mut by) = (0.0, 0.0, 0.0);
            for (row, there) in rows.iter().zip(there) {
                let differs = there - mean - row[0];
                off += differs * differs;
                bx += differs * row[1];
                by += differs * row[2];
            }
            if off < best.0 {
                best = (off, at);
            }
            let step = [((yy + keeps) * bx - xy * by) / det, ((xx + keeps) * by - xy * bx) / det];
            at = [at[0] - step[0], at[1] - step[1]];
            if (at[0] - begin[0]).hypot(at[1] - begin[1]) > FARTHEST || step[0].hypot(step[1]) < 0.01 {
                break;
            }
        }
        best.1.map(|v| v as f32)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sequence::course::tests::chance;

    /// Smooth numbers without a pattern.
    fn ground(x: f64, y: f64) -> f64 {
        let (left, top) = (x.floor(), y.floor());
        let ease = |t: f64| t * t * (3.0 - 2.0 * t);
        let (u, v) = (ease(x - left), ease(y - top));
        let at = |i: f64, j: f64| chance((i as i64 * 7919 + j as i64 * 104_729).unsigned_abs() as usize);
        let row = |j: f64| at(left, j) * (1.0 - u) + at(left + 1.0, j) * u;
        row(top) * (1.0 - v) + row(top + 1.0) * v
    }

    fn plane(of: impl Fn(f64, f64) -> f64) -> Plane {
        let (width, height) = (200, 150);
        let values = (0..width * height).map(|i| of((i % width) as f64, (i / width) as f64) as f32).collect();
        Plane { width, height, values }
    }

    #[test]
    fn what_moves_is_followed_by_parts_of_a_pixel() {
        let scene = |x: f64, y: f64| {
            0.4 + 0.25 * ground(x / 5.0 + 40.0, y / 5.0 + 40.0)
                + 0.1 * ground(x / 14.0 + 90.0, y / 14.0 + 9.0)
        };
        // The whole goes to the right and down, a part of it to the left.
        let is_part = |x: f64, y: f64| (70.0..130.0).contains(&x) && (50.0..100.0).contains(&y);
        let from = plane(scene);
        let to = plane(|x, y| if is_part(x + 5.0, y) { scene(x + 5.0, y) } else { scene(x - 3.4, y - 1.7) });
        let flow = Flow::between(&from.sizes(SMALLEST), &to.sizes(SMALLEST));
        let off = |x: usize, y: usize, truth: [f32; 2]| {
            let [u, v] = flow.motions[y * 200 + x];
            (u - truth[0]).hypot(v - truth[1])
        };
        let mean = |columns: std::ops::Range<usize>, rows: std::ops::Range<usize>, truth| {
            let places: Vec<_> = rows.flat_map(|y| columns.clone().map(move |x| (x, y))).collect();
            places.iter().map(|(x, y)| off(*x, *y, truth)).sum::<f32>() / places.len() as f32
        };
        let around = mean(15..55, 15..135, [3.4, 1.7]);
        assert!(around < 0.15, "{around}");
        let inside = mean(82..118, 62..88, [-5.0, 0.0]);
        assert!(inside < 0.4, "{inside}");
    }
}
