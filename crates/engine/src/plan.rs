//! Plans and programs: where speed comes from.
//!
//! A [`Plan`] is a recipe's steps placed on one picture: the size before and after each. [`Plan::program`]
//! lowers it for one scale: neighbouring geometric steps become one mapping, the scale asked for is folded into
//! the last mapping, neighbouring point-wise steps one pass, and each part before a reduction runs at
//! `1 / 2^n` of full size where nothing in it needs full detail, which is also what a decoder that can deliver
//! reduced pictures is asked for. [`Program::render`] then works backwards from a region of the output.
//!
//! # Tolerances (held by tests)
//! Any tiling, any number of threads and any instruction set give the same bits. Reduced decoding keeps at
//! least 45 dB against the full-size way. A half-scale render differs from the reduced full render by at most
//! 1.5 of 255 in the mean.

use crate::colour::OutputProfile;
use crate::geometry::{Affine, Rect, Size};
use crate::picture::{Picture, Source, SourceError};
use crate::point::{self, Pixel, PointOp, PointProgram};
use crate::resample::Resampler;
use crate::step::{AreaOp, Geometry, MarkOp, Op, Place, Step};
use rayon::prelude::*;
use std::sync::Arc;

/// A step with what the recipe adds around it.
#[derive(Clone, Debug)]
pub struct Settings {
    /// The step.
    pub step: Arc<dyn Step>,
    /// How much of its result replaces its input, 0 ..= 1. Geometric steps are not mixed.
    pub mix: f32,
}

/// Why no plan can be made.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum PlanError {
    /// The picture would become larger than the engine takes.
    #[error("line {line} would make a picture of {width} × {height} pixels; the limit is {} megapixels", LIMIT / 1_000_000)]
    TooLarge {
        /// The step, counted from 1.
        line: usize,
        /// Pixels per row.
        width: u32,
        /// Rows.
        height: u32,
    },
}

/// Most pixels a step may produce.
pub const LIMIT: u64 = 400_000_000;

/// A part runs reduced only if so much reduction is left to its mapping's kernel. Measured by
/// `benches/speed`: below this, the reduced decoder's own filter shows (under 45 dB).
const LEFT_OVER: f64 = 1.1;

/// A part of a plan: a mapping (the first part has none) with its output size, and the steps after it.
type Stretch = (Option<(Affine, Size)>, Vec<usize>);

/// Steps placed on one picture.
pub struct Plan {
    steps: Vec<Settings>,
    geometry: Vec<Option<Geometry>>,
    /// Size before each step, and after the last.
    sizes: Vec<Size>,
    to_output: Vec<f64>,
    reduce: bool,
}

impl Plan {
    /// Places `steps` on a picture of (upright) size `source`.
    ///
    /// # Errors
    /// [`PlanError`] when a step's result would be too large.
    pub fn new(steps: Vec<Settings>, source: Size) -> Result<Self, PlanError> {
        let mut sizes = vec![source];
        let mut geometry = Vec::with_capacity(steps.len());
        for (i, settings) in steps.iter().enumerate() {
            let g = settings.step.geometry(sizes[i]);
            let size = g.map_or(sizes[i], |g| g.size);
            if size.area() > LIMIT.max(source.area()) {
                return Err(PlanError::TooLarge { line: i + 1, width: size.width, height: size.height });
            }
            sizes.push(size);
            geometry.push(g);
        }
        let mut to_output = vec![1.0; steps.len() + 1];
        for i in (0..steps.len()).rev() {
            to_output[i] = to_output[i + 1] * geometry[i].map_or(1.0, |g| g.map.magnification());
        }
        Ok(Self { steps, geometry, sizes, to_output, reduce: true })
    }

    /// The same plan, but never with a reduced picture at full scale; for measuring what that changes.
    pub fn at_full_detail(mut self) -> Self {
        self.reduce = false;
        self
    }

    /// Size of the output at full scale.
    pub fn size(&self) -> Size {
        self.sizes[self.steps.len()]
    }

    /// Size before the step `index`, or after all for the number of steps.
    pub fn size_before(&self, index: usize) -> Size {
        self.sizes[index.min(self.steps.len())]
    }

    /// Where the step `index` stands, for a part that runs at `scale`.
    pub fn place(&self, index: usize, scale: f64) -> Place {
        Place { size: self.sizes[index], output: self.size(), to_output: self.to_output[index], scale }
    }

    /// Bytes a render at full scale holds at a time beyond the decoded picture, for `threads` tiles in flight
    /// and `sample` bytes per output sample.
    pub fn working_bytes(&self, threads: usize, sample: usize) -> u64 {
        self.size().area() * 3 * sample as u64 + threads as u64 * 24_000_000
    }

    /// Lowers the plan for `scale` (0 < scale ≤ 1; 1 is the final file).
    pub fn program(&self, scale: f64) -> Program {
        let scale = scale.clamp(1e-4, 1.0);
        let mut parts: Vec<Stretch> = vec![(None, Vec::new())];
        for (i, g) in self.geometry.iter().enumerate() {
            match (g, parts.last_mut()) {
                (Some(g), Some((Some((map, size)), rest))) if rest.is_empty() => {
                    *map = g.map.then(map);
                    *size = g.size;
                }
                (Some(g), _) => parts.push((Some((g.map, g.size)), Vec::new())),
                (None, Some((_, rest))) => {
                    let place = self.place(i, 1.0);
                    if !self.steps[i].step.ops(&place).is_empty() && self.steps[i].mix > 0.0 {
                        rest.push(i);
                    }
                }
                (None, None) => {}
            }
        }
        // A mapping only needed for the scale stands first, so that everything runs at the reduced size.
        if parts.len() == 1 && scale < 1.0 {
            let rest = std::mem::take(&mut parts[0].1);
            parts.push((Some((Affine::IDENTITY, self.sizes[0])), rest));
        }
        // Backwards: the scale each part runs at.
        let mut scales = vec![scale; parts.len()];
        for k in (1..parts.len()).rev() {
            let (sx, sy) = parts[k].0.as_ref().map_or((1.0, 1.0), |(map, _)| map.steps());
            let whole = |i: &usize| self.steps[*i].step.needs_detail();
            let fixed = (!self.reduce || parts[k - 1].1.iter().any(whole)) && scale == 1.0;
            let room = sx.min(sy) / scales[k] / LEFT_OVER;
            let level = if fixed || room < 2.0 { 0 } else { room.log2().floor() as i32 };
            scales[k - 1] = 0.5f64.powi(level.min(5));
        }
        let mut program = Program {
            source: self.sizes[0],
            level: (-scales[0].log2()).round() as u8,
            nodes: Vec::new(),
            size: self.sizes[0].scaled(scales[0]),
        };
        for (k, (map, rest)) in parts.into_iter().enumerate() {
            if let Some((map, full)) = map {
                let (to, from) = (scales[k], scales[k - 1]);
                let scaled = Affine::scale(1.0 / to, 1.0 / to).then(&map).then(&Affine::scale(from, from));
                program.map(scaled, full.scaled(to));
            }
            program.steps(self, &rest, scales[k]);
        }
        program
    }
}

enum Node {
    Point(PointProgram),
    Map(Resampler),
    Shift(i64, i64),
    Area(Box<dyn AreaOp>, f32),
    Mark(Box<dyn MarkOp>, f32),
}

/// A plan lowered for one scale: renders any region of its output.
pub struct Program {
    source: Size,
    level: u8,
    /// Each with the size of its input.
    nodes: Vec<(Node, Size)>,
    size: Size,
}

/// Encoded samples, interleaved RGB.
#[derive(Clone, Debug, PartialEq)]
pub enum Pixels {
    /// 0 ..= 255.
    U8(Vec<u8>),
    /// 0 ..= 65535.
    U16(Vec<u16>),
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
const TILE: (i64, i64) = (192, 96);

impl Program {
    fn map(&mut self, map: Affine, size: Size) {
        let node = match map.as_shift() {
            Some((0, 0)) if size == self.size => return,
            Some((dx, dy))
                if dx >= 0
                    && dy >= 0
                    && size.rect().moved(dx, dy).within(self.size.rect()).area() == size.rect().area() =>
            {
                Node::Shift(dx, dy)
            }
            _ => Node::Map(Resampler::new(map, self.size)),
        };
        self.nodes.push((node, self.size));
        self.size = size;
    }

    fn steps(&mut self, plan: &Plan, rest: &[usize], scale: f64) {
        let mut points: Vec<PointOp> = Vec::new();
        for &i in rest {
            let mix = plan.steps[i].mix;
            for op in plan.steps[i].step.ops(&plan.place(i, scale)) {
                match op {
                    Op::Point(p) => points.push(p.mixed(mix)),
                    other => {
                        self.flush(&mut points);
                        let node = match other {
                            Op::Area(a) => Node::Area(a, mix),
                            Op::Mark(m) => Node::Mark(m, mix),
                            Op::Point(_) => continue,
                        };
                        self.nodes.push((node, self.size));
                    }
                }
            }
        }
        self.flush(&mut points);
    }

    fn flush(&mut self, points: &mut Vec<PointOp>) {
        let program = PointProgram::new(std::mem::take(points));
        if !program.is_empty() {
            self.nodes.push((Node::Point(program), self.size));
        }
    }

    /// Size of the whole output at this scale.
    pub fn size(&self) -> Size {
        self.size
    }

    /// The reduction asked of the source: `1 / 2^level`.
    pub fn level(&self) -> u8 {
        self.level
    }

    /// Renders `region` of the output, 8 bits a sample.
    ///
    /// # Errors
    /// The source's, when the picture cannot be decoded.
    pub fn render(
        &self,
        source: &dyn Source,
        region: Rect,
        profile: OutputProfile,
    ) -> Result<Encoded, SourceError> {
        let colour = profile.colour();
        self.rendered(
            source,
            region,
            |pixels, out: &mut [u8]| point::encode_8(colour, pixels, out),
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
        profile: OutputProfile,
    ) -> Result<Encoded, SourceError> {
        let colour = profile.colour();
        self.rendered(
            source,
            region,
            |pixels, out: &mut [u16]| point::encode_16(colour, pixels, out),
            Pixels::U16,
        )
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
        let keep = |pixels: &[Pixel], out: &mut [f32]| {
            for (p, o) in pixels.iter().zip(out.as_chunks_mut::<3>().0) {
                *o = [p[0], p[1], p[2]];
            }
        };
        let mut all = Vec::new();
        let region = region.within(self.size.rect());
        let size = self.tiles(source, region, keep, &mut all)?;
        Ok((size, all.as_chunks::<3>().0.to_vec()))
    }

    fn rendered<T: Copy + Default + Send>(
        &self,
        source: &dyn Source,
        region: Rect,
        encode: impl Fn(&[Pixel], &mut [T]) + Sync,
        wrap: impl Fn(Vec<T>) -> Pixels,
    ) -> Result<Encoded, SourceError> {
        let mut samples = Vec::new();
        let size = self.tiles(source, region.within(self.size.rect()), encode, &mut samples)?;
        Ok(Encoded { size, pixels: wrap(samples) })
    }

    fn tiles<T: Copy + Default + Send>(
        &self,
        source: &dyn Source,
        region: Rect,
        encode: impl Fn(&[Pixel], &mut [T]) + Sync,
        samples: &mut Vec<T>,
    ) -> Result<Size, SourceError> {
        if region.is_empty() {
            return Err(SourceError("the region lies outside the picture".into()));
        }
        if source.size() != self.source {
            return Err(SourceError("the picture has changed its size since the plan was made".into()));
        }
        // A source that cannot reduce so far delivers less reduced pixels; they are halved here.
        let picture = reduced(source, self.level)?;
        let width = region.width as usize * 3;
        samples.resize(width * region.height as usize, T::default());
        samples.par_chunks_mut(width * TILE.1 as usize).enumerate().for_each_init(
            Buffers::default,
            |buffers, (i, band)| {
                let y = region.y + i as i64 * TILE.1;
                let band_rect = Rect::new(region.x, y, region.width, (band.len() / width) as i64);
                let mut row = vec![T::default(); TILE.0 as usize * 3];
                for tile in band_rect.tiles(TILE.0, TILE.1) {
                    let pixels = self.tile(self.nodes.len(), &picture, tile, buffers);
                    let wide = tile.width as usize;
                    for (j, line) in pixels.chunks(wide).enumerate() {
                        encode(line, &mut row[..wide * 3]);
                        let at = j * width + (tile.x - region.x) as usize * 3;
                        band[at..at + wide * 3].copy_from_slice(&row[..wide * 3]);
                    }
                    buffers.give(pixels);
                }
            },
        );
        Ok(Size::new(region.width as u32, region.height as u32))
    }

    /// The output of the first `count` nodes over `rect`.
    fn tile(&self, count: usize, picture: &Picture, rect: Rect, buffers: &mut Buffers) -> Vec<Pixel> {
        let Some((node, size)) = count.checked_sub(1).map(|i| &self.nodes[i]) else {
            let mut out = buffers.take();
            PointProgram::new(Vec::new()).read(picture, rect, &mut out);
            return out;
        };
        match node {
            Node::Point(program) if count == 1 => {
                let mut out = buffers.take();
                program.read(picture, rect, &mut out);
                out
            }
            Node::Point(program) => {
                let mut pixels = self.tile(count - 1, picture, rect, buffers);
                program.run(&mut pixels);
                pixels
            }
            Node::Shift(dx, dy) => self.tile(count - 1, picture, rect.moved(*dx, *dy), buffers),
            Node::Map(resampler) => {
                let have = resampler.needs(rect);
                let input = self.tile(count - 1, picture, have, buffers);
                let mut out = buffers.take();
                resampler.run(&input, have, rect, &mut out);
                buffers.give(input);
                out
            }
            Node::Area(op, mix) => {
                let have = rect.grown(op.halo()).within(size.rect());
                let input = self.tile(count - 1, picture, have, buffers);
                let mut out = buffers.take();
                op.run(&input, have, rect, &mut out);
                if *mix < 1.0 {
                    blend(&input, have, rect, &mut out, *mix);
                }
                buffers.give(input);
                out
            }
            Node::Mark(op, mix) => {
                let mut pixels = self.tile(count - 1, picture, rect, buffers);
                if !op.bounds().within(rect).is_empty() {
                    op.run(rect, &mut pixels, *mix);
                }
                pixels
            }
        }
    }
}

/// Mixes a step's result with its input.
fn blend(input: &[Pixel], have: Rect, rect: Rect, out: &mut [Pixel], mix: f32) {
    for (j, row) in out.chunks_mut(rect.width as usize).enumerate() {
        let at = ((rect.y + j as i64 - have.y) * have.width + rect.x - have.x) as usize;
        for (o, i) in row.iter_mut().zip(&input[at..]) {
            for c in 0..3 {
                o[c] = o[c] * mix + i[c] * (1.0 - mix);
            }
        }
    }
}

fn reduced(source: &dyn Source, level: u8) -> Result<Arc<Picture>, SourceError> {
    let can = level.min(source.max_level());
    let mut picture = source.level(can)?;
    for _ in can..level {
        picture = Arc::new(picture.halved());
    }
    Ok(picture)
}

/// Tile buffers of one thread, used again and again.
#[derive(Default)]
struct Buffers(Vec<Vec<Pixel>>);

impl Buffers {
    fn take(&mut self) -> Vec<Pixel> {
        self.0.pop().unwrap_or_default()
    }
    fn give(&mut self, buffer: Vec<Pixel>) {
        self.0.push(buffer);
    }
}
