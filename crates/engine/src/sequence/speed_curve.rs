//! How frames go by where their speed changes over a clip.
//!
//! Speeds are given at places of the way over the frames, and between them by a smooth curve of their logarithm: half and double
//! are equally far from one. How long a piece of the way takes is one over its speed, added up over it.

use super::ramp_curve::between;

/// Pieces of the way that are added up.
const PIECES: usize = 4096;

/// Time against way.
#[derive(Clone, Debug, PartialEq)]
pub struct SpeedCurve {
    /// Time after each piece of the way, all of it being 1; the first is 0.
    times: Vec<f64>,
    /// How long all of it takes, against the way at speed one.
    whole: f64,
}

impl SpeedCurve {
    /// From `marks`: places of the way from 0 to 1, rising, and the speed at each, above 0. Without marks the speed is one.
    pub fn new(marks: &[[f64; 2]]) -> Self {
        let logarithms: Vec<(f64, f64)> = marks.iter().map(|[at, speed]| (*at, speed.ln())).collect();
        let mut times = Vec::with_capacity(PIECES + 1);
        let mut whole = 0.0;
        times.push(0.0);
        for k in 0..PIECES {
            let middle = (k as f64 + 0.5) / PIECES as f64;
            whole += (-between(&logarithms, middle).unwrap_or(0.0)).exp() / PIECES as f64;
            times.push(whole);
        }
        times.iter_mut().for_each(|t| *t /= whole);
        Self { times, whole }
    }

    /// How long all of the way takes, against the same at speed one.
    pub fn whole(&self) -> f64 {
        self.whole
    }

    /// The share of the way after a share of the time, both 0 to 1.
    pub fn way(&self, time: f64) -> f64 {
        if time >= 1.0 {
            return 1.0;
        }
        let after = self.times.partition_point(|t| *t <= time.max(0.0)).min(PIECES);
        let (from, to) = (self.times[after - 1], self.times[after]);
        (after as f64 - 1.0 + (time.max(0.0) - from) / (to - from)) / PIECES as f64
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_speed_goes_evenly() {
        for (marks, whole) in [(vec![], 1.0), (vec![[0.3, 4.0]], 0.25), (vec![[0.0, 0.5], [1.0, 0.5]], 2.0)] {
            let curve = SpeedCurve::new(&marks);
            assert!((curve.whole() - whole).abs() < 1e-9);
            assert!((0..=10).all(|k| (curve.way(f64::from(k) / 10.0) - f64::from(k) / 10.0).abs() < 1e-9));
        }
    }

    #[test]
    fn the_way_is_that_of_a_known_speed() {
        // Two marks make the logarithm of the speed a straight line: speed(p) = 4^p, so that the time until p is
        // (1 - 4^-p) / ln 4, and the way after a share s of all of it is -log4(1 - s * 3/4).
        let curve = SpeedCurve::new(&[[0.0, 1.0], [1.0, 4.0]]);
        assert!((curve.whole() - 0.75 / 4.0_f64.ln()).abs() < 1e-6);
        for k in 0..=20 {
            let share = f64::from(k) / 20.0;
            let known = -(1.0 - share * 0.75).ln() / 4.0_f64.ln();
            assert!((curve.way(share) - known).abs() < 1e-6, "{share}: {} is not {known}", curve.way(share));
        }
        assert_eq!((curve.way(-1.0), curve.way(1.0), curve.way(7.0)), (0.0, 1.0, 1.0));
    }

    #[test]
    fn it_rises_through_slow_middles() {
        let curve = SpeedCurve::new(&[[0.0, 8.0], [0.4, 0.25], [0.6, 0.25], [1.0, 8.0]]);
        let ways: Vec<f64> = (0..=1000).map(|k| curve.way(f64::from(k) / 1000.0)).collect();
        assert!(ways.windows(2).all(|w| w[0] < w[1]));
        // What is as fast at both ends is half way at half time, and goes 32 times slower there.
        assert!((ways[500] - 0.5).abs() < 1e-6);
        let speed = |at: usize| ways[at + 1] - ways[at];
        assert!((speed(0) / speed(500) - 32.0).abs() < 1.0, "{}", speed(0) / speed(500));
    }
}
