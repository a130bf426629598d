//! The queue: pictures of runs, several at a time, with the store as memory.
//!
//! Every picture in work is on loan from the store (see `rallo_store`'s `runs`): the queue renews its loans, takes back
//! those of programs that are gone, and can stand in several programs on one machine at once. What a picture makes
//! depends on nothing but its item, so work done twice does no harm, and a program that was killed goes on where it
//! stopped.

use crate::assemble::finishing::{self, Around};
use crate::assemble::piece::{Piece, Stream};
use crate::assemble::web_gallery;
use crate::files::atomic_file::{part_in, sweep};
use crate::frame_context::subject;
use crate::now;
use crate::preflight::cost::{self, Cost, Costs, Original};
use crate::preflight::output_paths::free_bytes;
use crate::render::intermediate::Kept;
use crate::render::item::{self, Item, Joins, Room, State, default_memory};
use crate::render::work::{Ended, Fault};
use crate::report::{self, webhook};
use crate::schedule::{self, CancellationToken, Class, Share};
use rallo_engine::Size;
use rallo_media::Format;
use rallo_recipe::Recipe;
use rallo_store::{Counts, Run, Store, Written};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::HashMap;
use std::path::Path;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
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

/// How far a run is.
#[derive(Clone, Debug, Serialize)]
pub struct Event {
    /// The run.
    pub run: i64,
    /// `waiting`, `running`, `paused`, `asking`, `done` or `cancelled`.
    pub state: String,
    /// Why it pauses, or what it asks.
    pub reason: Option<String>,
    /// Pictures in all, and files of all of them.
    pub total: i64,
    /// Those of them that are no pictures, but files and checks of all.
    pub tasks: i64,
    /// Results written.
    pub done: i64,
    /// Pictures that failed.
    pub failed: i64,
    /// Results that were there.
    pub skipped: i64,
    /// Pictures in work.
    pub working: i64,
    /// Seconds a picture; nothing while only files of all pictures are left.
    pub each: Option<f64>,
    /// Seconds left until all pictures are made.
    pub left: Option<f64>,
    /// How far the pictures in work are together, in pictures.
    pub under_way: f64,
}

impl Event {
    /// Pictures that have ended.
    pub fn ended(&self) -> i64 {
        self.done + self.failed + self.skipped
    }
}

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

/// What pictures of a run take: seconds of one core for each, and for each pixel of its original.
#[derive(Clone, Copy, Debug, PartialEq)]
struct Expected {
    each: f64,
    pixel: f64,
}

impl Expected {
    /// By the smallest and the largest of some pictures, told as (pixels, seconds).
    fn of(all: &[(f64, f64)]) -> Option<Self> {
        let low = all.iter().min_by(|a, b| a.0.total_cmp(&b.0))?;
        let high = all.iter().max_by(|a, b| a.0.total_cmp(&b.0))?;
        let (mean, pixels) = (all.iter().map(|a| a.1).sum::<f64>(), all.iter().map(|a| a.0).sum::<f64>());
        if high.0 < low.0 * 1.2 {
            return (pixels > 0.0).then(|| Self { each: 0.0, pixel: mean / pixels });
        }
        let pixel = ((high.1 - low.1) / (high.0 - low.0)).max(0.0);
        Some(Self { each: (low.1 - pixel * low.0).max(0.0), pixel })
    }

    /// Of so many pictures with so many pixels together.
    fn work(self, pictures: f64, pixels: f64) -> f64 {
        self.each * pictures + self.pixel * pixels
    }
}

impl Active {
    /// Pictures and pixels of those in work that are computed.
    fn under_way(&self) -> (f64, f64) {
        let one = |(pixels, share): &(i64, Share)| (share.get(), *pixels as f64 * share.get());
        self.at_work.values().map(one).fold((0.0, 0.0), |a, b| (a.0 + b.0, a.1 + b.1))
    }
}

type Parsed = Arc<Result<Recipe, String>>;

/// Bundles of a run that are filled while its pictures are made.
#[derive(Default)]
struct Streams {
    all: HashMap<usize, Stream>,
    /// Set when the run is cancelled.
    stop: AtomicBool,
}

impl Streams {
    fn give_up(&self) {
        self.stop.store(true, Ordering::Relaxed);
        self.all.values().for_each(Stream::give_up);
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

/// A picture's place among those in work. Once it only waits for the disk, another picture may be computed; a slow
/// disk would leave the cores idle otherwise.
struct Place {
    queue: Queue,
    is_writing: AtomicBool,
}

/// Files that are written at a time, for each core.
const WRITING: usize = 8;

impl Place {
    fn write(&self) {
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

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(|p| p.into_inner())
}

fn millis() -> i64 {
    SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).map_or(0, |d| d.as_millis() as i64)
}

/// When a process of this machine began, as its system counts.
fn began(pid: u32) -> Option<String> {
    let stat = std::fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    // The name, in brackets, may hold anything.
    stat.rsplit(')').next()?.split_whitespace().nth(19).map(str::to_owned)
}

fn boot() -> String {
    std::fs::read_to_string("/proc/sys/kernel/random/boot_id").unwrap_or_default().trim().to_owned()
}

/// This program as a worker, so that another one can tell whether it is still there.
fn worker_name() -> String {
    let pid = std::process::id();
    format!("{} {pid} {}", boot(), began(pid).unwrap_or_default())
}

/// Whether a worker is gone for sure.
fn is_gone(worker: &str) -> bool {
    let mut parts = worker.split(' ');
    let (Some(boots), Some(pid), Some(start)) = (parts.next(), parts.next(), parts.next()) else {
        return false;
    };
    if boots != boot() {
        return true;
    }
    let Ok(pid) = pid.parse() else { return false };
    !start.is_empty() && began(pid).as_deref() != Some(start)
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

    /// Pictures that may be in work now.
    fn allowed(&self) -> usize {
        let limits = self.limits();
        match limits {
            Limits { quiet: true, .. } => 1,
            Limits { cores: 0, .. } => self.0.cores,
            Limits { cores, .. } => cores.min(64),
        }
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

    /// How far a run is now.
    ///
    /// # Errors
    /// The store's.
    pub async fn state(&self, run: &Run) -> rallo_store::Result<Event> {
        let counts = self.0.store.counts(run.id).await?;
        let Counts { total, tasks, done, failed, skipped, working, pixels, ended_pixels } = counts;
        let pictures = (total - tasks).max(1) as f64;
        let (mut each, mut left, mut under_way) = (None, None, 0.0);
        if run.state == "running" {
            let active = lock(&self.0.active);
            // What is made of all pictures takes a time of its own, which these say nothing of.
            if let Some(active) = active.get(&run.id).filter(|_| ended_pixels < pixels) {
                let ended = (done + failed + skipped).min(total - tasks);
                // Without a table, by pixels: pictures of one run may differ in size.
                let table = active.expected.unwrap_or(Expected { each: 0.0, pixel: 1.0 });
                let (some, part) = active.under_way();
                let made = table.work(
                    (ended - active.before.0) as f64 + some,
                    (ended_pixels - active.before.1) as f64 + part,
                );
                let all = table.work(pictures, pixels as f64);
                let said = active.expected.map(|_| 1.0 / self.width() as f64);
                let seconds = active.since.elapsed().as_secs_f64();
                if let Some(pace) = pace(said, seconds, made, all) {
                    let open = all - table.work(ended as f64 + some, ended_pixels as f64 + part);
                    left = Some(pace * open.max(0.0));
                    each = Some(pace * all / pictures);
                }
                under_way = some;
            }
        } else if run.seconds > 0.0 && done + failed + skipped > 0 {
            each = Some(run.seconds / pictures.min((done + failed + skipped) as f64));
        }
        let (state, reason) = (run.state.clone(), run.reason.clone());
        Ok(Event {
            run: run.id,
            state,
            reason,
            total,
            tasks,
            done,
            failed,
            skipped,
            working,
            each,
            left,
            under_way,
        })
    }

    /// Tells everybody how far a run is.
    ///
    /// # Errors
    /// The store's.
    pub async fn tell(&self, run: i64) -> rallo_store::Result<()> {
        let run = self.0.store.run(run).await?;
        let event = self.state(&run).await?;
        let words = format!("{} {} {:?}", event.state, event.ended(), event.reason);
        lock(&self.0.told).insert(run.id, (words, Instant::now()));
        // Nobody listening is no fault.
        let _ = self.0.events.send(event);
        Ok(())
    }

    /// As [`tell`](Self::tell), but not too often: the next look around says the rest.
    async fn tell_soon(&self, run: i64) -> rallo_store::Result<()> {
        let lately = lock(&self.0.told).get(&run).is_some_and(|t| t.1.elapsed() < NEWS);
        if lately { Ok(()) } else { self.tell(run).await }
    }

    async fn beat(&self) {
        loop {
            tokio::time::sleep(BEAT).await;
            if let Err(e) = self.0.store.beat(&self.0.name, millis() + LEASE).await {
                tracing::warn!("loans were not renewed: {e}");
            }
        }
    }

    /// What pictures take on this machine.
    pub fn costs(&self) -> Costs {
        lock(&self.0.costs).clone()
    }

    /// Pictures that a run may have in work at a time.
    pub fn width(&self) -> usize {
        self.allowed().min(self.0.cores).max(1)
    }

    /// How far each picture of a run is that is in work here, by its position.
    pub fn shares(&self, run: i64) -> HashMap<i64, f64> {
        let active = lock(&self.0.active);
        let all = active.get(&run).map(|a| a.at_work.iter().map(|(at, (_, share))| (*at, share.get())));
        all.into_iter().flatten().collect()
    }

    /// Reads what is known of this machine, and measures it once where nothing is, when the program has settled.
    async fn know_costs(&self) {
        let kept = self.0.store.setting(cost::SETTING).await.ok().flatten();
        let kept: Costs = kept.and_then(|text| serde_json::from_str(&text).ok()).unwrap_or_default();
        *lock(&self.0.costs) = kept.clone();
        if self.0.hook.is_none() || !kept.is_to_be_measured() {
            return;
        }
        tokio::time::sleep(SETTLED).await;
        let measured = tokio::task::spawn_blocking(move || kept.measured()).await;
        if let Ok(measured) = measured {
            *lock(&self.0.costs) = measured;
            self.keep_costs().await;
        }
    }

    async fn keep_costs(&self) {
        let text = serde_json::to_string(&self.costs()).unwrap_or_default();
        if let Err(e) = self.0.store.set_setting(cost::SETTING, &text).await {
            tracing::warn!("what pictures take was not kept: {e}");
        }
    }

    /// What a picture of a run takes by the machine's table, and the pixels of its original.
    fn said(&self, recipe: &Recipe, item: &rallo_store::Item) -> Option<(Cost, f64)> {
        let path = Path::new(&item.source);
        let facts = crate::library::scan::facts(path).ok()?;
        let size = Size::new(facts.width, facts.height);
        let decided = serde_json::from_str(&item.decided).unwrap_or_default();
        let about = subject(path, Some(&facts), &decided, item.position as usize + 1);
        let original =
            Original { size, bytes: item.source_bytes.max(0) as u64, is_jpeg: facts.format == Format::Jpeg };
        Some((self.costs().picture(recipe, &about, original), size.area() as f64))
    }

    /// Looks up what a run's pictures take, by a few of them.
    async fn expect(&self, run: i64, recipe: Parsed) {
        let Ok(items) = self.0.store.waiting(run, LOOKED_AT).await else { return };
        let queue = self.clone();
        let found = tokio::task::spawn_blocking(move || {
            let recipe = recipe.as_ref().as_ref().ok()?;
            // From the smallest to the largest.
            let mut items = items;
            items.sort_by_key(|i| i.pixels);
            let many = items.len().min(EXPECTED);
            let picked = (0..many).map(|n| &items[n * (items.len() - 1) / many.saturating_sub(1).max(1)]);
            let all: Vec<(f64, f64)> = picked
                .filter(|i| i.task.is_none())
                .filter_map(|i| queue.said(recipe, i))
                .map(|(cost, pixels)| (pixels, cost.seconds))
                .collect();
            Expected::of(&all)
        });
        if let Ok(Some(core)) = found.await {
            if let Some(active) = lock(&self.0.active).get_mut(&run) {
                active.expected = Some(core);
            }
            let _ = self.tell(run).await;
        }
    }

    /// What is kept on the disk to save time.
    pub fn kept(&self) -> &Kept {
        &self.0.kept
    }

    async fn work(&self) {
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
    async fn hand_out(&self) -> rallo_store::Result<()> {
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

    /// The recipe a run works by now.
    async fn recipe(&self, run: &Run) -> Parsed {
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
    async fn picture(&self, mut item: rallo_store::Item, threads: usize, place: Arc<Place>) {
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
    fn pooled<T: Send>(&self, threads: usize, share: &Share, work: impl FnOnce() -> T + Send) -> T {
        let class = if self.limits().quiet { Class::QuietRun } else { Class::Run };
        schedule::work_followed(class, threads, &CancellationToken::new(), share, work)
    }

    /// What is filled while the pictures of a run are made; nothing of what cannot be.
    async fn streams(&self, run: &Run, recipe: &Recipe) -> Arc<Streams> {
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
    fn around<'a>(
        &'a self,
        handle: &tokio::runtime::Handle,
        recipe: &'a Recipe,
        (items, item): (&'a [rallo_store::Item], &'a rallo_store::Item),
        stop: &'a AtomicBool,
    ) -> Around<'a> {
        let (store, room, kept) = (&self.0.store, &self.0.room, &self.0.kept);
        Around { store, handle: handle.clone(), recipe, items, item, room, kept, stop }
    }

    async fn begin_streams(&self, run: &Run, recipe: &Recipe) -> Result<Streams, String> {
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
    async fn task(
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

    async fn finish(
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

    /// Ends a run if nothing of it is left.
    async fn end(&self, run: i64) -> rallo_store::Result<()> {
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
    async fn call(&self, run: i64) -> rallo_store::Result<()> {
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

    /// Whether the machine's table is to learn from a picture: from the first ones each time, later from some.
    fn is_worth_learning(&self, item: &rallo_store::Item) -> bool {
        lock(&self.0.costs).learned < 50.0 || item.position % 16 == 0
    }

    /// Lets the machine's table learn from a picture that took so many seconds of one core.
    fn learn(&self, recipe: &Parsed, item: &rallo_store::Item, seconds: f64, bytes: u64) {
        let Ok(recipe) = recipe.as_ref() else { return };
        if let Some((said, _)) = self.said(recipe, item) {
            lock(&self.0.costs).learn(said, seconds, bytes);
        }
    }

    /// A picture of a run goes into work; whether it is the first one of this stretch.
    async fn began(&self, run: &Run, item: &rallo_store::Item, share: &Share) -> bool {
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
    fn stopped(&self, run: i64, position: i64) {
        if let Some(one) = lock(&self.0.active).get_mut(&run) {
            one.at_work.remove(&position);
            let now = Instant::now();
            one.owed += (now - one.counted).as_secs_f64();
            one.counted = now;
            one.busy = one.busy.saturating_sub(1);
        }
    }

    async fn write_time(&self, run: i64) -> rallo_store::Result<()> {
        let owed = match lock(&self.0.active).get_mut(&run) {
            Some(one) => std::mem::take(&mut one.owed),
            None => 0.0,
        };
        if owed > 0.0 { self.0.store.add_seconds(run, owed).await } else { Ok(()) }
    }

    /// Sees to loans of programs that are gone, to what other programs did, and to runs that wait for something.
    async fn look_around(&self, thoroughly: bool) -> rallo_store::Result<()> {
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
    async fn may_go_on(&self, run: &Run) -> rallo_store::Result<bool> {
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

/// Seconds for a pixel: by the machine's table at first, and by what the run took as soon as that says something.
fn pace(said: Option<f64>, seconds: f64, done: f64, all: f64) -> Option<f64> {
    let took = (done > 0.0).then(|| seconds / done);
    match (said, took) {
        (Some(said), Some(took)) => {
            let weight = (done / all / ENOUGH).min(1.0);
            Some(took * weight + said * (1.0 - weight))
        }
        (said, took) => took.or(said),
    }
}

/// The recipe with what was changed for one picture at a checkpoint.
fn answered(recipe: &Result<Recipe, String>, item: &rallo_store::Item) -> Result<Recipe, String> {
    let recipe = recipe.as_ref().map_err(Clone::clone)?;
    let answers: Vec<(usize, String, Value)> = serde_json::from_str(&item.answers).unwrap_or_default();
    recipe.answered(&answers).map_err(|faults| faults.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

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
