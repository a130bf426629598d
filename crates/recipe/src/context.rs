//! What is known of a frame when its lines are resolved: camera data, marks, its place in the sequence.

use jiff::civil::DateTime;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A frame's own small changes on top of a recipe.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct Own {
    /// Stops brighter, −5 ..= 5.
    #[schemars(range(min = -5.0, max = 5.0))]
    pub exposure: f64,
    /// The crop moved to the right, in hundredths of the width, −100 ..= 100.
    #[schemars(range(min = -100.0, max = 100.0))]
    pub right: f64,
    /// The crop moved down, in hundredths of the height, −100 ..= 100.
    #[schemars(range(min = -100.0, max = 100.0))]
    pub down: f64,
}

impl Own {
    /// Whether nothing is changed.
    pub fn is_nothing(&self) -> bool {
        *self == Self::default()
    }

    /// In words; empty where nothing is changed.
    pub fn words(&self) -> String {
        use crate::text::number;
        let part = |v: f64, text: String| (v != 0.0).then_some(text);
        let all = [
            part(self.exposure, format!("exposure {} stops", number(self.exposure))),
            part(self.right, format!("crop {} % to the right", number(self.right))),
            part(self.down, format!("crop {} % down", number(self.down))),
        ];
        all.into_iter().flatten().collect::<Vec<_>>().join(", ")
    }
}

/// What is known of one picture when a recipe is applied to it.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Subject {
    /// Original's name without its ending.
    pub stem: String,
    /// Name of the original's folder.
    pub folder: String,
    /// Position in the run, from 1.
    pub number: usize,
    /// Capture time.
    pub taken: Option<DateTime>,
    /// Maker and model.
    pub camera: Option<String>,
    /// Lens.
    pub lens: Option<String>,
    /// Millimetres.
    pub focal_length: Option<f64>,
    /// f-number.
    pub aperture: Option<f64>,
    /// Seconds.
    pub shutter: Option<f64>,
    /// ISO speed.
    pub iso: Option<u32>,
    /// Upright pixels per row; 0 unknown.
    pub width: u32,
    /// Upright rows; 0 unknown.
    pub height: u32,
    /// 0 none … 5.
    pub rating: u8,
    /// Keywords.
    pub keywords: Vec<String>,
    /// Its own small changes.
    pub own: Own,
}
