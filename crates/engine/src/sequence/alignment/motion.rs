//! How a camera may have moved between two frames, and the motion that fits many small measured ones best.
//!
//! Places are told from the middle of the picture, in lengths of its long edge, so that a motion is the same at every size.

use crate::ops::warp::Projective;
use serde::{Deserialize, Serialize};

/// What of a motion is looked for.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Freedom {
    /// Along rows and columns.
    Shift,
    /// And a turn.
    #[default]
    Turn,
    /// And nearer or farther.
    Scale,
    /// And seen from another side.
    Perspective,
}

impl Freedom {
    /// As recipes write them.
    pub const WORDS: [&str; 4] = ["shift", "turn", "scale", "perspective"];

    /// Numbers it has.
    pub const fn count(self) -> usize {
        match self {
            Self::Shift => 2,
            Self::Turn => 3,
            Self::Scale => 4,
            Self::Perspective => MOST,
        }
    }
}

/// Numbers of the freest motion.
const MOST: usize = 8;

/// Small steps of each number at a place: along the rows, along the columns.
fn steps((x, y): (f64, f64)) -> [(f64, f64); MOST] {
    [(1.0, 0.0), (0.0, 1.0), (-y, x), (x, y), (x, -y), (y, x), (x * x, x * y), (x * y, y * y)]
}

/// A motion that was measured at one place, and how far it is to be trusted.
#[derive(Clone, Copy, Debug)]
pub struct Measured {
    /// The place.
    pub place: (f64, f64),
    /// The motion there.
    pub moved: (f64, f64),
    /// What is known of it: the inverse of its covariance, `[xx, xy, yy]`.
    pub information: [f64; 3],
}

/// A small motion of all places together, with how well it is known.
#[derive(Clone, Debug)]
pub struct Fitted {
    numbers: [f64; MOST],
    freedom: Freedom,
    /// How much each measured motion counted, 0 to 1.
    pub weights: Vec<f64>,
    /// The standard deviation of the motion at the picture's corners, from what the measured ones differ by.
    pub error: f64,
}

/// Rounds in which measured motions that lie far off count less.
const ROUNDS: usize = 12;

/// From so many standard deviations on one does not count at all.
const FAR: f64 = 4.0;

/// The middle of χ² with two degrees of freedom.
const MIDDLE: f64 = 1.386;

impl Fitted {
    /// The motion that fits best, measured ones far from it counting less (Tukey's weights); nothing where there are too few.
    /// `shape` is half the width and height of the picture.
    pub fn of(measured: &[Measured], freedom: Freedom, shape: (f64, f64)) -> Option<Self> {
        let count = freedom.count();
        if measured.len() < count {
            return None;
        }
        let mut weights = vec![1.0; measured.len()];
        let mut found = None;
        for _ in 0..ROUNDS {
            let (numbers, inverse) = solved(measured, &weights, count)?;
            let off: Vec<f64> = measured
                .iter()
                .map(|m| {
                    let (x, y) = moved(&numbers, m.place);
                    let (x, y) = (m.moved.0 - x, m.moved.1 - y);
                    let [xx, xy, yy] = m.information;
                    x * x * xx + 2.0 * x * y * xy + y * y * yy
                })
                .collect();
            let mut sorted = off.clone();
            let middle = sorted.len() / 2;
            // What is expected of each, on the average, is held against what is seen.
            let spread = (*sorted.select_nth_unstable_by(middle, f64::total_cmp).1 / MIDDLE).max(1e-12);
            for (weight, off) in weights.iter_mut().zip(&off) {
                let share = (off / (FAR * FAR * spread)).min(1.0);
                *weight = (1.0 - share).powi(2).max(1e-9);
            }
            let corners = [(-1.0, -1.0), (1.0, -1.0), (-1.0, 1.0), (1.0, 1.0)];
            let variance = |(x, y): (f64, f64)| {
                let steps = steps((x * shape.0, y * shape.1));
                let mut sum = 0.0;
                for i in 0..count {
                    for j in 0..count {
                        sum += inverse[i][j] * (steps[i].0 * steps[j].0 + steps[i].1 * steps[j].1);
                    }
                }
                sum
            };
            let worst = corners.into_iter().map(variance).fold(0.0, f64::max);
            found = Some((numbers, (worst * spread.max(1.0)).max(0.0).sqrt()));
        }
        let (numbers, error) = found?;
        Some(Self { numbers, freedom, weights, error })
    }

    /// How far it moves a place.
    pub fn at(&self, place: (f64, f64)) -> (f64, f64) {
        moved(&self.numbers, place)
    }

    /// The mapping that takes it back: from each place to where it came from.
    pub fn taken_back(&self) -> Projective {
        let [x, y, turn, scale, a, b, p, q] = self.numbers.map(|n| -n);
        match self.freedom {
            Freedom::Shift => Projective([1.0, 0.0, x, 0.0, 1.0, y, 0.0, 0.0, 1.0]),
            Freedom::Turn | Freedom::Scale => {
                let size = scale.exp();
                let (sin, cos) = (turn.sin() * size, turn.cos() * size);
                Projective([cos, -sin, x, sin, cos, y, 0.0, 0.0, 1.0])
            }
            Freedom::Perspective => {
                Projective([1.0 + scale + a, b - turn, x, b + turn, 1.0 + scale - a, y, -p, -q, 1.0])
            }
        }
    }
}

fn moved(numbers: &[f64; MOST], place: (f64, f64)) -> (f64, f64) {
    let steps = steps(place);
    numbers.iter().zip(steps).fold((0.0, 0.0), |(x, y), (n, step)| (x + n * step.0, y + n * step.1))
}

type Square = [[f64; MOST]; MOST];

/// The weighted least squares, and the inverse of their normal matrix.
fn solved(measured: &[Measured], weights: &[f64], count: usize) -> Option<([f64; MOST], Square)> {
    let mut normal: Square = [[0.0; MOST]; MOST];
    let mut right = [0.0; MOST];
    for (m, weight) in measured.iter().zip(weights) {
        let steps = steps(m.place);
        let [xx, xy, yy] = m.information.map(|v| v * weight);
        for i in 0..count {
            let (sx, sy) = steps[i];
            let (ix, iy) = (xx * sx + xy * sy, xy * sx + yy * sy);
            right[i] += ix * m.moved.0 + iy * m.moved.1;
            for (j, (tx, ty)) in steps.iter().enumerate().take(count) {
                normal[i][j] += ix * tx + iy * ty;
            }
        }
    }
    let inverse = inverse(normal, count)?;
    let mut numbers = [0.0; MOST];
    for (i, number) in numbers.iter_mut().enumerate().take(count) {
        *number = (0..count).map(|j| inverse[i][j] * right[j]).sum();
    }
    numbers.iter().all(|n| n.is_finite()).then_some((numbers, inverse))
}

/// By elimination with the largest element first; nothing for a matrix that has none.
fn inverse(mut matrix: Square, count: usize) -> Option<Square> {
    let mut out: Square = std::array::from_fn(|i| std::array::from_fn(|j| f64::from(u8::from(i == j))));
    for column in 0..count {
        let by_size = |a: &usize, b: &usize| matrix[*a][column].abs().total_cmp(&matrix[*b][column].abs());
        let largest = (column..count).max_by(by_size)?;
        if matrix[largest][column].abs() < 1e-12 {
            return None;
        }
        matrix.swap(column, largest);
        out.swap(column, largest);
        let by = matrix[column][column];
        matrix[column].iter_mut().chain(&mut out[column]).for_each(|v| *v /= by);
        for row in (0..count).filter(|row| *row != column) {
            let by = matrix[row][column];
            for k in 0..MOST {
                matrix[row][k] -= by * matrix[column][k];
                out[row][k] -= by * out[column][k];
            }
        }
    }
    Some(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sequence::course::tests::chance;

    const SHAPE: (f64, f64) = (0.5, 0.33);

    fn measured(truth: impl Fn((f64, f64)) -> (f64, f64)) -> Vec<Measured> {
        let place = |i: usize| (0.5 * chance(i * 3), 0.33 * chance(i * 3 + 1));
        (0..200)
            .map(|i| Measured { place: place(i), moved: truth(place(i)), information: [1e6, 0.0, 1e6] })
            .collect()
    }

    #[test]
    fn a_small_motion_is_found_and_taken_back() {
        for (freedom, numbers) in [
            (Freedom::Shift, [0.01, -0.02, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0]),
            (Freedom::Turn, [0.01, -0.02, 0.003, 0.0, 0.0, 0.0, 0.0, 0.0]),
            (Freedom::Scale, [0.01, -0.02, 0.003, -0.004, 0.0, 0.0, 0.0, 0.0]),
            (Freedom::Perspective, [0.01, -0.02, 0.003, -0.004, 0.002, 0.001, 0.003, -0.002]),
        ] {
            let found = Fitted::of(&measured(|place| moved(&numbers, place)), freedom, SHAPE).unwrap();
            let place = (0.3, -0.2);
            let (x, y) = moved(&numbers, place);
            let at = found.at(place);
            assert!((at.0 - x).abs() < 1e-9 && (at.1 - y).abs() < 1e-9, "{freedom:?}: {at:?}");
            let back = found.taken_back().at(place.0, place.1);
            // To the first order.
            assert!(
                (back.0 + x - 0.3).abs() < 2e-4 && (back.1 + y + 0.2).abs() < 2e-4,
                "{freedom:?}: {back:?}"
            );
        }
    }

    #[test]
    fn a_third_that_moves_otherwise_does_not_count() {
        let mut all = measured(|_| (0.01, 0.005));
        for (i, m) in all.iter_mut().enumerate() {
            m.moved.0 += 1e-4 * chance(i * 7);
            m.moved.1 += 1e-4 * chance(i * 7 + 1);
            if i % 3 == 0 {
                m.moved = (0.03, -0.01);
            }
        }
        let found = Fitted::of(&all, Freedom::Turn, SHAPE).unwrap();
        let at = found.at((0.0, 0.0));
        assert!((at.0 - 0.01).abs() < 2e-5 && (at.1 - 0.005).abs() < 2e-5, "{at:?}");
        assert!(found.weights.iter().step_by(3).all(|w| *w < 1e-6));
        assert!(Fitted::of(&all[..2], Freedom::Turn, SHAPE).is_none());
    }

    #[test]
    fn what_only_edges_of_one_direction_tell_is_not_made_up() {
        // Every place tells of the motion along the rows only.
        let mut all = measured(|_| (0.01, 0.0));
        all.iter_mut().for_each(|m| m.information = [1e6, 0.0, 0.0]);
        assert!(Fitted::of(&all, Freedom::Shift, SHAPE).is_none());
        // A trace of the other direction makes it known badly, and that is said.
        all.iter_mut().for_each(|m| m.information[2] = 1.0);
        assert!(Fitted::of(&all, Freedom::Shift, SHAPE).unwrap().error > 0.05);
    }
}
