//! The queue: which items there are to do, who works on them, and the moves of runs.

use crate::{EndedItem, FailureKind, ItemKey, NewRunItem, Result, Run, RunItem, WrittenFile};
use async_trait::async_trait;
use serde_json::Value;

/// Who claims an item, and until when.
#[derive(Clone, Debug)]
pub struct Claim<'a> {
    /// The worker's name, of which there is no second one.
    pub worker: &'a str,
    /// Until when the lease lasts without being renewed, in milliseconds of Unix time.
    pub until: i64,
    /// Now as records keep times.
    pub clock: &'a str,
    /// Items of this run alone.
    pub only: Option<i64>,
    /// Rather an item behind this one, in its stretch of the run.
    pub near: Option<ItemKey>,
    /// Else rather one of a stretch in which nobody works, not even this worker.
    pub apart: bool,
}

/// What else is claimed with an item: pictures right behind it in its stretch of the run.
#[derive(Clone, Copy, Debug, Default)]
pub struct Further {
    /// How many at most.
    pub most: usize,
    /// None with more pixels, or whose pixels are not known: they are worked on before anything else is asked for.
    pub pixels: i64,
}

/// What a worker left when its leases ran out.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ExpiredLeases {
    /// The worker.
    pub worker: String,
    /// Folders in which it may have left files half written.
    pub folders: Vec<String>,
}

/// Items to do and the moves of runs. Every change is one step: it happens whole or not at all, whoever else asks.
#[async_trait]
pub trait RunQueue: Send + Sync {
    /// Adds a run with its items at the end of the queue; it waits, or asks where its state says so. Returns its number.
    ///
    /// # Errors
    /// [`Error::Unavailable`](crate::Error::Unavailable), as all of these.
    async fn add_run(&self, run: &Run, items: &[NewRunItem]) -> Result<i64>;

    /// Claims the next item: of the first run in the queue that has one and may begin. An item whose lease ran out is
    /// claimed only after [`release`](Self::release) gave it back.
    async fn claim(&self, claim: &Claim<'_>) -> Result<Option<RunItem>> {
        let claimed = self.claim_several(claim, Further::default()).await?;
        Ok(claimed.into_iter().next())
    }

    /// Claims the next item and more behind it, in the order of the run.
    async fn claim_several(&self, claim: &Claim<'_>, further: Further) -> Result<Vec<RunItem>>;

    /// How many items could be claimed now, counted up to `most`.
    async fn claimable(&self, clock: &str, most: i64) -> Result<i64>;

    /// Renews a worker's leases on these items and no others; one that is no longer its own stays as it is.
    async fn renew(&self, worker: &str, items: &[ItemKey], until: i64) -> Result<()>;

    /// Workers with leases that ran out before `now`, and where they may have left something. What that is should be taken
    /// away before the items go to others: who does it may be stopped in between, and nobody would come back for it.
    async fn expired(&self, now: i64) -> Result<Vec<ExpiredLeases>>;

    /// Gives back every item of a worker whose lease ran out before `now`.
    async fn release(&self, worker: &str, now: i64) -> Result<()>;

    /// Gives one item back, if it is still on loan to the worker it names.
    async fn give_back(&self, item: &RunItem) -> Result<()>;

    /// Writes down how an item ended and what it wrote, if it is still on loan to the worker it names; returns whether
    /// it was.
    async fn complete(&self, item: &RunItem, written: &[WrittenFile]) -> Result<bool> {
        let ended = EndedItem { item: item.clone(), written: written.to_vec() };
        let done = self.complete_several(&[ended]).await?;
        Ok(!done.is_empty())
    }

    /// As [`complete`](Self::complete) for several, in one step; returns those that were still on loan.
    async fn complete_several(&self, ended: &[EndedItem]) -> Result<Vec<ItemKey>>;

    /// Writes down what was measured of an item, which now waits to be made, if it is still on loan to the worker it names;
    /// returns whether it was.
    async fn keep_measured(&self, item: &RunItem, measured: &Value) -> Result<bool>;

    /// Whether items of a run have not ended.
    async fn has_waiting(&self, run: i64) -> Result<bool>;

    /// Ends a run all of whose items have ended; returns whether it did.
    async fn end_run(&self, run: i64, when: &str) -> Result<bool>;

    /// Cancels a run that is not over; returns whether it was open.
    async fn cancel_run(&self, run: i64, when: &str) -> Result<bool>;

    /// Lets a run pause, with a reason and perhaps the cause it is held by; returns whether it was at work or waiting.
    async fn pause_run(&self, run: i64, reason: Option<&str>, held: Option<FailureKind>) -> Result<bool>;

    /// Lets a paused run go on, or one begin that waits for its time; returns whether it did.
    async fn resume_run(&self, run: i64) -> Result<bool>;

    /// Passes the checkpoint `stage`: the run has another document now, and asks the next thing or waits for its turn.
    async fn pass_run(&self, run: i64, stage: i64, document: &str, asks: Option<&str>) -> Result<bool>;

    /// Keeps values that were changed for one picture at a checkpoint (JSON).
    async fn set_answers(&self, item: ItemKey, answers: &str) -> Result<()>;

    /// Moves a run one place up (−1) or down (1) among those that are not over, or to the front (−2).
    async fn move_run(&self, run: i64, by: i64) -> Result<()>;

    /// Takes a run up again for its failed items, or one of them; a cancelled one stays as it is.
    async fn retry_failed(&self, run: i64, position: Option<i64>) -> Result<()>;
}
