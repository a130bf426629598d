//! Camera raw: from what a sensor counted behind its colour filters to a picture in the working space.

pub mod camera;
mod demosaic;
mod develop;
mod mosaic;
mod six_by_six;
mod tone;

pub use camera::{Calibration, CameraColour};
pub use develop::{Developed, HEADROOM, Sensor, develop};
pub use mosaic::{Mosaic, Pattern, PatternError};
pub use tone::matched;
