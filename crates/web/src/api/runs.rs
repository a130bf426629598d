//! The run sheet, runs, progress.

use super::frames::cached_thumb;
use super::image;
use crate::desk::Laid;
use crate::error::{Error, Result};
use crate::{App, desk};
use axum::extract::{Path, State};
use axum::response::Response;
use axum::response::sse::{Event, KeepAlive, Sse};
use axum::routing::{get, post};
use axum::{Json, Router};
use rallo_engine::Source;
use rallo_media::{FileSource, Made, bytes_text};
use rallo_recipe::Recipe;
use rallo_runner::batch::Output;
use rallo_runner::scan::common_folder;
use rallo_runner::{Decided, execute, now, targets};
use rallo_store::{NewItem, Run};
use serde::Deserialize;
use serde_json::{Value, json};
use std::path::{Path as FilePath, PathBuf};
use std::time::Instant;
use tokio::sync::broadcast::error::RecvError;

pub fn routes() -> Router<App> {
    Router::new()
        .route("/api/sheet", post(sheet))
        .route("/api/runs", post(start))
        .route("/api/runs/again", post(again))
        .route("/api/runs/{id}", get(one))
        .route("/api/runs/{id}/cancel", post(cancel))
        .route("/api/runs/{id}/retry", post(retry))
        .route("/api/runs/{id}/items/{position}/thumb", get(thumb))
        .route("/api/runs/{id}/items/{position}/result", get(result))
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
    let answers: Vec<_> = answers.iter().map(|a| (a.line, a.param.clone(), a.value.clone())).collect();
    let recipe = recipe.answered(&answers)?;
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
    if let Some(at) = recipe.steps.iter().position(|l| l.on && l.checkpoint.is_some()) {
        let message = format!(
            "line {} has a checkpoint; runs do not wait there yet, so look at the results when they are done",
            at + 1
        );
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
    let (id, _) = begin(&app, prepared, from).await?;
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
    let (id, count) = begin(&app, prepared, (last.recipe_id, last.recipe_version)).await?;
    let newest = match last.recipe_id {
        Some(recipe) => app.store.recipe(recipe).await.ok().map(|r| r.version),
        None => None,
    };
    let newer = newest.filter(|v| *v > last.recipe_version);
    Ok(Json(json!({"run": id, "count": count, "recipe": name, "version": last.recipe_version,
        "like": last.id, "newer": newer})))
}

/// The run's number, and of how many pictures.
async fn begin(app: &App, prepared: Prepared, from: (Option<i64>, i64)) -> Result<(i64, usize)> {
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
            decided: serde_json::to_string(&Decided::from(&f.marks)).unwrap_or_else(|_| "{}".into()),
        })
        .collect();
    let run = Run {
        id: 0,
        recipe_id: from.0,
        recipe_version: from.1,
        document: recipe.to_value().to_string(),
        shoot_id: laid.shoot.as_ref().map(|s| s.id),
        shoot_name: laid.name.clone(),
        base: base.to_string_lossy().into_owned(),
        state: "waiting".into(),
        created: now(),
        started: None,
        finished: None,
        seconds: 0.0,
    };
    let id = app.store.add_run(&run, &items).await?;
    app.queue.added();
    Ok((id, items.len()))
}

/// A run with everything the page shows.
async fn one(State(app): State<App>, Path(id): Path<i64>) -> Result<Json<Value>> {
    let run = app.store.run(id).await?;
    let state = app.queue.state(&run, None).await?;
    let mut before = 0;
    let mut after = 0;
    let items: Vec<Value> = app
        .store
        .items(id)
        .await?
        .into_iter()
        .map(|item| {
            let outputs: Vec<Output> = item.outputs.as_deref().and_then(|t| serde_json::from_str(t).ok()).unwrap_or_default();
            let bytes: u64 = outputs.iter().map(|o| o.bytes).sum();
            if item.state == "done" || item.state == "skipped" {
                before += item.source_bytes as u64;
                after += bytes;
            }
            let name = |p: &FilePath| p.file_name().map(|n| n.to_string_lossy().into_owned());
            let target = outputs.first().map_or_else(|| PathBuf::from(&item.target), |o| o.path.clone());
            json!({"position": item.position, "source": name(FilePath::new(&item.source)), "target": name(&target),
                "state": item.state, "reason": item.reason, "seconds": item.seconds,
                "before": bytes_text(item.source_bytes as u64), "after": bytes_text(bytes)})
        })
        .collect();
    let folder = app
        .store
        .item(id, 0)
        .await
        .ok()
        .and_then(|i| FilePath::new(&i.target).parent().map(|p| app.roots.short(p)));
    Ok(Json(
        json!({"progress": state, "items": items, "before": bytes_text(before), "after": bytes_text(after),
        "folder": folder, "seconds": run.seconds}),
    ))
}

async fn cancel(State(app): State<App>, Path(id): Path<i64>) -> Result<Json<Value>> {
    app.queue.cancel(id).await?;
    Ok(Json(json!({})))
}

async fn retry(State(app): State<App>, Path(id): Path<i64>) -> Result<Json<Value>> {
    app.store.retry_failed(id).await?;
    app.queue.added();
    Ok(Json(json!({})))
}

/// The first file an item wrote.
async fn output(app: &App, id: i64, position: i64) -> Result<Output> {
    let item = app.store.item(id, position).await?;
    let outputs: Vec<Output> =
        item.outputs.as_deref().and_then(|t| serde_json::from_str(t).ok()).unwrap_or_default();
    let mut output = outputs.into_iter().next().ok_or_else(|| Error::bad("this picture has no result"))?;
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

/// Progress of every run, as it happens.
async fn events(
    State(app): State<App>,
) -> Sse<impl futures_core::Stream<Item = std::result::Result<Event, std::convert::Infallible>>> {
    let receiver = app.queue.events();
    let stream = async_stream::stream! {
        let mut receiver = receiver;
        // What is open now first, so that a page that was reloaded is true at once.
        for run in app.store.open_runs().await.unwrap_or_default() {
            if let Ok(state) = app.queue.state(&run, None).await {
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
