//! The sequence on the desk, looked at before it is made: its frames small, as a recipe will make them, played in the page.

use super::answer::{Image, about};
use super::document::Document;
use super::lock;
use crate::error::{Error, Result};
use crate::request::{Path, Query, Sent};
use crate::{App, workspace};
use aide::axum::ApiRouter;
use aide::axum::routing::{get_with, post_with};
use axum::Json;
use axum::extract::State;
use rallo_runner::Decided;
use rallo_runner::render::measurements::Measurements;
use rallo_runner::render::preview::{Preview, PreviewMemory, Side};
use rallo_runner::render::sequence::SequenceFrame;
use rallo_runner::schedule::{self, Class};
use rallo_shoot::Frame;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

/// Pictures are made ahead only while somebody looks.
const LOOKED_AWAY: Duration = Duration::from_secs(20);

pub fn routes() -> ApiRouter<App> {
    ApiRouter::new()
        .api_route(
            "/api/preview",
            post_with(begin, about("Look at the sequence on the desk as a recipe will make it")),
        )
        .api_route("/api/preview/{key}", get_with(state, about("How far that is")))
        .api_route(
            "/api/preview/{key}/{place}",
            get_with(picture, about("One of its frames, as it will be made or untouched")),
        )
}

/// Sequences being looked at, and what was made for them.
pub(crate) struct Previews {
    pub(super) memory: Arc<PreviewMemory>,
    /// The last ones, the newest last.
    open: Mutex<Vec<Arc<Preview>>>,
    /// Counts what was begun: older work is given up for newer.
    begun: Arc<AtomicUsize>,
}

/// So many are held open.
const OPEN: usize = 3;

impl Previews {
    /// With what is kept of measurements.
    pub(crate) fn new(measured: Arc<Measurements>) -> Self {
        let memory = Arc::new(PreviewMemory::new(measured));
        Self { memory, open: Mutex::default(), begun: Arc::default() }
    }

    fn find(&self, key: &str) -> Option<Arc<Preview>> {
        lock(&self.open).iter().find(|preview| preview.key() == key).cloned()
    }
}

/// How far a look at a sequence is.
#[derive(Serialize, JsonSchema)]
struct PreviewState {
    /// What it is asked for by.
    key: String,
    /// Frames.
    count: usize,
    /// Frames that are measured for lines that decide about all of them together.
    measured: usize,
    /// Whether these lines have decided; before, frames are shown without what they decide.
    decided: bool,
    /// Pictures that are made, with what is decided.
    made: usize,
    /// Lines that are left out, since they take too long for a look.
    left_out: Vec<&'static str>,
}

impl PreviewState {
    fn of(preview: &Preview) -> Self {
        Self {
            key: preview.key().to_owned(),
            count: preview.count(),
            measured: preview.measured(),
            decided: preview.is_decided(),
            made: preview.made(),
            left_out: preview.left_out().to_vec(),
        }
    }
}

/// A look at a sequence that was begun.
#[derive(Serialize, JsonSchema)]
struct Begun {
    /// How far it is.
    #[serde(flatten)]
    state: PreviewState,
    /// Its frames, in their order.
    frames: Vec<FrameEntry>,
}

/// One of its frames.
#[derive(Serialize, JsonSchema)]
struct FrameEntry {
    /// Its number.
    id: i64,
    /// File name.
    name: String,
    /// When the file was changed, as a number that changes with it.
    stamp: i64,
}

/// What is to be looked at.
#[derive(Deserialize, JsonSchema)]
struct BeginAsked {
    /// The recipe.
    recipe: Document,
}

/// The frames a run would take.
async fn chosen(app: &App) -> Result<Vec<Frame>> {
    let laid = workspace::laid(app).await?;
    Ok(laid.chosen().into_iter().cloned().collect())
}

/// A frame as one of a sequence that is looked at.
pub(super) fn looked_at(app: &App, frame: &Frame) -> Result<SequenceFrame> {
    // One that is gone fails by itself.
    let path = match app.roots.existing(&frame.path) {
        Err(_) if !frame.path.exists() => frame.path.clone(),
        path => path?,
    };
    Ok(SequenceFrame { source: path, stamp: frame.modified, decided: Decided::from(&frame.marks) })
}

async fn begin(State(app): State<App>, Sent(asked): Sent<BeginAsked>) -> Result<Json<Begun>> {
    let recipe = asked.recipe.read()?;
    let frames = chosen(&app).await?;
    if frames.is_empty() {
        return Err(Error::bad("there are no frames to look at; choose some on the page Frames"));
    }
    let (shared, of) = (app.clone(), frames.clone());
    let preview = move || -> Result<Preview> {
        let frames = of.iter().map(|f| looked_at(&shared, f)).collect::<Result<Vec<_>>>()?;
        Preview::new(&recipe, frames, shared.previews.memory.clone()).map_err(Error::bad)
    };
    let preview = Arc::new(tokio::task::spawn_blocking(preview).await??);
    let preview = match app.previews.find(preview.key()) {
        Some(known) => known,
        None => {
            let mut open = lock(&app.previews.open);
            open.push(preview.clone());
            if open.len() > OPEN {
                open.remove(0);
            }
            preview
        }
    };
    work_on(&app, preview.clone());
    let entry = |f: Frame| FrameEntry { id: f.id, name: f.name, stamp: f.modified };
    let state = tokio::task::spawn_blocking(move || PreviewState::of(&preview)).await?;
    Ok(Json(Begun { state, frames: frames.into_iter().map(entry).collect() }))
}

/// Measures and makes while somebody waits for it, until something newer is looked at or nobody looks any more.
fn work_on(app: &App, preview: Arc<Preview>) {
    preview.looked_at();
    let begun = app.previews.begun.clone();
    let mine = begun.fetch_add(1, Ordering::SeqCst) + 1;
    tokio::spawn(async move {
        let work = move || {
            let given_up = || begun.load(Ordering::SeqCst) != mine || preview.idle() > LOOKED_AWAY;
            preview.measure(given_up);
            preview.make_all(given_up);
        };
        if let Err(e) = schedule::ask(Class::Sight, work).await {
            tracing::error!("looking at a sequence: {e}");
        }
    });
}

/// A look at a sequence.
#[derive(Deserialize, JsonSchema)]
struct KeyPath {
    /// What it is asked for by.
    key: String,
}

fn found(app: &App, key: &str) -> Result<Arc<Preview>> {
    let preview = app.previews.find(key);
    preview.ok_or_else(|| Error::bad("this look at the sequence is no longer open; begin it again"))
}

async fn state(State(app): State<App>, Path(KeyPath { key }): Path<KeyPath>) -> Result<Json<PreviewState>> {
    let preview = found(&app, &key)?;
    preview.looked_at();
    Ok(Json(tokio::task::spawn_blocking(move || PreviewState::of(&preview)).await?))
}

/// A frame of it.
#[derive(Deserialize, JsonSchema)]
struct PlacePath {
    /// What it is asked for by.
    key: String,
    /// Place in the sequence, from 0.
    #[schemars(range(min = 0))]
    place: usize,
}

/// As what it is shown.
#[derive(Deserialize, JsonSchema)]
struct SideAsked {
    /// As the frame is, framed alike.
    #[serde(default)]
    untouched: bool,
}

async fn picture(
    State(app): State<App>,
    Path(PlacePath { key, place }): Path<PlacePath>,
    Query(asked): Query<SideAsked>,
) -> Result<Image> {
    let preview = found(&app, &key)?;
    preview.looked_at();
    if place >= preview.count() {
        return Err(Error::bad(format!("place: the sequence has {} frames, from 0", preview.count())));
    }
    let side = if asked.untouched { Side::Untouched } else { Side::Made };
    // What somebody sees now goes before what is made ahead.
    let picture = schedule::ask(Class::Eye, move || preview.picture(place, side)).await?;
    Ok(Image::jpeg(picture.map_err(Error::bad)?.to_vec()))
}
