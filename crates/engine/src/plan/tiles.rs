//! Running the nodes of a program over one tile: which part of the source it needs, and its pixels.

use crate::geometry::{Rect, Size};
use crate::image::picture::Picture;
use crate::image::source::{Source, SourceError};
use crate::ops::mask::Mask;
use crate::ops::planes::{CHUNK, Pixel, Planes};
use crate::ops::pointwise::PointProgram;
use crate::ops::resample::Resampler;
use crate::ops::turn::Turn;
use crate::ops::warp_resampler::WarpResampler;
use crate::pace;
use crate::step::{AreaOp, EnlargeOp, MarkOp, WholeOp};
use std::cell::RefCell;
use std::sync::Arc;

pub(super) enum Node {
    Point(PointProgram),
    Map(Resampler),
    Warp(WarpResampler),
    Shift(i64, i64),
    Turn(Turn),
    Enlarge(Box<dyn EnlargeOp>),
    Area(Box<dyn AreaOp>),
    Mark(Box<dyn MarkOp>),
    Group(Group),
    Whole(Whole),
}

/// Work that runs before everything after it.
pub(super) struct Whole {
    pub(super) op: Box<dyn WholeOp>,
    pub(super) mask: Option<Arc<Mask>>,
    pub(super) mix: f32,
}

/// Work held back to an area and a share.
pub(super) struct Group {
    pub(super) nodes: Vec<(Node, Size)>,
    pub(super) halo: i64,
    pub(super) mask: Option<Arc<Mask>>,
    pub(super) mix: f32,
}

/// The part of the input of `nodes` that `rect` of their output comes from.
pub(super) fn needs(nodes: &[(Node, Size)], rect: Rect) -> Rect {
    nodes.iter().rev().fold(rect, |rect, (node, size)| node.needs(rect, size.rect()))
}

impl Node {
    /// The part of its input, which is as large as `whole`, that `rect` of its output comes from.
    pub(super) fn needs(&self, rect: Rect, whole: Rect) -> Rect {
        match self {
            Self::Point(_) | Self::Mark(_) => rect,
            Self::Map(resampler) => resampler.needs(rect),
            Self::Warp(resampler) => resampler.needs(rect),
            Self::Turn(turn) => turn.needs(rect),
            Self::Shift(dx, dy) => {
                let wanted = rect.moved(*dx, *dy);
                // Beyond the picture the edge is repeated; at least one pixel of it is needed.
                let near = |v: i64, side: i64| v.clamp(0, side - 1);
                let (x, y) = (near(wanted.x, whole.width), near(wanted.y, whole.height));
                let (right, bottom) =
                    (near(wanted.right() - 1, whole.width) + 1, near(wanted.bottom() - 1, whole.height) + 1);
                Rect::new(x, y, right - x, bottom - y)
            }
            Self::Enlarge(op) => {
                let (f, h) = (op.factor(), op.halo());
                let (x, y) = (rect.x.div_euclid(f), rect.y.div_euclid(f));
                let (right, bottom) =
                    ((rect.right() - 1).div_euclid(f) + 1, (rect.bottom() - 1).div_euclid(f) + 1);
                Rect::new(x, y, right - x, bottom - y).grown(h).within(whole)
            }
            Self::Area(op) => rect.grown(op.halo()).within(whole),
            Self::Group(group) => rect.grown(group.halo).within(whole),
            Self::Whole(w) => rect.grown(w.op.halo()).within(whole),
        }
    }
}

/// What a program reads: a picture, or the part of one that a region needs.
pub(super) enum Input {
    Picture(Arc<Picture>),
    /// Working values over a rectangle of the source's level.
    Part(Vec<[f32; 3]>, Rect),
}

/// An error once the work was given up: what was computed since is worth nothing.
pub(super) fn wanted() -> Result<(), SourceError> {
    if pace::is_wanted() { Ok(()) } else { Err(SourceError::given_up()) }
}

/// What stands before the first node.
#[derive(Clone, Copy)]
pub(super) enum Base<'a> {
    Picture(&'a Picture),
    /// Pixels over a rectangle.
    Pixels(&'a [Pixel], Rect),
    /// Working values over a rectangle.
    Layer(&'a [[f32; 3]], Rect),
}

/// The output of the last of `nodes` over `rect`.
pub(super) fn chain(nodes: &[(Node, Size)], base: Base, rect: Rect, buffers: &mut Buffers) -> Vec<Pixel> {
    let Some(((node, size), before)) = nodes.split_last() else {
        let mut out = buffers.take(rect.area());
        match base {
            Base::Picture(picture) => PointProgram::new(Vec::new()).read(picture, rect, &mut out),
            Base::Pixels(pixels, have) => cut(pixels, have, rect, &mut out),
            Base::Layer(values, have) => {
                out.clear();
                for y in rect.y..rect.bottom() {
                    let at = ((y - have.y) * have.width + rect.x - have.x) as usize;
                    out.extend(values[at..at + rect.width as usize].iter().map(|v| [v[0], v[1], v[2], 0.0]));
                }
            }
        }
        return out;
    };
    let have = node.needs(rect, size.rect());
    match (node, base) {
        (Node::Point(program), Base::Picture(picture)) if before.is_empty() => {
            let mut out = buffers.take(rect.area());
            program.read(picture, rect, &mut out);
            out
        }
        (Node::Point(program), _) => {
            let mut pixels = chain(before, base, rect, buffers);
            program.run(rect, &mut pixels);
            pixels
        }
        (Node::Shift(dx, dy), _) => {
            let wanted = rect.moved(*dx, *dy);
            if have == wanted {
                return chain(before, base, have, buffers);
            }
            through(before, base, (have, rect), buffers, |input, out| repeat_edges(input, have, wanted, out))
        }
        (Node::Map(resampler), _) => {
            through(before, base, (have, rect), buffers, |input, out| resampler.run(input, have, rect, out))
        }
        (Node::Warp(resampler), _) => {
            through(before, base, (have, rect), buffers, |input, out| resampler.run(input, have, rect, out))
        }
        (Node::Turn(turn), _) => {
            through(before, base, (have, rect), buffers, |input, out| turn.run(input, have, rect, out))
        }
        (Node::Enlarge(op), _) => {
            through(before, base, (have, rect), buffers, |input, out| op.run(input, have, rect, out))
        }
        (Node::Area(op), _) => {
            through(before, base, (have, rect), buffers, |input, out| op.run(input, have, rect, out))
        }
        (Node::Mark(op), _) => {
            let mut pixels = chain(before, base, rect, buffers);
            if !op.bounds().within(rect).is_empty() {
                op.run(rect, &mut pixels);
            }
            pixels
        }
        (Node::Group(group), _) => {
            let input = chain(before, base, have, buffers);
            let mut out = chain(&group.nodes, Base::Pixels(&input, have), rect, buffers);
            group.blend(&input, have, rect, &mut out);
            buffers.give(input);
            out
        }
        // Done before the tiles begin.
        (Node::Whole(_), _) => chain(before, base, rect, buffers),
    }
}

/// Runs `work` on what stands before, over `have`, for `rect` of its output.
pub(super) fn through(
    before: &[(Node, Size)],
    base: Base,
    (have, rect): (Rect, Rect),
    buffers: &mut Buffers,
    work: impl FnOnce(&[Pixel], &mut Vec<Pixel>),
) -> Vec<Pixel> {
    let input = chain(before, base, have, buffers);
    let mut out = buffers.take(rect.area());
    work(&input, &mut out);
    buffers.give(input);
    out
}

/// The part `rect` of pixels over `have`.
pub(super) fn cut(pixels: &[Pixel], have: Rect, rect: Rect, out: &mut Vec<Pixel>) {
    out.clear();
    for y in rect.y..rect.bottom() {
        let at = ((y - have.y) * have.width + rect.x - have.x) as usize;
        out.extend_from_slice(&pixels[at..at + rect.width as usize]);
    }
}

/// The part `rect` of pixels over `have`, the nearest pixel where it reaches beyond.
pub(super) fn repeat_edges(pixels: &[Pixel], have: Rect, rect: Rect, out: &mut Vec<Pixel>) {
    out.clear();
    let left = (have.x - rect.x).clamp(0, rect.width);
    let right = (rect.right() - have.right()).clamp(0, rect.width);
    let middle = (rect.width - left - right).max(0);
    for y in rect.y..rect.bottom() {
        let line = (y.clamp(have.y, have.bottom() - 1) - have.y) * have.width;
        let row = &pixels[line as usize..(line + have.width) as usize];
        out.extend(std::iter::repeat_n(row[0], left as usize));
        if middle > 0 {
            let first = (rect.x + left - have.x) as usize;
            out.extend_from_slice(&row[first..first + middle as usize]);
        }
        out.extend(std::iter::repeat_n(row[row.len() - 1], right as usize));
    }
}

impl Group {
    /// Mixes the result over `rect` with its input, which covers `have`.
    fn blend(&self, input: &[Pixel], have: Rect, rect: Rect, out: &mut [Pixel]) {
        for (j, row) in out.chunks_mut(rect.width as usize).enumerate() {
            let y = rect.y + j as i64;
            let at = ((y - have.y) * have.width + rect.x - have.x) as usize;
            blend_row(self.mask.as_deref(), self.mix, rect.x, y, &input[at..], row);
        }
    }
}

impl Whole {
    /// As [`Group::blend`].
    pub(super) fn blend(&self, input: &[[f32; 3]], have: Rect, rect: Rect, out: &mut [[f32; 3]]) {
        let wide = |v: &[f32; 3]| [v[0], v[1], v[2], 0.0];
        for (j, row) in out.chunks_mut(rect.width as usize).enumerate() {
            let y = rect.y + j as i64;
            let at = ((y - have.y) * have.width + rect.x - have.x) as usize;
            let before: Vec<Pixel> = input[at..at + row.len()].iter().map(wide).collect();
            let mut after: Vec<Pixel> = row.iter().map(wide).collect();
            blend_row(self.mask.as_deref(), self.mix, rect.x, y, &before, &mut after);
            for (o, a) in row.iter_mut().zip(&after) {
                *o = [a[0], a[1], a[2]];
            }
        }
    }
}

/// Mixes a row that begins at (`x`, `y`) with what it came from.
pub(super) fn blend_row(mask: Option<&Mask>, mix: f32, x: i64, y: i64, input: &[Pixel], out: &mut [Pixel]) {
    let (mut before, mut after) = (Planes::EMPTY, Planes::EMPTY);
    for (i, (chunk, from)) in out.chunks_mut(CHUNK).zip(input.chunks(CHUNK)).enumerate() {
        before.load(&from[..chunk.len()]);
        after.load(chunk);
        let mut weights = [mix; CHUNK];
        if let Some(mask) = mask {
            mask.weigh(x + (i * CHUNK) as i64, y, &before, &mut weights);
            weights = weights.map(|w| w * mix);
        }
        after.mix(&before, &weights);
        after.store(chunk);
    }
}

pub(super) fn reduced(source: &dyn Source, level: u8) -> Result<Arc<Picture>, SourceError> {
    let can = level.min(source.max_level());
    let mut picture = source.level(can)?;
    for _ in can..level {
        picture = Arc::new(picture.halved());
    }
    Ok(picture)
}

thread_local! {
    /// What a thread keeps from one stretch of tiles to the next, of whatever picture.
    static KEPT: RefCell<Vec<Vec<Pixel>>> = const { RefCell::new(Vec::new()) };
}

/// Pixels that a thread keeps at most: 8 MB.
const MOST_KEPT: usize = 1 << 19;

/// Tile buffers of one thread, used again and again.
pub(super) struct Buffers(Vec<Vec<Pixel>>);

impl Default for Buffers {
    fn default() -> Self {
        Self(KEPT.take())
    }
}

impl Drop for Buffers {
    fn drop(&mut self) {
        let mut room = MOST_KEPT;
        self.0.retain(|buffer| {
            let fits = buffer.capacity() <= room;
            room -= if fits { buffer.capacity() } else { 0 };
            fits
        });
        // Where a stretch was begun inside another one, or the thread ends, nothing is lost but time.
        let _ = KEPT.try_with(|kept| kept.replace(std::mem::take(&mut self.0)));
    }
}

impl Buffers {
    /// One for so many pixels. What is filled anew costs time, and a long one that was cut short has to be; so the one that is as long
    /// or a little longer is taken, then one that is a little shorter, and otherwise a new one.
    fn take(&mut self, pixels: usize) -> Vec<Pixel> {
        let most_fitting = (0..self.0.len())
            .filter(|&i| self.0[i].len() / 2 <= pixels && pixels / 2 <= self.0[i].len())
            .max_by_key(|&i| {
                let long = self.0[i].len();
                if long >= pixels { (true, usize::MAX - long) } else { (false, long) }
            });
        most_fitting.map(|i| self.0.swap_remove(i)).unwrap_or_default()
    }
    pub(super) fn give(&mut self, buffer: Vec<Pixel>) {
        self.0.push(buffer);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn beyond_what_there_is_the_nearest_pixel_is_repeated() {
        let have = Rect::new(3, -2, 5, 4);
        let pixels: Vec<Pixel> = (0..20).map(|i| [i as f32; 4]).collect();
        for rect in [
            have,
            Rect::new(4, -1, 3, 2),
            Rect::new(0, -5, 11, 10),
            Rect::new(-4, 0, 6, 2),
            Rect::new(20, 9, 2, 3),
            Rect::new(-9, -9, 4, 2),
        ] {
            let mut out = vec![[7.0; 4]; 3];
            repeat_edges(&pixels, have, rect, &mut out);
            assert_eq!(out.len(), rect.area());
            for (i, pixel) in out.iter().enumerate() {
                let (x, y) = (rect.x + i as i64 % rect.width, rect.y + i as i64 / rect.width);
                let (x, y) = (x.clamp(3, 7) - 3, y.clamp(-2, 1) + 2);
                assert_eq!(pixel[0], (y * 5 + x) as f32, "{rect:?} at {i}");
            }
        }
    }
}
