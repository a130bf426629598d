//! Shoots: made of folders, files or a document, laid on the desk, changed and kept as a document.

use super::answer::{Done, about, attached, file};
use super::folders::name_of;
use super::sequence;
use crate::error::{Error, Result};
use crate::request::{Id, Path, Sent};
use crate::{App, workspace};
use aide::axum::ApiRouter;
use aide::axum::routing::{get_with, post_with, put_with};
use axum::Json;
use axum::extract::State;
use axum::response::Response;
use rallo_job::ShootFolder;
use rallo_job::prelude::*;
use rallo_runner::Set;
use rallo_runner::library::openable::DOCUMENT_ENDING;
use rallo_runner::library::scan::common_folder;
use rallo_shoot::{Document, document};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::{HashMap, HashSet};
use std::path::{Path as FilePath, PathBuf};

pub fn routes() -> ApiRouter<App> {
    ApiRouter::new()
        .api_route(
            "/api/shoots",
            get_with(shoots, about("Shoots"))
                .post_with(open, about("Open folders and files as a shoot, or one that is known")),
        )
        .api_route("/api/shoots/{id}", put_with(change, about("Name, following, results of a shoot")))
        .api_route("/api/shoots/{id}/scan", post_with(scan, about("Look through a shoot's folders again")))
        .api_route(
            "/api/shoots/{id}/left-out",
            get_with(left_out, about("Files that were left out, with reasons")),
        )
        .api_route(
            "/api/shoot-file",
            get_with(save_file, file("The shoot on the desk as a document", "application/json"))
                .post_with(load_file, about("Take over a shoot document")),
        )
}

/// A shoot.
#[derive(Serialize, JsonSchema)]
struct ShootEntry {
    /// Its number.
    id: i64,
    /// What it is called.
    name: String,
    /// The folder its frames have in common.
    base: String,
}

async fn shoots(State(app): State<App>) -> Result<Json<Vec<ShootEntry>>> {
    let shoots = app.store.shoots().await?.into_iter();
    Ok(Json(shoots.map(|s| ShootEntry { id: s.id, name: s.name, base: s.base }).collect()))
}

/// What is to be opened.
#[derive(Deserialize, JsonSchema)]
struct OpenShoot {
    /// Folders and files.
    #[serde(default)]
    places: Vec<document::Place>,
    /// Or a shoot that is known already, by its number.
    shoot: Option<i64>,
    /// Or a shoot's document in an allowed folder, by its path.
    document: Option<PathBuf>,
}

/// The shoot that lies on the desk now.
#[derive(Serialize, JsonSchema)]
struct Opened {
    /// Its number.
    shoot: i64,
}

/// Makes folders and files the shoot on the desk and starts scanning them.
async fn open(State(app): State<App>, Sent(open): Sent<OpenShoot>) -> Result<Json<Opened>> {
    let id = match (open.shoot, open.document) {
        (Some(id), _) => app.store.shoot(id).await?.id,
        (None, Some(file)) => {
            let file = app.roots.existing(&file)?;
            let text = tokio::fs::read_to_string(&file)
                .await
                .map_err(|e| Error::bad(format!("{} cannot be read: {e}", file.display())))?;
            let near = file.parent().unwrap_or(FilePath::new("/"));
            return Ok(Json(Opened {
                shoot: taken_over(&app, Document::parse(&text, near).map_err(Error::bad)?).await?.shoot,
            }));
        }
        (None, None) => shoot_of(&app, &open.places, None).await?,
    };
    lay(&app, id).await?;
    Ok(Json(Opened { shoot: id }))
}

async fn shoot_of(app: &App, places: &[document::Place], name: Option<&str>) -> Result<i64> {
    if places.is_empty() {
        return Err(Error::bad("choose at least one folder or picture"));
    }
    let mut folders = Vec::new();
    let mut paths = Vec::new();
    for place in places {
        let path = app.roots.existing(&place.path)?;
        folders.push(ShootFolder { path: path.to_string_lossy().into_owned(), deep: place.deep });
        paths.push(path);
    }
    let base = common_folder(&paths);
    let called = match (name, paths.as_slice()) {
        (Some(name), _) => name.to_owned(),
        (None, [one]) => name_of(one),
        (None, [first, rest @ ..]) => format!("{} and {} more", name_of(first), rest.len()),
        (None, []) => String::new(),
    };
    Ok(app.store.shoot_of(&called, &base.to_string_lossy(), &folders).await?.id)
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

async fn scan(State(app): State<App>, Path(Id { id }): Path<Id>) -> Result<Json<Done>> {
    app.store.shoot(id).await?;
    scan_soon(&app, id);
    Ok(Json(Done {}))
}

/// What is to be changed of a shoot.
#[derive(Deserialize, JsonSchema)]
pub struct ChangeShoot {
    /// What it is called.
    name: Option<String>,
    /// Whether its folders are followed, so that new frames come by themselves.
    follow: Option<bool>,
    /// Whether results of runs are taken in.
    results: Option<bool>,
}

/// How a shoot is kept.
#[derive(Serialize, JsonSchema)]
struct ShootKept {
    /// What it is called.
    name: String,
    /// Whether its folders are followed.
    follow: bool,
    /// Whether results of runs are taken in.
    results: bool,
}

/// Renames a shoot, follows its folders live or not, takes results in or not.
async fn change(
    State(app): State<App>,
    Path(Id { id }): Path<Id>,
    Sent(change): Sent<ChangeShoot>,
) -> Result<Json<ShootKept>> {
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
    Ok(Json(ShootKept { name: shoot.name, follow: shoot.follow, results: shoot.results }))
}

/// A file that was left out of a shoot.
#[derive(Serialize, JsonSchema)]
struct LeftOutEntry {
    /// Its path within the shoot's folder.
    name: PathBuf,
    /// Why.
    reason: String,
}

async fn left_out(State(app): State<App>, Path(Id { id }): Path<Id>) -> Result<Json<Vec<LeftOutEntry>>> {
    let base = PathBuf::from(app.store.shoot(id).await?.base);
    let entry = |l: rallo_runner::library::scan::LeftOut| LeftOutEntry {
        name: l.path.strip_prefix(&base).unwrap_or(&l.path).to_owned(),
        reason: l.reason,
    };
    Ok(Json(app.frames.left_out(id).into_iter().map(entry).collect()))
}

/// The shoot as a document, to be kept by the browser.
async fn save_file(State(app): State<App>) -> Result<Response> {
    let laid = workspace::laid(&app).await?;
    let Some(shoot) = &laid.shoot else { return Err(Error::bad("there is no shoot to save")) };
    let places = app.store.folders_of_shoot(shoot.id).await?;
    let places: Vec<document::Place> =
        places.into_iter().map(|p| document::Place { path: p.path.into(), deep: p.deep }).collect();
    let frames: Vec<_> = laid.ordered().collect();
    let mut document = Document::new(&laid.name, &places, laid.sorted, &frames, FilePath::new(""));
    let (settings, aside) = sequence::for_document(&app, Set::Shoot(shoot.id)).await?;
    let aside: HashSet<i64> = aside.into_iter().collect();
    for (entry, frame) in document.frames.iter_mut().zip(&frames) {
        entry.by_sieve = aside.contains(&frame.id);
    }
    document.sequence = settings;
    let text = serde_json::to_string_pretty(&document).map_err(Error::bad)?;
    let name = rallo_recipe::names::safe(&laid.name);
    Ok(attached(text, "application/json", &format!("{name}{DOCUMENT_ENDING}")))
}

/// What came of a shoot document.
#[derive(Serialize, JsonSchema)]
struct Loaded {
    /// The shoot's number.
    shoot: i64,
    /// Frames it decides about that are there.
    frames: usize,
    /// Frames that were changed by it.
    changed: usize,
    /// Frames it names that are not there.
    missing: usize,
}

/// Takes a shoot document: the shoot is made, scanned, and what the document decided is taken over.
async fn load_file(State(app): State<App>, text: String) -> Result<Json<Loaded>> {
    let root = app.roots.folders().first().cloned().unwrap_or_default();
    taken_over(&app, Document::parse(&text, &root).map_err(Error::bad)?).await.map(Json)
}

/// Makes the shoot of a document, takes over what it decides, and lays it on the desk.
async fn taken_over(app: &App, document: Document) -> Result<Loaded> {
    let places = if document.places.is_empty() {
        document.frames.iter().map(|f| document::Place { path: f.path.clone(), deep: false }).collect()
    } else {
        document.places.clone()
    };
    let id = shoot_of(app, &places, Some(&document.name)).await?;
    let mut shoot = app.store.shoot(id).await?;
    shoot.sorted = serde_json::to_string(&document.order).unwrap_or_default();
    app.store.set_shoot(&shoot).await?;
    let set = Set::Shoot(id);
    if document.frames.is_empty() {
        sequence::from_document(app, set, document.sequence, Vec::new()).await?;
        // It decides about no frame; they are looked for while the page is seen already.
        lay(app, id).await?;
        return Ok(Loaded { shoot: id, frames: 0, changed: 0, missing: 0 });
    }
    app.frames.scan(id).await?;
    let frames = app.frames.all(set).await?;
    let ids: HashMap<PathBuf, i64> = frames.iter().map(|f| (f.path.clone(), f.id)).collect();
    let mut missing = 0;
    let mut marks = HashMap::new();
    let paths: Vec<PathBuf> = document.frames.iter().map(|entry| entry.path.clone()).collect();
    let real = tokio::task::spawn_blocking(move || {
        paths.into_iter().map(|path| path.canonicalize().unwrap_or(path)).collect::<Vec<_>>()
    });
    let mut aside = Vec::new();
    for (i, real) in real.await?.iter().enumerate() {
        match (ids.get(real), document.marks(i)) {
            (Some(id), Some(m)) => drop(marks.insert(*id, m)),
            _ => missing += 1,
        }
        aside.extend(ids.get(real).filter(|_| document.frames[i].by_sieve));
    }
    sequence::from_document(app, set, document.sequence, aside).await?;
    let taken = app.frames.take_over(set, &marks).await.map_err(Error::bad)?;
    lay(app, id).await?;
    Ok(Loaded { shoot: id, frames: marks.len(), changed: taken, missing })
}
