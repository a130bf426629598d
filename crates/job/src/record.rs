//! What is kept of a run, its items, and the files it wrote.

use crate::{FailureKind, ItemState, Phase, RunState};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::path::PathBuf;

/// One execution of a recipe.
#[derive(Clone, Debug, Default)]
pub struct Run {
    /// Identity, and the number people see.
    pub id: i64,
    /// The recipe it was started with, where that is kept.
    pub recipe_id: Option<i64>,
    /// Its version.
    pub recipe_version: i64,
    /// The recipe's name then.
    pub recipe_name: String,
    /// The recipe's document as it was.
    pub document: String,
    /// The shoot its frames are of.
    pub shoot_id: Option<i64>,
    /// The shoot's name then.
    pub shoot_name: String,
    /// The shoot's folder, from which sub-folders count.
    pub base: String,
    /// Where it stands.
    pub state: RunState,
    /// When it was asked for (RFC 3339, as all times here).
    pub created: String,
    /// When its first item was claimed.
    pub started: Option<String>,
    /// When it ended.
    pub finished: Option<String>,
    /// Seconds worked on it.
    pub seconds: f64,
    /// Where it stands in the queue, the least first.
    pub place: f64,
    /// Not to begin before this time.
    pub not_before: Option<String>,
    /// Checkpoints passed.
    pub stage: i64,
    /// Failures after which it pauses.
    pub most_failures: Option<i64>,
    /// Why it pauses or what it asks, for people.
    pub reason: Option<String>,
    /// The cause it pauses for by itself, to go on when that is over.
    pub held: Option<FailureKind>,
    /// Where it came from: `page`, `command line`, `folder NAME` …
    pub origin: String,
    /// What is called or started when it has ended.
    pub hook: Option<String>,
    /// The watched folder it comes from.
    pub watch_id: Option<i64>,
    /// Folder of pictures that were brought for it alone.
    pub brought: Option<String>,
    /// What was said before it began.
    pub warnings: Vec<String>,
}

/// An item's place: its run, and its position there from 0.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct ItemKey {
    /// The run.
    pub run: i64,
    /// From 0.
    pub position: i64,
}

/// One picture of a run, or a file of all its pictures.
#[derive(Clone, Debug, Default)]
pub struct RunItem {
    /// Its run.
    pub run_id: i64,
    /// From 0.
    pub position: i64,
    /// The original.
    pub source: String,
    /// Where the result goes.
    pub target: String,
    /// Where further results go.
    pub more: Vec<String>,
    /// Where it stands.
    pub state: ItemState,
    /// What kind of failure it was.
    pub kind: Option<FailureKind>,
    /// Why it failed or was skipped, for people.
    pub reason: Option<String>,
    /// What was written for it, or was there.
    pub outputs: Vec<ResultFile>,
    /// Bytes of the original.
    pub source_bytes: i64,
    /// Pixels of the original, 0 where unknown.
    pub pixels: i64,
    /// Seconds it took.
    pub seconds: Option<f64>,
    /// What people decided about the frame, JSON.
    pub decided: String,
    /// Values changed for this picture at a checkpoint: line, parameter, value.
    pub answers: Vec<(usize, String, Value)>,
    /// Who holds the lease on it.
    pub worker: Option<String>,
    /// Until when, in milliseconds of Unix time.
    pub lease: Option<i64>,
    /// How often it was claimed.
    pub tries: i64,
    /// When it ended, in milliseconds of Unix time; 0 where it has not.
    pub ended: i64,
    /// Which of the recipe's files of all pictures it is; a picture has none.
    pub task: Option<i64>,
    /// The part of the run it is in.
    pub phase: Phase,
    /// What was measured of it.
    pub measured: Option<Value>,
}

impl RunItem {
    /// Its place.
    pub fn key(&self) -> ItemKey {
        ItemKey { run: self.run_id, position: self.position }
    }

    /// Where its results go.
    pub fn targets(&self) -> Vec<String> {
        std::iter::once(&self.target).chain(&self.more).cloned().collect()
    }
}

/// How an item ended, and the files that were written for it.
#[derive(Clone, Debug)]
pub struct EndedItem {
    /// The item as it stands now.
    pub item: RunItem,
    /// What was written.
    pub written: Vec<WrittenFile>,
}

/// One file of an item's result.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ResultFile {
    /// The file.
    pub path: PathBuf,
    /// Its size.
    pub bytes: u64,
    /// Pixels per row.
    pub width: u32,
    /// Rows.
    pub height: u32,
    /// Hash of its bytes.
    #[serde(default)]
    pub hash: String,
    /// Whether this run made it; else it was there.
    #[serde(default = "yes")]
    pub made: bool,
    /// Which of the files that the recipe makes of each picture it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub variant: Option<usize>,
    /// What a player needs to know of a clip, as the `media` crate writes it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub clip: Option<Value>,
    /// The other machine that made it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub made_by: Option<String>,
}

fn yes() -> bool {
    true
}

/// One item to be added to a run.
#[derive(Clone, Debug, Default)]
pub struct NewRunItem {
    /// The original.
    pub source: String,
    /// Where the first result goes.
    pub target: String,
    /// Where further ones go.
    pub more: Vec<String>,
    /// Bytes of the original.
    pub bytes: i64,
    /// Its pixels, 0 where unknown.
    pub pixels: i64,
    /// What people decided about the frame, JSON.
    pub decided: String,
    /// Which of the recipe's files of all pictures it is.
    pub task: Option<i64>,
    /// The part of the run it begins in.
    pub phase: Phase,
}

/// A run's items by state, with how much of the work that is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Counts {
    /// All.
    pub total: i64,
    /// Those that are no pictures, but files and checks of all of them.
    pub tasks: i64,
    /// Done.
    pub done: i64,
    /// Failed.
    pub failed: i64,
    /// Skipped.
    pub skipped: i64,
    /// Claimed and not ended.
    pub working: i64,
    /// Pixels of all pictures; each unknown one counts as one.
    pub pixels: i64,
    /// Pixels of those that have ended.
    pub ended_pixels: i64,
}

/// A file that a run wrote, to be remembered by its path.
#[derive(Clone, Debug, Default)]
pub struct WrittenFile {
    /// Where.
    pub path: String,
    /// Hash of its bytes.
    pub hash: String,
    /// Its length.
    pub bytes: i64,
    /// By what and of what it was made, where the file itself does not say so.
    pub mark: Option<String>,
}

/// What is remembered of the file at a path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KnownResult {
    /// Hash of its bytes.
    pub hash: String,
    /// Their number.
    pub bytes: i64,
    /// What it was made by and of, where the file itself does not say.
    pub mark: Option<String>,
}
