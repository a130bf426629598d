//! Folders, shoots, frames, thumbnails.

use super::image;
use crate::error::{Error, Result};
use crate::{App, desk};
use axum::extract::{Path, Query, State};
use axum::response::Response;
use axum::routing::{get, post, put};
use axum::{Json, Router};
use rallo_engine::{OutputProfile, Plan, Source};
use rallo_media::{Chroma, Encoding, Extras, FileSource, content_hash, has_picture_ending};
use rallo_runner::shoot;
use rallo_store::Frame;
use serde::Deserialize;
use serde_json::{Value, json};
use std::path::{Path as FilePath, PathBuf};

pub fn routes() -> Router<App> {
    Router::new()
        .route("/api/folders", get(folders))
        .route("/api/shoots", post(open))
        .route("/api/shoots/{id}/frames", get(frames))
        .route("/api/frames/{id}/thumb", get(thumb))
        .route("/api/desk", put(set_desk))
}

#[derive(Deserialize)]
struct At {
    path: Option<PathBuf>,
}

/// What lies in a folder: sub-folders, and how many pictures each has.
async fn folders(State(app): State<App>, Query(at): Query<At>) -> Result<Json<Value>> {
    let Some(path) = at.path else {
        let all: Vec<Value> = app
            .roots
            .folders()
            .iter()
            .map(|r| json!({"name": r.display().to_string(), "path": r, "pictures": pictures(r)}))
            .collect();
        return Ok(Json(json!({"path": null, "parent": null, "pictures": 0, "folders": all})));
    };
    let path = app.roots.existing(&path)?;
    let entries = std::fs::read_dir(&path)
        .map_err(|e| Error::bad(format!("{} cannot be opened: {e}", path.display())))?;
    let mut names: Vec<String> = entries
        .flatten()
        .filter(|e| e.file_type().is_ok_and(|t| t.is_dir()))
        .map(|e| e.file_name().to_string_lossy().into_owned())
        .filter(|n| !n.starts_with('.'))
        .collect();
    names.sort_by(|a, b| shoot::natural(a, b));
    let all: Vec<Value> = names
        .into_iter()
        .map(|name| {
            let path = path.join(&name);
            json!({"name": name, "pictures": pictures(&path), "path": path})
        })
        .collect();
    let parent = path.parent().filter(|p| app.roots.existing(p).is_ok());
    Ok(Json(json!({"path": path, "parent": parent, "pictures": pictures(&path), "folders": all})))
}

/// Files that look like pictures, by their ending.
fn pictures(folder: &FilePath) -> usize {
    std::fs::read_dir(folder).map_or(0, |all| all.flatten().filter(|e| has_picture_ending(&e.path())).count())
}

#[derive(Deserialize)]
struct Open {
    folder: PathBuf,
    #[serde(default)]
    recursive: bool,
}

/// Makes a folder the shoot and starts scanning it.
async fn open(State(app): State<App>, Json(open): Json<Open>) -> Result<Json<Value>> {
    let folder = app.roots.existing(&open.folder)?;
    if !folder.is_dir() {
        return Err(Error::bad(format!("{} is not a folder", folder.display())));
    }
    let name = folder.file_name().map_or("pictures".into(), |n| n.to_string_lossy().into_owned());
    let row = app.store.shoot_of(&folder.to_string_lossy(), &name, open.recursive).await?;
    let mut desk = desk::load(&app).await?;
    desk = desk::Desk { shoot: Some(row.id), recipe: desk.recipe, frame: None, selection: Vec::new() };
    desk::save(&app, &desk).await?;
    let first = app.scanning.lock().unwrap_or_else(|p| p.into_inner()).insert(row.id);
    if first {
        let app = app.clone();
        tokio::spawn(async move {
            if let Err(e) = scan(&app, row.id, folder, open.recursive).await {
                tracing::error!("scan: {}", e.1);
            }
            app.scanning.lock().unwrap_or_else(|p| p.into_inner()).remove(&row.id);
        });
    }
    Ok(Json(json!({"shoot": row.id})))
}

/// Reads the folder; frames already known and unchanged are kept as they are, vanished ones forgotten.
async fn scan(app: &App, shoot_id: i64, folder: PathBuf, recursive: bool) -> Result<()> {
    let found = tokio::task::spawn_blocking(move || shoot::scan(&folder, recursive))
        .await?
        .map_err(|e| Error::bad(format!("the folder cannot be read: {e}")))?;
    let known = app.store.frames(shoot_id).await?;
    let gone: Vec<i64> = known
        .iter()
        .filter(|k| !found.iter().any(|f| f.path.as_os_str() == k.path.as_str()))
        .map(|k| k.id)
        .collect();
    app.store.forget_frames(&gone).await?;
    let known: std::collections::HashMap<&str, &Frame> = known.iter().map(|f| (f.path.as_str(), f)).collect();
    for file in found {
        let path = file.path.to_string_lossy().into_owned();
        if known
            .get(path.as_str())
            .is_some_and(|k| k.bytes == file.bytes as i64 && k.modified == file.modified)
        {
            continue;
        }
        let at = file.path.clone();
        let facts = tokio::task::spawn_blocking(move || shoot::facts(&at)).await?;
        let (facts, problem) = match facts {
            Ok(facts) => (serde_json::to_string(&facts).ok(), None),
            Err(e) => (None, Some(e.to_string())),
        };
        let name = file.path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
        app.store
            .put_frame(&Frame {
                id: 0,
                shoot_id,
                path,
                name,
                bytes: file.bytes as i64,
                modified: file.modified,
                facts,
                problem,
            })
            .await?;
    }
    Ok(app.store.scanned(shoot_id, &rallo_runner::now()).await?)
}

/// A shoot's frames in natural order.
async fn frames(State(app): State<App>, Path(id): Path<i64>) -> Result<Json<Value>> {
    let mut all = app.store.frames(id).await?;
    all.sort_by(|a, b| shoot::natural(&a.path, &b.path));
    let frames: Vec<Value> = all
        .into_iter()
        .map(|f| {
            let facts: Value = f.facts.as_deref().and_then(|t| serde_json::from_str(t).ok()).unwrap_or_default();
            json!({"id": f.id, "name": f.name, "bytes": f.bytes, "stamp": f.modified.to_string(), "facts": facts, "problem": f.problem})
        })
        .collect();
    let scanning = app.scanning.lock().unwrap_or_else(|p| p.into_inner()).contains(&id);
    Ok(Json(json!({"scanning": scanning, "frames": frames})))
}

/// Long edge of a thumbnail.
const THUMB: f64 = 400.0;

/// A reduced picture, made by the engine as any other render.
pub fn small(source: &FileSource, long_edge: f64) -> Result<Vec<u8>> {
    let size = source.size();
    let plan = Plan::new(Vec::new(), size).map_err(Error::bad)?;
    let program = plan.program((long_edge / f64::from(size.long_edge())).min(1.0));
    let picture = program.render(source, program.size().rect(), OutputProfile::Srgb).map_err(Error::bad)?;
    let encoding = Encoding::Jpeg { quality: 85, chroma: Chroma::Quarter, progressive: false };
    Ok(rallo_media::encode(&picture, encoding, &Extras::default())?)
}

/// A thumbnail, kept on disk under the file's path, size and time.
pub async fn cached_thumb(app: &App, path: PathBuf, key: String) -> Result<Response> {
    let file = app.thumbs.join(format!("{}.jpg", content_hash(key.as_bytes())));
    let bytes = tokio::task::spawn_blocking(move || -> Result<Vec<u8>> {
        if let Ok(bytes) = std::fs::read(&file) {
            return Ok(bytes);
        }
        let bytes = small(&FileSource::open(&path)?, THUMB)?;
        // A cache that cannot be written is no reason to show nothing.
        let part = file.with_extension(format!("{}.part", std::process::id()));
        let _ = std::fs::write(&part, &bytes).and_then(|()| std::fs::rename(&part, &file));
        Ok(bytes)
    })
    .await??;
    Ok(image(bytes, "image/jpeg", true))
}

async fn thumb(State(app): State<App>, Path(id): Path<i64>) -> Result<Response> {
    let frame = app.store.frame(id).await?;
    let key = format!("{}|{}|{}", frame.path, frame.bytes, frame.modified);
    let path = app.roots.existing(FilePath::new(&frame.path))?;
    cached_thumb(&app, path, key).await
}

/// Changes what lies on the desk; what is not named stays.
async fn set_desk(State(app): State<App>, Json(change): Json<Value>) -> Result<Json<Value>> {
    let mut now = serde_json::to_value(desk::load(&app).await?).unwrap_or_default();
    for (key, value) in change.as_object().into_iter().flatten() {
        now[key] = value.clone();
    }
    let desk: desk::Desk = serde_json::from_value(now).map_err(Error::bad)?;
    desk::save(&app, &desk).await?;
    Ok(Json(json!({"chosen": desk::laid(&app).await?.chosen().len()})))
}
