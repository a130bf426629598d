//! Camera raw handed on as raw: what was denoised before anything else, with all its latitude.

use super::{EXISTING, FOLDER, NAME, Pictures, TO, Target, ZIP};
use rallo_engine::{Kind, Param};
use serde::{Deserialize, Serialize};

/// Parameters of a delivery as DNG.
pub static DNG: [Param; 7] = [
    Param {
        name: "compression",
        about: "How the pixels are packed; lossless takes about half the room.",
        unit: "",
        kind: Kind::Choice(&["lossless", "none"]),
    },
    Param {
        name: "shaped",
        about: "Whether what the recipe does to the shape of the picture is in it: lens profile, straightening, crop, turning. Otherwise it is left to the next program.",
        unit: "",
        kind: Kind::Flag,
    },
    ZIP,
    NAME,
    TO,
    FOLDER,
    EXISTING,
];

/// Linear DNG files.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Dng {
    /// `lossless` or `none`.
    pub compression: String,
    /// Whether lens profile, straightening and crop are in them.
    pub shaped: bool,
    /// Whether they are packed into a ZIP as well.
    pub zip: bool,
    /// Where they go.
    #[serde(flatten)]
    pub target: Target,
}

impl Default for Dng {
    fn default() -> Self {
        Self {
            compression: "lossless".into(),
            shaped: false,
            zip: false,
            target: Target { folder: "{recipe} DNG".into(), ..Target::default() },
        }
    }
}

impl Dng {
    /// What each frame becomes.
    pub fn pictures(&self) -> Pictures {
        let Target { name, to, folder, existing } = self.target.clone();
        Pictures {
            format: "dng".into(),
            bits: 16,
            compression: self.compression.clone(),
            shaped: self.shaped,
            zip: self.zip,
            name,
            to,
            folder,
            existing,
            ..Pictures::default()
        }
    }
}
