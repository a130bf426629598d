//! Recipes as things that are kept: listed, searched, versions and what changed, duplicated, loaded and written.

use super::attached;
use crate::App;
use crate::error::{Error, Result, Sent};
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use axum::response::Response;
use axum::routing::{get, post, put};
use axum::{Json, Router};
use rallo_engine::{Kind, step_kind};
use rallo_job::prelude::*;
use rallo_recipe::{Recipe, difference, file, names, starters};
use rallo_runner::now;
use rallo_store::RecipeRow;
use schemars::JsonSchema;
use serde::Deserialize;
use serde_json::{Map, Value, json};
use std::collections::{BTreeMap, HashMap};

pub fn routes() -> Router<App> {
    Router::new()
        .route("/api/recipes", get(list).post(create))
        .route("/api/recipes/load", post(load))
        .route("/api/recipes/file", get(download))
        .route("/api/recipes/block", post(take_in))
        .route("/api/starters", get(starting))
        .route("/api/kept", get(kept).put(keep_values))
        .route("/api/recipes/{id}", put(save).get(one).delete(remove))
        .route("/api/recipes/{id}/copy", post(duplicate))
        .route("/api/recipes/{id}/versions", get(versions))
        .route("/api/recipes/{id}/versions/{version}", get(version).post(back))
}

fn shown(row: &RecipeRow) -> Result<Value> {
    let document: Value = serde_json::from_str(&row.document).map_err(Error::bad)?;
    let recipe = Recipe::from_value(&document).ok();
    let said = recipe.as_ref().map(Recipe::plain).unwrap_or_default();
    let asks = recipe.as_ref().map(asked).unwrap_or_default();
    Ok(json!({"id": row.id, "name": row.name, "version": row.version, "saved": row.saved,
        "document": document, "said": said, "asks": asks}))
}

/// What a recipe asks when a run starts.
pub fn asked(recipe: &Recipe) -> Vec<Value> {
    let one = |(line, param, value): (usize, &'static rallo_engine::Param, Value)| {
        let title = recipe.steps[line].kind().info.title;
        json!({"line": line, "title": title, "param": super::bench::param(param, &value)})
    };
    recipe.asks().into_iter().map(one).collect()
}

async fn list(State(app): State<App>) -> Result<Json<Value>> {
    Ok(Json(app.store.recipes().await?.iter().map(shown).collect::<Result<Vec<_>>>()?.into()))
}

/// A recipe; blocks that follow other recipes have their lines as those are now, and that is a version of its own.
async fn one(State(app): State<App>, Path(id): Path<i64>) -> Result<Json<Value>> {
    let row = app.store.recipe(id).await?;
    let recipe = Recipe::parse(&row.document)?;
    let now = followed(&app, recipe.clone()).await?;
    if now.to_value() != recipe.to_value() {
        return keep_version(&app, id, row.version, &now).await;
    }
    Ok(Json(shown(&row)?))
}

/// Keeps a new recipe and lays it on the bench.
async fn keep(app: &App, recipe: &Recipe) -> Result<RecipeRow> {
    let text = recipe.to_value().to_string();
    let row = app.store.save_recipe(None, 0, &recipe.name, &text, &now()).await?;
    let row = row.ok_or_else(|| Error::bad("the recipe was not saved"))?;
    let mut desk = crate::workspace::load(app).await?;
    desk.recipe = Some(row.id);
    crate::workspace::save(app, &desk).await?;
    Ok(row)
}

/// A new recipe: from a document, or empty but for where results went last time.
async fn create(State(app): State<App>, Sent(document): Sent<Value>) -> Result<Json<Value>> {
    let recipe = if document.is_null() {
        let mut fresh = Recipe::new("New recipe");
        let last = app.store.recipes().await?.into_iter().next();
        if let Some(last) = last.and_then(|row| Recipe::parse(&row.document).ok()) {
            fresh.deliveries = last.deliveries;
        }
        fresh
    } else {
        Recipe::from_value(&document)?
    };
    Ok(Json(shown(&keep(&app, &recipe).await?)?))
}

/// Recipes to start from.
async fn starting() -> Json<Value> {
    let one =
        |r: Recipe| json!({"name": r.name, "note": r.note, "document": r.to_value(), "said": r.plain()});
    Json(starters().into_iter().map(one).collect())
}

#[derive(Deserialize, JsonSchema)]
pub struct Save {
    /// The version the change was made from.
    version: i64,
    document: Value,
    /// A word of the page's own. Changes of one page follow each other without waiting for the answer to the one before.
    #[serde(default)]
    page: Option<String>,
    /// The page's changes, counted.
    #[serde(default)]
    turn: i64,
}

/// Which page wrote a recipe's present version, and which of that page's changes it was.
struct Writer {
    page: String,
    turn: i64,
    version: i64,
}

/// The last writers of recipes, by their identities, while the program runs.
#[derive(Default)]
pub struct Writers(tokio::sync::Mutex<HashMap<i64, Writer>>);

/// Saves a change as the next version. Requests of one page may overtake each other: what is older than what stands there
/// changes nothing.
async fn save(State(app): State<App>, Path(id): Path<i64>, Sent(save): Sent<Save>) -> Result<Json<Value>> {
    let recipe = Recipe::from_value(&save.document)?;
    let mut writers = app.writers.0.lock().await;
    let mut from = save.version;
    if let Some(page) = &save.page {
        let present = app.store.recipe(id).await?;
        if let Some(last) = writers.get(&id).filter(|w| w.page == *page && w.version == present.version) {
            if save.turn < last.turn {
                return Ok(Json(shown(&present)?));
            }
            from = present.version;
        }
    }
    let kept = keep_version(&app, id, from, &recipe).await?;
    if let (Some(page), Some(version)) = (save.page, kept["version"].as_i64()) {
        writers.insert(id, Writer { page, turn: save.turn, version });
    }
    Ok(kept)
}

pub async fn keep_version(app: &App, id: i64, from: i64, recipe: &Recipe) -> Result<Json<Value>> {
    let text = recipe.to_value().to_string();
    match app.store.save_recipe(Some(id), from, &recipe.name, &text, &now()).await? {
        Some(row) => {
            remember(app, recipe).await?;
            Ok(Json(shown(&row)?))
        }
        None => Err(Error(
            StatusCode::CONFLICT,
            "this recipe was changed in another window; reload to see that, nothing was overwritten".into(),
        )),
    }
}

async fn remove(State(app): State<App>, Path(id): Path<i64>) -> Result<()> {
    app.store.remove_recipe(id).await?;
    let mut desk = crate::workspace::load(&app).await?;
    if desk.recipe == Some(id) {
        desk.recipe = None;
        crate::workspace::save(&app, &desk).await?;
    }
    Ok(())
}

async fn duplicate(State(app): State<App>, Path(id): Path<i64>) -> Result<Json<Value>> {
    let row = app.store.recipe(id).await?;
    let mut recipe = Recipe::parse(&row.document)?;
    recipe.name = format!("{}, copy", recipe.name).chars().take(120).collect();
    Ok(Json(shown(&keep(&app, &recipe).await?)?))
}

/// Every version with what changed in it, the newest first.
async fn versions(State(app): State<App>, Path(id): Path<i64>) -> Result<Json<Value>> {
    let rows = app.store.recipe_versions(id).await?;
    let read: Vec<Option<Recipe>> = rows.iter().map(|r| Recipe::parse(&r.document).ok()).collect();
    let all: Vec<Value> = rows
        .iter()
        .enumerate()
        .map(|(i, row)| {
            let changes = match (read.get(i + 1).and_then(Option::as_ref), read[i].as_ref()) {
                (Some(before), Some(after)) => difference(before, after),
                (None, Some(_)) if i + 1 == rows.len() => vec!["the first version".into()],
                _ => vec!["this version cannot be read by this program".into()],
            };
            json!({"version": row.version, "saved": row.saved, "changes": changes})
        })
        .collect();
    Ok(Json(all.into()))
}

async fn version(State(app): State<App>, Path((id, version)): Path<(i64, i64)>) -> Result<Json<Value>> {
    let row = app.store.recipe_version(id, version).await?;
    let document: Value = serde_json::from_str(&row.document).map_err(Error::bad)?;
    Ok(Json(json!({"version": row.version, "saved": row.saved, "document": document})))
}

/// Goes back to a version: its document becomes the newest one.
async fn back(State(app): State<App>, Path((id, version)): Path<(i64, i64)>) -> Result<Json<Value>> {
    let recipe = Recipe::parse(&app.store.recipe_version(id, version).await?.document)?;
    let now = app.store.recipe(id).await?.version;
    keep_version(&app, id, now, &recipe).await
}

/// Takes in a file of one recipe or several: the good ones are kept, of the others it is said what is wrong and where.
async fn load(State(app): State<App>, Sent(text): Sent<String>) -> Result<Json<Value>> {
    let read = file::read(&text)?;
    let (mut kept, mut refused) = (Vec::new(), Vec::new());
    for one in read {
        match one.recipe {
            Ok(recipe) => {
                let row = keep(&app, &recipe).await?;
                kept.push(json!({"id": row.id, "name": row.name}));
            }
            Err(faults) => {
                let faults: Vec<String> = faults.0.iter().map(ToString::to_string).collect();
                refused.push(json!({"name": one.name, "faults": faults}));
            }
        }
    }
    Ok(Json(json!({"kept": kept, "refused": refused})))
}

#[derive(Deserialize)]
struct Which {
    /// Identities with commas between.
    ids: String,
}

/// A file to be kept elsewhere: one recipe's document, or several in one.
async fn download(State(app): State<App>, Query(which): Query<Which>) -> Result<Response> {
    let mut recipes = Vec::new();
    for id in which.ids.split(',').filter(|id| !id.trim().is_empty()) {
        let id = id.trim().parse().map_err(|_| Error::bad(format!("ids: expected numbers, got {id}")))?;
        recipes.push(Recipe::parse(&app.store.recipe(id).await?.document)?);
    }
    let name = match &recipes[..] {
        [] => return Err(Error::bad("ids: expected at least one recipe")),
        [one] => names::safe(&one.name),
        _ => "recipes".into(),
    };
    let text = serde_json::to_string_pretty(&file::write(&recipes)).map_err(Error::bad)?;
    Ok(attached(text + "\n", "application/json", &format!("{name}.rallo-recipe.json")))
}

/// The recipe with the blocks that follow other recipes brought up to date.
pub async fn followed(app: &App, recipe: Recipe) -> Result<Recipe> {
    let follows = |b: &rallo_recipe::Block| b.from.as_ref().is_some_and(|f| f.follow);
    if !recipe.blocks.iter().any(follows) {
        return Ok(recipe);
    }
    let rows = app.store.recipes().await?;
    let mut recipe = recipe;
    for row in &rows {
        if let Ok(other) = Recipe::parse(&row.document) {
            recipe = recipe.following(&other, row.version);
        }
    }
    Ok(recipe)
}

#[derive(Deserialize, JsonSchema)]
pub struct Take {
    version: i64,
    document: Value,
    /// The recipe that is taken in.
    recipe: i64,
    follow: bool,
}

/// A document with another recipe's lines at its end, as a block.
async fn take_in(State(app): State<App>, Sent(take): Sent<Take>) -> Result<Json<Value>> {
    let row = app.store.recipe(take.recipe).await?;
    let other = Recipe::parse(&row.document)?;
    let recipe = Recipe::from_value(&take.document)?.taking_in(&other, row.version, take.follow)?;
    Ok(Json(json!({"version": take.version, "document": recipe.to_value()})))
}

/// Values of steps that were kept under a name: by step, by name.
type SavedValues = BTreeMap<String, BTreeMap<String, Value>>;

async fn kept_values(app: &App) -> Result<SavedValues> {
    let text = app.store.setting("kept").await?;
    Ok(text.and_then(|t| serde_json::from_str(&t).ok()).unwrap_or_default())
}

async fn kept(State(app): State<App>) -> Result<Json<SavedValues>> {
    Ok(Json(kept_values(&app).await?))
}

/// Values last written down, by step.
pub async fn lately(app: &App) -> Result<BTreeMap<String, Value>> {
    let text = app.store.setting("lately").await?;
    Ok(text.and_then(|t| serde_json::from_str(&t).ok()).unwrap_or_default())
}

/// Keeps the values of a recipe's lines for the next recipe.
async fn remember(app: &App, recipe: &Recipe) -> Result<()> {
    let before = lately(app).await?;
    let mut all = before.clone();
    for line in &recipe.steps {
        if line.kind().info.facts.starts_as_last_time {
            let mut values = line.step.values();
            for param in line.kind().params.iter().filter(|p| matches!(p.kind, Kind::Kept(_))) {
                values[param.name] = Value::Null;
            }
            all.insert(line.id.into(), values);
        }
    }
    if all != before {
        app.store.set_setting("lately", &json!(all).to_string()).await?;
    }
    Ok(())
}

#[derive(Deserialize, JsonSchema)]
pub struct KeepValues {
    step: String,
    name: String,
    /// Nothing takes them away.
    values: Option<Map<String, Value>>,
}

async fn keep_values(State(app): State<App>, Sent(keep): Sent<KeepValues>) -> Result<Json<SavedValues>> {
    let name = keep.name.trim();
    let kind = step_kind(&keep.step).ok_or_else(|| Error::bad(format!("unknown step {}", keep.step)))?;
    if name.is_empty() || name.chars().count() > 80 {
        return Err(Error::bad("a name of 1 to 80 characters is needed"));
    }
    let mut all = kept_values(&app).await?;
    let of_step = all.entry(keep.step).or_default();
    match keep.values {
        Some(values) => {
            kind.parse(&values).map_err(Error::bad)?;
            of_step.insert(name.to_owned(), Value::Object(values));
        }
        None => drop(of_step.remove(name)),
    }
    app.store.set_setting("kept", &json!(all).to_string()).await?;
    Ok(Json(all))
}
