//! What lies on the desk: shoot, selection, filter and order.

use crate::error::{Error, Result};
use crate::request::Sent;
use crate::{App, workspace};
use axum::Json;
use axum::extract::State;
use rallo_shoot::{Sort, facets};
use schemars::JsonSchema;
use serde::Serialize;

/// What lies on the desk, and what frames can be sorted and told apart by.
#[derive(Serialize, JsonSchema)]
pub(super) struct DeskAnswer {
    /// Identities of what is in use.
    pub(super) desk: workspace::Desk,
    /// What a run would take of it.
    takes: DeskChosen,
    /// Whether its folders are still being read.
    scanning: bool,
    /// What frames can be sorted by.
    sorts: Vec<SortEntry>,
    /// Measures that can be limited to a range.
    pub(super) measures: Vec<MeasureEntry>,
}

/// Something to sort by.
#[derive(Serialize, JsonSchema)]
pub(super) struct SortEntry {
    /// As an order writes it.
    by: Sort,
    /// For people.
    title: &'static str,
}

/// A measure.
#[derive(Serialize, JsonSchema)]
pub(super) struct MeasureEntry {
    /// As a filter writes it.
    pub(super) id: &'static str,
    /// For people, with its unit.
    title: &'static str,
}

pub(super) async fn get_desk(State(app): State<App>) -> Result<Json<DeskAnswer>> {
    let laid = workspace::laid(&app).await?;
    let sorts = Sort::ALL.iter().map(|(by, title)| SortEntry { by: *by, title }).collect();
    let measures = facets::MEASURES.iter().map(|(id, title)| MeasureEntry { id, title }).collect();
    let (takes, scanning) = (DeskChosen::of(&laid), laid.is_being_read(&app));
    Ok(Json(DeskAnswer { desk: laid.desk, takes, scanning, sorts, measures }))
}

/// What a run would take of what lies on the desk.
#[derive(Serialize, JsonSchema)]
pub(super) struct DeskChosen {
    /// Frames.
    pub(super) chosen: usize,
    /// What they are, in a word.
    pub(super) word: String,
    /// How many are left out, and why, in words.
    pub(super) left_out: String,
}

impl DeskChosen {
    fn of(laid: &workspace::Laid) -> Self {
        Self { chosen: laid.chosen().len(), word: laid.word(), left_out: laid.left_out() }
    }
}

/// Changes what lies on the desk; what is not named stays.
pub(super) async fn set_desk(
    State(app): State<App>,
    Sent(workspace::DeskChange(change)): Sent<workspace::DeskChange>,
) -> Result<Json<DeskChosen>> {
    let mut now = serde_json::to_value(workspace::load(&app).await?).unwrap_or_default();
    for (key, value) in change {
        now[key] = value;
    }
    let desk: workspace::Desk = serde_json::from_value(now).map_err(Error::bad)?;
    workspace::save(&app, &desk).await?;
    let laid = workspace::laid(&app).await?;
    Ok(Json(DeskChosen::of(&laid)))
}
