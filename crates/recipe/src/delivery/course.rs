//! Pictures, a clip and a page for a course.

use super::{COLOUR, EXISTING, FOLDER, NAME, Pdf, TO, Target, Video};
use crate::delivery::frames::Frames;
use rallo_engine::{Kind, Param};
use serde::{Deserialize, Serialize};

/// Parameters of a course pack.
pub static COURSE: [Param; 13] = [
    Param {
        name: "title",
        about: "Title of the lesson, on its page and on the hand-out.",
        unit: "",
        kind: Kind::Template(200),
    },
    Param {
        name: "size",
        about: "Size of the frames and the clip.",
        unit: "",
        kind: Kind::Choice(&["720p", "1080p", "1440p", "4K"]),
    },
    Param {
        name: "fit",
        about: "Pictures of another proportion than 16:9: fit (colour around them) or fill (cut what sticks out).",
        unit: "",
        kind: Kind::Choice(&["fit", "fill"]),
    },
    COLOUR,
    Param {
        name: "quality",
        about: "Quality of the frames.",
        unit: "",
        kind: Kind::Number { min: 1.0, max: 100.0, step: 1.0 },
    },
    Param {
        name: "resolution",
        about: "Resolution that is written into the frames.",
        unit: "ppi",
        kind: Kind::Whole { min: 36, max: 1200 },
    },
    Param {
        name: "seconds",
        about: "How long the clip shows each picture.",
        unit: "s",
        kind: Kind::Number { min: 0.04, max: 60.0, step: 0.1 },
    },
    Param {
        name: "per_page",
        about: "Pictures on a page of the hand-out.",
        unit: "",
        kind: Kind::Choice(&["1", "2", "4", "6", "8"]),
    },
    Param {
        name: "caption",
        about: "What stands under each picture of the hand-out, from fields in braces.",
        unit: "",
        kind: Kind::Template(200),
    },
    NAME,
    TO,
    FOLDER,
    EXISTING,
];

/// Frames, clip, hand-out, settings sheet and a page, in one folder.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Course {
    /// Title of the lesson.
    pub title: String,
    /// One of [`super::SIZES`] that are 16:9.
    pub size: String,
    /// `fit` or `fill`.
    pub fit: String,
    /// Around what is fitted in.
    pub colour: String,
    /// 1 ..= 100.
    pub quality: f64,
    /// Pixels per inch.
    pub resolution: Option<u32>,
    /// Seconds for each picture.
    pub seconds: f64,
    /// Pictures on a page of the hand-out.
    pub per_page: String,
    /// Template.
    pub caption: String,
    /// Where it goes.
    #[serde(flatten)]
    pub target: Target,
}

impl Default for Course {
    fn default() -> Self {
        Self {
            title: "{recipe}".into(),
            size: "1080p".into(),
            fit: "fill".into(),
            colour: "#ffffff".into(),
            quality: 82.0,
            resolution: Some(96),
            seconds: 2.0,
            per_page: "4".into(),
            caption: "{n}. {stem}".into(),
            target: Target {
                name: "{recipe}-{n:03}".into(),
                folder: "{recipe} course".into(),
                ..Target::default()
            },
        }
    }
}

impl Course {
    /// Frames of the clip a second.
    const RATE: f64 = 25.0;

    /// Its numbered frames.
    pub fn frames(&self) -> Frames {
        Frames {
            quality: self.quality,
            size: self.size.clone(),
            fit: self.fit.clone(),
            colour: self.colour.clone(),
            target: self.target.clone(),
            ..Frames::default()
        }
    }

    /// Its clip.
    pub fn video(&self) -> Video {
        Video {
            size: self.size.clone(),
            fit: self.fit.clone(),
            colour: self.colour.clone(),
            rate: format!("{}", Self::RATE),
            speed: 1.0 / (self.seconds * Self::RATE),
            target: Target { name: "clip".into(), ..self.target.clone() },
            ..Video::default()
        }
    }

    /// Its hand-out.
    pub fn pdf(&self) -> Pdf {
        let (columns, rows) = match self.per_page.as_str() {
            "1" => (1, 1),
            "2" => (1, 2),
            "6" => (2, 3),
            "8" => (2, 4),
            _ => (2, 2),
        };
        Pdf {
            title: self.title.clone(),
            caption: self.caption.clone(),
            columns: Some(columns),
            rows: Some(rows),
            target: Target { name: "hand-out".into(), ..self.target.clone() },
            ..Pdf::default()
        }
    }
}
