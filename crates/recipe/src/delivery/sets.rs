//! Numbered frames, archives and course packs: what they make of each frame is described as pictures.

use super::{
    CAMERA_DATA, COLOUR, EXISTING, FOLDER, Frame, HEIGHT, NAME, Pdf, Pictures, SHARPEN, SIZE, TO, Target,
    Video, WIDTH, ZIP, pixels_of,
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
        let frame = pixels_of(&self.size, self.width, self.height).map(|(width, height)| Frame {
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
            fit: "fit".into(),
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
