//! The run sheet, runs, progress.

use super::frames::cached_thumb;
use super::image;
use crate::desk::Laid;
use crate::error::{Error, Result};
use crate::{App, desk};
use axum::extract::{Path, Query, State};
use axum::http::header;
use axum::response::sse::{Event, KeepAlive, Sse};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use axum::{Json, Router};
use rallo_engine::{OutputProfile, Source};
use rallo_media::{Chroma, Encoding, Extras, FileSource, Made, bytes_text};
use rallo_recipe::Recipe;
use rallo_runner::batch::Output;
use rallo_runner::scan::common_folder;
use rallo_runner::{Decided, Limits, execute, now, report, targets};
use rallo_store::{Item, NewItem, Run};
use serde::Deserialize;
use serde_json::{Value, json};
use std::path::{Path as FilePath, PathBuf};
use std::time::Instant;
use tokio::sync::broadcast::error::RecvError;

pub fn routes() -> Router<App> {
    Router::new()
        .route("/api/sheet", post(sheet))
        .route("/api/runs", post(start).get(open))
        .route("/api/runs/again", post(again))
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

/// An answer to what a recipe asks for at the start of a run.
#[derive(Deserialize)]
struct Answer {
    /// From 0.
    line: usize,
    param: String,
    value: Value,
}

/// What a run is started with.
#[derive(Default, Deserialize)]
#[serde(default)]
struct Asked {
    answers: Vec<Answer>,
    /// Not before this time (RFC 3339).
    at: Option<String>,
    /// Failures after which it pauses.
    most_failures: Option<i64>,
}

/// Answers as the recipe takes them.
fn answers_of(answers: &[Answer]) -> Vec<(usize, String, Value)> {
    answers.iter().map(|a| (a.line, a.param.clone(), a.value.clone())).collect()
}

/// What a run of what lies on the desk would do.
struct Prepared {
    laid: Laid,
    recipe: Recipe,
    base: PathBuf,
    planned: Vec<targets::Planned>,
    problems: Vec<targets::Problem>,
}

async fn prepare(app: &App, answers: &[Answer]) -> Result<Prepared> {
    let laid = desk::laid(app).await?;
    let row = laid.recipe.as_ref().ok_or_else(|| Error::bad("there is no recipe; open the bench first"))?;
    let recipe = super::recipes::followed(app, Recipe::parse(&row.document)?).await?;
    let recipe = recipe.answered(&answers_of(answers))?;
    prepared(app, laid, recipe)
}

/// What a run of a recipe on the frames on the desk would do.
fn prepared(app: &App, laid: Laid, recipe: Recipe) -> Result<Prepared> {
    let base = match (laid.desk.list, &laid.shoot) {
        (None, Some(shoot)) => PathBuf::from(&shoot.base),
        (Some(_), _) => common_folder(laid.frames.iter().map(|f| &f.path)),
        (None, None) => return Err(Error::bad("there is no shoot; choose a folder in Frames first")),
    };
    let sources: Vec<targets::Source> = laid
        .chosen()
        .into_iter()
        .map(|f| targets::Source {
            path: f.path.clone(),
            facts: f.facts.clone(),
            decided: Decided::from(&f.marks),
        })
        .collect();
    let (planned, mut problems) = targets::plan(&recipe, &sources, &base, None);
    if planned.is_empty() && problems.is_empty() {
        problems.push(targets::Problem {
            stops: true,
            message: "there are no frames to run on; choose a folder in Frames".into(),
        });
    }
    for target in planned.iter().filter_map(|p| p.target.parent()).collect::<std::collections::BTreeSet<_>>()
    {
        if let Err(e) = app.roots.future(target) {
            problems.push(targets::Problem { stops: true, message: e.to_string() });
            break;
        }
    }
    Ok(Prepared { laid, recipe, base, planned, problems })
}

/// The last look at what will happen: one picture is made to tell sizes and times.
async fn sheet(State(app): State<App>, Json(asked): Json<Asked>) -> Result<Json<Value>> {
    let Prepared { laid, recipe, base, planned, mut problems } = prepare(&app, &asked.answers).await?;
    for (at, what) in recipe.checkpoints() {
        let message = format!("it waits for your yes before line {}: {what}", at + 1);
        problems.push(targets::Problem { stops: false, message });
    }
    let own: Vec<&rallo_shoot::Frame> =
        laid.chosen().into_iter().filter(|f| !f.marks.own.is_nothing()).collect();
    if let Some(first) = own.first() {
        let message = match own.len() {
            1 => format!("{} has its own changes: {}", first.name, first.marks.own.words()),
            n => format!(
                "{n} frames have their own changes, {} for one: {}",
                first.name,
                first.marks.own.words()
            ),
        };
        problems.push(targets::Problem { stops: false, message });
    }
    let asks: Vec<Value> = recipe
        .asks()
        .into_iter()
        .map(|(line, param, value)| {
            let title = recipe.steps[line].kind().info.title;
            json!({"line": line, "title": title, "param": super::bench::param(param, &value)})
        })
        .collect();
    let first = laid.frames.iter().find(|f| Some(f.id) == laid.desk.frame);
    let first = first.map(|f| (f.path.clone(), Decided::from(&f.marks)));
    let trial = recipe.clone();
    let measured = tokio::task::spawn_blocking(move || -> Option<(u64, f64)> {
        let start = Instant::now();
        let (first, decided) = first?;
        let source = FileSource::open(&first).ok()?;
        let about = rallo_runner::subject(&first, Some(&source.facts(&first)), &decided, 1);
        let made = Made { recipe: String::new(), source: String::new() };
        let (bytes, _, _) =
            execute::make(&trial, trial.deliveries.first()?, &source, made, 0, &about).ok()?;
        let pixels = source.size().area().max(1) as f64;
        Some((bytes.len() as u64, start.elapsed().as_secs_f64() / pixels))
    })
    .await?;
    let area = |f: &rallo_media::Facts| u64::from(f.width) * u64::from(f.height);
    let pixels: u64 = laid.chosen().iter().filter_map(|f| f.facts.as_ref()).map(area).sum();
    let bytes = measured.map(|(bytes, _)| bytes * planned.len() as u64);
    let seconds = measured.map(|(_, each)| each * pixels as f64);
    let folder = planned.first().and_then(|p| p.target.parent()).unwrap_or(&base).to_owned();
    problems.extend(bytes.and_then(|b| targets::room(&folder, b)));
    let there = planned.iter().filter(|p| p.target.exists()).count();
    if there > 0 {
        problems.push(targets::Problem {
            stops: false,
            message: format!("{there} of the results are there already: those this recipe made from the same picture are skipped, any other is left alone and that picture fails"),
        });
    }
    let unreadable: Vec<&str> =
        laid.chosen().into_iter().filter(|f| f.problem.is_some()).map(|f| f.name.as_str()).collect();
    if let Some(first) = unreadable.first() {
        let more =
            if unreadable.len() > 1 { format!(" and {} more", unreadable.len() - 1) } else { String::new() };
        problems.push(targets::Problem {
            stops: false,
            message: format!("{first}{more} cannot be read and will fail"),
        });
    }
    let names: Vec<Value> = planned
        .iter()
        .map(|p| {
            let name = |path: &FilePath| path.file_name().map(|n| n.to_string_lossy().into_owned());
            json!({"source": name(&p.source), "target": name(&p.target), "size": p.size.map(|s| [s.width, s.height])})
        })
        .collect();
    Ok(Json(json!({
        "asks": asks, "count": planned.len(), "folder": app.roots.short(&folder), "names": names,
        "bytes": bytes.map(bytes_text), "seconds": seconds,
        "free": targets::free_bytes(folder.ancestors().find(|p| p.exists()).unwrap_or(&base)).map(bytes_text),
        "problems": problems.iter().map(|p| json!({"stops": p.stops, "message": p.message})).collect::<Vec<_>>(),
    })))
}

/// Writes the run down and wakes the queue.
async fn start(State(app): State<App>, Json(asked): Json<Asked>) -> Result<Json<Value>> {
    let prepared = prepare(&app, &asked.answers).await?;
    let row = prepared.laid.recipe.as_ref();
    let from = (row.map(|r| r.id), row.map_or(1, |r| r.version));
    let at = asked.at.as_deref().map(moment).transpose()?;
    let (id, _) = begin(&app, prepared, Start { from, at, most_failures: asked.most_failures }).await?;
    Ok(Json(json!({"run": id})))
}

/// The last run's recipe, with the answers it was given, on the frames on the desk.
async fn again(State(app): State<App>) -> Result<Json<Value>> {
    let runs = app.store.runs().await?;
    let last = runs.into_iter().max_by_key(|r| r.id);
    let last = last.ok_or_else(|| Error::bad("nothing has run yet, so there is nothing to repeat"))?;
    let recipe = Recipe::parse(&last.document)?;
    let name = recipe.name.clone();
    let prepared = prepared(&app, desk::laid(&app).await?, recipe)?;
    let start =
        Start { from: (last.recipe_id, last.recipe_version), at: None, most_failures: last.most_failures };
    let (id, count) = begin(&app, prepared, start).await?;
    let newest = match last.recipe_id {
        Some(recipe) => app.store.recipe(recipe).await.ok().map(|r| r.version),
        None => None,
    };
    let newer = newest.filter(|v| *v > last.recipe_version);
    Ok(Json(json!({"run": id, "count": count, "recipe": name, "version": last.recipe_version,
        "like": last.id, "newer": newer})))
}

/// A time as the store compares it.
fn moment(text: &str) -> Result<String> {
    let time: jiff::Timestamp = text
        .parse()
        .map_err(|_| Error::bad(format!("at: expected a time such as 2026-05-04T22:00:00Z, got {text}")))?;
    Ok(time.strftime("%Y-%m-%dT%H:%M:%SZ").to_string())
}

/// How a run is started.
struct Start {
    /// The recipe and its version.
    from: (Option<i64>, i64),
    /// Not before.
    at: Option<String>,
    most_failures: Option<i64>,
}

/// Writes a run down and wakes the queue; the run's number, and of how many pictures.
async fn begin(app: &App, prepared: Prepared, start: Start) -> Result<(i64, usize)> {
    let Prepared { laid, recipe, base, planned, problems } = prepared;
    if let Some(problem) = problems.iter().find(|p| p.stops) {
        return Err(Error::bad(&problem.message));
    }
    let items: Vec<NewItem> = planned
        .iter()
        .zip(laid.chosen())
        .map(|(p, f)| NewItem {
            source: p.source.to_string_lossy().into_owned(),
            target: p.target.to_string_lossy().into_owned(),
            bytes: f.bytes as i64,
            pixels: f.facts.as_ref().map_or(0, |f| i64::from(f.width) * i64::from(f.height)),
            decided: serde_json::to_string(&Decided::from(&f.marks)).unwrap_or_else(|_| "{}".into()),
        })
        .collect();
    let asks = report::asked(&recipe, 0);
    let run = Run {
        recipe_id: start.from.0,
        recipe_version: start.from.1,
        document: recipe.to_value().to_string(),
        shoot_id: laid.shoot.as_ref().map(|s| s.id),
        shoot_name: laid.name.clone(),
        base: base.to_string_lossy().into_owned(),
        state: if asks.is_some() { "asking".into() } else { "waiting".into() },
        reason: asks,
        created: now(),
        not_before: start.at,
        most_failures: start.most_failures,
        ..Run::default()
    };
    let id = app.store.add_run(&run, &items).await?;
    app.queue.added();
    app.queue.tell(id).await?;
    Ok((id, items.len()))
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
    let told = |item: Item| {
        let outputs = report::outputs(&item);
        let bytes: u64 = outputs.iter().map(|o| o.bytes).sum();
        let target = outputs.first().map_or_else(|| PathBuf::from(&item.target), |o| o.path.clone());
        json!({"position": item.position, "source": name(FilePath::new(&item.source)), "target": name(&target),
            "state": item.state, "kind": item.kind, "reason": item.reason, "seconds": item.seconds, "ended": item.ended,
            "before": bytes_text(item.source_bytes as u64), "after": bytes_text(bytes)})
    };
    let items: Vec<Value> =
        app.store.ended_since(id, asked.since, TOLD).await?.into_iter().map(told).collect();
    let failed: Vec<Value> = app.store.failed(id, TOLD).await?.into_iter().map(told).collect();
    let working: Vec<Option<String>> =
        app.store.working(id).await?.iter().map(|source| name(FilePath::new(source))).collect();
    let (before, after) = app.store.bytes(id).await?;
    let folder = app
        .store
        .item(id, 0)
        .await
        .ok()
        .and_then(|i| FilePath::new(&i.target).parent().map(|p| app.roots.short(p)));
    Ok(Json(json!({"progress": state, "items": items, "more": items.len() as i64 == TOLD, "failed": failed,
        "working": working, "before": bytes_text(before as u64), "after": bytes_text(after as u64), "folder": folder,
        "seconds": run.seconds, "at": run.not_before})))
}

/// The queue: runs that are not over, in their order.
async fn open(State(app): State<App>) -> Result<Json<Value>> {
    let mut all = Vec::new();
    for run in app.store.open_runs().await? {
        let name = Recipe::parse(&run.document).map(|r| r.name).unwrap_or_default();
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

#[derive(Deserialize)]
struct Move {
    /// −1 earlier, 1 later, −2 to the front.
    by: i64,
}

async fn move_run(
    State(app): State<App>,
    Path(id): Path<i64>,
    Json(asked): Json<Move>,
) -> Result<Json<Value>> {
    app.store.move_run(id, asked.by).await?;
    app.queue.added();
    Ok(Json(json!({})))
}

#[derive(Default, Deserialize)]
#[serde(default)]
struct Retry {
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
    if !matches!(run.state.as_str(), "done" | "cancelled") {
        return Err(Error::bad("this run is still at work; cancel it first"));
    }
    for item in app.store.items(id).await? {
        for output in report::outputs(&item) {
            if output.path.exists() {
                app.roots.existing(&output.path)?;
            }
        }
    }
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
            "answers": serde_json::from_str::<Value>(&i.answers).unwrap_or_default()}))
        .collect();
    Ok(Json(json!({"stage": run.stage, "line": line, "what": what, "values": values, "items": items})))
}

#[derive(Deserialize)]
struct Look {
    position: i64,
    #[serde(default)]
    answers: Vec<Answer>,
    edge: u32,
}

/// A picture of a run with values that could be changed, small.
async fn look(State(app): State<App>, Path(id): Path<i64>, Json(asked): Json<Look>) -> Result<Response> {
    let run = app.store.run(id).await?;
    let item = app.store.item(id, asked.position).await?;
    let path = app.roots.existing(FilePath::new(&item.source))?;
    let recipe = Recipe::parse(&run.document)?.answered(&answers_of(&asked.answers))?;
    let jpeg = tokio::task::spawn_blocking(move || -> Result<Vec<u8>> {
        let source = app.sources.open(&path)?;
        let decided: Decided = serde_json::from_str(&item.decided).unwrap_or_default();
        let about =
            rallo_runner::subject(&path, Some(&source.facts(&path)), &decided, item.position as usize + 1);
        let plan = recipe.plan(&*source, &about).map_err(Error::bad)?;
        let edge = f64::from(asked.edge.clamp(64, 2400));
        let program = plan.program((edge / f64::from(plan.size().long_edge())).min(1.0));
        let srgb = OutputProfile::Srgb.colour();
        let picture = program.render(&*source, program.size().rect(), srgb).map_err(Error::bad)?;
        let encoding = Encoding::Jpeg { quality: 90, chroma: Chroma::Full, progressive: false };
        Ok(rallo_media::encode(&picture, encoding, &Extras::default())?)
    })
    .await??;
    Ok(image(jpeg, "image/jpeg", false))
}

#[derive(Deserialize)]
struct Pass {
    stage: i64,
    /// For all pictures.
    #[serde(default)]
    answers: Vec<Answer>,
    /// For single ones.
    #[serde(default)]
    ones: Vec<OneAnswered>,
}

#[derive(Deserialize)]
struct OneAnswered {
    position: i64,
    answers: Vec<Answer>,
}

/// The yes that a run waited for.
async fn pass(State(app): State<App>, Path(id): Path<i64>, Json(pass): Json<Pass>) -> Result<Json<Value>> {
    let run = app.store.run(id).await?;
    let recipe = Recipe::parse(&run.document)?.answered(&answers_of(&pass.answers))?;
    for one in &pass.ones {
        let answers = answers_of(&one.answers);
        recipe.answered(&answers)?;
        let text = serde_json::to_string(&answers).map_err(Error::bad)?;
        app.store.set_answers(id, one.position, &text).await?;
    }
    let document = recipe.to_value().to_string();
    let asks = report::asked(&recipe, pass.stage + 1);
    if !app.store.pass_run(id, pass.stage, &document, asks.as_deref()).await? {
        return Err(Error::bad("this run does not ask that any more; reload the page"));
    }
    app.queue.added();
    app.queue.tell(id).await?;
    Ok(Json(json!({})))
}

async fn report_json(State(app): State<App>, Path(id): Path<i64>) -> Result<Response> {
    let text = serde_json::to_string_pretty(&report::of(&app.store, id).await?).map_err(Error::bad)?;
    Ok(attached(text + "\n", "application/json", format!("run-{id}.json")))
}

async fn report_csv(State(app): State<App>, Path(id): Path<i64>) -> Result<Response> {
    let text = report::table(&report::of(&app.store, id).await?);
    Ok(attached(text, "text/csv; charset=utf-8", format!("run-{id}.csv")))
}

/// A text to be kept under a name.
fn attached(text: String, kind: &'static str, name: String) -> Response {
    let to = format!("attachment; filename=\"{name}\"");
    ([(header::CONTENT_TYPE, kind.to_owned()), (header::CONTENT_DISPOSITION, to)], text).into_response()
}

async fn limits(State(app): State<App>) -> Json<Limits> {
    Json(app.queue.limits())
}

async fn set_limits(State(app): State<App>, Json(limits): Json<Limits>) -> Result<Json<Limits>> {
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
    let laid = desk::laid(&app).await?;
    let busy = |f: &&rallo_shoot::Frame| sources.contains(&*f.path.to_string_lossy());
    Ok(Json(laid.frames.iter().filter(busy).map(|f| f.id).collect()))
}

/// The first file an item wrote.
async fn output(app: &App, id: i64, position: i64) -> Result<Output> {
    let item = app.store.item(id, position).await?;
    let mut output =
        report::outputs(&item).into_iter().next().ok_or_else(|| Error::bad("this picture has no result"))?;
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
    let kind = if output.path.extension().is_some_and(|e| e == "png") { "image/png" } else { "image/jpeg" };
    let bytes =
        tokio::fs::read(&output.path).await.map_err(|e| Error::bad(format!("the result is gone: {e}")))?;
    Ok(image(bytes, kind, false))
}

/// The original of a result, as large as a window at most.
async fn original(State(app): State<App>, Path((id, position)): Path<(i64, i64)>) -> Result<Response> {
    let item = app.store.item(id, position).await?;
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
