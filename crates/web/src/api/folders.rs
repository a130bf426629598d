//! Folders the program may use: what lies in them, and files that were dropped on a page.

use super::answer::{Image, about, file};
use super::frames::cached_thumb;
use crate::App;
use crate::error::{Error, Result};
use crate::request::{Query, Sent};
use aide::axum::ApiRouter;
use aide::axum::routing::{get_with, post_with};
use axum::Json;
use axum::extract::State;
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use rallo_engine::RESULTS;
use rallo_media::has_picture_ending;
use rallo_media::video::has_clip_ending;
use rallo_shoot::natural_key;
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
            "/api/folders/picture",
            get_with(picture, file("A small picture of a file in an allowed folder", "image/jpeg")),
        )
        .api_route(
            "/api/dropped",
            post_with(dropped, about("Find files on this machine by name, size and time")),
        )
}

/// A folder; without one the folders that may be used.
#[derive(Deserialize, JsonSchema)]
struct At {
    /// Its path.
    path: Option<PathBuf>,
}

pub(super) fn name_of(path: &FilePath) -> String {
    path.file_name().map_or_else(|| path.display().to_string(), |n| n.to_string_lossy().into_owned())
}

/// Most files of a folder that are listed one by one.
const LISTED: usize = 2000;

/// What lies in a folder.
#[derive(Default, Serialize, JsonSchema)]
pub(crate) struct Listing {
    /// The folder; nothing where these are the folders that may be used.
    pub(crate) path: Option<PathBuf>,
    /// Its name, as short as it can be.
    pub(crate) name: Option<String>,
    /// The folder it lies in, where that may be used.
    pub(crate) parent: Option<PathBuf>,
    /// Pictures in it.
    pub(crate) pictures: usize,
    /// Folders in it.
    pub(crate) folders: Vec<FolderEntry>,
    /// The first pictures in it.
    pub(crate) files: Vec<FileEntry>,
    /// Clips in it.
    pub(crate) clips: Vec<FileEntry>,
}

/// A folder in it.
#[derive(Serialize, JsonSchema)]
pub(crate) struct FolderEntry {
    /// Its name.
    pub(crate) name: String,
    /// Its path.
    pub(crate) path: PathBuf,
    /// Pictures in it.
    pub(crate) pictures: usize,
    /// A few of them, evenly spread.
    pub(crate) samples: Vec<PathBuf>,
    /// When something in it was last added or removed (RFC 3339).
    pub(crate) changed: Option<String>,
}

/// Pictures of a folder that are named as samples.
const SAMPLES: usize = 4;

impl FolderEntry {
    fn new(name: String, path: PathBuf) -> Self {
        let entries = std::fs::read_dir(&path).into_iter().flatten().flatten();
        let mut pictures: Vec<PathBuf> =
            entries.map(|e| e.path()).filter(|p| has_picture_ending(p)).collect();
        pictures.sort_by_cached_key(|p| natural_key(&p.to_string_lossy()));
        let count = pictures.len();
        let few = SAMPLES.min(count);
        let samples = (0..few).map(|i| pictures[i * count / few].clone()).collect();
        let changed = path.metadata().and_then(|m| m.modified()).ok();
        let changed = changed.and_then(|t| jiff::Timestamp::try_from(t).ok()).map(|t| t.to_string());
        Self { name, pictures: count, samples, changed, path }
    }
}

/// A file in it.
#[derive(Serialize, JsonSchema)]
pub(crate) struct FileEntry {
    /// Its path.
    pub(crate) path: PathBuf,
    /// Its name.
    pub(crate) name: String,
}

/// What lies in a folder: sub-folders with how many pictures each has, and the pictures.
async fn folders(State(app): State<App>, Query(at): Query<At>) -> Result<Json<Listing>> {
    tokio::task::spawn_blocking(move || listing(&app, at.path)).await?.map(Json)
}

pub(crate) fn listing(app: &App, path: Option<PathBuf>) -> Result<Listing> {
    let Some(path) = path else {
        let entry = |r: &PathBuf| FolderEntry::new(name_of(r), r.clone());
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
        let inside = path.join(&name);
        FolderEntry::new(name, inside)
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

/// A picture in an allowed folder.
#[derive(Deserialize, JsonSchema)]
struct PictureAt {
    /// Its path.
    path: PathBuf,
}

/// Where the small picture of a file is asked for.
pub(crate) fn picture_address(path: &FilePath) -> String {
    let path = path.to_string_lossy();
    format!("/api/folders/picture?path={}", utf8_percent_encode(&path, NON_ALPHANUMERIC))
}

/// Long edge of pictures of folders, in pixels.
const SMALL: u32 = 400;

/// A picture of a folder that is not opened yet, made small.
async fn picture(State(app): State<App>, Query(at): Query<PictureAt>) -> Result<Image> {
    let path = app.roots.existing(&at.path)?;
    let about = tokio::fs::metadata(&path).await.map_err(Error::bad)?;
    if !about.is_file() {
        return Err(Error::bad(format!("{} is not a file", path.display())));
    }
    let key = format!("{}|{}|{:?}|{RESULTS}", path.display(), about.len(), about.modified().ok());
    cached_thumb(&app, path, key, SMALL).await
}
