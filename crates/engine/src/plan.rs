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

use crate::colour::space::OutputColour;
use crate::geometry::{Affine, Rect, Size};
use crate::image::picture::{Picture, Source, SourceError};
use crate::ops::mask::{Area, Mask};
use crate::ops::pointwise::{self, CHUNK, Masked, Pixel, Planes, PointOp, PointProgram};
use crate::ops::resample::Resampler;
use crate::ops::warp::Warp;
use crate::ops::warp_resampler::WarpResampler;
use crate::pace;
use crate::step::{AreaOp, EnlargeOp, Geometry, MarkOp, Op, Place, Step, View, Wants, WholeOp};
use rayon::prelude::*;
use std::sync::{Arc, Mutex};

/// A step with what the recipe adds around it.
#[derive(Clone, Debug)]
pub struct Settings {
    /// The step.
    pub step: Arc<dyn Step>,
    /// How much of its result replaces its input, 0 ..= 1. Geometric steps are not mixed.
    pub mix: f32,
    /// Where it works; everywhere without one. Geometric steps have none.
    pub area: Option<Arc<Area>>,
    /// Neighbours with the same number are mixed with their input together, by that share. Steps that move the picture,
    /// or reach far, are not.
    pub block: Option<(u32, f32)>,
}

impl From<Box<dyn Step>> for Settings {
    /// All of the step, everywhere.
    fn from(step: Box<dyn Step>) -> Self {
        Self { step: Arc::from(step), mix: 1.0, area: None, block: None }
    }
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
    /// The picture cannot be decoded.
    #[error("{0}")]
    Source(String),
}

/// Most pixels a step may produce.
pub const LIMIT: u64 = 400_000_000;

/// A part runs reduced only if so much reduction is left to its mapping's kernel. Measured by
/// `benches/speed`: below this, the reduced decoder's own filter shows (under 45 dB).
const LEFT_OVER: f64 = 1.1;

/// What a part of a plan begins with.
enum Start {
    /// The picture as it comes.
    Source,
    /// A mapping, with its output size, and the last of the steps joined in it.
    Map(Warp, Size, usize),
    /// The step of that number enlarges.
    Enlarge(usize),
}

/// A part of a plan: what it begins with, and the steps after it.
type Stretch = (Start, Vec<usize>);

/// Long edge of the reduced picture that measured steps are shown, in pixels.
const OVERVIEW: f64 = 640.0;

/// Sides, and number each way, of the parts that measured steps are shown at full size.
const DETAIL: (i64, i64) = (128, 8);

/// Steps placed on one picture.
pub struct Plan {
    steps: Vec<Settings>,
    geometry: Vec<Option<Geometry>>,
    /// Size before each step, and after the last.
    sizes: Vec<Size>,
    to_output: Vec<f64>,
    reduce: bool,
    /// How much reduction is left to a mapping's kernel where a part before it runs reduced.
    left_over: f64,
    seed: u64,
    /// The source's state when the plan was made.
    state: u64,
    cut: Option<usize>,
}

/// Remembers what measured steps found, so that a change behind them does not measure again.
pub trait Memory: Sync {
    /// What was kept under a key.
    fn recall(&self, key: u64) -> Option<Arc<dyn Step>>;
    /// Keeps a measured step.
    fn keep(&self, key: u64, step: Arc<dyn Step>);
    /// What a step was shown, kept under a key.
    fn recall_views(&self, key: u64) -> Option<Arc<Vec<View>>>;
    /// Keeps what a step was shown.
    fn keep_views(&self, key: u64, views: Arc<Vec<View>>);
}

/// What stands before a plan's cut, over a part of the picture.
#[derive(Clone)]
pub struct Kept {
    key: u64,
    rect: Rect,
    pixels: Arc<Vec<[f32; 3]>>,
}

/// A number for anything that can be written out; equal texts, equal numbers.
fn key_of(what: &dyn std::fmt::Debug) -> u64 {
    use std::hash::{DefaultHasher, Hasher};
    struct Through(DefaultHasher);
    impl std::fmt::Write for Through {
        fn write_str(&mut self, text: &str) -> std::fmt::Result {
            self.0.write(text.as_bytes());
            Ok(())
        }
    }
    let mut through = Through(DefaultHasher::new());
    // Writing into a hash does not fail.
    let _ = std::fmt::Write::write_fmt(&mut through, format_args!("{what:?}"));
    through.0.finish()
}

/// Steps with everything that decides what they do; what was measured follows from that and the picture.
fn written(steps: &[Settings]) -> Vec<String> {
    let one = |s: &Settings| {
        let area = s.area.as_deref();
        format!("{} {} {} {area:?} {:?}", s.step.sentence(), s.step.values(), s.mix, s.block)
    };
    steps.iter().map(one).collect()
}

impl Plan {
    /// Places `steps` on a picture, and lets those that need it measure what they are given there.
    ///
    /// # Errors
    /// [`PlanError`] when a step's result would be too large, or the picture cannot be decoded.
    pub fn for_picture(steps: Vec<Settings>, source: &dyn Source) -> Result<Self, PlanError> {
        Self::remembering(steps, source, None)
    }

    /// As [`for_picture`](Self::for_picture), measuring only what `memory` does not know.
    ///
    /// # Errors
    /// As [`for_picture`](Self::for_picture).
    pub fn remembering(
        mut steps: Vec<Settings>,
        source: &dyn Source,
        memory: Option<&dyn Memory>,
    ) -> Result<Self, PlanError> {
        for i in 0..steps.len() {
            let wants = steps[i].step.wants();
            if wants == Wants::Nothing {
                continue;
            }
            let key = key_of(&(written(&steps[..=i]), source.seed(), source.state(), source.size()));
            if let Some(known) = memory.and_then(|m| m.recall(key)) {
                steps[i].step = known;
                continue;
            }
            // What it is shown does not depend on its own values; what it makes of it may not either.
            let seen = key_of(&(written(&steps[..i]), &wants, source.seed(), source.state(), source.size()));
            if let Some(like) = memory.and_then(|m| m.recall(seen)).and_then(|m| steps[i].step.like(&*m)) {
                steps[i].step = Arc::from(like);
                continue;
            }
            let views = match memory.and_then(|m| m.recall_views(seen)) {
                Some(known) => known,
                None => {
                    let before = Self::new(steps[..i].to_vec(), source.size())?;
                    let views = before.views(source, &wants).map_err(|e| PlanError::Source(e.0))?;
                    let views = Arc::new(views);
                    if let Some(memory) = memory {
                        memory.keep_views(seen, views.clone());
                    }
                    views
                }
            };
            if let Some(step) = steps[i].step.measured(&views) {
                steps[i].step = Arc::from(step);
                if let Some(memory) = memory {
                    let step = &steps[i].step;
                    memory.keep(if step.as_any().is_some() { seen } else { key }, step.clone());
                }
            }
        }
        let mut plan = Self::new(steps, source.size())?;
        plan.seed = source.seed();
        plan.state = source.state();
        Ok(plan)
    }

    /// What a step behind this plan is shown.
    fn views(&self, source: &dyn Source, wants: &Wants) -> Result<Vec<View>, SourceError> {
        let view = |program: &Program, rect: Rect| {
            program.render_working(source, rect).map(|(size, pixels)| View { size, pixels, around: None })
        };
        if *wants == Wants::Overview {
            let program = self.program(OVERVIEW / f64::from(self.size().long_edge()));
            return Ok(vec![view(&program, program.size().rect())?]);
        }
        let program = self.program(1.0);
        let size = program.size();
        if let Wants::Around(spots, reach) = wants {
            let one = |spot: &[f64; 3]| {
                let around = Wants::around(*spot, *reach, size, source.orientation());
                view(&program, around.2).map(|v| View { around: Some(around), ..v })
            };
            return spots.iter().map(one).collect();
        }
        let (side, count) = DETAIL;
        let starts = |length: u32| {
            let length = i64::from(length);
            let many = (length / side).clamp(1, count);
            let room = (length - side).max(0);
            (0..many).map(move |i| if many == 1 { room / 2 } else { room * i / (many - 1) })
        };
        let mut all = Vec::new();
        for y in starts(size.height) {
            for x in starts(size.width) {
                all.push(view(&program, Rect::new(x, y, side, side).within(size.rect()))?);
            }
        }
        Ok(all)
    }

    /// The colours the recipe itself says its results leave in: the last word of its steps.
    pub fn colours(&self) -> Option<Arc<OutputColour>> {
        self.steps.iter().rev().find_map(|s| s.step.leaves_in())
    }

    /// The steps, those measured knowing what was found.
    pub fn steps(&self) -> &[Settings] {
        &self.steps
    }

    /// Places `steps` on a picture of (upright) size `source`; steps that measure do nothing. For sizes and names;
    /// pixels are made by [`for_picture`](Self::for_picture).
    ///
    /// # Errors
    /// [`PlanError`] when a step's result would be too large.
    pub fn new(steps: Vec<Settings>, source: Size) -> Result<Self, PlanError> {
        let mut sizes = vec![source];
        let mut geometry = Vec::with_capacity(steps.len());
        for (i, settings) in steps.iter().enumerate() {
            let g = settings.step.geometry(sizes[i]);
            let size = g.as_ref().map_or(sizes[i], |g| g.size);
            if size.area() > LIMIT.max(source.area()) {
                return Err(PlanError::TooLarge { line: i + 1, width: size.width, height: size.height });
            }
            sizes.push(size);
            geometry.push(g);
        }
        let mut to_output = vec![1.0; steps.len() + 1];
        for i in (0..steps.len()).rev() {
            let scale = |g: &Geometry| g.map.magnification(f64::from(g.size.width), f64::from(g.size.height));
            to_output[i] = to_output[i + 1] * geometry[i].as_ref().map_or(1.0, scale);
        }
        Ok(Self {
            steps,
            geometry,
            sizes,
            to_output,
            reduce: true,
            left_over: LEFT_OVER,
            seed: 0,
            state: 0,
            cut: None,
        })
    }

    /// The same plan, which lets parts run reduced as soon as nothing is enlarged again: quicker, and a little softer in the
    /// finest detail. For frames of a clip, whose codec keeps less than that.
    pub fn reducing_sooner(mut self) -> Self {
        self.left_over = 1.0;
        self
    }

    /// The same plan, but never with a reduced picture at full scale; for measuring what that changes.
    pub fn at_full_detail(mut self) -> Self {
        self.reduce = false;
        self
    }

    /// The same plan, whose programs can keep what stands before the step `line` (see [`Program::render_keeping`]). Joined
    /// mappings and blocks are not cut through: less is kept then.
    pub fn cut_before(mut self, line: usize) -> Self {
        self.cut = Some(line);
        self
    }

    /// A number for everything that stands before the cut, at a scale, of this picture.
    fn key(&self, cut: usize, scales: &[f64]) -> u64 {
        let facts = (&self.sizes, &self.to_output, self.seed, self.state, self.reduce);
        key_of(&(written(&self.steps[..cut.min(self.steps.len())]), facts, scales))
    }

    /// Size of the output at full scale.
    pub fn size(&self) -> Size {
        self.sizes[self.steps.len()]
    }

    /// Size before the step `index`, or after all for the number of steps.
    pub fn size_before(&self, index: usize) -> Size {
        self.sizes[index.min(self.steps.len())]
    }

    /// The point of the source that a point of the output comes from, both in pixels at full scale.
    pub fn source_point(&self, (x, y): (f64, f64)) -> (f64, f64) {
        self.geometry.iter().rev().flatten().fold((x, y), |(x, y), g| g.map.at(x, y, 1))
    }

    /// The point of the output that comes from a point of the source: the inverse of [`source_point`](Self::source_point)
    /// by Newton's method, begun at the same share of the sides. Nothing where none is found.
    pub fn output_point(&self, (x, y): (f64, f64)) -> Option<(f64, f64)> {
        let (size, from) = (self.size(), self.sizes[0]);
        let share = |v: f64, of: u32, to: u32| v / f64::from(of) * f64::from(to);
        let mut at = (share(x, from.width, size.width), share(y, from.height, size.height));
        for _ in 0..30 {
            let found = self.source_point(at);
            let (ex, ey) = (x - found.0, y - found.1);
            if ex.hypot(ey) < 1e-3 {
                return Some(at);
            }
            let (right, down) =
                (self.source_point((at.0 + 1.0, at.1)), self.source_point((at.0, at.1 + 1.0)));
            let (a, c) = (right.0 - found.0, right.1 - found.1);
            let (b, d) = (down.0 - found.0, down.1 - found.1);
            let det = a * d - b * c;
            if det.abs() < 1e-12 {
                return None;
            }
            at = (at.0 + (d * ex - b * ey) / det, at.1 + (a * ey - c * ex) / det);
        }
        None
    }

    /// Pixels of the source for a pixel of the output around a point, along the rows.
    pub fn source_step(&self, (x, y): (f64, f64)) -> f64 {
        let (a, b) = (self.source_point((x - 0.5, y)), self.source_point((x + 0.5, y)));
        (b.0 - a.0).hypot(b.1 - a.1)
    }

    /// Where the step `index` stands, for a part that runs at `scale`.
    pub fn place(&self, index: usize, scale: f64) -> Place {
        Place {
            size: self.sizes[index],
            output: self.size(),
            to_output: self.to_output[index],
            scale,
            seed: self.seed,
        }
    }

    /// Where the work of the step `index` stands: behind its own mapping, if it has one.
    fn work_place(&self, index: usize, scale: f64) -> Place {
        let at = index + usize::from(self.geometry[index].is_some());
        Place { size: self.sizes[at], to_output: self.to_output[at], ..self.place(index, scale) }
    }

    /// Bytes a render at full scale holds at a time beyond the decoded picture, for `threads` tiles in flight
    /// and `sample` bytes per output sample.
    pub fn working_bytes(&self, threads: usize, sample: usize) -> u64 {
        let strips: u64 = (0..self.steps.len())
            .filter(|i| {
                let ops = self.steps[*i].step.ops(&self.work_place(*i, 1.0));
                ops.iter().any(|op| matches!(op, Op::Whole(_)))
            })
            // Its result, and per strip: input, planes, sums and weights.
            .map(|i| self.sizes[i].area() * 12 + u64::from(self.sizes[i].width) * STRIP as u64 * 96)
            .sum();
        self.size().area() * 3 * sample as u64 + threads as u64 * 24_000_000 + strips
    }

    /// The scale each part runs at, found backwards from the output's.
    fn scales(&self, parts: &[Stretch], scale: f64) -> Vec<f64> {
        let mut scales = vec![scale; parts.len()];
        for k in (1..parts.len()).rev() {
            let (map, size) = match &parts[k].0 {
                Start::Enlarge(_) if scales[k] == 1.0 => {
                    scales[k - 1] = 1.0;
                    continue;
                }
                start => self.mapping(start),
            };
            let (sx, sy) = map.least_steps(f64::from(size.width), f64::from(size.height));
            let whole = |i: &usize| self.steps[*i].step.needs_detail();
            let fixed = (!self.reduce || parts[k - 1].1.iter().any(whole)) && scale == 1.0;
            let room = sx.min(sy) / scales[k] / self.left_over;
            let level = if fixed || room < 2.0 { 0 } else { room.log2().floor() as i32 };
            scales[k - 1] = 0.5f64.powi(level.min(5));
        }
        scales
    }

    /// What a render at full scale has to do: the reduction asked of the source (`1 / 2^level`), and the pixels that each
    /// step computes, in the order of the steps. Neighbouring mappings are one, counted at the last of them.
    pub fn workload(&self) -> (u8, Vec<f64>) {
        // What is still to be measured is expected to have something to do.
        let works = |i: usize| {
            let step = &self.steps[i].step;
            step.wants() != Wants::Nothing || step.works(&self.work_place(i, 1.0))
        };
        let parts = self.parts_with(1.0, works);
        let scales = self.scales(&parts, 1.0);
        let mut pixels = vec![0.0; self.steps.len()];
        for ((start, rest), scale) in parts.iter().zip(&scales) {
            let area = |size: Size| size.area() as f64 * scale * scale;
            if let Start::Map(_, size, line) = start {
                pixels[*line] += area(*size);
            }
            if let Start::Enlarge(line) = start {
                pixels[*line] += area(self.sizes[line + 1]);
            }
            for i in rest {
                pixels[*i] += area(self.sizes[i + usize::from(self.geometry[*i].is_some())]);
            }
        }
        ((-scales[0].log2()).round() as u8, pixels)
    }

    /// Lowers the plan for `scale` (0 < scale ≤ 1; 1 is the final file).
    pub fn program(&self, scale: f64) -> Program {
        let scale = scale.clamp(1e-4, 1.0);
        let parts = self.parts(scale);
        let scales = self.scales(&parts, scale);
        let mut program = Program {
            source: self.sizes[0],
            level: (-scales[0].log2()).round() as u8,
            nodes: Vec::new(),
            size: self.sizes[0].scaled(scales[0]),
            cut: None,
            key: self.key(self.cut.unwrap_or(0), &scales),
        };
        for (k, (start, rest)) in parts.into_iter().enumerate() {
            if let Start::Map(_, _, line) | Start::Enlarge(line) = &start {
                program.passes(self, *line);
            }
            match start {
                Start::Source => {}
                Start::Enlarge(i) if scales[k] == 1.0 => program.enlarge(self.steps[i].step.enlarger()),
                start => {
                    let (map, full) = self.mapping(&start);
                    let (to, from) = (scales[k], scales[k - 1]);
                    let scaled = Warp::from(Affine::scale(1.0 / to, 1.0 / to)).then(&map);
                    let map = scaled.then(&Affine::scale(from, from).into());
                    program.map(map, full.scaled(to), self.left_over <= 1.0);
                }
            }
            program.steps(self, &rest, scales[k]);
        }
        program
    }

    /// The mapping a part begins with, at full scale, and its output size.
    fn mapping(&self, start: &Start) -> (Warp, Size) {
        match start {
            Start::Map(map, size, _) => (map.clone(), *size),
            Start::Enlarge(i) => match &self.geometry[*i] {
                Some(g) => (g.map.clone(), g.size),
                None => (Affine::IDENTITY.into(), self.sizes[*i]),
            },
            Start::Source => (Affine::IDENTITY.into(), self.sizes[0]),
        }
    }

    /// The plan cut at its mappings, neighbouring ones joined.
    fn parts(&self, scale: f64) -> Vec<Stretch> {
        self.parts_with(scale, |i| self.steps[i].step.works(&self.work_place(i, 1.0)))
    }

    /// As [`parts`](Self::parts), with those steps that `works` names.
    fn parts_with(&self, scale: f64, works: impl Fn(usize) -> bool) -> Vec<Stretch> {
        let mut parts: Vec<Stretch> = vec![(Start::Source, Vec::new())];
        for (i, g) in self.geometry.iter().enumerate() {
            match (g, parts.last_mut()) {
                (None, _) => {}
                _ if self.steps[i].step.enlarger().is_some() => parts.push((Start::Enlarge(i), Vec::new())),
                (Some(g), Some((Start::Map(map, size, last), rest))) if rest.is_empty() => {
                    *map = g.map.then(map);
                    *size = g.size;
                    *last = i;
                }
                (Some(g), _) => parts.push((Start::Map(g.map.clone(), g.size, i), Vec::new())),
            }
            let does = self.steps[i].mix > 0.0 && works(i);
            if let Some((_, rest)) = parts.last_mut().filter(|_| does) {
                rest.push(i);
            }
        }
        // A mapping only needed for the scale stands first, so that everything runs at the reduced size.
        if parts.len() == 1 && scale < 1.0 {
            let rest = std::mem::take(&mut parts[0].1);
            parts.push((Start::Map(Affine::IDENTITY.into(), self.sizes[0], 0), rest));
        }
        parts
    }
}

enum Node {
    Point(PointProgram),
    Map(Resampler),
    Warp(WarpResampler),
    Shift(i64, i64),
    Enlarge(Box<dyn EnlargeOp>),
    Area(Box<dyn AreaOp>),
    Mark(Box<dyn MarkOp>),
    Group(Group),
    Whole(Whole),
}

/// Work that runs before everything after it.
struct Whole {
    op: Box<dyn WholeOp>,
    mask: Option<Arc<Mask>>,
    mix: f32,
}

/// Work held back to an area and a share.
struct Group {
    nodes: Vec<(Node, Size)>,
    halo: i64,
    mask: Option<Arc<Mask>>,
    mix: f32,
}

/// A plan lowered for one scale: renders any region of its output.
pub struct Program {
    source: Size,
    level: u8,
    /// Each with the size of its input.
    nodes: Vec<(Node, Size)>,
    size: Size,
    /// The nodes before the plan's cut, and a number for them.
    cut: Option<usize>,
    key: u64,
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
const TILE: (i64, i64) = (192, 96);

/// Halo from which on larger tiles cost less than what is computed twice.
const WIDE_HALO: i64 = 12;

/// Rows of far-reaching work done at a time: what is held in memory beside its result.
const STRIP: i64 = 1024;

/// Sides of a tile: larger where much around it is needed.
fn tile_sides(nodes: &[(Node, Size)]) -> (i64, i64) {
    let halo = |(node, _): &(Node, Size)| match node {
        Node::Area(op) => op.halo(),
        Node::Enlarge(op) => op.halo() * op.factor(),
        Node::Group(group) => group.halo,
        _ => 0,
    };
    let most = nodes.iter().map(halo).max().unwrap_or(0);
    if most <= WIDE_HALO { TILE } else { ((most * 10).clamp(256, 512), (most * 10).clamp(256, 512)) }
}

impl Program {
    fn map(&mut self, warp: Warp, size: Size, quick: bool) {
        let node = match warp.as_affine() {
            None => Node::Warp(WarpResampler::new(warp, self.size, size)),
            Some(map) => match map.as_shift() {
                Some((0, 0)) if size == self.size => return,
                Some((dx, dy))
                    if dx >= 0
                        && dy >= 0
                        && size.rect().moved(dx, dy).within(self.size.rect()).area()
                            == size.rect().area() =>
                {
                    Node::Shift(dx, dy)
                }
                _ if quick => Node::Map(Resampler::quick(*map, self.size)),
                _ => Node::Map(Resampler::new(*map, self.size)),
            },
        };
        self.nodes.push((node, self.size));
        self.size = size;
    }

    fn enlarge(&mut self, op: Option<Box<dyn EnlargeOp>>) {
        let Some(op) = op else { return };
        let factor = op.factor() as u32;
        let size = self.size;
        self.nodes.push((Node::Enlarge(op), size));
        self.size = Size::new(size.width * factor, size.height * factor);
    }

    /// The steps `rest`, one after another; those of a block that is mixed are held together.
    fn steps(&mut self, plan: &Plan, rest: &[usize], scale: f64) {
        for together in rest.chunk_by(|a, b| plan.steps[*a].block == plan.steps[*b].block) {
            if plan.steps[together[0]].block.is_some() {
                self.passes(plan, together[together.len() - 1]);
            }
            let Some((_, mix)) = plan.steps[together[0]].block.filter(|b| b.1 < 1.0) else {
                self.alone(plan, together, scale);
                continue;
            };
            let before = std::mem::take(&mut self.nodes);
            let cut = self.cut;
            self.alone(plan, together, scale);
            self.cut = cut;
            let nodes = std::mem::replace(&mut self.nodes, before);
            self.group(nodes, None, mix);
        }
    }

    /// The plan's cut lies here, if the work that follows belongs to the step `line` behind it.
    fn passes(&mut self, plan: &Plan, line: usize) {
        if self.cut.is_none() && plan.cut.is_some_and(|cut| line >= cut) {
            self.cut = Some(self.nodes.len());
        }
    }

    /// Adds nodes whose result is held back to an area and a share.
    fn group(&mut self, nodes: Vec<(Node, Size)>, mask: Option<Arc<Mask>>, mix: f32) {
        let halo = nodes
            .iter()
            .map(|(node, _)| match node {
                Node::Area(a) => a.halo(),
                Node::Group(g) => g.halo,
                _ => 0,
            })
            .sum();
        self.nodes.push((Node::Group(Group { nodes, halo, mask, mix }), self.size));
    }

    fn alone(&mut self, plan: &Plan, rest: &[usize], scale: f64) {
        let mut points: Vec<PointOp> = Vec::new();
        for &i in rest {
            if self.cut.is_none() && plan.cut.is_some_and(|cut| i >= cut) {
                self.flush(&mut points);
                self.passes(plan, i);
            }
            let settings = &plan.steps[i];
            let mix = settings.mix;
            let mut ops = settings.step.ops(&plan.work_place(i, scale));
            let mask = settings.area.as_ref().map(|a| Mask::new(a, plan.sizes[i], scale));
            let ops = match ops.pop() {
                Some(Op::Whole(op)) => {
                    self.flush(&mut points);
                    self.nodes.push((Node::Whole(Whole { op, mask, mix }), self.size));
                    continue;
                }
                last => ops.into_iter().chain(last).collect::<Vec<Op>>(),
            };
            let alone = ops.iter().all(|op| matches!(op, Op::Point(_)));
            if alone && (mask.is_some() || (mix < 1.0 && ops.len() > 1)) {
                let inner = PointProgram::new(ops.into_iter().filter_map(Op::point).collect());
                points.push(PointOp::Pixels(Arc::new(Masked { inner, mask, mix })));
            } else if alone {
                points.extend(ops.into_iter().filter_map(Op::point).map(|p| p.mixed(mix)));
            } else if mask.is_none() && mix >= 1.0 {
                self.nodes_of(ops, &mut points);
            } else {
                self.flush(&mut points);
                let before = std::mem::take(&mut self.nodes);
                self.nodes_of(ops, &mut points);
                self.flush(&mut points);
                let nodes = std::mem::replace(&mut self.nodes, before);
                self.group(nodes, mask, mix);
            }
        }
        self.flush(&mut points);
    }

    fn nodes_of(&mut self, ops: Vec<Op>, points: &mut Vec<PointOp>) {
        for op in ops {
            let node = match op {
                Op::Point(p) => {
                    points.push(p);
                    continue;
                }
                Op::Area(a) => Node::Area(a),
                Op::Mark(m) => Node::Mark(m),
                Op::Whole(op) => Node::Whole(Whole { op, mask: None, mix: 1.0 }),
            };
            self.flush(points);
            self.nodes.push((node, self.size));
        }
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
        kept: &Mutex<Option<Kept>>,
    ) -> Result<Encoded, SourceError> {
        let far = |nodes: &[(Node, Size)]| nodes.iter().any(|(node, _)| matches!(node, Node::Whole(_)));
        let Some(cut) = self.cut.filter(|cut| *cut > 0 && !far(&self.nodes[*cut..])) else {
            return self.render(source, region, colour);
        };
        let region = region.within(self.size.rect());
        let rect = needs(&self.nodes[cut..], region);
        let held = kept.lock().unwrap_or_else(|p| p.into_inner()).clone();
        let fits = |k: &Kept| k.key == self.key && rect.within(k.rect) == rect;
        let kept_now = match held.filter(fits) {
            Some(held) => held,
            None => {
                let input = self.checked(source, region)?;
                let pixels = Arc::new(self.layer(&input, cut, rect));
                wanted()?;
                let fresh = Kept { key: self.key, rect, pixels };
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

    fn rendered<T: Copy + Default + Send>(
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
    fn checked(&self, source: &dyn Source, region: Rect) -> Result<Input, SourceError> {
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
    fn each_tile<T: Copy + Default + Send>(
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
    fn layer(&self, input: &Input, count: usize, region: Rect) -> Vec<[f32; 3]> {
        self.values(input, count, region).as_chunks::<3>().0.to_vec()
    }

    /// As [`layer`](Self::layer), one value after the other.
    fn values(&self, input: &Input, count: usize, region: Rect) -> Vec<f32> {
        let keep = |last: &PointProgram, rect: Rect, pixels: &mut [Pixel], out: &mut [f32]| {
            last.run(rect, pixels);
            for (p, o) in pixels.iter().zip(out.as_chunks_mut::<3>().0) {
                *o = [p[0], p[1], p[2]];
            }
        };
        self.each_tile(input, count, region, keep)
    }

    /// The output of the far-reaching node `at` over `rect`, strip by strip.
    fn strips(&self, input: &Input, at: usize, rect: Rect) -> Vec<[f32; 3]> {
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

/// `nodes` over `region`, from what stands before them, tile by tile.
fn tiles_from<T: Copy + Default + Send>(
    base: Base,
    nodes: &[(Node, Size)],
    region: Rect,
    encode: impl Fn(&PointProgram, Rect, &mut [Pixel], &mut [T]) + Sync,
) -> Vec<T> {
    let width = region.width as usize * 3;
    let mut samples = vec![T::default(); width * region.height as usize];
    let all = Mutex::new(&mut samples);
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
        let mut all = all.lock().unwrap_or_else(|poisoned| poisoned.into_inner());
        for (j, row) in encoded.chunks(line).enumerate() {
            let at = (tile.y - region.y) as usize + j;
            let at = at * width + (tile.x - region.x) as usize * 3;
            all[at..at + line].copy_from_slice(row);
        }
    });
    samples
}

/// The part of the input of `nodes` that `rect` of their output comes from.
fn needs(nodes: &[(Node, Size)], rect: Rect) -> Rect {
    nodes.iter().rev().fold(rect, |rect, (node, size)| node.needs(rect, size.rect()))
}

impl Node {
    /// The part of its input, which is as large as `whole`, that `rect` of its output comes from.
    fn needs(&self, rect: Rect, whole: Rect) -> Rect {
        match self {
            Self::Point(_) | Self::Mark(_) => rect,
            Self::Map(resampler) => resampler.needs(rect),
            Self::Warp(resampler) => resampler.needs(rect),
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
enum Input {
    Picture(Arc<Picture>),
    /// Working values over a rectangle of the source's level.
    Part(Vec<[f32; 3]>, Rect),
}

/// An error once the work was given up: what was computed since is worth nothing.
fn wanted() -> Result<(), SourceError> {
    if pace::is_wanted() { Ok(()) } else { Err(SourceError::given_up()) }
}

/// What stands before the first node.
#[derive(Clone, Copy)]
enum Base<'a> {
    Picture(&'a Picture),
    /// Pixels over a rectangle.
    Pixels(&'a [Pixel], Rect),
    /// Working values over a rectangle.
    Layer(&'a [[f32; 3]], Rect),
}

/// The output of the last of `nodes` over `rect`.
fn chain(nodes: &[(Node, Size)], base: Base, rect: Rect, buffers: &mut Buffers) -> Vec<Pixel> {
    let Some(((node, size), before)) = nodes.split_last() else {
        let mut out = buffers.take();
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
            let mut out = buffers.take();
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
            through(before, base, have, buffers, |input, out| repeat_edges(input, have, wanted, out))
        }
        (Node::Map(resampler), _) => {
            through(before, base, have, buffers, |input, out| resampler.run(input, have, rect, out))
        }
        (Node::Warp(resampler), _) => {
            through(before, base, have, buffers, |input, out| resampler.run(input, have, rect, out))
        }
        (Node::Enlarge(op), _) => {
            through(before, base, have, buffers, |input, out| op.run(input, have, rect, out))
        }
        (Node::Area(op), _) => {
            through(before, base, have, buffers, |input, out| op.run(input, have, rect, out))
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

/// Runs `work` on what stands before, over `have`.
fn through(
    before: &[(Node, Size)],
    base: Base,
    have: Rect,
    buffers: &mut Buffers,
    work: impl FnOnce(&[Pixel], &mut Vec<Pixel>),
) -> Vec<Pixel> {
    let input = chain(before, base, have, buffers);
    let mut out = buffers.take();
    work(&input, &mut out);
    buffers.give(input);
    out
}

/// The part `rect` of pixels over `have`.
fn cut(pixels: &[Pixel], have: Rect, rect: Rect, out: &mut Vec<Pixel>) {
    out.clear();
    for y in rect.y..rect.bottom() {
        let at = ((y - have.y) * have.width + rect.x - have.x) as usize;
        out.extend_from_slice(&pixels[at..at + rect.width as usize]);
    }
}

/// The part `rect` of pixels over `have`, the nearest pixel where it reaches beyond.
fn repeat_edges(pixels: &[Pixel], have: Rect, rect: Rect, out: &mut Vec<Pixel>) {
    out.clear();
    for y in rect.y..rect.bottom() {
        let line = (y.clamp(have.y, have.bottom() - 1) - have.y) * have.width;
        out.extend(
            (rect.x..rect.right())
                .map(|x| pixels[(line + x.clamp(have.x, have.right() - 1) - have.x) as usize]),
        );
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
    fn blend(&self, input: &[[f32; 3]], have: Rect, rect: Rect, out: &mut [[f32; 3]]) {
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
fn blend_row(mask: Option<&Mask>, mix: f32, x: i64, y: i64, input: &[Pixel], out: &mut [Pixel]) {
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
