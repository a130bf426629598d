//! Working on one item that was handed out.

use crate::assemble::finishing::{self, Around};
use crate::assemble::ordered_stream::Stream;
use crate::assemble::piece::Piece;
use crate::queue::{Active, PARALLEL, Queue, TICK, WRITING, lock, millis};
use crate::render::fault::{Ended, Fault};
use crate::render::item::{self, Item, Joins, State};
use crate::schedule::{self, CancellationToken, Class, Share};
use rallo_recipe::Recipe;
use rallo_store::{Run, Written};
use serde_json::Value;
use std::collections::HashMap;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Instant;

pub(super) type Parsed = Arc<Result<Recipe, String>>;

/// Bundles of a run that are filled while its pictures are made.
#[derive(Default)]
pub(super) struct Streams {
    pub(super) all: HashMap<usize, Stream>,
    /// Set when the run is cancelled.
    stop: AtomicBool,
}

impl Streams {
    pub(super) fn give_up(&self) {
        self.stop.store(true, Ordering::Relaxed);
        self.all.values().for_each(Stream::give_up);
    }
}

/// A picture's place among those in work. Once it only waits for the disk, another picture may be computed; a slow
/// disk would leave the cores idle otherwise.
pub(super) struct Place {
    pub(super) queue: Queue,
    pub(super) is_writing: AtomicBool,
}

impl Place {
    pub(super) fn write(&self) {
        let shared = &self.queue.0;
        if shared.writing.load(Ordering::Relaxed) < WRITING * shared.cores
            && !self.is_writing.swap(true, Ordering::Relaxed)
        {
            shared.writing.fetch_add(1, Ordering::Relaxed);
            shared.busy.fetch_sub(1, Ordering::Relaxed);
            self.queue.added();
        }
    }
}

impl Drop for Place {
    fn drop(&mut self) {
        let count = if *self.is_writing.get_mut() { &self.queue.0.writing } else { &self.queue.0.busy };
        count.fetch_sub(1, Ordering::Relaxed);
    }
}

/// The recipe with what was changed for one picture at a checkpoint.
pub(super) fn answered(recipe: &Result<Recipe, String>, item: &rallo_store::Item) -> Result<Recipe, String> {
    let recipe = recipe.as_ref().map_err(Clone::clone)?;
    let answers: Vec<(usize, String, Value)> = serde_json::from_str(&item.answers).unwrap_or_default();
    recipe.answered(&answers).map_err(|faults| faults.to_string())
}

impl Queue {
    /// The recipe a run works by now.
    pub(super) async fn recipe(&self, run: &Run) -> Parsed {
        let key = (run.id, run.stage);
        if let Some(known) = lock(&self.0.recipes).get(&key) {
            return known.clone();
        }
        let parsed =
            Recipe::parse(&run.document).map_err(|faults| format!("the recipe cannot be read: {faults}"));
        let parsed: Parsed = Arc::new(parsed);
        let mut all = lock(&self.0.recipes);
        if all.len() > 16 {
            all.clear();
        }
        all.insert(key, parsed.clone());
        parsed
    }

    /// One picture, from its loan to its end in the store.
    pub(super) async fn picture(&self, mut item: rallo_store::Item, threads: usize, place: Arc<Place>) {
        let store = &self.0.store;
        let run = loop {
            match store.run(item.run_id).await {
                Ok(run) => break run,
                Err(e) => {
                    tracing::error!("run {}: {e}", item.run_id);
                    tokio::time::sleep(TICK).await;
                }
            }
        };
        let recipe = self.recipe(&run).await;
        let share = Share::default();
        if self.began(&run, &item, &share).await && item.task.is_none() {
            let (queue, recipe, run) = (self.clone(), recipe.clone(), run.id);
            tokio::spawn(async move { queue.expect(run, recipe).await });
        }
        let start = Instant::now();
        let mut targets = Vec::new();
        for path in item.targets() {
            let known = if Path::new(&path).exists() {
                store.result(&path).await.ok().flatten().map(|r| r.hash)
            } else {
                None
            };
            targets.push((path.into(), known));
        }
        let streams = match recipe.as_ref() {
            Ok(recipe) => self.streams(&run, recipe).await,
            Err(_) => Arc::default(),
        };
        let at = item.position as usize;
        let mut mark = None;
        let ended = if item.task.is_some() {
            let done = self.task(&run, &recipe, &item, streams.clone(), threads).await;
            mark = done.mark;
            done.ended
        } else {
            streams.all.values().for_each(|s| s.began(at));
            let (queue, item, streams) = (self.clone(), item.clone(), streams.clone());
            let recipe = recipe.clone();
            let work = move || match answered(&recipe, &item) {
                Err(reason) => Ended::failed(Fault::new("recipe", reason)),
                Ok(recipe) => {
                    let work = Item {
                        source: item.source.clone().into(),
                        targets,
                        decided: serde_json::from_str(&item.decided).unwrap_or_default(),
                        number: at + 1,
                    };
                    let wanted = streams.all.iter().filter(|(_, s)| s.wants(at)).map(|(t, _)| *t).collect();
                    let give = |task: usize, piece: Piece| {
                        if let Some(stream) = streams.all.get(&task) {
                            stream.give(at, Some(piece));
                        }
                    };
                    let of = streams.all.values().next().map_or(0, Stream::count);
                    let joins = Joins { wanted, of, give: &give };
                    queue.pooled(threads, &share, || {
                        item::picture(&recipe, &work, &queue.0.room, &queue.0.kept, &joins, &|| place.write())
                    })
                }
            };
            tokio::task::spawn_blocking(work).await.unwrap_or_else(|e| {
                Ended::failed(Fault::new("inside", format!("the program failed on this picture: {e}")))
            })
        };
        self.stopped(run.id, item.position);
        let took = start.elapsed().as_secs_f64();
        if item.task.is_none() && ended.state == State::Done && self.is_worth_learning(&item) {
            let bytes = ended.outputs.iter().filter(|o| o.made).map(|o| o.bytes).sum();
            let (queue, recipe, item) = (self.clone(), recipe.clone(), item.clone());
            let seconds = took * (threads as f64).powf(PARALLEL);
            tokio::task::spawn_blocking(move || queue.learn(&recipe, &item, seconds, bytes));
        }
        let waits = matches!(ended.kind, Some("no room" | "no permission"));
        // Pieces that were given are not asked for again; others will not come, or in another try.
        if item.task.is_none() && !streams.all.is_empty() {
            let streams = streams.clone();
            let tell = move || {
                streams.all.values().for_each(|s| if waits { s.left(at) } else { s.skip(at) });
            };
            // Handing pieces on may wait for another program.
            if let Err(e) = tokio::task::spawn_blocking(tell).await {
                tracing::error!("run {}: {e}", run.id);
            }
        }
        // No fault of the picture: the run waits until there is room again, or somebody helps.
        if let Some(kind @ ("no room" | "no permission")) = ended.kind {
            let reason = ended.reason.unwrap_or_default();
            let paused = store
                .pause_run(
                    run.id,
                    Some(&format!("It waits: {reason}. It goes on by itself when that is over.")),
                    Some(kind),
                )
                .await;
            let back = store.give_back(&item).await;
            if let Err(e) = paused.and(back.map(|()| true)) {
                tracing::error!("run {}: {e}", run.id);
            }
            let _ = self.tell(run.id).await;
            return;
        }
        item.state = match ended.state {
            State::Done => "done",
            State::Failed => "failed",
            State::Skipped => "skipped",
        }
        .into();
        item.kind = ended.kind.map(str::to_owned);
        item.reason = ended.reason;
        item.outputs = serde_json::to_string(&ended.outputs).ok();
        item.seconds = Some(start.elapsed().as_secs_f64());
        item.ended = millis();
        // The result is there: that is written down, however long the store takes.
        while let Err(e) = self.finish(&run, &item, &ended.outputs, mark.as_deref()).await {
            tracing::error!("run {}: {e}", run.id);
            tokio::time::sleep(TICK).await;
        }
    }

    /// Works in so many threads, which let everybody else go first.
    pub(super) fn pooled<T: Send>(
        &self,
        threads: usize,
        share: &Share,
        work: impl FnOnce() -> T + Send,
    ) -> T {
        let class = if self.limits().quiet { Class::QuietRun } else { Class::Run };
        schedule::work_followed(class, threads, &CancellationToken::new(), share, work)
    }

    /// What is filled while the pictures of a run are made; nothing of what cannot be.
    pub(super) async fn streams(&self, run: &Run, recipe: &Recipe) -> Arc<Streams> {
        let mut held = self.0.streams.lock().await;
        if let Some(known) = held.get(&run.id) {
            return known.clone();
        }
        let streams = match self.begin_streams(run, recipe).await {
            Ok(streams) => Arc::new(streams),
            Err(e) => {
                tracing::warn!("run {}: what is made of all pictures is made at its end: {e}", run.id);
                Arc::default()
            }
        };
        held.insert(run.id, streams.clone());
        streams
    }

    /// A run for the files that are made of all its pictures, at one of its items.
    pub(super) fn around<'a>(
        &'a self,
        handle: &tokio::runtime::Handle,
        recipe: &'a Recipe,
        (items, item): (&'a [rallo_store::Item], &'a rallo_store::Item),
        stop: &'a AtomicBool,
    ) -> Around<'a> {
        let (store, room, kept) = (&self.0.store, &self.0.room, &self.0.kept);
        Around { store, handle: handle.clone(), recipe, items, item, room, kept, stop }
    }

    pub(super) async fn begin_streams(&self, run: &Run, recipe: &Recipe) -> Result<Streams, String> {
        let tasks = recipe.tasks();
        if tasks.is_empty() {
            return Ok(Streams::default());
        }
        let items = self.0.store.items(run.id).await.map_err(|e| e.to_string())?;
        // Of a run that was interrupted some pieces are gone.
        if items.iter().any(|i| i.state != "waiting") {
            return Ok(Streams::default());
        }
        let (queue, recipe) = (self.clone(), recipe.clone());
        let handle = tokio::runtime::Handle::current();
        let stop = AtomicBool::new(false);
        let work = move || {
            let mut all = HashMap::new();
            for item in items.iter().filter(|i| i.task.is_some()) {
                let around = queue.around(&handle, &recipe, (&items, item), &stop);
                if let Some((task, stream)) = finishing::stream(&around) {
                    all.insert(task, stream);
                }
            }
            Streams { all, stop: AtomicBool::new(false) }
        };
        tokio::task::spawn_blocking(work).await.map_err(|e| e.to_string())
    }

    /// Something that is done for all pictures of a run together.
    pub(super) async fn task(
        &self,
        run: &Run,
        recipe: &Parsed,
        item: &rallo_store::Item,
        streams: Arc<Streams>,
        threads: usize,
    ) -> finishing::Done {
        let failed = |kind, reason: String| finishing::Done {
            ended: Ended::failed(Fault::new(kind, reason)),
            mark: None,
        };
        let items = match self.0.store.items(run.id).await {
            Ok(items) => items,
            Err(e) => return failed("inside", e.to_string()),
        };
        let (queue, recipe, item) = (self.clone(), recipe.clone(), item.clone());
        let handle = tokio::runtime::Handle::current();
        let threads = threads.max(self.allowed());
        let work = move || {
            let recipe = match recipe.as_ref() {
                Ok(recipe) => recipe,
                Err(reason) => return failed("recipe", reason.clone()),
            };
            let around = queue.around(&handle, recipe, (&items, &item), &streams.stop);
            let live = item.task.and_then(|t| streams.all.get(&(t as usize))).and_then(Stream::complete);
            queue.pooled(threads, &Share::default(), || finishing::perform(&around, live))
        };
        tokio::task::spawn_blocking(work)
            .await
            .unwrap_or_else(|e| failed("inside", format!("the program failed on this file: {e}")))
    }

    pub(super) async fn finish(
        &self,
        run: &Run,
        item: &rallo_store::Item,
        outputs: &[item::Output],
        mark: Option<&str>,
    ) -> rallo_store::Result<()> {
        let store = &self.0.store;
        let written = outputs.iter().filter(|o| o.made).enumerate().map(|(i, o)| Written {
            path: o.path.to_string_lossy().into_owned(),
            hash: o.hash.clone(),
            bytes: o.bytes as i64,
            mark: mark.filter(|_| i == 0).map(str::to_owned),
        });
        store.finish_item(item, &written.collect::<Vec<_>>()).await?;
        if item.state == "failed"
            && let Some(most) = run.most_failures
        {
            let failed = store.counts(run.id).await?.failed;
            if failed >= most {
                let reason = format!(
                    "{failed} pictures failed, as many as it may: look at the reasons, then let it go on or cancel it."
                );
                store.pause_run(run.id, Some(&reason), None).await?;
            }
        }
        self.end(run.id).await
    }

    /// A picture of a run goes into work; whether it is the first one of this stretch.
    pub(super) async fn began(&self, run: &Run, item: &rallo_store::Item, share: &Share) -> bool {
        let known = lock(&self.0.active).contains_key(&run.id);
        let before = if known {
            (0, 0)
        } else {
            let counts = self.0.store.counts(run.id).await;
            counts.map_or((0, 0), |c| (c.done + c.failed + c.skipped, c.ended_pixels))
        };
        let fresh = {
            let mut active = lock(&self.0.active);
            let fresh = !active.contains_key(&run.id);
            let now = Instant::now();
            let one = active.entry(run.id).or_insert(Active {
                since: now,
                before,
                busy: 0,
                counted: now,
                owed: 0.0,
                expected: None,
                at_work: HashMap::new(),
            });
            if one.busy == 0 {
                one.counted = now;
            }
            one.busy += 1;
            if item.task.is_none() {
                one.at_work.insert(item.position, (item.pixels.max(0), share.clone()));
            }
            fresh
        };
        if fresh && let Err(e) = self.tell(run.id).await {
            tracing::error!("run {}: {e}", run.id);
        }
        fresh
    }

    /// A picture of a run is out of work.
    pub(super) fn stopped(&self, run: i64, position: i64) {
        if let Some(one) = lock(&self.0.active).get_mut(&run) {
            one.at_work.remove(&position);
            let now = Instant::now();
            one.owed += (now - one.counted).as_secs_f64();
            one.counted = now;
            one.busy = one.busy.saturating_sub(1);
        }
    }
}
