//! Working on one item that was handed out.

use crate::assemble::finishing::{self, Around};
use crate::assemble::ordered_stream::Stream;
use crate::assemble::piece::Piece;
use crate::frame_context::decided;
use crate::queue::helpers::AtHelper;
use crate::queue::lease::InWork;
use crate::queue::{PARALLEL, Queue, TICK, WRITING, lock};
use crate::render::fault::{Ended, Fault};
use crate::render::item::{self, Joins};
use crate::render::picture_job::PictureJob;
use crate::render::sequence::{self, RunSequence, SequenceFrame};
use crate::schedule::{self, CancellationToken, Class, Share};
use rallo_job::{EndedItem, FailureKind, ItemState, Phase, Run, RunItem, WrittenFile};
use rallo_recipe::Recipe;
use serde_json::Value;
use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Instant;
use tokio::sync::OnceCell;

pub(super) type Parsed = Arc<Result<Recipe, Fault>>;

/// Bundles of a run that are filled while its pictures are made.
#[derive(Default)]
pub(super) struct Streams {
    pub(super) by_task: HashMap<usize, Stream>,
    /// Set when the run is cancelled.
    stop: AtomicBool,
}

impl Streams {
    pub(super) fn give_up(&self) {
        self.stop.store(true, Ordering::Relaxed);
        self.by_task.values().for_each(Stream::give_up);
    }

    /// A picture goes into work; how many the files of all pictures join.
    pub(super) fn begin(&self, at: usize) -> usize {
        self.by_task.values().for_each(|s| s.began(at));
        self.by_task.values().next().map_or(0, Stream::count)
    }

    /// Which of them want a piece of a picture.
    pub(super) fn wanting(&self, at: usize) -> Vec<usize> {
        self.by_task.iter().filter(|(_, s)| s.wants(at)).map(|(task, _)| *task).collect()
    }

    /// Gives one of them its piece.
    pub(super) fn give(&self, task: usize, at: usize, piece: Piece) {
        if let Some(stream) = self.by_task.get(&task) {
            stream.give(at, Some(piece));
        }
    }
}

/// A picture's place among those in work. Once it only waits for the disk, another picture may be computed; a slow
/// disk would leave the cores idle otherwise.
pub(super) struct Slot {
    queue: Queue,
    is_writing: AtomicBool,
}

impl Slot {
    /// Takes one.
    pub(super) fn take(queue: &Queue) -> Self {
        queue.0.busy.fetch_add(1, Ordering::Relaxed);
        Self { queue: queue.clone(), is_writing: AtomicBool::new(false) }
    }

    /// From now on it only waits for the disk.
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

impl Drop for Slot {
    fn drop(&mut self) {
        let count = if *self.is_writing.get_mut() { &self.queue.0.writing } else { &self.queue.0.busy };
        count.fetch_sub(1, Ordering::Relaxed);
    }
}

/// Where an item is worked on.
pub(super) enum Place {
    /// Here, in so many threads.
    Here(usize, Arc<Slot>),
    /// By another machine.
    Elsewhere(AtHelper),
}

/// The recipe with what was changed for one picture at a checkpoint.
fn answered(recipe: &Result<Recipe, Fault>, item: &RunItem) -> Result<Recipe, Fault> {
    let recipe = recipe.as_ref().map_err(Clone::clone)?;
    recipe.answered(&item.answers).map_err(|faults| Fault::new(FailureKind::Recipe, faults.to_string()))
}

/// Stands for the checkpoints passed while pictures are still being measured.
const UNMEASURED: i64 = -1;

/// An item as a picture to be made or measured, and the recipe with its own values.
fn job_of(
    item: &RunItem,
    recipe: &Parsed,
    targets: Vec<(PathBuf, Option<String>)>,
    sequence: Arc<RunSequence>,
) -> Result<(Recipe, PictureJob), Fault> {
    let (source, number) = (item.source.clone().into(), item.position as usize + 1);
    let job = PictureJob { source, targets, decided: decided(item)?, number, sequence };
    Ok((answered(recipe, item)?, job))
}

impl Queue {
    /// The recipe a run works by now.
    pub(super) async fn recipe(&self, run: &Run) -> Parsed {
        let key = (run.id, run.stage);
        if let Some(known) = lock(&self.0.recipes).get(&key) {
            return known.clone();
        }
        let parsed = Recipe::parse(&run.document).map_err(|faults| {
            Fault::new(FailureKind::Recipe, format!("the recipe cannot be read: {faults}"))
        });
        let parsed: Parsed = Arc::new(parsed);
        let mut recipes = lock(&self.0.recipes);
        if recipes.len() > 16 {
            recipes.clear();
        }
        recipes.insert(key, parsed.clone());
        parsed
    }

    /// The run of an item; asked for until the records answer.
    ///
    /// # Errors
    /// [`Fault`] where what is stored of it cannot be read: asking again would not help.
    async fn run_of(&self, item: &RunItem, of: &OnceCell<Run>) -> Result<Run, Fault> {
        loop {
            match of.get_or_try_init(|| self.0.records.run(item.run_id)).await {
                Ok(run) => return Ok(run.clone()),
                Err(e @ rallo_job::Error::Stored { .. }) => {
                    return Err(Fault::new(FailureKind::Stored, e.to_string()));
                }
                Err(e) => {
                    tracing::error!("run {}: {e}", item.run_id);
                    self.0.clock.sleep(TICK).await;
                }
            }
        }
    }

    /// Where the results of an item go, each with the hash of the file that a run wrote there before.
    async fn targets(&self, item: &RunItem) -> Vec<(PathBuf, Option<String>)> {
        let mut targets = Vec::new();
        for path in item.targets() {
            let known = if tokio::fs::try_exists(&path).await.unwrap_or(false) {
                self.0.records.result(&path).await.ok().flatten().map(|r| r.hash)
            } else {
                None
            };
            targets.push((path.into(), known));
        }
        targets
    }

    /// One item, from its claim to its end in the records.
    pub(super) async fn item(&self, item: RunItem, of: &OnceCell<Run>, place: Place, in_work: &InWork) {
        #[cfg(test)]
        assert!(!item.source.contains("panic-in-the-queue"), "as the test asks for");
        let run = match self.run_of(&item, of).await {
            Ok(run) => run,
            Err(fault) => return self.write_end(item, Ended::failed(fault), 0.0, None).await,
        };
        let recipe = self.recipe(&run).await;
        let share = Share::default();
        if self.began(&run, &item, &share, in_work).await && item.task.is_none() {
            let (queue, recipe, run) = (self.clone(), recipe.clone(), run.id);
            tokio::spawn(async move { queue.expect(run, recipe).await });
        }
        let start = Instant::now();
        let threads = if let Place::Here(threads, _) = &place { *threads } else { 1 };
        if item.phase == Phase::Measure {
            return self.measure(&run, &recipe, item, (place, share), in_work).await;
        }
        let streams = match recipe.as_ref() {
            Ok(recipe) => self.streams(&run, recipe).await,
            Err(_) => Arc::default(),
        };
        let (mut mark, mut took_elsewhere) = (None, None);
        let ended = match place {
            Place::Here(..) if item.task.is_some() => {
                let done = self.task(&run, &recipe, &item, streams.clone(), threads).await;
                mark = done.mark;
                done.ended
            }
            Place::Here(threads, slot) => {
                self.picture(&run, &item, &recipe, streams.clone(), (threads, share), slot).await
            }
            Place::Elsewhere(place) => {
                let (ended, took) = self.elsewhere(&run, &recipe, &item, streams.clone(), place).await;
                took_elsewhere = took;
                ended
            }
        };
        in_work.settle();
        let took = took_elsewhere.unwrap_or_else(|| start.elapsed().as_secs_f64());
        let is_own = item.task.is_none() && took_elsewhere.is_none();
        if is_own {
            self.0.took.store((took * 1e6) as u64, Ordering::Relaxed);
        }
        if is_own && ended.state == ItemState::Done && self.is_worth_learning(&item) {
            let bytes = ended.outputs.iter().filter(|o| o.made).map(|o| o.bytes).sum();
            let (queue, recipe, item) = (self.clone(), recipe.clone(), item.clone());
            let seconds = took * (threads as f64).powf(PARALLEL);
            tokio::task::spawn_blocking(move || queue.learn(&recipe, &item, seconds, bytes));
        }
        let held_by = ended.kind.filter(|kind| kind.holds_run());
        // Pieces that were given are not asked for again; others will not come, or in another try.
        if item.task.is_none() && !streams.by_task.is_empty() {
            let (streams, at) = (streams.clone(), item.position as usize);
            let tell = move || {
                streams
                    .by_task
                    .values()
                    .for_each(|s| if held_by.is_some() { s.left(at) } else { s.skip(at) });
            };
            // Handing pieces on may wait for another program.
            if let Err(e) = tokio::task::spawn_blocking(tell).await {
                tracing::error!("run {}: {e}", run.id);
            }
        }
        match held_by {
            Some(kind) => self.hold(&run, &item, kind, &ended.reason.unwrap_or_default()).await,
            None => self.write_end(item, ended, took, mark).await,
        }
    }

    /// Measures one picture, and lets it wait until all pictures of its run are measured.
    async fn measure(
        &self,
        run: &Run,
        recipe: &Parsed,
        item: RunItem,
        (place, share): (Place, Share),
        in_work: &InWork,
    ) {
        let start = Instant::now();
        let measured = match self.to_measure(run, recipe, &item).await {
            Ok(of) => self.measured(run, &item, of, (place, share)).await,
            Err(fault) => Err(Box::new(Ended::failed(fault))),
        };
        in_work.settle();
        match measured {
            Ok(measured) => self.write_measured(&item, &measured).await,
            Err(ended) => match ended.kind.filter(|kind| kind.holds_run()) {
                Some(kind) => self.hold(run, &item, kind, &ended.reason.unwrap_or_default()).await,
                None => self.write_end(item, *ended, start.elapsed().as_secs_f64(), None).await,
            },
        }
    }

    /// A picture that is to be measured, and by which recipe.
    async fn to_measure(
        &self,
        run: &Run,
        recipe: &Parsed,
        item: &RunItem,
    ) -> Result<(Recipe, PictureJob), Fault> {
        let of = recipe.as_ref().as_ref().map_err(Clone::clone)?;
        let sequence = self.unmeasured(run, of).await?;
        job_of(item, recipe, Vec::new(), sequence)
    }

    /// What is measured of a picture, here or elsewhere.
    async fn measured(
        &self,
        run: &Run,
        item: &RunItem,
        (recipe, job): (Recipe, PictureJob),
        (place, share): (Place, Share),
    ) -> Result<Value, Box<Ended>> {
        let failed = |fault| Box::new(Ended::failed(fault));
        // Measured before, it is not sent.
        let known = match &place {
            Place::Elsewhere(_) => job.sequence.is_measured(&recipe, job.number - 1, &self.0.measurements),
            Place::Here(..) => false,
        };
        let (threads, slot) = match place {
            Place::Here(threads, slot) => (threads, slot),
            Place::Elsewhere(at) if !known => {
                match self.measured_elsewhere(run, item, (recipe.clone(), job.clone()), &at).await {
                    Ok(done) => return done,
                    Err(why) => {
                        tracing::warn!("run {}, picture {}: {why}; it is measured here", run.id, job.number);
                        drop(at);
                        (1, self.wait_for_slot().await)
                    }
                }
            }
            Place::Elsewhere(_) => (1, self.wait_for_slot().await),
        };
        let queue = self.clone();
        let work = move || {
            let _slot = slot;
            queue.pooled(threads, &share, || {
                item::opened(&recipe, &job, &queue.0.room, |source, context| {
                    let kept = Some(&*queue.0.measurements);
                    sequence::measured(&recipe, source, context, &job.sequence, kept).map_err(failed)
                })
            })
        };
        tokio::task::spawn_blocking(work).await.unwrap_or_else(|e| {
            let reason = format!("the program failed on this picture: {e}");
            Err(Box::new(Ended::failed(Fault::new(FailureKind::Inside, reason))))
        })
    }

    /// Writes down what was measured of an item, however long the records take to answer.
    async fn write_measured(&self, item: &RunItem, measured: &Value) {
        while let Err(e) = self.0.records.keep_measured(item, measured).await {
            tracing::error!("run {}: {e}", item.run_id);
            self.0.clock.sleep(TICK).await;
        }
        // What was decided without it is decided anew.
        lock(&self.0.sequences).retain(|(run, stage), _| *run != item.run_id || *stage == UNMEASURED);
        self.added();
        if let Err(e) = self.tell(item.run_id).await {
            tracing::error!("run {}: {e}", item.run_id);
        }
    }

    /// The pictures of a run together before they are measured: values that change over them hold for what is measured too,
    /// some are measured against others, and what was measured is kept for them.
    async fn unmeasured(&self, run: &Run, recipe: &Recipe) -> Result<Arc<RunSequence>, Fault> {
        if !recipe.has_ramps() && recipe.across().is_empty() {
            return Ok(Arc::default());
        }
        let key = (run.id, UNMEASURED);
        if let Some(known) = lock(&self.0.sequences).get(&key) {
            return Ok(known.clone());
        }
        let stored = |e: rallo_job::Error| Fault::new(FailureKind::Stored, e.to_string());
        let items = self.0.records.items(run.id).await.map_err(stored)?;
        let sequence = Arc::new(RunSequence::unmeasured(recipe, SequenceFrame::of_items(&items)?)?);
        lock(&self.0.sequences).insert(key, sequence.clone());
        Ok(sequence)
    }

    /// The pictures of a run together, all of which are measured where its recipe asks for that.
    async fn sequence(&self, run: &Run, recipe: &Recipe) -> Result<Arc<RunSequence>, Fault> {
        let key = (run.id, run.stage);
        if let Some(known) = lock(&self.0.sequences).get(&key) {
            return Ok(known.clone());
        }
        let stored = |e: rallo_job::Error| Fault::new(FailureKind::Stored, e.to_string());
        let sequence = if recipe.across().is_empty() && !recipe.joins_neighbours() && !recipe.has_ramps() {
            let counts = self.0.records.counts(run.id).await.map_err(stored)?;
            RunSequence::of(usize::try_from(counts.total - counts.tasks).unwrap_or_default())
        } else {
            let items = self.0.records.items(run.id).await.map_err(stored)?;
            RunSequence::new(recipe, SequenceFrame::of_items(&items)?, &sequence::measured_of_items(&items))?
        };
        let sequence = Arc::new(sequence);
        let mut held = lock(&self.0.sequences);
        if held.len() > 16 {
            held.clear();
        }
        held.insert(key, sequence.clone());
        Ok(sequence)
    }

    /// What is to be made of one picture.
    pub(super) async fn picture_job(
        &self,
        run: &Run,
        item: &RunItem,
        recipe: &Parsed,
    ) -> Result<(Recipe, PictureJob), Fault> {
        let of = recipe.as_ref().as_ref().map_err(Clone::clone)?;
        let sequence = self.sequence(run, of).await?;
        job_of(item, recipe, self.targets(item).await, sequence)
    }

    /// The results of one picture.
    pub(super) async fn picture(
        &self,
        run: &Run,
        item: &RunItem,
        recipe: &Parsed,
        streams: Arc<Streams>,
        (threads, share): (usize, Share),
        slot: Arc<Slot>,
    ) -> Ended {
        let (recipe, work) = match self.picture_job(run, item, recipe).await {
            Ok(job) => job,
            Err(fault) => return Ended::failed(fault),
        };
        let at = item.position as usize;
        let of = streams.begin(at);
        let queue = self.clone();
        let work = move || {
            let give = |task: usize, piece: Piece| streams.give(task, at, piece);
            let joins = Joins { wanted: streams.wanting(at), of, give: &give };
            queue.pooled(threads, &share, || {
                item::picture(&recipe, &work, &queue.0.room, &queue.0.kept, &joins, &|| slot.write())
            })
        };
        tokio::task::spawn_blocking(work).await.unwrap_or_else(|e| {
            let reason = format!("the program failed on this picture: {e}");
            Ended::failed(Fault::new(FailureKind::Inside, reason))
        })
    }

    /// No fault of the picture: it is given back, and the run waits until the cause is over, or somebody helps.
    pub(super) async fn hold(&self, run: &Run, item: &RunItem, kind: FailureKind, reason: &str) {
        let reason = format!("It waits: {reason}. It goes on by itself when that is over.");
        let paused = self.0.records.pause_run(run.id, Some(&reason), Some(kind)).await;
        let back = self.0.records.give_back(item).await;
        self.give_back_claimed(run.id).await;
        if let Err(e) = paused.and(back.map(|()| true)) {
            tracing::error!("run {}: {e}", run.id);
        }
        if let Err(e) = self.tell(run.id).await {
            tracing::error!("run {}: {e}", run.id);
        }
    }

    /// Writes down how an item ended, however long the records take to answer: the result is there.
    pub(super) async fn write_end(&self, item: RunItem, ended: Ended, took: f64, mark: Option<String>) {
        let item = RunItem {
            state: ended.state,
            kind: ended.kind,
            reason: ended.reason,
            outputs: ended.outputs,
            seconds: Some(took),
            ended: self.0.clock.millis(),
            ..item
        };
        while let Err(e) = self.finish(&item, mark.as_deref()).await {
            tracing::error!("run {}: {e}", item.run_id);
            if matches!(e, rallo_job::Error::Stored { .. }) {
                // The item's end is written down; what is stored of its run cannot be read, now or later.
                break;
            }
            self.0.clock.sleep(TICK).await;
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
        (items, item): (&'a [RunItem], &'a RunItem),
        sequence: Arc<RunSequence>,
        stop: &'a AtomicBool,
    ) -> Around<'a> {
        let (records, room, kept) = (&*self.0.records, &self.0.room, &self.0.kept);
        Around { records, handle: handle.clone(), recipe, items, item, room, kept, sequence, stop }
    }

    pub(super) async fn begin_streams(&self, run: &Run, recipe: &Recipe) -> Result<Streams, String> {
        let tasks = recipe.tasks();
        if tasks.is_empty() {
            return Ok(Streams::default());
        }
        let items = self.0.records.items(run.id).await.map_err(|e| e.to_string())?;
        // Of a run that was interrupted some pieces are gone.
        if items.iter().any(|i| i.state != ItemState::Waiting) {
            return Ok(Streams::default());
        }
        let (queue, recipe) = (self.clone(), recipe.clone());
        let handle = tokio::runtime::Handle::current();
        let stop = AtomicBool::new(false);
        let work = move || {
            let mut by_task = HashMap::new();
            for item in items.iter().filter(|i| i.task.is_some()) {
                let around = queue.around(&handle, &recipe, (&items, item), Arc::default(), &stop);
                if let Some((task, stream)) = finishing::stream(&around) {
                    by_task.insert(task, stream);
                }
            }
            Streams { by_task, stop: AtomicBool::new(false) }
        };
        tokio::task::spawn_blocking(work).await.map_err(|e| e.to_string())
    }

    /// Something that is done for all pictures of a run together.
    pub(super) async fn task(
        &self,
        run: &Run,
        recipe: &Parsed,
        item: &RunItem,
        streams: Arc<Streams>,
        threads: usize,
    ) -> finishing::Done {
        let failed = |kind, reason: String| finishing::Done {
            ended: Ended::failed(Fault::new(kind, reason)),
            mark: None,
        };
        let items = match self.0.records.items(run.id).await {
            Ok(items) => items,
            Err(e) => return failed(FailureKind::Inside, e.to_string()),
        };
        let sequence = match recipe.as_ref() {
            Ok(of) => match self.sequence(run, of).await {
                Ok(sequence) => sequence,
                Err(fault) => return failed(fault.kind, fault.reason),
            },
            Err(fault) => return failed(fault.kind, fault.reason.clone()),
        };
        let (queue, recipe, item) = (self.clone(), recipe.clone(), item.clone());
        let handle = tokio::runtime::Handle::current();
        let threads = threads.max(self.allowed());
        let work = move || {
            let recipe = match recipe.as_ref() {
                Ok(recipe) => recipe,
                Err(fault) => return failed(fault.kind, fault.reason.clone()),
            };
            let around = queue.around(&handle, recipe, (&items, &item), sequence, &streams.stop);
            let live = item.task.and_then(|t| streams.by_task.get(&(t as usize))).and_then(Stream::complete);
            queue.pooled(threads, &Share::default(), || finishing::perform(&around, live))
        };
        tokio::task::spawn_blocking(work)
            .await
            .unwrap_or_else(|e| failed(FailureKind::Inside, format!("the program failed on this file: {e}")))
    }

    async fn finish(&self, item: &RunItem, mark: Option<&str>) -> rallo_job::Result<()> {
        let run = item.run_id;
        let records = &self.0.records;
        let written = item.outputs.iter().filter(|o| o.made).enumerate().map(|(i, o)| WrittenFile {
            path: o.path.to_string_lossy().into_owned(),
            hash: o.hash.clone(),
            bytes: o.bytes as i64,
            mark: mark.filter(|_| i == 0).map(str::to_owned),
        });
        self.write_down(EndedItem { item: item.clone(), written: written.collect() }).await?;
        if item.state == ItemState::Failed
            && let Some(most) = records.run(run).await?.most_failures
        {
            let failed = records.counts(run).await?.failed;
            if failed >= most {
                let reason = format!(
                    "{failed} pictures failed, as many as it may: look at the reasons, then let it go on or cancel it."
                );
                records.pause_run(run, Some(&reason), None).await?;
                self.give_back_claimed(run).await;
            }
        }
        if self.many_wait(run) { Ok(()) } else { self.end(run).await }
    }

    /// An item of a run goes into work; whether it is the first one of this stretch.
    async fn began(&self, run: &Run, item: &RunItem, share: &Share, in_work: &InWork) -> bool {
        let known = lock(&self.0.active).contains_key(&run.id);
        let before = if known {
            (0, 0)
        } else {
            let counts = self.0.records.counts(run.id).await;
            counts.map_or((0, 0), |c| (c.done + c.failed + c.skipped, c.ended_pixels))
        };
        let fresh = in_work.count(item, share, before);
        if fresh && let Err(e) = self.tell(run.id).await {
            tracing::error!("run {}: {e}", run.id);
        }
        fresh
    }
}
