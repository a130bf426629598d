//! What lies beyond the edges of a frame that was moved, taken from frames beside it.
//!
//! Where the frame itself ends, it goes over softly into the others, each as bright as the frame where both show something.

use crate::geometry::Size;
use crate::ops::warp::Warp;

/// How far inside its edge a frame is whole again, in shares of the long edge.
const SOFT: f64 = 0.004;

/// Pixels that a frame may end short of a side without its being filled.
const NEARLY: f64 = 0.5;

/// Where a frame that was moved shows something of its own.
#[derive(Clone, Debug, PartialEq)]
pub enum Covered {
    /// Everywhere.
    All,
    /// How much of each pixel.
    Shares(Vec<f32>),
}

impl Covered {
    /// For a frame of `whole` pixels that is taken from where `map` says, made `2^level` times smaller, as `size` pixels.
    pub fn of(map: Option<&Warp>, whole: Size, level: u8, size: Size) -> Self {
        let Some(map) = map else { return Self::All };
        let (wide, high) = (f64::from(whole.width), f64::from(whole.height));
        let corners = [(0.0, 0.0), (wide, 0.0), (0.0, high), (wide, high)].map(|(x, y)| map.at(x, y, 1));
        let beyond = |far: &dyn Fn((f64, f64)) -> f64| corners.iter().any(|c| far(*c) < -NEARLY);
        // How far inside each side a place of the frame is; sides that no corner lies beyond do not count.
        let sides: [&dyn Fn((f64, f64)) -> f64; 4] = [&|c| c.0, &|c| c.1, &|c| wide - c.0, &|c| high - c.1];
        let short: Vec<_> = sides.into_iter().filter(|side| beyond(side)).collect();
        if short.is_empty() {
            return Self::All;
        }
        let soft = (wide.max(high) * SOFT).max(1.0);
        let step = f64::from(1u32 << level);
        let share = |x: u32, y: u32| {
            let place = map.at((f64::from(x) + 0.5) * step, (f64::from(y) + 0.5) * step, 1);
            let inside = short.iter().map(|side| side(place)).fold(f64::INFINITY, f64::min);
            (inside / soft).clamp(0.0, 1.0) as f32
        };
        Self::Shares(
            (0..size.height)
                .flat_map(|y| (0..size.width).map(move |x| (x, y)))
                .map(|(x, y)| share(x, y))
                .collect(),
        )
    }

    fn at(&self, i: usize) -> f32 {
        match self {
            Self::All => 1.0,
            Self::Shares(shares) => shares[i],
        }
    }
}

/// A frame being filled, from the nearest of the others outwards.
pub struct Filling {
    own: Vec<f32>,
    covered: Covered,
    /// What is there so far, and how much of each pixel is still to come.
    sum: Vec<f32>,
    left: Vec<f32>,
}

impl Filling {
    /// With the frame itself, drawn on beyond its edges.
    pub fn begin(own: Vec<f32>, covered: Covered) -> Self {
        let left: Vec<f32> = (0..own.len() / 3).map(|i| 1.0 - covered.at(i)).collect();
        let pixels = own.as_chunks::<3>().0.iter().zip(&left);
        let sum = pixels.flat_map(|(pixel, left)| pixel.map(|v| v * (1.0 - left))).collect();
        Self { own, covered, sum, left }
    }

    /// Whether nothing is left to come.
    pub fn is_full(&self) -> bool {
        self.left.iter().all(|left| *left <= 0.0)
    }

    /// Fills with another frame of the same size what it shows.
    pub fn add(&mut self, other: &[f32], covered: &Covered) {
        let gain = self.gain(other, covered);
        let others = other.as_chunks::<3>().0;
        let pixels = self.sum.as_chunks_mut::<3>().0.iter_mut().zip(others).zip(&mut self.left);
        for (i, ((sum, other), left)) in pixels.enumerate() {
            let share = *left * covered.at(i);
            if share > 0.0 {
                sum.iter_mut().zip(other).zip(gain).for_each(|((s, v), gain)| *s += v * gain * share);
                *left -= share;
            }
        }
    }

    /// What another frame's colours are multiplied by to be as bright as this one where both are whole.
    fn gain(&self, other: &[f32], covered: &Covered) -> [f32; 3] {
        let (mut own_sum, mut other_sum) = ([0f64; 3], [0f64; 3]);
        let pixels = self.own.as_chunks::<3>().0.iter().zip(other.as_chunks::<3>().0);
        for (_, (own, other)) in
            pixels.enumerate().filter(|(i, _)| self.covered.at(*i) >= 1.0 && covered.at(*i) >= 1.0)
        {
            for c in 0..3 {
                own_sum[c] += f64::from(own[c]);
                other_sum[c] += f64::from(other[c]);
            }
        }
        std::array::from_fn(|c| {
            let gain = own_sum[c] / other_sum[c];
            if gain.is_finite() { gain.clamp(0.25, 4.0) as f32 } else { 1.0 }
        })
    }

    /// The frame; where no other one showed anything it stays drawn on.
    pub fn end(mut self) -> Vec<f32> {
        let pixels =
            self.sum.as_chunks_mut::<3>().0.iter_mut().zip(self.own.as_chunks::<3>().0).zip(&self.left);
        for ((sum, own), left) in pixels {
            sum.iter_mut().zip(own).for_each(|(s, v)| *s += v * left);
        }
        self.sum
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Affine;

    const SIZE: Size = Size { width: 200, height: 120 };

    fn shifted(x: f64, y: f64) -> Warp {
        Warp::from(Affine { a: 1.0, b: 0.0, c: x, d: 0.0, e: 1.0, f: y })
    }

    /// A scene without end, as a frame that shows it from a place on makes it: drawn on where it ends.
    fn frame(map: &Warp, light: f32) -> Vec<f32> {
        let pixels = (0..SIZE.height).flat_map(|y| (0..SIZE.width).map(move |x| (x, y)));
        let scene = |x: f64, y: f64| 0.3 + 0.2 * ((x / 9.0).sin() * (y / 7.0).cos()) as f32;
        pixels
            .flat_map(|(x, y)| {
                let (u, v) = map.at(f64::from(x) + 0.5, f64::from(y) + 0.5, 1);
                // The frame's own place in the scene is taken back: held steady, every frame shows the same.
                let held =
                    (u.clamp(0.5, 199.5) - (u - f64::from(x)), v.clamp(0.5, 119.5) - (v - f64::from(y)));
                [scene(held.0, held.1) * light; 3]
            })
            .collect()
    }

    #[test]
    fn a_frame_that_hardly_moved_is_whole() {
        assert_eq!(Covered::of(None, SIZE, 0, SIZE), Covered::All);
        assert_eq!(Covered::of(Some(&shifted(0.3, -0.4)), SIZE, 0, SIZE), Covered::All);
        let Covered::Shares(shares) = Covered::of(Some(&shifted(10.0, 0.0)), SIZE, 0, SIZE) else {
            panic!("ten pixels are missing at the right")
        };
        let row: Vec<f32> = shares[..200].to_vec();
        assert!(row[..188].iter().all(|v| *v == 1.0) && row[190..].iter().all(|v| *v == 0.0), "{row:?}");
        // The other three sides are whole, and so is what is reduced.
        assert!(shares[119 * 200] == 1.0 && shares[0] == 1.0);
        let half = Size::new(100, 60);
        let Covered::Shares(shares) = Covered::of(Some(&shifted(10.0, 0.0)), SIZE, 1, half) else { panic!() };
        assert!(shares[93] == 1.0 && shares[95] == 0.0);
    }

    #[test]
    fn what_is_missing_comes_from_the_nearest_that_has_it_and_as_bright() {
        let (own, beside, far) = (shifted(12.0, 0.0), shifted(6.0, -3.0), shifted(-4.0, 0.0));
        let truth = frame(&shifted(0.0, 0.0), 1.0);
        let covered = |map: &Warp| Covered::of(Some(map), SIZE, 0, SIZE);
        let mut filling = Filling::begin(frame(&own, 1.0), covered(&own));
        assert!(!filling.is_full());
        filling.add(&frame(&beside, 1.3), &covered(&beside));
        assert!(!filling.is_full());
        filling.add(&frame(&far, 0.8), &covered(&far));
        assert!(filling.is_full());
        let filled = filling.end();
        let off = filled.iter().zip(&truth).map(|(a, b)| (a - b).abs()).fold(0.0, f32::max);
        let without = frame(&own, 1.0).iter().zip(&truth).map(|(a, b)| (a - b).abs()).fold(0.0, f32::max);
        assert!(off < 0.004 && without > 0.1, "{off} {without}");
    }

    #[test]
    fn what_nobody_shows_stays_drawn_on() {
        let map = shifted(12.0, 0.0);
        let own = frame(&map, 1.0);
        let covered = Covered::of(Some(&map), SIZE, 0, SIZE);
        let mut filling = Filling::begin(own.clone(), covered.clone());
        filling.add(&own, &covered);
        assert!(!filling.is_full());
        let off = filling.end().iter().zip(&own).map(|(a, b)| (a - b).abs()).fold(0.0, f32::max);
        assert!(off < 1e-6, "{off}");
    }
}
