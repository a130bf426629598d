//! A camera move: a window that travels over the frames of a sequence, from mark to mark.
//!
//! Sizes go from one mark to the next by equal factors, so that nearing looks even, and the middle moves with the size, so
//! that one place of the picture stands still meanwhile; where sizes are equal, the middle goes straight. Each window is
//! one mapping of its frame (no whole pixels), so that slow moves do not tremble.

use super::ramp_curve::between;
use crate::geometry::{Affine, Size};
use crate::step::{Geometry, Step};
use serde_json::{Value, json};

/// A window of a proportion that is given elsewhere.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Window {
    /// Its middle as shares of the picture's width and height; it never leaves the picture, whatever is said here.
    pub middle: (f64, f64),
    /// Its size against the largest of the proportion that fits, 0 < … ≤ 1.
    pub size: f64,
}

/// A window at a place of the sequence.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Mark {
    /// Share of the way, 0 the first frame, 1 the last.
    pub at: f64,
    /// Where the window is there.
    pub window: Window,
}

/// How a window sets out from a mark and comes to the next.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Ease {
    /// At one speed.
    #[default]
    Even,
    /// Slowly at both (3 t² − 2 t³).
    Both,
    /// Slowly at its start ((3 t² − t³) / 2).
    Start,
    /// Slowly at its end.
    End,
    /// Through all marks without a rest at any: size and middle each on one smooth curve.
    Flowing,
}

impl Ease {
    /// Share of the way after a share of the time, both 0 ..= 1.
    pub fn at(self, t: f64) -> f64 {
        let start = |t: f64| t * t * (3.0 - t) / 2.0;
        match self {
            Self::Even | Self::Flowing => t,
            Self::Both => t * t * (3.0 - 2.0 * t),
            Self::Start => start(t),
            Self::End => 1.0 - start(1.0 - t),
        }
    }
}

/// Sizes that differ by less are one.
const SAME: f64 = 1e-9;

/// The window at a share `at` of the way; before the first of the `marks` (rising) and behind the last it stands.
pub fn window_at(marks: &[Mark], ease: Ease, at: f64) -> Option<Window> {
    let next = marks.partition_point(|m| m.at <= at);
    let (Some(before), Some(after)) = (next.checked_sub(1).map(|k| marks[k]), marks.get(next)) else {
        return marks.get(next.saturating_sub(1)).map(|m| m.window);
    };
    // Between two marks there is none to rest at.
    if ease == Ease::Flowing && marks.len() > 2 {
        return flowing(marks, at);
    }
    let t = ease.at((at - before.at) / (after.at - before.at));
    let (a, b) = (before.window, after.window);
    let size = a.size * (b.size / a.size).powf(t);
    let share = if (b.size - a.size).abs() < SAME { t } else { (size - a.size) / (b.size - a.size) };
    let between = |a: f64, b: f64| a + (b - a) * share;
    Some(Window { middle: (between(a.middle.0, b.middle.0), between(a.middle.1, b.middle.1)), size })
}

/// The window on the curves through all marks: the logarithm of its size, and its middle.
fn flowing(marks: &[Mark], at: f64) -> Option<Window> {
    let curve = |value: fn(&Window) -> f64| {
        let places: Vec<(f64, f64)> = marks.iter().map(|m| (m.at, value(&m.window))).collect();
        between(&places, at)
    };
    Some(Window {
        middle: (curve(|w| w.middle.0)?, curve(|w| w.middle.1)?),
        size: curve(|w| w.size.ln())?.exp(),
    })
}

/// What a window makes of a picture: its part, in exactly so many pixels. No step of recipes; what moves a window over a
/// sequence puts it behind their lines.
#[derive(Clone, Debug, PartialEq)]
pub struct Framed {
    /// The window.
    pub window: Window,
    /// Pixels of the result, which also give the proportion.
    pub size: Size,
}

impl Framed {
    /// The window's place in a picture: left, top, width, height in its pixels.
    pub fn part(&self, of: Size) -> (f64, f64, f64, f64) {
        let (w, h) = (f64::from(of.width), f64::from(of.height));
        let (across, down) = (f64::from(self.size.width), f64::from(self.size.height));
        let scale = (w / across).min(h / down) * self.window.size.clamp(1e-3, 1.0);
        let (width, height) = (across * scale, down * scale);
        let start = |middle: f64, part: f64, side: f64| {
            (middle * side - part / 2.0).clamp(0.0, (side - part).max(0.0))
        };
        (start(self.window.middle.0, width, w), start(self.window.middle.1, height, h), width, height)
    }
}

impl Step for Framed {
    fn values(&self) -> Value {
        let Window { middle: (x, y), size } = self.window;
        json!({"window": [x, y, size], "pixels": [self.size.width, self.size.height]})
    }
    fn sentence(&self) -> String {
        "A window of a move.".into()
    }
    fn geometry(&self, size: Size) -> Option<Geometry> {
        let (left, top, width, height) = self.part(size);
        let map = Affine::scale(width / f64::from(self.size.width), height / f64::from(self.size.height))
            .then(&Affine::shift(left, top));
        let still = size == self.size && map.as_shift() == Some((0, 0));
        (!still).then(|| Geometry { map: map.into(), size: self.size })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn mark(at: f64, x: f64, y: f64, size: f64) -> Mark {
        Mark { at, window: Window { middle: (x, y), size } }
    }

    #[test]
    fn a_window_is_at_its_marks_and_between_them_by_equal_factors() {
        let marks = [mark(0.2, 0.5, 0.5, 1.0), mark(0.6, 0.25, 0.75, 0.25), mark(1.0, 0.75, 0.75, 0.25)];
        let at = |t: f64| window_at(&marks, Ease::Even, t).unwrap();
        assert_eq!((at(0.0), at(0.2)), (marks[0].window, marks[0].window));
        assert_eq!((at(0.6), at(1.0), at(7.0)), (marks[1].window, marks[2].window, marks[2].window));
        // Half way in time is half of the factor 4: size 0.5, which is two thirds of the way from 1 to 0.25.
        let half = at(0.4);
        assert!((half.size - 0.5).abs() < 1e-12);
        assert!((half.middle.0 - (0.5 - 0.25 * 2.0 / 3.0)).abs() < 1e-12, "{half:?}");
        // Equal sizes: straight.
        assert!((at(0.8).middle.0 - 0.5).abs() < 1e-12 && (at(0.8).size - 0.25).abs() < 1e-12);
        assert_eq!(window_at(&[], Ease::Even, 0.5), None);
        assert_eq!(window_at(&marks[..1], Ease::Both, 0.9), Some(marks[0].window));
    }

    #[test]
    fn a_flowing_window_rests_at_no_mark_and_passes_none_by() {
        let marks = [mark(0.0, 0.3, 0.5, 1.0), mark(0.5, 0.5, 0.4, 0.5), mark(1.0, 0.8, 0.4, 0.3)];
        let at = |t: f64| window_at(&marks, Ease::Flowing, t).unwrap();
        for m in &marks {
            let w = at(m.at);
            assert!((w.size - m.window.size).abs() < 1e-12 && (w.middle.0 - m.window.middle.0).abs() < 1e-12);
        }
        let speed = |t: f64| (at(t + 1e-5).middle.0 - at(t - 1e-5).middle.0) / 2e-5;
        assert!(speed(0.5) > 0.3, "it rests at its mark: {}", speed(0.5));
        assert!((speed(0.5 - 1e-3) - speed(0.5 + 1e-3)).abs() < 0.02, "its speed jumps at its mark");
        assert!((0..=100).all(|k| (at(f64::from(k) / 100.0).middle.1 - 0.45).abs() < 0.05 + 1e-9));
        // Two marks have none between them.
        assert_eq!(window_at(&marks[..2], Ease::Flowing, 0.2), window_at(&marks[..2], Ease::Even, 0.2));
    }

    #[test]
    fn one_place_stands_still_while_a_window_nears_it() {
        // The place that has the same share of both windows has it of all between them.
        let (from, to) = (mark(0.0, 0.5, 0.5, 1.0), mark(1.0, 0.2, 0.7, 0.3));
        let share = |w: &Window, p: f64, middle: f64| (p - middle) / w.size;
        // p with (p − c0) / s0 = (p − c1) / s1.
        let place = |c0: f64, c1: f64| (c1 - 0.3 * c0) / 0.7;
        let (x, y) = (place(0.5, 0.2), place(0.5, 0.7));
        let first = (share(&from.window, x, 0.5), share(&from.window, y, 0.5));
        for k in 0..=20 {
            let w = window_at(&[from, to], Ease::Both, f64::from(k) / 20.0).unwrap();
            assert!((share(&w, x, w.middle.0) - first.0).abs() < 1e-9, "{k}");
            assert!((share(&w, y, w.middle.1) - first.1).abs() < 1e-9, "{k}");
        }
    }

    #[test]
    fn eases_begin_and_end_where_they_should() {
        for ease in [Ease::Even, Ease::Both, Ease::Start, Ease::End, Ease::Flowing] {
            assert_eq!((ease.at(0.0), ease.at(1.0)), (0.0, 1.0));
            let rising = (0..100).all(|k| ease.at(f64::from(k) / 100.0) < ease.at(f64::from(k + 1) / 100.0));
            assert!(rising, "{ease:?}");
        }
        let speed = |ease: Ease, t: f64| (ease.at(t + 1e-6) - ease.at(t)) / 1e-6;
        assert!(speed(Ease::Both, 0.0) < 1e-5 && speed(Ease::Both, 1.0 - 1e-6) < 1e-5);
        assert!(speed(Ease::Start, 0.0) < 1e-5 && (speed(Ease::Start, 1.0 - 1e-6) - 1.5).abs() < 1e-4);
        assert!(speed(Ease::End, 1.0 - 1e-6) < 1e-5 && (speed(Ease::End, 0.0) - 1.5).abs() < 1e-4);
    }

    #[test]
    fn a_window_has_its_proportion_and_stays_inside() {
        let framed =
            |x, y, size| Framed { window: Window { middle: (x, y), size }, size: Size::new(160, 90) };
        // 16:9 in 3:2: as wide as the picture.
        assert_eq!(framed(0.5, 0.5, 1.0).part(Size::new(3200, 2400)), (0.0, 300.0, 3200.0, 1800.0));
        assert_eq!(framed(0.5, 0.5, 0.5).part(Size::new(3200, 2400)), (800.0, 750.0, 1600.0, 900.0));
        assert_eq!(framed(0.0, 2.0, 0.5).part(Size::new(3200, 2400)), (0.0, 1500.0, 1600.0, 900.0));
        // In a portrait there is less room, and still all of it is picture.
        assert_eq!(framed(1.0, 0.5, 1.0).part(Size::new(900, 1600)), (0.0, 546.875, 900.0, 506.25));
        let g = framed(0.5, 0.5, 0.5).geometry(Size::new(3200, 2400)).unwrap();
        assert_eq!((g.size, g.map.at(0.0, 0.0, 1)), (Size::new(160, 90), (800.0, 750.0)));
        assert_eq!(g.map.at(160.0, 90.0, 1), (2400.0, 1650.0));
        assert!(framed(0.5, 0.5, 1.0).geometry(Size::new(160, 90)).is_none());
    }
}
