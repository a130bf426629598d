//! Scenes of Thistlewick Nursery drawn by formula.
//!
//! A small renderer (triangles, one sun with soft shadows, a sky, a lens with depth of field, a sensor with
//! noise) draws the nursery's catalogue stills; the same seed gives the same bytes.

mod film;
mod maths;
mod mesh;
mod raster;
mod shade;
mod stills;

pub use stills::{Still, catalogue, write_catalogue};
