//! Pictures between two frames: what moves is on its way, as far as its motion can be told both forth and back; what only one frame
//! shows comes from that; elsewhere both are mixed in light.

use crate::colour::transfer::{decode, encode};
use crate::colour::working::luminance;
use crate::geometry::Size;
use crate::sequence::alignment::{Plane, cubic};
use crate::sequence::flow::{Flow, SMALLEST};
use rayon::prelude::*;

/// How far, in pixels, forth and back may be apart and still be the same motion; and for each pixel of it.
const APART: f32 = 0.6;
const APART_EACH: f32 = 0.06;

/// How far a place may differ in both frames, as it is seen, to be the same thing.
const DIFFERS: f32 = 0.08;

/// Two frames, as they are seen (0 to 1, red, green and blue of each pixel by rows), and how one becomes the other.
pub struct InBetween {
    size: Size,
    frames: [Vec<f32>; 2],
    /// How each becomes the other.
    ways: [Flow; 2],
    /// For each pixel of either frame how far its motion is trusted, 0 to 1.
    trust: [Vec<f32>; 2],
}

/// Pixels to each side whose places agree on what shows them.
const AGREE: usize = 4;

/// A motion is trusted from here on.
const TRUSTED: f32 = 0.5;

/// How near, in pixels, what sets out for a place is to arrive there.
const ARRIVES: f32 = 0.7;

fn grey(size: Size, values: &[f32]) -> Plane {
    let values = values.as_chunks::<3>().0.iter().map(luminance).collect();
    Plane { width: size.width as usize, height: size.height as usize, values }.smoothed()
}

/// A pixel between those of a frame, by four; beyond the edge its own.
fn pixel(size: Size, values: &[f32], x: f32, y: f32) -> [f32; 3] {
    let (wide, high) = (size.width as usize, size.height as usize);
    let (x, y) = ((x - 0.5).clamp(0.0, (wide - 1) as f32), (y - 0.5).clamp(0.0, (high - 1) as f32));
    let (left, top) = (x as usize, y as usize);
    let (across, down) = (cubic(x - left as f32), cubic(y - top as f32));
    let near = |at: usize, k: usize, length: usize| (at + k).saturating_sub(1).min(length - 1);
    let mut sum = [0.0; 3];
    for (j, down) in down.iter().enumerate() {
        let row = near(top, j, high) * wide;
        for (i, across) in across.iter().enumerate() {
            let at = (row + near(left, i, wide)) * 3;
            let weight = across * down;
            sum.iter_mut().zip(&values[at..at + 3]).for_each(|(sum, v)| *sum += v * weight);
        }
    }
    sum
}

/// Two pixels mixed in light, a share of the second.
fn mixed_pixel(a: [f32; 3], b: [f32; 3], share: f32) -> [f32; 3] {
    let light = |v: f32| decode(v.clamp(0.0, 1.0));
    std::array::from_fn(|c| encode(light(a[c]) * (1.0 - share) + light(b[c]) * share))
}

/// Two frames, as they are seen, mixed in light, a share of the second.
pub fn mixed(first: &[f32], second: &[f32], share: f32) -> Vec<f32> {
    let pixels = first.as_chunks::<3>().0.par_iter().zip(second.as_chunks::<3>().0);
    let pixels: Vec<[f32; 3]> = pixels.map(|(a, b)| mixed_pixel(*a, *b, share)).collect();
    pixels.into_flattened()
}

impl InBetween {
    /// Of two frames of one size.
    pub fn new(size: Size, first: Vec<f32>, second: Vec<f32>) -> Self {
        let planes = [&first, &second].map(|values| grey(size, values).sizes(SMALLEST));
        let (forth, back) =
            rayon::join(|| Flow::between(&planes[0], &planes[1]), || Flow::between(&planes[1], &planes[0]));
        let wide = size.width as usize;
        let trusted = |way: &Flow, back: &Flow, from: &Plane, to: &Plane| -> Vec<f32> {
            let of = |i: usize| {
                let (x, y) = ((i % wide) as f32 + 0.5, (i / wide) as f32 + 0.5);
                let [u, v] = way.motions[i];
                let [p, q] = back.at(x + u, y + v);
                let apart = (u + p).hypot(v + q) / (APART + APART_EACH * u.hypot(v));
                let differs = (from.values[i] - to.near(x + u, y + v)).abs() / DIFFERS;
                // All of it up to the bound, nothing from twice the bound on.
                (2.0 - apart.max(differs)).clamp(0.0, 1.0)
            };
            (0..size.area() as usize).into_par_iter().map(of).collect()
        };
        let trust = [
            trusted(&forth, &back, &planes[0][0], &planes[1][0]),
            trusted(&back, &forth, &planes[1][0], &planes[0][0]),
        ];
        Self { size, frames: [first, second], ways: [forth, back], trust }
    }

    /// The share of the picture whose motion is trusted.
    pub fn trusted(&self) -> f64 {
        self.trust[0].iter().map(|share| f64::from(*share)).sum::<f64>() / self.trust[0].len().max(1) as f64
    }

    /// Where what is at a place at a share of the way sets out in a frame; nothing where nothing of that frame comes by.
    fn from(&self, frame: usize, (x, y): (f32, f32), share: f32) -> Option<(f32, f32)> {
        let mut from = (x, y);
        for _ in 0..4 {
            let [u, v] = self.ways[frame].at(from.0, from.1);
            from = (x - share * u, y - share * v);
        }
        let [u, v] = self.ways[frame].at(from.0, from.1);
        let off = (from.0 + share * u - x).hypot(from.1 + share * v - y);
        (off < ARRIVES).then_some(from)
    }

    fn is_trusted(&self, frame: usize, (x, y): (f32, f32)) -> bool {
        let nearest = |at: f32, length: u32| (at.max(0.0) as usize).min(length as usize - 1);
        let at = nearest(y, self.size.height) * self.size.width as usize + nearest(x, self.size.width);
        self.trust[frame][at] >= TRUSTED
    }

    /// What is at a place at a share of the way.
    fn pixel(&self, place: (f32, f32), share: f32) -> Here {
        let shares = [share, 1.0 - share];
        let of = |frame: usize, (x, y): (f32, f32)| pixel(self.size, &self.frames[frame], x, y);
        let from = [0, 1].map(|frame| self.from(frame, place, shares[frame]));
        for frame in [0, 1] {
            let Some(own) = from[frame].filter(|own| self.is_trusted(frame, *own)) else { continue };
            let [u, v] = self.ways[frame].at(own.0, own.1);
            let there = (own.0 + u, own.1 + v);
            return Here::OnItsWay(mixed_pixel(of(frame, own), of(1 - frame, there), shares[frame]));
        }
        // What only one frame shows is covered, or comes free.
        Here::Unknown(match from {
            [Some(_), None] => 0.0,
            [None, Some(_)] => 1.0,
            _ => share,
        })
    }

    /// The picture at a share of the way from the first frame to the second.
    pub fn at(&self, share: f32) -> Vec<f32> {
        let (wide, high) = (self.size.width as usize, self.size.height as usize);
        let place = |i: usize| ((i % wide) as f32 + 0.5, (i / wide) as f32 + 0.5);
        let here: Vec<Here> = (0..wide * high).into_par_iter().map(|i| self.pixel(place(i), share)).collect();
        let of = |i: usize| -> [f32; 3] {
            if let Here::OnItsWay(pixel) = here[i] {
                return pixel;
            }
            // Places that cannot be followed agree with those around them on which frame shows them.
            let (x, y) = (i % wide, i / wide);
            let (mut sum, mut count) = (0.0, 0.0f32);
            for y in y.saturating_sub(AGREE)..(y + AGREE + 1).min(high) {
                for x in x.saturating_sub(AGREE)..(x + AGREE + 1).min(wide) {
                    if let Here::Unknown(second) = here[y * wide + x] {
                        sum += second;
                        count += 1.0;
                    }
                }
            }
            let own = |frame: usize| std::array::from_fn(|c| self.frames[frame][i * 3 + c]);
            mixed_pixel(own(0), own(1), sum / count.max(1.0))
        };
        let pixels: Vec<[f32; 3]> = (0..wide * high).into_par_iter().map(of).collect();
        pixels.into_flattened()
    }
}

/// What is at a place between two frames.
#[derive(Clone, Copy)]
enum Here {
    /// Something that is on its way.
    OnItsWay([f32; 3]),
    /// What cannot be followed, and how much of it the second frame shows.
    Unknown(f32),
}

#[cfg(test)]
mod tests {
    use super::*;

    const SIZE: Size = Size { width: 220, height: 150 };

    /// Stripes and dots that go to the right, before a ground that stands still.
    fn frame(moved: f64) -> Vec<f32> {
        let value = |x: f64, y: f64| {
            let ground = 0.45 + 0.12 * (x / 7.0).sin() * (y / 5.0).cos() + 0.08 * (x / 23.0 + y / 17.0).sin();
            let (u, v) = (x - 80.0 - moved, y - 75.0);
            let inside = (0.5 + (28.0 - u.hypot(v)) / 1.5).clamp(0.0, 1.0);
            let thing = 0.55 + 0.3 * (u / 4.0).sin() * (v / 6.0).cos();
            ground * (1.0 - inside) + thing * inside
        };
        let pixels = (0..SIZE.height).flat_map(|y| (0..SIZE.width).map(move |x| (x, y)));
        pixels.flat_map(|(x, y)| [value(f64::from(x), f64::from(y)) as f32; 3]).collect()
    }

    fn off(a: &[f32], b: &[f32]) -> f64 {
        let square: f64 = a.iter().zip(b).map(|(a, b)| f64::from(a - b).powi(2)).sum();
        (square / a.len() as f64).sqrt()
    }

    #[test]
    fn what_moves_is_on_its_way_and_not_there_twice() {
        let (first, second) = (frame(0.0), frame(9.0));
        let between = InBetween::new(SIZE, first.clone(), second.clone());
        for share in [0.25f32, 0.5, 0.75] {
            let truth = frame(9.0 * f64::from(share));
            let mixed: Vec<f32> =
                first.iter().zip(&second).map(|(a, b)| a * (1.0 - share) + b * share).collect();
            let (ours, plain) = (off(&between.at(share), &truth), off(&mixed, &truth));
            assert!(ours < plain / 3.0, "at {share}: {ours:.4}, and {plain:.4} where both are mixed");
        }
        assert!(off(&between.at(0.0), &first) < 1e-3 && between.trusted() > 0.8, "{}", between.trusted());
    }

    #[test]
    fn where_nothing_can_be_followed_both_are_mixed_in_light() {
        let first = vec![0.1; SIZE.area() as usize * 3];
        let second = vec![0.9; SIZE.area() as usize * 3];
        let between = InBetween::new(SIZE, first, second);
        assert_eq!(between.trusted(), 0.0);
        let truth = encode((decode(0.1) + decode(0.9)) / 2.0);
        assert!(between.at(0.5).iter().all(|v| (v - truth).abs() < 1e-4));
    }
}
