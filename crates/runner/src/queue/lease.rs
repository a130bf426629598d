//! Who this worker is, and the leases it holds.
//!
//! A worker lives as long as it renews its leases, wherever it runs: nothing here looks at processes or machines. Only
//! items that are really in work are renewed, so that one whose work came to a stop goes back to the others.

use crate::queue::{Queue, lock};
use crate::schedule::Share;
use rallo_job::{ItemKey, Run, RunItem};
use std::collections::VecDeque;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::OnceCell;

/// How long a lease lasts without being renewed, in milliseconds.
pub(super) const LEASE: i64 = 10_000;

/// How often leases are renewed: several times before one runs out, so that one slow answer loses nothing.
pub(super) const BEAT: Duration = Duration::from_millis(2_500);

/// An item in work. While it lives, the item's lease is renewed and it counts among those in work of its run; both end
/// with it, also when the work panics.
pub(super) struct InWork {
    queue: Queue,
    key: ItemKey,
}

impl InWork {
    /// `item` goes into work.
    pub(super) fn begin(queue: &Queue, item: &RunItem) -> Self {
        lock(&queue.0.leases).insert(item.key());
        Self { queue: queue.clone(), key: item.key() }
    }

    /// It counts among those in work of its run from now on; whether it is the first of this stretch of work. `before`
    /// is what had ended of the run: items, and pixels.
    pub(super) fn count(&self, item: &RunItem, share: &Share, before: (i64, i64)) -> bool {
        let mut active = lock(&self.queue.0.active);
        let fresh = !active.contains_key(&self.key.run);
        let now = Instant::now();
        let run = active.entry(self.key.run).or_insert_with(|| super::Active::new(now, before));
        if run.at_work.is_empty() {
            run.counted = now;
        }
        let pixels = (item.task.is_none()).then_some(item.pixels.max(0));
        run.at_work.insert(self.key.position, (pixels, share.clone()));
        fresh
    }

    /// Its work is over and only its end is to be written down: it no longer counts, its time does. The lease goes on.
    pub(super) fn settle(&self) {
        if let Some(run) = lock(&self.queue.0.active).get_mut(&self.key.run)
            && run.at_work.remove(&self.key.position).is_some()
        {
            let now = Instant::now();
            run.owed += (now - run.counted).as_secs_f64();
            run.counted = now;
        }
    }
}

impl Drop for InWork {
    fn drop(&mut self) {
        lock(&self.queue.0.leases).remove(&self.key);
        self.settle();
    }
}

/// An item that was claimed and has not begun.
pub(super) struct Claimed {
    pub item: RunItem,
    pub in_work: InWork,
    /// Its run, asked for once by all that were claimed with it.
    pub run: Arc<OnceCell<Run>>,
}

impl Claimed {
    /// Items that were claimed together.
    pub(super) fn several(queue: &Queue, items: Vec<RunItem>) -> impl Iterator<Item = Self> {
        let run = Arc::<OnceCell<Run>>::default();
        items.into_iter().map(move |item| Self {
            in_work: InWork::begin(queue, &item),
            run: run.clone(),
            item,
        })
    }
}

impl Queue {
    /// Gives back what was claimed of a run and has not begun.
    pub(super) async fn give_back_claimed(&self, run: i64) {
        let back: VecDeque<Claimed> = {
            let mut put_by = lock(&self.0.put_by);
            let (back, others) = put_by.drain(..).partition(|claimed| claimed.item.run_id == run);
            *put_by = others;
            back
        };
        for claimed in back {
            if let Err(e) = self.0.records.give_back(&claimed.item).await {
                tracing::warn!(
                    "run {run}: item {} is kept until its lease is over: {e}",
                    claimed.item.position + 1
                );
            }
        }
    }

    /// Renews the leases of what is in work, for as long as the queue lives.
    pub(super) async fn renew_leases(&self) {
        loop {
            self.0.clock.sleep(BEAT).await;
            if let Err(e) = self.renew_held().await {
                tracing::warn!("leases were not renewed: {e}");
            }
        }
    }

    /// Renews the leases of what is in work here.
    ///
    /// # Errors
    /// [`rallo_job::Error`].
    pub(super) async fn renew_held(&self) -> rallo_job::Result<()> {
        let held: Vec<ItemKey> = lock(&self.0.leases).iter().copied().collect();
        if held.is_empty() {
            return Ok(());
        }
        self.0.records.renew(&self.0.name, &held, self.0.clock.millis() + LEASE).await
    }
}
