//! Watched folders: set up, listed, paused, taken away.

use super::answer::{Done, about};
use super::sheet::{Answer, address, answers_of};
use crate::App;
use crate::error::{Error, Result};
use crate::request::{Id, Path, Sent};
use aide::axum::ApiRouter;
use aide::axum::routing::{delete_with, get_with, post_with};
use axum::Json;
use axum::extract::State;
use rallo_job::prelude::*;
use rallo_job::{Watch, WatchState};
use rallo_recipe::Recipe;
use rallo_runner::library::watch_folder;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::path::Path as FilePath;

pub fn routes() -> ApiRouter<App> {
    ApiRouter::new()
        .api_route(
            "/api/watches",
            get_with(list, about("Watched folders")).post_with(set_up, about("Watch a folder")),
        )
        .api_route("/api/watches/{id}", delete_with(remove, about("Watch it no longer")))
        .api_route("/api/watches/{id}/pause", post_with(pause, about("Let it pause")))
        .api_route("/api/watches/{id}/go-on", post_with(go_on, about("Let it go on")))
        .api_route(
            "/api/watches/{id}/renew",
            post_with(renew, about("Take the newest version of its recipe")),
        )
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

/// A watched folder.
#[derive(Serialize, JsonSchema)]
pub(crate) struct WatchEntry {
    /// Its number.
    pub(crate) id: i64,
    /// What people call it.
    pub(crate) name: String,
    /// What its recipe is called.
    pub(crate) recipe: String,
    /// Its recipe's version.
    pub(crate) version: i64,
    /// The recipe's newest version, where the recipe is still there.
    pub(crate) newest: Option<i64>,
    /// Where pictures arrive.
    pub(crate) folder: String,
    /// Whether sub-folders are watched too.
    pub(crate) deep: bool,
    /// Folder for the results, instead of the recipe's.
    pub(crate) target: Option<String>,
    /// Once a day at this time, instead of at once.
    pub(crate) daily: Option<String>,
    /// Whether it watches.
    pub(crate) state: WatchState,
    /// What keeps it from watching.
    pub(crate) problem: Option<String>,
    /// Pictures that have arrived.
    pub(crate) arrived: usize,
    /// The last run that was started for them.
    pub(crate) run: Option<i64>,
}

async fn list(State(app): State<App>) -> Result<Json<Vec<WatchEntry>>> {
    entries(&app).await.map(Json)
}

/// Every watched folder.
pub(crate) async fn entries(app: &App) -> Result<Vec<WatchEntry>> {
    let mut rows = Vec::new();
    for w in app.store.watches().await? {
        let arrivals = app.store.arrivals(w.id).await?;
        let newest = match w.recipe_id {
            Some(id) => app.store.recipe(id).await.ok().map(|r| r.version),
            None => None,
        };
        rows.push(WatchEntry {
            id: w.id,
            recipe: Recipe::parse(&w.document).map(|r| r.name).unwrap_or_default(),
            version: w.recipe_version,
            newest,
            folder: app.roots.short(FilePath::new(&w.folder)),
            deep: w.deep,
            target: w.target.as_deref().map(|t| app.roots.short(FilePath::new(t))),
            arrived: arrivals.len(),
            run: arrivals.iter().map(|a| a.run_id).max(),
            name: w.name,
            daily: w.daily,
            state: w.state,
            problem: w.problem,
        });
    }
    Ok(rows)
}

fn filled(text: Option<String>) -> Option<String> {
    text.map(|t| t.trim().to_owned()).filter(|t| !t.is_empty())
}

/// A folder that is watched now.
#[derive(Serialize, JsonSchema)]
struct WatchMade {
    /// Its number.
    id: i64,
}

async fn set_up(State(app): State<App>, Sent(new): Sent<NewWatch>) -> Result<Json<WatchMade>> {
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
    Ok(Json(WatchMade { id }))
}

async fn set_state(app: &App, id: i64, state: WatchState) -> Result<Json<Done>> {
    app.store.watch(id).await?;
    app.store.set_watch_state(id, state).await?;
    Ok(Json(Done {}))
}

async fn pause(State(app): State<App>, Path(Id { id }): Path<Id>) -> Result<Json<Done>> {
    set_state(&app, id, WatchState::Paused).await
}

async fn go_on(State(app): State<App>, Path(Id { id }): Path<Id>) -> Result<Json<Done>> {
    set_state(&app, id, WatchState::On).await
}

/// The version of a recipe that is used from now on.
#[derive(Serialize, JsonSchema)]
struct Renewed {
    /// Its number.
    version: i64,
}

/// Takes the newest version of the recipe for what arrives from now on.
async fn renew(State(app): State<App>, Path(Id { id }): Path<Id>) -> Result<Json<Renewed>> {
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
    Ok(Json(Renewed { version: row.version }))
}

async fn remove(State(app): State<App>, Path(Id { id }): Path<Id>) -> Result<Json<Done>> {
    app.store.watch(id).await?;
    app.store.remove_watch(id).await?;
    Ok(Json(Done {}))
}
