//! Decisions about frames: made, written to the store first, taken back and done again.

use crate::library::shoot_index::{Frames, Set, frame, lock};
use rallo_job::FrameDecision;
use rallo_recipe::FrameAdjustments;
use rallo_shoot::document::wrong_own;
use rallo_shoot::frame::Marks;
use rallo_shoot::{Choice, Frame, Order, Sort};
use schemars::JsonSchema;
use serde::Deserialize;
use std::collections::{HashMap, HashSet};
use std::sync::Mutex;

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
pub(super) const KEYWORD_LENGTH: usize = 100;

pub(super) const KEYWORDS: usize = 200;

/// Longest shift: a hundred years.
pub(super) const LONGEST_SHIFT: i64 = 100 * 366 * 86_400_000;

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

pub(super) fn decided(id: i64, marks: &Marks) -> FrameDecision {
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

pub(super) fn changed(marks: &Marks, change: &Change) -> Result<Marks, Refusal> {
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
pub(super) fn placed(frames: &[Frame], ids: &[i64], before: Option<i64>) -> Vec<(i64, Marks)> {
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

impl Frames {
    pub(super) async fn write(&self, marks: &[(i64, Marks)]) -> rallo_job::Result<()> {
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

    pub(super) async fn marks_of(&self, ids: &[(i64, Marks)]) -> rallo_job::Result<Vec<(i64, Marks)>> {
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

    pub(super) async fn travel(
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
}
