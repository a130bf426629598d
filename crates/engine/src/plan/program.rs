//! A plan lowered for one scale, which renders any region of its output.

use crate::colour::space::OutputColour;
use crate::geometry::{Rect, Size};
use crate::image::source::{Source, SourceError};
use crate::ops::planes::Pixel;
use crate::ops::pointwise::{self, PointProgram};
use crate::pace;
use crate::plan::cache::PrefixPixels;
use crate::plan::tiles::{Base, Buffers, Input, Node, chain, needs, reduced, wanted};
use rayon::prelude::*;
use std::sync::{Arc, Mutex};

/// A plan lowered for one scale: renders any region of its output.
pub struct Program {
    pub(super) source: Size,
    pub(super) level: u8,
    /// Each with the size of its input.
    pub(super) nodes: Vec<(Node, Size)>,
    pub(super) size: Size,
    /// The nodes before the plan's cut, and a number for them.
    pub(super) cut: Option<usize>,
    pub(super) key: u64,
}

/// Encoded samples, interleaved RGB.
#[derive(Clone, Debug, PartialEq)]
pub enum Pixels {
    /// 0 ..= 255.
    U8(Vec<u8>),
    /// 0 ..= 65535.
    U16(Vec<u16>),
    /// 0.0 ..= 1.0, in steps of a float.
    F32(Vec<f32>),
}

/// A rendered region.
#[derive(Clone, Debug, PartialEq)]
pub struct Encoded {
    /// Pixels per row and rows.
    pub size: Size,
    /// Samples.
    pub pixels: Pixels,
}

/// Output pixels per tile: what a tile needs of its input stays within the second-level cache.
pub(super) const TILE: (i64, i64) = (192, 96);

/// Halo from which on larger tiles cost less than what is computed twice.
pub(super) const WIDE_HALO: i64 = 12;

/// Rows of far-reaching work done at a time: what is held in memory beside its result.
pub(super) const STRIP: i64 = 1024;

/// Sides of a tile: larger where much around it is needed.
pub(super) fn tile_sides(nodes: &[(Node, Size)]) -> (i64, i64) {
    let halo = |(node, _): &(Node, Size)| match node {
        Node::Area(op) => op.halo(),
        Node::Enlarge(op) => op.halo() * op.factor(),
        Node::Group(group) => group.halo,
        _ => 0,
    };
    let most = nodes.iter().map(halo).max().unwrap_or(0);
    if most <= WIDE_HALO { TILE } else { ((most * 10).clamp(256, 512), (most * 10).clamp(256, 512)) }
}

/// `nodes` over `region`, from what stands before them, tile by tile.
pub(super) fn tiles_from<T: Copy + Default + Send>(
    base: Base,
    nodes: &[(Node, Size)],
    region: Rect,
    encode: impl Fn(&PointProgram, Rect, &mut [Pixel], &mut [T]) + Sync,
) -> Vec<T> {
    let width = region.width as usize * 3;
    let mut samples = vec![T::default(); width * region.height as usize];
    let shared = Mutex::new(&mut samples);
    let (wide, high) = tile_sides(nodes);
    // Point-wise work that comes last is done while encoding, and with the reading where it is all there is.
    let nothing = PointProgram::new(Vec::new());
    let (nodes, last) = match nodes.split_last() {
        Some(((Node::Point(last), _), before)) if !before.is_empty() || !matches!(base, Base::Picture(_)) => {
            (before, last)
        }
        _ => (nodes, &nothing),
    };
    let held = || (Buffers::default(), Vec::new());
    region.tiles(wide, high).into_par_iter().for_each_init(held, |(buffers, encoded), tile| {
        if !pace::go_on() {
            return;
        }
        let mut pixels = chain(nodes, base, tile, buffers);
        let line = tile.width as usize * 3;
        // Every sample is written.
        encoded.resize(line * tile.height as usize, T::default());
        encode(last, tile, &mut pixels, encoded);
        buffers.give(pixels);
        let mut shared = shared.lock().unwrap_or_else(|poisoned| poisoned.into_inner());
        for (j, row) in encoded.chunks(line).enumerate() {
            let at = (tile.y - region.y) as usize + j;
            let at = at * width + (tile.x - region.x) as usize * 3;
            shared[at..at + line].copy_from_slice(row);
        }
    });
    samples
}

impl Program {
    /// Size of the whole output at this scale.
    pub fn size(&self) -> Size {
        self.size
    }

    /// The reduction asked of the source: `1 / 2^level`.
    pub fn level(&self) -> u8 {
        self.level
    }

    /// The part of the source's [`level`](Self::level) that `region` of the output is made from.
    pub fn needed(&self, region: Rect) -> Rect {
        needs(&self.nodes, region.within(self.size.rect()))
    }

    /// Renders `region` of the output, 8 bits a sample.
    ///
    /// # Errors
    /// The source's, when the picture cannot be decoded.
    pub fn render(
        &self,
        source: &dyn Source,
        region: Rect,
        colour: &OutputColour,
    ) -> Result<Encoded, SourceError> {
        self.rendered(
            source,
            region,
            |last, rect, pixels, out: &mut [u8]| pointwise::encode_8(colour, last, rect, pixels, out),
            Pixels::U8,
        )
    }

    /// Renders `region` of the output, 16 bits a sample.
    ///
    /// # Errors
    /// As [`render`](Self::render).
    pub fn render_16(
        &self,
        source: &dyn Source,
        region: Rect,
        colour: &OutputColour,
    ) -> Result<Encoded, SourceError> {
        self.rendered(
            source,
            region,
            |last, rect, pixels, out: &mut [u16]| pointwise::encode_16(colour, last, rect, pixels, out),
            Pixels::U16,
        )
    }

    /// Renders `region` of the output as floats, encoded as `colour` says.
    ///
    /// # Errors
    /// As [`render`](Self::render).
    pub fn render_32(
        &self,
        source: &dyn Source,
        region: Rect,
        colour: &OutputColour,
    ) -> Result<Encoded, SourceError> {
        self.rendered(
            source,
            region,
            |last, rect, pixels, out: &mut [f32]| pointwise::encode_32(colour, last, rect, pixels, out),
            Pixels::F32,
        )
    }

    /// As [`render`](Self::render), but what stands before the plan's cut is taken from `kept` where it is there, and left
    /// there: a change behind the cut computes nothing before it again.
    ///
    /// # Errors
    /// As [`render`](Self::render).
    pub fn render_keeping(
        &self,
        source: &dyn Source,
        region: Rect,
        colour: &OutputColour,
        kept: &Mutex<Option<PrefixPixels>>,
    ) -> Result<Encoded, SourceError> {
        let far = |nodes: &[(Node, Size)]| nodes.iter().any(|(node, _)| matches!(node, Node::Whole(_)));
        let Some(cut) = self.cut.filter(|cut| *cut > 0 && !far(&self.nodes[*cut..])) else {
            return self.render(source, region, colour);
        };
        let region = region.within(self.size.rect());
        let rect = needs(&self.nodes[cut..], region);
        let held = kept.lock().unwrap_or_else(|p| p.into_inner()).clone();
        let fits = |k: &PrefixPixels| k.key == self.key && rect.within(k.rect) == rect;
        let kept_now = match held.filter(fits) {
            Some(held) => held,
            None => {
                let input = self.checked(source, region)?;
                let pixels = Arc::new(self.layer(&input, cut, rect));
                wanted()?;
                let fresh = PrefixPixels { key: self.key, rect, pixels };
                *kept.lock().unwrap_or_else(|p| p.into_inner()) = Some(fresh.clone());
                fresh
            }
        };
        let base = Base::Layer(&kept_now.pixels, kept_now.rect);
        let encode = |last: &PointProgram, rect: Rect, pixels: &mut [Pixel], out: &mut [u8]| {
            pointwise::encode_8(colour, last, rect, pixels, out);
        };
        let samples = tiles_from(base, &self.nodes[cut..], region, encode);
        wanted()?;
        let size = Size::new(region.width as u32, region.height as u32);
        Ok(Encoded { size, pixels: Pixels::U8(samples) })
    }

    /// Renders `region` as working values, before any encoding.
    ///
    /// # Errors
    /// As [`render`](Self::render).
    pub fn render_working(
        &self,
        source: &dyn Source,
        region: Rect,
    ) -> Result<(Size, Vec<[f32; 3]>), SourceError> {
        let (size, values) = self.render_values(source, region)?;
        Ok((size, values.as_chunks::<3>().0.to_vec()))
    }

    /// As [`render_working`](Self::render_working), red, green and blue by turns.
    ///
    /// # Errors
    /// As [`render`](Self::render).
    pub fn render_values(&self, source: &dyn Source, region: Rect) -> Result<(Size, Vec<f32>), SourceError> {
        let region = region.within(self.size.rect());
        let input = self.checked(source, region)?;
        let values = self.values(&input, self.nodes.len(), region);
        wanted()?;
        Ok((Size::new(region.width as u32, region.height as u32), values))
    }

    pub(super) fn rendered<T: Copy + Default + Send>(
        &self,
        source: &dyn Source,
        region: Rect,
        encode: impl Fn(&PointProgram, Rect, &mut [Pixel], &mut [T]) + Sync,
        wrap: impl Fn(Vec<T>) -> Pixels,
    ) -> Result<Encoded, SourceError> {
        let region = region.within(self.size.rect());
        let input = self.checked(source, region)?;
        let samples = self.each_tile(&input, self.nodes.len(), region, encode);
        wanted()?;
        let size = Size::new(region.width as u32, region.height as u32);
        Ok(Encoded { size, pixels: wrap(samples) })
    }

    /// What `region` of the output is made from, reduced as far as the program wants it.
    pub(super) fn checked(&self, source: &dyn Source, region: Rect) -> Result<Input, SourceError> {
        if region.is_empty() {
            return Err(SourceError("the region lies outside the picture".into()));
        }
        if source.size() != self.source {
            return Err(SourceError("the picture has changed its size since the plan was made".into()));
        }
        let rect = needs(&self.nodes, region);
        if let Some(part) = source.part(self.level, rect) {
            return Ok(Input::Part(part?, rect));
        }
        // A source that cannot reduce so far delivers less reduced pixels; they are halved here.
        Ok(Input::Picture(reduced(source, self.level)?))
    }

    /// The first `count` nodes over `region`, tile by tile, each row of pixels turned into samples by `encode`.
    pub(super) fn each_tile<T: Copy + Default + Send>(
        &self,
        input: &Input,
        count: usize,
        region: Rect,
        encode: impl Fn(&PointProgram, Rect, &mut [Pixel], &mut [T]) + Sync,
    ) -> Vec<T> {
        // What reaches far is done first; the rest goes on from its result.
        let before = self.nodes[..count].iter().rposition(|(node, _)| matches!(node, Node::Whole(_)));
        let layer = before.map(|at| {
            let rect = needs(&self.nodes[at + 1..count], region);
            (self.strips(input, at, rect), rect)
        });
        let base = match (&layer, input) {
            (Some((pixels, rect)), _) => Base::Layer(pixels, *rect),
            (None, Input::Picture(picture)) => Base::Picture(picture),
            (None, Input::Part(pixels, rect)) => Base::Layer(pixels, *rect),
        };
        let nodes = &self.nodes[before.map_or(0, |at| at + 1)..count];
        tiles_from(base, nodes, region, encode)
    }

    /// The output of the first `count` nodes as working values.
    pub(super) fn layer(&self, input: &Input, count: usize, region: Rect) -> Vec<[f32; 3]> {
        self.values(input, count, region).as_chunks::<3>().0.to_vec()
    }

    /// As [`layer`](Self::layer), one value after the other.
    pub(super) fn values(&self, input: &Input, count: usize, region: Rect) -> Vec<f32> {
        let keep = |last: &PointProgram, rect: Rect, pixels: &mut [Pixel], out: &mut [f32]| {
            last.run(rect, pixels);
            for (p, o) in pixels.iter().zip(out.as_chunks_mut::<3>().0) {
                *o = [p[0], p[1], p[2]];
            }
        };
        self.each_tile(input, count, region, keep)
    }

    /// The output of the far-reaching node `at` over `rect`, strip by strip.
    pub(super) fn strips(&self, input: &Input, at: usize, rect: Rect) -> Vec<[f32; 3]> {
        let (Node::Whole(whole), size) = &self.nodes[at] else { return Vec::new() };
        let mut out = Vec::with_capacity(rect.area());
        for strip in rect.tiles(rect.width.max(1), STRIP) {
            let have = strip.grown(whole.op.halo()).within(size.rect());
            let before = self.layer(input, at, have);
            if !pace::go_on() {
                out.resize(rect.area(), [0.0; 3]);
                return out;
            }
            if whole.mix >= 1.0 && whole.mask.is_none() {
                out.append(&mut whole.op.run(before, have, strip));
                continue;
            }
            let mut after = whole.op.run(before.clone(), have, strip);
            whole.blend(&before, have, strip, &mut after);
            out.append(&mut after);
        }
        out
    }
}
