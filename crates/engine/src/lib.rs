//! Pictures in memory, colour, steps, plans: the computation, with no files, no async, no clock.
//!
//! The one way to make pixels is [`Program::render`]: a [`Plan`] (steps + facts of one picture) is lowered
//! to a [`Program`] for one scale, and the program renders any region of its output. Thumbnails, viewer
//! tiles and final files differ only in those two arguments.
//!
//! Values in flight are linear light on Rec. 2020 primaries (D65), `0` black, `1` the white of the source's
//! encoding, in `f32`, kept within [`RANGE`].

pub mod analysis;
pub mod colour;
pub mod geometry;
pub mod image;
pub mod lens;
pub mod ops;
pub mod pace;
pub mod plan;
pub mod raw;
pub mod sequence;
mod simd;
pub mod step;
pub mod steps;

/// Changes whenever the same recipe gives other pixels than before, so that older results are known to be older.
pub const RESULTS: u32 = 13;

pub use analysis::measure::Measures;
pub use colour::icc::{Intent, ProfileError};
pub use colour::space::{InputColour, OutputColour, OutputProfile};
pub use geometry::{Affine, Rect, Size};
pub use image::decode_settings::{
    DecodeSettings, READING, RawLook, RawSettings, RawWhite, reading_depends_on,
};
pub use image::picture::{Orientation, Picture, PictureError, Samples};
pub use image::pyramid::Pyramid;
pub use image::source::{Source, SourceError};
pub use ops::mask::Area;
pub use ops::text::{Letters, SHIPPED as FONTS, line as letters};
pub use plan::{Encoded, Memory, Pixels, Plan, PlanError, PrefixPixels, Program, Settings};
pub use step::{Kind, Param, ParamError, Step, StepInfo, StepKind};
pub use steps::registry::{registry, step_kind};

/// Every value of a picture in flight lies in this range: four stops of headroom above white.
pub const RANGE: std::ops::RangeInclusive<f32> = 0.0..=16.0;
