//! Deliveries: what a recipe hands on, each from where its lines end.
//!
//! A delivery makes *files*, one (or several widths) for each frame, or a *assembly*: one file of all frames, a clip, a PDF,
//! a contact sheet; a course pack is several of them in one folder. It may have lines of its own, which follow the
//! recipe's.

mod archive;
mod assembly;
mod contact_sheet;
mod course;
mod dng;
mod fitting;
pub(crate) mod frames;
mod pdf;
mod pictures;
mod stack;
mod video;

pub use archive::{ARCHIVE, Archive};
pub use assembly::Assembly;
pub use contact_sheet::{CONTACT, Contact};
pub use course::{COURSE, Course};
pub use dng::{DNG, Dng};
pub use frames::{FRAMES, Frames};
pub use pdf::{PDF, Pdf};
pub use pictures::{Burned, FORMATS, PICTURES, Pictures};
pub use stack::{STACK, StackBy, StackPicture};
pub use video::{CODECS, Passing, RATES, VIDEO, Video};

use crate::{Fault, Line, brief, names, tidy};
use rallo_engine::sequence::camera_move::Window;
use rallo_engine::{Kind, Param};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};

/// A kind of delivery as it is described: controls, schema and reading come from this.
pub struct DeliveryKind {
    /// The word in documents.
    pub id: &'static str,
    /// For people.
    pub title: &'static str,
    /// What it is for, in a sentence.
    pub about: &'static str,
    /// Its values.
    pub params: &'static [Param],
    defaults: fn() -> Value,
}

impl DeliveryKind {
    /// Every value as it is where a document says nothing.
    pub fn defaults(&self) -> Value {
        (self.defaults)()
    }
}

/// Every kind.
pub static KINDS: [DeliveryKind; 9] = [
    DeliveryKind {
        id: "pictures",
        title: "Pictures",
        about: "One file for each frame, or several widths of it.",
        params: &PICTURES,
        defaults: || Pictures::default().values(),
    },
    DeliveryKind {
        id: "frames",
        title: "Numbered frames",
        about: "Frames of one size, numbered without a gap, for a video editor.",
        params: &FRAMES,
        defaults: || json!(Frames::default()),
    },
    DeliveryKind {
        id: "video",
        title: "Video",
        about: "A clip of all frames in their order.",
        params: &VIDEO,
        defaults: || json!(Video::default()),
    },
    DeliveryKind {
        id: "pdf",
        title: "PDF",
        about: "A document of all pictures, one or several to a page.",
        params: &PDF,
        defaults: || json!(Pdf::default()),
    },
    DeliveryKind {
        id: "contact",
        title: "Contact sheet",
        about: "All pictures small beside each other, as a picture or a PDF.",
        params: &CONTACT,
        defaults: || json!(Contact::default()),
    },
    DeliveryKind {
        id: "archive",
        title: "Archive",
        about: "16-bit TIFF in a wide colour space, with sidecars and checksums.",
        params: &ARCHIVE,
        defaults: || json!(Archive::default()),
    },
    DeliveryKind {
        id: "course",
        title: "Course pack",
        about: "Numbered frames, a clip, a hand-out, the settings sheet and a page that shows them, in one folder.",
        params: &COURSE,
        defaults: || json!(Course::default()),
    },
    DeliveryKind {
        id: "dng",
        title: "Linear DNG",
        about: "Camera raw as raw again: denoised where the recipe begins with that, and nothing else baked in. What is no camera raw goes along as it is.",
        params: &DNG,
        defaults: || json!(Dng::default()),
    },
    DeliveryKind {
        id: "stack",
        title: "One picture of all",
        about: "All frames laid on each other as one picture: the brightest of each place, the darkest, the mean, or what is there most of the time.",
        params: &STACK,
        defaults: || json!(StackPicture::default()),
    },
];

/// Where a delivery goes and how its files are called; the same for all kinds.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Target {
    /// Naming template.
    pub name: String,
    /// `subfolder`, or a folder's path.
    pub to: String,
    /// Template of the sub-folder's name.
    pub folder: String,
    /// `fail`, `number` or `replace`.
    pub existing: String,
}

impl Default for Target {
    fn default() -> Self {
        Self {
            name: "{stem}".into(),
            to: "subfolder".into(),
            folder: "{recipe}".into(),
            existing: "fail".into(),
        }
    }
}

const NAME: Param = Param {
    name: "name",
    about: "Name without the ending, from fields in braces.",
    unit: "",
    kind: Kind::Text(200),
};
const TO: Param = Param {
    name: "to",
    about: "subfolder; same for the folder of the originals; or the path of a folder, which may have fields in braces.",
    unit: "",
    kind: Kind::Text(1000),
};
const FOLDER: Param = Param {
    name: "folder",
    about: "Name of the sub-folder beside the originals.",
    unit: "",
    kind: Kind::Text(120),
};
const EXISTING: Param = Param {
    name: "existing",
    about: "What happens where a file of that name exists: it fails, the result gets a number, or an older result is replaced.",
    unit: "",
    kind: Kind::Choice(&["fail", "number", "replace"]),
};

const ZIP: Param = Param {
    name: "zip",
    about: "All of them once more in one ZIP beside their folder, with a list of what is in it.",
    unit: "",
    kind: Kind::Flag,
};
const SHARPEN: Param = Param {
    name: "sharpen",
    about: "Sharpening for a screen, after the size.",
    unit: "",
    kind: Kind::Number { min: 0.0, max: 100.0, step: 1.0 },
};
const CAMERA_DATA: Param = Param {
    name: "camera_data",
    about: "Whether the camera's data are carried over.",
    unit: "",
    kind: Kind::Flag,
};
const START: Param = Param {
    name: "start",
    about: "The number {n} of the first picture.",
    unit: "",
    kind: Kind::Number { min: 0.0, max: 9_999_999.0, step: 1.0 },
};

/// Sizes by name, for kinds whose frames are all of one.
pub const SIZES: [&str; 9] = ["own", "720p", "1080p", "1440p", "4K", "8K", "square", "portrait", "custom"];

/// Pixels of a named size; nothing for the frames' own.
pub fn pixels_of(size: &str, width: Option<u32>, height: Option<u32>) -> Option<(u32, u32)> {
    Some(match size {
        "720p" => (1280, 720),
        "1080p" => (1920, 1080),
        "1440p" => (2560, 1440),
        "4K" => (3840, 2160),
        "8K" => (7680, 4320),
        "square" => (1080, 1080),
        "portrait" => (1080, 1920),
        "custom" => (width?, height?),
        _ => return None,
    })
}

const SIZE: Param = Param {
    name: "size",
    about: "Size of every frame; own: that of the first one; custom: the width and height below.",
    unit: "",
    kind: Kind::Choice(&SIZES),
};
const WIDTH: Param = Param {
    name: "width",
    about: "Width where the size is custom.",
    unit: "px",
    kind: Kind::Whole { min: 16, max: 16_384 },
};
const HEIGHT: Param = Param {
    name: "height",
    about: "Height where the size is custom.",
    unit: "px",
    kind: Kind::Whole { min: 16, max: 16_384 },
};
const COLOUR: Param = Param {
    name: "colour",
    about: "What lies around a frame that is fitted in.",
    unit: "",
    kind: Kind::Colour,
};

/// A size that every frame gets exactly.
#[derive(Clone, Debug, PartialEq)]
pub struct OutputFrame {
    /// Pixels per row.
    pub width: u32,
    /// Rows.
    pub height: u32,
    /// `fill` (what sticks out is cut), `fit` (colour around it), `move` (a window of it), or `ask`: only frames of that
    /// proportion are taken.
    pub fit: String,
    /// `#rrggbb` around what is fitted in.
    pub colour: String,
    /// What a move shows of this frame; without, all that fills it.
    pub window: Option<Window>,
    /// Size of the smallest window that a move shows of any frame, against the largest.
    pub nearest: f64,
}

/// What a delivery is.
#[derive(Clone, Debug)]
pub enum What {
    /// A file for each frame.
    Pictures(Pictures),
    /// The same, of one size and numbered.
    Frames(Frames),
    /// A clip.
    Video(Video),
    /// A document.
    Pdf(Pdf),
    /// A contact sheet.
    Contact(Contact),
    /// 16-bit TIFF with what belongs to it.
    Archive(Archive),
    /// Several for a course.
    Course(Course),
    /// Camera raw as raw again.
    Dng(Dng),
    /// One picture of all frames.
    Stack(StackPicture),
}

/// What is done once all pictures of a run are made, or over them all.
#[derive(Clone, Debug, PartialEq)]
#[expect(clippy::large_enum_variant, reason = "a recipe has a handful of them")]
pub enum FinishingTask {
    /// One file of all frames.
    Assembly(Assembly),
    /// Whether numbered frames are all there and of one size.
    Check,
    /// Sidecars and checksums beside the files of an archive.
    Archive,
    /// The settings sheet and the page of a course pack.
    Course,
    /// A ZIP of a delivery's files.
    Zip,
}

impl FinishingTask {
    /// For people.
    pub fn word(&self) -> &'static str {
        match self {
            Self::Assembly(assembly) => assembly.word(),
            Self::Check => "check of the numbered frames",
            Self::Archive => "list of checksums",
            Self::Course => "page of the course pack",
            Self::Zip => "ZIP",
        }
    }
}

/// One delivery of a recipe.
#[derive(Clone, Debug)]
pub struct Delivery {
    /// Its kind with its values.
    pub what: What,
    /// Lines of its own; they follow the recipe's and come before its size.
    pub lines: Vec<Line>,
}

impl Default for Delivery {
    fn default() -> Self {
        Pictures::default().into()
    }
}

impl From<Pictures> for Delivery {
    fn from(pictures: Pictures) -> Self {
        Self { what: What::Pictures(pictures), lines: Vec::new() }
    }
}

impl Delivery {
    /// What kind it is.
    pub fn kind(&self) -> &'static DeliveryKind {
        let at = match self.what {
            What::Pictures(_) => 0,
            What::Frames(_) => 1,
            What::Video(_) => 2,
            What::Pdf(_) => 3,
            What::Contact(_) => 4,
            What::Archive(_) => 5,
            What::Course(_) => 6,
            What::Dng(_) => 7,
            What::Stack(_) => 8,
        };
        &KINDS[at]
    }

    /// Every value as JSON.
    pub fn values(&self) -> Value {
        match &self.what {
            What::Pictures(p) => p.values(),
            What::Frames(f) => json!(f),
            What::Video(v) => json!(v),
            What::Pdf(p) => json!(p),
            What::Contact(c) => json!(c),
            What::Archive(a) => json!(a),
            What::Course(c) => json!(c),
            What::Dng(d) => json!(d),
            What::Stack(s) => json!(s),
        }
    }

    /// Where it goes.
    pub fn target(&self) -> Target {
        match &self.what {
            What::Pictures(p) => p.target(),
            What::Frames(f) => f.target.clone(),
            What::Video(v) => v.target.clone(),
            What::Pdf(p) => p.target.clone(),
            What::Contact(c) => c.target.clone(),
            What::Archive(a) => a.target.clone(),
            What::Course(c) => c.target.clone(),
            What::Dng(d) => d.target.clone(),
            What::Stack(s) => s.target.clone(),
        }
    }

    /// What it writes for each frame.
    pub fn files(&self) -> Vec<Pictures> {
        let mut files = match &self.what {
            What::Pictures(p) => vec![p.clone()],
            What::Frames(f) => vec![f.pictures()],
            What::Archive(a) => vec![a.pictures()],
            What::Dng(d) => vec![d.pictures()],
            What::Course(c) => vec![Pictures { dpi: c.resolution, ..c.frames().pictures() }],
            What::Video(_) | What::Pdf(_) | What::Contact(_) | What::Stack(_) => Vec::new(),
        };
        for file in &mut files {
            file.lines.clone_from(&self.lines);
        }
        files
    }

    /// What it makes of all frames together.
    pub fn assemblies(&self) -> Vec<Assembly> {
        match &self.what {
            What::Video(v) => vec![Assembly::Video(v.clone())],
            What::Pdf(p) => vec![Assembly::Pdf(p.clone())],
            What::Contact(c) => vec![Assembly::Contact(c.clone())],
            What::Stack(s) => vec![Assembly::Stack(s.clone())],
            What::Course(c) => vec![Assembly::Video(c.video()), Assembly::Pdf(c.pdf())],
            What::Pictures(_) | What::Frames(_) | What::Archive(_) | What::Dng(_) => Vec::new(),
        }
    }

    /// What it does once the pictures of a run are made, in order.
    pub fn tasks(&self) -> Vec<FinishingTask> {
        let mut tasks: Vec<FinishingTask> =
            self.assemblies().into_iter().map(FinishingTask::Assembly).collect();
        tasks.extend(match &self.what {
            What::Archive(a) if a.sidecars || a.checksums => Some(FinishingTask::Archive),
            What::Course(_) => Some(FinishingTask::Course),
            What::Frames(_) => Some(FinishingTask::Check),
            _ => None,
        });
        let zip = match &self.what {
            What::Pictures(p) => p.zip,
            What::Frames(f) => f.zip,
            What::Archive(a) => a.zip,
            What::Dng(d) => d.zip,
            _ => false,
        };
        tasks.extend(zip.then_some(FinishingTask::Zip));
        tasks
    }

    /// The document's form, defaults left out but for what people look for.
    pub fn to_value(&self) -> Value {
        let kind = self.kind();
        let mut map = Map::from_iter([("kind".to_owned(), json!(kind.id))]);
        let (values, defaults) = (self.values(), kind.defaults());
        for (key, value) in values.as_object().into_iter().flatten() {
            let is_written = match (&self.what, key.as_str()) {
                (_, "name" | "to") | (What::Pictures(_), "format") => true,
                (What::Pictures(p), "quality") => p.has_quality(),
                _ => defaults[key] != *value,
            };
            if is_written {
                let bits = (key == "bits").then(|| value.as_str()?.parse::<u8>().ok().map(|b| json!(b)));
                map.insert(key.clone(), bits.flatten().unwrap_or_else(|| tidy(value)));
            }
        }
        if !self.lines.is_empty() {
            map.insert("steps".into(), self.lines.iter().map(Line::to_value).collect());
        }
        Value::Object(map)
    }

    /// Reads and checks one delivery at `path`; `lines` reads its own lines.
    ///
    /// # Errors
    /// Every fault with its path.
    pub(crate) fn read(
        path: &str,
        value: &Value,
        mut lines: impl FnMut(&Value) -> Result<Vec<Line>, Vec<Fault>>,
    ) -> Result<Self, Vec<Fault>> {
        let fault = |path: String, message: String| vec![Fault { path, message }];
        let Value::Object(map) = value else {
            return Err(fault(
                path.into(),
                format!("expected an object with \"kind\", got {}", brief(value)),
            ));
        };
        let wanted = map.get("kind").and_then(Value::as_str);
        let Some(kind) = KINDS.iter().find(|k| Some(k.id) == wanted) else {
            let got = wanted.map_or("nothing".into(), |k| format!("{k:?}"));
            let kinds: Vec<&str> = KINDS.iter().map(|k| k.id).collect();
            return Err(fault(
                format!("{path}.kind"),
                format!("expected one of {}, got {got}", kinds.join(", ")),
            ));
        };
        let here = format!("{path}.{}", kind.id);
        let mut faults = Vec::new();
        let mut values = kind.defaults();
        for (key, value) in map.iter().filter(|(k, _)| !["kind", "steps"].contains(&k.as_str())) {
            let Some(param) = kind.params.iter().find(|p| p.name == key) else {
                let names: Vec<_> = kind.params.iter().map(|p| p.name).collect();
                faults.push(Fault {
                    path: format!("{here}.{key}"),
                    message: format!("unknown, {} takes {}", kind.id, names.join(", ")),
                });
                continue;
            };
            // Numbers that are a choice of few, such as 8 and 16 bits, are written as numbers by most people.
            let chosen = matches!(param.kind, Kind::Choice(_)) && value.is_number();
            let value = if chosen { json!(value.to_string()) } else { value.clone() };
            match param.check(&value) {
                Ok(()) => values[key] = value,
                Err(e) => faults.push(Fault { path: format!("{here}.{}", e.path), message: e.message }),
            }
        }
        let text = |key: &str| values[key].as_str().unwrap_or_default();
        let mut texts: Vec<(String, String)> = Vec::new();
        for key in ["name", "folder", "to"] {
            if let Err(message) = names::check(text(key)) {
                texts.push((key.into(), message.to_string()));
            }
        }
        for param in kind.params.iter().filter(|p| matches!(p.kind, Kind::Template(_))) {
            if let Err(message) = names::check_text(text(param.name)) {
                texts.push((param.name.into(), message.to_string()));
            }
        }
        let sized = kind.params.iter().any(|p| p.name == "width");
        if sized && text("size") == "custom" && (values["width"].is_null() || values["height"].is_null()) {
            texts.push(("size".into(), "custom needs a width and a height".into()));
        }
        if kind.id == "frames" && !text("name").contains("{n") {
            let message = "expected {n} in the name, such as frame-{n:05}: frames are taken by their numbers";
            texts.push(("name".into(), message.into()));
        }
        let mut tell = |key: &str, message: String| texts.push((key.into(), message));
        let what = match kind.id {
            "pictures" => Ok(What::Pictures(Pictures::of(&values, &mut tell))),
            "frames" => serde_json::from_value(values).map(What::Frames),
            "video" => serde_json::from_value(values).map(|video: Video| {
                if let Some(message) = video.move_fault() {
                    tell("move", message);
                }
                What::Video(video)
            }),
            "pdf" => serde_json::from_value(values).map(What::Pdf),
            "contact" => serde_json::from_value(values).map(What::Contact),
            "archive" => serde_json::from_value(values).map(What::Archive),
            "dng" => serde_json::from_value(values).map(What::Dng),
            "stack" => serde_json::from_value(values).map(What::Stack),
            _ => serde_json::from_value(values).map(What::Course),
        };
        faults
            .extend(texts.into_iter().map(|(key, message)| Fault { path: format!("{here}.{key}"), message }));
        let lines = match map.get("steps").map(&mut lines) {
            None => Vec::new(),
            Some(Ok(lines)) => lines,
            Some(Err(mut wrong)) => {
                faults.append(&mut wrong);
                Vec::new()
            }
        };
        if !faults.is_empty() {
            return Err(faults);
        }
        what.map(|what| Self { what, lines }).map_err(|e| fault(here, e.to_string()))
    }

    /// The same with its frames' own size as pixels, where it asks for that: `size` is what the recipe makes of the first
    /// frame.
    pub fn settled(&self, size: (u32, u32)) -> Self {
        let mut settled = self.clone();
        let (kind, width, height) = match &mut settled.what {
            What::Frames(f) => (&mut f.size, &mut f.width, &mut f.height),
            What::Video(v) => (&mut v.size, &mut v.width, &mut v.height),
            _ => return settled,
        };
        if kind == "own" {
            // Clips have colour samples for two pixels each way.
            let even = |n: u32| (n & !1).max(16);
            *kind = "custom".into();
            (*width, *height) = (Some(even(size.0)), Some(even(size.1)));
        }
        settled
    }
}
