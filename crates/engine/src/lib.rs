//! Pictures in memory, colour, steps, plans: the computation, with no files, no async, no clock.
//!
//! The one way to make pixels is [`Program::render`]: a [`Plan`] (steps + facts of one picture) is lowered
//! to a [`Program`] for one scale, and the program renders any region of its output. Thumbnails, viewer
//! tiles and final files differ only in those two arguments.
//!
//! Values in flight are linear light on Rec. 2020 primaries (D65), `0` black, `1` the white of the source's
//! encoding, in `f32`, kept within [`RANGE`].

pub mod area;
pub mod colour;
pub mod denoise;
pub mod geometry;
pub mod guide;
mod lanes;
mod lettering;
pub mod lines;
pub mod measure;
pub mod pace;
pub mod picture;
pub mod places;
pub mod plan;
pub mod point;
pub mod profile;
pub mod resample;
pub mod scopes;
pub mod sequence;
mod stamp;
pub mod step;
pub mod steps;
#[cfg(test)]
mod steps_testing;
pub mod tone;
pub mod travel;
pub mod warp;
mod warped;

/// Changes whenever the same recipe gives other pixels than before, so that older results are known to be older.
pub const RESULTS: u32 = 3;

pub use area::Area;
pub use colour::{InputColour, OutputColour, OutputProfile};
pub use geometry::{Affine, Rect, Size};
pub use lettering::{Letters, SHIPPED as FONTS, line as letters};
pub use measure::Measures;
pub use picture::{Orientation, Picture, PictureError, Pyramid, Samples, Source, SourceError};
pub use plan::{Encoded, Kept, Memory, Pixels, Plan, PlanError, Program, Settings};
pub use profile::Intent;
pub use step::{Kind, Param, ParamError, Step, StepInfo, StepKind, registry, step_kind};

/// Every value of a picture in flight lies in this range: four stops of headroom above white.
pub const RANGE: std::ops::RangeInclusive<f32> = 0.0..=16.0;
