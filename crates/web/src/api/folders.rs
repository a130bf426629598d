//! Folders, and shoots made of folders and files.

use super::answer::{Done, about, attached, file};
use crate::error::{Error, Result};
use crate::request::{Id, Path, Query, Sent};
use crate::{App, workspace};
use aide::axum::ApiRouter;
use aide::axum::routing::{get_with, post_with, put_with};
use axum::Json;
use axum::extract::State;
use axum::response::Response;
use rallo_job::ShootFolder;
use rallo_job::prelude::*;
use rallo_media::has_picture_ending;
use rallo_media::video::has_clip_ending;
use rallo_runner::Set;
use rallo_runner::library::scan::common_folder;
use rallo_shoot::{Document, document, natural_key};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::path::{Path as FilePath, PathBuf};

pub fn routes() -> ApiRouter<App> {
    ApiRouter::new()
        .api_route(
            "/api/folders",
            get_with(folders, about("Folders that may be used, or those inside ?path="))
                .post_with(make_folder, about("Make a folder")),
        )
        .api_route(
            "/api/shoots",
            get_with(shoots, about("Shoots"))
                .post_with(open, about("Open folders and files as a shoot, or one that is known")),
        )
        .api_route(
            "/api/dropped",
            post_with(dropped, about("Find files on this machine by name, size and time")),
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

/// A folder; without one the folders that may be used.
#[derive(Deserialize, JsonSchema)]
struct At {
    /// Its path.
    path: Option<PathBuf>,
}

/// Files that look like pictures, by their ending.
fn pictures(folder: &FilePath) -> usize {
    std::fs::read_dir(folder)
        .map_or(0, |entries| entries.flatten().filter(|e| has_picture_ending(&e.path())).count())
}

fn name_of(path: &FilePath) -> String {
    path.file_name().map_or_else(|| path.display().to_string(), |n| n.to_string_lossy().into_owned())
}

/// Most files of a folder that are listed one by one.
const LISTED: usize = 2000;

/// What lies in a folder.
#[derive(Default, Serialize, JsonSchema)]
struct Listing {
    /// The folder; nothing where these are the folders that may be used.
    path: Option<PathBuf>,
    /// Its name, as short as it can be.
    name: Option<String>,
    /// The folder it lies in, where that may be used.
    parent: Option<PathBuf>,
    /// Pictures in it.
    pictures: usize,
    /// Folders in it.
    folders: Vec<FolderEntry>,
    /// The first pictures in it.
    files: Vec<FileEntry>,
    /// Clips in it.
    clips: Vec<FileEntry>,
}

/// A folder in it.
#[derive(Serialize, JsonSchema)]
struct FolderEntry {
    /// Its name.
    name: String,
    /// Its path.
    path: PathBuf,
    /// Pictures in it.
    pictures: usize,
}

/// A file in it.
#[derive(Serialize, JsonSchema)]
struct FileEntry {
    /// Its path.
    path: PathBuf,
    /// Its name.
    name: String,
}

/// What lies in a folder: sub-folders with how many pictures each has, and the pictures.
async fn folders(State(app): State<App>, Query(at): Query<At>) -> Result<Json<Listing>> {
    tokio::task::spawn_blocking(move || listing(&app, at.path)).await?.map(Json)
}

fn listing(app: &App, path: Option<PathBuf>) -> Result<Listing> {
    let Some(path) = path else {
        let entry = |r: &PathBuf| FolderEntry { name: name_of(r), path: r.clone(), pictures: pictures(r) };
        return Ok(Listing {
            folders: app.roots.folders().iter().map(entry).collect(),
            ..Listing::default()
        });
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
    for names in [&mut inside, &mut files, &mut clips] {
        names.sort_by_cached_key(|n| natural_key(n));
    }
    let folder = |name: String| {
        let path = path.join(&name);
        FolderEntry { name, pictures: pictures(&path), path }
    };
    let count = files.len();
    files.truncate(LISTED);
    let file = |name: String| FileEntry { path: path.join(&name), name };
    Ok(Listing {
        name: Some(app.roots.short(&path)),
        parent: path.parent().filter(|p| app.roots.existing(p).is_ok()).map(FilePath::to_owned),
        pictures: count,
        folders: inside.into_iter().map(folder).collect(),
        files: files.into_iter().map(file).collect(),
        clips: clips.into_iter().map(file).collect(),
        path: Some(path),
    })
}

/// A folder to be made.
#[derive(Deserialize, JsonSchema)]
pub struct NewFolder {
    /// Where it is made.
    parent: PathBuf,
    /// What it is called.
    name: String,
}

/// A folder that was made.
#[derive(Serialize, JsonSchema)]
struct FolderMade {
    /// Its path.
    path: PathBuf,
}

/// Makes a folder for results or copies.
async fn make_folder(State(app): State<App>, Sent(new): Sent<NewFolder>) -> Result<Json<FolderMade>> {
    let parent = app.roots.existing(&new.parent)?;
    let name = rallo_recipe::names::safe(&new.name);
    let path = parent.join(&name);
    app.roots.future(&path)?;
    tokio::fs::create_dir(&path).await.map_err(|e| Error::bad(format!("{name} cannot be made: {e}")))?;
    Ok(Json(FolderMade { path }))
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
}

/// The shoot that lies on the desk now.
#[derive(Serialize, JsonSchema)]
struct Opened {
    /// Its number.
    shoot: i64,
}

/// Makes folders and files the shoot on the desk and starts scanning them.
async fn open(State(app): State<App>, Sent(open): Sent<OpenShoot>) -> Result<Json<Opened>> {
    let id = match open.shoot {
        Some(id) => app.store.shoot(id).await?.id,
        None => shoot_of(&app, &open.places, None).await?,
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

/// What a browser tells of a file that was dropped on the page.
#[derive(Deserialize, JsonSchema)]
pub struct Dropped {
    /// Its name.
    name: String,
    /// Its bytes.
    size: u64,
    /// Milliseconds since 1970.
    modified: i64,
}

/// Where dropped files lie.
#[derive(Serialize, JsonSchema)]
struct Found {
    /// Files that were found.
    places: Vec<FoundPlace>,
    /// Names of those that were not.
    missing: Vec<String>,
}

/// A file that was found.
#[derive(Serialize, JsonSchema)]
struct FoundPlace {
    /// Its path.
    path: PathBuf,
}

/// Most files that are looked through for dropped ones.
const LOOKED_THROUGH: usize = 500_000;

/// Finds dropped files by name, size and time in the allowed folders: a browser does not tell where they lie.
async fn dropped(State(app): State<App>, Sent(files): Sent<Vec<Dropped>>) -> Result<Json<Found>> {
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
                } else if let (true, Some(found_entries), Ok(meta)) =
                    (kind.is_file(), wanted.get(&name), entry.metadata())
                {
                    let time =
                        meta.modified().ok().and_then(|t| t.duration_since(std::time::UNIX_EPOCH).ok());
                    let millis = time.map_or(0, |t| t.as_millis() as i64);
                    if found_entries
                        .iter()
                        .any(|f| f.size == meta.len() && (f.modified - millis).abs() <= 1000)
                    {
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
    let places = found.into_values().map(|path| FoundPlace { path }).collect();
    Ok(Json(Found { places, missing }))
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
    let document = Document::parse(&text, &root).map_err(Error::bad)?;
    let places = if document.places.is_empty() {
        document.frames.iter().map(|f| document::Place { path: f.path.clone(), deep: false }).collect()
    } else {
        document.places.clone()
    };
    let id = shoot_of(&app, &places, Some(&document.name)).await?;
    app.frames.scan(id).await?;
    let set = Set::Shoot(id);
    let frames = app.frames.all(set).await?;
    let ids: HashMap<PathBuf, i64> = frames.iter().map(|f| (f.path.clone(), f.id)).collect();
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
    Ok(Json(Loaded { shoot: id, frames: marks.len(), changed: taken, missing }))
}
