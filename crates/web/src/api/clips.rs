//! Clips: results played in the page, with a stand-in where no browser plays the codec; clips as a source of frames.

use super::answer::{Image, about, file as answers_file};
use crate::App;
use crate::error::{Error, Result};
use crate::request::{ItemPath, Path, Query, Sent};
use aide::axum::ApiRouter;
use aide::axum::routing::get_with;
use axum::Json;
use axum::body::Body;
use axum::extract::{Request, State};
use axum::response::Response;
use rallo_job::ItemKey;
use rallo_job::prelude::*;
use rallo_media::content_hash;
use rallo_media::video::{self, ClipFacts};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::path::{Path as FilePath, PathBuf};
use tower_http::services::ServeFile;

pub fn routes() -> ApiRouter<App> {
    ApiRouter::new()
        .api_route(
            "/api/runs/{id}/items/{position}/file/{n}",
            get_with(file, answers_file("A file it wrote, or a range of it", "*/*")),
        )
        .api_route(
            "/api/runs/{id}/items/{position}/proxy",
            get_with(proxy, answers_file("A clip for browsers, of one they do not play", "video/webm")),
        )
        .api_route("/api/runs/{id}/items/{position}/still", get_with(still, about("A clip's first frame")))
        .api_route(
            "/api/clip",
            get_with(look, about("What is known about a clip"))
                .post_with(take_out, about("Take its frames out into a folder")),
        )
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

/// A file that a run wrote.
#[derive(Deserialize, JsonSchema)]
struct WrittenPath {
    /// The run's number.
    #[schemars(range(min = 1))]
    id: i64,
    /// Place in the run, from 0.
    #[schemars(range(min = 0))]
    position: i64,
    /// Which of the files made of that picture, from 0.
    n: usize,
}

/// A result as it was written.
async fn file(
    State(app): State<App>,
    Path(WrittenPath { id, position, n }): Path<WrittenPath>,
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
    Path(ItemPath { id, position }): Path<ItemPath>,
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
async fn still(State(app): State<App>, Path(ItemPath { id, position }): Path<ItemPath>) -> Result<Image> {
    let path = written(&app, id, position, 0).await?;
    let bytes = tokio::task::spawn_blocking(move || video::still(&path)).await??;
    Ok(Image::jpeg(bytes))
}

/// A file of this machine.
#[derive(Deserialize, JsonSchema)]
struct Of {
    /// Its path.
    path: PathBuf,
}

/// What is known about a clip that may become a source.
async fn look(State(app): State<App>, Query(of): Query<Of>) -> Result<Json<ClipFacts>> {
    let path = app.roots.existing(&of.path)?;
    let facts = tokio::task::spawn_blocking(move || video::probe(&path)).await??;
    Ok(Json(facts))
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

/// Frames that were taken out.
#[derive(Serialize, JsonSchema)]
struct TakenOut {
    /// The folder they lie in.
    folder: PathBuf,
    /// How many.
    frames: usize,
}

/// Takes the frames out into a folder beside the clip, as PNG; the folder.
async fn take_out(State(app): State<App>, Sent(asked): Sent<TakeOut>) -> Result<Json<TakenOut>> {
    let path = app.roots.existing(&asked.path)?;
    let folder = video::frames_folder(&path);
    app.roots.future(&folder)?;
    let every = asked.every.unwrap_or(1);
    let to = folder.clone();
    let count = tokio::task::spawn_blocking(move || video::take_out(&path, &to, every)).await??;
    Ok(Json(TakenOut { folder, frames: count }))
}
