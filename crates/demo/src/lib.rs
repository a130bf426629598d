//! Scenes of Thistlewick Nursery drawn by formula.
//!
//! A small renderer (triangles, one sun with soft shadows, a sky, a lens with depth of field, a sensor with
//! noise) draws the nursery's catalogue stills, the weeks of the fixed camera over the seed beds, and a stop-motion lesson, in part as camera raw ([`sensor`]);
//! the same seed gives the same bytes. [`device`] stands in for an interval camera that is at work.

mod bed;
pub mod device;
mod film;
mod lesson;
mod maths;
mod mesh;
mod raster;
pub mod sensor;
mod sequence;
mod shade;
mod stills;

pub use bed::{BedCamera, BedFrame, bed, bed_file, raw_bed, write_bed, write_raw_bed};
pub use lesson::{FRAMES as LESSON_FRAMES, SIZE as LESSON_SIZE, truth as lesson_truth, write_lesson};
pub use sequence::Truth;
pub use stills::{DemoError, Still, catalogue, raw_catalogue, write_catalogue, write_raw_catalogue};
