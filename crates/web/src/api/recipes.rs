//! Recipes as things that are kept: listed, searched, versions and what changed, duplicated, loaded and written.

use super::answer::{Done, about, attached, file as answers_file};
use super::bench::Control;
use super::document::Document;
use crate::App;
use crate::error::{Error, Result};
use crate::request::{Id, Path, Query, Sent};
use aide::axum::ApiRouter;
use aide::axum::routing::{get_with, post_with, put_with};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::Response;
use rallo_engine::{Kind, step_kind};
use rallo_job::prelude::*;
use rallo_recipe::{Recipe, UNNAMED, difference, file, names, starters};
use rallo_runner::now;
use rallo_store::RecipeRow;
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use std::collections::{BTreeMap, HashMap};

pub fn routes() -> ApiRouter<App> {
    ApiRouter::new()
        .api_route(
            "/api/recipes",
            get_with(list, about("Recipes")).post_with(create, about("Keep a new recipe")),
        )
        .api_route("/api/recipes/load", post_with(load, about("Take in a file of recipes")))
        .api_route(
            "/api/recipes/file",
            get_with(download, answers_file("Recipes as a file", "application/json")),
        )
        .api_route(
            "/api/recipes/block",
            post_with(take_in, about("A document with another recipe as a block")),
        )
        .api_route("/api/starters", get_with(starting, about("Recipes to start from")))
        .api_route(
            "/api/kept",
            get_with(kept, about("Values kept under names"))
                .put_with(keep_values, about("Keep values under a name")),
        )
        .api_route(
            "/api/recipes/{id}",
            put_with(save, about("Its next version"))
                .get_with(one, about("A recipe"))
                .delete_with(remove, about("Remove it with its versions")),
        )
        .api_route("/api/recipes/{id}/copy", post_with(duplicate, about("Duplicate it")))
        .api_route("/api/recipes/{id}/versions", get_with(versions, about("Its versions with what changed")))
        .api_route(
            "/api/recipes/{id}/versions/{version}",
            get_with(version, about("One version")).post_with(back, about("Go back to it")),
        )
}

/// A recipe that is kept.
#[derive(Serialize, JsonSchema)]
pub struct RecipeAnswer {
    /// Its number.
    id: i64,
    /// What it is called.
    name: String,
    /// Its newest version.
    version: i64,
    /// When that was saved (RFC 3339).
    saved: String,
    /// Its document.
    document: Document,
    /// It in plain sentences; empty where this program cannot read it.
    said: String,
    /// What it asks when a run starts.
    asks: Vec<Asking>,
    /// Whether nobody has named it, so that its name follows what it does.
    named_by_itself: bool,
}

fn shown(row: &RecipeRow) -> Result<RecipeAnswer> {
    let document: Document = serde_json::from_str(&row.document).map_err(Error::bad)?;
    let recipe = document.read().ok();
    Ok(RecipeAnswer {
        id: row.id,
        name: row.name.clone(),
        version: row.version,
        saved: row.saved.clone(),
        said: recipe.as_ref().map(Recipe::plain).unwrap_or_default(),
        asks: recipe.as_ref().map(asked).unwrap_or_default(),
        named_by_itself: recipe.as_ref().is_some_and(Recipe::is_named_by_itself),
        document,
    })
}

/// Something a recipe asks when a run starts.
#[derive(Serialize, JsonSchema)]
pub struct Asking {
    /// The line it is about, from 0.
    pub(crate) line: usize,
    /// The step of that line.
    pub(crate) title: &'static str,
    /// What is asked.
    pub(crate) param: Control,
}

/// What a recipe asks when a run starts.
pub fn asked(recipe: &Recipe) -> Vec<Asking> {
    let question = |(line, param, value): (usize, &'static rallo_engine::Param, Value)| Asking {
        line,
        title: recipe.steps[line].kind().info.title,
        param: Control::new(param, &value),
    };
    recipe.asks().into_iter().map(question).collect()
}

async fn list(State(app): State<App>) -> Result<Json<Vec<RecipeAnswer>>> {
    Ok(Json(app.store.recipes().await?.iter().map(shown).collect::<Result<Vec<_>>>()?))
}

/// A recipe; blocks that follow other recipes have their lines as those are now, and that is a version of its own.
async fn one(State(app): State<App>, Path(Id { id }): Path<Id>) -> Result<Json<RecipeAnswer>> {
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
    let before = desk.recipe.replace(row.id);
    crate::workspace::save(app, &desk).await?;
    if let Some(before) = before {
        tidy(app, before).await?;
    }
    Ok(row)
}

/// A recipe that was begun by itself, and into which nobody wrote a line, makes room for the next one.
async fn tidy(app: &App, id: i64) -> Result<()> {
    let Ok(row) = app.store.recipe(id).await else { return Ok(()) };
    let is_blank = row.version == 1
        && row.name == UNNAMED
        && Recipe::parse(&row.document).is_ok_and(|recipe| recipe.steps.is_empty());
    if is_blank {
        app.store.remove_recipe(id).await?;
    }
    Ok(())
}

/// A new recipe: from a document, or empty but for where results went last time.
async fn create(
    State(app): State<App>,
    Sent(document): Sent<Option<Document>>,
) -> Result<Json<RecipeAnswer>> {
    let recipe = if let Some(document) = document {
        document.read()?
    } else {
        let mut fresh = Recipe::new(UNNAMED);
        let last = app.store.recipes().await?.into_iter().next();
        if let Some(last) = last.and_then(|row| Recipe::parse(&row.document).ok()) {
            fresh.deliveries = last.deliveries;
        }
        fresh
    };
    Ok(Json(shown(&keep(&app, &recipe).await?)?))
}

/// A recipe to start from.
#[derive(Serialize, JsonSchema)]
struct Starter {
    /// What it is called.
    name: String,
    /// What it is for.
    note: String,
    /// Its document.
    document: Document,
    /// It in plain sentences.
    said: String,
}

/// Recipes to start from.
async fn starting() -> Json<Vec<Starter>> {
    let starter = |r: Recipe| Starter { document: (&r).into(), said: r.plain(), name: r.name, note: r.note };
    Json(starters().into_iter().map(starter).collect())
}

/// A change of a recipe.
#[derive(Deserialize, JsonSchema)]
pub struct Save {
    /// The version the change was made from.
    version: i64,
    /// What it becomes.
    document: Document,
    /// A word of the page's own. Changes of one page follow each other without waiting for the answer to the one before.
    #[serde(default)]
    page: Option<String>,
    /// The page's changes, counted.
    #[serde(default)]
    turn: i64,
    /// Whether it is to be named by what it does, instead of as the document says.
    #[serde(default)]
    named_by_itself: bool,
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
async fn save(
    State(app): State<App>,
    Path(Id { id }): Path<Id>,
    Sent(save): Sent<Save>,
) -> Result<Json<RecipeAnswer>> {
    let mut recipe = save.document.read()?;
    if save.named_by_itself {
        recipe.name = recipe.in_brief();
    }
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
    if let Some(page) = save.page {
        writers.insert(id, Writer { page, turn: save.turn, version: kept.version });
    }
    Ok(kept)
}

pub async fn keep_version(app: &App, id: i64, from: i64, recipe: &Recipe) -> Result<Json<RecipeAnswer>> {
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

async fn remove(State(app): State<App>, Path(Id { id }): Path<Id>) -> Result<Json<Done>> {
    app.store.remove_recipe(id).await?;
    let mut desk = crate::workspace::load(&app).await?;
    if desk.recipe == Some(id) {
        desk.recipe = None;
        crate::workspace::save(&app, &desk).await?;
    }
    Ok(Json(Done {}))
}

async fn duplicate(State(app): State<App>, Path(Id { id }): Path<Id>) -> Result<Json<RecipeAnswer>> {
    let row = app.store.recipe(id).await?;
    let mut recipe = Recipe::parse(&row.document)?;
    recipe.name = format!("{}, copy", recipe.name).chars().take(120).collect();
    Ok(Json(shown(&keep(&app, &recipe).await?)?))
}

/// A version of a recipe, and what changed in it.
#[derive(Serialize, JsonSchema)]
pub(crate) struct VersionEntry {
    /// Its number.
    pub(crate) version: i64,
    /// When it was saved (RFC 3339).
    pub(crate) saved: String,
    /// What changed, in words.
    pub(crate) changes: Vec<String>,
}

/// Every version with what changed in it, the newest first.
async fn versions(State(app): State<App>, Path(Id { id }): Path<Id>) -> Result<Json<Vec<VersionEntry>>> {
    said_versions(&app, id).await.map(Json)
}

pub(crate) async fn said_versions(app: &App, id: i64) -> Result<Vec<VersionEntry>> {
    let rows = app.store.recipe_versions(id).await?;
    let read: Vec<Option<Recipe>> = rows.iter().map(|r| Recipe::parse(&r.document).ok()).collect();
    let recipes = rows
        .iter()
        .enumerate()
        .map(|(i, row)| {
            let changes = match (read.get(i + 1).and_then(Option::as_ref), read[i].as_ref()) {
                (Some(before), Some(after)) => difference(before, after),
                (None, Some(_)) if i + 1 == rows.len() => vec!["the first version".into()],
                _ => vec!["this version cannot be read by this program".into()],
            };
            VersionEntry { version: row.version, saved: row.saved.clone(), changes }
        })
        .collect();
    Ok(recipes)
}

/// A version of a recipe, by their numbers.
#[derive(Deserialize, JsonSchema)]
struct VersionPath {
    /// The recipe's.
    #[schemars(range(min = 1))]
    id: i64,
    /// The version's.
    #[schemars(range(min = 1))]
    version: i64,
}

/// A version of a recipe.
#[derive(Serialize, JsonSchema)]
struct VersionAnswer {
    /// Its number.
    version: i64,
    /// When it was saved (RFC 3339).
    saved: String,
    /// Its document.
    document: Document,
}

async fn version(
    State(app): State<App>,
    Path(VersionPath { id, version }): Path<VersionPath>,
) -> Result<Json<VersionAnswer>> {
    let row = app.store.recipe_version(id, version).await?;
    let document = serde_json::from_str(&row.document).map_err(Error::bad)?;
    Ok(Json(VersionAnswer { version: row.version, saved: row.saved, document }))
}

/// Goes back to a version: its document becomes the newest one.
async fn back(
    State(app): State<App>,
    Path(VersionPath { id, version }): Path<VersionPath>,
) -> Result<Json<RecipeAnswer>> {
    let recipe = Recipe::parse(&app.store.recipe_version(id, version).await?.document)?;
    let now = app.store.recipe(id).await?.version;
    keep_version(&app, id, now, &recipe).await
}

/// What came of a file of recipes.
#[derive(Serialize, JsonSchema)]
struct TakenIn {
    /// Those that are kept now.
    kept: Vec<KeptEntry>,
    /// Those that are not.
    refused: Vec<RefusedEntry>,
}

/// A recipe that is kept now.
#[derive(Serialize, JsonSchema)]
struct KeptEntry {
    /// Its number.
    id: i64,
    /// What it is called.
    name: String,
}

/// A recipe of a file that cannot be read.
#[derive(Serialize, JsonSchema)]
struct RefusedEntry {
    /// What it is called.
    name: String,
    /// What is wrong, each with its place.
    faults: Vec<String>,
}

/// Takes in a file of one recipe or several: the good ones are kept, of the others it is said what is wrong and where.
async fn load(State(app): State<App>, Sent(text): Sent<String>) -> Result<Json<TakenIn>> {
    let read = file::read(&text)?;
    let (mut kept, mut refused) = (Vec::new(), Vec::new());
    for outcome in read {
        match outcome.recipe {
            Ok(recipe) => {
                let row = keep(&app, &recipe).await?;
                kept.push(KeptEntry { id: row.id, name: row.name });
            }
            Err(faults) => {
                let faults: Vec<String> = faults.0.iter().map(ToString::to_string).collect();
                refused.push(RefusedEntry { name: outcome.name, faults });
            }
        }
    }
    Ok(Json(TakenIn { kept, refused }))
}

/// Which recipes are wanted.
#[derive(Deserialize, JsonSchema)]
struct Which {
    /// Their numbers with commas between.
    #[schemars(regex(pattern = r"^[0-9]+(,[0-9]+)*$"))]
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

/// Another recipe to be taken in as a block.
#[derive(Deserialize, JsonSchema)]
pub struct Take {
    /// The version of the document; it is answered as it came.
    version: i64,
    /// The recipe that takes it in.
    document: Document,
    /// The recipe that is taken in, by its number.
    #[schemars(range(min = 1))]
    recipe: i64,
    /// Whether it stays as that recipe is from now on.
    follow: bool,
}

/// A recipe with a block more.
#[derive(Serialize, JsonSchema)]
struct Taken {
    /// The version that came.
    version: i64,
    /// The document.
    document: Document,
}

/// A document with another recipe's lines at its end, as a block.
async fn take_in(State(app): State<App>, Sent(take): Sent<Take>) -> Result<Json<Taken>> {
    let row = app.store.recipe(take.recipe).await?;
    let other = Recipe::parse(&row.document)?;
    let recipe = take.document.read()?.taking_in(&other, row.version, take.follow)?;
    Ok(Json(Taken { version: take.version, document: (&recipe).into() }))
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
    let mut by_step = before.clone();
    for line in &recipe.steps {
        if line.kind().info.facts.starts_as_last_time {
            let mut values = line.step.values();
            for param in line.kind().params.iter().filter(|p| matches!(p.kind, Kind::Kept(_))) {
                values[param.name] = Value::Null;
            }
            by_step.insert(line.id.into(), values);
        }
    }
    if by_step != before {
        app.store.set_setting("lately", &json!(by_step).to_string()).await?;
    }
    Ok(())
}

/// Values of a step to be kept under a name.
#[derive(Deserialize, JsonSchema)]
pub struct KeepValues {
    /// The step, as recipes name it.
    #[schemars(schema_with = "step_names")]
    step: String,
    /// The name.
    #[schemars(length(min = 1, max = 80))]
    name: String,
    /// Nothing takes them away.
    values: Option<Map<String, Value>>,
}

/// The names of all steps.
fn step_names(_: &mut SchemaGenerator) -> Schema {
    let names: Vec<&str> = rallo_engine::registry().iter().map(|kind| kind.info.id).collect();
    json_schema!({"type": "string", "enum": names})
}

async fn keep_values(State(app): State<App>, Sent(keep): Sent<KeepValues>) -> Result<Json<SavedValues>> {
    let name = keep.name.trim();
    let kind = step_kind(&keep.step).ok_or_else(|| Error::bad(format!("unknown step {}", keep.step)))?;
    if name.is_empty() || name.chars().count() > 80 {
        return Err(Error::bad("a name of 1 to 80 characters is needed"));
    }
    let mut defaults = kept_values(&app).await?;
    let of_step = defaults.entry(keep.step).or_default();
    match keep.values {
        Some(values) => {
            kind.parse(&values).map_err(Error::bad)?;
            of_step.insert(name.to_owned(), Value::Object(values));
        }
        None => drop(of_step.remove(name)),
    }
    app.store.set_setting("kept", &json!(defaults).to_string()).await?;
    Ok(Json(defaults))
}
