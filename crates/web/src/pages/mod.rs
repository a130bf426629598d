//! The pages, rendered on the server.

mod assets;
mod bench_dialogs;
mod fields;
mod folders;
mod frame_dialogs;
mod questions;
mod queue;
mod recipes;
mod run;
mod runs;
mod sheet;
mod start;
mod ticket;
mod watched;

use crate::App;
use crate::error::{Error, Result};
use crate::words::{self, say};
use crate::workspace::{self, Laid};
use askama::Template;
use axum::Router;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{Html, IntoResponse, Response};
use axum::routing::get;
use rallo_media::Format;
use rallo_media::equipment::{EQUIPMENT, Equipment};
use tower_http::compression::CompressionLayer;

pub fn routes() -> Router<App> {
    Router::new()
        .route("/", get(start::start))
        .route("/folder-list", get(folders::folder_list))
        .route("/frames", get(frames))
        .merge(frame_dialogs::routes())
        .merge(bench_dialogs::routes())
        .route("/bench", get(bench))
        .route("/sequence", get(sequence))
        .route("/proof", get(proof))
        .route("/recipes", get(recipes::recipes))
        .route("/recipes/list", get(recipes::recipe_list))
        .route("/recipes/{id}", get(recipes::recipe))
        .route("/recipes/{id}/sheet", get(recipes::settings))
        .route("/recipes/{id}/sheet.pdf", get(recipes::settings_pdf))
        .merge(sheet::routes())
        .merge(questions::routes())
        .route("/watched", get(watched::watched))
        .route("/watched/list", get(watched::watch_list))
        .route("/tools", get(tools))
        .route("/setup", get(setup))
        .route("/runs", get(queue::runs))
        .route("/runs/queue", get(queue::queue))
        .route("/runs/machines", get(queue::machines))
        .route("/runs/{id}", get(run::run))
        .route("/runs/{id}/state", get(run::state))
        .route("/runs/{id}/report", get(runs::run_report))
        .route("/runs/{id}/folder", get(runs::run_folder))
        .route("/second", get(second))
        .route("/keys", get(keys))
        .route("/assets/{*path}", get(assets::asset))
        // Pages and scripts are text: a quarter of it goes over the wire.
        .layer(CompressionLayer::new())
        .fallback(nothing)
}

/// What the rail says on every page.
struct Rail {
    here: &'static str,
    shoot: String,
    frames: usize,
    word: String,
    left_out: String,
    recipe: String,
    token: String,
    /// The shoot whose folders are being read while the page is made; 0 where none is.
    being_read: i64,
}

impl Rail {
    fn new(app: &App, laid: &Laid, here: &'static str) -> Self {
        let chosen = laid.chosen().len();
        Self {
            here,
            shoot: laid.name.clone(),
            frames: chosen,
            word: laid.word(),
            left_out: laid.left_out(),
            recipe: laid.recipe.as_ref().map(|r| r.name.clone()).unwrap_or_default(),
            token: app.token.clone(),
            being_read: laid.shoot.as_ref().filter(|_| laid.is_being_read(app)).map_or(0, |s| s.id),
        }
    }
}

fn html(template: &impl Template) -> Result<Html<String>> {
    template.render().map(Html).map_err(|e| {
        tracing::error!("template: {e}");
        Error(StatusCode::INTERNAL_SERVER_ERROR, "this page could not be drawn".into())
    })
}

/// A time as people read it.
fn clock(text: &str) -> String {
    clock_as(text, "%-d %B %Y, %H:%M")
}

/// A time that something takes, as people say it.
fn about_time(seconds: f64) -> String {
    match seconds {
        s if s < 90.0 => say("any-about-seconds").with("count", s.round().max(1.0) as u64).into(),
        s if s < 5400.0 => say("any-about-minutes").with("count", (s / 60.0).round() as u64).into(),
        s => say("any-about-hours").with("hours", format!("{:.1}", s / 3600.0)).into(),
    }
}

/// A time in short, as on a stamp.
fn clock_short(text: &str) -> String {
    clock_as(text, "%a %-d %b %H:%M")
}

fn clock_as(text: &str, format: &str) -> String {
    let time: Option<jiff::Timestamp> = text.parse().ok();
    let local = time.map(|t| t.to_zoned_datetime(jiff::tz::TimeZone::system()));
    local.map(|t| t.strftime(format).to_string()).unwrap_or_default()
}

#[derive(Template)]
#[template(path = "frames.html")]
struct Frames {
    rail: Rail,
    shoot: i64,
    selection: String,
}

async fn frames(State(app): State<App>) -> Result<Html<String>> {
    let laid = workspace::laid(&app).await?;
    html(&Frames {
        rail: Rail::new(&app, &laid, "frames"),
        shoot: laid.shoot.as_ref().map_or(0, |s| s.id),
        selection: serde_json::to_string(&laid.desk.selection).unwrap_or_default(),
    })
}

#[derive(Template)]
#[template(path = "bench.html")]
struct Bench {
    rail: Rail,
    recipe: i64,
    frame: i64,
    sample: String,
    facts: String,
    /// Whether files of the shoot are read in a way that can be set: camera raw, and what is cut off or transparent.
    asks_reading: bool,
    /// Whether there is camera raw among its files.
    has_raw: bool,
}

async fn bench(State(app): State<App>) -> Result<Html<String>> {
    let laid = workspace::laid(&app).await?;
    let frame = laid.frames.iter().find(|f| Some(f.id) == laid.desk.frame);
    let facts = frame.and_then(|f| f.facts.as_ref()).and_then(|f| serde_json::to_string(f).ok());
    let is_raw = |f: &rallo_shoot::Frame| f.facts.as_ref().is_some_and(|facts| facts.format == Format::Raw);
    let has_raw = laid.frames.iter().any(is_raw);
    html(&Bench {
        rail: Rail::new(&app, &laid, "bench"),
        recipe: laid.recipe.as_ref().map_or(0, |r| r.id),
        frame: frame.map_or(0, |f| f.id),
        sample: frame.map(|f| f.name.clone()).unwrap_or_default(),
        facts: facts.unwrap_or_else(|| "{}".into()),
        asks_reading: has_raw || laid.frames.iter().any(|f| f.problem.is_some()),
        has_raw,
    })
}

#[derive(Template)]
#[template(path = "sequence.html")]
struct Sequence {
    rail: Rail,
}

async fn sequence(State(app): State<App>) -> Result<Html<String>> {
    let laid = workspace::laid(&app).await?;
    html(&Sequence { rail: Rail::new(&app, &laid, "sequence") })
}

#[derive(Template)]
#[template(path = "proof.html")]
struct Proof {
    rail: Rail,
}

async fn proof(State(app): State<App>) -> Result<Html<String>> {
    let laid = workspace::laid(&app).await?;
    html(&Proof { rail: Rail::new(&app, &laid, "proof") })
}

#[derive(Template)]
#[template(path = "setup.html")]
struct Setup {
    rail: Rail,
    locked: bool,
    /// Programs of others, and whether each is here.
    equipment: Vec<(Equipment, bool)>,
}

async fn setup(State(app): State<App>) -> Result<Html<String>> {
    let laid = workspace::laid(&app).await?;
    html(&Setup {
        rail: Rail::new(&app, &laid, "setup"),
        locked: app.door.locked,
        equipment: EQUIPMENT.map(|e| (e, e.is_there())).to_vec(),
    })
}

#[derive(Template)]
#[template(path = "second.html")]
struct Second {
    rail: Rail,
    frame: i64,
    stamp: i64,
    name: String,
}

async fn second(State(app): State<App>) -> Result<Html<String>> {
    let laid = workspace::laid(&app).await?;
    let frame = laid.frames.iter().find(|f| Some(f.id) == laid.desk.frame);
    html(&Second {
        rail: Rail::new(&app, &laid, "second"),
        frame: frame.map_or(0, |f| f.id),
        stamp: frame.map_or(0, |f| f.modified),
        name: frame.map(|f| f.name.clone()).unwrap_or_default(),
    })
}

#[derive(Template)]
#[template(path = "tools.html")]
struct Tools {
    rail: Rail,
}

/// What is done to files without a run.
async fn tools(State(app): State<App>) -> Result<Html<String>> {
    let laid = workspace::laid(&app).await?;
    html(&Tools { rail: Rail::new(&app, &laid, "tools") })
}

#[derive(Template)]
#[template(path = "keys.html")]
struct Keys {
    rail: Rail,
}

async fn keys(State(app): State<App>) -> Result<Html<String>> {
    let laid = workspace::laid(&app).await?;
    html(&Keys { rail: Rail::new(&app, &laid, "keys") })
}

#[derive(Template)]
#[template(path = "nothing.html")]
struct Nothing {
    rail: Rail,
}

async fn nothing(State(app): State<App>) -> Result<Response> {
    let laid = workspace::laid(&app).await?;
    Ok((StatusCode::NOT_FOUND, html(&Nothing { rail: Rail::new(&app, &laid, "keys") })?).into_response())
}
