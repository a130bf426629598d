//! Records of watched folders and what arrived in them.

use crate::state::{UnknownWord, words};
use crate::{NewRunItem, Result, Run};
use async_trait::async_trait;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::str::FromStr;

/// Whether a watched folder works.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum WatchState {
    /// What arrives is taken into runs.
    #[default]
    On,
    /// What arrives waits.
    Paused,
}

words!(WatchState { On = "on", Paused = "paused" });

/// A recipe that runs on whatever arrives in a folder.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Watch {
    /// Identity.
    pub id: i64,
    /// Name for people.
    pub name: String,
    /// The recipe it was set up with.
    pub recipe_id: Option<i64>,
    /// Its version.
    pub recipe_version: i64,
    /// The document as it was, with what it asks answered.
    pub document: String,
    /// Where pictures arrive.
    pub folder: String,
    /// With sub-folders.
    pub deep: bool,
    /// Folder for the results, instead of the recipe's.
    pub target: Option<String>,
    /// Once a day at this time of this machine's clock, `HH:MM`; without one at once.
    pub daily: Option<String>,
    /// What is called or started after each of its runs.
    pub hook: Option<String>,
    /// Whether it works.
    pub state: WatchState,
    /// When it was set up.
    pub made: String,
    /// When a daily one last had its turn.
    pub turn: Option<String>,
    /// What keeps it from working, for people.
    pub problem: Option<String>,
}

/// A file that was taken into a run.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Arrival {
    /// Where it lay.
    pub path: String,
    /// Its length.
    pub bytes: i64,
    /// Its time, nanoseconds since 1970.
    pub modified: i64,
    /// The device it lies on.
    pub device: i64,
    /// Its number there, which stays when it is renamed.
    pub inode: i64,
    /// The run.
    pub run_id: i64,
    /// Its place in that run, counted over all runs of the watch.
    pub position: i64,
}

/// Records of watched folders.
#[async_trait]
pub trait WatchRecords: Send + Sync {
    /// Every watched folder, in the order they were set up.
    async fn watches(&self) -> Result<Vec<Watch>>;

    /// What one has taken into runs.
    async fn arrivals(&self, watch: i64) -> Result<Vec<Arrival>>;

    /// Writes down what keeps a watched folder from working, and when a daily one last had its turn.
    async fn tell_watch(&self, watch: i64, problem: Option<&str>, turn: Option<&str>) -> Result<()>;

    /// Takes files that arrived into the watch's run: the open one where there is one, else `fresh` is added. All at
    /// once or not at all; nothing happens where another program has taken the first of them meanwhile. `positions` of
    /// `arrivals` are those of `items`. The run, and whether it is a new one.
    async fn take_in(
        &self,
        watch: i64,
        fresh: &Run,
        items: &[NewRunItem],
        arrivals: &[Arrival],
    ) -> Result<Option<(i64, bool)>>;

    /// A file that was taken in has another name now: it is known by that. Where its item still waits, or failed because
    /// the old name was gone, it is worked on under the new one; returns whether that is so.
    async fn rename_arrival(
        &self,
        watch: i64,
        was: &Arrival,
        path: &str,
        target: &str,
        more: &[String],
    ) -> Result<bool>;
}
