//! Watched folders: a recipe runs on whatever arrives.
//!
//! A folder is looked through every few seconds, by names, lengths and times alone, which also works where a file system
//! tells nobody of its changes. A file is taken into a run when it has come to rest and is whole: its length and time
//! have not changed for [`REST`], and it decodes to its end. What was taken in is written down with the run, at once or
//! not at all, so nothing is forgotten or done twice by a program that is killed, and what arrived while nobody watched,
//! or while the watch was paused, is taken in later.

use crate::files::allowed_folders::{Refused, Roots};
use crate::library::scan::{self, Found, Seen};
use crate::preflight::input::Source;
use crate::preflight::{self, new_run};
use crate::schedule::{self, Class};
use crate::{Decided, Queue, now};
use rallo_engine::Source as _;
use rallo_job::{Arrival, Records, Run, Watch, WatchState};
use rallo_media::FileSource;
use rallo_recipe::{Faults, Recipe};
use std::collections::{HashMap, HashSet};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

/// Time between two looks; a folder that takes long is looked at less often.
const EVERY: Duration = Duration::from_secs(1);
/// How long a file must be as it is.
const REST: Duration = Duration::from_secs(2);
/// A file at rest that is not whole is left alone for so long before a run is told of it and says what is wrong.
const PATIENCE: Duration = Duration::from_secs(600);
/// Pictures taken in at a time.
const MOST: usize = 500;

/// A file that has been seen and is not taken in yet.
struct Waits {
    bytes: u64,
    modified: i64,
    since: Instant,
    /// Looked into at rest and found not whole.
    broken: bool,
}

impl From<&Found> for Waits {
    fn from(f: &Found) -> Self {
        Self { bytes: f.bytes, modified: f.modified, since: Instant::now(), broken: false }
    }
}

/// What is remembered of a watched folder between two looks.
#[derive(Default)]
struct Memory {
    waits: HashMap<PathBuf, Waits>,
    /// What is known to be taken in, by path; read from the store once, the store decides.
    taken: Option<HashMap<PathBuf, Vec<Arrival>>>,
    /// Files that are results, by path, length and time.
    results: HashSet<(PathBuf, u64, i64)>,
    next: Option<Instant>,
}

/// Watches the folders that are set up in the records, until the program ends.
pub async fn watch(records: Arc<dyn Records>, queue: Queue, roots: Roots) {
    let mut memory: HashMap<i64, Memory> = HashMap::new();
    loop {
        match records.watches().await {
            Ok(watches) => {
                memory.retain(|id, _| watches.iter().any(|w| w.id == *id && w.state == WatchState::On));
                for watch in watches.into_iter().filter(|w| w.state == WatchState::On) {
                    let of = memory.entry(watch.id).or_default();
                    if of.next.is_none_or(|next| next <= Instant::now()) {
                        let begin = Instant::now();
                        look(&*records, &queue, &roots, &watch, of).await;
                        of.next = Some(Instant::now() + EVERY.max(begin.elapsed() * 10));
                    }
                }
            }
            Err(e) => tracing::error!("watched folders: {e}"),
        }
        tokio::time::sleep(EVERY / 4).await;
    }
}

/// One look; what goes wrong is said where people see it.
async fn look(records: &dyn Records, queue: &Queue, roots: &Roots, watch: &Watch, memory: &mut Memory) {
    let turn = match watch.daily.as_deref().map(last_turn).transpose() {
        Ok(turn) => turn,
        Err(e) => return told(records, watch, Some(&e.to_string()), None).await,
    };
    // A daily one has its turn once; until then nothing is looked at.
    if let (Some(turn), Some(had)) = (&turn, &watch.turn)
        && turn <= had
    {
        return;
    }
    match pass(records, queue, roots, watch, memory).await {
        Ok(at_rest) => {
            let had = turn.filter(|_| at_rest);
            told(records, watch, None, had.as_deref()).await;
        }
        Err(reason) => told(records, watch, Some(&reason), None).await,
    }
}

async fn told(records: &dyn Records, watch: &Watch, problem: Option<&str>, turn: Option<&str>) {
    if watch.problem.as_deref() == problem && turn.is_none() {
        return;
    }
    if let Some(problem) = problem {
        tracing::warn!("watched folder {}: {problem}", watch.name);
    }
    if let Err(e) = records.tell_watch(watch.id, problem, turn).await {
        tracing::error!("watched folder {}: {e}", watch.name);
    }
}

/// Why a folder cannot be watched.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum WatchError {
    /// It has no name, or one that is too long.
    #[error("a name of 1 to 80 characters is needed")]
    Name,
    /// Its recipe cannot be read.
    #[error("its recipe cannot be read: {0}")]
    Recipe(#[from] Faults),
    /// Its recipe makes a file of all pictures.
    #[error(
        "its delivery {delivery} makes a {what} of all pictures, and in a watched folder they never are all there; take \
         that delivery out, or run the recipe on the folder"
    )]
    MakesOfAll {
        /// Which delivery, from 1.
        delivery: usize,
        /// What it makes, in a word.
        what: &'static str,
    },
    /// The folder, or the one for results, may not be used.
    #[error(transparent)]
    Refused(#[from] Refused),
    /// The folder cannot be looked at.
    #[error("{0}: {1}")]
    Folder(String, #[source] std::io::Error),
    /// It is none.
    #[error("{0} is no folder")]
    NoFolder(String),
    /// A time of day that is none.
    #[error("the time of day is 00:00 to 23:59, such as 02:30, not {0}")]
    TimeOfDay(String),
}

/// When a daily watch last had to have its turn, as the store keeps times.
///
/// # Errors
/// [`WatchError::TimeOfDay`].
pub fn last_turn(daily: &str) -> Result<String, WatchError> {
    last_turn_at(daily, &jiff::ZonedDateTime::now())
}

fn last_turn_at(daily: &str, at: &jiff::ZonedDateTime) -> Result<String, WatchError> {
    let none = || WatchError::TimeOfDay(daily.to_owned());
    let time = || {
        let (hour, minute) = daily.split_once(':')?;
        jiff::civil::Time::new(hour.parse().ok()?, minute.parse().ok()?, 0, 0).ok()
    };
    let time = time().ok_or_else(none)?;
    let today = at.with().time(time).build().map_err(|_| none())?;
    let last = if today <= *at { today } else { today.yesterday().map_err(|_| none())? };
    Ok(rallo_job::clock::text_of(last.timestamp()))
}

/// Looks through the folder and takes in what is ready; whether everything in it is.
async fn pass(
    records: &dyn Records,
    queue: &Queue,
    roots: &Roots,
    watch: &Watch,
    memory: &mut Memory,
) -> Result<bool, String> {
    let folder = roots.existing(Path::new(&watch.folder)).map_err(|e| e.to_string())?;
    if memory.taken.is_none() {
        let mut taken: HashMap<PathBuf, Vec<Arrival>> = HashMap::new();
        for arrival in records.arrivals(watch.id).await.map_err(|e| e.to_string())? {
            taken.entry(PathBuf::from(&arrival.path)).or_default().push(arrival);
        }
        memory.taken = Some(taken);
    }
    let deep = watch.deep;
    let found = tokio::task::spawn_blocking(move || {
        let mut found = Vec::new();
        let seen = &mut |seen| {
            if let Seen::Picture(picture) = seen {
                found.push(picture);
            }
        };
        // Results are told apart later, and only once.
        scan::look(&folder, deep, true, &|_| true, seen).map(|()| (folder, found))
    })
    .await
    .map_err(|e| e.to_string())?;
    let (folder, found) = found.map_err(|e| format!("the folder cannot be opened: {e}"))?;
    let there: HashSet<&Path> = found.iter().map(|f| f.path.as_path()).collect();
    memory.waits.retain(|path, _| there.contains(path.as_path()));
    let taken = memory.taken.get_or_insert_default();
    let known = |f: &Found| {
        let is = |a: &Arrival| a.bytes == f.bytes as i64 && a.modified == f.modified;
        taken.get(&f.path).is_some_and(|states| states.iter().any(is))
    };
    let mut ready: Vec<Found> = Vec::new();
    let mut unsettled = false;
    for file in &found {
        if known(file) || memory.results.contains(&(file.path.clone(), file.bytes, file.modified)) {
            continue;
        }
        let waits = memory.waits.entry(file.path.clone()).or_insert_with(|| Waits::from(file));
        if (waits.bytes, waits.modified) != (file.bytes, file.modified) {
            *waits = Waits::from(file);
        }
        let rest = waits.since.elapsed();
        if rest < REST {
            unsettled = true;
        } else if (!waits.broken || rest >= PATIENCE) && ready.len() < MOST {
            ready.push(file.clone());
        }
    }
    ready.sort_by_cached_key(|f| rallo_shoot::natural_key(&f.path.to_string_lossy()));
    if ready.is_empty() {
        return Ok(!unsettled);
    }
    let gone: Vec<Arrival> =
        taken.iter().filter(|(p, _)| !there.contains(p.as_path())).flat_map(|(_, a)| a.clone()).collect();
    let looked =
        schedule::ask(Class::Background, move || ready.into_iter().map(looked_into).collect::<Vec<_>>())
            .await
            .map_err(|e| e.to_string())?;
    let mut new = Vec::new();
    for (one, is, about) in looked {
        let late = memory.waits.get(&one.path).is_some_and(|w| w.broken);
        match is {
            Is::Result => drop(memory.results.insert((one.path.clone(), one.bytes, one.modified))),
            Is::Broken if !late => {
                if let Some(waits) = memory.waits.get_mut(&one.path) {
                    waits.broken = true;
                }
            }
            _ => new.push((one, about)),
        }
    }
    let mut arrived = Vec::new();
    for (one, about) in new {
        let (device, inode) = about;
        let was = gone.iter().find(|a| {
            (a.device, a.inode, a.bytes, a.modified) == (device, inode, one.bytes as i64, one.modified)
        });
        let arrival = Arrival {
            path: one.path.to_string_lossy().into_owned(),
            bytes: one.bytes as i64,
            modified: one.modified,
            device,
            inode,
            ..Arrival::default()
        };
        match was {
            Some(was) => renamed(records, queue, watch, &folder, was, &arrival, taken).await?,
            None => arrived.push((one, arrival)),
        }
    }
    let count = arrived.len();
    if count > 0 {
        take_in(records, queue, watch, &folder, arrived, memory).await?;
    }
    Ok(!unsettled && count < MOST)
}

/// What a file at rest is.
enum Is {
    Picture,
    Result,
    Broken,
}

/// Looks into a file at rest; with its device and number.
fn looked_into(file: Found) -> (Found, Is, (i64, i64)) {
    let about = file.path.metadata().map(|m| (m.dev() as i64, m.ino() as i64)).unwrap_or_default();
    let is = if scan::is_result(&file.path) {
        Is::Result
    } else {
        // Decoded reduced where that is possible: all of the file is read all the same.
        let whole = |s: FileSource| s.decode(s.max_level()).is_ok();
        if FileSource::open(&file.path).is_ok_and(whole) { Is::Picture } else { Is::Broken }
    };
    (file, is, about)
}

fn recipe_of(watch: &Watch) -> Result<Recipe, WatchError> {
    let recipe = Recipe::parse(&watch.document)?;
    // Nobody knows when the last picture of a watched folder has come.
    match recipe.tasks().first() {
        None => Ok(recipe),
        Some((at, task)) => Err(WatchError::MakesOfAll { delivery: at + 1, what: task.word() }),
    }
}

fn source_of(path: &Path) -> Source {
    Source { path: path.to_owned(), facts: scan::facts(path).ok(), decided: Decided::default() }
}

async fn renamed(
    records: &dyn Records,
    queue: &Queue,
    watch: &Watch,
    folder: &Path,
    was: &Arrival,
    now: &Arrival,
    taken: &mut HashMap<PathBuf, Vec<Arrival>>,
) -> Result<(), String> {
    let recipe = recipe_of(watch).map_err(|e| e.to_string())?;
    let to = watch.target.as_deref().map(Path::new);
    let sources = [source_of(Path::new(&now.path))];
    let first = was.position as usize;
    let planning = preflight::plan_from(&recipe, &sources, folder, to, first);
    let (_, items) =
        new_run::written(&planning, &sources, folder, &watch.name, "").map_err(|e| e.to_string())?;
    let Some(item) = items.first() else { return Ok(()) };
    let again = records
        .rename_arrival(watch.id, was, &now.path, &item.target, &item.more)
        .await
        .map_err(|e| e.to_string())?;
    taken.remove(Path::new(&was.path));
    let known = Arrival { run_id: was.run_id, position: was.position, ..now.clone() };
    taken.entry(PathBuf::from(&now.path)).or_default().push(known);
    if again {
        queue.added();
    }
    Ok(())
}

async fn take_in(
    records: &dyn Records,
    queue: &Queue,
    watch: &Watch,
    folder: &Path,
    arrived: Vec<(Found, Arrival)>,
    memory: &mut Memory,
) -> Result<(), String> {
    let recipe = recipe_of(watch).map_err(|e| e.to_string())?;
    let to = watch.target.as_deref().map(Path::new);
    let taken = memory.taken.get_or_insert_default();
    let first = taken.values().flatten().map(|a| a.position + 1).max().unwrap_or(0);
    let paths: Vec<PathBuf> = arrived.iter().map(|(f, _)| f.path.clone()).collect();
    let (base, target) = (folder.to_owned(), to.map(Path::to_owned));
    let (of, number) = (recipe.clone(), first as usize);
    let (sources, planning) = tokio::task::spawn_blocking(move || {
        let sources: Vec<Source> = paths.iter().map(|p| source_of(p)).collect();
        let planning = preflight::plan_from(&of, &sources, &base, target.as_deref(), number);
        (sources, planning)
    })
    .await
    .map_err(|e| e.to_string())?;
    let origin = format!("watched folder {}", watch.name);
    let (run, items) =
        new_run::written(&planning, &sources, folder, &watch.name, &origin).map_err(|e| e.to_string())?;
    let fresh = Run {
        recipe_id: watch.recipe_id,
        recipe_version: watch.recipe_version,
        hook: watch.hook.clone(),
        watch_id: Some(watch.id),
        ..run
    };
    let mut arrivals: Vec<Arrival> = arrived.into_iter().map(|(_, a)| a).collect();
    for (one, position) in arrivals.iter_mut().zip(first..) {
        one.position = position;
    }
    let done = records.take_in(watch.id, &fresh, &items, &arrivals).await.map_err(|e| e.to_string())?;
    match done {
        Some((run, _)) => {
            for mut one in arrivals {
                one.run_id = run;
                memory.waits.remove(Path::new(&one.path));
                taken.entry(PathBuf::from(&one.path)).or_default().push(one);
            }
            queue.added();
            queue.tell(run).await.map_err(|e| e.to_string())?;
        }
        // Another program watches too: what it took is read anew.
        None => memory.taken = None,
    }
    Ok(())
}

/// Reads and checks a watch before it is set up: the folder and the target are allowed, the time of day is one, the recipe
/// reads. A daily one has its first turn at the next time.
///
/// # Errors
/// [`WatchError`].
pub fn check(watch: &mut Watch, roots: Option<&Roots>) -> Result<(), WatchError> {
    watch.name = watch.name.trim().to_owned();
    if watch.name.is_empty() || watch.name.chars().count() > 80 {
        return Err(WatchError::Name);
    }
    recipe_of(watch)?;
    let folder = Path::new(&watch.folder);
    let folder = match roots {
        Some(roots) => roots.existing(folder)?,
        None => folder.canonicalize().map_err(|e| WatchError::Folder(watch.folder.clone(), e))?,
    };
    if !folder.is_dir() {
        return Err(WatchError::NoFolder(watch.folder.clone()));
    }
    watch.folder = folder.to_string_lossy().into_owned();
    if let (Some(roots), Some(target)) = (roots, &watch.target) {
        roots.future(Path::new(target))?;
    }
    watch.turn = watch.daily.as_deref().map(last_turn).transpose()?;
    watch.made = now();
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_daily_turn_is_the_last_time_of_day_that_has_been() {
        let zone = jiff::tz::TimeZone::posix("CET-1CEST,M3.5.0,M10.5.0/3").unwrap();
        let noon: jiff::Timestamp = "2026-03-29T10:00:00Z".parse().unwrap();
        let at = noon.to_zoned_datetime(zone);
        assert_eq!(last_turn_at("11:30", &at).unwrap(), "2026-03-29T09:30:00Z");
        assert_eq!(last_turn_at("12:00", &at).unwrap(), "2026-03-29T10:00:00Z");
        // The evening before the clocks went forward.
        assert_eq!(last_turn_at("22:15", &at).unwrap(), "2026-03-28T21:15:00Z");
        // A time of day that this day does not have comes with the next that it has.
        assert_eq!(last_turn_at("02:30", &at).unwrap(), "2026-03-29T01:30:00Z");
        for wrong in ["24:00", "7", "07:60", "x:y", ""] {
            assert!(last_turn_at(wrong, &at).is_err(), "{wrong}");
        }
    }
}
