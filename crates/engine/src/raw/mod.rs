//! Camera raw: from what a sensor counted behind its colour filters to a picture in the working space.

pub mod camera;
mod counts;
mod defects;
mod demosaic;
mod denoise;
mod develop;
mod finish;
mod gain_map;
mod input_table;
mod learned;
mod linear;
mod look;
mod mosaic;
mod noise;
mod scale;
mod six_by_six;
mod tone;

pub use camera::{Calibration, CameraColour};
pub use counts::{Counts, Levels};
pub use denoise::{MosaicDenoise, RawView};
pub use develop::{Developed, HEADROOM, Sensor, develop};
pub use gain_map::{GainMap, Placed};
pub use input_table::InputTable;
pub use linear::Linear;
pub use look::{ColourProfile, HueTable, Look, Shift};
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
    /// How its colours are to look, where it is said.
    pub profile: ColourProfile,
    /// Its noise, where the file tells.
    told: Option<SensorNoise>,
    /// Its noise, told or found.
    noise: OnceLock<Option<SensorNoise>>,
    is_mended: bool,
    steady: OnceLock<Option<denoise::Steady>>,
}

impl Raw {
    /// With the noise that the file tells, if it does.
    pub fn new(sensor: Sensor, camera: CameraColour, noise: Option<SensorNoise>) -> Self {
        Self {
            sensor,
            camera,
            profile: ColourProfile::default(),
            told: noise,
            noise: OnceLock::new(),
            is_mended: false,
            steady: OnceLock::new(),
        }
    }

    /// With what is said of how its colours are to look.
    pub fn with_profile(self, profile: ColourProfile) -> Self {
        Self { profile, ..self }
    }

    /// With its sensor's defects mended.
    pub fn mended(mut self) -> Self {
        let Sensor::Mosaic(mosaic) = &mut self.sensor else { return self };
        let defects = defects::found(mosaic);
        mosaic.mend(defects);
        self.is_mended = true;
        self
    }

    /// Whether its sensor's defects are mended.
    pub fn is_mended(&self) -> bool {
        self.is_mended
    }

    /// The noise of its sensor, told or found in it.
    pub fn noise(&self) -> Option<SensorNoise> {
        *self.noise.get_or_init(|| match &self.sensor {
            Sensor::Mosaic(mosaic) => self.told.or_else(|| SensorNoise::measured(mosaic)),
            Sensor::Linear(..) => None,
        })
    }

    /// The scale on which missing colours are filled in.
    fn scale(&self, gain: [f32; 3]) -> scale::Scale {
        scale::Scale::root(self.noise(), gain)
    }

    /// The scale on which its noise is even; nothing without a mosaic, or where its noise cannot be found.
    fn steady(&self) -> Option<&denoise::Steady> {
        let Sensor::Mosaic(mosaic) = &self.sensor else { return None };
        let found = || Some(denoise::Steady::new(mosaic, self.camera.gains(), self.noise()?));
        self.steady.get_or_init(found).as_ref()
    }
}
