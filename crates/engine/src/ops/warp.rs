//! Mappings that are more than affine: perspective and lens distortion, and any chain of them.
//!
//! A [`Warp`] goes from output to input coordinates, as [`Affine`] does. Neighbouring affine and projective parts are
//! multiplied; a lens keeps its own place in the chain. Red and blue may be looked up at places of their own
//! (lateral chromatic aberration).

use crate::geometry::{Affine, Size};
use crate::lens::{at, sideways};
use std::sync::Arc;

/// `x' = (a x + b y + c) / (g x + h y + i)` and likewise for `y'`: row-major 3 × 3.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Projective(pub [f64; 9]);

impl Projective {
    /// Every place where it is.
    pub const IDENTITY: Self = Self([1.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0]);

    /// The same mapping, told with its last number 1.
    pub fn normalised(&self) -> Self {
        Self(self.0.map(|v| v / self.0[8]))
    }

    /// The same as an affine mapping.
    pub fn of(m: &Affine) -> Self {
        Self([m.a, m.b, m.c, m.d, m.e, m.f, 0.0, 0.0, 1.0])
    }

    /// The input point for an output point; far outside where the point lies on or behind the horizon.
    pub fn at(&self, x: f64, y: f64) -> (f64, f64) {
        let m = &self.0;
        let w = (m[6] * x + m[7] * y + m[8]).max(1e-9);
        ((m[0] * x + m[1] * y + m[2]) / w, (m[3] * x + m[4] * y + m[5]) / w)
    }

    /// First `self`, then `inner`.
    pub fn then(&self, inner: &Projective) -> Self {
        let (a, b) = (&inner.0, &self.0);
        Self(std::array::from_fn(|i| (0..3).map(|k| a[i / 3 * 3 + k] * b[k * 3 + i % 3]).sum()))
    }

    /// The mapping that takes the unit square's corners (0,0) (1,0) (1,1) (0,1) to `corners`, or nothing where they
    /// do not make a convex figure. Closed form: P. Heckbert, "Fundamentals of Texture Mapping" (1989), §2.2.3.
    pub fn from_square(corners: [(f64, f64); 4]) -> Option<Self> {
        let [p0, p1, p2, p3] = corners;
        let (dx1, dx2, sx) = (p1.0 - p2.0, p3.0 - p2.0, p0.0 - p1.0 + p2.0 - p3.0);
        let (dy1, dy2, sy) = (p1.1 - p2.1, p3.1 - p2.1, p0.1 - p1.1 + p2.1 - p3.1);
        let det = dx1 * dy2 - dx2 * dy1;
        if det.abs() < 1e-9 {
            return None;
        }
        let (g, h) = ((sx * dy2 - dx2 * sy) / det, (dx1 * sy - sx * dy1) / det);
        // A convex figure has all its corners on the near side of the horizon.
        if [1.0, 1.0 + g, 1.0 + h, 1.0 + g + h].iter().any(|w| *w <= 1e-6) {
            return None;
        }
        Some(Self([
            p1.0 - p0.0 + g * p1.0,
            p3.0 - p0.0 + h * p3.0,
            p0.0,
            p1.1 - p0.1 + g * p1.1,
            p3.1 - p0.1 + h * p3.1,
            p0.1,
            g,
            h,
            1.0,
        ]))
    }

    /// The inverse mapping, or nothing for one that flattens.
    pub fn inverse(&self) -> Option<Self> {
        let m = &self.0;
        let minor = |a: usize, b: usize, c: usize, d: usize| m[a] * m[d] - m[b] * m[c];
        let minors = [
            minor(4, 5, 7, 8),
            -minor(1, 2, 7, 8),
            minor(1, 2, 4, 5),
            -minor(3, 5, 6, 8),
            minor(0, 2, 6, 8),
            -minor(0, 2, 3, 5),
            minor(3, 4, 6, 7),
            -minor(0, 1, 6, 7),
            minor(0, 1, 3, 4),
        ];
        let det = m[0] * minors[0] + m[1] * minors[3] + m[2] * minors[6];
        (det.abs() > 1e-12).then(|| Self(minors.map(|v| v / det)))
    }
}

/// Radial lens distortion about the picture's middle, see [`Lens::factor`].
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Lens {
    /// Middle, in pixels.
    pub centre: (f64, f64),
    /// Half the diagonal, in pixels: radius 1.
    pub radius: f64,
    /// Coefficients of r², r⁴ in the factor.
    pub bend: [f64; 2],
    /// The whole is looked up this much nearer to the middle, so that no corner stays empty.
    pub zoom: f64,
    /// Scale of red, green and blue against each other.
    pub scale: [f64; 3],
}

impl Lens {
    /// How much farther from the middle the input lies, at radius `r` of the output (1 at the corner).
    pub fn factor(&self, r: f64) -> f64 {
        let r2 = r * r;
        1.0 + self.bend[0] * r2 + self.bend[1] * r2 * r2
    }

    fn at(&self, x: f64, y: f64, channel: usize) -> (f64, f64) {
        let (dx, dy) = ((x - self.centre.0) / self.radius, (y - self.centre.1) / self.radius);
        let (dx, dy) = (dx * self.zoom, dy * self.zoom);
        let f = self.factor(dx.hypot(dy)) * self.scale[channel] * self.radius;
        (self.centre.0 + dx * f, self.centre.1 + dy * f)
    }
}

/// What a measured lens does about a middle: each colour has a table of its own over the radius.
#[derive(Clone, Debug, PartialEq)]
pub struct Radial {
    /// Middle, in pixels.
    pub centre: (f64, f64),
    /// Half the diagonal, in pixels: radius 1.
    pub radius: f64,
    /// The whole is looked up this much nearer to the middle, so that no corner stays empty.
    pub zoom: f64,
    /// How much farther from the middle each colour is found, see [`crate::lens::at`].
    pub factors: Arc<[Vec<f64>; 3]>,
    /// How far each colour is found to one side, see [`crate::lens::sideways`].
    pub sideways: [[f64; 2]; 3],
}

impl Radial {
    fn at(&self, x: f64, y: f64, channel: usize) -> (f64, f64) {
        let (dx, dy) = ((x - self.centre.0) * self.zoom, (y - self.centre.1) * self.zoom);
        let f = at(&self.factors[channel], dx.hypot(dy) / self.radius);
        let aside = sideways(self.sideways[channel], (dx, dy));
        (self.centre.0 + dx * f + aside.0, self.centre.1 + dy * f + aside.1)
    }

    /// The radius at which green is found for a radius that is shown.
    pub fn found(&self, shown: f64) -> f64 {
        let r = shown * self.zoom;
        r * at(&self.factors[1], r)
    }

    /// Whether every look-up from the border of a picture of that size lies in it.
    pub fn stays_inside(&self, size: Size) -> bool {
        let (w, h) = (f64::from(size.width), f64::from(size.height));
        let inside = |x: f64, y: f64| {
            (0..3).all(|c| {
                let (u, v) = self.at(x, y, c);
                u >= 0.0 && v >= 0.0 && u <= w && v <= h
            })
        };
        (0..=32).all(|i| {
            let share = f64::from(i) / 32.0;
            let (x, y) = (w * share, h * share);
            inside(x, 0.0) && inside(x, h) && inside(0.0, y) && inside(w, y)
        })
    }
}

#[derive(Clone, Debug, PartialEq)]
enum Part {
    Flat(Projective),
    Lens(Lens),
    Radial(Radial),
}

impl From<Radial> for Warp {
    fn from(lens: Radial) -> Self {
        Self { affine: None, parts: vec![Part::Radial(lens)] }
    }
}

/// A chain of mappings, from output to input.
#[derive(Clone, Debug, PartialEq)]
pub struct Warp {
    /// The whole chain, while it is affine.
    affine: Option<Affine>,
    parts: Vec<Part>,
}

impl From<Affine> for Warp {
    fn from(map: Affine) -> Self {
        Self { affine: Some(map), parts: vec![Part::Flat(Projective::of(&map))] }
    }
}

impl From<Projective> for Warp {
    fn from(map: Projective) -> Self {
        Self { affine: None, parts: vec![Part::Flat(map)] }
    }
}

impl From<Lens> for Warp {
    fn from(lens: Lens) -> Self {
        Self { affine: None, parts: vec![Part::Lens(lens)] }
    }
}

impl Warp {
    /// First `self` (output → middle), then `inner` (middle → input).
    pub fn then(&self, inner: &Warp) -> Warp {
        let mut parts = self.parts.clone();
        for part in &inner.parts {
            match (parts.last_mut(), part) {
                (Some(Part::Flat(last)), Part::Flat(next)) => *last = last.then(next),
                _ => parts.push(part.clone()),
            }
        }
        let affine = self.affine.zip(inner.affine).map(|(a, b)| a.then(&b));
        Warp { affine, parts }
    }

    /// The affine mapping it is, if it is one.
    pub fn as_affine(&self) -> Option<&Affine> {
        self.affine.as_ref()
    }

    /// Whether red, green and blue are looked up at different places.
    pub fn splits(&self) -> bool {
        self.parts.iter().any(|part| match part {
            Part::Flat(_) => false,
            Part::Lens(lens) => lens.scale != [1.0; 3],
            Part::Radial(lens) => {
                (0..3).any(|c| lens.factors[c] != lens.factors[1] || lens.sideways[c] != lens.sideways[1])
            }
        })
    }

    /// The input point for an output point, as `channel` sees it.
    pub fn at(&self, x: f64, y: f64, channel: usize) -> (f64, f64) {
        self.parts.iter().fold((x, y), |(x, y), part| match part {
            Part::Flat(m) => m.at(x, y),
            Part::Lens(l) => l.at(x, y, channel),
            Part::Radial(l) => l.at(x, y, channel),
        })
    }

    /// Input pixels per output pixel along the input's columns and rows, at one place.
    pub fn steps_at(&self, x: f64, y: f64) -> (f64, f64) {
        if let Some(map) = &self.affine {
            return map.steps();
        }
        let (o, r, d) = (self.at(x, y, 1), self.at(x + 0.5, y, 1), self.at(x, y + 0.5, 1));
        ((2.0 * (r.0 - o.0)).hypot(2.0 * (d.0 - o.0)), (2.0 * (r.1 - o.1)).hypot(2.0 * (d.1 - o.1)))
    }

    /// The smallest steps over an output of that size (a grid of places is looked at).
    pub fn least_steps(&self, width: f64, height: f64) -> (f64, f64) {
        let mut least = (f64::INFINITY, f64::INFINITY);
        for i in 0..=4 {
            for j in 0..=4 {
                let s = self.steps_at(width * f64::from(i) / 4.0, height * f64::from(j) / 4.0);
                least = (least.0.min(s.0), least.1.min(s.1));
            }
        }
        least
    }

    /// Output pixels per input pixel in the middle of an output of that size, the mean over directions.
    pub fn magnification(&self, width: f64, height: f64) -> f64 {
        if let Some(map) = &self.affine {
            return map.magnification();
        }
        let (x, y) = (width / 2.0, height / 2.0);
        let (o, r, d) = (self.at(x, y, 1), self.at(x + 1.0, y, 1), self.at(x, y + 1.0, 1));
        let det = (r.0 - o.0) * (d.1 - o.1) - (d.0 - o.0) * (r.1 - o.1);
        1.0 / det.abs().sqrt().max(1e-12)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn near(a: (f64, f64), b: (f64, f64)) -> bool {
        (a.0 - b.0).abs() < 1e-9 && (a.1 - b.1).abs() < 1e-9
    }

    #[test]
    fn corners_go_where_they_are_sent_and_back() {
        let corners = [(10.0, 20.0), (210.0, 5.0), (190.0, 160.0), (30.0, 140.0)];
        let map = Projective::from_square(corners).unwrap();
        let back = map.inverse().unwrap();
        for (i, (x, y)) in [(0.0, 0.0), (1.0, 0.0), (1.0, 1.0), (0.0, 1.0)].into_iter().enumerate() {
            assert!(near(map.at(x, y), corners[i]));
            assert!(near(back.at(corners[i].0, corners[i].1), (x, y)));
        }
        // Straight lines stay straight: three points of one line.
        let [a, b, c] = [0.1, 0.4, 0.9].map(|t| map.at(t, 0.2 + 0.5 * t));
        assert!(((b.0 - a.0) * (c.1 - a.1) - (b.1 - a.1) * (c.0 - a.0)).abs() < 1e-9);
        // A figure folded over itself is none.
        assert!(Projective::from_square([(0.0, 0.0), (1.0, 1.0), (1.0, 0.0), (0.0, 1.0)]).is_none());
    }

    #[test]
    fn a_chain_is_its_parts_in_turn() {
        let turn = Affine { a: 0.8, b: -0.6, c: 3.0, d: 0.6, e: 0.8, f: -2.0 };
        let lens = Lens {
            centre: (50.0, 40.0),
            radius: 64.0,
            bend: [0.1, -0.02],
            zoom: 0.95,
            scale: [1.001, 1.0, 0.999],
        };
        let warp = Warp::from(turn).then(&Warp::from(Affine::scale(2.0, 2.0))).then(&Warp::from(lens));
        let (x, y) = Affine::scale(2.0, 2.0).at(turn.at(7.0, 9.0).0, turn.at(7.0, 9.0).1);
        assert!(near(warp.at(7.0, 9.0, 0), lens.at(x, y, 0)));
        assert!(warp.splits() && warp.as_affine().is_none() && warp.parts.len() == 2);
        assert!(Warp::from(turn).then(&Warp::from(turn)).as_affine().is_some());
        // The middle of a lens stays, the corner moves by the factor.
        assert!(near(lens.at(50.0, 40.0, 1), (50.0, 40.0)));
        assert!((lens.factor(1.0) - 1.08).abs() < 1e-12);
    }
}
