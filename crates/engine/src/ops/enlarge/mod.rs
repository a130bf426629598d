//! Enlarging a picture by a whole factor, on sRGB-encoded lightness and two colour differences.
//!
//! `edges` follows the edges that are there, `learned` is a network that was shown drawn scenes small and large.

mod edges;
mod learned;
mod plane;

pub use edges::AlongEdges;
pub use learned::Learned;

use crate::geometry::Rect;
use crate::ops::denoise::{apart, together};
use crate::ops::planes::Pixel;
use plane::Plane;

/// Lightness and colour differences of pixels that cover `have`.
fn planes_of(pixels: &[Pixel], have: Rect) -> [Plane; 3] {
    let mut planes = [0; 3].map(|_| Plane::new(have.width as usize, have.height as usize));
    for (i, p) in pixels.iter().enumerate() {
        for (plane, v) in planes.iter_mut().zip(apart([p[0], p[1], p[2]])) {
            plane.values[i] = v;
        }
    }
    planes
}

/// Pixels over `rect` from planes that are `have` enlarged.
fn pixels_of(planes: &[Plane; 3], have: Rect, factor: i64, rect: Rect, out: &mut Vec<Pixel>) {
    out.clear();
    for y in rect.y..rect.bottom() {
        for x in rect.x..rect.right() {
            let i = ((y - have.y * factor) * have.width * factor + x - have.x * factor) as usize;
            let [r, g, b] = together(planes.each_ref().map(|p| p.values[i]));
            out.push([r, g, b, 0.0]);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::colour::transfer::{decode, encode};
    use crate::step::EnlargeOp;
    use plane::Cubic;

    /// A disc, a slanted edge and waves, as encoded values, each pixel the mean over its area.
    fn scene(x: f64, y: f64, side: f64) -> f64 {
        let n = 6;
        let mut sum = 0.0;
        for j in 0..n {
            for i in 0..n {
                let (u, v) = (
                    x + (f64::from(i) + 0.5) / f64::from(n) * side,
                    y + (f64::from(j) + 0.5) / f64::from(n) * side,
                );
                let disc = (u - 60.0).hypot(v - 55.0) < 31.3;
                let edge = 0.31 * u + v > 118.0;
                let wave = 0.08 * (0.55 * u + 0.21 * v).sin();
                sum += if disc {
                    0.8
                } else if edge {
                    0.25
                } else {
                    0.5 + wave
                };
            }
        }
        sum / f64::from(n * n)
    }

    /// How near an enlarged picture is to the scene, in dB.
    fn nearness(f: usize, enlarged: &[f32]) -> f64 {
        let size = 120 / f * f;
        let mut sum = 0.0;
        for y in 8..size - 8 {
            for x in 8..size - 8 {
                let want = scene(x as f64, y as f64, 1.0);
                sum += (f64::from(enlarged[y * size + x]) - want).powi(2);
            }
        }
        -10.0 * (sum / ((size - 16) * (size - 16)) as f64).log10()
    }

    /// The scene small, in grey.
    fn small(f: usize) -> (Vec<Pixel>, Rect) {
        let side = 120 / f;
        let at = |i: usize| scene((i % side * f) as f64, (i / side * f) as f64, f as f64);
        let pixels = (0..side * side).map(|i| {
            let v = decode(at(i) as f32);
            [v, v, v, 0.0]
        });
        (pixels.collect(), Rect::new(0, 0, side as i64, side as i64))
    }

    fn enlarged(op: &dyn EnlargeOp, pixels: &[Pixel], have: Rect, rect: Rect) -> Vec<f32> {
        let mut out = Vec::new();
        op.run(pixels, have, rect, &mut out);
        out.iter().map(|p| encode(p[1])).collect()
    }

    fn all(have: Rect, f: usize) -> Rect {
        Rect::new(0, 0, have.width * f as i64, have.height * f as i64)
    }

    #[test]
    fn both_are_better_than_cubic_and_along_edges_stays_in_the_range() {
        for f in [2, 3, 4] {
            let (pixels, have) = small(f);
            let cubic = nearness(f, &{
                let [light, ..] = planes_of(&pixels, have);
                Cubic::new(f).up(&light).values.iter().map(|v| v / 3f32.sqrt()).collect::<Vec<_>>()
            });
            let along = enlarged(&AlongEdges::new(f), &pixels, have, all(have, f));
            let low = along.iter().copied().fold(1.0, f32::min);
            let high = along.iter().copied().fold(0.0, f32::max);
            assert!(low > 0.245 && high < 0.805, "{f}: rings to {low} and {high}");
            let along = nearness(f, &along);
            assert!(along > cubic + 0.8, "{f} times: {along} dB, cubic {cubic} dB");
            let learned = enlarged(&Learned::new(f), &pixels, have, all(have, f));
            let learned = nearness(f, &learned);
            assert!(learned > cubic + 0.8, "{f} times, learned: {learned} dB, cubic {cubic} dB");
        }
    }

    #[test]
    fn any_part_comes_out_as_in_the_whole() {
        for f in [2, 3, 4] {
            let (pixels, have) = small(f);
            for op in [&Learned::new(f) as &dyn EnlargeOp, &AlongEdges::new(f)] {
                let whole = enlarged(op, &pixels, have, all(have, f));
                for (x, y, w, h) in [(0, 0, 7, 9), (f as i64 * 11 + 1, 10, 17, 12), (100, 99, 8, 5)] {
                    let rect = Rect::new(x, y, w, h);
                    let f = f as i64;
                    let (left, top) = (x.div_euclid(f), y.div_euclid(f));
                    let inner = Rect::new(
                        left,
                        top,
                        (x + w - 1).div_euclid(f) + 1 - left,
                        (y + h - 1).div_euclid(f) + 1 - top,
                    );
                    let part = inner.grown(op.halo()).within(have);
                    let mut of_part = Vec::new();
                    for row in part.y..part.bottom() {
                        let from = (row * have.width + part.x) as usize;
                        of_part.extend_from_slice(&pixels[from..from + part.width as usize]);
                    }
                    let own = enlarged(op, &of_part, part, rect);
                    for (i, value) in own.iter().enumerate() {
                        let (u, v) = (x + i as i64 % w, y + i as i64 / w);
                        let known = whole[(v * have.width * f + u) as usize];
                        assert!(*value == known, "{f} times, {rect:?}: {u} {v}");
                    }
                }
            }
        }
    }

    #[test]
    fn it_computes_what_the_trained_network_computes() {
        use crate::ops::network::numbers;
        let proof = safetensors::SafeTensors::deserialize(include_bytes!("proof.safetensors")).unwrap();
        for kind in ["worn", "clean"] {
            let tensor = |name: &str| numbers(&proof, &format!("{kind}.{name}")).unwrap();
            let (small, done) = (tensor("small"), tensor("done"));
            let side = (small.len() as f64 / 3.0).sqrt() as usize;
            let plane = |c: usize| {
                let mut plane = Plane::new(side, side);
                plane.values.copy_from_slice(&small[c * side * side..][..side * side]);
                plane
            };
            let planes = [plane(0), plane(1), plane(2)];
            let cubic = planes.each_ref().map(|p| Cubic::new(2).up(p));
            let own = Learned::new(2).told(&planes);
            let (mut off, mut added) = (0.0f64, 0.0f64);
            for c in 0..3 {
                for (i, value) in own[c].values.iter().enumerate() {
                    let known = done[c * 4 * side * side + i];
                    off += f64::from(value - known).powi(2);
                    added += f64::from(cubic[c].values[i] - known).powi(2);
                }
            }
            // What whole numbers make of it is off by less than a hundredth of what is added.
            assert!((off / added).sqrt() < 0.01, "{kind}: {}", (off / added).sqrt());
        }
    }
}
