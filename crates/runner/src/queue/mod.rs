//! The queue: pictures of runs, several at a time, with the store as memory.
//!
//! Every picture in work is on loan from the store (see `rallo_store`'s `runs`): the queue renews its loans, takes back
//! those of programs that are gone, and can stand in several programs on one machine at once. What a picture makes
//! depends on nothing but its item, so work done twice does no harm, and a program that was killed goes on where it
//! stopped.

mod liveness;
mod progress;
mod scheduler;
mod worker;

pub use crate::queue::progress::Event;

use crate::now;
use crate::preflight::cost::Costs;
use crate::queue::liveness::worker_name;
use crate::queue::progress::Expected;
use crate::queue::worker::{Parsed, Streams};
use crate::render::intermediate::Kept;
use crate::render::item::{Room, default_memory};
use crate::schedule::Share;
use rallo_store::Store;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::sync::atomic::AtomicUsize;
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::{Duration, Instant, SystemTime};
use tokio::sync::{Notify, broadcast};

/// How long a loan lasts without being renewed, and how often it is, in milliseconds.
const LEASE: i64 = 30_000;

const BEAT: Duration = Duration::from_secs(5);

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
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
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
    /// When this stretch of work began, and the pictures and pixels that had ended then.
    since: Instant,
    before: (i64, i64),
    /// Pictures in work.
    busy: usize,
    /// Until when its time is written down.
    counted: Instant,
    /// Seconds not written down yet.
    owed: f64,
    /// What its pictures take, as the machine's table says; nothing until it is looked up.
    expected: Option<Expected>,
    /// Pictures in work: their positions, pixels, and how far each is.
    at_work: HashMap<i64, (i64, Share)>,
}

impl Active {
    /// Pictures and pixels of those in work that are computed.
    fn under_way(&self) -> (f64, f64) {
        let one = |(pixels, share): &(i64, Share)| (share.get(), *pixels as f64 * share.get());
        self.at_work.values().map(one).fold((0.0, 0.0), |a, b| (a.0 + b.0, a.1 + b.1))
    }
}

struct Shared {
    store: Store,
    name: String,
    wake: Notify,
    events: broadcast::Sender<Event>,
    cores: usize,
    limits: Mutex<Limits>,
    busy: AtomicUsize,
    /// Pictures that only wait for the disk.
    writing: AtomicUsize,
    room: Room,
    /// What is expensive and kept on the disk.
    kept: Kept,
    /// Called when a run has ended that has no hook of its own; without this only runs' own ones are seen to.
    hook: Option<Option<String>>,
    /// Hooks that are at work.
    calls: AtomicUsize,
    /// The only run this queue works on.
    only: Option<i64>,
    active: Mutex<HashMap<i64, Active>>,
    /// Recipes of runs, by run and checkpoints passed.
    recipes: Mutex<HashMap<(i64, i64), Parsed>>,
    /// What is filled while pictures of a run are made, by its tasks' places.
    streams: tokio::sync::Mutex<HashMap<i64, Arc<Streams>>>,
    /// What pictures take on this machine.
    costs: Mutex<Costs>,
    /// What was last told of each run, and when.
    told: Mutex<HashMap<i64, (String, Instant)>>,
}

/// The queue's handle.
#[derive(Clone)]
pub struct Queue(Arc<Shared>);

/// Files that are written at a time, for each core.
const WRITING: usize = 8;

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(|p| p.into_inner())
}

fn millis() -> i64 {
    SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).map_or(0, |d| d.as_millis() as i64)
}

impl Queue {
    /// Starts working on what waits in the store, at most `cores` pictures at a time, as one of perhaps several workers.
    pub fn start(store: Store, cores: usize, limits: Limits) -> Self {
        Self::begin(store, cores, limits, None, None)
    }

    /// As [`start`](Self::start); besides, `hook` is called after each run that has none of its own, whoever ended it.
    pub fn serve(store: Store, cores: usize, limits: Limits, hook: Option<String>) -> Self {
        Self::begin(store, cores, limits, Some(hook), None)
    }

    /// Works on one run alone.
    pub fn only(store: Store, cores: usize, run: i64) -> Self {
        Self::begin(store, cores, Limits::default(), None, Some(run))
    }

    fn begin(
        store: Store,
        cores: usize,
        limits: Limits,
        hook: Option<Option<String>>,
        only: Option<i64>,
    ) -> Self {
        let kept = store.folder().join("kept");
        let queue = Self(Arc::new(Shared {
            store,
            name: worker_name(),
            wake: Notify::new(),
            events: broadcast::channel(1024).0,
            cores: cores.max(1),
            limits: Mutex::new(limits),
            busy: AtomicUsize::new(0),
            writing: AtomicUsize::new(0),
            room: Room::new(default_memory()),
            kept: Kept::new(&kept),
            hook,
            calls: AtomicUsize::new(0),
            only,
            active: Mutex::default(),
            recipes: Mutex::default(),
            streams: tokio::sync::Mutex::default(),
            costs: Mutex::default(),
            told: Mutex::default(),
        }));
        queue.set_limits(limits);
        let worker = queue.clone();
        tokio::spawn(async move { worker.work().await });
        let heart = queue.clone();
        tokio::spawn(async move { heart.beat().await });
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
    /// The store's.
    pub async fn cancel(&self, run: i64) -> rallo_store::Result<()> {
        if self.0.store.cancel_run(run, &now()).await? {
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
    /// The store's.
    pub async fn pause(&self, run: i64) -> rallo_store::Result<()> {
        if self.0.store.pause_run(run, None, None).await? {
            self.tell(run).await?;
        }
        Ok(())
    }

    /// Lets a paused run go on.
    ///
    /// # Errors
    /// The store's.
    pub async fn go_on(&self, run: i64) -> rallo_store::Result<()> {
        if self.0.store.resume_run(run).await? {
            lock(&self.0.active).remove(&run);
            self.added();
            self.tell(run).await?;
        }
        Ok(())
    }

    /// Pictures that a run may have in work at a time.
    pub fn width(&self) -> usize {
        self.allowed().min(self.0.cores).max(1)
    }

    /// What is kept on the disk to save time.
    pub fn kept(&self) -> &Kept {
        &self.0.kept
    }
}

#[cfg(test)]
mod tests {
    use crate::queue::progress::{Expected, pace};

    #[test]
    fn what_pictures_take_is_split_into_each_and_each_pixel() {
        // Three seconds each and two a pixel, seen on pictures of several sizes.
        let all: Vec<(f64, f64)> = [5.0, 20.0, 8.0].map(|p| (p, 3.0 + 2.0 * p)).to_vec();
        assert_eq!(Expected::of(&all), Some(Expected { each: 3.0, pixel: 2.0 }));
        assert_eq!(Expected::of(&all).unwrap().work(2.0, 10.0), 26.0);
        // Pictures of one size say nothing of what each takes by itself.
        assert_eq!(Expected::of(&[(10.0, 4.0), (10.0, 6.0)]), Some(Expected { each: 0.0, pixel: 0.5 }));
        assert_eq!(Expected::of(&[]), None);
    }

    #[test]
    fn the_table_speaks_first_and_the_run_itself_afterwards() {
        assert_eq!(pace(None, 5.0, 0.0, 100.0), None);
        assert_eq!(pace(Some(2.0), 5.0, 0.0, 100.0), Some(2.0));
        assert_eq!(pace(None, 5.0, 10.0, 100.0), Some(0.5));
        // Half of what is enough: half of each.
        assert_eq!(pace(Some(2.0), 10.0, 2.5, 100.0), Some(3.0));
        assert_eq!(pace(Some(2.0), 40.0, 10.0, 100.0), Some(4.0));
    }
}
