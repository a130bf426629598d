//! Runs and their progress.

use super::answer::{Done, Image, about, attached, file, json_file};
use super::bench::Control;
use super::frames::cached_thumb;
use super::sheet::{Answer, answers_of};
use crate::error::{Error, Result};
use crate::request::{Brought, Id, ItemPath, Path, Query, Sent};
use crate::{App, workspace};
use aide::axum::ApiRouter;
use aide::axum::routing::{get_with, post_with};
use axum::Json;
use axum::extract::State;
use axum::response::sse::{Event, KeepAlive, Sse};
use axum::response::{IntoResponse, Response};
use rallo_engine::OutputProfile;
use rallo_job::prelude::*;
use rallo_job::{FailureKind, ItemKey, ItemState, ResultFile, RunItem, RunState};
use rallo_media::{Chroma, Encoding, Extras, bytes_text};
use rallo_recipe::Recipe;
use rallo_runner::queue::Event as Progress;
use rallo_runner::schedule::{self, Class};
use rallo_runner::{Decided, Limits, report};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::path::{Path as FilePath, PathBuf};
use tokio::sync::broadcast::error::RecvError;

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
            "/events",
            get_with(events, file("What happens, as server-sent events", "text/event-stream")),
        )
}

/// What the page knows already.
#[derive(Default, Deserialize, JsonSchema)]
#[serde(default)]
struct Since {
    /// When the last item ended that it was told of.
    since: i64,
}

/// Items told at a time.
const TOLD: i64 = 300;

/// A run, and what has ended since the page last asked.
#[derive(Serialize, JsonSchema)]
struct RunAnswer {
    /// How far it is.
    progress: Progress,
    /// What has ended since.
    items: Vec<ItemEntry>,
    /// Whether there is more that has ended.
    more: bool,
    /// Pictures that failed.
    failed: Vec<ItemEntry>,
    /// Pictures in work.
    working: Vec<WorkingEntry>,
    /// What the originals take, in words.
    before: String,
    /// What the results take, in words.
    after: String,
    /// The folder results go to.
    folder: Option<String>,
    /// Seconds it has worked.
    seconds: f64,
    /// When it begins, where that was said (RFC 3339).
    at: Option<String>,
    /// What all results will take, in words.
    expected: Option<String>,
    /// Whether its pictures were brought, so that results are taken back as one file.
    brought: bool,
}

/// A picture of a run, or a file of all of them, that has ended.
#[derive(Serialize, JsonSchema)]
struct ItemEntry {
    /// Which file of all pictures it is, in a word; nothing where it is a picture.
    task: Option<&'static str>,
    /// Files it wrote, where it is such a file.
    files: Vec<WrittenFile>,
    /// Whether it only goes into files of all pictures.
    joins: bool,
    /// Place in the run, from 0.
    position: i64,
    /// Name of the original.
    source: Option<String>,
    /// Name of the result.
    target: Option<String>,
    /// How it ended.
    state: ItemState,
    /// What kind of failure it was.
    kind: Option<FailureKind>,
    /// Why it failed or was skipped.
    reason: Option<String>,
    /// Seconds it took.
    seconds: Option<f64>,
    /// When it ended, as a number that grows.
    ended: i64,
    /// What the original takes, in words.
    before: String,
    /// What its results take, in words.
    after: String,
}

/// A file that was written.
#[derive(Serialize, JsonSchema)]
struct WrittenFile {
    /// Its name.
    name: Option<String>,
    /// What it takes, in words.
    bytes: String,
    /// What a player needs to know of it, where it is a clip.
    clip: Option<Value>,
}

/// A picture in work.
#[derive(Serialize, JsonSchema)]
struct WorkingEntry {
    /// Name of the original.
    name: Option<String>,
    /// How much of it is done, 0 to 1.
    share: Option<f64>,
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
    let run = app.store.run(id).await?;
    let progress = app.queue.state(&run).await?;
    let tasks = Recipe::parse(&run.document).map(|r| r.tasks()).unwrap_or_default();
    let tasks: Vec<&'static str> = tasks.iter().map(|(_, task)| task.word()).collect();
    let entries = |items: Vec<RunItem>| items.into_iter().map(|i| ItemEntry::new(i, &tasks)).collect();
    let items: Vec<ItemEntry> = entries(app.store.ended_since(id, asked.since, TOLD).await?);
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
    Ok(Json(RunAnswer {
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
    }))
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

/// What a run asks.
#[derive(Serialize, JsonSchema)]
struct CheckpointAnswer {
    /// Which of the recipe's checkpoints it is, from 0.
    stage: i64,
    /// The line it waits before, from 0.
    line: usize,
    /// What should be looked at.
    what: String,
    /// Values that can be changed from here on.
    values: Vec<LineControl>,
    /// The pictures that wait.
    items: Vec<WaitingItem>,
}

/// A value that can be changed.
#[derive(Serialize, JsonSchema)]
struct LineControl {
    /// Its line, from 0.
    line: usize,
    /// The step of that line.
    title: &'static str,
    /// The value.
    param: Control,
}

/// A picture that waits.
#[derive(Serialize, JsonSchema)]
struct WaitingItem {
    /// Place in the run, from 0.
    position: i64,
    /// Name of the original.
    name: Option<String>,
    /// Values it was given already.
    answers: Vec<(usize, String, Value)>,
}

/// What a run asks: which line, the pictures to look at, the values that can be changed from there on.
async fn checkpoint(State(app): State<App>, Path(Id { id }): Path<Id>) -> Result<Json<CheckpointAnswer>> {
    let run = app.store.run(id).await?;
    let recipe = Recipe::parse(&run.document)?;
    let checkpoints = recipe.checkpoints();
    let (line, what) =
        *checkpoints.get(run.stage as usize).ok_or_else(|| Error::bad("this run asks nothing"))?;
    let next = checkpoints.get(run.stage as usize + 1).map_or(recipe.steps.len(), |(line, _)| *line);
    let mut values = Vec::new();
    for (n, line) in recipe.steps.iter().enumerate().take(next).filter(|(_, l)| l.on) {
        let kind = line.kind();
        let now = line.step.values();
        for p in
            kind.params.iter().filter(|p| matches!(p.kind.names().0, "number" | "whole" | "choice" | "flag"))
        {
            let param = Control::new(p, &now[p.name]);
            values.push(LineControl { line: n, title: kind.info.title, param });
        }
    }
    let items = app.store.waiting(id, 24).await?.into_iter().map(|i| WaitingItem {
        position: i.position,
        name: name_of(FilePath::new(&i.source)),
        answers: i.answers,
    });
    Ok(Json(CheckpointAnswer {
        stage: run.stage,
        line,
        what: what.to_owned(),
        values,
        items: items.collect(),
    }))
}

/// A picture to be looked at.
#[derive(Deserialize, JsonSchema)]
pub struct Look {
    /// Place in the run, from 0.
    #[schemars(range(min = 0))]
    position: i64,
    /// Values it is to have.
    #[serde(default)]
    answers: Vec<Answer>,
    /// Its long edge in pixels.
    #[schemars(range(min = 64, max = 2400))]
    edge: u32,
}

/// A picture of a run with values that could be changed, small.
async fn look(State(app): State<App>, Path(Id { id }): Path<Id>, Sent(asked): Sent<Look>) -> Result<Image> {
    let run = app.store.run(id).await?;
    let item = app.store.item(ItemKey { run: id, position: asked.position }).await?;
    let path = app.roots.existing(FilePath::new(&item.source))?;
    let recipe = Recipe::parse(&run.document)?.answered(&answers_of(&asked.answers))?;
    let jpeg = schedule::ask(Class::Sight, move || -> Result<Vec<u8>> {
        let source = app.sources.open(&path, &recipe.decode)?;
        let decided: Decided = serde_json::from_str(&item.decided).unwrap_or_default();
        let about = rallo_runner::resolve_context(
            &path,
            Some(&source.facts(&path)),
            &decided,
            item.position as usize + 1,
        );
        let plan = recipe.plan(&*source, &about).map_err(Error::bad)?;
        let edge = f64::from(asked.edge.clamp(64, 2400));
        let program = plan.program((edge / f64::from(plan.size().long_edge())).min(1.0));
        let srgb = OutputProfile::Srgb.colour();
        let picture = program.render(&*source, program.size().rect(), srgb).map_err(Error::bad)?;
        let encoding =
            Encoding::Jpeg { quality: 90, chroma: Chroma::Full, progressive: false, optimised: false };
        Ok(rallo_media::encode(&picture, encoding, &Extras::default())?)
    })
    .await??;
    Ok(Image::jpeg(jpeg))
}

/// The yes that a run waits for.
#[derive(Deserialize, JsonSchema)]
pub struct Pass {
    /// Which of the recipe's checkpoints it is about, from 0.
    stage: i64,
    /// For all pictures.
    #[serde(default)]
    answers: Vec<Answer>,
    /// For single ones.
    #[serde(default)]
    ones: Vec<OneAnswered>,
}

/// Values for one picture.
#[derive(Deserialize, JsonSchema)]
pub struct OneAnswered {
    /// Place in the run, from 0.
    position: i64,
    /// The values.
    answers: Vec<Answer>,
}

/// The yes that a run waited for.
async fn pass(
    State(app): State<App>,
    Path(Id { id }): Path<Id>,
    Sent(pass): Sent<Pass>,
) -> Result<Json<Done>> {
    let run = app.store.run(id).await?;
    let over = || Error::bad("this run does not ask that any more; reload the page");
    if run.state != RunState::Asking || run.stage != pass.stage {
        return Err(over());
    }
    let recipe = Recipe::parse(&run.document)?.answered(&answers_of(&pass.answers))?;
    for item in &pass.ones {
        let answers = answers_of(&item.answers);
        recipe.answered(&answers)?;
        let text = serde_json::to_string(&answers).map_err(Error::bad)?;
        app.store.set_answers(ItemKey { run: id, position: item.position }, &text).await?;
    }
    let document = recipe.to_value().to_string();
    let asks = report::asked(&recipe, pass.stage + 1);
    if !app.store.pass_run(id, pass.stage, &document, asks.as_deref()).await? {
        return Err(over());
    }
    app.queue.added();
    app.queue.tell(id).await?;
    Ok(Json(Done {}))
}

async fn report_json(State(app): State<App>, Path(Id { id }): Path<Id>) -> Result<Response> {
    let text = serde_json::to_string_pretty(&report::of(&app.store, id).await?).map_err(Error::bad)?;
    Ok(attached(text + "\n", "application/json", &format!("run-{id}.json")))
}

async fn report_csv(State(app): State<App>, Path(Id { id }): Path<Id>) -> Result<Response> {
    let text = report::table(&report::of(&app.store, id).await?);
    Ok(attached(text, "text/csv; charset=utf-8", &format!("run-{id}.csv")))
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

/// The first file an item wrote.
async fn output(app: &App, id: i64, position: i64) -> Result<ResultFile> {
    let item = app.store.item(ItemKey { run: id, position }).await?;
    let mut output =
        item.outputs.clone().into_iter().next().ok_or_else(|| Error::bad("this picture has no result"))?;
    output.path = app.roots.existing(&output.path)?;
    Ok(output)
}

async fn thumb(State(app): State<App>, Path(ItemPath { id, position }): Path<ItemPath>) -> Result<Image> {
    let output = output(&app, id, position).await?;
    let key = format!("{}|{}|run {id}", output.path.display(), output.bytes);
    cached_thumb(&app, output.path, key, 400).await
}

async fn result(State(app): State<App>, Path(ItemPath { id, position }): Path<ItemPath>) -> Result<Image> {
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
async fn original(State(app): State<App>, Path(ItemPath { id, position }): Path<ItemPath>) -> Result<Image> {
    let item = app.store.item(ItemKey { run: id, position }).await?;
    let path = app.roots.existing(FilePath::new(&item.source))?;
    let key = format!("{}|{}|original", path.display(), item.source_bytes);
    cached_thumb(&app, path, key, 1600).await
}

/// Progress of every run, as it happens.
async fn events(State(app): State<App>) -> Response {
    let receiver = app.queue.events();
    let stream = async_stream::stream! {
        let mut receiver = receiver;
        // What is open now first, so that a page that was reloaded is true at once.
        for run in app.store.open_runs().await.unwrap_or_default() {
            if let Ok(state) = app.queue.state(&run).await {
                yield Ok::<_, std::convert::Infallible>(Event::default().json_data(state).unwrap_or_default());
            }
        }
        let mut news = app.frames.news();
        loop {
            // Whoever is too slow misses some; the next one says how things are.
            tokio::select! {
                told = receiver.recv() => match told {
                    Ok(state) => yield Ok(Event::default().json_data(state).unwrap_or_default()),
                    Err(RecvError::Lagged(_)) => {}
                    Err(RecvError::Closed) => break,
                },
                told = news.recv() => match told {
                    Ok(news) => yield Ok(Event::default().event("frames").json_data(news).unwrap_or_default()),
                    Err(RecvError::Lagged(_)) => {}
                    Err(RecvError::Closed) => break,
                },
            }
        }
    };
    Sse::new(stream).keep_alive(KeepAlive::default()).into_response()
}
