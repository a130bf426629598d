//! Selections of frames, kept by name.

use crate::App;
use crate::api::answer::Done;
use crate::api::frames::Ids;
use crate::error::{Error, Result};
use crate::request::{Id, Path, Sent};
use axum::Json;
use axum::extract::State;
use rallo_job::prelude::*;
use rallo_runner::now;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A named selection.
#[derive(Serialize, JsonSchema)]
pub(super) struct SelectionEntry {
    /// Its number.
    pub(super) id: i64,
    /// Its name.
    pub(super) name: String,
    /// Frames in it.
    pub(super) frames: i64,
}

pub(super) async fn selections(State(app): State<App>) -> Result<Json<Vec<SelectionEntry>>> {
    let selections = app.store.selections().await?.into_iter();
    Ok(Json(selections.map(|s| SelectionEntry { id: s.id, name: s.name, frames: s.frames }).collect()))
}

/// A selection to be kept, or more frames for one of that name.
#[derive(Deserialize, JsonSchema)]
pub struct Named {
    /// What it is called.
    #[schemars(length(min = 1, max = 120))]
    pub(super) name: String,
    /// The frames.
    pub(super) ids: Vec<i64>,
}

/// A selection that was kept.
#[derive(Serialize, JsonSchema)]
pub(super) struct NamedAnswer {
    /// Its number.
    pub(super) id: i64,
    /// Its name.
    pub(super) name: String,
}

pub(super) async fn add_selection(
    State(app): State<App>,
    Sent(named): Sent<Named>,
) -> Result<Json<NamedAnswer>> {
    let name: String = named.name.trim().chars().take(120).collect();
    if name.is_empty() {
        return Err(Error::bad("a selection needs a name"));
    }
    let id = app.store.add_to_selection(&name, &named.ids, &now()).await?;
    app.frames.selection_changed(id);
    Ok(Json(NamedAnswer { id, name }))
}

pub(super) async fn take_out(
    State(app): State<App>,
    Path(Id { id }): Path<Id>,
    Sent(Ids { ids }): Sent<Ids>,
) -> Result<Json<Done>> {
    app.store.remove_from_selection(id, &ids).await?;
    app.frames.selection_changed(id);
    Ok(Json(Done {}))
}

pub(super) async fn forget_selection(
    State(app): State<App>,
    Path(Id { id }): Path<Id>,
) -> Result<Json<Done>> {
    app.store.forget_selection(id).await?;
    app.frames.selection_changed(id);
    Ok(Json(Done {}))
}
