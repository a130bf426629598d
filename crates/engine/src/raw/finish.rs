//! What every pixel of a raw goes through behind the demosaicing: full channels, the camera's colour, exposure and look; many
//! pixels at a time, by rows.

use crate::colour::space::apply;
use crate::colour::working::Matrix;
use crate::raw::InputTable;
use crate::raw::camera::CameraColour;
use crate::raw::develop::HEADROOM;
use crate::raw::look::Look;
use crate::simd::limited;
use multiversion::multiversion;
use std::sync::Arc;

/// Pixels that are worked on together.
pub(super) const BLOCK: usize = 64;

/// Red, green and blue of so many pixels, each colour by itself.
pub(super) type Block = [[f32; BLOCK]; 3];

/// From this share of its most a pixel counts as full.
const FULL: f32 = 0.985;

/// What there is to be done.
pub(super) struct Finish<'a> {
    most: [f32; 3],
    to_working: Matrix,
    table: Option<Arc<InputTable>>,
    exposure: f32,
    look: &'a Look,
}

impl<'a> Finish<'a> {
    pub(super) fn of(camera: &CameraColour, look: &'a Look) -> Self {
        Self {
            most: camera.gains(),
            to_working: camera.to_working(),
            table: camera.table.clone(),
            exposure: 2f64.powf(camera.baseline.clamp(-4.0, 4.0)) as f32,
            look,
        }
    }

    /// Pixels as they are kept: the square root of their light's share of [`HEADROOM`]. `fill` puts the balanced values from a
    /// pixel on into the block, as many as there are.
    pub(super) fn kept(&self, out: &mut [[u16; 3]], fill: impl Fn(usize, &mut Block)) {
        let mut numbers = [[0; 3]; BLOCK];
        self.each_block(out.len(), fill, |from, count, block| {
            roots(block, &mut numbers);
            out[from..from + count].copy_from_slice(&numbers[..count]);
        });
    }

    /// The working light of `count` pixels, up to [`HEADROOM`], added to `out`; `fill` as for [`kept`](Self::kept).
    pub(super) fn light(&self, count: usize, out: &mut Vec<[f32; 3]>, fill: impl Fn(usize, &mut Block)) {
        self.each_block(count, fill, |_, count, block| {
            out.extend((0..count).map(|i| block.map(|plane| plane[i])));
        });
    }

    fn each_block(
        &self,
        count: usize,
        fill: impl Fn(usize, &mut Block),
        mut take: impl FnMut(usize, usize, &Block),
    ) {
        let mut block = [[0f32; BLOCK]; 3];
        for from in (0..count).step_by(BLOCK) {
            fill(from, &mut block);
            self.run(&mut block);
            take(from, BLOCK.min(count - from), &block);
        }
    }

    fn run(&self, block: &mut Block) {
        let full = self.most.map(|most| most * FULL);
        if any_full(block, full) {
            one_by_one(block, |pixel| recovered(pixel, full));
        }
        match &self.table {
            None => mixed(block, &self.to_working),
            Some(table) => one_by_one(block, |pixel| table.run(pixel)),
        }
        self.look.run(block, self.exposure);
        for plane in block {
            for v in plane {
                *v = v.min(HEADROOM);
            }
        }
    }
}

/// Changes every pixel by itself.
pub(super) fn one_by_one(block: &mut Block, change: impl Fn([f32; 3]) -> [f32; 3]) {
    for i in 0..BLOCK {
        let changed = change(block.map(|plane| plane[i]));
        for (plane, value) in block.iter_mut().zip(changed) {
            plane[i] = value;
        }
    }
}

#[multiversion(targets("x86_64+avx512f+avx512vl", "x86_64+avx2", "x86_64+sse4.1", "aarch64+neon"))]
fn any_full(block: &Block, full: [f32; 3]) -> bool {
    block.iter().zip(full).any(|(plane, full)| plane.iter().fold(false, |any, v| any | (*v >= full)))
}

/// Where a channel is full, the others say how bright the light was: it is taken for neutral there.
fn recovered(pixel: [f32; 3], from: [f32; 3]) -> [f32; 3] {
    let full = [0, 1, 2].map(|c| pixel[c] >= from[c]);
    if full == [false; 3] {
        return pixel;
    }
    let brightest = pixel[0].max(pixel[1]).max(pixel[2]);
    if full == [true; 3] {
        return [brightest; 3];
    }
    let (mut sum, mut count) = (0.0, 0.0);
    for c in 0..3 {
        if !full[c] {
            sum += pixel[c];
            count += 1.0;
        }
    }
    let others = sum / count;
    [0, 1, 2].map(|c| if full[c] { pixel[c].max(others.min(brightest)) } else { pixel[c] })
}

#[multiversion(targets("x86_64+avx512f+avx512vl", "x86_64+avx2", "x86_64+sse4.1", "aarch64+neon"))]
fn mixed(block: &mut Block, matrix: &Matrix) {
    let [red, green, blue] = block;
    for ((r, g), b) in red.iter_mut().zip(green).zip(blue) {
        [*r, *g, *b] = apply(matrix, [*r, *g, *b]);
    }
}

#[multiversion(targets("x86_64+avx512f+avx512vl", "x86_64+avx2", "x86_64+sse4.1", "aarch64+neon"))]
fn roots(block: &Block, out: &mut [[u16; 3]; BLOCK]) {
    let mut numbers = [[0u16; BLOCK]; 3];
    for (numbers, plane) in numbers.iter_mut().zip(block) {
        for (to, v) in numbers.iter_mut().zip(plane) {
            let root = (v / HEADROOM).sqrt() * 65_535.0 + 0.5;
            // Sound: the limits lie within the type.
            *to = unsafe { limited(root, 65_535.0).to_int_unchecked::<i32>() } as u16;
        }
    }
    for (i, to) in out.iter_mut().enumerate() {
        *to = [numbers[0][i], numbers[1][i], numbers[2][i]];
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_full_green_goes_on_with_the_others() {
        let half = recovered([1.6, 1.0, 1.4], [2.0, 1.0, 1.43].map(|most| most * FULL));
        assert!(half[1] > 1.4 && half[1] <= 1.6, "{half:?}");
    }
}
