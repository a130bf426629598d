//! The pages, rendered on the server, and the assets that ship with the program.

use crate::App;
use crate::error::{Error, Result};
use crate::workspace::{self, Laid};
use askama::Template;
use axum::Router;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{Html, IntoResponse, Redirect, Response};
use axum::routing::get;
use rallo_job::prelude::*;
use rallo_job::{ItemState, Run};
use rallo_media::{Format, bytes_text};
use rallo_recipe::{Part, Recipe};
use rallo_runner::queue::Helper;
use rallo_runner::report::{self, settings_sheet};
use rallo_runner::schedule::{self, Class};

pub fn routes() -> Router<App> {
    Router::new()
        .route("/", get(|| async { Redirect::to("/frames") }))
        .route("/frames", get(frames))
        .route("/bench", get(bench))
        .route("/sequence", get(sequence))
        .route("/proof", get(proof))
        .route("/recipes", get(recipes))
        .route("/recipes/{id}/sheet", get(settings))
        .route("/recipes/{id}/sheet.pdf", get(settings_pdf))
        .route("/sheet", get(sheet))
        .route("/watched", get(watched))
        .route("/setup", get(setup))
        .route("/runs", get(runs))
        .route("/runs/machines", get(machines))
        .route("/runs/{id}", get(run))
        .route("/runs/{id}/report", get(run_report))
        .route("/runs/{id}/folder", get(run_folder))
        .route("/second", get(second))
        .route("/keys", get(keys))
        .route("/assets/{*path}", get(asset))
        .fallback(nothing)
}

#[derive(rust_embed::RustEmbed)]
#[folder = "assets"]
struct Assets;

/// A file of the pages. It is asked for again on every page, and sent again only when it has changed: its hash is its tag
/// (RFC 9110, 8.8.3).
async fn asset(Path(path): Path<String>, headers: HeaderMap) -> Response {
    let Some(file) = Assets::get(&path) else { return StatusCode::NOT_FOUND.into_response() };
    let hash = file.metadata.sha256_hash();
    let tag = format!("\"{}\"", hash[..12].iter().map(|b| format!("{b:02x}")).collect::<String>());
    let known = headers.get_all(header::IF_NONE_MATCH).iter().filter_map(|v| v.to_str().ok());
    if known.flat_map(|v| v.split(',')).any(|v| v.trim().trim_start_matches("W/") == tag) {
        return (StatusCode::NOT_MODIFIED, [(header::ETAG, tag)]).into_response();
    }
    let kind = match path.rsplit('.').next() {
        Some("css") => "text/css; charset=utf-8",
        Some("js") => "text/javascript; charset=utf-8",
        Some("woff2") => "font/woff2",
        Some("svg") => "image/svg+xml",
        _ => "text/plain; charset=utf-8",
    };
    let cache = if path.starts_with("vendor/") { "public, max-age=31536000, immutable" } else { "no-cache" };
    ([(header::CONTENT_TYPE, kind), (header::CACHE_CONTROL, cache), (header::ETAG, &tag)], file.data)
        .into_response()
}

/// What the rail says on every page.
struct Rail {
    here: &'static str,
    shoot: String,
    frames: usize,
    word: &'static str,
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

/// A recipe as a slip of paper.
struct Ticket {
    name: String,
    version: i64,
    lines: Vec<TicketLine>,
    goes: Vec<Vec<Part>>,
}

/// One line of it, and what stands above: the head of a block, a place to wait.
struct TicketLine {
    heads: Vec<String>,
    on: bool,
    parts: Vec<Part>,
}

impl TicketLine {
    fn new(recipe: &Recipe, at: usize) -> Self {
        let line = &recipe.steps[at];
        Self { heads: recipe.heads(at), on: line.on, parts: line.parts(None) }
    }
}

impl Ticket {
    fn new(document: &str, version: i64) -> Result<Self> {
        let recipe = Recipe::parse(document)?;
        Ok(Self {
            name: recipe.name.clone(),
            version,
            lines: (0..recipe.steps.len()).map(|i| TicketLine::new(&recipe, i)).collect(),
            goes: recipe.deliveries.iter().map(|d| d.parts(&recipe)).collect(),
        })
    }
}

#[derive(Template)]
#[template(path = "recipes.html")]
struct Recipes {
    rail: Rail,
}

async fn recipes(State(app): State<App>) -> Result<Html<String>> {
    let laid = workspace::laid(&app).await?;
    html(&Recipes { rail: Rail::new(&app, &laid, "recipes") })
}

#[derive(Template)]
#[template(path = "watched.html")]
struct Watched {
    rail: Rail,
}

async fn watched(State(app): State<App>) -> Result<Html<String>> {
    let laid = workspace::laid(&app).await?;
    html(&Watched { rail: Rail::new(&app, &laid, "watched") })
}

#[derive(Template)]
#[template(path = "setup.html")]
struct Setup {
    rail: Rail,
    locked: bool,
}

async fn setup(State(app): State<App>) -> Result<Html<String>> {
    let laid = workspace::laid(&app).await?;
    html(&Setup { rail: Rail::new(&app, &laid, "setup"), locked: app.door.locked })
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

/// The recipe as a page to be printed.
#[derive(Template)]
#[template(path = "settings.html")]
struct Settings {
    ticket: Ticket,
    note: String,
    labels: String,
    saved: String,
    frame: i64,
    id: i64,
    token: String,
}

async fn settings(State(app): State<App>, Path(id): Path<i64>) -> Result<Html<String>> {
    let laid = workspace::laid(&app).await?;
    let row = app.store.recipe(id).await?;
    let recipe = Recipe::parse(&row.document)?;
    html(&Settings {
        ticket: Ticket::new(&row.document, row.version)?,
        note: recipe.note.clone(),
        labels: recipe.labels.join(", "),
        saved: clock(&row.saved),
        frame: laid.desk.frame.unwrap_or(0),
        id,
        token: app.token.clone(),
    })
}

/// The same sheet as a PDF, with the pictures of the frame on the desk.
async fn settings_pdf(State(app): State<App>, Path(id): Path<i64>) -> Result<Response> {
    let laid = workspace::laid(&app).await?;
    let row = app.store.recipe(id).await?;
    let recipe = Recipe::parse(&row.document)?;
    let frame = match laid.desk.frame {
        // A frame that cannot be opened leaves the sheet without pictures.
        Some(frame) => crate::api::bench::open(&app, frame, &recipe).await.ok(),
        None => None,
    };
    let about = format!("Version {}, {}", row.version, clock(&row.saved));
    let bytes = schedule::ask(Class::Sight, move || {
        let pair = frame.and_then(|f| settings_sheet::pair(&recipe, &*f.source, &f.about).ok());
        settings_sheet::settings(&recipe, &about, pair)
    })
    .await??;
    let head = [(header::CONTENT_TYPE, "application/pdf"), (header::CACHE_CONTROL, "no-store")];
    Ok((head, bytes).into_response())
}

/// A time as people read it.
fn clock(text: &str) -> String {
    let time: Option<jiff::Timestamp> = text.parse().ok();
    time.map(|t| t.to_zoned_datetime(jiff::tz::TimeZone::system()).strftime("%-d %B %Y, %H:%M").to_string())
        .unwrap_or_default()
}

#[derive(Template)]
#[template(path = "sheet.html")]
struct Sheet {
    rail: Rail,
    ticket: Ticket,
}

async fn sheet(State(app): State<App>) -> Result<Html<String>> {
    let laid = workspace::laid(&app).await?;
    let row = laid.recipe.as_ref().ok_or_else(|| Error::bad("there is no recipe"))?;
    html(&Sheet { ticket: Ticket::new(&row.document, row.version)?, rail: Rail::new(&app, &laid, "sheet") })
}

#[derive(Template)]
#[template(path = "run.html")]
struct RunPage {
    rail: Rail,
    ticket: Ticket,
    run: Run,
    stamp: String,
}

async fn run(State(app): State<App>, Path(id): Path<i64>) -> Result<Html<String>> {
    let laid = workspace::laid(&app).await?;
    let run = app.store.run(id).await?;
    let clock = |text: &Option<String>| {
        let time: Option<jiff::Timestamp> = text.as_deref().and_then(|t| t.parse().ok());
        time.map(|t| t.to_zoned_datetime(jiff::tz::TimeZone::system()).strftime("%-d %b %H:%M").to_string())
            .unwrap_or_default()
    };
    html(&RunPage {
        ticket: Ticket::new(&run.document, run.recipe_version)?,
        stamp: clock(&run.finished.clone().or(run.started.clone())),
        run,
        rail: Rail::new(&app, &laid, "run"),
    })
}

/// A run's report as a page to be printed.
#[derive(Template)]
#[template(path = "report.html")]
struct RunReport {
    id: i64,
    ticket: Ticket,
    frames_of: String,
    when: String,
    words: String,
    warnings: Vec<String>,
    origin: String,
    rows: Vec<ReportRow>,
}

struct ReportRow {
    source: String,
    result: String,
    reason: String,
    size: String,
    before: String,
    after: String,
    seconds: String,
}

async fn run_report(State(app): State<App>, Path(id): Path<i64>) -> Result<Html<String>> {
    let run = app.store.run(id).await?;
    let counts = app.store.counts(id).await?;
    let name = |path: &str| {
        std::path::Path::new(path).file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default()
    };
    let row = |item: rallo_job::RunItem| {
        let outputs = &item.outputs;
        let first = outputs.first();
        let reason = if item.state == ItemState::Done {
            String::new()
        } else {
            item.reason.unwrap_or(item.state.to_string())
        };
        ReportRow {
            source: name(&item.source),
            result: first.map(|o| name(&o.path.to_string_lossy())).unwrap_or_default(),
            reason,
            size: first.map(|o| format!("{} × {}", o.width, o.height)).unwrap_or_default(),
            before: bytes_text(item.source_bytes as u64),
            after: first.map(|o| bytes_text(o.bytes)).unwrap_or_default(),
            seconds: item.seconds.map(|s| format!("{s:.1}")).unwrap_or_default(),
        }
    };
    let (before, after) = app.store.bytes(id).await?;
    let (before, after) = (bytes_text(before as u64), bytes_text(after as u64));
    let words = format!(
        "{} of {} pictures made, {} were there already, {} failed, in {:.1} seconds. {after} where the originals are {before}.",
        counts.done, counts.total, counts.skipped, counts.failed, run.seconds
    );
    let items = app.store.items(id).await?;
    let mut warnings = run.warnings.clone();
    warnings.extend(report::found(&run.document, &items));
    html(&RunReport {
        id,
        ticket: Ticket::new(&run.document, run.recipe_version)?,
        warnings,
        origin: run.origin,
        frames_of: run.shoot_name,
        when: clock(run.finished.as_deref().or(run.started.as_deref()).unwrap_or(&run.created)),
        words,
        rows: items.into_iter().map(row).collect(),
    })
}

/// What lies in the folder a run wrote into.
#[derive(Template)]
#[template(path = "listing.html")]
struct Listing {
    rail: Rail,
    id: i64,
    folder: String,
    more: usize,
    rows: Vec<ListingRow>,
}

struct ListingRow {
    name: String,
    bytes: String,
    when: String,
    /// Place in the run of what it wrote.
    made: Option<i64>,
}

/// Files that are listed.
const LISTED: usize = 5000;

async fn run_folder(State(app): State<App>, Path(id): Path<i64>) -> Result<Html<String>> {
    let laid = workspace::laid(&app).await?;
    let target = app.store.first_target(id).await?.ok_or_else(|| Error::bad("this run has no pictures"))?;
    let folder = std::path::Path::new(&target).parent().unwrap_or(std::path::Path::new("/")).to_owned();
    let folder = app.roots.existing(&folder)?;
    let made: std::collections::HashMap<_, _> = app
        .store
        .items(id)
        .await?
        .into_iter()
        .filter(|i| i.state == ItemState::Done)
        .flat_map(|i| i.outputs.clone().into_iter().map(move |o| (o.path, i.position)))
        .collect();
    let short = app.roots.short(&folder);
    let (rows, more) =
        tokio::task::spawn_blocking(move || listed(&folder, &made)).await?.map_err(Error::bad)?;
    html(&Listing { rail: Rail::new(&app, &laid, "run"), id, folder: short, more, rows })
}

fn listed(
    folder: &std::path::Path,
    made: &std::collections::HashMap<std::path::PathBuf, i64>,
) -> std::io::Result<(Vec<ListingRow>, usize)> {
    let mut rows = Vec::new();
    for entry in std::fs::read_dir(folder)?.flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        let Ok(about) = entry.metadata() else { continue };
        if name.starts_with('.') {
            continue;
        }
        let when = about.modified().ok().and_then(|t| jiff::Timestamp::try_from(t).ok());
        rows.push(ListingRow {
            bytes: if about.is_dir() { "folder".into() } else { bytes_text(about.len()) },
            when: when.map(|t| clock(&t.to_string())).unwrap_or_default(),
            made: made.get(&folder.join(&name)).copied(),
            name,
        });
    }
    rows.sort_by_cached_key(|r| rallo_shoot::natural_key(&r.name));
    let more = rows.len().saturating_sub(LISTED);
    rows.truncate(LISTED);
    Ok((rows, more))
}

#[derive(Template)]
#[template(path = "runs.html")]
struct Runs {
    rail: Rail,
    machines: Machines,
    runs: Vec<(Run, String, rallo_job::Counts)>,
}

async fn runs(State(app): State<App>) -> Result<Html<String>> {
    let laid = workspace::laid(&app).await?;
    let mut runs = Vec::new();
    for run in app.store.runs().await?.into_iter().filter(|r| r.state.is_over()) {
        let counts = app.store.counts(run.id).await?;
        let name = run.recipe_name.clone();
        runs.push((run, name, counts));
    }
    html(&Runs { rail: Rail::new(&app, &laid, "run"), machines: Machines::new(&app), runs })
}

/// Other machines that make pictures of runs.
#[derive(Template)]
#[template(path = "machines.html")]
struct Machines {
    broker: Option<String>,
    helpers: Vec<Helper>,
}

impl Machines {
    fn new(app: &App) -> Self {
        let helpers = app.queue.helpers();
        Self { broker: helpers.address(), helpers: helpers.helpers() }
    }
}

/// How they stand now, to be exchanged in a page that is open.
async fn machines(State(app): State<App>) -> Result<Html<String>> {
    html(&Machines::new(&app))
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
