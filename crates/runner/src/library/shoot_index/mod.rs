//! The frames of shoots in memory: scanned, measured, decided about; the store is where it is kept.
//!
//! What the pages ask for (filters, orders, counts) is answered from memory; every change is written to the store
//! first. Scanning and measuring run in the background and tell what they find as events.

mod change;
mod scanning;

pub use crate::library::shoot_index::change::{Change, Refusal};

use crate::library::scan::LeftOut;
use crate::lock::lock;
use rallo_job::{FrameRecord as Row, Records};
use rallo_recipe::FrameAdjustments;
use rallo_shoot::facets::Known;
use rallo_shoot::frame::Marks;
use rallo_shoot::{Choice, Frame, suggest};
use serde::{Deserialize, Serialize};
use std::collections::{HashMap, HashSet};
use std::path::PathBuf;
use std::sync::{Arc, Mutex};
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
}
