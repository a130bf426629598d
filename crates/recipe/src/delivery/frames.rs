//! Numbered frames, archives and course packs: what they make of each frame is described as pictures.

use super::{
    CAMERA_DATA, COLOUR, EXISTING, FOLDER, HEIGHT, NAME, OutputFrame, Pictures, SHARPEN, SIZE, TO, Target,
    WIDTH, ZIP, pixels_of,
};
use rallo_engine::{Kind, OutputProfile, Param};
use serde::{Deserialize, Serialize};

/// Parameters of numbered frames.
pub static FRAMES: [Param; 17] = [
    Param { name: "format", about: "File format.", unit: "", kind: Kind::Choice(&["jpeg", "png", "tiff"]) },
    Param {
        name: "quality",
        about: "Quality of JPEG frames.",
        unit: "",
        kind: Kind::Number { min: 1.0, max: 100.0, step: 1.0 },
    },
    Param {
        name: "bits",
        about: "Bits a sample of PNG or TIFF frames.",
        unit: "",
        kind: Kind::Choice(&["8", "16"]),
    },
    SIZE,
    WIDTH,
    HEIGHT,
    Param {
        name: "fit",
        about: "Frames of another proportion: ask before the run, fill (cut what sticks out), or fit (colour around them).",
        unit: "",
        kind: Kind::Choice(&["ask", "fill", "fit"]),
    },
    COLOUR,
    SHARPEN,
    Param {
        name: "start",
        about: "The number {n} of the first frame.",
        unit: "",
        kind: Kind::Number { min: 0.0, max: 9_999_999.0, step: 1.0 },
    },
    Param {
        name: "profile",
        about: "Colour space of the frames; recipe: what its line Convert profile says, sRGB without one.",
        unit: "",
        kind: Kind::Choice(&["recipe", "srgb", "display-p3", "op-rgb", "romm-rgb", "rec2020"]),
    },
    CAMERA_DATA,
    ZIP,
    NAME,
    TO,
    FOLDER,
    EXISTING,
];

/// Numbered frames of one size.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Frames {
    /// `jpeg`, `png` or `tiff`.
    pub format: String,
    /// 1 ..= 100.
    pub quality: f64,
    /// `8` or `16`.
    pub bits: String,
    /// One of [`super::SIZES`].
    pub size: String,
    /// Pixels per row, where the size is custom.
    pub width: Option<u32>,
    /// Rows, where the size is custom.
    pub height: Option<u32>,
    /// `ask`, `fill` or `fit`.
    pub fit: String,
    /// Around what is fitted in.
    pub colour: String,
    /// 0 ..= 100.
    pub sharpen: f64,
    /// Number of the first frame.
    pub start: f64,
    /// A colour space, or `recipe`.
    pub profile: String,
    /// Whether camera data are carried over.
    pub camera_data: bool,
    /// Whether they are packed into a ZIP as well.
    pub zip: bool,
    /// Where they go.
    #[serde(flatten)]
    pub target: Target,
}

impl Default for Frames {
    fn default() -> Self {
        Self {
            format: "jpeg".into(),
            quality: 92.0,
            bits: "8".into(),
            size: "own".into(),
            width: None,
            height: None,
            fit: "ask".into(),
            colour: "#000000".into(),
            sharpen: 0.0,
            start: 1.0,
            profile: "srgb".into(),
            camera_data: true,
            zip: false,
            target: Target {
                name: "{recipe}-{n:05}".into(),
                folder: "{recipe} frames".into(),
                ..Target::default()
            },
        }
    }
}

impl Frames {
    /// What each frame becomes.
    pub fn pictures(&self) -> Pictures {
        let Target { name, to, folder, existing } = self.target.clone();
        let frame = pixels_of(&self.size, self.width, self.height).map(|(width, height)| OutputFrame {
            width,
            height,
            fit: self.fit.clone(),
            colour: self.colour.clone(),
            window: None,
            nearest: 1.0,
        });
        Pictures {
            format: self.format.clone(),
            quality: self.quality.round() as u8,
            chroma: "4:4:4".into(),
            bits: if self.bits == "16" { 16 } else { 8 },
            sharpen: self.sharpen,
            start: self.start.round() as u32,
            profile: OutputProfile::named(&self.profile),
            camera_data: self.camera_data,
            zip: self.zip,
            frame,
            name,
            to,
            folder,
            existing,
            ..Pictures::default()
        }
    }
}
