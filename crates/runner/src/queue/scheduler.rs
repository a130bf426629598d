//! Which item is worked on next, and when a run pauses, goes on or ends.

use crate::assemble::web_gallery;
use crate::files::atomic_file::{part_in, sweep};
use crate::now;
use crate::preflight::output_paths::free_bytes;
use crate::queue::liveness::is_gone;
use crate::queue::worker::Place;
use crate::queue::{BEAT, KEPT, LEASE, Limits, Queue, TICK, lock, millis};
use crate::report::{self, webhook};
use rallo_store::Run;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

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

    pub(super) async fn beat(&self) {
        loop {
            tokio::time::sleep(BEAT).await;
            if let Err(e) = self.0.store.beat(&self.0.name, millis() + LEASE).await {
                tracing::warn!("loans were not renewed: {e}");
            }
        }
    }

    pub(super) async fn work(&self) {
        let limit = self.0.store.setting(KEPT).await.ok().flatten().and_then(|t| t.parse().ok());
        if let Some(limit) = limit {
            self.0.kept.set_limit(limit);
        }
        let mut tick = tokio::time::interval(TICK);
        tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        let mut looks = 0u32;
        loop {
            if let Err(e) = self.hand_out().await {
                tracing::error!("the store does not answer: {e}");
                tokio::time::sleep(TICK).await;
            }
            tokio::select! {
                () = self.0.wake.notified() => {}
                _ = tick.tick() => {
                    if let Err(e) = self.look_around(looks.is_multiple_of(5)).await {
                        tracing::error!("the store does not answer: {e}");
                    }
                    looks = looks.wrapping_add(1);
                }
            }
        }
    }

    /// Takes as many pictures into work as may be.
    pub(super) async fn hand_out(&self) -> rallo_store::Result<()> {
        loop {
            let (busy, allowed) = (self.0.busy.load(Ordering::Relaxed), self.allowed());
            if busy >= allowed {
                return Ok(());
            }
            let Some(item) = self.0.store.take(&self.0.name, millis(), LEASE, &now(), self.0.only).await?
            else {
                return Ok(());
            };
            // Fewer pictures than cores: each gets more of them.
            let others = self.0.store.ready(millis(), &now(), allowed as i64).await? as usize;
            let threads = (allowed / (busy + 1 + others).min(allowed)).max(1);
            self.0.busy.fetch_add(1, Ordering::Relaxed);
            let queue = self.clone();
            tokio::spawn(async move {
                let run = item.run_id;
                let place = Arc::new(Place { queue: queue.clone(), is_writing: AtomicBool::new(false) });
                queue.picture(item, threads, place).await;
                queue.added();
                if let Err(e) = queue.tell_soon(run).await {
                    tracing::error!("run {run}: {e}");
                }
            });
        }
    }

    /// Ends a run if nothing of it is left.
    pub(super) async fn end(&self, run: i64) -> rallo_store::Result<()> {
        if self.0.store.has_waiting(run).await? {
            return Ok(());
        }
        self.write_time(run).await?;
        // Before the end is written down: a program killed here does it once more.
        web_gallery::write(&self.0.store, run).await?;
        if self.0.store.end_run(run, &now()).await? {
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
    pub(super) async fn call(&self, run: i64) -> rallo_store::Result<()> {
        let own = self.0.store.run(run).await?.hook;
        let other = self.0.hook.clone().flatten();
        if own.is_none() && self.0.hook.is_none() || !self.0.store.call_run(run).await? {
            return Ok(());
        }
        let Some(hook) = own.or(other).filter(|h| !h.trim().is_empty()) else { return Ok(()) };
        let report = report::of(&self.0.store, run).await?.to_string();
        let queue = self.clone();
        // In the background: the queue goes on.
        self.0.calls.fetch_add(1, Ordering::Relaxed);
        tokio::spawn(async move {
            webhook::call(run, &hook, report).await;
            queue.0.calls.fetch_sub(1, Ordering::Relaxed);
        });
        Ok(())
    }

    /// Whether hooks are at work.
    pub fn is_calling(&self) -> bool {
        self.0.calls.load(Ordering::Relaxed) > 0
    }

    /// Sees to loans of programs that are gone, to what other programs did, and to runs that wait for something.
    pub(super) async fn look_around(&self, thoroughly: bool) -> rallo_store::Result<()> {
        let store = &self.0.store;
        if thoroughly {
            for worker in store.workers().await?.iter().filter(|w| **w != self.0.name && is_gone(w)) {
                let folders = store.folders_of(worker).await?;
                store.release(worker).await?;
                let swept =
                    tokio::task::spawn_blocking(move || folders.iter().for_each(|f| sweep(Path::new(f))))
                        .await;
                if let Err(e) = swept {
                    tracing::warn!("parts of files were not swept away: {e}");
                }
            }
        }
        let mut open = store.open_runs().await?;
        if let Some(only) = self.0.only {
            open.retain(|r| r.id == only);
        }
        for run in &open {
            if thoroughly
                && self.0.only.is_none()
                && run.state == "paused"
                && run.held.is_some()
                && self.may_go_on(run).await?
            {
                self.go_on(run.id).await?;
            }
            self.write_time(run.id).await?;
            if matches!(run.state.as_str(), "running" | "waiting") {
                self.end(run.id).await?;
            }
            let event = self.state(run).await?;
            let words = format!("{} {} {:?}", event.state, event.ended(), event.reason);
            // A long picture is followed while it is made.
            if event.under_way > 0.0 || lock(&self.0.told).get(&run.id).is_none_or(|t| t.0 != words) {
                self.tell(run.id).await?;
            }
        }
        // Runs that another program ended.
        let over: Vec<i64> = {
            let told = lock(&self.0.told);
            let over = |words: &str| words.starts_with("done") || words.starts_with("cancelled");
            told.iter()
                .filter(|(id, t)| !over(&t.0) && open.iter().all(|r| r.id != **id))
                .map(|(id, _)| *id)
                .collect()
        };
        for run in over {
            // One that another program cancelled.
            self.give_up(run).await;
            self.tell(run).await?;
        }
        // Those without a hook of their own are the server's matter.
        let all = store.uncalled(self.0.hook.is_some()).await?;
        for run in all.into_iter().filter(|r| self.0.only.is_none_or(|o| o == *r)) {
            self.call(run).await?;
        }
        Ok(())
    }

    /// Whether what a run waits for is over: there is a folder, it can be written to, and there is room.
    pub(super) async fn may_go_on(&self, run: &Run) -> rallo_store::Result<bool> {
        let items = self.0.store.waiting(run.id, 1).await?;
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
