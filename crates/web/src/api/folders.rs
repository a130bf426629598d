//! Folders, and shoots made of folders and files.

use super::attached;
use crate::error::{Error, Result, Sent};
use crate::{App, workspace};
use axum::extract::{Path, Query, State};
use axum::response::Response;
use axum::routing::{get, post, put};
use axum::{Json, Router};
use rallo_job::ShootFolder;
use rallo_job::prelude::*;
use rallo_media::has_picture_ending;
use rallo_media::video::has_clip_ending;
use rallo_runner::Set;
use rallo_runner::library::scan::common_folder;
use rallo_shoot::{Document, document, natural_key};
use schemars::JsonSchema;
use serde::Deserialize;
use serde_json::{Value, json};
use std::collections::HashMap;
use std::path::{Path as FilePath, PathBuf};

pub fn routes() -> Router<App> {
    Router::new()
        .route("/api/folders", get(folders).post(make_folder))
        .route("/api/shoots", get(shoots).post(open))
        .route("/api/dropped", post(dropped))
        .route("/api/shoots/{id}", put(change))
        .route("/api/shoots/{id}/scan", post(scan))
        .route("/api/shoots/{id}/left-out", get(left_out))
        .route("/api/shoot-file", get(save_file).post(load_file))
}

#[derive(Deserialize)]
struct At {
    path: Option<PathBuf>,
}

/// Files that look like pictures, by their ending.
fn pictures(folder: &FilePath) -> usize {
    std::fs::read_dir(folder).map_or(0, |all| all.flatten().filter(|e| has_picture_ending(&e.path())).count())
}

fn name_of(path: &FilePath) -> String {
    path.file_name().map_or_else(|| path.display().to_string(), |n| n.to_string_lossy().into_owned())
}

/// Most files of a folder that are listed one by one.
const LISTED: usize = 2000;

/// What lies in a folder: sub-folders with how many pictures each has, and the pictures.
async fn folders(State(app): State<App>, Query(at): Query<At>) -> Result<Json<Value>> {
    tokio::task::spawn_blocking(move || listing(&app, at.path)).await?
}

fn listing(app: &App, path: Option<PathBuf>) -> Result<Json<Value>> {
    let Some(path) = path else {
        let all: Vec<Value> = app
            .roots
            .folders()
            .iter()
            .map(|r| json!({"name": name_of(r), "path": r, "pictures": pictures(r)}))
            .collect();
        return Ok(Json(
            json!({"path": null, "name": null, "parent": null, "pictures": 0, "folders": all, "files": []}),
        ));
    };
    let path = app.roots.existing(&path)?;
    let entries = std::fs::read_dir(&path)
        .map_err(|e| Error::bad(format!("{} cannot be opened: {e}", path.display())))?;
    let (mut inside, mut files, mut clips) = (Vec::new(), Vec::new(), Vec::new());
    for entry in entries.flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        let Ok(kind) = entry.file_type() else { continue };
        if name.starts_with('.') {
            continue;
        }
        if kind.is_dir() {
            inside.push(name);
        } else if has_picture_ending(&entry.path()) {
            files.push(name);
        } else if has_clip_ending(&entry.path()) {
            clips.push(name);
        }
    }
    inside.sort_by_cached_key(|n| natural_key(n));
    files.sort_by_cached_key(|n| natural_key(n));
    let all: Vec<Value> = inside
        .into_iter()
        .map(|name| {
            let path = path.join(&name);
            json!({"name": name, "pictures": pictures(&path), "path": path})
        })
        .collect();
    let parent = path.parent().filter(|p| app.roots.existing(p).is_ok());
    let count = files.len();
    files.truncate(LISTED);
    clips.sort_by_cached_key(|n| natural_key(n));
    let told = |all: Vec<String>| -> Vec<Value> {
        all.into_iter().map(|name| json!({"path": path.join(&name), "name": name})).collect()
    };
    let (files, clips) = (told(files), told(clips));
    Ok(Json(json!({"path": path, "name": app.roots.short(&path), "parent": parent, "pictures": count,
        "folders": all, "files": files, "clips": clips})))
}

#[derive(Deserialize, JsonSchema)]
pub struct NewFolder {
    parent: PathBuf,
    name: String,
}

/// Makes a folder for results or copies.
async fn make_folder(State(app): State<App>, Sent(new): Sent<NewFolder>) -> Result<Json<Value>> {
    let parent = app.roots.existing(&new.parent)?;
    let name = rallo_recipe::names::safe(&new.name);
    let path = parent.join(&name);
    app.roots.future(&path)?;
    tokio::fs::create_dir(&path).await.map_err(|e| Error::bad(format!("{name} cannot be made: {e}")))?;
    Ok(Json(json!({"path": path})))
}

async fn shoots(State(app): State<App>) -> Result<Json<Value>> {
    let all = app.store.shoots().await?;
    Ok(Json(
        all.iter().map(|s| json!({"id": s.id, "name": s.name, "base": s.base})).collect::<Vec<_>>().into(),
    ))
}

#[derive(Deserialize)]
struct Open {
    /// Folders and files.
    #[serde(default)]
    places: Vec<document::Place>,
    /// Or one that is known already.
    shoot: Option<i64>,
}

/// Makes folders and files the shoot on the desk and starts scanning them.
async fn open(State(app): State<App>, Sent(open): Sent<Open>) -> Result<Json<Value>> {
    let id = match open.shoot {
        Some(id) => app.store.shoot(id).await?.id,
        None => shoot_of(&app, &open.places, None).await?,
    };
    lay(&app, id).await?;
    Ok(Json(json!({"shoot": id})))
}

async fn shoot_of(app: &App, places: &[document::Place], name: Option<&str>) -> Result<i64> {
    if places.is_empty() {
        return Err(Error::bad("choose at least one folder or picture"));
    }
    let mut all = Vec::new();
    let mut paths = Vec::new();
    for place in places {
        let path = app.roots.existing(&place.path)?;
        all.push(ShootFolder { path: path.to_string_lossy().into_owned(), deep: place.deep });
        paths.push(path);
    }
    let base = common_folder(&paths);
    let called = match (name, paths.as_slice()) {
        (Some(name), _) => name.to_owned(),
        (None, [one]) => name_of(one),
        (None, [first, rest @ ..]) => format!("{} and {} more", name_of(first), rest.len()),
        (None, []) => String::new(),
    };
    Ok(app.store.shoot_of(&called, &base.to_string_lossy(), &all).await?.id)
}

/// What a browser tells of a file that was dropped on the page.
#[derive(Deserialize, JsonSchema)]
pub struct Dropped {
    name: String,
    size: u64,
    /// Milliseconds since 1970.
    modified: i64,
}

/// Most files that are looked through for dropped ones.
const LOOKED_THROUGH: usize = 500_000;

/// Finds dropped files by name, size and time in the allowed folders: a browser does not tell where they lie.
async fn dropped(State(app): State<App>, Sent(files): Sent<Vec<Dropped>>) -> Result<Json<Value>> {
    let roots = app.roots.folders().to_vec();
    let (found, missing) = tokio::task::spawn_blocking(move || {
        let mut wanted: HashMap<String, Vec<&Dropped>> = HashMap::new();
        for file in &files {
            wanted.entry(file.name.clone()).or_default().push(file);
        }
        let mut found: HashMap<String, PathBuf> = HashMap::new();
        let mut open = roots;
        let mut looked = 0;
        while let Some(folder) = open.pop() {
            for entry in std::fs::read_dir(&folder).into_iter().flatten().flatten() {
                looked += 1;
                let name = entry.file_name().to_string_lossy().into_owned();
                let Ok(kind) = entry.file_type() else { continue };
                if kind.is_dir() && looked < LOOKED_THROUGH {
                    open.push(entry.path());
                } else if let (true, Some(all), Ok(meta)) =
                    (kind.is_file(), wanted.get(&name), entry.metadata())
                {
                    let time =
                        meta.modified().ok().and_then(|t| t.duration_since(std::time::UNIX_EPOCH).ok());
                    let millis = time.map_or(0, |t| t.as_millis() as i64);
                    if all.iter().any(|f| f.size == meta.len() && (f.modified - millis).abs() <= 1000) {
                        found.insert(name, entry.path());
                    }
                }
            }
        }
        let missing: Vec<String> =
            files.into_iter().map(|f| f.name).filter(|n| !found.contains_key(n)).collect();
        (found, missing)
    })
    .await?;
    let places: Vec<Value> = found.values().map(|p| json!({"path": p})).collect();
    Ok(Json(json!({"places": places, "missing": missing})))
}

/// Puts a shoot on the desk and scans it in the background.
async fn lay(app: &App, id: i64) -> Result<()> {
    let before = workspace::load(app).await?;
    let same = before.shoot == Some(id) && before.list.is_none();
    let desk = if same {
        before
    } else {
        workspace::Desk { shoot: Some(id), recipe: before.recipe, ..workspace::Desk::default() }
    };
    workspace::save(app, &desk).await?;
    scan_soon(app, id);
    Ok(())
}

fn scan_soon(app: &App, id: i64) {
    let app = app.clone();
    tokio::spawn(async move {
        if let Err(e) = app.frames.scan(id).await {
            tracing::error!("scan: {e}");
        }
    });
}

async fn scan(State(app): State<App>, Path(id): Path<i64>) -> Result<Json<Value>> {
    app.store.shoot(id).await?;
    scan_soon(&app, id);
    Ok(Json(json!({})))
}

#[derive(Deserialize, JsonSchema)]
pub struct ChangeShoot {
    name: Option<String>,
    follow: Option<bool>,
    results: Option<bool>,
}

/// Renames a shoot, follows its folders live or not, takes results in or not.
async fn change(
    State(app): State<App>,
    Path(id): Path<i64>,
    Sent(change): Sent<ChangeShoot>,
) -> Result<Json<Value>> {
    let mut shoot = app.store.shoot(id).await?;
    if let Some(name) = change.name.map(|n| n.trim().to_owned()).filter(|n| !n.is_empty()) {
        shoot.name = name.chars().take(200).collect();
    }
    shoot.follow = change.follow.unwrap_or(shoot.follow);
    let again = change.results.is_some_and(|r| r != shoot.results) || change.follow == Some(true);
    shoot.results = change.results.unwrap_or(shoot.results);
    app.store.set_shoot(&shoot).await?;
    if again {
        scan_soon(&app, id);
    }
    Ok(Json(json!({"name": shoot.name, "follow": shoot.follow, "results": shoot.results})))
}

async fn left_out(State(app): State<App>, Path(id): Path<i64>) -> Result<Json<Value>> {
    let base = PathBuf::from(app.store.shoot(id).await?.base);
    let all: Vec<Value> = app
        .frames
        .left_out(id)
        .into_iter()
        .map(|l| json!({"name": l.path.strip_prefix(&base).unwrap_or(&l.path), "reason": l.reason}))
        .collect();
    Ok(Json(all.into()))
}

/// The shoot as a document, to be kept by the browser.
async fn save_file(State(app): State<App>) -> Result<Response> {
    let laid = workspace::laid(&app).await?;
    let places = match &laid.shoot {
        Some(shoot) => app.store.folders_of_shoot(shoot.id).await?,
        None => return Err(Error::bad("there is no shoot to save")),
    };
    let places: Vec<document::Place> =
        places.into_iter().map(|p| document::Place { path: p.path.into(), deep: p.deep }).collect();
    let frames: Vec<_> = laid.ordered().collect();
    let document = Document::new(&laid.name, &places, laid.sorted, &frames, FilePath::new(""));
    let text = serde_json::to_string_pretty(&document).map_err(Error::bad)?;
    let name = rallo_recipe::names::safe(&laid.name);
    Ok(attached(text, "application/json", &format!("{name}.rallo-shoot.json")))
}

/// Takes a shoot document: the shoot is made, scanned, and what the document decided is taken over.
async fn load_file(State(app): State<App>, text: String) -> Result<Json<Value>> {
    let root = app.roots.folders().first().cloned().unwrap_or_default();
    let document = Document::parse(&text, &root).map_err(Error::bad)?;
    let places = if document.places.is_empty() {
        document.frames.iter().map(|f| document::Place { path: f.path.clone(), deep: false }).collect()
    } else {
        document.places.clone()
    };
    let id = shoot_of(&app, &places, Some(&document.name)).await?;
    app.frames.scan(id).await?;
    let set = Set::Shoot(id);
    let all = app.frames.all(set).await?;
    let ids: HashMap<PathBuf, i64> = all.iter().map(|f| (f.path.clone(), f.id)).collect();
    let mut missing = 0;
    let mut marks = HashMap::new();
    let paths: Vec<PathBuf> = document.frames.iter().map(|entry| entry.path.clone()).collect();
    let real = tokio::task::spawn_blocking(move || {
        paths.into_iter().map(|path| path.canonicalize().unwrap_or(path)).collect::<Vec<_>>()
    });
    for (i, real) in real.await?.iter().enumerate() {
        match (ids.get(real), document.marks(i)) {
            (Some(id), Some(m)) => drop(marks.insert(*id, m)),
            _ => missing += 1,
        }
    }
    let taken = app.frames.take_over(set, &marks).await.map_err(Error::bad)?;
    let mut shoot = app.store.shoot(id).await?;
    shoot.sorted = serde_json::to_string(&document.order).unwrap_or_default();
    app.store.set_shoot(&shoot).await?;
    lay(&app, id).await?;
    Ok(Json(json!({"shoot": id, "frames": marks.len(), "changed": taken, "missing": missing})))
}
