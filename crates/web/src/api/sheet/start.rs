//! Starting a run: as the sheet says, at once, or the last one again.

use crate::App;
use crate::api::sheet::asked::{Prepared, RunAsked, known, prepare, prepared};
use crate::error::{Error, Result};
use crate::request::Sent;
use crate::workspace::{self};
use axum::Json;
use axum::extract::State;
use rallo_job::Run;
use rallo_job::prelude::*;
use rallo_recipe::Recipe;
use rallo_runner::preflight::new_run;
use rallo_runner::report::webhook;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::HashSet;

/// A run that was started, or why it was not.
#[derive(Default, Serialize, JsonSchema)]
#[serde(default)]
pub(super) struct Started {
    /// Its number.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(super) run: Option<i64>,
    /// Its pictures.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(super) count: Option<usize>,
    /// What its recipe is called.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(super) recipe: Option<String>,
    /// Its recipe's version.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(super) version: Option<i64>,
    /// The run it repeats.
    #[serde(skip_serializing_if = "Option::is_none")]
    like: Option<i64>,
    /// The recipe's newest version, where that is newer.
    #[serde(skip_serializing_if = "Option::is_none")]
    newer: Option<i64>,
    /// The folder results go to.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(super) folder: Option<String>,
    /// Whether nothing was started and the sheet should be looked at.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub(super) sheet: bool,
    /// Why.
    #[serde(skip_serializing_if = "Option::is_none")]
    reason: Option<String>,
}

/// Writes the run down and wakes the queue.
pub(super) async fn start(State(app): State<App>, Sent(asked): Sent<RunAsked>) -> Result<Json<Started>> {
    let prepared = prepare(&app, &asked).await?;
    let row = prepared.laid.recipe.as_ref();
    let from = (row.map(|r| r.id), row.map_or(1, |r| r.version));
    let (id, _) = begin(&app, prepared, from, &asked).await?;
    Ok(Json(Started { run: Some(id), ..Started::default() }))
}

/// The run of what lies on the desk, at once where there is nothing to say or to ask; else nothing happens and the answer
/// says that the sheet should be looked at.
pub(super) async fn go(State(app): State<App>) -> Result<Json<Started>> {
    let asked = RunAsked::default();
    let prepared = prepare(&app, &asked).await?;
    let mut problems: Vec<String> = prepared.planning.problems.iter().map(|p| p.message.clone()).collect();
    problems.extend(known(&app, &prepared).await?.into_iter().map(|p| p.message));
    problems.extend((!prepared.recipe.asks().is_empty()).then(|| "this recipe asks for values".to_owned()));
    if let Some(first) = problems.into_iter().next() {
        return Ok(Json(Started { sheet: true, reason: Some(first), ..Started::default() }));
    }
    let row = prepared.laid.recipe.as_ref();
    let from = (row.map(|r| r.id), row.map_or(1, |r| r.version));
    let name = prepared.recipe.name.clone();
    let folder =
        prepared.planning.pictures.first().and_then(|p| p.target.parent()).map(|f| app.roots.short(f));
    let (id, count) = begin(&app, prepared, from, &asked).await?;
    Ok(Json(Started { run: Some(id), count: Some(count), recipe: Some(name), folder, ..Started::default() }))
}

/// The last run's recipe, with the answers it was given, on the frames on the desk.
pub(super) async fn again(State(app): State<App>) -> Result<Json<Started>> {
    let runs = app.store.runs().await?;
    let last = runs.into_iter().max_by_key(|r| r.id);
    let last = last.ok_or_else(|| Error::bad("nothing has run yet, so there is nothing to repeat"))?;
    let recipe = Recipe::parse(&last.document)?;
    let name = recipe.name.clone();
    let (shared, laid) = (app.clone(), workspace::laid(&app).await?);
    // Names are looked for on the disk.
    let prepared = move || prepared(&shared, laid, recipe, &HashSet::new());
    let prepared = tokio::task::spawn_blocking(prepared).await??;
    let asked = RunAsked { most_failures: last.most_failures, ..RunAsked::default() };
    let (id, count) = begin(&app, prepared, (last.recipe_id, last.recipe_version), &asked).await?;
    let newest = match last.recipe_id {
        Some(recipe) => app.store.recipe(recipe).await.ok().map(|r| r.version),
        None => None,
    };
    let newer = newest.filter(|v| *v > last.recipe_version);
    Ok(Json(Started {
        run: Some(id),
        count: Some(count),
        recipe: Some(name),
        version: Some(last.recipe_version),
        like: Some(last.id),
        newer,
        ..Started::default()
    }))
}

/// An address that a report may be sent to; commands are named where the program is started.
pub fn address(text: Option<&str>) -> Result<Option<String>> {
    match text.map(str::trim).filter(|t| !t.is_empty()) {
        None => Ok(None),
        Some(text) if webhook::is_address(text) && text.len() <= 2000 => Ok(Some(text.to_owned())),
        Some(text) => {
            Err(Error::bad(format!("expected an address that begins with http:// or https://, got {text}")))
        }
    }
}

/// Writes a run down and wakes the queue; the run's number, and of how many pictures.
pub(super) async fn begin(
    app: &App,
    prepared: Prepared,
    from: (Option<i64>, i64),
    asked: &RunAsked,
) -> Result<(i64, usize)> {
    let Prepared { laid, sources, base, planning, .. } = &prepared;
    let written = new_run::written(planning, sources, base, &laid.name, "page");
    let (run, items) = written.map_err(Error::bad)?;
    let count = sources.len();
    let mut notes = known(app, &prepared).await?;
    let Prepared { laid, planning, .. } = prepared;
    notes.extend(planning.problems);
    let at = asked.at.as_deref().map(new_run::moment).transpose();
    let run = Run {
        recipe_id: from.0,
        recipe_version: from.1,
        shoot_id: laid.shoot.as_ref().map(|s| s.id),
        not_before: at.map_err(|e| Error::bad(format!("at: {e}")))?,
        most_failures: asked.most_failures,
        hook: address(asked.report_to.as_deref())?,
        warnings: new_run::warned(&notes),
        ..run
    };
    let id = app.store.add_run(&run, &items).await?;
    if asked.first {
        app.store.move_run(id, -2).await?;
    }
    app.queue.added();
    app.queue.tell(id).await?;
    Ok((id, count))
}
