//! A sheet of small pictures with their names.

use super::{EXISTING, FOLDER, NAME, START, TO, Target};
use crate::delivery::video::one_file;
use rallo_engine::{Kind, Param};
use serde::{Deserialize, Serialize};

/// Parameters of a contact sheet.
pub static CONTACT: [Param; 13] = [
    Param {
        name: "format",
        about: "A picture, or a PDF of as many pages as it takes.",
        unit: "",
        kind: Kind::Choice(&["jpeg", "png", "pdf"]),
    },
    Param {
        name: "columns",
        about: "Pictures beside each other.",
        unit: "",
        kind: Kind::Whole { min: 1, max: 60 },
    },
    Param {
        name: "cell",
        about: "Longest side of each.",
        unit: "px",
        kind: Kind::Whole { min: 40, max: 2000 },
    },
    Param { name: "gap", about: "Room between them.", unit: "px", kind: Kind::Whole { min: 0, max: 400 } },
    Param {
        name: "caption",
        about: "What stands under each, from fields in braces; nothing where it is empty.",
        unit: "",
        kind: Kind::Template(200),
    },
    Param { name: "title", about: "The line above them.", unit: "", kind: Kind::Template(200) },
    Param { name: "colour", about: "What they lie on.", unit: "", kind: Kind::Colour },
    Param {
        name: "quality",
        about: "Quality of a JPEG, or of the pictures in a PDF.",
        unit: "",
        kind: Kind::Number { min: 1.0, max: 100.0, step: 1.0 },
    },
    START,
    NAME,
    TO,
    FOLDER,
    EXISTING,
];

/// All pictures small beside each other.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Contact {
    /// `jpeg`, `png` or `pdf`.
    pub format: String,
    /// Beside each other.
    pub columns: Option<u32>,
    /// Longest side of each in pixels.
    pub cell: Option<u32>,
    /// Pixels between them.
    pub gap: Option<u32>,
    /// Template.
    pub caption: String,
    /// Template.
    pub title: String,
    /// What they lie on.
    pub colour: String,
    /// 1 ..= 100.
    pub quality: f64,
    /// Number of the first picture.
    pub start: f64,
    /// Where it goes.
    #[serde(flatten)]
    pub target: Target,
}

impl Default for Contact {
    fn default() -> Self {
        Self {
            format: "jpeg".into(),
            columns: Some(6),
            cell: Some(320),
            gap: Some(24),
            caption: "{stem}".into(),
            title: "{recipe}".into(),
            colour: "#ffffff".into(),
            quality: 85.0,
            start: 1.0,
            target: Target { name: "{recipe} contact sheet".into(), ..one_file() },
        }
    }
}
