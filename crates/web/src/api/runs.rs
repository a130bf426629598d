//! Runs and their progress.

use super::frames::cached_thumb;
use super::sheet::{Answer, answers_of};
use super::{attached, image};
use crate::error::{Error, Result, Sent};
use crate::{App, workspace};
use axum::extract::{Path, Query, State};
use axum::response::Response;
use axum::response::sse::{Event, KeepAlive, Sse};
use axum::routing::{get, post};
use axum::{Json, Router};
use rallo_engine::OutputProfile;
use rallo_job::prelude::*;
use rallo_job::{ItemKey, ItemState, ResultFile, RunItem, RunState};
use rallo_media::{Chroma, Encoding, Extras, bytes_text};
use rallo_recipe::Recipe;
use rallo_runner::schedule::{self, Class};
use rallo_runner::{Decided, Limits, report};
use schemars::JsonSchema;
use serde::Deserialize;
use serde_json::{Value, json};
use std::path::{Path as FilePath, PathBuf};
use tokio::sync::broadcast::error::RecvError;

pub fn routes() -> Router<App> {
    Router::new()
        .route("/api/runs/{id}", get(one))
        .route("/api/runs/{id}/cancel", post(cancel))
        .route("/api/runs/{id}/retry", post(retry))
        .route("/api/runs/{id}/pause", post(pause))
        .route("/api/runs/{id}/go-on", post(go_on))
        .route("/api/runs/{id}/move", post(move_run))
        .route("/api/runs/{id}/undo", post(undo))
        .route("/api/runs/{id}/checkpoint", get(checkpoint).post(pass))
        .route("/api/runs/{id}/look", post(look))
        .route("/api/runs/{id}/report.json", get(report_json))
        .route("/api/runs/{id}/report.csv", get(report_csv))
        .route("/api/limits", get(limits).put(set_limits))
        .route("/api/in-work", get(in_work))
        .route("/api/runs/{id}/items/{position}/thumb", get(thumb))
        .route("/api/runs/{id}/items/{position}/result", get(result))
        .route("/api/runs/{id}/items/{position}/original", get(original))
        .route("/events", get(events))
}

/// What the page knows already.
#[derive(Default, Deserialize)]
#[serde(default)]
struct Since {
    /// When the last item ended that it was told of.
    since: i64,
}

/// Items told at a time.
const TOLD: i64 = 300;

/// A run, and what has ended since the page last asked.
async fn one(State(app): State<App>, Path(id): Path<i64>, Query(asked): Query<Since>) -> Result<Json<Value>> {
    let run = app.store.run(id).await?;
    let state = app.queue.state(&run).await?;
    let name = |p: &FilePath| p.file_name().map(|n| n.to_string_lossy().into_owned());
    let tasks = Recipe::parse(&run.document).map(|r| r.tasks()).unwrap_or_default();
    let told = |item: RunItem| {
        let outputs = &item.outputs;
        let bytes: u64 = outputs.iter().map(|o| o.bytes).sum();
        let target = outputs.first().map_or_else(|| PathBuf::from(&item.target), |o| o.path.clone());
        let task = item.task.and_then(|t| tasks.get(usize::try_from(t).ok()?)).map(|(_, t)| t.word());
        let files: Vec<Value> = outputs
            .iter()
            .map(|o| json!({"name": name(&o.path), "bytes": bytes_text(o.bytes), "clip": o.clip}))
            .filter(|_| task.is_some())
            .collect();
        json!({"task": task, "files": files, "joins": task.is_none() && outputs.is_empty() && item.state == ItemState::Done, "position": item.position, "source": name(FilePath::new(&item.source)), "target": name(&target),
            "state": item.state, "kind": item.kind, "reason": item.reason, "seconds": item.seconds, "ended": item.ended,
            "before": bytes_text(item.source_bytes as u64), "after": bytes_text(bytes)})
    };
    let items: Vec<Value> =
        app.store.ended_since(id, asked.since, TOLD).await?.into_iter().map(told).collect();
    let failed: Vec<Value> = app.store.failed(id, TOLD).await?.into_iter().map(told).collect();
    let mut shares = std::collections::HashMap::new();
    for (position, share) in app.queue.shares(id) {
        if let Ok(item) = app.store.item(ItemKey { run: id, position }).await {
            shares.insert(item.source, share);
        }
    }
    let working: Vec<Value> = app
        .store
        .working(id)
        .await?
        .iter()
        .map(|source| json!({"name": name(FilePath::new(source)), "share": shares.get(source)}))
        .collect();
    let (before, after) = app.store.bytes(id).await?;
    // What all results will take, by those that are there.
    let made = state.done + state.skipped;
    // Pictures that only join others write nothing by themselves.
    let expected = (made > 0 && after > 0).then(|| (after as f64 / made as f64 * state.total as f64) as u64);
    let target = app.store.first_target(id).await?;
    let folder = target.and_then(|t| FilePath::new(&t).parent().map(|p| app.roots.short(p)));
    Ok(Json(json!({"progress": state, "items": items, "more": items.len() as i64 == TOLD, "failed": failed,
        "working": working, "before": bytes_text(before as u64), "after": bytes_text(after as u64), "folder": folder,
        "seconds": run.seconds, "at": run.not_before, "expected": expected.map(bytes_text), "brought": run.brought.is_some()})))
}

/// The queue: runs that are not over, in their order.
pub async fn open(State(app): State<App>) -> Result<Json<Value>> {
    let mut all = Vec::new();
    for run in app.store.open_runs().await? {
        let name = &run.recipe_name;
        all.push(
            json!({"progress": app.queue.state(&run).await?, "recipe": name, "version": run.recipe_version,
            "frames_of": run.shoot_name, "at": run.not_before, "origin": run.origin}),
        );
    }
    Ok(Json(all.into()))
}

async fn cancel(State(app): State<App>, Path(id): Path<i64>) -> Result<Json<Value>> {
    app.queue.cancel(id).await?;
    Ok(Json(json!({})))
}

async fn pause(State(app): State<App>, Path(id): Path<i64>) -> Result<Json<Value>> {
    app.queue.pause(id).await?;
    Ok(Json(json!({})))
}

async fn go_on(State(app): State<App>, Path(id): Path<i64>) -> Result<Json<Value>> {
    app.queue.go_on(id).await?;
    Ok(Json(json!({})))
}

#[derive(Deserialize, JsonSchema)]
pub struct Move {
    /// −1 earlier, 1 later, −2 to the front.
    by: i64,
}

async fn move_run(
    State(app): State<App>,
    Path(id): Path<i64>,
    Sent(asked): Sent<Move>,
) -> Result<Json<Value>> {
    app.store.move_run(id, asked.by).await?;
    app.queue.added();
    Ok(Json(json!({})))
}

#[derive(Default, Deserialize, JsonSchema)]
#[serde(default)]
pub struct Retry {
    /// Only this picture.
    position: Option<i64>,
}

async fn retry(
    State(app): State<App>,
    Path(id): Path<i64>,
    asked: Option<Json<Retry>>,
) -> Result<Json<Value>> {
    app.store.retry_failed(id, asked.and_then(|a| a.position)).await?;
    app.queue.added();
    app.queue.tell(id).await?;
    Ok(Json(json!({})))
}

/// Takes back what a run wrote.
async fn undo(State(app): State<App>, Path(id): Path<i64>) -> Result<Json<Value>> {
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
    Ok(Json(json!({"gone": gone, "kept": kept})))
}

/// What a run asks: which line, the pictures to look at, the values that can be changed from there on.
async fn checkpoint(State(app): State<App>, Path(id): Path<i64>) -> Result<Json<Value>> {
    let run = app.store.run(id).await?;
    let recipe = Recipe::parse(&run.document)?;
    let all = recipe.checkpoints();
    let (line, what) = *all.get(run.stage as usize).ok_or_else(|| Error::bad("this run asks nothing"))?;
    let next = all.get(run.stage as usize + 1).map_or(recipe.steps.len(), |(line, _)| *line);
    let mut values = Vec::new();
    for (n, line) in recipe.steps.iter().enumerate().take(next).filter(|(_, l)| l.on) {
        let kind = line.kind();
        let now = line.step.values();
        for p in
            kind.params.iter().filter(|p| matches!(p.kind.names().0, "number" | "whole" | "choice" | "flag"))
        {
            values.push(
                json!({"line": n, "title": kind.info.title, "param": super::bench::param(p, &now[p.name])}),
            );
        }
    }
    let items: Vec<Value> = app
        .store
        .waiting(id, 24)
        .await?
        .iter()
        .map(|i| json!({"position": i.position, "name": FilePath::new(&i.source).file_name().map(|n| n.to_string_lossy()),
            "answers": i.answers}))
        .collect();
    Ok(Json(json!({"stage": run.stage, "line": line, "what": what, "values": values, "items": items})))
}

#[derive(Deserialize, JsonSchema)]
pub struct Look {
    position: i64,
    #[serde(default)]
    answers: Vec<Answer>,
    edge: u32,
}

/// A picture of a run with values that could be changed, small.
async fn look(State(app): State<App>, Path(id): Path<i64>, Sent(asked): Sent<Look>) -> Result<Response> {
    let run = app.store.run(id).await?;
    let item = app.store.item(ItemKey { run: id, position: asked.position }).await?;
    let path = app.roots.existing(FilePath::new(&item.source))?;
    let recipe = Recipe::parse(&run.document)?.answered(&answers_of(&asked.answers))?;
    let jpeg = schedule::ask(Class::Sight, move || -> Result<Vec<u8>> {
        let source = app.sources.open(&path)?;
        let decided: Decided = serde_json::from_str(&item.decided).unwrap_or_default();
        let about =
            rallo_runner::subject(&path, Some(&source.facts(&path)), &decided, item.position as usize + 1);
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
    Ok(image(jpeg, "image/jpeg", false))
}

#[derive(Deserialize, JsonSchema)]
pub struct Pass {
    stage: i64,
    /// For all pictures.
    #[serde(default)]
    answers: Vec<Answer>,
    /// For single ones.
    #[serde(default)]
    ones: Vec<OneAnswered>,
}

#[derive(Deserialize, JsonSchema)]
pub struct OneAnswered {
    position: i64,
    answers: Vec<Answer>,
}

/// The yes that a run waited for.
async fn pass(State(app): State<App>, Path(id): Path<i64>, Sent(pass): Sent<Pass>) -> Result<Json<Value>> {
    let run = app.store.run(id).await?;
    let over = || Error::bad("this run does not ask that any more; reload the page");
    if run.state != RunState::Asking || run.stage != pass.stage {
        return Err(over());
    }
    let recipe = Recipe::parse(&run.document)?.answered(&answers_of(&pass.answers))?;
    for one in &pass.ones {
        let answers = answers_of(&one.answers);
        recipe.answered(&answers)?;
        let text = serde_json::to_string(&answers).map_err(Error::bad)?;
        app.store.set_answers(ItemKey { run: id, position: one.position }, &text).await?;
    }
    let document = recipe.to_value().to_string();
    let asks = report::asked(&recipe, pass.stage + 1);
    if !app.store.pass_run(id, pass.stage, &document, asks.as_deref()).await? {
        return Err(over());
    }
    app.queue.added();
    app.queue.tell(id).await?;
    Ok(Json(json!({})))
}

async fn report_json(State(app): State<App>, Path(id): Path<i64>) -> Result<Response> {
    let text = serde_json::to_string_pretty(&report::of(&app.store, id).await?).map_err(Error::bad)?;
    Ok(attached(text + "\n", "application/json", &format!("run-{id}.json")))
}

async fn report_csv(State(app): State<App>, Path(id): Path<i64>) -> Result<Response> {
    let text = report::table(&report::of(&app.store, id).await?);
    Ok(attached(text, "text/csv; charset=utf-8", &format!("run-{id}.csv")))
}

async fn limits(State(app): State<App>) -> Json<Limits> {
    Json(app.queue.limits())
}

async fn set_limits(State(app): State<App>, Sent(limits): Sent<Limits>) -> Result<Json<Limits>> {
    app.store.set_setting("limits", &json!(limits).to_string()).await?;
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

async fn thumb(State(app): State<App>, Path((id, position)): Path<(i64, i64)>) -> Result<Response> {
    let output = output(&app, id, position).await?;
    let key = format!("{}|{}|run {id}", output.path.display(), output.bytes);
    cached_thumb(&app, output.path, key, 400).await
}

async fn result(State(app): State<App>, Path((id, position)): Path<(i64, i64)>) -> Result<Response> {
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
    Ok(image(bytes, kind, false))
}

/// The original of a result, as large as a window at most.
async fn original(State(app): State<App>, Path((id, position)): Path<(i64, i64)>) -> Result<Response> {
    let item = app.store.item(ItemKey { run: id, position }).await?;
    let path = app.roots.existing(FilePath::new(&item.source))?;
    let key = format!("{}|{}|original", path.display(), item.source_bytes);
    cached_thumb(&app, path, key, 1600).await
}

/// Progress of every run, as it happens.
async fn events(
    State(app): State<App>,
) -> Sse<impl futures_core::Stream<Item = std::result::Result<Event, std::convert::Infallible>>> {
    let receiver = app.queue.events();
    let stream = async_stream::stream! {
        let mut receiver = receiver;
        // What is open now first, so that a page that was reloaded is true at once.
        for run in app.store.open_runs().await.unwrap_or_default() {
            if let Ok(state) = app.queue.state(&run).await {
                yield Ok(Event::default().json_data(state).unwrap_or_default());
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
    Sse::new(stream).keep_alive(KeepAlive::default())
}
