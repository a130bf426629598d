//! One picture of all frames: what was brightest, darkest, usual or the mean at each place.

use super::{EXISTING, FOLDER, NAME, TO, Target};
use crate::delivery::video::one_file;
use rallo_engine::{Kind, Param};
use serde::{Deserialize, Serialize};

/// How frames become one picture.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum StackBy {
    /// At each place the frame that is brightest there.
    #[default]
    Lighten,
    /// At each place the frame that is darkest there.
    Darken,
    /// The mean, in linear light.
    Mean,
    /// The middle value of each colour: what is there most of the time.
    Median,
}

/// Parameters of one picture of all frames.
pub static STACK: [Param; 10] = [
    Param {
        name: "by",
        about: "Of each place what was brightest in any frame (star trails, fireworks), darkest, the mean (one long exposure), or the median: what is there most of the time (a street without people).",
        unit: "",
        kind: Kind::Choice(&["lighten", "darken", "mean", "median"]),
    },
    Param {
        name: "close_gaps",
        about: "Draws the way of stars, and of other points of light, from each frame to the next, so that their trails have no gaps; for the brightest of all frames.",
        unit: "",
        kind: Kind::Flag,
    },
    Param {
        name: "format",
        about: "File format; PNG and TIFF with 16 bits.",
        unit: "",
        kind: Kind::Choice(&["jpeg", "png", "tiff"]),
    },
    Param {
        name: "quality",
        about: "Quality of a JPEG.",
        unit: "",
        kind: Kind::Number { min: 1.0, max: 100.0, step: 1.0 },
    },
    Param {
        name: "long_edge",
        about: "Longest side; smaller frames stay as they are. Without it the picture is as the lines make it.",
        unit: "px",
        kind: Kind::Whole { min: 1, max: 65_535 },
    },
    super::SHARPEN,
    NAME,
    TO,
    FOLDER,
    EXISTING,
];

/// One picture of all frames.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct StackPicture {
    /// How.
    pub by: StackBy,
    /// Whether the ways of points of light are drawn from frame to frame.
    pub close_gaps: bool,
    /// `jpeg`, `png` or `tiff`.
    pub format: String,
    /// 1 ..= 100.
    pub quality: f64,
    /// Longest side in pixels.
    pub long_edge: Option<u32>,
    /// How much it is sharpened, 0 ..= 100.
    pub sharpen: f64,
    /// Where it goes.
    #[serde(flatten)]
    pub target: Target,
}

impl Default for StackPicture {
    fn default() -> Self {
        Self {
            by: StackBy::Lighten,
            close_gaps: false,
            format: "jpeg".into(),
            quality: 92.0,
            long_edge: None,
            sharpen: 0.0,
            target: Target { name: "{recipe} stacked".into(), ..one_file() },
        }
    }
}

impl StackPicture {
    /// Whether gaps between frames are closed: only where the brightest counts are there any.
    pub fn closes_gaps(&self) -> bool {
        self.close_gaps && self.by == StackBy::Lighten
    }
}
