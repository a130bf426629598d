//! Clips: results played in the page, with a stand-in where no browser plays the codec; clips as a source of frames.

use super::image;
use crate::App;
use crate::error::{Error, Result, Sent};
use axum::body::Body;
use axum::extract::{Path, Query, Request, State};
use axum::response::Response;
use axum::routing::get;
use axum::{Json, Router};
use rallo_job::ItemKey;
use rallo_job::prelude::*;
use rallo_media::{content_hash, video};
use schemars::JsonSchema;
use serde::Deserialize;
use serde_json::{Value, json};
use std::path::{Path as FilePath, PathBuf};
use tower_http::services::ServeFile;

pub fn routes() -> Router<App> {
    Router::new()
        .route("/api/runs/{id}/items/{position}/file/{n}", get(file))
        .route("/api/runs/{id}/items/{position}/proxy", get(proxy))
        .route("/api/runs/{id}/items/{position}/still", get(still))
        .route("/api/clip", get(look).post(take_out))
}

async fn written(app: &App, id: i64, position: i64, n: usize) -> Result<PathBuf> {
    let item = app.store.item(ItemKey { run: id, position }).await?;
    let output = item.outputs.clone().into_iter().nth(n);
    let output = output.ok_or_else(|| Error::bad("there is no such result"))?;
    Ok(app.roots.existing(&output.path)?)
}

/// A file, or the range of it that is asked for (RFC 9110, 14).
async fn served(path: &FilePath, request: Request) -> Result<Response> {
    let answer = ServeFile::new(path).try_call(request).await.map_err(Error::bad)?;
    Ok(answer.map(Body::new))
}

/// A result as it was written.
async fn file(
    State(app): State<App>,
    Path((id, position, n)): Path<(i64, i64, usize)>,
    request: Request,
) -> Result<Response> {
    served(&written(&app, id, position, n).await?, request).await
}

/// Where something made of a file is kept; another file of that name has another place.
fn kept(app: &App, path: &FilePath, ending: &str) -> PathBuf {
    let about = path.metadata().ok();
    let time = about.as_ref().and_then(|m| m.modified().ok());
    let key = format!("{}|{:?}|{time:?}", path.display(), about.map(|m| m.len()));
    app.thumbs.join(format!("{}.{ending}", content_hash(key.as_bytes())))
}

/// A clip that browsers play, made once of one they do not.
async fn proxy(
    State(app): State<App>,
    Path((id, position)): Path<(i64, i64)>,
    request: Request,
) -> Result<Response> {
    let path = written(&app, id, position, 0).await?;
    let to = kept(&app, &path, "webm");
    // One at a time: a player asks for several ranges at once, and all of them want the same file.
    static MAKING: tokio::sync::Mutex<()> = tokio::sync::Mutex::const_new(());
    let making = MAKING.lock().await;
    let made = to.clone();
    tokio::task::spawn_blocking(move || -> Result<()> {
        if made.exists() {
            return Ok(());
        }
        let folder = made.parent().ok_or_else(|| Error::bad("the cache has no folder"))?;
        let part = tempfile::NamedTempFile::new_in(folder).map_err(Error::bad)?.into_temp_path();
        video::proxy(&path, &part)?;
        part.persist(&made).map_err(Error::bad)
    })
    .await??;
    drop(making);
    served(&to, request).await
}

/// A clip's first frame.
async fn still(State(app): State<App>, Path((id, position)): Path<(i64, i64)>) -> Result<Response> {
    let path = written(&app, id, position, 0).await?;
    let bytes = tokio::task::spawn_blocking(move || video::still(&path)).await??;
    Ok(image(bytes, "image/jpeg", false))
}

#[derive(Deserialize)]
struct Of {
    path: PathBuf,
}

/// What is known about a clip that may become a source.
async fn look(State(app): State<App>, Query(of): Query<Of>) -> Result<Json<Value>> {
    let path = app.roots.existing(&of.path)?;
    let facts = tokio::task::spawn_blocking(move || video::probe(&path)).await??;
    Ok(Json(json!(facts)))
}

/// Frames of a clip, to be taken out.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct TakeOut {
    /// The clip.
    path: PathBuf,
    /// Only every `every`-th frame.
    #[serde(default)]
    every: Option<u32>,
}

/// Takes the frames out into a folder beside the clip, as PNG; the folder.
async fn take_out(State(app): State<App>, Sent(asked): Sent<TakeOut>) -> Result<Json<Value>> {
    let path = app.roots.existing(&asked.path)?;
    let folder = video::frames_folder(&path);
    app.roots.future(&folder)?;
    let every = asked.every.unwrap_or(1);
    let to = folder.clone();
    let count = tokio::task::spawn_blocking(move || video::take_out(&path, &to, every)).await??;
    Ok(Json(json!({"folder": folder, "frames": count})))
}
