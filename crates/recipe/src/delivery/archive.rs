//! Whole pictures to be kept, with the recipe, sidecars and checksums beside them.

use super::{EXISTING, FOLDER, NAME, Pictures, TO, Target, ZIP};
use rallo_engine::{Kind, OutputProfile, Param};
use serde::{Deserialize, Serialize};

/// Parameters of an archive.
pub static ARCHIVE: [Param; 9] = [
    Param {
        name: "profile",
        about: "Colour space of the files, embedded.",
        unit: "",
        kind: Kind::Choice(&["romm-rgb", "rec2020", "op-rgb", "display-p3", "srgb"]),
    },
    Param {
        name: "compression",
        about: "How the TIFF files are packed; nothing is lost by it.",
        unit: "",
        kind: Kind::Choice(&["none", "lzw", "deflate"]),
    },
    Param {
        name: "sidecars",
        about: "A file beside each that says in XMP what is known about the picture, and the recipe beside them all.",
        unit: "",
        kind: Kind::Flag,
    },
    Param {
        name: "checksums",
        about: "A list of SHA-256 sums beside the files, to check them by.",
        unit: "",
        kind: Kind::Flag,
    },
    ZIP,
    NAME,
    TO,
    FOLDER,
    EXISTING,
];

/// 16-bit TIFF files with sidecars and checksums.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Archive {
    /// A colour space.
    pub profile: String,
    /// `none`, `lzw` or `deflate`.
    pub compression: String,
    /// Whether sidecars are written.
    pub sidecars: bool,
    /// Whether a list of checksums is written.
    pub checksums: bool,
    /// Whether they are packed into a ZIP as well.
    pub zip: bool,
    /// Where they go.
    #[serde(flatten)]
    pub target: Target,
}

impl Default for Archive {
    fn default() -> Self {
        Self {
            profile: "romm-rgb".into(),
            compression: "deflate".into(),
            sidecars: true,
            checksums: true,
            zip: false,
            target: Target { folder: "{recipe} archive".into(), ..Target::default() },
        }
    }
}

impl Archive {
    /// What each frame becomes.
    pub fn pictures(&self) -> Pictures {
        let Target { name, to, folder, existing } = self.target.clone();
        Pictures {
            format: "tiff".into(),
            bits: 16,
            compression: self.compression.clone(),
            profile: OutputProfile::named(&self.profile),
            zip: self.zip,
            name,
            to,
            folder,
            existing,
            ..Pictures::default()
        }
    }
}
