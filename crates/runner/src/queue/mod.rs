//! The queue: items of runs, several at a time, out of whatever keeps runs ([`Records`]).
//!
//! Every item in work is held by a lease, which is renewed while the work goes on; leases that ran out give their items
//! back, so that several workers can share one queue and a killed one is made up for. What an item makes depends on
//! nothing but itself, so work done twice does no harm.

mod by_helper;
mod ends;
mod helpers;
mod lease;
mod progress;
mod scheduler;
#[cfg(test)]
mod sequence_tests;
#[cfg(test)]
mod tests;
mod worker;

pub use crate::queue::helpers::{FromHelper, Helper, Helpers, NotMade};
pub use crate::queue::progress::Event;

use crate::files::atomic_file::worker_name;
use crate::lock::lock;
use crate::preflight::cost::Costs;
use crate::queue::ends::Ends;
use crate::queue::helpers::{NoHelpers, WithHelpers};
use crate::queue::lease::Claimed;
use crate::queue::progress::{Expected, Standing};
use crate::queue::worker::{Parsed, Streams};
use crate::render::disk_cache::IntermediateCache;
use crate::render::measurements::Measurements;
use crate::render::memory_budget::{MemoryBudget, default_memory};
use crate::render::sequence::RunSequence;
use crate::schedule::Share;
use rallo_job::{Clock, ItemKey, Records, SystemClock};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::{HashMap, HashSet, VecDeque};
use std::sync::atomic::{AtomicU64, AtomicUsize};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use tokio::sync::{Notify, broadcast};

/// How often the queue looks around by itself.
const TICK: Duration = Duration::from_secs(1);

/// The setting that says how many bytes are kept.
pub const KEPT: &str = "kept_work";

/// Share of a run after which its own pace alone counts.
const ENOUGH: f64 = 0.05;

/// Pictures by which it is looked up what a run will take, and among how many they are chosen.
const EXPECTED: usize = 6;

const LOOKED_AT: i64 = 200;

/// So many threads are as good as so many cores to the power of this: reading and writing have one.
const PARALLEL: f64 = 0.85;

/// When the machine is measured, after the program was started.
const SETTLED: Duration = Duration::from_secs(90);

/// News of one run come at most so often.
const NEWS: Duration = Duration::from_millis(150);

/// How much of the machine runs may have.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct Limits {
    /// Pictures at a time; 0 is one for each core.
    pub cores: usize,
    /// Megabytes that pictures in work may take together; 0 is half of what is free.
    pub memory: u64,
    /// One picture at a time, and only when nothing else wants the machine.
    pub quiet: bool,
}

/// A run at work here: its pace and its time.
struct Active {
    /// When this stretch of work began, and the items and pixels that had ended then.
    since: Instant,
    before: (i64, i64),
    /// Until when its time is written down.
    counted: Instant,
    /// Seconds not written down yet.
    owed: f64,
    /// What its pictures take, as the machine's table says; nothing until it is looked up.
    expected: Option<Expected>,
    /// Items in work by position: pixels of a picture, and how far each is.
    at_work: HashMap<i64, (Option<i64>, Share)>,
}

impl Active {
    fn new(now: Instant, before: (i64, i64)) -> Self {
        Self { since: now, before, counted: now, owed: 0.0, expected: None, at_work: HashMap::new() }
    }

    /// Pictures and pixels of those in work that are computed.
    fn under_way(&self) -> (f64, f64) {
        let pictures = self.at_work.values().filter_map(|(pixels, share)| Some(((*pixels)?, share.get())));
        pictures.fold((0.0, 0.0), |sum, (pixels, share)| (sum.0 + share, sum.1 + pixels as f64 * share))
    }
}

/// What is called when a run has ended.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum EndCalls {
    /// This worker makes only the calls that runs name themselves.
    #[default]
    OwnOnly,
    /// It also sees to runs that name none, with this call if there is one.
    All(Option<String>),
}

/// What a queue is started with.
#[derive(Clone)]
pub struct QueueOptions {
    /// Items worked on at a time.
    pub cores: usize,
    /// How much of the machine runs may have.
    pub limits: Limits,
    /// What is called when runs have ended.
    pub end_calls: EndCalls,
    /// The only run it works on.
    pub only: Option<i64>,
    /// The clock.
    pub clock: Arc<dyn Clock>,
    /// Other machines that make pictures; nobody where there are none.
    pub helpers: Option<Arc<dyn Helpers>>,
    /// Pictures that other machines can make are left to them.
    pub leaves_pictures: bool,
}

impl QueueOptions {
    /// So many items at a time, and all else as usual.
    pub fn new(cores: usize) -> Self {
        Self {
            cores,
            limits: Limits::default(),
            end_calls: EndCalls::default(),
            only: None,
            clock: Arc::new(SystemClock),
            helpers: None,
            leaves_pictures: false,
        }
    }
}

struct Shared {
    records: Arc<dyn Records>,
    clock: Arc<dyn Clock>,
    name: String,
    wake: Notify,
    events: broadcast::Sender<Event>,
    cores: usize,
    limits: Mutex<Limits>,
    busy: AtomicUsize,
    /// Microseconds that the last picture took.
    took: AtomicU64,
    /// A run, and how many items of all runs waited behind its last one that was handed out, as far as that matters.
    waiting: Mutex<(i64, usize)>,
    /// Pictures that only wait for the disk.
    writing: AtomicUsize,
    /// Other machines, and the pictures they have in work.
    helpers: Arc<dyn Helpers>,
    with_helpers: Mutex<WithHelpers>,
    leaves_pictures: bool,
    /// Items that were claimed and wait until there is room here: quick ones that were claimed together, or one that was claimed for
    /// another machine and must be made here.
    put_by: Mutex<VecDeque<Claimed>>,
    ends: Ends,
    room: Arc<MemoryBudget>,
    /// What is expensive and kept on the disk.
    kept: IntermediateCache,
    /// What was measured of the frames of sequences.
    measurements: Arc<Measurements>,
    end_calls: EndCalls,
    /// Calls that are at work.
    calls: AtomicUsize,
    /// The only run this queue works on.
    only: Option<i64>,
    active: Mutex<HashMap<i64, Active>>,
    /// Items whose leases are renewed.
    leases: Mutex<HashSet<ItemKey>>,
    /// Recipes of runs, by run and checkpoints passed.
    recipes: Mutex<HashMap<(i64, i64), Parsed>>,
    /// The pictures of runs together, by run and checkpoints passed: what is decided depends on the recipe.
    sequences: Mutex<HashMap<(i64, i64), Arc<RunSequence>>>,
    /// What is filled while pictures of a run are made, by its tasks' places.
    streams: tokio::sync::Mutex<HashMap<i64, Arc<Streams>>>,
    /// What pictures take on this machine.
    costs: Mutex<Costs>,
    /// What was last told of each run, and when.
    told: Mutex<HashMap<i64, (Standing, Instant)>>,
}

/// The queue's handle.
#[derive(Clone)]
pub struct Queue(Arc<Shared>);

/// Files that are written at a time, for each core.
const WRITING: usize = 8;

impl Queue {
    /// Starts working on what waits, as one of perhaps several workers.
    pub fn start(records: Arc<dyn Records>, options: QueueOptions) -> Self {
        let QueueOptions { cores, limits, end_calls, only, clock, helpers, leaves_pictures } = options;
        let kept = records.folder().join("kept");
        let measurements = Arc::new(Measurements::new(records.folder()));
        let queue = Self(Arc::new(Shared {
            records,
            clock,
            name: worker_name().to_owned(),
            wake: Notify::new(),
            events: broadcast::channel(1024).0,
            cores: cores.max(1),
            limits: Mutex::new(limits),
            busy: AtomicUsize::new(0),
            took: AtomicU64::new(u64::MAX),
            waiting: Mutex::default(),
            writing: AtomicUsize::new(0),
            helpers: helpers.unwrap_or_else(|| Arc::new(NoHelpers)),
            with_helpers: Mutex::default(),
            leaves_pictures,
            put_by: Mutex::default(),
            ends: Ends::default(),
            room: Arc::new(MemoryBudget::new(default_memory())),
            kept: IntermediateCache::new(&kept),
            measurements,
            end_calls,
            calls: AtomicUsize::new(0),
            only,
            active: Mutex::default(),
            leases: Mutex::default(),
            recipes: Mutex::default(),
            sequences: Mutex::default(),
            streams: tokio::sync::Mutex::default(),
            costs: Mutex::default(),
            told: Mutex::default(),
        }));
        queue.set_limits(limits);
        let worker = queue.clone();
        tokio::spawn(async move { worker.work().await });
        let leases = queue.clone();
        tokio::spawn(async move { leases.renew_leases().await });
        let table = queue.clone();
        tokio::spawn(async move { table.know_costs().await });
        queue
    }

    /// Follows what happens.
    pub fn events(&self) -> broadcast::Receiver<Event> {
        self.0.events.subscribe()
    }

    /// Says that something in the store is new.
    pub fn added(&self) {
        self.0.wake.notify_one();
    }

    /// How much of the machine runs may have.
    pub fn limits(&self) -> Limits {
        *lock(&self.0.limits)
    }

    /// Gives runs another share of the machine, from the next picture on.
    pub fn set_limits(&self, limits: Limits) {
        *lock(&self.0.limits) = limits;
        self.0.room.limit(if limits.memory == 0 {
            default_memory()
        } else {
            limits.memory.saturating_mul(1_000_000)
        });
        self.added();
    }

    /// Cancels a run; pictures in work are finished.
    ///
    /// # Errors
    /// [`rallo_job::Error`].
    pub async fn cancel(&self, run: i64) -> rallo_job::Result<()> {
        if self.0.records.cancel_run(run, &self.0.clock.text()).await? {
            self.give_back_claimed(run).await;
            self.give_up(run).await;
            self.tell(run).await?;
            self.call(run).await?;
        }
        Ok(())
    }

    /// What is filled for a run is no longer needed.
    async fn give_up(&self, run: i64) {
        if let Some(streams) = self.0.streams.lock().await.remove(&run) {
            streams.give_up();
        }
    }

    /// Lets a run pause; pictures in work are finished.
    ///
    /// # Errors
    /// [`rallo_job::Error`].
    pub async fn pause(&self, run: i64) -> rallo_job::Result<()> {
        if self.0.records.pause_run(run, None, None).await? {
            self.give_back_claimed(run).await;
            self.tell(run).await?;
        }
        Ok(())
    }

    /// A run goes on: its pace is told by what is done from now on. What is in work stays counted.
    async fn begin_stretch(&self, run: i64) -> rallo_job::Result<()> {
        let counts = self.0.records.counts(run).await?;
        let mut active = lock(&self.0.active);
        if let Some(known) = active.get_mut(&run) {
            if known.at_work.is_empty() {
                active.remove(&run);
            } else {
                known.since = Instant::now();
                known.before = (counts.done + counts.failed + counts.skipped, counts.ended_pixels);
            }
        }
        Ok(())
    }

    /// Lets a paused run go on.
    ///
    /// # Errors
    /// [`rallo_job::Error`].
    pub async fn go_on(&self, run: i64) -> rallo_job::Result<()> {
        if self.0.records.resume_run(run).await? {
            self.begin_stretch(run).await?;
            self.added();
            self.tell(run).await?;
        }
        Ok(())
    }

    /// Pictures that a run may have in work at a time.
    pub fn width(&self) -> usize {
        self.allowed().min(self.0.cores).max(1)
    }

    /// Other machines that make pictures.
    pub fn helpers(&self) -> &Arc<dyn Helpers> {
        &self.0.helpers
    }

    /// Whether pictures are left to others, and nobody is there who takes any: then runs wait.
    pub fn waits_for_helpers(&self) -> bool {
        self.0.leaves_pictures && self.0.helpers.places().is_empty()
    }

    /// What was measured of the frames of sequences.
    pub fn measurements(&self) -> &Arc<Measurements> {
        &self.0.measurements
    }

    /// What is kept on the disk to save time.
    pub fn kept(&self) -> &IntermediateCache {
        &self.0.kept
    }
}
