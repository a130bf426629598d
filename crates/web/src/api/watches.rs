//! Watched folders: set up, listed, paused, taken away.

use super::sheet::{Answer, address, answers_of};
use crate::App;
use crate::error::{Error, Result, Sent};
use axum::extract::{Path, State};
use axum::routing::{get, post};
use axum::{Json, Router};
use rallo_job::prelude::*;
use rallo_job::{Watch, WatchState};
use rallo_recipe::Recipe;
use rallo_runner::library::watch_folder;
use schemars::JsonSchema;
use serde::Deserialize;
use serde_json::{Value, json};
use std::path::Path as FilePath;

pub fn routes() -> Router<App> {
    Router::new()
        .route("/api/watches", get(list).post(set_up))
        .route("/api/watches/{id}", axum::routing::delete(remove))
        .route("/api/watches/{id}/pause", post(pause))
        .route("/api/watches/{id}/go-on", post(go_on))
        .route("/api/watches/{id}/renew", post(renew))
}

/// A folder to be watched.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewWatch {
    /// What people call it.
    name: String,
    /// The recipe, by identity.
    recipe: i64,
    /// Where pictures arrive.
    folder: String,
    /// With sub-folders.
    #[serde(default)]
    deep: bool,
    /// Folder for the results, instead of the recipe's.
    #[serde(default)]
    target: Option<String>,
    /// Once a day at this time (`HH:MM`, this machine's clock), instead of at once.
    #[serde(default)]
    daily: Option<String>,
    /// What the recipe asks, answered.
    #[serde(default)]
    answers: Vec<Answer>,
    /// An address the reports of its runs are sent to.
    #[serde(default)]
    report_to: Option<String>,
}

async fn list(State(app): State<App>) -> Result<Json<Value>> {
    let mut all = Vec::new();
    for w in app.store.watches().await? {
        let arrivals = app.store.arrivals(w.id).await?;
        let recipe = Recipe::parse(&w.document).map(|r| r.name).unwrap_or_default();
        let newest = match w.recipe_id {
            Some(id) => app.store.recipe(id).await.ok().map(|r| r.version),
            None => None,
        };
        all.push(json!({"id": w.id, "name": w.name, "recipe": recipe, "version": w.recipe_version,
            "newest": newest, "folder": app.roots.short(FilePath::new(&w.folder)), "deep": w.deep,
            "target": w.target.as_deref().map(|t| app.roots.short(FilePath::new(t))), "daily": w.daily,
            "state": w.state, "problem": w.problem, "arrived": arrivals.len(),
            "run": arrivals.iter().map(|a| a.run_id).max()}));
    }
    Ok(Json(all.into()))
}

fn filled(text: Option<String>) -> Option<String> {
    text.map(|t| t.trim().to_owned()).filter(|t| !t.is_empty())
}

async fn set_up(State(app): State<App>, Sent(new): Sent<NewWatch>) -> Result<Json<Value>> {
    let row = app.store.recipe(new.recipe).await?;
    let recipe = super::recipes::followed(&app, Recipe::parse(&row.document)?).await?;
    let recipe = recipe.answered(&answers_of(&new.answers))?;
    let mut watch = Watch {
        name: new.name,
        recipe_id: Some(row.id),
        recipe_version: row.version,
        document: recipe.to_value().to_string(),
        folder: new.folder,
        deep: new.deep,
        target: filled(new.target),
        daily: filled(new.daily),
        hook: address(new.report_to.as_deref())?,
        ..Watch::default()
    };
    watch_folder::check(&mut watch, Some(&app.roots)).map_err(Error::bad)?;
    let id = app.store.save_watch(&watch).await?;
    Ok(Json(json!({"id": id})))
}

async fn set_state(app: &App, id: i64, state: WatchState) -> Result<Json<Value>> {
    app.store.watch(id).await?;
    app.store.set_watch_state(id, state).await?;
    Ok(Json(json!({})))
}

async fn pause(State(app): State<App>, Path(id): Path<i64>) -> Result<Json<Value>> {
    set_state(&app, id, WatchState::Paused).await
}

async fn go_on(State(app): State<App>, Path(id): Path<i64>) -> Result<Json<Value>> {
    set_state(&app, id, WatchState::On).await
}

/// Takes the newest version of the recipe for what arrives from now on.
async fn renew(State(app): State<App>, Path(id): Path<i64>) -> Result<Json<Value>> {
    let watch = app.store.watch(id).await?;
    let recipe = watch
        .recipe_id
        .ok_or_else(|| Error::bad("its recipe was removed, or came from a file; set it up again"))?;
    let row = app.store.recipe(recipe).await?;
    let recipe = super::recipes::followed(&app, Recipe::parse(&row.document)?).await?;
    // What was asked at the start stays answered, where the newer version still asks it.
    let before = Recipe::parse(&watch.document)?.asks();
    let asks = |line: usize, name: &str| recipe.asks().iter().any(|(l, p, _)| *l == line && p.name == name);
    let answers: Vec<(usize, String, Value)> = before
        .into_iter()
        .filter(|(line, p, _)| asks(*line, p.name))
        .map(|(line, p, value)| (line, p.name.to_owned(), value))
        .collect();
    let recipe = recipe.answered(&answers)?;
    let watch = Watch { recipe_version: row.version, document: recipe.to_value().to_string(), ..watch };
    app.store.save_watch(&watch).await?;
    Ok(Json(json!({"version": row.version})))
}

async fn remove(State(app): State<App>, Path(id): Path<i64>) -> Result<Json<Value>> {
    app.store.watch(id).await?;
    app.store.remove_watch(id).await?;
    Ok(Json(json!({})))
}
