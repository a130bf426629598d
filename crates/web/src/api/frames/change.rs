//! Decisions about frames: chosen, rated, labelled, placed, their times corrected; taken back and done again.

use crate::api::frames::keywords::remember_keywords;
use crate::api::frames::set_of;
use crate::error::{Error, Result};
use crate::request::Sent;
use crate::{App, workspace};
use axum::Json;
use axum::extract::State;
use rallo_runner::library::shoot_index::Change;
use rallo_shoot::Frame;
use rallo_shoot::frame::shifted;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::HashSet;

/// A change of some frames.
#[derive(Deserialize, JsonSchema)]
pub(super) struct ChangeFrames {
    /// Which.
    pub(super) ids: Vec<i64>,
    /// What is done to them.
    pub(super) change: Change,
}

/// The frames that were changed.
#[derive(Serialize, JsonSchema)]
pub(super) struct Changed {
    /// By their numbers.
    pub(super) changed: Vec<i64>,
}

pub(super) async fn change(State(app): State<App>, Sent(asked): Sent<ChangeFrames>) -> Result<Json<Changed>> {
    let set = set_of(&workspace::load(&app).await?)?;
    let changed = app.frames.change(set, &asked.ids, &asked.change).await?;
    if let Change::Keywords { add, .. } = &asked.change {
        remember_keywords(&app, add).await?;
    }
    Ok(Json(Changed { changed }))
}

pub(super) async fn undo(State(app): State<App>) -> Result<Json<Changed>> {
    Ok(Json(Changed { changed: app.frames.undo().await? }))
}

pub(super) async fn redo(State(app): State<App>) -> Result<Json<Changed>> {
    Ok(Json(Changed { changed: app.frames.redo().await? }))
}

/// A correction of capture times.
#[derive(Deserialize, JsonSchema)]
pub struct Shift {
    /// The frames.
    pub(super) ids: Vec<i64>,
    /// Milliseconds to move by.
    millis: Option<i64>,
    /// Or: this frame's time becomes the given one.
    pub(super) frame: Option<i64>,
    /// A time such as 2026-05-04 09:31:07.
    becomes: Option<String>,
}

/// What a correction would do.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Shifted {
    /// Milliseconds to move by.
    pub(crate) millis: i64,
    /// The first frames.
    pub(crate) lines: Vec<ShiftedLine>,
    /// Frames with a capture time.
    pub(crate) timed: usize,
    /// Frames without one.
    pub(crate) untimed: usize,
}

/// What it would do to one frame.
#[derive(Serialize, JsonSchema)]
pub(crate) struct ShiftedLine {
    /// File name.
    pub(crate) name: String,
    /// Capture time now.
    pub(crate) before: String,
    /// And then.
    pub(crate) after: Option<String>,
}

/// What a shift would do: before and after of the first frames, and the shift itself.
pub(super) async fn shift(State(app): State<App>, Sent(shift): Sent<Shift>) -> Result<Json<Shifted>> {
    Ok(Json(shifted_times(&app, shift).await?))
}

/// What times would become.
pub(crate) async fn shifted_times(app: &App, shift: Shift) -> Result<Shifted> {
    let frames = app.frames.all(set_of(&workspace::load(app).await?)?).await?;
    let millis = match (shift.millis, shift.frame, &shift.becomes) {
        (Some(millis), _, _) => millis,
        (None, Some(id), Some(text)) => {
            let taken = frames.iter().find(|f| f.id == id).and_then(Frame::taken);
            let taken = taken.ok_or_else(|| Error::bad("this frame has no capture time to start from"))?;
            let wanted: jiff::civil::DateTime = text.trim().replace(' ', "T").parse().map_err(|_| {
                Error::bad(format!("expected a time such as 2026-05-04 09:31:07, got {text:?}"))
            })?;
            wanted.duration_since(taken).as_millis() as i64
        }
        _ => return Err(Error::bad("say by how much, or what one frame's time becomes")),
    };
    let ids: HashSet<i64> = shift.ids.into_iter().collect();
    let timed: Vec<(&Frame, jiff::civil::DateTime)> =
        frames.iter().filter(|f| ids.contains(&f.id)).filter_map(|f| Some((f, f.taken()?))).collect();
    let words = |t: jiff::civil::DateTime| t.strftime("%Y-%m-%d %H:%M:%S%.f").to_string();
    let line = |(f, t): &(&Frame, jiff::civil::DateTime)| ShiftedLine {
        name: f.name.clone(),
        before: words(*t),
        after: shifted(*t, millis).map(words),
    };
    let lines = timed.iter().take(6).map(line).collect();
    Ok(Shifted { millis, lines, timed: timed.len(), untimed: ids.len() - timed.len() })
}
