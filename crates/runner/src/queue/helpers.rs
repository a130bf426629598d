//! Other machines that make pictures of this one's runs.
//!
//! The queue hands them pictures as it does its own threads: each is claimed, its lease renewed here while another machine works on
//! it, and what comes back is written here under the planned name. So the records, the states and the files are the same whoever made
//! what, and a helper that is gone is made up for.

use crate::queue::Queue;
use crate::render::elsewhere::{MadePicture, PictureRequest};
use crate::render::fault::Fault;
use async_trait::async_trait;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::sync::atomic::{AtomicUsize, Ordering};

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

    /// Pictures that they could have in work at a time, all together.
    fn room(&self) -> usize;

    /// Has a picture made from its original, by whichever machine can first.
    async fn make(&self, request: PictureRequest, original: Vec<u8>) -> Result<FromHelper, NotMade>;

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
    fn room(&self) -> usize {
        0
    }
    async fn make(&self, _: PictureRequest, _: Vec<u8>) -> Result<FromHelper, NotMade> {
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

/// A picture's place among those that other machines have in work.
pub(super) struct AtHelper(Queue);

impl AtHelper {
    /// Takes one, if they have room.
    pub(super) fn take(queue: &Queue) -> Option<Self> {
        let taken: &AtomicUsize = &queue.0.with_helpers;
        if taken.load(Ordering::Relaxed) >= queue.0.helpers.room() {
            return None;
        }
        taken.fetch_add(1, Ordering::Relaxed);
        Some(Self(queue.clone()))
    }
}

impl Drop for AtHelper {
    fn drop(&mut self) {
        self.0.0.with_helpers.fetch_sub(1, Ordering::Relaxed);
        self.0.added();
    }
}
