//! The shoot as an open document: `"format": "rallo-shoot"`, version 1. It holds what belongs to the frames and
//! not to a recipe: order, choices, ratings, keywords, corrected times.

use crate::frame::{MAX_RATING, Marks};
use crate::measured_area::NamedArea;
use crate::sieve::{SwitchedPass, sieve};
use crate::{Choice, Frame, Order, Sort};
use rallo_recipe::FrameAdjustments;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::path::{Path, PathBuf};

/// The version this program writes and the newest it reads.
pub const VERSION: u64 = 1;

/// A folder or a file a shoot is made of.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Place {
    /// Folder or file; relative paths are relative to the document.
    pub path: PathBuf,
    /// With sub-folders.
    #[serde(default)]
    pub deep: bool,
}

/// One frame.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Entry {
    /// The file; relative paths are relative to the document.
    pub path: PathBuf,
    /// Open, kept or set aside.
    #[serde(default)]
    pub choice: Choice,
    /// 0 none … 5.
    #[serde(default)]
    pub rating: u8,
    /// Keywords.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub keywords: Vec<String>,
    /// Correction of the capture time in seconds.
    #[serde(default)]
    pub shift: f64,
    /// Its own small changes on top of a recipe.
    #[serde(default, skip_serializing_if = "FrameAdjustments::is_nothing")]
    pub own: FrameAdjustments,
    /// Whether the sieve set it aside, and not a person.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub by_sieve: bool,
}

/// How the frames are measured and sieved as a sequence.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct SequenceSettings {
    /// The sieve's passes, in their order.
    pub passes: Vec<SwitchedPass>,
    /// Areas that are measured besides the whole.
    pub areas: Vec<NamedArea>,
    /// Behind how many lines of the recipe they are measured; 0 is the originals.
    pub behind: usize,
}

impl SequenceSettings {
    /// Whether nothing is said.
    pub fn is_nothing(&self) -> bool {
        *self == Self::default()
    }

    /// What of it makes no sense.
    fn wrong(&self) -> Option<String> {
        let areas = NamedArea::check(&self.areas).map_err(|e| e.to_string());
        areas.and_then(|()| sieve(&[], &self.passes).map(drop).map_err(|e| e.to_string())).err()
    }
}

/// The document.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Document {
    /// `rallo-shoot`.
    pub format: String,
    /// 1.
    pub version: u64,
    /// The shoot's name.
    pub name: String,
    /// What it is made of.
    #[serde(default)]
    pub places: Vec<Place>,
    /// How it was sorted; the frames below stand in this order.
    #[serde(default)]
    pub order: Order,
    /// The frames.
    pub frames: Vec<Entry>,
    /// Them as a sequence.
    #[serde(default, skip_serializing_if = "SequenceSettings::is_nothing")]
    pub sequence: SequenceSettings,
}

/// Why a document cannot be used.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[error("{0}")]
pub struct DocumentError(pub String);

impl Document {
    /// From frames that stand in `order`; paths below `near` are written relative to it.
    pub fn new(name: &str, places: &[Place], order: Order, frames: &[&Frame], near: &Path) -> Self {
        let short = |p: &Path| p.strip_prefix(near).map_or(p.to_owned(), Path::to_owned);
        let entry = |f: &&Frame| Entry {
            path: short(&f.path),
            choice: f.marks.choice,
            rating: f.marks.rating,
            keywords: f.marks.keywords.clone(),
            shift: f.marks.shift as f64 / 1000.0,
            own: f.marks.own,
            by_sieve: false,
        };
        Self {
            format: "rallo-shoot".into(),
            version: VERSION,
            name: name.into(),
            places: places.iter().map(|p| Place { path: short(&p.path), deep: p.deep }).collect(),
            order,
            frames: frames.iter().map(entry).collect(),
            sequence: SequenceSettings::default(),
        }
    }

    /// Reads a document that lies in the folder `near`; every path comes back absolute where `near` is.
    ///
    /// # Errors
    /// [`DocumentError`] with the path of what is wrong.
    pub fn parse(text: &str, near: &Path) -> Result<Self, DocumentError> {
        let fail = |m: String| Err(DocumentError(m));
        let value: serde_json::Value =
            serde_json::from_str(text).map_err(|e| DocumentError(format!("this is no JSON: {e}")))?;
        if value["format"] != "rallo-shoot" {
            return fail(format!("format: expected \"rallo-shoot\", got {}", value["format"]));
        }
        match value["version"].as_u64() {
            Some(1..=VERSION) => {}
            _ => {
                return fail(format!(
                    "version: this program reads up to {VERSION}, got {}",
                    value["version"]
                ));
            }
        }
        if let Some(frames) = value["frames"].as_array() {
            for (i, one) in frames.iter().enumerate() {
                if let Err(e) = serde_json::from_value::<Entry>(one.clone()) {
                    return fail(format!("frames[{i}]: {e}"));
                }
            }
        }
        let mut document: Self = serde_json::from_value(value).map_err(|e| DocumentError(e.to_string()))?;
        if let Some(wrong) = document.sequence.wrong() {
            return fail(format!("sequence.{wrong}"));
        }
        for (i, entry) in document.frames.iter_mut().enumerate() {
            if entry.rating > MAX_RATING {
                return fail(format!("frames[{i}].rating: expected 0 to {MAX_RATING}, got {}", entry.rating));
            }
            if !entry.shift.is_finite() || entry.shift.abs() > 3.2e9 {
                return fail(format!("frames[{i}].shift: expected seconds, got {}", entry.shift));
            }
            if let Some(wrong) = wrong_own(&entry.own) {
                return fail(format!("frames[{i}].own.{wrong}"));
            }
            entry.path = near.join(&entry.path);
        }
        for place in &mut document.places {
            place.path = near.join(&place.path);
        }
        Ok(document)
    }

    /// What is decided about the frame at `position`, in the document's order.
    pub fn marks(&self, position: usize) -> Option<Marks> {
        let entry = self.frames.get(position)?;
        Some(Marks {
            choice: entry.choice,
            rating: entry.rating,
            keywords: entry.keywords.clone(),
            shift: (entry.shift * 1000.0).round() as i64,
            hand: (self.order.by == Sort::Hand).then_some(position as f64),
            own: entry.own,
        })
    }
}

/// What of a frame's own changes is out of range.
pub fn wrong_own(adjustments: &FrameAdjustments) -> Option<String> {
    let ranges = [
        ("exposure", adjustments.exposure, 5.0),
        ("right", adjustments.right, 100.0),
        ("down", adjustments.down, 100.0),
    ];
    let wrong = ranges.into_iter().find(|(_, v, most)| !v.is_finite() || v.abs() > *most)?;
    Some(format!("{}: expected a number from -{} to {}, got {}", wrong.0, wrong.2, wrong.2, wrong.1))
}

/// The frames a run takes: the kept ones; where none is kept, all that are not set aside.
pub fn in_the_work(choices: &[Choice]) -> Vec<bool> {
    let kept = choices.contains(&Choice::Kept);
    choices.iter().map(|c| if kept { *c == Choice::Kept } else { *c != Choice::SetAside }).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::frame::tests::frame;

    #[test]
    fn what_is_written_is_read_back() {
        let mut frames = [frame(1, "card/b.jpg", 0.0), frame(2, "a.jpg", 1.0)];
        frames[0].marks = Marks {
            choice: Choice::Kept,
            rating: 4,
            keywords: vec!["pots".into()],
            shift: -90_500,
            hand: Some(0.0),
            own: FrameAdjustments { exposure: 0.5, right: -10.0, down: 0.0 },
        };
        let places = [Place { path: "/shoot".into(), deep: true }];
        let order = Order { by: Sort::Hand, descending: false };
        let all: Vec<&Frame> = frames.iter().collect();
        let document = Document::new("Spring", &places, order, &all, Path::new("/shoot"));
        let text = serde_json::to_string(&document).unwrap();
        assert!(text.contains("\"card/b.jpg\"") && !text.contains("\"set_aside\""));
        assert!(!text.contains("sequence") && !text.contains("by_sieve"), "{text}");
        let back = Document::parse(&text, Path::new("/elsewhere")).unwrap();
        assert_eq!(back.frames[0].path, Path::new("/elsewhere/card/b.jpg"));
        assert_eq!(back.marks(0).unwrap(), frames[0].marks);
        assert_eq!(back.marks(1).unwrap().hand, Some(1.0));
    }

    #[test]
    fn passes_and_areas_of_a_sequence_go_with_it() {
        let read = |sequence: &str| {
            let frames = "[{\"path\": \"a.jpg\", \"choice\": \"set_aside\", \"by_sieve\": true}]";
            let head =
                format!("\"format\": \"rallo-shoot\", \"version\": 1, \"name\": \"a\", \"frames\": {frames}");
            Document::parse(&format!("{{{head}, \"sequence\": {sequence}}}"), Path::new("/x"))
        };
        let area = "{\"name\": \"sky\", \"ellipse\": [0.1, 0.1, 0.5, 0.5]}";
        let pass = "{\"pass\": \"every\", \"n\": 3, \"on\": false}";
        let document =
            read(&format!("{{\"areas\": [{area}], \"passes\": [{pass}], \"behind\": 2}}")).unwrap();
        assert_eq!((document.sequence.areas[0].name.as_str(), document.sequence.behind), ("sky", 2));
        assert!(!document.sequence.passes[0].on && document.frames[0].by_sieve);
        let back = Document::parse(&serde_json::to_string(&document).unwrap(), Path::new("/x")).unwrap();
        assert_eq!(back, document);
        let wrong = |sequence: &str| read(sequence).unwrap_err().to_string();
        let beyond = wrong("{\"areas\": [{\"rectangle\": [0.5, 0, 0.6, 1]}]}");
        assert!(beyond.starts_with("sequence.areas[0]: expected left"), "{beyond}");
        let late = wrong("{\"passes\": [{\"pass\": \"time\", \"from\": \"31:00\", \"to\": \"9:00\"}]}");
        assert!(late.starts_with("sequence.passes[0]."), "{late}");
    }

    #[test]
    fn what_is_wrong_is_said_with_its_place() {
        let near = Path::new("/x");
        let wrong = |text: &str| Document::parse(text, near).unwrap_err().to_string();
        assert!(wrong("{").starts_with("this is no JSON"));
        assert_eq!(wrong("{\"format\": \"x\"}"), "format: expected \"rallo-shoot\", got \"x\"");
        let head = "{\"format\": \"rallo-shoot\", \"version\": 1, \"name\": \"a\", \"frames\": ";
        assert!(
            wrong(&format!("{head} [{{\"path\": \"a\", \"choice\": \"maybe\"}}]}}"))
                .starts_with("frames[0]: unknown variant")
        );
        assert_eq!(
            wrong(&format!("{head} [{{\"path\": \"a\"}}, {{\"path\": \"b\", \"rating\": 9}}]}}")),
            "frames[1].rating: expected 0 to 5, got 9"
        );
        assert!(
            wrong("{\"format\": \"rallo-shoot\", \"version\": 9}")
                .starts_with("version: this program reads up to 1")
        );
    }

    #[test]
    fn kept_frames_are_the_work_or_all_that_are_not_set_aside() {
        use Choice::*;
        assert_eq!(in_the_work(&[Open, Kept, SetAside]), [false, true, false]);
        assert_eq!(in_the_work(&[Open, Open, SetAside]), [true, true, false]);
    }
}
