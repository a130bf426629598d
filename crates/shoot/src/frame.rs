//! A frame: a file, what it says, what it measures, and what people decided about it.

use jiff::SignedDuration;
use jiff::civil::DateTime;
use rallo_engine::Measures;
use rallo_media::Facts;
use rallo_recipe::FrameAdjustments;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::path::PathBuf;

/// Whether a frame is in the work.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Choice {
    /// Not decided yet.
    #[default]
    Open,
    /// In the work.
    Kept,
    /// Left out, reversibly.
    SetAside,
}

impl Choice {
    /// As kept in the store: 0, 1, 2.
    pub fn number(self) -> i64 {
        self as i64
    }
    /// From the store's number.
    pub fn from_number(n: i64) -> Self {
        match n {
            1 => Self::Kept,
            2 => Self::SetAside,
            _ => Self::Open,
        }
    }
}

/// Highest rating; 0 is none.
pub const MAX_RATING: u8 = 5;

/// What people decided about one frame.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Marks {
    /// Open, kept or set aside.
    pub choice: Choice,
    /// 0 none … 5.
    pub rating: u8,
    /// Keywords, in the order they were given.
    pub keywords: Vec<String>,
    /// Correction of the capture time in milliseconds.
    pub shift: i64,
    /// Place in the order by hand.
    pub hand: Option<f64>,
    /// Its own small changes on top of a recipe.
    pub own: FrameAdjustments,
}

/// One frame of a shoot.
#[derive(Clone, Debug)]
pub struct Frame {
    /// Identity in the store.
    pub id: i64,
    /// The file.
    pub path: PathBuf,
    /// Its name.
    pub name: String,
    /// Size of the file.
    pub bytes: u64,
    /// Its modification time, nanoseconds since 1970.
    pub modified: i64,
    /// What the file says; nothing where it cannot be read.
    pub facts: Option<Facts>,
    /// Why it cannot be read.
    pub problem: Option<String>,
    /// What it measures, once it was measured.
    pub measures: Option<Measures>,
    /// What people decided.
    pub marks: Marks,
}

impl Frame {
    /// Capture time, corrected by the frame's shift.
    pub fn taken(&self) -> Option<DateTime> {
        shifted(self.facts.as_ref()?.camera.taken?, self.marks.shift)
    }

    /// Capture time in seconds on the camera's clock.
    pub fn seconds(&self) -> Option<f64> {
        self.taken().map(seconds)
    }
}

/// A time moved by milliseconds; nothing where it would leave the calendar.
pub fn shifted(taken: DateTime, millis: i64) -> Option<DateTime> {
    taken.checked_add(SignedDuration::from_millis(millis)).ok()
}

/// Seconds since the year 2000 on the same clock.
pub fn seconds(time: DateTime) -> f64 {
    let start = DateTime::constant(2000, 1, 1, 0, 0, 0, 0);
    time.duration_since(start).as_secs_f64()
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use rallo_media::{CameraData, Format};

    /// A readable frame called `name`, `seconds` after a start.
    pub fn frame(id: i64, name: &str, at: f64) -> Frame {
        let start = DateTime::constant(2026, 5, 4, 9, 0, 0, 0);
        let taken = shifted(start, (at * 1000.0) as i64);
        Frame {
            id,
            path: PathBuf::from("/shoot").join(name),
            name: name.rsplit('/').next().unwrap().into(),
            bytes: 1000 + id as u64,
            modified: 0,
            facts: Some(Facts {
                path: PathBuf::from("/shoot").join(name),
                format: Format::Jpeg,
                width: 1920,
                height: 1280,
                bits: 8,
                profile: "sRGB".into(),
                bytes: 1000,
                rating: 0,
                keywords: Vec::new(),
                notes: Vec::new(),
                done: Vec::new(),
                camera: CameraData { taken, iso: Some(200), orientation: 1, ..CameraData::default() },
            }),
            problem: None,
            measures: None,
            marks: Marks::default(),
        }
    }

    #[test]
    fn a_shift_moves_the_capture_time_only() {
        let mut f = frame(1, "a.jpg", 10.5);
        f.marks.shift = -3_600_000;
        assert_eq!(f.taken().unwrap().to_string(), "2026-05-04T08:00:10.5");
        assert_eq!(f.facts.unwrap().camera.taken.unwrap().hour(), 9);
    }
}
