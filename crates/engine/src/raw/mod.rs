//! Camera raw: from what a sensor counted behind its colour filters to a picture in the working space.

pub mod camera;
mod demosaic;
mod denoise;
mod develop;
mod mosaic;
mod noise;
mod six_by_six;
mod tone;

pub use camera::{Calibration, CameraColour};
pub use denoise::{LINEAR_BLACK, MosaicDenoise, RawView};
pub use develop::{Developed, HEADROOM, Sensor, develop};
pub use mosaic::{Mosaic, Pattern, PatternError};
pub use noise::SensorNoise;
pub use tone::matched;

use std::sync::OnceLock;

/// What a camera raw holds.
pub struct Raw {
    /// What the sensor gave.
    pub sensor: Sensor,
    /// What is known of its colour.
    pub camera: CameraColour,
    /// Its noise, where the file tells.
    noise: Option<SensorNoise>,
    steady: OnceLock<Option<denoise::Steady>>,
}

impl Raw {
    /// With the noise that the file tells, if it does.
    pub fn new(sensor: Sensor, camera: CameraColour, noise: Option<SensorNoise>) -> Self {
        Self { sensor, camera, noise, steady: OnceLock::new() }
    }

    /// The noise of its sensor, told or found in it.
    pub fn noise(&self) -> Option<SensorNoise> {
        match &self.sensor {
            Sensor::Mosaic(mosaic) => self.noise.or_else(|| SensorNoise::measured(mosaic)),
            Sensor::Linear(..) => None,
        }
    }

    /// The scale on which its noise is even; nothing without a mosaic, or where its noise cannot be found.
    fn steady(&self) -> Option<&denoise::Steady> {
        let Sensor::Mosaic(mosaic) = &self.sensor else { return None };
        let found = || Some(denoise::Steady::new(mosaic, self.camera.gains(), self.noise()?));
        self.steady.get_or_init(found).as_ref()
    }
}
