//! The learned way for camera raw: a small network that takes out the noise of what a sensor counted behind 2 × 2 filters, and
//! fills in the missing colours, in one go. What is wrong with filled-in colours cannot be told from noise afterwards, and the
//! other way round.
//!
//! It works on the scale where noise is even, on blocks of four pixels that begin with red: in go their four counts and how strong
//! the noise is behind each filter, out come red, green and blue of all four (`training/mosaic.py` has the same in another language).
//! That demosaicing and denoising belong together: M. Gharbi, G. Chaurasia, S. Paris and F. Durand, "Deep joint demosaicking and
//! denoising", 2016.

use crate::ops::denoise::{Strength, apart_encoded, together_encoded};
use crate::ops::network::{self, Grid, Network};
use crate::raw::mosaic::Mosaic;
use rayon::prelude::*;
use std::sync::LazyLock;

/// Pixels beyond the result that are needed: ten layers of blocks see so far, and what stays of the noise one pixel more.
pub(super) const HALO: i64 = 24;

/// Values of each block that go in: four counts and the noise of each.
const INPUTS: usize = 8;
/// What noise is multiplied by before it goes in.
const NOISE: f32 = 8.0;
/// Places of a block's pixels, to the right and down.
const PLACES: [(usize, usize); 4] = [(0, 0), (1, 0), (0, 1), (1, 1)];

/// The network that ships with the program.
static NETWORK: LazyLock<Network> = LazyLock::new(|| {
    // What ships with the program is read by its tests.
    Network::read(include_bytes!("weights.safetensors"), INPUTS).expect("the weights that ship are whole")
});

/// Whether the counts stand in blocks that it knows.
pub(super) fn knows(mosaic: &Mosaic) -> bool {
    mosaic.pattern.side() == 2
}

/// All three colours of every pixel of `counted`, which stands on the even scale with those factors, without noise as far as
/// `strength` says; nothing where nobody waits for it any more.
pub(super) fn run(counted: &Mosaic, factors: [f32; 3], strength: Strength) -> Option<Vec<[f32; 3]>> {
    let view = View::of(counted);
    let detail = 1.25 - 0.5 * strength.detail;
    let (light, colour) = (strength.light * detail, strength.colour * detail);
    // Told is the stronger of both; what was wanted weaker gets some of the noise back.
    let told = light.max(colour).max(1.0);
    let noise = factors.map(|factor| factor * told * NOISE);
    let found = NETWORK.found(view.input(noise))?;
    let clean = view.colours(&found);
    drop(found);
    let kept = [1.0 - light / told, 1.0 - colour / told];
    Some(if kept == [0.0; 2] { clean } else { view.with_noise(clean, kept) })
}

/// Counts as the network sees them: in blocks that begin with red, mirrored at the edges.
struct View<'a> {
    counted: &'a Mosaic,
    /// Pixels to the left of the first block's own and above them that are not there.
    before: (usize, usize),
    /// Blocks each way.
    blocks: (usize, usize),
}

/// A place beyond the edge, mirrored on the outermost pixel, so that filters stay what they are.
fn mirrored(at: i64, side: usize) -> usize {
    let last = side as i64 - 1;
    let at = at.abs();
    let at = if at > last { 2 * last - at } else { at };
    at.clamp(0, last) as usize
}

impl<'a> View<'a> {
    fn of(counted: &'a Mosaic) -> Self {
        let red = |&(x, y): &(usize, usize)| counted.pattern.at(x, y) == 0;
        // Every pattern of two by two has one.
        let before = PLACES.into_iter().find(red).unwrap_or_default();
        let (w, h) = (counted.size.width as usize, counted.size.height as usize);
        Self { counted, before, blocks: ((w + before.0).div_ceil(2), (h + before.1).div_ceil(2)) }
    }

    fn width(&self) -> usize {
        self.counted.size.width as usize
    }

    /// The four counts of a block.
    fn block(&self, x: usize, y: usize) -> [f32; 4] {
        let (w, h) = (self.width(), self.counted.size.height as usize);
        PLACES.map(|(u, v)| {
            let column = mirrored((2 * x + u) as i64 - self.before.0 as i64, w);
            let row = mirrored((2 * y + v) as i64 - self.before.1 as i64, h);
            self.counted.values()[row * w + column]
        })
    }

    fn input(&self, noise: [f32; 3]) -> Grid {
        let [red, green, blue] = noise.map(network::taken);
        let mut grid = Grid::new(self.blocks.0, self.blocks.1, INPUTS);
        grid.rows().for_each(|(y, row)| {
            for (x, values) in row.as_chunks_mut::<INPUTS>().0.iter_mut().enumerate() {
                let [a, b, c, d] = self.block(x, y).map(|v| network::taken(v - network::MIDDLE));
                *values = [a, b, c, d, red, green, green, blue];
            }
        });
        grid
    }

    /// All colours of every pixel: what the block's own counts have, and what was found besides.
    fn colours(&self, found: &[f32]) -> Vec<[f32; 3]> {
        let w = self.width();
        let mut out = vec![[0f32; 3]; self.counted.size.area() as usize];
        out.par_chunks_mut(w).enumerate().for_each(|(y, row)| {
            let (block_row, v) = ((y + self.before.1) / 2, (y + self.before.1) % 2);
            for (x, pixel) in row.iter_mut().enumerate() {
                let (block, u) = ((x + self.before.0) / 2, (x + self.before.0) % 2);
                let [red, one, other, blue] = self.block(block, block_row);
                let green = match (u, v) {
                    (1, 0) => one,
                    (0, 1) => other,
                    _ => (one + other) / 2.0,
                };
                let found = &found[(block_row * self.blocks.0 + block) * network::OUTPUTS + v * 2 + u..];
                *pixel = [red + found[0], green + found[4], blue + found[8]];
            }
        });
        out
    }

    /// With those shares of the lightness and the colour of what was taken out.
    fn with_noise(&self, clean: Vec<[f32; 3]>, [light, colour]: [f32; 2]) -> Vec<[f32; 3]> {
        let (w, h) = (self.width(), self.counted.size.height as usize);
        let pattern = &self.counted.pattern;
        let taken = |x: usize, y: usize| {
            let at = y * w + x;
            self.counted.values()[at] - clean[at][usize::from(pattern.at(x, y))]
        };
        let mut out = clean.clone();
        out.par_chunks_mut(w).enumerate().for_each(|(y, row)| {
            for (x, pixel) in row.iter_mut().enumerate() {
                // Of each filter what was taken out around the pixel, near ones counting twice.
                let (mut sum, mut count) = ([0f32; 3], [0f32; 3]);
                for v in y.saturating_sub(1)..(y + 2).min(h) {
                    for u in x.saturating_sub(1)..(x + 2).min(w) {
                        let weight = if u == x { 2.0 } else { 1.0 } * if v == y { 2.0 } else { 1.0 };
                        let c = usize::from(pattern.at(u, v));
                        sum[c] += weight * taken(u, v);
                        count[c] += weight;
                    }
                }
                let noise = apart_encoded(std::array::from_fn(|c| sum[c] / count[c].max(1.0)));
                let back = together_encoded([noise[0] * light, noise[1] * colour, noise[2] * colour]);
                for (value, back) in pixel.iter_mut().zip(back) {
                    *value += back;
                }
            }
        });
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Size;
    use crate::raw::Pattern;

    #[test]
    fn it_computes_what_the_trained_network_computes() {
        let proof = safetensors::SafeTensors::deserialize(include_bytes!("proof.safetensors")).unwrap();
        for kind in ["little", "much"] {
            let tensor = |name: &str| network::numbers(&proof, &format!("{kind}.{name}")).unwrap();
            let (noisy, noise, done) = (tensor("noisy"), tensor("noise"), tensor("done"));
            let (w, h) = (32, 24);
            let values = (0..4 * w * h).map(|i| {
                let (x, y) = (i % (2 * w), i / (2 * w));
                noisy[(y % 2 * 2 + x % 2) * w * h + y / 2 * w + x / 2]
            });
            let pattern = Pattern::new(2, 2, &[0, 1, 1, 2]).unwrap();
            let counted = Mosaic::new(Size::new(2 * w as u32, 2 * h as u32), pattern, values.collect());
            let counted = counted.unwrap();
            let factors = [noise[0], noise[w * h], noise[3 * w * h]];
            let own = run(&counted, factors, Strength { light: 1.0, colour: 1.0, detail: 0.5 }).unwrap();
            let before = View::of(&counted).colours(&vec![0.0; w * h * network::OUTPUTS]);
            let (mut off, mut found) = (0.0f64, 0.0f64);
            for (i, (pixel, before)) in own.iter().zip(&before).enumerate() {
                let (x, y) = (i % (2 * w), i / (2 * w));
                for c in 0..3 {
                    let known = done[(c * 4 + y % 2 * 2 + x % 2) * w * h + y / 2 * w + x / 2];
                    off += f64::from(pixel[c] - known).powi(2);
                    found += f64::from(known - before[c]).powi(2);
                }
            }
            // What whole numbers make of it is off by less than a hundredth of what is found.
            assert!((off / found).sqrt() < 0.01, "{kind}: {}", (off / found).sqrt());
        }
    }

    #[test]
    fn a_pattern_that_begins_elsewhere_gives_the_same_picture() {
        let (w, h) = (64usize, 48usize);
        let scene = |x: usize, y: usize| {
            let disc = (x as f32 - 30.0).hypot(y as f32 - 25.0) < 14.0;
            if disc { [0.5, 0.3, 0.2] } else { [0.3, 0.35, 0.4] }
        };
        let made = |left: usize, top: usize| {
            let pattern = Pattern::new(2, 2, &[0, 1, 1, 2]).unwrap().shifted(left, top);
            let (width, height) = (w - left, h - top);
            let at = |i: usize| (i % width, i / width);
            let values = (0..width * height).map(|i| {
                let (x, y) = at(i);
                scene(x + left, y + top)[usize::from(pattern.at(x, y))]
            });
            let values = values.collect();
            let counted =
                Mosaic::new(Size::new(width as u32, height as u32), pattern.clone(), values).unwrap();
            run(&counted, [0.01; 3], Strength { light: 1.0, colour: 1.0, detail: 0.5 }).unwrap()
        };
        let whole = made(0, 0);
        for (left, top) in [(1, 0), (0, 1), (1, 1)] {
            let part = made(left, top);
            for y in 24..h - 24 + 1 {
                for x in 24..w - 24 {
                    let own = part[(y - top) * (w - left) + x - left];
                    assert_eq!(own, whole[y * w + x], "{left} {top}: {x} {y}");
                }
            }
        }
    }
}
