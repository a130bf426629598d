//! Small patches of a reference, and how far each is off in a frame.

use crate::ops::warp::Projective;
use crate::sequence::alignment::motion::Measured;
use crate::sequence::alignment::view::{AlignmentView, Plane, clipped};

/// Pixels across and down, at large sizes and at small ones.
const SIDE: usize = 16;
const SMALL_SIDE: usize = 8;

/// A size with a longer edge has large patches.
const LARGE: usize = 200;

/// The picture is cut into so many cells, and of each the patches with most to see are kept.
const CELLS: (usize, usize) = (24, 16);
const OF_A_CELL: usize = 2;

/// The mean square of slopes below which a patch shows noise.
const LEAST_SLOPE: f64 = 3e-6;

/// So large a share of clipped pixels makes a patch tell nothing.
const MOST_CLIPPED: usize = 8;

/// How far a patch may be off, in pixels, before its slopes tell nothing of it.
const REACH: f64 = 2.0;

/// No patch is trusted to be nearer than this, in pixels: what is drawn on a grid is never quite what it was.
const LEAST_DEVIATION: f64 = 0.02;

/// And none to differ by less than this from what it shows, in values.
const LEAST_NOISE: f64 = 0.002;

/// A patch.
#[derive(Clone, Debug)]
pub(super) struct Patch {
    /// The middle of its first pixel, in pixels of its size.
    corner: (f64, f64),
    side: usize,
    /// Its middle, from the picture's middle in lengths of the long edge.
    place: (f64, f64),
    /// For each pixel what it shows, without its mean, and its slopes.
    rows: Vec<[f32; 3]>,
    /// The inverse of the normal matrix of what it shows and its slopes.
    inverse: [[f64; 3]; 3],
    /// What slopes alone would know, `[xx, xy, yy]`.
    slopes: [f64; 3],
    middle: (f64, f64),
}

/// The patches of one size of a reference.
pub(super) fn patches(view: &AlignmentView, level: usize, counts: &dyn Fn(f64, f64) -> bool) -> Vec<Patch> {
    let plane = &view.planes[level];
    let (width, height) = (plane.width, plane.height);
    let side = if width.max(height) > LARGE { SIDE } else { SMALL_SIDE };
    let mut cells: Vec<Vec<(f64, Patch)>> = vec![Vec::new(); CELLS.0 * CELLS.1];
    for top in (2..height.saturating_sub(side + 2)).step_by(side) {
        for left in (2..width.saturating_sub(side + 2)).step_by(side) {
            let share = |at: usize, of: usize| (at as f64 + side as f64 / 2.0) / of as f64;
            let (x, y) = (share(left, width), share(top, height));
            if !counts(x, y) {
                continue;
            }
            let Some((score, patch)) = Patch::new(view, level, (left, top), side) else { continue };
            let cell = (y * CELLS.1 as f64) as usize * CELLS.0 + (x * CELLS.0 as f64) as usize;
            cells[cell].push((score, patch));
        }
    }
    let best = |mut cell: Vec<(f64, Patch)>| {
        cell.sort_by(|a, b| b.0.total_cmp(&a.0));
        cell.truncate(OF_A_CELL);
        cell.into_iter().map(|(_, patch)| patch)
    };
    cells.into_iter().flat_map(best).collect()
}

impl Patch {
    /// The patch at a corner, with how much there is to see; nothing where that is too little.
    fn new(
        view: &AlignmentView,
        level: usize,
        (left, top): (usize, usize),
        side: usize,
    ) -> Option<(f64, Self)> {
        let plane = &view.planes[level];
        let (width, limit) = (plane.width, clipped());
        let at = |x: usize, y: usize| plane.values[y * width + x];
        let mut rows = Vec::with_capacity(side * side);
        let mut clipped = 0;
        for y in top..top + side {
            for x in left..left + side {
                let value = at(x, y);
                clipped += usize::from(value >= limit);
                // Slopes of the smoothed picture: by five points, exact for cubics.
                let slope = |a: f32, b: f32, c: f32, d: f32| (8.0 * (c - b) + a - d) / 12.0;
                let across = slope(at(x - 2, y), at(x - 1, y), at(x + 1, y), at(x + 2, y));
                let down = slope(at(x, y - 2), at(x, y - 1), at(x, y + 1), at(x, y + 2));
                rows.push([value, across, down]);
            }
        }
        if clipped * MOST_CLIPPED > side * side {
            return None;
        }
        let count = rows.len() as f64;
        // A grey in the mixture is what taking means away does.
        for k in 0..3 {
            let mean = (rows.iter().map(|row| f64::from(row[k])).sum::<f64>() / count) as f32;
            rows.iter_mut().for_each(|row| row[k] -= mean);
        }
        let mut normal = [[0.0; 3]; 3];
        for row in &rows {
            let row = row.map(f64::from);
            for i in 0..3 {
                for j in 0..3 {
                    normal[i][j] += row[i] * row[j];
                }
            }
        }
        // The trace of a brightness keeps the matrix from being flat where a patch is its own slope.
        normal[0][0] += 1e-9;
        let inverse = Projective(std::array::from_fn(|i| normal[i / 3][i % 3])).inverse()?;
        let inverse: [[f64; 3]; 3] = std::array::from_fn(|i| std::array::from_fn(|j| inverse.0[i * 3 + j]));
        // What is left of the slopes' matrix when the brightness is told apart.
        let own = normal[0][0];
        let left_of = |i: usize, j: usize| normal[i][j] - normal[i][0] * normal[0][j] / own;
        let slopes = [left_of(1, 1), left_of(1, 2), left_of(2, 2)];
        let (trace, det) = (slopes[0] + slopes[2], slopes[0] * slopes[2] - slopes[1] * slopes[1]);
        let least = trace / 2.0 - (trace * trace / 4.0 - det).max(0.0).sqrt();
        if trace / count < LEAST_SLOPE {
            return None;
        }
        let corner = (left as f64 + 0.5, top as f64 + 0.5);
        let middle = (left as f64 + side as f64 / 2.0, top as f64 + side as f64 / 2.0);
        let pixels = view.pixels(level);
        let shape = view.shape();
        let place = (middle.0 / pixels - shape.0, middle.1 / pixels - shape.1);
        Some((least + 0.1 * trace, Self { corner, side, place, rows, inverse, slopes, middle }))
    }

    /// How far the frame still is off where a motion puts the patch, in lengths of the long edge: `pixels` of this size.
    pub(super) fn moved(&self, frame: &Plane, motion: &Projective, pixels: f64) -> Option<Measured> {
        // Half the picture in pixels, as the frame of the same size has it.
        let half = (self.middle.0 - self.place.0 * pixels, self.middle.1 - self.place.1 * pixels);
        let map = |x: f64, y: f64| {
            let (u, v) = motion.at((x - half.0) / pixels, (y - half.1) / pixels);
            (u * pixels + half.0, v * pixels + half.1)
        };
        // Over a patch a motion is even enough to be told by its first and last row and column.
        let far = self.side as f64 - 1.0;
        let (x0, y0) = self.corner;
        let (o, r, d) = (map(x0, y0), map(x0 + far, y0), map(x0, y0 + far));
        let across = ((r.0 - o.0) / far, (r.1 - o.1) / far);
        let down = ((d.0 - o.0) / far, (d.1 - o.1) / far);
        let last = (r.0 + d.0 - o.0, r.1 + d.1 - o.1);
        if ![o, r, d, last].into_iter().all(|place| frame.holds(place)) {
            return None;
        }
        let mut right = [0f64; 3];
        let (mut sum, mut square, mut clips) = (0f64, 0f64, 0);
        let limit = clipped();
        for (j, line) in self.rows.chunks_exact(self.side).enumerate() {
            let from = (o.0 + j as f64 * down.0, o.1 + j as f64 * down.1);
            for (i, row) in line.iter().enumerate() {
                let value = frame.at(from.0 + i as f64 * across.0, from.1 + i as f64 * across.1);
                clips += usize::from(value >= limit);
                let value = f64::from(value);
                for (right, own) in right.iter_mut().zip(row) {
                    *right += value * f64::from(*own);
                }
                sum += value;
                square += value * value;
            }
        }
        let count = self.rows.len() as f64;
        if clips * MOST_CLIPPED > self.rows.len() {
            return None;
        }
        let shares: [f64; 3] =
            std::array::from_fn(|i| (0..3).map(|j| self.inverse[i][j] * right[j]).sum::<f64>());
        let gain = shares[0];
        // What shows the opposite, or hardly anything, is another thing.
        if gain < 0.1 {
            return None;
        }
        let off = (shares[1] / gain, shares[2] / gain);
        if off.0.hypot(off.1) > REACH {
            return None;
        }
        let told: f64 = shares.iter().zip(right).map(|(share, right)| share * right).sum();
        let left = (square - sum * sum / count - told).max(0.0) / (count - 4.0);
        let noise = (left.sqrt() / gain).max(LEAST_NOISE).powi(2);
        // The covariance of what is off, with the least that any patch has, and the inverse of that.
        let [xx, xy, yy] = self.slopes;
        let det = (xx * yy - xy * xy).max(1e-6 * (xx + yy).powi(2));
        let least = LEAST_DEVIATION.powi(2);
        let (cxx, cxy, cyy) = (noise * yy / det + least, -noise * xy / det, noise * xx / det + least);
        let det = cxx * cyy - cxy * cxy;
        let scale = pixels * pixels;
        Some(Measured {
            place: self.place,
            moved: (off.0 / pixels, off.1 / pixels),
            information: [cyy / det * scale, -cxy / det * scale, cxx / det * scale],
        })
    }
}
