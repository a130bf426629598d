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

mod cache;
mod coverage;
mod fingerprint;
mod lower;
mod measured;
mod program;
mod shaped_raw;
mod tiles;

pub(crate) use crate::plan::cache::key_of;
pub use crate::plan::cache::{Memory, PrefixPixels};
pub use crate::plan::fingerprint::fingerprint;
pub use crate::plan::program::{Encoded, Pixels, Program};
pub use crate::plan::shaped_raw::shaped;

use crate::colour::space::OutputColour;
use crate::geometry::Size;
use crate::ops::mask::Area;
use crate::plan::lower::LEFT_OVER;
use crate::plan::program::STRIP;
use crate::step::{Geometry, Op, Place, Step};
use std::sync::Arc;

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

impl Plan {
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

    /// The same plan, as [`reducing_sooner`](Self::reducing_sooner), also where a mapping then enlarges the reduced picture by
    /// a twentieth: for pictures that are reduced again.
    pub fn reducing_early(mut self) -> Self {
        self.left_over = 0.95;
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
}
