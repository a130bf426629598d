//! Assemblies: one file of all frames. A clip, a document, a contact sheet, one picture of all; what each frame becomes
//! before it joins them is described as pictures.

use super::{Burned, OutputFrame, Pictures, Target, pixels_of};
use crate::delivery::contact_sheet::Contact;
use crate::delivery::pdf::Pdf;
use crate::delivery::stack::StackPicture;
use crate::delivery::video::Video;
use rallo_engine::OutputProfile;
use serde_json::{Value, json};

/// One file of all frames.
#[derive(Clone, Debug, PartialEq)]
#[expect(clippy::large_enum_variant, reason = "a recipe has a handful of them")]
pub enum Assembly {
    /// A clip.
    Video(Video),
    /// A document.
    Pdf(Pdf),
    /// A contact sheet.
    Contact(Contact),
    /// One picture of all frames.
    Stack(StackPicture),
}

impl Assembly {
    /// For people, in a sentence.
    pub fn word(&self) -> &'static str {
        match self {
            Self::Video(_) => "clip",
            Self::Pdf(_) => "document",
            Self::Contact(_) => "contact sheet",
            Self::Stack(_) => "picture of all frames",
        }
    }

    /// Whether it takes the last frame first.
    pub fn is_backwards(&self) -> bool {
        matches!(self, Self::Video(v) if v.backwards)
    }

    /// Where it goes.
    pub fn target(&self) -> &Target {
        match self {
            Self::Video(v) => &v.target,
            Self::Pdf(p) => &p.target,
            Self::Contact(c) => &c.target,
            Self::Stack(s) => &s.target,
        }
    }

    /// The ending of its file.
    pub fn ending(&self) -> &'static str {
        match self {
            Self::Video(v) => match v.codec() {
                "VP9" => "webm",
                "intra 4:2:2" => "mov",
                "FFV1" => "mkv",
                "GIF" => "gif",
                "WebP" => "webp",
                _ => "mp4",
            },
            Self::Pdf(_) => "pdf",
            Self::Contact(c) => match c.format.as_str() {
                "png" => "png",
                "pdf" => "pdf",
                _ => "jpg",
            },
            Self::Stack(s) => match s.format.as_str() {
                "png" => "png",
                "tiff" => "tif",
                _ => "jpg",
            },
        }
    }

    /// Which of `count` frames it needs.
    pub fn needs(&self, count: usize) -> Vec<bool> {
        let video = match self {
            Self::Video(video) if !video.makes_between() => video,
            _ => return vec![true; count],
        };
        let mut chosen = vec![false; count];
        for k in video.order(count) {
            chosen[k] = true;
        }
        chosen
    }

    /// What each frame becomes before it joins.
    pub fn stage(&self) -> Pictures {
        let Target { name, to, folder, existing } = self.target().clone();
        let stage = Pictures {
            profile: Some(OutputProfile::Srgb),
            chroma: "4:4:4".into(),
            name,
            to,
            folder,
            existing,
            ..Pictures::default()
        };
        match self {
            Self::Video(v) => Pictures {
                // A window that nears must not change from one way of reducing to another in passing.
                quick: !matches!(v.codec(), "intra 4:2:2" | "FFV1") && !v.is_moving(),
                format: "png".into(),
                bits: 16,
                sharpen: v.sharpen,
                // Colour samples are for two pixels each way.
                frame: pixels_of(&v.size, v.width, v.height).map(|(width, height)| OutputFrame {
                    width: width & !1,
                    height: height & !1,
                    fit: v.fit.clone(),
                    colour: v.colour.clone(),
                    window: None,
                    nearest: v.nearest(),
                }),
                burned: (!v.text.trim().is_empty()).then(|| Burned {
                    text: v.text.clone(),
                    place: v.text_place.clone(),
                    size: v.text_size,
                }),
                start: v.first.round() as u32,
                ..stage
            },
            Self::Pdf(p) => {
                let ppi = f64::from(p.resolution.unwrap_or(200));
                let edge =
                    p.cell().map(|(w, h)| (w.max(h) / 25.4 * ppi).round().clamp(16.0, 16_000.0) as u32);
                Pictures {
                    quality: p.quality.round() as u8,
                    long_edge: edge,
                    start: p.start.round() as u32,
                    ..stage
                }
            }
            Self::Contact(c) => {
                let format = if c.format == "pdf" { "jpeg" } else { "png" };
                Pictures {
                    format: format.into(),
                    quality: c.quality.round() as u8,
                    long_edge: Some(c.cell.unwrap_or(320)),
                    start: c.start.round() as u32,
                    sharpen: 20.0,
                    ..stage
                }
            }
            Self::Stack(s) => Pictures {
                format: s.format.clone(),
                bits: if s.format == "jpeg" { 8 } else { 16 },
                quality: s.quality.round() as u8,
                long_edge: s.long_edge,
                sharpen: s.sharpen,
                ..stage
            },
        }
    }

    /// What shapes the file beside its frames.
    pub fn identity(&self) -> Value {
        let mut values = match self {
            Self::Video(v) => json!(v),
            Self::Pdf(p) => json!(p),
            Self::Contact(c) => json!(c),
            Self::Stack(s) => json!(s),
        };
        if let Some(map) = values.as_object_mut() {
            for key in ["name", "to", "folder", "existing"] {
                map.remove(key);
            }
            // Clips of earlier versions stay known.
            if matches!(self, Self::Video(v) if !v.is_moving()) {
                map.remove("move");
                map.remove("ease");
            }
        }
        values
    }
}
