//! Who computes first: what is under somebody's eye goes before everything else in the program.
//!
//! All heavy work is done by [`work`] (from a thread that may block) or [`ask`] (from async code), which name its
//! [`Class`]. A lower class gives way twice. Its threads have a lower priority with the system, so that a core is given
//! up at once; and at every piece of a few milliseconds ([`rallo_engine::pace`]) it stands still while something more
//! urgent is at work, so that caches and memory are not fought over. It never stands still for longer than
//! [`PATIENCE`] between two pieces: nothing starves, and two classes that wait for each other do not wait for ever.
//!
//! Work is given up when its [`CancellationToken`] is cancelled; [`ask`] does so when the one who asked is gone, which
//! for a request to the server means that the connection was closed.

use crate::lock::lock;
use rallo_engine::pace::{self, Pace};
use std::cell::RefCell;
use std::collections::HashMap;
use std::sync::atomic::{AtomicU32, AtomicUsize, Ordering};
use std::sync::{Arc, Condvar, LazyLock, Mutex};
use std::time::{Duration, Instant};
pub use tokio_util::sync::CancellationToken;

/// How urgent work is, the most urgent first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Class {
    /// What somebody looks at and waits for now: the viewer, values, the loupe.
    Eye,
    /// What is in sight beside that: thumbnails, the true picture where only a stand-in is shown.
    Sight,
    /// What nobody waits for yet: measuring frames, times and sizes.
    Background,
    /// Pictures of runs.
    Run,
    /// Pictures of runs that are to leave the machine to everybody else.
    QuietRun,
}

impl Class {
    /// What the system is told: 0 is ordinary, 19 comes last.
    fn niceness(self) -> i32 {
        match self {
            Self::Eye => 0,
            Self::Sight => 5,
            Self::Background | Self::Run => 10,
            Self::QuietRun => 19,
        }
    }

    /// Classes that this one stands still for. Runs and what is measured share the machine.
    fn gives_way_to(self) -> usize {
        match self {
            Self::Eye => 0,
            Self::Sight => 1,
            Self::Background | Self::Run | Self::QuietRun => 2,
        }
    }
}

/// Longest time that work stands still before its next piece.
const PATIENCE: Duration = Duration::from_millis(250);

/// Work of the first two classes that is under way.
#[derive(Default)]
struct Gate {
    urgent: [AtomicUsize; 2],
    lock: Mutex<()>,
    changed: Condvar,
}

static GATE: LazyLock<Gate> = LazyLock::new(Gate::default);

impl Gate {
    fn is_closed(&self, class: Class) -> bool {
        self.urgent[..class.gives_way_to()].iter().any(|n| n.load(Ordering::Acquire) > 0)
    }

    /// Stands still while something more urgent is at work.
    fn wait(&self, class: Class) {
        if !self.is_closed(class) {
            return;
        }
        let until = Instant::now() + PATIENCE;
        let mut held = lock(&self.lock);
        while self.is_closed(class) {
            let left = until.saturating_duration_since(Instant::now());
            if left.is_zero() {
                return;
            }
            held = self.changed.wait_timeout(held, left).unwrap_or_else(|p| p.into_inner()).0;
        }
    }
}

/// Counts work of an urgent class while it lasts.
struct Urgent(Option<usize>);

impl Urgent {
    fn new(class: Class) -> Self {
        let at = match class {
            Class::Eye => Some(0),
            Class::Sight => Some(1),
            _ => None,
        };
        if let Some(at) = at {
            GATE.urgent[at].fetch_add(1, Ordering::AcqRel);
        }
        Self(at)
    }
}

impl Drop for Urgent {
    fn drop(&mut self) {
        if let Some(at) = self.0
            && GATE.urgent[at].fetch_sub(1, Ordering::AcqRel) == 1
        {
            // Under the lock, so that nobody goes to sleep between its look and this call.
            drop(lock(&GATE.lock));
            GATE.changed.notify_all();
        }
    }
}

/// Threads of one class, with the work they have now.
struct Crew {
    pool: rayon::ThreadPool,
    task: Arc<Task>,
}

/// What a crew's threads ask before each piece.
struct Task {
    class: Class,
    wanted: Mutex<CancellationToken>,
    share: Mutex<Share>,
}

thread_local! {
    static AT_WORK: RefCell<Option<Arc<Task>>> = const { RefCell::new(None) };
}

/// Says how far the work of this thread is, 0 ..= 1, to whoever follows it.
pub fn report(share: f64) {
    AT_WORK.with(|task| {
        if let Some(task) = task.borrow().as_ref() {
            lock(&task.share).set(share);
        }
    });
}

impl Pace for Task {
    fn go_on(&self) -> bool {
        if !self.is_wanted() {
            return false;
        }
        GATE.wait(self.class);
        self.is_wanted()
    }
    fn is_wanted(&self) -> bool {
        !lock(&self.wanted).is_cancelled()
    }
}

/// Crews that have nothing to do. One crew has one work at a time: work that waits for something else then never holds up
/// another's.
static IDLE: LazyLock<Mutex<Idle>> = LazyLock::new(Mutex::default);

/// By class and number of threads.
type Idle = HashMap<(Class, usize), Vec<Crew>>;

/// Cores of this machine.
pub fn cores() -> usize {
    std::thread::available_parallelism().map_or(1, std::num::NonZero::get)
}

/// A program that works for a run lets everybody else go first.
pub(crate) fn step_back_process(id: u32) {
    let id = i32::try_from(id).ok().and_then(rustix::process::Pid::from_raw);
    let _ = rustix::process::setpriority_process(id, Class::Run.niceness());
}

fn crew(class: Class, threads: usize) -> Option<Crew> {
    if let Some(idle) = lock(&IDLE).get_mut(&(class, threads)).and_then(Vec::pop) {
        return Some(idle);
    }
    let task = Arc::new(Task { class, wanted: Mutex::default(), share: Mutex::default() });
    let of_thread = task.clone();
    let start = move |_| {
        if class != Class::Eye {
            let thread = rustix::thread::gettid();
            // Where it is not allowed, it works as all others do.
            let _ = rustix::process::setpriority_process(Some(thread), class.niceness());
        }
        pace::set(Some(of_thread.clone()));
        AT_WORK.with(|task| *task.borrow_mut() = Some(of_thread.clone()));
    };
    let name = move |n| format!("{class:?} {n}").to_lowercase();
    let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).thread_name(name).start_handler(start);
    Some(Crew { pool: pool.build().ok()?, task })
}

/// Does work of a class in so many threads, and waits for it; `wanted` gives it up.
///
/// # Panics
/// As the work does; its threads are used again.
pub fn work<T: Send>(
    class: Class,
    threads: usize,
    wanted: &CancellationToken,
    what: impl FnOnce() -> T + Send,
) -> T {
    work_followed(class, threads, wanted, &Share::default(), what)
}

/// As [`work`]; what is [reported](report) meanwhile is told by `share`.
///
/// # Panics
/// As the work does.
pub fn work_followed<T: Send>(
    class: Class,
    threads: usize,
    wanted: &CancellationToken,
    share: &Share,
    work: impl FnOnce() -> T + Send,
) -> T {
    let threads = threads.max(1);
    let _urgent = Urgent::new(class);
    let Some(crew) = crew(class, threads) else {
        // No threads can be had: this one does it, as everybody else's.
        return work();
    };
    *lock(&crew.task.wanted) = wanted.clone();
    *lock(&crew.task.share) = share.clone();
    let done = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| crew.pool.install(work)));
    *lock(&crew.task.wanted) = CancellationToken::new();
    lock(&IDLE).entry((class, threads)).or_default().push(crew);
    done.unwrap_or_else(|panic| std::panic::resume_unwind(panic))
}

/// Does work of a class on all cores; it is given up when the future that waits for it is dropped.
///
/// # Errors
/// When the work panics.
pub async fn ask<T: Send + 'static>(
    class: Class,
    what: impl FnOnce() -> T + Send + 'static,
) -> Result<T, tokio::task::JoinError> {
    let wanted = CancellationToken::new();
    let _given_up = wanted.clone().drop_guard();
    tokio::task::spawn_blocking(move || work(class, cores(), &wanted, what)).await
}

/// How far long work is, in thousandths; shared by the one who does it and those who look.
#[derive(Clone, Debug, Default)]
pub struct Share(Arc<AtomicU32>);

impl Share {
    /// Says that so much is done, 0 ..= 1.
    pub fn set(&self, share: f64) {
        self.0.store((share.clamp(0.0, 1.0) * 1000.0) as u32, Ordering::Relaxed);
    }

    /// How much is done, 0 ..= 1.
    pub fn get(&self) -> f64 {
        f64::from(self.0.load(Ordering::Relaxed)) / 1000.0
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::AtomicBool;
    use std::sync::mpsc::channel;

    /// The gate is one for the program: tests that close it do so one after the other.
    static ALONE: Mutex<()> = Mutex::new(());

    #[test]
    fn a_lower_class_stands_still_while_a_higher_one_works_and_never_for_good() {
        let _alone = lock(&ALONE);
        let never = CancellationToken::new();
        let (pieces, stop) = (AtomicUsize::new(0), AtomicBool::new(false));
        std::thread::scope(|scope| {
            scope.spawn(|| {
                work(Class::Background, 1, &never, || {
                    while !stop.load(Ordering::Relaxed) && pace::go_on() {
                        pieces.fetch_add(1, Ordering::Relaxed);
                        std::thread::sleep(Duration::from_millis(1));
                    }
                });
            });
            while pieces.load(Ordering::Relaxed) < 3 {
                std::thread::yield_now();
            }
            let (before, after) = work(Class::Eye, 1, &never, || {
                std::thread::sleep(Duration::from_millis(50));
                let before = pieces.load(Ordering::Relaxed);
                std::thread::sleep(3 * PATIENCE);
                (before, pieces.load(Ordering::Relaxed))
            });
            // About one piece for each time its patience ended, instead of hundreds.
            assert!((1..=4).contains(&(after - before)), "{before} pieces became {after}");
            while pieces.load(Ordering::Relaxed) < after + 20 {
                std::thread::yield_now();
            }
            stop.store(true, Ordering::Relaxed);
        });
    }

    #[test]
    fn the_most_urgent_class_waits_for_nobody() {
        let _alone = lock(&ALONE);
        let never = CancellationToken::new();
        let inner = work(Class::Sight, 1, &never, || {
            work(Class::Eye, 1, &CancellationToken::new(), || (0..1000).filter(|_| pace::go_on()).count())
        });
        assert_eq!(inner, 1000);
    }

    #[test]
    fn what_nobody_waits_for_ends_and_its_threads_work_on() {
        let wanted = CancellationToken::new();
        let (tell, told) = channel();
        std::thread::scope(|scope| {
            let at_work = scope.spawn(|| {
                work(Class::Run, 3, &wanted, || {
                    let mut pieces = 0u64;
                    while pace::go_on() {
                        pieces += 1;
                        if pieces == 1 {
                            let _ = tell.send(());
                        }
                        std::thread::sleep(Duration::from_millis(1));
                    }
                    pieces
                })
            });
            told.recv().unwrap();
            wanted.cancel();
            assert!(at_work.join().unwrap() >= 1);
        });
        // The same threads, with work that is wanted.
        assert!(work(Class::Run, 3, &CancellationToken::new(), pace::go_on));
    }

    #[test]
    fn how_far_work_is_is_told_to_who_follows_it_alone() {
        let never = CancellationToken::new();
        let (one, other) = (Share::default(), Share::default());
        work_followed(Class::Run, 4, &never, &one, || report(0.25));
        work_followed(Class::Run, 4, &never, &other, || report(7.0));
        work(Class::Run, 4, &never, || report(0.5));
        report(0.1);
        assert_eq!((one.get(), other.get()), (0.25, 1.0));
    }

    #[test]
    fn a_panic_leaves_the_threads_in_use_and_the_gate_open() {
        let _alone = lock(&ALONE);
        let never = CancellationToken::new();
        let failed = std::panic::catch_unwind(|| work(Class::Eye, 5, &never, || panic!("on purpose")));
        assert!(failed.is_err());
        assert!(!GATE.is_closed(Class::Run), "work that failed still counts");
        assert_eq!(work(Class::Eye, 5, &never, rayon::current_num_threads), 5);
    }

    #[tokio::test]
    async fn who_asked_and_left_stops_the_work() {
        let (tell, told) = channel();
        let asked = ask(Class::Background, move || {
            while pace::go_on() {
                std::thread::sleep(Duration::from_millis(1));
            }
            let _ = tell.send(());
        });
        assert!(tokio::time::timeout(Duration::from_millis(30), asked).await.is_err());
        assert!(told.recv_timeout(Duration::from_secs(20)).is_ok(), "the work went on for nobody");
    }
}
