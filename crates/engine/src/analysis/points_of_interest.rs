//! Places worth a close look: where noise shows most, and where the picture is sharpest.

use crate::analysis::scopes::BRIGHTNESS;
use crate::plan::{Encoded, Pixels};
use rayon::prelude::*;

/// Side of the blocks that are compared, in pixels.
const BLOCK: usize = 64;

/// Middles of blocks, as shares of width and height.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Places {
    /// Where smooth surfaces show the strongest grain.
    pub noisiest: [f64; 2],
    /// Where neighbours differ most.
    pub sharpest: [f64; 2],
}

/// What a block holds.
#[derive(Clone, Copy)]
struct Block {
    at: [f64; 2],
    /// Sum of |∇²|, by the mask of J. Immerkær ("Fast noise variance estimation", 1996), blind to edges and slopes.
    grain: f32,
    /// Standard deviation of the means of 8 × 8 pixels: what is drawn there.
    structure: f32,
    /// Mean difference of the tenth of neighbours that differ most.
    edges: f32,
}

impl Block {
    /// Deviation of normal noise with that grain.
    fn deviation(&self) -> f32 {
        let count = ((BLOCK - 2) * (BLOCK - 2)) as f32;
        self.grain / count * (std::f32::consts::PI / 2.0).sqrt() / 6.0
    }
}

/// Finds both in a rendered picture; nothing in one that is smaller than a block.
pub fn places(picture: &Encoded) -> Option<Places> {
    let Pixels::U8(samples) = &picture.pixels else { return None };
    let (w, h) = (picture.size.width as usize, picture.size.height as usize);
    let corners: Vec<(usize, usize)> =
        (0..h / BLOCK).flat_map(|y| (0..w / BLOCK).map(move |x| (x * BLOCK, y * BLOCK))).collect();
    let blocks: Vec<Block> = corners.par_iter().map(|&(x, y)| block(samples, (w, h), x, y)).collect();
    let mut structures: Vec<f32> = blocks.iter().map(|b| b.structure).collect();
    structures.sort_by(f32::total_cmp);
    // Smooth is what the smoother half is. Grain of deviation σ gives means of 8 × 8 pixels one of σ/8; that is no structure.
    let smooth = structures.get(structures.len() / 2)? + 0.5;
    let quiet = blocks.iter().filter(|b| b.structure - 0.2 * b.deviation() <= smooth);
    let noisiest = quiet.max_by(|a, b| a.grain.total_cmp(&b.grain))?;
    let sharpest = blocks.iter().max_by(|a, b| a.edges.total_cmp(&b.edges))?;
    Some(Places { noisiest: noisiest.at, sharpest: sharpest.at })
}

fn block(samples: &[u8], (w, h): (usize, usize), x: usize, y: usize) -> Block {
    let mut luma = [[0f32; BLOCK]; BLOCK];
    for (j, row) in luma.iter_mut().enumerate() {
        let line = &samples[((y + j) * w + x) * 3..][..BLOCK * 3];
        for (v, p) in row.iter_mut().zip(line.as_chunks::<3>().0) {
            *v = (0..3).map(|c| BRIGHTNESS[c] * f32::from(p[c])).sum();
        }
    }
    let mut grain = 0f32;
    let mut steps = Vec::with_capacity(BLOCK * BLOCK);
    for j in 1..BLOCK - 1 {
        for i in 1..BLOCK - 1 {
            let corners = luma[j - 1][i - 1] + luma[j - 1][i + 1] + luma[j + 1][i - 1] + luma[j + 1][i + 1];
            let sides = luma[j - 1][i] + luma[j + 1][i] + luma[j][i - 1] + luma[j][i + 1];
            grain += (corners - 2.0 * sides + 4.0 * luma[j][i]).abs();
            steps.push((luma[j][i + 1] - luma[j][i - 1]).abs().max((luma[j + 1][i] - luma[j - 1][i]).abs()));
        }
    }
    let tenth = steps.len() / 10;
    steps.select_nth_unstable_by(tenth, |a, b| b.total_cmp(a));
    let edges = steps[..tenth].iter().sum::<f32>() / tenth as f32;
    let mut means = Vec::new();
    for j in (0..BLOCK).step_by(8) {
        for i in (0..BLOCK).step_by(8) {
            let sum: f32 = luma[j..j + 8].iter().map(|row| row[i..i + 8].iter().sum::<f32>()).sum();
            means.push(sum / 64.0);
        }
    }
    let mean = means.iter().sum::<f32>() / means.len() as f32;
    let structure = (means.iter().map(|m| (m - mean).powi(2)).sum::<f32>() / means.len() as f32).sqrt();
    let middle = |at: usize, side: usize| (at + BLOCK / 2) as f64 / side as f64;
    Block { at: [middle(x, w), middle(y, h)], grain, structure, edges }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Size;

    #[test]
    fn grain_and_edges_are_found_where_they_were_put() {
        // Grey; grain in one block, a strong pattern in another, a soft slope everywhere on the right.
        let (w, h) = (640usize, 384usize);
        let mut px = vec![0u8; w * h * 3];
        for y in 0..h {
            for x in 0..w {
                let mut v = 90.0 + if x > 400 { (x - 400) as f64 * 0.2 } else { 0.0 };
                if (128..192).contains(&x) && (192..256).contains(&y) {
                    let h = ((x * 374_761 + y * 668_265) % 1013) as f64 / 1013.0;
                    v += (h - 0.5) * 24.0;
                }
                if (512..576).contains(&x) && (64..128).contains(&y) && (x / 16 + y / 16) % 2 == 0 {
                    v += 80.0;
                }
                px[(y * w + x) * 3..][..3].fill(v as u8);
            }
        }
        let picture = Encoded { size: Size::new(w as u32, h as u32), pixels: Pixels::U8(px) };
        let found = places(&picture).unwrap();
        assert_eq!(found.noisiest, [160.0 / 640.0, 224.0 / 384.0]);
        assert_eq!(found.sharpest, [544.0 / 640.0, 96.0 / 384.0]);
        let small = Encoded { size: Size::new(10, 10), pixels: Pixels::U8(vec![0; 300]) };
        assert!(places(&small).is_none());
    }
}
