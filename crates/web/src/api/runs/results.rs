//! What a run made: its report, its results and their originals as pictures.

use crate::App;
use crate::api::answer::{Image, attached};
use crate::api::frames::cached_thumb;
use crate::error::{Error, Result};
use crate::request::{Id, ItemPath, Path};
use axum::Json;
use axum::extract::State;
use axum::response::Response;
use rallo_job::prelude::*;
use rallo_job::{ItemKey, ResultFile};
use rallo_runner::report;
use std::path::Path as FilePath;

pub(super) async fn report_json(State(app): State<App>, Path(Id { id }): Path<Id>) -> Result<Response> {
    let text = serde_json::to_string_pretty(&report::of(&app.store, id).await?).map_err(Error::bad)?;
    Ok(attached(text + "\n", "application/json", &format!("run-{id}.json")))
}

pub(super) async fn report_csv(State(app): State<App>, Path(Id { id }): Path<Id>) -> Result<Response> {
    let text = report::table(&report::of(&app.store, id).await?);
    Ok(attached(text, "text/csv; charset=utf-8", &format!("run-{id}.csv")))
}

pub(super) async fn told_found(
    State(app): State<App>,
    Path(Id { id }): Path<Id>,
) -> Result<Json<Vec<String>>> {
    Ok(Json(found(&app, id).await?))
}

/// What lines that look at all pictures of a run found.
pub(crate) async fn found(app: &App, id: i64) -> Result<Vec<String>> {
    let (run, items) = (app.store.run(id).await?, app.store.items(id).await?);
    // Thousands of frames are decided about.
    let found = move || report::found(&run.document, &items);
    Ok(tokio::task::spawn_blocking(found).await?)
}

/// The first file an item wrote.
pub(super) async fn output(app: &App, id: i64, position: i64) -> Result<ResultFile> {
    let item = app.store.item(ItemKey { run: id, position }).await?;
    let mut output =
        item.outputs.clone().into_iter().next().ok_or_else(|| Error::bad("this picture has no result"))?;
    output.path = app.roots.existing(&output.path)?;
    Ok(output)
}

pub(super) async fn thumb(
    State(app): State<App>,
    Path(ItemPath { id, position }): Path<ItemPath>,
) -> Result<Image> {
    let output = output(&app, id, position).await?;
    let key = format!("{}|{}|run {id}", output.path.display(), output.bytes);
    cached_thumb(&app, output.path, key, 400).await
}

pub(super) async fn result(
    State(app): State<App>,
    Path(ItemPath { id, position }): Path<ItemPath>,
) -> Result<Image> {
    let output = output(&app, id, position).await?;
    let kind = match output.path.extension().and_then(|e| e.to_str()) {
        Some("png") => "image/png",
        Some("webp") => "image/webp",
        Some("avif") => "image/avif",
        // Few browsers show it, or none; what it holds is shown.
        Some("tif" | "jxl") => {
            let key = format!("{}|{}|shown", output.path.display(), output.hash);
            return cached_thumb(&app, output.path, key, 2400).await;
        }
        _ => "image/jpeg",
    };
    let bytes =
        tokio::fs::read(&output.path).await.map_err(|e| Error::bad(format!("the result is gone: {e}")))?;
    Ok(Image { bytes, kind, keep: false })
}

/// The original of a result, as large as a window at most.
pub(super) async fn original(
    State(app): State<App>,
    Path(ItemPath { id, position }): Path<ItemPath>,
) -> Result<Image> {
    let item = app.store.item(ItemKey { run: id, position }).await?;
    let path = app.roots.existing(FilePath::new(&item.source))?;
    let key = format!("{}|{}|original", path.display(), item.source_bytes);
    cached_thumb(&app, path, key, 1600).await
}
