//! The frames of shoots in memory: scanned, measured, decided about; the store is where it is kept.
//!
//! What the pages ask for (filters, orders, counts) is answered from memory; every change is written to the store
//! first. Scanning and measuring run in the background and tell what they find as events.

use crate::files::file_names::name_of;
use crate::library::scan::{self, Found, LeftOut, Seen};
use crate::now;
use crate::schedule::{self, Class};
use rallo_engine::analysis::measure;
use rallo_engine::{Measures, Source};
use rallo_job::{FrameDecision, FrameRecord as Row, Records};
use rallo_media::FileSource;
use rallo_recipe::FrameAdjustments;
use rallo_shoot::document::wrong_own;
use rallo_shoot::facets::Known;
use rallo_shoot::frame::Marks;
use rallo_shoot::{Choice, Frame, Order, Sort, suggest};
use rayon::prelude::*;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::Duration;
use tokio::sync::{Notify, broadcast};

/// Which frames: those of a shoot, or of a named selection across shoots.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Set {
    /// A shoot.
    Shoot(i64),
    /// A named selection.
    Selection(i64),
}

/// What people do to frames.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(tag = "do", rename_all = "snake_case", deny_unknown_fields)]
pub enum Change {
    /// Keep, set aside, leave open.
    Choice {
        /// The new choice.
        to: Choice,
    },
    /// Rate.
    Rating {
        /// 0 none … 5.
        #[schemars(range(max = 5))]
        to: u8,
    },
    /// Give and take keywords.
    Keywords {
        /// To be added.
        #[serde(default)]
        add: Vec<String>,
        /// To be removed.
        #[serde(default)]
        remove: Vec<String>,
    },
    /// Move capture times.
    Shift {
        /// Milliseconds, added to what they are moved by already.
        millis: i64,
    },
    /// Give a frame small changes of its own on top of a recipe.
    Own {
        /// All of them.
        to: FrameAdjustments,
    },
    /// Move in the order by hand: in front of a frame, or to the end.
    Place {
        /// The frame that follows.
        before: Option<i64>,
    },
}

/// Longest keyword, and most keywords of a frame.
const KEYWORD_LENGTH: usize = 100;
const KEYWORDS: usize = 200;
/// Longest shift: a hundred years.
const LONGEST_SHIFT: i64 = 100 * 366 * 86_400_000;

/// Something happened to frames.
#[derive(Clone, Debug, Serialize)]
pub struct News {
    /// The shoot.
    pub shoot: i64,
    /// Whether it is being scanned.
    pub scanning: bool,
    /// Frames not measured yet.
    pub unmeasured: usize,
    /// Frames in it.
    pub frames: usize,
}

type Suggestions = Arc<HashMap<i64, Vec<&'static str>>>;

/// Frames as they are, with what follows from them.
#[derive(Clone)]
struct Held {
    frames: Arc<Vec<Frame>>,
    suggestions: Option<Suggestions>,
}

struct Inner {
    records: Arc<dyn Records>,
    held: Mutex<HashMap<Set, Held>>,
    past: Mutex<Vec<Vec<(i64, Marks)>>>,
    future: Mutex<Vec<Vec<(i64, Marks)>>>,
    scanning: Mutex<HashSet<i64>>,
    again: Mutex<HashSet<i64>>,
    left_out: Mutex<HashMap<i64, Vec<LeftOut>>>,
    news: broadcast::Sender<News>,
    wake: Notify,
}

/// The frames' keeper.
#[derive(Clone)]
pub struct Frames(Arc<Inner>);

/// Why a change was refused.
#[derive(Debug, thiserror::Error)]
pub enum Refusal {
    /// The database's word.
    #[error(transparent)]
    Records(#[from] rallo_job::Error),
    /// The change makes no sense.
    #[error("{0}")]
    Wrong(String),
}

/// Files worked on at a time while scanning.
const BATCH: usize = 96;
/// Frames measured before it is told.
const MEASURED: usize = 8;

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(|poisoned| poisoned.into_inner())
}

/// Whether a file is the one a row was written for.
fn unchanged(row: &Row, found: &Found) -> bool {
    row.bytes == found.bytes as i64 && row.modified == found.modified
}

fn frame(row: Row) -> Frame {
    // What was measured can be measured again; what people decided cannot, so it is said where it cannot be read.
    let (mut keywords, mut own) = (Vec::new(), FrameAdjustments::default());
    let mut unreadable = None;
    match serde_json::from_str(&row.keywords) {
        Ok(read) => keywords = read,
        Err(e) => unreadable = Some(format!("its keywords cannot be read from what was stored: {e}")),
    }
    match serde_json::from_str(&row.own) {
        Ok(read) => own = read,
        Err(e) => unreadable = Some(format!("its own changes cannot be read from what was stored: {e}")),
    }
    Frame {
        id: row.id,
        path: row.path.into(),
        name: row.name,
        bytes: row.bytes as u64,
        modified: row.modified,
        facts: row.facts.as_deref().and_then(|t| serde_json::from_str(t).ok()),
        problem: row.problem.or(unreadable),
        measures: row.measures.as_deref().and_then(|t| serde_json::from_str(t).ok()),
        marks: Marks {
            choice: Choice::from_number(row.choice),
            rating: row.rating.clamp(0, 5) as u8,
            keywords,
            shift: row.shift,
            hand: row.hand,
            own,
        },
    }
}

fn decided(id: i64, marks: &Marks) -> FrameDecision {
    FrameDecision {
        id,
        choice: marks.choice.number(),
        rating: i64::from(marks.rating),
        keywords: serde_json::to_string(&marks.keywords).unwrap_or_else(|_| "[]".into()),
        shift: marks.shift,
        hand: marks.hand,
        own: serde_json::to_string(&marks.own).unwrap_or_else(|_| "{}".into()),
    }
}

impl Frames {
    /// Starts the measuring in the background; `follow` shoots are looked at again and again.
    pub fn start(records: Arc<dyn Records>) -> Self {
        let frames = Self::idle(records);
        let worker = frames.clone();
        tokio::spawn(async move { worker.measure_on().await });
        let follower = frames.clone();
        tokio::spawn(async move { follower.follow().await });
        frames
    }

    /// Without any background work.
    pub fn idle(records: Arc<dyn Records>) -> Self {
        Self(Arc::new(Inner {
            records,
            held: Mutex::default(),
            past: Mutex::default(),
            future: Mutex::default(),
            scanning: Mutex::default(),
            again: Mutex::default(),
            left_out: Mutex::default(),
            news: broadcast::channel(64).0,
            wake: Notify::new(),
        }))
    }

    /// Follows what happens.
    pub fn news(&self) -> broadcast::Receiver<News> {
        self.0.news.subscribe()
    }

    /// The frames of a set whose files are there, in the order they were added.
    ///
    /// # Errors
    /// [`rallo_job::Error`].
    pub async fn all(&self, set: Set) -> rallo_job::Result<Arc<Vec<Frame>>> {
        if let Some(held) = lock(&self.0.held).get(&set) {
            return Ok(held.frames.clone());
        }
        let rows = match set {
            Set::Shoot(id) => self.0.records.frames(id).await?,
            Set::Selection(id) => self.0.records.selected_frames(id).await?,
        };
        let frames: Arc<Vec<Frame>> = Arc::new(rows.into_iter().filter(|r| !r.gone).map(frame).collect());
        // Whoever was first is right: it may have been changed since.
        let mut held = lock(&self.0.held);
        Ok(held.entry(set).or_insert(Held { frames, suggestions: None }).frames.clone())
    }

    /// What is suggested to look at, and what the recipe in use has made.
    ///
    /// # Errors
    /// [`rallo_job::Error`].
    pub async fn known(&self, set: Set, recipe: Option<i64>) -> rallo_job::Result<Known> {
        let frames = self.all(set).await?;
        let done: HashSet<i64> = match recipe {
            Some(recipe) => {
                let sources: HashSet<PathBuf> =
                    self.0.records.sources_done(recipe).await?.into_iter().map(PathBuf::from).collect();
                frames.iter().filter(|f| sources.contains(&f.path)).map(|f| f.id).collect()
            }
            None => HashSet::new(),
        };
        Ok(Known { problems: self.suggestions(set, &frames), done })
    }

    fn suggestions(&self, set: Set, frames: &Arc<Vec<Frame>>) -> Suggestions {
        if let Some(Held { frames: same, suggestions: Some(found) }) = lock(&self.0.held).get(&set)
            && Arc::ptr_eq(same, frames)
        {
            return found.clone();
        }
        let found: Suggestions = Arc::new(suggest::suggestions(frames));
        if let Some(held) = lock(&self.0.held).get_mut(&set)
            && Arc::ptr_eq(&held.frames, frames)
        {
            held.suggestions = Some(found.clone());
        }
        found
    }

    /// Files of a shoot that are not taken in, with the reason, as of the last scan.
    pub fn left_out(&self, shoot: i64) -> Vec<LeftOut> {
        lock(&self.0.left_out).get(&shoot).cloned().unwrap_or_default()
    }

    /// Whether a shoot is being scanned.
    pub fn is_scanning(&self, shoot: i64) -> bool {
        lock(&self.0.scanning).contains(&shoot)
    }

    /// Forgets what is held of a selection, after it was changed.
    pub fn selection_changed(&self, id: i64) {
        lock(&self.0.held).remove(&Set::Selection(id));
    }

    /// Changes frames in memory wherever they are held.
    fn patch(&self, ids: &HashSet<i64>, change: &dyn Fn(&mut Frame)) {
        for held in lock(&self.0.held).values_mut() {
            if held.frames.iter().any(|f| ids.contains(&f.id)) {
                for frame in Arc::make_mut(&mut held.frames).iter_mut().filter(|f| ids.contains(&f.id)) {
                    change(frame);
                }
                // Choices do not change what is suggested, but times do.
                held.suggestions = None;
            }
        }
    }

    async fn write(&self, marks: &[(i64, Marks)]) -> rallo_job::Result<()> {
        let rows: Vec<FrameDecision> = marks.iter().map(|(id, m)| decided(*id, m)).collect();
        self.0.records.decide(&rows).await?;
        let by_id: HashMap<i64, &Marks> = marks.iter().map(|(id, m)| (*id, m)).collect();
        let ids: HashSet<i64> = by_id.keys().copied().collect();
        self.patch(&ids, &|f| {
            if let Some(m) = by_id.get(&f.id) {
                f.marks = (*m).clone();
            }
        });
        Ok(())
    }

    /// Does something to frames; returns those that were changed.
    ///
    /// # Errors
    /// [`Refusal`] for a change that makes no sense, or the store's word.
    pub async fn change(&self, set: Set, ids: &[i64], change: &Change) -> Result<Vec<i64>, Refusal> {
        let frames = self.all(set).await?;
        let wanted: HashSet<i64> = ids.iter().copied().collect();
        let mut after: Vec<(i64, Marks)> = match change {
            Change::Place { before } => placed(&frames, ids, *before),
            _ => {
                let chosen = frames.iter().filter(|f| wanted.contains(&f.id));
                chosen.map(|f| changed(&f.marks, change).map(|m| (f.id, m))).collect::<Result<_, _>>()?
            }
        };
        let now: HashMap<i64, &Marks> = frames.iter().map(|f| (f.id, &f.marks)).collect();
        after.retain(|(id, m)| now.get(id).is_some_and(|n| *n != m));
        if after.is_empty() {
            return Ok(Vec::new());
        }
        let undo = after.iter().map(|(id, _)| (*id, now[id].clone())).collect();
        self.write(&after).await?;
        lock(&self.0.past).push(undo);
        lock(&self.0.future).clear();
        Ok(after.into_iter().map(|(id, _)| id).collect())
    }

    /// Takes decisions over as they are given (from a document, from sidecars), as one change that can be undone.
    ///
    /// # Errors
    /// [`rallo_job::Error`].
    pub async fn take_over(&self, set: Set, marks: &HashMap<i64, Marks>) -> Result<usize, Refusal> {
        let frames = self.all(set).await?;
        let differ =
            frames.iter().filter_map(|f| Some((f, marks.get(&f.id)?))).filter(|(f, m)| f.marks != **m);
        let (undo, after): (Vec<_>, Vec<_>) =
            differ.map(|(f, m)| ((f.id, f.marks.clone()), (f.id, m.clone()))).unzip();
        if after.is_empty() {
            return Ok(0);
        }
        self.write(&after).await?;
        lock(&self.0.past).push(undo);
        lock(&self.0.future).clear();
        Ok(after.len())
    }

    async fn marks_of(&self, ids: &[(i64, Marks)]) -> rallo_job::Result<Vec<(i64, Marks)>> {
        let mut frames = Vec::with_capacity(ids.len());
        for (id, _) in ids {
            // A frame may have left with its shoot.
            if let Ok(row) = self.0.records.frame(*id).await {
                frames.push((*id, frame(row).marks));
            }
        }
        Ok(frames)
    }

    /// Takes the last change back; returns the frames it changed.
    ///
    /// # Errors
    /// [`rallo_job::Error`].
    pub async fn undo(&self) -> rallo_job::Result<Vec<i64>> {
        self.travel(&self.0.past, &self.0.future).await
    }

    /// Does the last change that was taken back again.
    ///
    /// # Errors
    /// [`rallo_job::Error`].
    pub async fn redo(&self) -> rallo_job::Result<Vec<i64>> {
        self.travel(&self.0.future, &self.0.past).await
    }

    async fn travel(
        &self,
        from: &Mutex<Vec<Vec<(i64, Marks)>>>,
        to: &Mutex<Vec<Vec<(i64, Marks)>>>,
    ) -> rallo_job::Result<Vec<i64>> {
        let Some(marks) = lock(from).pop() else { return Ok(Vec::new()) };
        let now = self.marks_of(&marks).await?;
        self.write(&marks).await?;
        lock(to).push(now);
        Ok(marks.into_iter().map(|(id, _)| id).collect())
    }

    fn tell(&self, shoot: i64) {
        let (frames, unmeasured) = match lock(&self.0.held).get(&Set::Shoot(shoot)) {
            Some(held) => (
                held.frames.len(),
                held.frames.iter().filter(|f| f.measures.is_none() && f.problem.is_none()).count(),
            ),
            None => (0, 0),
        };
        // Nobody listening is no fault.
        let _ = self.0.news.send(News { shoot, scanning: self.is_scanning(shoot), unmeasured, frames });
    }

    /// Scans a shoot's places. Known and unchanged files are passed over; vanished ones leave the set, but what
    /// was decided about them is kept for the day they come back. Asked while it runs, it runs once more.
    ///
    /// # Errors
    /// [`rallo_job::Error`].
    pub async fn scan(&self, shoot: i64) -> rallo_job::Result<()> {
        self.scan_until_done(shoot, false).await
    }

    /// With `trusting`, files that are known and unchanged are not looked into again.
    async fn scan_until_done(&self, shoot: i64, trusting: bool) -> rallo_job::Result<()> {
        if !lock(&self.0.scanning).insert(shoot) {
            lock(&self.0.again).insert(shoot);
            return Ok(());
        }
        let mut result;
        loop {
            result = self.scan_once(shoot, trusting).await;
            if result.is_err() || !lock(&self.0.again).remove(&shoot) {
                break;
            }
        }
        lock(&self.0.scanning).remove(&shoot);
        self.tell(shoot);
        self.0.wake.notify_one();
        result
    }

    async fn scan_once(&self, shoot: i64, trusting: bool) -> rallo_job::Result<()> {
        let places = self.0.records.folders_of_shoot(shoot).await?;
        let results = self.0.records.shoot(shoot).await?.results;
        let rows = self.0.records.frames(shoot).await?;
        let known: Arc<HashMap<String, Row>> =
            Arc::new(rows.into_iter().map(|r| (r.path.clone(), r)).collect());
        self.all(Set::Shoot(shoot)).await?;
        self.tell(shoot);
        let (send, mut receive) = tokio::sync::mpsc::channel::<Seen>(2048);
        let trusted = trusting.then(|| known.clone());
        let walker = tokio::task::spawn_blocking(move || {
            let trusted = |found: &Found| {
                let row = trusted.as_ref().and_then(|k| k.get(&*found.path.to_string_lossy()));
                row.is_some_and(|r| unchanged(r, found))
            };
            for place in places {
                let path = PathBuf::from(&place.path);
                let looked = scan::look(&path, place.deep, results, &trusted, &mut |seen| {
                    // The receiver only goes away when the program ends.
                    let _ = send.blocking_send(seen);
                });
                if let Err(e) = looked {
                    let reason = format!("cannot be opened: {e}");
                    let _ = send.blocking_send(Seen::Left(LeftOut { path, reason }));
                }
            }
        });
        let mut left = Vec::new();
        let mut seen: HashSet<String> = HashSet::new();
        let mut fresh: Vec<Found> = Vec::new();
        let mut back = Vec::new();
        let mut buffer = Vec::new();
        while receive.recv_many(&mut buffer, BATCH).await > 0 {
            for finding in buffer.drain(..) {
                match finding {
                    Seen::Left(out) => left.push(out),
                    Seen::Picture(found) => {
                        let path = found.path.to_string_lossy().into_owned();
                        match known.get(&path) {
                            Some(k) if unchanged(k, &found) => {
                                if k.gone {
                                    back.push(k.id);
                                }
                            }
                            _ => fresh.push(found),
                        }
                        seen.insert(path);
                    }
                }
            }
            if fresh.len() >= BATCH {
                self.take_in(shoot, std::mem::take(&mut fresh)).await?;
            }
        }
        self.take_in(shoot, fresh).await?;
        if let Err(e) = walker.await {
            tracing::error!("scan of shoot {shoot}: {e}");
        }
        let gone: Vec<i64> =
            known.values().filter(|k| !k.gone && !seen.contains(&k.path)).map(|k| k.id).collect();
        self.0.records.set_gone(&gone, true).await?;
        self.0.records.set_gone(&back, false).await?;
        if !gone.is_empty() || !back.is_empty() {
            lock(&self.0.held).clear();
            self.all(Set::Shoot(shoot)).await?;
        }
        left.sort_by(|a, b| a.path.cmp(&b.path));
        lock(&self.0.left_out).insert(shoot, left);
        self.0.records.scanned(shoot, &now()).await
    }

    /// Reads what new files say, several at a time, and adds them.
    async fn take_in(&self, shoot: i64, found: Vec<Found>) -> rallo_job::Result<()> {
        if found.is_empty() {
            return Ok(());
        }
        let rows = schedule::ask(Class::Sight, move || -> Vec<Row> {
            found
                .into_par_iter()
                .map(|file| {
                    let (facts, problem) = match scan::facts(&file.path) {
                        Ok(facts) => (Some(facts), None),
                        Err(e) => (None, Some(e.to_string())),
                    };
                    let keywords = facts.as_ref().map(|f| f.keywords.clone()).unwrap_or_default();
                    Row {
                        shoot_id: shoot,
                        name: name_of(&file.path),
                        path: file.path.to_string_lossy().into_owned(),
                        bytes: file.bytes as i64,
                        modified: file.modified,
                        rating: facts.as_ref().map_or(0, |f| i64::from(f.rating)),
                        keywords: serde_json::to_string(&keywords).unwrap_or_default(),
                        facts: facts.and_then(|f| serde_json::to_string(&f).ok()),
                        problem,
                        ..Row::default()
                    }
                })
                .collect()
        })
        .await
        .unwrap_or_default();
        let rows = self.0.records.put_frames(&rows).await?;
        if let Some(held) = lock(&self.0.held).get_mut(&Set::Shoot(shoot)) {
            let known: HashMap<i64, usize> = held.frames.iter().enumerate().map(|(i, f)| (f.id, i)).collect();
            let frames = Arc::make_mut(&mut held.frames);
            for row in rows {
                match known.get(&row.id) {
                    Some(&i) => frames[i] = frame(row),
                    None => frames.push(frame(row)),
                }
            }
            held.suggestions = None;
        }
        self.tell(shoot);
        Ok(())
    }

    /// Measures frames nobody measured yet, for ever.
    async fn measure_on(&self) {
        loop {
            match self.measure_some().await {
                Ok(true) => {}
                Ok(false) => self.0.wake.notified().await,
                Err(e) => {
                    tracing::error!("measuring: {e}");
                    tokio::time::sleep(Duration::from_secs(5)).await;
                }
            }
        }
    }

    /// Measures a few frames of the shoots that are open; says whether there were any.
    ///
    /// # Errors
    /// [`rallo_job::Error`].
    pub async fn measure_some(&self) -> rallo_job::Result<bool> {
        let next: Option<(i64, Vec<(i64, PathBuf)>)> = lock(&self.0.held).iter().find_map(|(set, held)| {
            let Set::Shoot(shoot) = set else { return None };
            let some: Vec<(i64, PathBuf)> = held
                .frames
                .iter()
                .filter(|f| f.measures.is_none() && f.problem.is_none())
                .take(MEASURED)
                .map(|f| (f.id, f.path.clone()))
                .collect();
            (!some.is_empty()).then_some((*shoot, some))
        });
        let Some((shoot, some)) = next else { return Ok(false) };
        let found = schedule::ask(Class::Background, move || {
            some.into_iter().map(|(id, path)| (id, measured(&path))).collect::<Vec<_>>()
        })
        .await
        .unwrap_or_default();
        if found.is_empty() {
            return Ok(false);
        }
        let rows: Vec<(i64, Option<String>, Option<String>)> = found
            .iter()
            .map(|(id, m)| match m {
                Ok(m) => (*id, serde_json::to_string(m).ok(), None),
                Err(e) => (*id, None, Some(e.clone())),
            })
            .collect();
        self.0.records.measured(&rows).await?;
        let by_id: HashMap<i64, &Result<Measures, String>> = found.iter().map(|(id, m)| (*id, m)).collect();
        let ids = by_id.keys().copied().collect();
        self.patch(&ids, &|f| match by_id.get(&f.id) {
            Some(Ok(m)) => f.measures = Some(m.clone()),
            Some(Err(e)) => f.problem = Some(e.clone()),
            None => {}
        });
        self.tell(shoot);
        Ok(true)
    }

    /// Looks at followed shoots every two seconds.
    async fn follow(&self) {
        loop {
            tokio::time::sleep(Duration::from_secs(2)).await;
            for shoot in self.0.records.shoots().await.unwrap_or_default().into_iter().filter(|s| s.follow) {
                if let Err(e) = self.scan_until_done(shoot.id, true).await {
                    tracing::error!("following {}: {e}", shoot.name);
                }
            }
        }
    }
}

/// Decodes and measures; a picture that crashes the decoder fails alone.
fn measured(path: &Path) -> Result<Measures, String> {
    let work = || -> Result<Measures, String> {
        let source = FileSource::open(path).map_err(|e| e.to_string())?;
        measure::measure(&source as &dyn Source).map_err(|e| e.to_string())
    };
    std::panic::catch_unwind(work).unwrap_or_else(|_| Err("the decoder failed on this picture".into()))
}

fn changed(marks: &Marks, change: &Change) -> Result<Marks, Refusal> {
    let mut after = marks.clone();
    match change {
        Change::Choice { to } => after.choice = *to,
        Change::Rating { to } if *to <= 5 => after.rating = *to,
        Change::Rating { to } => return Err(Refusal::Wrong(format!("a rating goes from 0 to 5, not {to}"))),
        Change::Keywords { add, remove } => {
            after.keywords.retain(|k| !remove.contains(k));
            for word in add.iter().map(|w| w.trim()).filter(|w| !w.is_empty()) {
                if word.chars().count() > KEYWORD_LENGTH {
                    return Err(Refusal::Wrong(format!("a keyword has at most {KEYWORD_LENGTH} characters")));
                }
                if !after.keywords.iter().any(|k| k == word) {
                    after.keywords.push(word.to_owned());
                }
            }
            if after.keywords.len() > KEYWORDS {
                return Err(Refusal::Wrong(format!("a frame has at most {KEYWORDS} keywords")));
            }
        }
        Change::Shift { millis } => {
            after.shift = after.shift.saturating_add(*millis);
            if after.shift.abs() > LONGEST_SHIFT {
                return Err(Refusal::Wrong("a time can be moved by a hundred years at most".into()));
            }
        }
        Change::Own { to } => match wrong_own(to) {
            Some(wrong) => return Err(Refusal::Wrong(wrong)),
            None => after.own = *to,
        },
        Change::Place { .. } => {}
    }
    Ok(after)
}

/// Everything numbered anew in the order by hand, with `ids` in front of `before`.
fn placed(frames: &[Frame], ids: &[i64], before: Option<i64>) -> Vec<(i64, Marks)> {
    let moved: HashSet<i64> = ids.iter().copied().collect();
    let order: Vec<usize> = Order { by: Sort::Hand, descending: false }.of(frames);
    let mut row: Vec<i64> = Vec::with_capacity(frames.len());
    let there: HashSet<i64> = frames.iter().map(|f| f.id).collect();
    let mine: Vec<i64> = ids.iter().copied().filter(|i| there.contains(i)).collect();
    let mut put = false;
    for i in order {
        let id = frames[i].id;
        if Some(id) == before && !moved.contains(&id) {
            row.extend(&mine);
            put = true;
        }
        if !moved.contains(&id) {
            row.push(id);
        }
    }
    if !put {
        row.extend(&mine);
    }
    let place: HashMap<i64, usize> = row.iter().enumerate().map(|(i, id)| (*id, i)).collect();
    frames
        .iter()
        .map(|f| (f.id, Marks { hand: place.get(&f.id).map(|p| *p as f64), ..f.marks.clone() }))
        .collect()
}
