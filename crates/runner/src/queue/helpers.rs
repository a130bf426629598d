//! Other machines that make pictures of this one's runs.
//!
//! The queue hands them pictures as it does its own threads: each is claimed, its lease renewed here while another machine works on
//! it, and what comes back is written here under the planned name. So the records, the states and the files are the same whoever made
//! what, and a helper that is gone is made up for.

use crate::lock::lock;
use crate::queue::Queue;
use crate::render::elsewhere::{MadePicture, Original, PictureRequest};
use crate::render::fault::Fault;
use async_trait::async_trait;
use rallo_job::ItemKey;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;

/// Why nothing came back.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NotMade {
    /// The picture cannot be made, here or elsewhere.
    Failed(Fault),
    /// Nobody could make it, which is not the picture's fault: it is made here.
    Nobody(String),
}

/// A picture that came back.
#[derive(Clone, Debug, PartialEq)]
pub struct FromHelper {
    /// What was made of it.
    pub made: MadePicture,
    /// Who made them.
    pub helper: String,
    /// Seconds it took there.
    pub seconds: f64,
}

/// A machine that helps, or would.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Helper {
    /// Its name, of which there is no second one.
    pub name: String,
    /// What its machine is called.
    pub machine: String,
    /// Pictures it makes at a time.
    pub cores: usize,
    /// Names of the pictures it has in work.
    pub at_work: Vec<String>,
    /// Pictures it made since it came.
    pub made: u64,
    /// Pictures a minute, over the last minute.
    pub pace: f64,
    /// Seconds since it was last heard of.
    pub seen: f64,
    /// Why it gets nothing to do, if so.
    pub refused: Option<String>,
}

/// Machines that make pictures.
#[async_trait]
pub trait Helpers: Send + Sync {
    /// Where others find this one; nothing where none can come.
    fn address(&self) -> Option<String>;

    /// Those that take pictures, with how many each could have in work at a time.
    fn places(&self) -> Vec<(String, usize)>;

    /// Has a picture made or measured, by the machine of the name `rather` if it can, else by whichever can first.
    async fn make(
        &self,
        request: PictureRequest,
        originals: Vec<Original>,
        rather: Option<&str>,
    ) -> Result<FromHelper, NotMade>;

    /// What a machine gave back was not believed: it gets nothing more to do.
    fn distrust(&self, helper: &str, why: &str);

    /// Sends a machine home once it has ended what it has in work; whether it was here.
    async fn send_home(&self, helper: &str) -> bool;

    /// The machines that are here, or were not long ago.
    fn helpers(&self) -> Vec<Helper>;
}

/// Nobody.
pub(super) struct NoHelpers;

#[async_trait]
impl Helpers for NoHelpers {
    fn address(&self) -> Option<String> {
        None
    }
    fn places(&self) -> Vec<(String, usize)> {
        Vec::new()
    }
    async fn make(
        &self,
        _: PictureRequest,
        _: Vec<Original>,
        _: Option<&str>,
    ) -> Result<FromHelper, NotMade> {
        Err(NotMade::Nobody("no other machine helps".into()))
    }
    fn distrust(&self, _: &str, _: &str) {}
    async fn send_home(&self, _: &str) -> bool {
        false
    }
    fn helpers(&self) -> Vec<Helper> {
        Vec::new()
    }
}

/// What other machines have in work.
#[derive(Default)]
pub(super) struct WithHelpers {
    /// How many pictures each was given.
    taken: HashMap<String, usize>,
    /// The picture each was given last, of a run whose pictures are joined with their neighbours or measured against each other: it is
    /// given those behind that, so that each makes a stretch. This machine stands under an empty name.
    last: HashMap<String, ItemKey>,
}

impl WithHelpers {
    /// The picture a machine was given last of a run that is worked on in stretches.
    pub(super) fn last(&self, name: &str) -> Option<ItemKey> {
        self.last.get(name).copied()
    }

    /// Whether a run is worked on in stretches.
    pub(super) fn keeps_apart(&self) -> bool {
        !self.last.is_empty()
    }

    /// A machine was given a picture, of a run that is worked on in stretches or not.
    pub(super) fn given(&mut self, name: &str, item: ItemKey, is_stretch: bool) {
        if is_stretch {
            self.last.insert(name.to_owned(), item);
        } else {
            self.last.remove(name);
        }
    }
}

/// A picture's place among those that another machine has in work.
pub(super) struct AtHelper {
    queue: Queue,
    /// The machine.
    pub(super) name: String,
    /// It has a picture there: when that is done, another one can be handed out.
    is_used: bool,
}

impl AtHelper {
    /// Takes one at the machine that has most room left, if one has.
    pub(super) fn take(queue: &Queue) -> Option<Self> {
        let places = queue.0.helpers.places();
        let mut with = lock(&queue.0.with_helpers);
        let left = |(name, room): &(String, usize)| {
            let taken = with.taken.get(name).copied().unwrap_or(0);
            room.checked_sub(taken).filter(|left| *left > 0)
        };
        let (_, (name, _)) =
            places.into_iter().filter_map(|one| Some((left(&one)?, one))).max_by_key(|(left, _)| *left)?;
        *with.taken.entry(name.clone()).or_default() += 1;
        Some(Self { queue: queue.clone(), name, is_used: false })
    }

    /// For a picture that is handed out.
    pub(super) fn used(mut self) -> Self {
        self.is_used = true;
        self
    }
}

impl Drop for AtHelper {
    fn drop(&mut self) {
        {
            let mut with = lock(&self.queue.0.with_helpers);
            if let Some(taken) = with.taken.get_mut(&self.name) {
                *taken -= 1;
                if *taken == 0 {
                    with.taken.remove(&self.name);
                }
            }
        }
        // Of a place for which there was no picture nothing follows; to look again at once would never end.
        if self.is_used {
            self.queue.added();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_runs_of_stretches_are_kept_apart() {
        let mut with = WithHelpers::default();
        let item = |position| ItemKey { run: 1, position };
        with.given("a", item(3), true);
        with.given("b", item(64), true);
        assert!(with.keeps_apart() && with.last("a") == Some(item(3)));
        with.given("a", item(4), true);
        assert_eq!(with.last("a"), Some(item(4)));
        with.given("a", ItemKey { run: 2, position: 0 }, false);
        with.given("b", ItemKey { run: 2, position: 1 }, false);
        assert!(!with.keeps_apart() && with.last("b").is_none());
    }
}
