//! The queue: runs in the background, one after the other, with the store as memory. A program that was
//! killed goes on where it stopped; an item can be done twice without harm.

use crate::batch::{Batch, Item, State, default_memory};
use crate::now;
use rallo_recipe::Recipe;
use rallo_store::{Counts, Run, Store};
use serde::Serialize;
use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Instant;
use tokio::sync::{Notify, broadcast};

/// How far a run is.
#[derive(Clone, Debug, Serialize)]
pub struct Event {
    /// The run.
    pub run: i64,
    /// `waiting`, `running`, `done` or `cancelled`.
    pub state: String,
    /// Pictures in all.
    pub total: i64,
    /// Results written.
    pub done: i64,
    /// Pictures that failed.
    pub failed: i64,
    /// Results that were there.
    pub skipped: i64,
    /// The item that just ended.
    pub position: Option<i64>,
    /// Seconds a picture.
    pub each: Option<f64>,
    /// Seconds left.
    pub left: Option<f64>,
}

struct Shared {
    store: Store,
    wake: Notify,
    events: broadcast::Sender<Event>,
    stops: Mutex<HashMap<i64, Arc<AtomicBool>>>,
    /// Speed of the run at work: when it began this time, and how many had ended then.
    pace: Mutex<Option<(i64, Instant, i64)>>,
    workers: usize,
}

/// The queue's handle.
#[derive(Clone)]
pub struct Queue(Arc<Shared>);

impl Queue {
    /// Starts working on what waits in the store.
    pub fn start(store: Store, workers: usize) -> Self {
        let shared = Arc::new(Shared {
            store,
            wake: Notify::new(),
            events: broadcast::channel(256).0,
            stops: Mutex::new(HashMap::new()),
            pace: Mutex::new(None),
            workers,
        });
        let queue = Self(shared);
        let worker = queue.clone();
        tokio::spawn(async move { worker.work().await });
        queue
    }

    /// Follows what happens.
    pub fn events(&self) -> broadcast::Receiver<Event> {
        self.0.events.subscribe()
    }

    /// Says that a run was added.
    pub fn added(&self) {
        self.0.wake.notify_one();
    }

    /// Cancels a run: at once where it waits, after the pictures in work where it runs.
    ///
    /// # Errors
    /// The store's.
    pub async fn cancel(&self, run: i64) -> rallo_store::Result<()> {
        let ended = self.0.store.set_run_state(run, "cancelled", &now()).await?;
        if let Some(stop) = self.stops().get(&run) {
            stop.store(true, Ordering::Relaxed);
        }
        if ended {
            self.tell(run, None).await?;
        }
        Ok(())
    }

    fn stops(&self) -> std::sync::MutexGuard<'_, HashMap<i64, Arc<AtomicBool>>> {
        self.0.stops.lock().unwrap_or_else(|p| p.into_inner())
    }

    /// How far a run is now.
    ///
    /// # Errors
    /// The store's.
    pub async fn state(&self, run: &Run, position: Option<i64>) -> rallo_store::Result<Event> {
        let Counts { total, done, failed, skipped } = self.0.store.counts(run.id).await?;
        let ended = done + failed + skipped;
        let pace = *self.0.pace.lock().unwrap_or_else(|p| p.into_inner());
        let (mut each, mut left) = (None, None);
        if run.state == "running" {
            if let Some((id, since, before)) = pace
                && id == run.id
                && ended > before
            {
                let seconds = since.elapsed().as_secs_f64() / (ended - before) as f64;
                each = Some(seconds);
                left = Some(seconds * (total - ended) as f64);
            }
        } else if run.seconds > 0.0 && ended > 0 {
            each = Some(run.seconds / ended as f64);
        }
        Ok(Event {
            run: run.id,
            state: run.state.clone(),
            total,
            done,
            failed,
            skipped,
            position,
            each,
            left,
        })
    }

    async fn tell(&self, run: i64, position: Option<i64>) -> rallo_store::Result<()> {
        let run = self.0.store.run(run).await?;
        let event = self.state(&run, position).await?;
        // Nobody listening is no fault.
        let _ = self.0.events.send(event);
        Ok(())
    }

    async fn work(&self) {
        loop {
            match self.0.store.next_run().await {
                Ok(Some(run)) => {
                    let id = run.id;
                    if let Err(e) = self.execute(run).await {
                        tracing::error!("run {id}: {e}");
                        tokio::time::sleep(std::time::Duration::from_secs(2)).await;
                    }
                }
                Ok(None) => self.0.wake.notified().await,
                Err(e) => {
                    tracing::error!("the store does not answer: {e}");
                    tokio::time::sleep(std::time::Duration::from_secs(2)).await;
                }
            }
        }
    }

    async fn execute(&self, run: Run) -> rallo_store::Result<()> {
        let store = &self.0.store;
        let stop = Arc::new(AtomicBool::new(false));
        self.stops().insert(run.id, stop.clone());
        // Cancelled between being chosen and here: nothing to do.
        if !store.set_run_state(run.id, "running", &now()).await? {
            return Ok(());
        }
        let start = Instant::now();
        let items = store.items(run.id).await?;
        let waiting: Vec<_> = items.iter().filter(|i| i.state == "waiting").cloned().collect();
        let before = (items.len() - waiting.len()) as i64;
        *self.0.pace.lock().unwrap_or_else(|p| p.into_inner()) = Some((run.id, start, before));
        self.tell(run.id, None).await?;
        match Recipe::parse(&run.document) {
            Ok(recipe) => {
                let (send, mut receive) = tokio::sync::mpsc::unbounded_channel();
                let work: Vec<Item> = waiting
                    .iter()
                    .map(|i| Item {
                        source: i.source.clone().into(),
                        target: i.target.clone().into(),
                        decided: serde_json::from_str(&i.decided).unwrap_or_default(),
                        number: i.position as usize + 1,
                    })
                    .collect();
                let (workers, stop) = (self.0.workers, stop.clone());
                let batch = tokio::task::spawn_blocking(move || {
                    let batch = Batch { recipe: &recipe, workers, memory: default_memory(), stop: &stop };
                    // The receiver only goes away when the program ends.
                    batch.run(&work, &|at, outcome| drop(send.send((at, outcome))));
                });
                while let Some((at, outcome)) = receive.recv().await {
                    let mut item = waiting[at].clone();
                    item.state = match outcome.state {
                        State::Done => "done",
                        State::Failed => "failed",
                        State::Skipped => "skipped",
                    }
                    .into();
                    item.reason = outcome.reason;
                    item.outputs = serde_json::to_string(&outcome.outputs).ok();
                    item.seconds = Some(outcome.seconds);
                    store.finish_item(&item).await?;
                    self.tell(run.id, Some(item.position)).await?;
                }
                if let Err(e) = batch.await {
                    tracing::error!("run {}: {e}", run.id);
                }
            }
            Err(faults) => {
                for mut item in waiting {
                    item.state = "failed".into();
                    item.reason = Some(format!("the recipe cannot be read: {faults}"));
                    store.finish_item(&item).await?;
                }
            }
        }
        store.add_seconds(run.id, start.elapsed().as_secs_f64()).await?;
        store.set_run_state(run.id, "done", &now()).await?;
        self.stops().remove(&run.id);
        self.tell(run.id, None).await
    }
}
