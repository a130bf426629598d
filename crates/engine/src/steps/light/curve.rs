//! Curve: a tone function through points on the perceptual scale, combined and for each channel.
//!
//! Between points a cubic that never overshoots: F. N. Fritsch and R. E. Carlson, "Monotone piecewise cubic
//! interpolation" (1980), with the three-point slopes of Fritsch and Butland (1984). Left of the first point
//! and right of the last the value is carried on level, above white with slope 1.

use crate::colour::transfer::{decode, encode};
use crate::ops::pointwise::{Curve as Function, PointOp};
use crate::step::{Kind, Op, Place, Step, step, values_of};
use serde_json::Value;
use std::sync::Arc;

step! {
    /// A tone curve through points [in, out] on perceptual values, for all channels together and for each;
    /// interpolated without overshoot.
    pub struct Curve: PartialEq {
        id: "curve",
        title: "Curve",
        group: "light",
        words: ["curve", "tone", "levels", "shadows", "highlights", "s-curve", "gamma", "matte"],
        neutral: r#"{"all": [[0, 0], [1, 1]]}"#,
        starter: r#"{"all": [[0, 0], [0.25, 0.22], [0.75, 0.79], [1, 1]]}"#,
    }
    parameters {
        /// Points for all three channels.
        all: Vec<Point> = STRAIGHT.to_vec(), Kind::Points;
        /// Points for red, before the combined ones.
        red: Vec<Point> = STRAIGHT.to_vec(), Kind::Points;
        /// Points for green, before the combined ones.
        green: Vec<Point> = STRAIGHT.to_vec(), Kind::Points;
        /// Points for blue, before the combined ones.
        blue: Vec<Point> = STRAIGHT.to_vec(), Kind::Points;
    }
}

/// A point, in and out.
pub type Point = [f64; 2];

const STRAIGHT: [Point; 2] = [[0.0, 0.0], [1.0, 1.0]];

/// The monotone cubic through points.
pub struct Monotone {
    points: Vec<Point>,
    slopes: Vec<f64>,
}

impl Monotone {
    /// Through `points`, at least one, with rising `in`.
    pub fn new(points: &[Point]) -> Self {
        let n = points.len();
        let run = |i: usize| points[i + 1][0] - points[i][0];
        let secant = |i: usize| (points[i + 1][1] - points[i][1]) / run(i);
        let mut slopes = vec![0.0; n];
        for i in 1..n.max(1) - 1 {
            let (before, after) = (secant(i - 1), secant(i));
            if before * after > 0.0 {
                let (h0, h1) = (run(i - 1), run(i));
                let (w0, w1) = (2.0 * h1 + h0, h1 + 2.0 * h0);
                slopes[i] = (w0 + w1) / (w0 / before + w1 / after);
            }
        }
        if n == 2 {
            slopes = vec![secant(0); 2];
        } else if n > 2 {
            slopes[0] = end_slope(run(0), run(1), secant(0), secant(1));
            slopes[n - 1] = end_slope(run(n - 2), run(n - 3), secant(n - 2), secant(n - 3));
        }
        Self { points: points.to_vec(), slopes }
    }

    /// The value at `x`.
    pub fn at(&self, x: f64) -> f64 {
        let p = &self.points;
        let last = p.len() - 1;
        if x <= p[0][0] {
            return p[0][1];
        }
        if x >= p[last][0] {
            return p[last][1] + (x - p[last][0].max(1.0)).max(0.0);
        }
        let i = p.partition_point(|q| q[0] <= x) - 1;
        let h = p[i + 1][0] - p[i][0];
        let t = (x - p[i][0]) / h;
        let (t2, t3) = (t * t, t * t * t);
        p[i][1] * (2.0 * t3 - 3.0 * t2 + 1.0)
            + h * self.slopes[i] * (t3 - 2.0 * t2 + t)
            + p[i + 1][1] * (3.0 * t2 - 2.0 * t3)
            + h * self.slopes[i + 1] * (t3 - t2)
    }
}

/// Three-point slope at an end, limited so that the cubic stays monotone.
fn end_slope(h0: f64, h1: f64, s0: f64, s1: f64) -> f64 {
    let slope = ((2.0 * h0 + h1) * s0 - h0 * s1) / (h0 + h1);
    if slope * s0 <= 0.0 {
        0.0
    } else if s0 * s1 <= 0.0 && slope.abs() > 3.0 * s0.abs() {
        3.0 * s0
    } else {
        slope
    }
}

impl Curve {
    fn function(&self, channel: &[Point]) -> Function {
        let (first, second) = (Monotone::new(channel), Monotone::new(&self.all));
        let straight = channel == STRAIGHT;
        Arc::new(move |x| {
            let v = f64::from(encode(x));
            let v = if straight { v } else { first.at(v) };
            decode(second.at(v) as f32)
        })
    }
}

impl Step for Curve {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        let channels: Vec<&str> = [("red", &self.red), ("green", &self.green), ("blue", &self.blue)]
            .into_iter()
            .filter(|(_, points)| **points != STRAIGHT)
            .map(|(name, _)| name)
            .collect();
        match channels.as_slice() {
            [] => "Curve through {all}.".into(),
            some => {
                let phrases: Vec<String> = some.iter().map(|c| format!("{c} {{{c}}}")).collect();
                format!("Curve through {{all}}, {}.", phrases.join(", "))
            }
        }
    }
    fn ops(&self, _: &Place) -> Vec<Op> {
        if *self == Self::default() {
            return Vec::new();
        }
        if [&self.red, &self.green, &self.blue].iter().all(|c| **c == STRAIGHT) {
            let straight = self.function(&STRAIGHT);
            return vec![Op::Point(PointOp::Curves([straight.clone(), straight.clone(), straight]))];
        }
        let channels = [&self.red, &self.green, &self.blue].map(|c| self.function(c));
        vec![Op::Point(PointOp::Curves(channels))]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::steps::testing::one_pixel;

    #[test]
    fn it_goes_through_its_points_and_never_overshoots() {
        let points = [[0.0, 0.1], [0.2, 0.1], [0.3, 0.8], [0.9, 0.85], [1.0, 1.0]];
        let curve = Monotone::new(&points);
        for p in points {
            assert!((curve.at(p[0]) - p[1]).abs() < 1e-12);
        }
        let all: Vec<f64> = (0..=1000).map(|i| curve.at(f64::from(i) / 1000.0)).collect();
        assert!(all.windows(2).all(|w| w[1] >= w[0] - 1e-12));
    }

    #[test]
    fn a_known_cubic() {
        // Checked by hand: points (0,0) (½,¼) (1,1): inner slope by the weighted harmonic mean of ½ and 1½ is
        // ¾, ends 0 and 2; at ¼ the cubic gives 0.125·… = 0.0781… − see the Hermite form.
        let curve = Monotone::new(&[[0.0, 0.0], [0.5, 0.25], [1.0, 1.0]]);
        let want = 0.25 * 0.5 + 0.5 * 0.75 * (0.125 - 0.25);
        assert!((curve.at(0.25) - want).abs() < 1e-12, "{} {want}", curve.at(0.25));
    }

    #[test]
    fn channels_are_apart() {
        let red = Curve { red: vec![[0.0, 0.0], [0.5, 0.6], [1.0, 1.0]], ..Curve::default() };
        let out = one_pixel(&red, [decode(0.5); 3]);
        assert!((encode(out[0]) - 0.6).abs() < 1e-4 && (encode(out[1]) - 0.5).abs() < 1e-4, "{out:?}");
    }
}
