//! Many pictures: several at a time within a memory bound; one bad file never stops the rest.

use crate::execute::{Ended, Fault, execute};
use crate::subject::{Decided, subject};
use rallo_media::FileSource;
use rallo_recipe::Recipe;
use serde::{Deserialize, Serialize};
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Condvar, Mutex};
use std::time::Instant;

/// One picture to be made.
#[derive(Clone, Debug)]
pub struct Item {
    /// The original.
    pub source: PathBuf,
    /// Where its result goes.
    pub target: PathBuf,
    /// What people decided about it.
    pub decided: Decided,
    /// Position in the run, from 1.
    pub number: usize,
    /// Hash of the result that an earlier run wrote there, where that is known: another one was altered since.
    pub known: Option<String>,
}

/// How a picture ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum State {
    /// A result was written.
    Done,
    /// Nothing was written, and there is a reason.
    Failed,
    /// The result was there already.
    Skipped,
}

/// One file written.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Output {
    /// The file.
    pub path: PathBuf,
    /// Its size.
    pub bytes: u64,
    /// Pixels per row.
    pub width: u32,
    /// Rows.
    pub height: u32,
    /// Hash of its bytes.
    #[serde(default)]
    pub hash: String,
}

/// One picture's end.
#[derive(Clone, Debug, Serialize)]
pub struct Outcome {
    /// The original.
    pub source: PathBuf,
    /// How it ended.
    pub state: State,
    /// What kind of failure it was.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub kind: Option<&'static str>,
    /// Why it failed or was skipped.
    pub reason: Option<String>,
    /// What was written.
    pub outputs: Vec<Output>,
    /// Time it took.
    pub seconds: f64,
}

/// A whole run's end.
#[derive(Clone, Debug, Serialize)]
pub struct Report {
    /// Results written.
    pub done: usize,
    /// Pictures that failed.
    pub failed: usize,
    /// Results that were there.
    pub skipped: usize,
    /// Time it took.
    pub seconds: f64,
    /// Every picture, in order.
    pub items: Vec<Outcome>,
}

/// How a batch is worked through.
pub struct Batch<'a> {
    /// The recipe.
    pub recipe: &'a Recipe,
    /// Pictures at a time.
    pub workers: usize,
    /// Bytes that pictures in work may take together; a single one may take more.
    pub memory: u64,
    /// Set from outside to stop after the pictures in work.
    pub stop: &'a AtomicBool,
}

/// Room in memory, given out to pictures before they are decoded.
pub(crate) struct Room {
    /// Bytes taken, by how many pictures, and the most there may be.
    taken: Mutex<(u64, usize, u64)>,
    changed: Condvar,
}

impl Room {
    pub(crate) fn new(limit: u64) -> Self {
        Self { taken: Mutex::new((0, 0, limit)), changed: Condvar::new() }
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, (u64, usize, u64)> {
        self.taken.lock().unwrap_or_else(|p| p.into_inner())
    }

    pub(crate) fn limit(&self, bytes: u64) {
        self.lock().2 = bytes;
        self.changed.notify_all();
    }

    /// Waits until there is room; a picture larger than all of it goes alone.
    fn take(&self, bytes: u64) -> Taken<'_> {
        let mut taken = self.lock();
        while taken.0 + bytes > taken.2 && taken.1 > 0 {
            taken = self.changed.wait(taken).unwrap_or_else(|p| p.into_inner());
        }
        taken.0 += bytes;
        taken.1 += 1;
        Taken(self, bytes)
    }
}

/// Room that is given back when this goes.
struct Taken<'a>(&'a Room, u64);

impl Drop for Taken<'_> {
    fn drop(&mut self) {
        let mut taken = self.0.lock();
        taken.0 -= self.1;
        taken.1 -= 1;
        self.0.changed.notify_all();
    }
}

/// One picture of a run, from opening it to its file; what goes wrong inside is a failure of this picture alone.
pub(crate) fn picture(recipe: &Recipe, item: &Item, room: &Room) -> Ended {
    let work = || made(recipe, item, room);
    std::panic::catch_unwind(std::panic::AssertUnwindSafe(work)).unwrap_or_else(|_| {
        Ended::failed(Fault::new("inside", "the program failed on this picture; please report it"))
    })
}

fn made(recipe: &Recipe, item: &Item, room: &Room) -> Ended {
    let source = match FileSource::open(&item.source) {
        Ok(source) => source,
        Err(e) => return Ended::failed(Fault::from(e)),
    };
    let about = subject(&item.source, Some(&source.facts(&item.source)), &item.decided, item.number);
    let plan = match recipe.layout(&about) {
        Ok(plan) => plan,
        Err(e) => return Ended::failed(Fault::new("too large", e.to_string())),
    };
    let bytes = source.decoded_bytes(plan.program(1.0).level()) + plan.working_bytes(1, 2);
    let _taken = room.take(bytes);
    execute(recipe, &source, item, &about)
}

impl Batch<'_> {
    /// Works through `items`; `ended` is told each picture's end, with its position, as it happens.
    pub fn run(&self, items: &[Item], ended: &(dyn Fn(usize, Outcome) + Sync)) -> bool {
        let next = AtomicUsize::new(0);
        let room = Room::new(self.memory);
        let workers = self.workers.clamp(1, items.len().max(1));
        // Each picture has its share of the cores: with as many pictures in work as cores, one each.
        let cores = std::thread::available_parallelism().map_or(1, usize::from);
        let share = (cores / workers).max(1);
        std::thread::scope(|scope| {
            for _ in 0..workers {
                scope.spawn(|| {
                    let pool = rayon::ThreadPoolBuilder::new().num_threads(share).build();
                    loop {
                        let at = next.fetch_add(1, Ordering::Relaxed);
                        if at >= items.len() || self.stop.load(Ordering::Relaxed) {
                            break;
                        }
                        let start = Instant::now();
                        let work = || picture(self.recipe, &items[at], &room);
                        let end = match &pool {
                            Ok(pool) => pool.install(work),
                            Err(_) => work(),
                        };
                        ended(
                            at,
                            Outcome {
                                source: items[at].source.clone(),
                                state: end.state,
                                kind: end.kind,
                                reason: end.reason,
                                outputs: end.outputs,
                                seconds: start.elapsed().as_secs_f64(),
                            },
                        );
                    }
                });
            }
        });
        !self.stop.load(Ordering::Relaxed)
    }

    /// As [`run`](Self::run), collecting a report.
    pub fn report(&self, items: &[Item], ended: &(dyn Fn(usize, &Outcome) + Sync)) -> Report {
        let start = Instant::now();
        let all: Mutex<Vec<(usize, Outcome)>> = Mutex::new(Vec::new());
        self.run(items, &|at, outcome| {
            ended(at, &outcome);
            all.lock().unwrap_or_else(|p| p.into_inner()).push((at, outcome));
        });
        let mut all = all.into_inner().unwrap_or_else(|p| p.into_inner());
        all.sort_by_key(|(at, _)| *at);
        let items: Vec<Outcome> = all.into_iter().map(|(_, o)| o).collect();
        let count = |state| items.iter().filter(|o| o.state == state).count();
        Report {
            done: count(State::Done),
            failed: count(State::Failed),
            skipped: count(State::Skipped),
            seconds: start.elapsed().as_secs_f64(),
            items,
        }
    }
}

/// Bytes a batch may take by default: half of the memory that is free now, 1 GB where that is not known.
pub fn default_memory() -> u64 {
    std::fs::read_to_string("/proc/meminfo")
        .ok()
        .and_then(|text| {
            let line = text.lines().find(|l| l.starts_with("MemAvailable:"))?.to_owned();
            line.split_whitespace().nth(1)?.parse::<u64>().ok()
        })
        .map_or(1_000_000_000, |kb| kb * 512)
}
