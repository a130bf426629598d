//! Runs and their progress.

mod beside;
mod checkpoint;
mod events;
mod results;

use crate::api::answer::{Done, about, file, json_file};
use crate::api::runs::beside::part;
pub(crate) use crate::api::runs::checkpoint::{WaitingItem, question};
use crate::api::runs::checkpoint::{checkpoint, look, pass};
use crate::api::runs::events::events;
pub(crate) use crate::api::runs::results::found;
use crate::api::runs::results::{original, report_csv, report_json, result, thumb, told_found};
use crate::error::{Error, Result};
use crate::request::{Brought, Id, Path, Query, Sent, Since};
use crate::{App, workspace};
use aide::axum::ApiRouter;
use aide::axum::routing::{get_with, post_with};
use axum::Json;
use axum::extract::State;
use rallo_job::prelude::*;
use rallo_job::{FailureKind, ItemKey, ItemState, ResultFile, RunItem};
use rallo_media::bytes_text;
use rallo_recipe::Recipe;
use rallo_runner::queue::Event as Progress;
use rallo_runner::{Limits, report};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::path::{Path as FilePath, PathBuf};

pub fn routes() -> ApiRouter<App> {
    ApiRouter::new()
        .api_route("/api/runs/{id}", get_with(one, about("A run and its progress, and what has ended since")))
        .api_route("/api/runs/{id}/cancel", post_with(cancel, about("Cancel it; what is done stays")))
        .api_route("/api/runs/{id}/retry", post_with(retry, about("Try failed pictures again, or one")))
        .api_route("/api/runs/{id}/pause", post_with(pause, about("Let it pause after the pictures in work")))
        .api_route("/api/runs/{id}/go-on", post_with(go_on, about("Let it go on")))
        .api_route("/api/runs/{id}/move", post_with(move_run, about("Another place in the queue")))
        .api_route("/api/runs/{id}/undo", post_with(undo, about("Remove what it wrote, as far as unchanged")))
        .api_route(
            "/api/runs/{id}/checkpoint",
            get_with(checkpoint, about("What it asks")).post_with(pass, about("The yes it waits for")),
        )
        .api_route("/api/runs/{id}/look", post_with(look, about("One of its pictures with other values")))
        .api_route(
            "/api/runs/{id}/found",
            get_with(told_found, about("What lines that look at all its pictures found")),
        )
        .api_route(
            "/api/runs/{id}/report.json",
            get_with(report_json, json_file::<report::Report>("Its report")),
        )
        .api_route(
            "/api/runs/{id}/report.csv",
            get_with(report_csv, file("Its report as a table", "text/csv")),
        )
        .api_route(
            "/api/limits",
            get_with(limits, about("What runs may have of this machine"))
                .put_with(set_limits, about("Give them another share")),
        )
        .api_route("/api/in-work", get_with(in_work, about("Frames on the desk that are in work")))
        .api_route("/api/runs/{id}/items/{position}/thumb", get_with(thumb, about("A result, small")))
        .api_route("/api/runs/{id}/items/{position}/result", get_with(result, about("A result")))
        .api_route("/api/runs/{id}/items/{position}/original", get_with(original, about("Its original")))
        .api_route(
            "/api/runs/{id}/items/{position}/part",
            post_with(part, about("A part of a result, or of its original in the same frame")),
        )
        .api_route(
            "/events",
            get_with(events, file("What happens, as server-sent events", "text/event-stream")),
        )
}

/// Items told at a time.
const TOLD: i64 = 300;

/// A run, and what has ended since the page last asked.
#[derive(Serialize, JsonSchema)]
pub(crate) struct RunAnswer {
    /// How far it is.
    pub(crate) progress: Progress,
    /// What has ended since.
    pub(crate) items: Vec<ItemEntry>,
    /// Whether there is more that has ended.
    pub(crate) more: bool,
    /// Pictures that failed.
    pub(crate) failed: Vec<ItemEntry>,
    /// Pictures in work.
    pub(crate) working: Vec<WorkingEntry>,
    /// What the originals take, in words.
    pub(crate) before: String,
    /// What the results take, in words.
    pub(crate) after: String,
    /// The folder results go to.
    pub(crate) folder: Option<String>,
    /// Seconds it has worked.
    pub(crate) seconds: f64,
    /// When it begins, where that was said (RFC 3339).
    pub(crate) at: Option<String>,
    /// What all results will take, in words.
    pub(crate) expected: Option<String>,
    /// Whether its pictures were brought, so that results are taken back as one file.
    pub(crate) brought: bool,
}

/// A picture of a run, or a file of all of them, that has ended.
#[derive(Serialize, JsonSchema)]
pub(crate) struct ItemEntry {
    /// Which file of all pictures it is, in a word; nothing where it is a picture.
    pub(crate) task: Option<&'static str>,
    /// Files it wrote, where it is such a file.
    pub(crate) files: Vec<WrittenFile>,
    /// Whether it only goes into files of all pictures.
    pub(crate) joins: bool,
    /// Place in the run, from 0.
    pub(crate) position: i64,
    /// Name of the original.
    pub(crate) source: Option<String>,
    /// Name of the result.
    pub(crate) target: Option<String>,
    /// How it ended.
    pub(crate) state: ItemState,
    /// What kind of failure it was.
    pub(crate) kind: Option<FailureKind>,
    /// Why it failed or was skipped.
    pub(crate) reason: Option<String>,
    /// Seconds it took.
    pub(crate) seconds: Option<f64>,
    /// When it ended, as a number that grows.
    pub(crate) ended: i64,
    /// What the original takes, in words.
    pub(crate) before: String,
    /// What its results take, in words.
    pub(crate) after: String,
}

/// A file that was written.
#[derive(Serialize, JsonSchema)]
pub(crate) struct WrittenFile {
    /// Its name.
    pub(crate) name: Option<String>,
    /// What it takes, in words.
    pub(crate) bytes: String,
    /// What a player needs to know of it, where it is a clip.
    pub(crate) clip: Option<Value>,
}

/// A picture in work.
#[derive(Serialize, JsonSchema)]
pub(crate) struct WorkingEntry {
    /// Name of the original.
    pub(crate) name: Option<String>,
    /// How much of it is done, 0 to 1.
    pub(crate) share: Option<f64>,
}

fn name_of(path: &FilePath) -> Option<String> {
    path.file_name().map(|n| n.to_string_lossy().into_owned())
}

impl ItemEntry {
    /// An item; `tasks` are the files of all pictures in words, in the order of the run's tasks.
    fn new(item: RunItem, tasks: &[&'static str]) -> Self {
        let outputs = &item.outputs;
        let bytes: u64 = outputs.iter().map(|o| o.bytes).sum();
        let target = outputs.first().map_or_else(|| PathBuf::from(&item.target), |o| o.path.clone());
        let task = item.task.and_then(|t| tasks.get(usize::try_from(t).ok()?)).copied();
        let file = |o: &ResultFile| WrittenFile {
            name: name_of(&o.path),
            bytes: bytes_text(o.bytes),
            clip: o.clip.clone(),
        };
        Self {
            task,
            files: if task.is_some() { outputs.iter().map(file).collect() } else { Vec::new() },
            joins: task.is_none() && outputs.is_empty() && item.state == ItemState::Done,
            position: item.position,
            source: name_of(FilePath::new(&item.source)),
            target: name_of(&target),
            state: item.state,
            kind: item.kind,
            seconds: item.seconds,
            ended: item.ended,
            before: bytes_text(item.source_bytes as u64),
            after: bytes_text(bytes),
            reason: item.reason,
        }
    }
}

async fn one(
    State(app): State<App>,
    Path(Id { id }): Path<Id>,
    Query(asked): Query<Since>,
) -> Result<Json<RunAnswer>> {
    Ok(Json(answer(&app, id, asked.since).await?))
}

/// A run, and what of it has ended since.
pub(crate) async fn answer(app: &App, id: i64, since: i64) -> Result<RunAnswer> {
    let run = app.store.run(id).await?;
    let progress = app.queue.state(&run).await?;
    let tasks = Recipe::parse(&run.document).map(|r| r.tasks()).unwrap_or_default();
    let tasks: Vec<&'static str> = tasks.iter().map(|(_, task)| task.word()).collect();
    let entries = |items: Vec<RunItem>| items.into_iter().map(|i| ItemEntry::new(i, &tasks)).collect();
    let items: Vec<ItemEntry> = entries(app.store.ended_since(id, since, TOLD).await?);
    let failed: Vec<ItemEntry> = entries(app.store.failed(id, TOLD).await?);
    let mut shares = std::collections::HashMap::new();
    for (position, share) in app.queue.shares(id) {
        if let Ok(item) = app.store.item(ItemKey { run: id, position }).await {
            shares.insert(item.source, share);
        }
    }
    let working = app.store.working(id).await?.into_iter().map(|source| WorkingEntry {
        name: name_of(FilePath::new(&source)),
        share: shares.get(&source).copied(),
    });
    let (before, after) = app.store.bytes(id).await?;
    // What all results will take, by those that are there.
    let made = progress.done + progress.skipped;
    // Pictures that only join others write nothing by themselves.
    let expected =
        (made > 0 && after > 0).then(|| (after as f64 / made as f64 * progress.total as f64) as u64);
    let target = app.store.first_target(id).await?;
    Ok(RunAnswer {
        progress,
        more: items.len() as i64 == TOLD,
        items,
        failed,
        working: working.collect(),
        before: bytes_text(before as u64),
        after: bytes_text(after as u64),
        folder: target.and_then(|t| FilePath::new(&t).parent().map(|p| app.roots.short(p))),
        seconds: run.seconds,
        at: run.not_before,
        expected: expected.map(bytes_text),
        brought: run.brought.is_some(),
    })
}

/// A run that is not over.
#[derive(Serialize, JsonSchema)]
pub struct OpenRun {
    /// How far it is.
    progress: Progress,
    /// What its recipe is called.
    recipe: String,
    /// Its recipe's version.
    version: i64,
    /// What its pictures are called together.
    frames_of: String,
    /// When it begins, where that was said (RFC 3339).
    at: Option<String>,
    /// Where it was started.
    origin: String,
}

/// The queue: runs that are not over, in their order.
pub async fn open(State(app): State<App>) -> Result<Json<Vec<OpenRun>>> {
    let mut rows = Vec::new();
    for run in app.store.open_runs().await? {
        rows.push(OpenRun {
            progress: app.queue.state(&run).await?,
            recipe: run.recipe_name,
            version: run.recipe_version,
            frames_of: run.shoot_name,
            at: run.not_before,
            origin: run.origin,
        });
    }
    Ok(Json(rows))
}

async fn cancel(State(app): State<App>, Path(Id { id }): Path<Id>) -> Result<Json<Done>> {
    app.queue.cancel(id).await?;
    Ok(Json(Done {}))
}

async fn pause(State(app): State<App>, Path(Id { id }): Path<Id>) -> Result<Json<Done>> {
    app.queue.pause(id).await?;
    Ok(Json(Done {}))
}

async fn go_on(State(app): State<App>, Path(Id { id }): Path<Id>) -> Result<Json<Done>> {
    app.queue.go_on(id).await?;
    Ok(Json(Done {}))
}

/// Another place in the queue.
#[derive(Deserialize, JsonSchema)]
pub struct Move {
    /// −1 earlier, 1 later, −2 to the front.
    #[schemars(range(min = -2, max = 1))]
    by: i64,
}

async fn move_run(
    State(app): State<App>,
    Path(Id { id }): Path<Id>,
    Sent(asked): Sent<Move>,
) -> Result<Json<Done>> {
    app.store.move_run(id, asked.by).await?;
    app.queue.added();
    Ok(Json(Done {}))
}

/// What is tried again.
#[derive(Default, Deserialize, JsonSchema)]
#[serde(default)]
pub struct Retry {
    /// Only this picture.
    position: Option<i64>,
}

async fn retry(
    State(app): State<App>,
    Path(Id { id }): Path<Id>,
    Brought(asked): Brought<Retry>,
) -> Result<Json<Done>> {
    app.store.retry_failed(id, asked.position).await?;
    app.queue.added();
    app.queue.tell(id).await?;
    Ok(Json(Done {}))
}

/// What came of taking a run back.
#[derive(Serialize, JsonSchema)]
struct Undone {
    /// Files that were removed.
    gone: usize,
    /// Files that stay, and why.
    kept: Vec<String>,
}

/// Takes back what a run wrote.
async fn undo(State(app): State<App>, Path(Id { id }): Path<Id>) -> Result<Json<Undone>> {
    let run = app.store.run(id).await?;
    if !run.state.is_over() {
        return Err(Error::bad("this run is still at work; cancel it first"));
    }
    let (items, roots) = (app.store.items(id).await?, app.roots.clone());
    tokio::task::spawn_blocking(move || -> Result<()> {
        for output in items.iter().flat_map(|item| &item.outputs) {
            if output.path.exists() {
                roots.existing(&output.path)?;
            }
        }
        Ok(())
    })
    .await??;
    let (gone, kept) = report::undo(&app.store, id).await?;
    app.queue.tell(id).await?;
    Ok(Json(Undone { gone, kept }))
}

async fn limits(State(app): State<App>) -> Json<Limits> {
    Json(app.queue.limits())
}

async fn set_limits(State(app): State<App>, Sent(limits): Sent<Limits>) -> Result<Json<Limits>> {
    let text = serde_json::to_string(&limits).map_err(Error::bad)?;
    app.store.set_setting("limits", &text).await?;
    app.queue.set_limits(limits);
    Ok(Json(limits))
}

/// Frames on the desk that wait or are in work in any run.
async fn in_work(State(app): State<App>) -> Result<Json<Vec<i64>>> {
    let sources: std::collections::HashSet<String> = app.store.in_work().await?.into_iter().collect();
    if sources.is_empty() {
        return Ok(Json(Vec::new()));
    }
    let laid = workspace::laid(&app).await?;
    let busy = |f: &&rallo_shoot::Frame| sources.contains(&*f.path.to_string_lossy());
    Ok(Json(laid.frames.iter().filter(busy).map(|f| f.id).collect()))
}
