//! The kinds of work a step may ask of a plan.

use crate::geometry::{Rect, Size};
use crate::ops::planes::Pixel;
use crate::ops::pointwise::PointOp;
use crate::ops::warp::Warp;
use std::fmt::Debug;

/// What a step knows of its place in a plan.
#[derive(Clone, Copy, Debug)]
pub struct Place {
    /// Size of the step's input at full scale.
    pub size: Size,
    /// Size of the plan's output at full scale.
    pub output: Size,
    /// Output pixels per pixel here, at full scale.
    pub to_output: f64,
    /// The scale this part of the plan runs at: 1 is full.
    pub scale: f64,
    /// Differs from picture to picture, and is always the same for one: what chance is drawn from.
    pub seed: u64,
}

/// A geometric step's mapping at full scale.
#[derive(Clone, Debug)]
pub struct Geometry {
    /// From the step's output to its input coordinates.
    pub map: Warp,
    /// Size of its output.
    pub size: Size,
}

/// Work that needs neighbours: a halo of input around the output.
pub trait AreaOp: Send + Sync {
    /// Input pixels needed beyond the output on every side.
    fn halo(&self) -> i64;
    /// Fills `out` for `rect` from `input`, which covers `have` (`rect` grown by the halo, inside the picture).
    fn run(&self, input: &[Pixel], have: Rect, rect: Rect, out: &mut Vec<Pixel>);
}

/// Something drawn onto the picture at a fixed place.
pub trait MarkOp: Send + Sync {
    /// The pixels it can change.
    fn bounds(&self) -> Rect;
    /// Draws onto `pixels`, which cover `rect`.
    fn run(&self, rect: Rect, pixels: &mut [Pixel]);
}

/// Work that is best done for the whole picture at once, since it reaches far: it runs in strips, on all threads, before
/// what stands after it.
pub trait WholeOp: Send + Sync {
    /// Input pixels needed beyond the output on every side.
    fn halo(&self) -> i64;
    /// The result over `rect` from `input`, which covers `have`; the same pixels come out whatever part is asked for.
    fn run(&self, input: Vec<[f32; 3]>, have: Rect, rect: Rect) -> Vec<[f32; 3]>;
}

/// Enlarging by a whole factor in a way of its own.
pub trait EnlargeOp: Send + Sync {
    /// Output pixels per input pixel, each way.
    fn factor(&self) -> i64;
    /// Input pixels needed beyond those the output covers.
    fn halo(&self) -> i64;
    /// Fills `out` for the output rectangle `rect` from `input`, which covers `have`.
    fn run(&self, input: &[Pixel], have: Rect, rect: Rect, out: &mut Vec<Pixel>);
}

/// What a step must know of its input before it can run.
#[derive(Clone, Debug, PartialEq)]
pub enum Wants {
    /// Nothing.
    Nothing,
    /// The whole of it, reduced.
    Overview,
    /// Parts of it at full size.
    Detail,
    /// The surroundings of places on the sensor (x, y, radius, as shares), so many radii far, at full size.
    Around(Vec<[f64; 3]>, f64),
}

/// A part of a step's input, as working values.
#[derive(Clone, Debug)]
pub struct View {
    /// Pixels per row and rows.
    pub size: Size,
    /// Row by row.
    pub pixels: Vec<[f32; 3]>,
    /// For [`Wants::Around`]: the place and the radius in pixels of the upright picture, and what the view covers.
    pub around: Option<((f64, f64), f64, Rect)>,
}

/// What a step asks of the plan.
pub enum Op {
    /// Each pixel alone.
    Point(PointOp),
    /// With neighbours.
    Area(Box<dyn AreaOp>),
    /// Drawn on top.
    Mark(Box<dyn MarkOp>),
    /// Reaching far; a step has this and nothing else.
    Whole(Box<dyn WholeOp>),
}

impl Op {
    /// The point-wise operation, if it is one.
    pub fn point(self) -> Option<PointOp> {
        if let Self::Point(p) = self { Some(p) } else { None }
    }
}
