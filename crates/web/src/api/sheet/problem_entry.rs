//! Problems as the sheet shows them, with what can be done about each.

use crate::api::sheet::asked::Prepared;
use rallo_runner::Problem;
use rallo_runner::preflight::problem::{Mend, Way};
use schemars::JsonSchema;
use serde::Serialize;

/// A problem; pictures are told by their frames.
#[derive(Serialize, JsonSchema)]
pub(crate) struct ProblemEntry {
    /// Whether nothing may run because of it.
    pub(crate) stops: bool,
    /// What, where, and what can be done.
    pub(crate) message: String,
    /// What mends it, each by itself.
    pub(crate) mends: Vec<MendEntry>,
}

/// What mends a problem, for this run.
#[derive(Serialize, JsonSchema)]
pub(crate) struct MendEntry {
    /// What it does.
    pub(crate) label: String,
    /// The same for the program.
    #[serde(flatten)]
    pub(crate) way: WayEntry,
}

/// How something is mended: as it was found, but that frames are told by their numbers.
#[derive(Serialize, JsonSchema)]
#[serde(untagged)]
pub(crate) enum WayEntry {
    /// Some frames are left out.
    LeaveOut(LeaveOutFrames),
    /// Anything else.
    Other(Way),
}

/// Frames that are left out.
#[derive(Serialize, JsonSchema)]
#[serde(tag = "do", rename = "leave_out")]
pub(crate) struct LeaveOutFrames {
    /// By their numbers.
    pub(super) frames: Vec<i64>,
}

impl MendEntry {
    /// As the page hands it back.
    pub(crate) fn json(&self) -> String {
        serde_json::to_string(self).unwrap_or_default()
    }
}

impl ProblemEntry {
    pub(crate) fn new(problem: &Problem, prepared: &Prepared) -> Self {
        let id = |i: &usize| prepared.frames.get(*i).map(|f| prepared.laid.frames[*f].id);
        let way = |way: &Way| match way {
            Way::LeaveOut { pictures } => {
                WayEntry::LeaveOut(LeaveOutFrames { frames: pictures.iter().filter_map(id).collect() })
            }
            other => WayEntry::Other(other.clone()),
        };
        let mend = |mend: &Mend| MendEntry { label: mend.label.clone(), way: way(&mend.way) };
        Self {
            stops: problem.stops,
            message: problem.message.clone(),
            mends: problem.mends.iter().map(mend).collect(),
        }
    }
}
