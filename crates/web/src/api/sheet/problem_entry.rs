//! Problems as the sheet shows them, with what can be done about each.

use crate::api::sheet::asked::Prepared;
use rallo_runner::Problem;
use rallo_runner::preflight::problem::{Mend, Way};
use schemars::JsonSchema;
use serde::Serialize;

/// A problem; pictures are told by their frames.
#[derive(Serialize, JsonSchema)]
pub(super) struct ProblemEntry {
    /// Whether nothing may run because of it.
    stops: bool,
    /// What, where, and what can be done.
    pub(super) message: String,
    /// What mends it, each by itself.
    mends: Vec<MendEntry>,
}

/// What mends a problem, for this run.
#[derive(Serialize, JsonSchema)]
pub(super) struct MendEntry {
    /// What it does.
    label: String,
    /// The same for the program.
    #[serde(flatten)]
    way: WayEntry,
}

/// How something is mended: as it was found, but that frames are told by their numbers.
#[derive(Serialize, JsonSchema)]
#[serde(untagged)]
pub(super) enum WayEntry {
    /// Some frames are left out.
    LeaveOut(LeaveOutFrames),
    /// Anything else.
    Other(Way),
}

/// Frames that are left out.
#[derive(Serialize, JsonSchema)]
#[serde(tag = "do", rename = "leave_out")]
pub(super) struct LeaveOutFrames {
    /// By their numbers.
    pub(super) frames: Vec<i64>,
}

impl ProblemEntry {
    pub(super) fn new(problem: &Problem, prepared: &Prepared) -> Self {
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
