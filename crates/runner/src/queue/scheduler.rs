//! Which item is worked on next, and when a run pauses, goes on or ends.

use crate::assemble::web_gallery;
use crate::files::atomic_file::{part_in, sweep};
use crate::files::free_space::free_bytes;
use crate::queue::helpers::AtHelper;
use crate::queue::lease::{Claimed, LEASE};
use crate::queue::worker::{Place, Slot};
use crate::queue::{EndCalls, KEPT, Limits, Queue, TICK, lock};
use crate::render::fault::{Ended, Fault};
use crate::report::{self, webhook};
use rallo_job::{Claim, ExpiredLeases, FailureKind, Further, Run, RunState};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

/// A picture that takes less is over before the next one is claimed.
const QUICK: Duration = Duration::from_millis(20);

/// Pictures that are claimed with a quick one, and the most pixels each may have: a few moments' work.
const FURTHER: Further = Further { most: 15, pixels: 1_000_000 };

/// Items that are counted beyond those that may be in work.
const LOOKED_AHEAD: usize = 64;

/// A call after a run, as long as it is at work.
struct Calling(Queue);

impl Calling {
    fn begin(queue: &Queue) -> Self {
        queue.0.calls.fetch_add(1, Ordering::Relaxed);
        Self(queue.clone())
    }
}

impl Drop for Calling {
    fn drop(&mut self) {
        self.0.0.calls.fetch_sub(1, Ordering::Relaxed);
    }
}

impl Queue {
    /// Pictures that may be in work now.
    pub(super) fn allowed(&self) -> usize {
        let limits = self.limits();
        match limits {
            Limits { quiet: true, .. } => 1,
            Limits { cores: 0, .. } => self.0.cores,
            Limits { cores, .. } => cores.min(64),
        }
    }

    /// Whether pictures are over before another one is claimed or written down.
    pub(super) fn is_quick(&self) -> bool {
        self.0.took.load(Ordering::Relaxed) < QUICK.as_micros() as u64
    }

    /// Pictures more than that which may be handed out: where they are quick, cores would wait for the next one as long as they
    /// work on one.
    fn ahead(&self) -> usize {
        let limits = self.limits();
        if self.is_quick() && limits.cores == 0 && !limits.quiet { self.0.cores } else { 0 }
    }

    /// What is claimed besides an item. Other machines are given one at a time, each in its own stretch.
    fn further(&self) -> Further {
        if self.is_quick() && self.0.helpers.address().is_none() { FURTHER } else { Further::default() }
    }

    /// Items that wait, up to a number that matters; while many of a run do, they are counted down instead of asked for.
    async fn others(&self, clock: &str, run: i64, allowed: usize) -> rallo_job::Result<usize> {
        let (_, left) = *lock(&self.0.waiting);
        let left = if self.many_wait(run) {
            left - 1
        } else {
            self.0.records.claimable(clock, (allowed + LOOKED_AHEAD) as i64).await? as usize
        };
        *lock(&self.0.waiting) = (run, left);
        Ok(left + lock(&self.0.put_by).len())
    }

    /// Whether so many items of a run wait that it is not over yet. Where another worker has taken them meanwhile, the next look
    /// around ends it.
    pub(super) fn many_wait(&self, run: i64) -> bool {
        let (known, left) = *lock(&self.0.waiting);
        known == run && left > self.allowed() + 1
    }

    pub(super) async fn work(&self) {
        let limit = self.0.records.setting(KEPT).await.ok().flatten().and_then(|t| t.parse().ok());
        if let Some(limit) = limit {
            self.0.kept.set_limit(limit);
        }
        let mut tick = tokio::time::interval(TICK);
        tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        let mut looks = 0u32;
        loop {
            if let Err(e) = self.hand_out().await {
                tracing::error!("the records do not answer: {e}");
                tokio::time::sleep(TICK).await;
            }
            tokio::select! {
                () = self.0.wake.notified() => {}
                _ = tick.tick() => {
                    if let Err(e) = self.look_around(looks.is_multiple_of(5)).await {
                        tracing::error!("the records do not answer: {e}");
                    }
                    looks = looks.wrapping_add(1);
                }
            }
        }
    }

    /// Takes as many items into work as may be, here and elsewhere.
    async fn hand_out(&self) -> rallo_job::Result<()> {
        let shared = &self.0;
        loop {
            let (busy, allowed) = (shared.busy.load(Ordering::Relaxed), self.allowed());
            let has_room = busy < allowed + self.ahead();
            let put_by = if has_room { lock(&shared.put_by).pop_front() } else { None };
            let clock = shared.clock.text();
            let (claimed, elsewhere) = if let Some(claimed) = put_by {
                (claimed, None)
            } else {
                let elsewhere = match has_room && !shared.leaves_pictures {
                    false if lock(&shared.put_by).is_empty() => AtHelper::take(self),
                    _ => None,
                };
                if elsewhere.is_none() && (!has_room || shared.leaves_pictures) {
                    return Ok(());
                }
                let until = shared.clock.millis() + LEASE;
                let by = elsewhere.as_ref().map_or("", |place| place.name.as_str());
                let (near, apart) = {
                    let with = lock(&shared.with_helpers);
                    (with.last(by), with.keeps_apart())
                };
                let claim =
                    Claim { worker: &shared.name, until, clock: &clock, only: shared.only, near, apart };
                let items = shared.records.claim_several(&claim, self.further()).await?;
                let mut several = Claimed::several(self, items);
                let Some(claimed) = several.next() else { return Ok(()) };
                lock(&shared.put_by).extend(several);
                let item = &claimed.item;
                let is_stretch = shared.helpers.address().is_some() && self.goes_by_stretches(item).await;
                lock(&shared.with_helpers).given(by, item.key(), is_stretch);
                (claimed, elsewhere)
            };
            let place = match elsewhere {
                Some(place) if claimed.item.task.is_none() => Place::Elsewhere(place.used()),
                Some(_) if !has_room => {
                    lock(&shared.put_by).push_back(claimed);
                    continue;
                }
                _ => {
                    // Fewer pictures than cores: each gets more of them.
                    let others = self.others(&clock, claimed.item.run_id, allowed).await?;
                    let threads = (allowed / (busy + 1 + others).min(allowed)).max(1);
                    Place::Here(threads, Arc::new(Slot::take(self)))
                }
            };
            let queue = self.clone();
            tokio::spawn(async move { queue.see_through(claimed, place).await });
        }
    }

    /// Works on an item until its end is written down, whatever happens on the way.
    async fn see_through(&self, Claimed { item, in_work, run: of }: Claimed, place: Place) {
        let run = item.run_id;
        let (queue, work, in_work) = (self.clone(), item.clone(), Arc::new(in_work));
        let held = in_work.clone();
        let done = tokio::spawn(async move { queue.item(work, &of, place, &held).await }).await;
        if let Err(e) = done {
            let reason = format!("the program failed on this picture: {e}");
            tracing::error!("run {run}, item {}: {reason}", item.position + 1);
            self.write_end(item, Ended::failed(Fault::new(FailureKind::Inside, reason)), 0.0, None).await;
        }
        drop(in_work);
        self.added();
        if let Err(e) = self.tell_soon(run).await {
            tracing::error!("run {run}: {e}");
        }
    }

    /// Ends a run if nothing of it is left.
    pub(super) async fn end(&self, run: i64) -> rallo_job::Result<()> {
        if self.0.records.has_waiting(run).await? {
            return Ok(());
        }
        self.write_time(run).await?;
        // Before the end is written down: a program killed here does it once more.
        web_gallery::write(&*self.0.records, run).await?;
        if self.0.records.end_run(run, &self.0.clock.text()).await? {
            self.keep_costs().await;
            lock(&self.0.active).remove(&run);
            lock(&self.0.recipes).retain(|(id, _), _| *id != run);
            self.0.streams.lock().await.remove(&run);
            self.tell(run).await?;
            self.call(run).await?;
        }
        Ok(())
    }

    /// Calls what follows a run that has ended, unless somebody has done so; another one's runs without a hook of their
    /// own are left to the server.
    pub(super) async fn call(&self, run: i64) -> rallo_job::Result<()> {
        let run_webhook = self.0.records.run(run).await?.hook;
        let other = match &self.0.end_calls {
            EndCalls::OwnOnly if run_webhook.is_none() => return Ok(()),
            EndCalls::OwnOnly => None,
            EndCalls::All(other) => other.clone(),
        };
        if !self.0.records.call_run(run).await? {
            return Ok(());
        }
        let Some(hook) = run_webhook.or(other).filter(|h| !h.trim().is_empty()) else { return Ok(()) };
        let report = report::of(&*self.0.records, run).await?;
        let report = serde_json::to_string(&report).map_err(|e| rallo_job::Error::Unavailable(e.into()))?;
        let queue = self.clone();
        // In the background: the queue goes on.
        let calling = Calling::begin(&queue);
        tokio::spawn(async move {
            webhook::call(run, &hook, report).await;
            drop(calling);
        });
        Ok(())
    }

    /// Whether hooks are at work.
    pub fn is_calling(&self) -> bool {
        self.0.calls.load(Ordering::Relaxed) > 0
    }

    /// Gives back what leases that ran out held, sees to what other workers did, and to runs that wait for something.
    async fn look_around(&self, thoroughly: bool) -> rallo_job::Result<()> {
        let records = &self.0.records;
        // Where the records did not answer for long, what is in work here is not to be taken for left behind.
        self.renew_held().await?;
        let now = self.0.clock.millis();
        for ExpiredLeases { worker, folders } in records.expired(now).await? {
            tracing::warn!("worker {worker} did not renew its leases; its items go to others");
            if worker != self.0.name {
                let gone = worker.clone();
                let swept = tokio::task::spawn_blocking(move || {
                    folders.iter().for_each(|folder| sweep(Path::new(folder), &gone));
                });
                if let Err(e) = swept.await {
                    tracing::warn!("files half written were not swept away: {e}");
                }
            }
            records.release(&worker, now).await?;
            self.added();
        }
        let mut open = records.open_runs().await?;
        if let Some(only) = self.0.only {
            open.retain(|r| r.id == only);
        }
        for run in &open {
            if thoroughly
                && self.0.only.is_none()
                && run.state == RunState::Paused
                && run.held.is_some()
                && self.may_go_on(run).await?
            {
                self.go_on(run.id).await?;
            }
            self.write_time(run.id).await?;
            if run.state.is_claimable() {
                self.end(run.id).await?;
            }
            let event = self.state(run).await?;
            let standing = event.standing();
            // A long picture is followed while it is made.
            if event.under_way > 0.0 || lock(&self.0.told).get(&run.id).is_none_or(|t| t.0 != standing) {
                self.tell(run.id).await?;
            }
        }
        // Runs that another program ended.
        let over: Vec<i64> = {
            let listeners = lock(&self.0.told);
            listeners
                .iter()
                .filter(|(id, t)| !t.0.state.is_over() && open.iter().all(|r| r.id != **id))
                .map(|(id, _)| *id)
                .collect()
        };
        for run in over {
            // One that another program cancelled.
            self.give_up(run).await;
            self.tell(run).await?;
        }
        // Those without a hook of their own are the server's matter.
        let uncalled = records.uncalled(self.0.end_calls != EndCalls::OwnOnly).await?;
        for run in uncalled.into_iter().filter(|r| self.0.only.is_none_or(|o| o == *r)) {
            self.call(run).await?;
        }
        Ok(())
    }

    /// Whether what a run waits for is over: there is a folder, it can be written to, and there is room.
    pub(super) async fn may_go_on(&self, run: &Run) -> rallo_job::Result<bool> {
        let items = self.0.records.waiting(run.id, 1).await?;
        let Some(item) = items.into_iter().next() else { return Ok(true) };
        let most = item.source_bytes.max(1_000_000) as u64;
        let tried = tokio::task::spawn_blocking(move || {
            let folder = Path::new(&item.target).parent().unwrap_or(Path::new("/")).to_owned();
            std::fs::create_dir_all(&folder)?;
            let mut part = part_in(&folder)?;
            std::io::Write::write_all(&mut part, &[0u8; 64 * 1024])?;
            part.as_file().sync_all()?;
            Ok::<_, std::io::Error>(free_bytes(&folder).is_none_or(|free| free >= most))
        })
        .await;
        Ok(matches!(tried, Ok(Ok(true))))
    }
}
