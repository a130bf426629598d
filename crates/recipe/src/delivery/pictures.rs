//! Pictures: a file, or one in each of several widths, for each frame. What other kinds make of each frame is described
//! by the same values.

use super::{CAMERA_DATA, FOLDER, NAME, OutputFrame, SHARPEN, START, TO, Target, ZIP};
use crate::{Line, ResolveContext, SequencePlace};
use rallo_engine::{Kind, OutputColour, OutputProfile, Param, Plan};
use serde_json::{Value, json};
use std::sync::Arc;

/// Formats that are written.
pub const FORMATS: [&str; 8] = ["jpeg", "png", "webp", "avif", "jxl", "tiff", "as it is", "copy"];

/// Most widths of one delivery.
const MOST_WIDTHS: usize = 12;

/// Reads widths such as `480, 960`, from the smallest on.
///
/// # Errors
/// What was expected instead.
fn widths(text: &str) -> Result<Vec<u32>, String> {
    let parts = text.split([',', ' ', ';']).filter(|p| !p.is_empty());
    let read = |p: &str| p.parse().ok().filter(|w| (1..=65_535).contains(w));
    let mut widths: Vec<u32> = parts
        .map(|p| read(p).ok_or_else(|| format!("expected widths in pixels such as 480, 960, got {p}")))
        .collect::<Result<_, _>>()?;
    widths.sort_unstable();
    widths.dedup();
    if widths.len() > MOST_WIDTHS {
        return Err(format!("expected at most {MOST_WIDTHS} widths, got {}", widths.len()));
    }
    Ok(widths)
}

/// Parameters of the delivery `pictures`.
pub static PICTURES: [Param; 22] = [
    Param {
        name: "format",
        about: "File format; as it is: the original's own, its pixels carried over without being encoded again. No line that changes pixels applies to it. copy: the original itself, byte for byte, under the name of this delivery.",
        unit: "",
        kind: Kind::Choice(&FORMATS),
    },
    Param {
        name: "quality",
        about: "Quality of a JPEG, a WebP, an AVIF or a JPEG XL.",
        unit: "",
        kind: Kind::Number { min: 1.0, max: 100.0, step: 1.0 },
    },
    Param {
        name: "chroma",
        about: "Colour samples of a JPEG: one a pixel, one for two, one for four.",
        unit: "",
        kind: Kind::Choice(&["4:4:4", "4:2:2", "4:2:0"]),
    },
    Param {
        name: "progressive",
        about: "A JPEG that appears from coarse to fine.",
        unit: "",
        kind: Kind::Flag,
    },
    Param {
        name: "optimised",
        about: "Code tables of the JPEG's own: a few per cent smaller, a little slower.",
        unit: "",
        kind: Kind::Flag,
    },
    Param {
        name: "limit",
        about: "No file above so many kilobytes: the quality goes down as far as that takes; the quality above is the most.",
        unit: "kB",
        kind: Kind::Whole { min: 1, max: 1_000_000 },
    },
    Param { name: "lossless", about: "A WebP or a JPEG XL that loses nothing.", unit: "", kind: Kind::Flag },
    Param {
        name: "bits",
        about: "Bits a sample of a PNG, a JPEG XL or a TIFF; with 32 the samples of a TIFF are floats.",
        unit: "",
        kind: Kind::Choice(&["8", "16", "32"]),
    },
    Param {
        name: "compression",
        about: "How a TIFF is packed; nothing is lost by it.",
        unit: "",
        kind: Kind::Choice(&["none", "lzw", "deflate"]),
    },
    Param {
        name: "transparent",
        about: "What is transparent stays so in formats that know of it (PNG, WebP, AVIF, JPEG XL, TIFF); otherwise, and in a JPEG, it is laid on the recipe's background colour.",
        unit: "",
        kind: Kind::Flag,
    },
    Param {
        name: "long_edge",
        about: "Longest side of the results; smaller pictures stay as they are. Without it they are as the lines make them.",
        unit: "px",
        kind: Kind::Whole { min: 1, max: 65_535 },
    },
    Param {
        name: "widths",
        about: "Several widths of each picture, such as 480, 960, 1920; each is a file, with its width behind its name.",
        unit: "px",
        kind: Kind::Text(100),
    },
    SHARPEN,
    Param {
        name: "page",
        about: "A page beside the results that shows them, with the lines to put each into a page of one's own.",
        unit: "",
        kind: Kind::Flag,
    },
    ZIP,
    START,
    Param {
        name: "profile",
        about: "Colour space of the result, embedded; recipe: what its line Convert profile says, sRGB without one.",
        unit: "",
        kind: Kind::Choice(&["recipe", "srgb", "display-p3", "op-rgb", "romm-rgb", "rec2020"]),
    },
    NAME,
    TO,
    FOLDER,
    Param {
        name: "existing",
        about: "What happens where a file of that name exists: the picture fails, the result gets a number, or an older result is replaced.",
        unit: "",
        kind: Kind::Choice(&["fail", "number", "replace"]),
    },
    CAMERA_DATA,
];

/// What is written into a frame of a clip.
#[derive(Clone, Debug, PartialEq)]
pub struct Burned {
    /// Template.
    pub text: String,
    /// Where it stands, one of the engine's places.
    pub place: String,
    /// Hundredths of the long edge.
    pub size: f64,
}

/// Pictures, one for each frame.
#[derive(Clone, Debug)]
pub struct Pictures {
    /// One of [`FORMATS`].
    pub format: String,
    /// 1 ..= 100.
    pub quality: u8,
    /// `4:4:4`, `4:2:2` or `4:2:0`.
    pub chroma: String,
    /// Coarse to fine.
    pub progressive: bool,
    /// Code tables of its own.
    pub optimised: bool,
    /// Most kilobytes of a file.
    pub limit: Option<u32>,
    /// A WebP or a JPEG XL that loses nothing.
    pub lossless: bool,
    /// 8, 16, or 32 for floats.
    pub bits: u8,
    /// `none`, `lzw` or `deflate`.
    pub compression: String,
    /// Whether what is transparent stays so, where the format knows of it.
    pub transparent: bool,
    /// Pixels of the longest side.
    pub long_edge: Option<u32>,
    /// Several widths, from the smallest on.
    pub widths: Vec<u32>,
    /// Sharpening for a screen, 0 ..= 100.
    pub sharpen: f64,
    /// Whether a page shows the results.
    pub page: bool,
    /// Whether they are packed into a ZIP as well.
    pub zip: bool,
    /// The number of the first one.
    pub start: u32,
    /// Colour space; without one the recipe's own, sRGB where it says nothing.
    pub profile: Option<OutputProfile>,
    /// Naming template.
    pub name: String,
    /// `subfolder`, or a folder's path.
    pub to: String,
    /// Template of the sub-folder's name.
    pub folder: String,
    /// `fail`, `number` or `replace`.
    pub existing: String,
    /// Whether camera data are carried over.
    pub camera_data: bool,
    /// Lines of this delivery alone, before its size.
    pub lines: Vec<Line>,
    /// Exactly this size, for kinds that need one.
    pub frame: Option<OutputFrame>,
    /// What is written over it, for kinds that do so.
    pub burned: Option<Burned>,
    /// Pixels per inch that are written into the file, where the recipe says none.
    pub dpi: Option<u32>,
    /// Whether what the recipe does to the shape is in camera raw that is handed on.
    pub shaped: bool,
    /// Whether the finest detail may go for speed.
    pub quick: bool,
}

impl Default for Pictures {
    fn default() -> Self {
        Self {
            format: "jpeg".into(),
            quality: 85,
            chroma: "4:2:0".into(),
            progressive: false,
            optimised: false,
            limit: None,
            lossless: false,
            bits: 8,
            compression: "deflate".into(),
            transparent: true,
            long_edge: None,
            widths: Vec::new(),
            sharpen: 0.0,
            page: false,
            zip: false,
            start: 1,
            profile: None,
            name: "{stem}".into(),
            to: "subfolder".into(),
            folder: "{recipe}".into(),
            existing: "fail".into(),
            camera_data: true,
            lines: Vec::new(),
            frame: None,
            burned: None,
            dpi: None,
            shaped: false,
            quick: false,
        }
    }
}

impl Pictures {
    /// The colours its results leave in, by a recipe placed on a picture.
    pub fn colours(&self, plan: &Plan) -> Arc<OutputColour> {
        self.colours_or(plan.colours())
    }

    /// As [`colours`](Self::colours), by what the recipe itself says.
    pub fn colours_or(&self, by_recipe: Option<Arc<OutputColour>>) -> Arc<OutputColour> {
        // What shows an AVIF without a profile takes it for sRGB, and it carries none here.
        if self.format == "avif" {
            return OutputProfile::Srgb.shared();
        }
        let colours = self.profile.map(OutputProfile::shared).or(by_recipe);
        colours.unwrap_or_else(|| OutputProfile::Srgb.shared())
    }

    /// Every value as JSON.
    pub fn values(&self) -> Value {
        let named = |profile| OutputProfile::ALL.iter().find(|(_, p)| *p == profile).map(|(n, _)| *n);
        let profile = self.profile.and_then(named).unwrap_or("recipe");
        json!({
            "format": self.format, "quality": self.quality, "chroma": self.chroma,
            "progressive": self.progressive, "optimised": self.optimised, "limit": self.limit, "lossless": self.lossless,
            "bits": self.bits.to_string(), "compression": self.compression, "long_edge": self.long_edge,
            "widths": self.widths.iter().map(u32::to_string).collect::<Vec<_>>().join(", "),
            "sharpen": self.sharpen, "page": self.page, "zip": self.zip, "start": self.start, "profile": profile,
            "name": self.name, "to": self.to, "folder": self.folder, "existing": self.existing,
            "camera_data": self.camera_data, "transparent": self.transparent,
        })
    }

    /// What shapes the file's bytes.
    pub fn identity(&self) -> Value {
        let mut values = self.values();
        if let Some(map) = values.as_object_mut() {
            // First, and the last of them: what is taken out moves no other, so older results stay known.
            map.remove("transparent");
            for key in ["name", "to", "folder", "existing", "page", "widths", "zip", "start"] {
                map.remove(key);
            }
            if !self.optimised {
                map.remove("optimised");
            }
            // What other kinds have besides; nothing is said of it where there is none, so older results stay known.
            if let Some(frame) = &self.frame {
                map.insert("frame".into(), json!([frame.width, frame.height, frame.fit, frame.colour]));
            }
            if let Some(burned) = &self.burned {
                map.insert("burned".into(), json!([burned.text, burned.place, burned.size]));
            }
            if !self.transparent {
                map.insert("transparent".into(), json!(false));
            }
            if self.shaped {
                map.insert("shaped".into(), json!(true));
            }
            if let Some(dpi) = self.dpi {
                map.insert("dpi".into(), json!(dpi));
            }
        }
        values
    }

    /// A picture with its number as this delivery counts.
    pub fn counted(&self, context: &ResolveContext) -> ResolveContext {
        let number = (context.sequence.number + self.start as usize).saturating_sub(1);
        ResolveContext { sequence: SequencePlace { number, ..context.sequence }, ..context.clone() }
    }

    /// Where they go.
    pub fn target(&self) -> Target {
        Target {
            name: self.name.clone(),
            to: self.to.clone(),
            folder: self.folder.clone(),
            existing: self.existing.clone(),
        }
    }

    /// The ending of its files; that of the original where its pixels are carried over.
    pub fn ending_for(&self, original: &str, is_raw: bool) -> String {
        match (self.is_dng(), self.is_carried()) {
            (true, _) if is_raw => "dng".into(),
            (_, true) => original.to_lowercase(),
            (_, false) => self.ending().to_owned(),
        }
    }

    /// The ending of files it encodes.
    pub fn ending(&self) -> &'static str {
        match self.format.as_str() {
            "png" => "png",
            "webp" => "webp",
            "avif" => "avif",
            "jxl" => "jxl",
            "tiff" => "tif",
            _ => "jpg",
        }
    }

    /// Whether its format has a quality that can be chosen.
    pub fn has_quality(&self) -> bool {
        match self.format.as_str() {
            "jpeg" | "avif" => true,
            "webp" | "jxl" => !self.lossless,
            _ => false,
        }
    }

    /// Whether the original's pixels are carried over as they are.
    pub fn is_carried(&self) -> bool {
        self.format == "as it is" || self.is_copy() || self.is_dng()
    }

    /// Whether camera raw is handed on as raw.
    pub fn is_dng(&self) -> bool {
        self.format == "dng"
    }

    /// Whether the originals go along untouched.
    pub fn is_copy(&self) -> bool {
        self.format == "copy"
    }

    /// Whether its files stay transparent where the picture is.
    pub fn keeps_transparent(&self) -> bool {
        let knows = matches!(self.format.as_str(), "png" | "webp" | "avif" | "jxl" | "tiff");
        self.transparent && knows && self.frame.is_none() && self.burned.is_none()
    }

    /// Whether floats are written.
    pub fn is_float(&self) -> bool {
        self.bits == 32 && self.format == "tiff"
    }

    /// Whether 16 bits a sample are written.
    pub fn is_wide(&self) -> bool {
        self.bits >= 16 && !self.is_float() && matches!(self.format.as_str(), "png" | "jxl" | "tiff")
    }

    /// The files it makes of one picture, by their width; one of the width that comes of itself without any.
    pub fn variants(&self) -> Vec<Option<u32>> {
        if self.widths.is_empty() { vec![None] } else { self.widths.iter().map(|w| Some(*w)).collect() }
    }

    /// Takes its values over from a document, each checked before; what only all of them together show is told.
    pub(super) fn of(values: &Value, faults: &mut dyn FnMut(&str, String)) -> Self {
        let widths = widths(values["widths"].as_str().unwrap_or_default()).unwrap_or_else(|message| {
            faults("widths", message);
            Vec::new()
        });
        let whole = |key: &str| values[key].as_u64().map(|n| n as u32);
        let text = |key: &str| values[key].as_str().unwrap_or_default().to_owned();
        let flag = |key: &str| values[key] == json!(true);
        Self {
            format: text("format"),
            quality: values["quality"].as_f64().unwrap_or(85.0).round() as u8,
            chroma: text("chroma"),
            progressive: flag("progressive"),
            optimised: flag("optimised"),
            limit: whole("limit"),
            lossless: flag("lossless"),
            compression: text("compression"),
            transparent: flag("transparent"),
            long_edge: whole("long_edge"),
            widths,
            sharpen: values["sharpen"].as_f64().unwrap_or_default(),
            page: flag("page"),
            zip: flag("zip"),
            start: values["start"].as_f64().unwrap_or(1.0).round() as u32,
            bits: text("bits").parse().unwrap_or(8),
            profile: OutputProfile::named(&text("profile")),
            name: text("name"),
            to: text("to"),
            folder: text("folder"),
            existing: text("existing"),
            camera_data: flag("camera_data"),
            ..Self::default()
        }
    }
}
