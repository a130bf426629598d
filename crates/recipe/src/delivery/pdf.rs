//! A document of all pictures.

use super::{EXISTING, FOLDER, NAME, START, TO, Target};
use crate::delivery::video::one_file;
use rallo_engine::{Kind, Param};
use serde::{Deserialize, Serialize};

/// Parameters of a document.
pub static PDF: [Param; 17] = [
    Param {
        name: "page",
        about: "Size of a page; screen is 16:9, picture as large as each picture.",
        unit: "",
        kind: Kind::Choice(&["A4", "A5", "A3", "Letter", "screen", "picture"]),
    },
    Param { name: "across", about: "Pages lie on their long side.", unit: "", kind: Kind::Flag },
    Param {
        name: "margin",
        about: "Room around a page.",
        unit: "mm",
        kind: Kind::Number { min: 0.0, max: 80.0, step: 1.0 },
    },
    Param {
        name: "columns",
        about: "Pictures beside each other.",
        unit: "",
        kind: Kind::Whole { min: 1, max: 12 },
    },
    Param {
        name: "rows",
        about: "Pictures below each other.",
        unit: "",
        kind: Kind::Whole { min: 1, max: 16 },
    },
    Param {
        name: "gap",
        about: "Room between pictures.",
        unit: "mm",
        kind: Kind::Number { min: 0.0, max: 40.0, step: 1.0 },
    },
    Param {
        name: "caption",
        about: "What stands under each picture, from fields in braces; nothing where it is empty.",
        unit: "",
        kind: Kind::Template(200),
    },
    Param {
        name: "title",
        about: "The line on the first page, and the document's title.",
        unit: "",
        kind: Kind::Template(200),
    },
    Param {
        name: "contents",
        about: "A list of the folders with their pages, and a heading where each begins.",
        unit: "",
        kind: Kind::Flag,
    },
    Param { name: "numbers", about: "Page numbers.", unit: "", kind: Kind::Flag },
    Param {
        name: "resolution",
        about: "Pixels an inch that pictures have at most.",
        unit: "ppi",
        kind: Kind::Whole { min: 36, max: 1200 },
    },
    Param {
        name: "quality",
        about: "Quality of the pictures in it.",
        unit: "",
        kind: Kind::Number { min: 1.0, max: 100.0, step: 1.0 },
    },
    START,
    NAME,
    TO,
    FOLDER,
    EXISTING,
];

/// A document of all pictures.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Pdf {
    /// `A4`, `A5`, `A3`, `Letter`, `screen` or `picture`.
    pub page: String,
    /// On the long side.
    pub across: bool,
    /// Millimetres.
    pub margin: f64,
    /// Beside each other.
    pub columns: Option<u32>,
    /// Below each other.
    pub rows: Option<u32>,
    /// Millimetres.
    pub gap: f64,
    /// Template.
    pub caption: String,
    /// Template.
    pub title: String,
    /// By folder.
    pub contents: bool,
    /// Page numbers.
    pub numbers: bool,
    /// Pixels an inch.
    pub resolution: Option<u32>,
    /// 1 ..= 100.
    pub quality: f64,
    /// Number of the first picture.
    pub start: f64,
    /// Where it goes.
    #[serde(flatten)]
    pub target: Target,
}

impl Default for Pdf {
    fn default() -> Self {
        Self {
            page: "A4".into(),
            across: false,
            margin: 15.0,
            columns: Some(1),
            rows: Some(2),
            gap: 6.0,
            caption: "{stem}".into(),
            title: "{recipe}".into(),
            contents: false,
            numbers: true,
            resolution: Some(200),
            quality: 82.0,
            start: 1.0,
            target: one_file(),
        }
    }
}

impl Pdf {
    /// A page's width and height in millimetres; nothing where it is as large as its picture.
    pub fn page(&self) -> Option<(f64, f64)> {
        let (w, h) = match self.page.as_str() {
            "A5" => (148.0, 210.0),
            "A3" => (297.0, 420.0),
            "Letter" => (215.9, 279.4),
            "screen" => (320.0, 180.0),
            "picture" => return None,
            _ => (210.0, 297.0),
        };
        Some(if self.across && w < h { (h, w) } else { (w, h) })
    }

    /// Pictures beside each other and below each other.
    pub fn grid(&self) -> (u32, u32) {
        (self.columns.unwrap_or(1), self.rows.unwrap_or(1))
    }

    /// The largest place of a picture in millimetres.
    pub fn cell(&self) -> Option<(f64, f64)> {
        let (w, h) = self.page()?;
        let (columns, rows) = self.grid();
        let share = |side: f64, n: u32| {
            ((side - 2.0 * self.margin - self.gap * f64::from(n - 1)) / f64::from(n)).max(5.0)
        };
        Some((share(w, columns), share(h, rows)))
    }
}
