//! Dialogs over the frames, and their menu: what they say and ask is drawn here, what they do is the page's.

use super::html;
use crate::App;
use crate::api::camera::{CameraState, camera_state};
use crate::api::frames::{Shift, Shifted, check_chosen, kept_keywords, shifted_times};
use crate::api::gather::{GatherState, PhaseName, gather_state};
use crate::error::{Error, Result};
use crate::request::{Query, Sent};
use crate::words::{self, say};
use crate::workspace;
use askama::Template;
use axum::Router;
use axum::extract::State;
use axum::response::Html;
use axum::routing::{get, post};
use rallo_job::prelude::*;
use rallo_runner::Set;
use rallo_shoot::gather::TEMPLATE;
use rallo_shoot::sequence::Check;
use schemars::JsonSchema;
use serde::Deserialize;
use std::collections::HashSet;

pub(super) fn routes() -> Router<App> {
    Router::new()
        .route("/frames/menu", get(menu))
        .route("/frames/dialogs/left-out", get(left_out))
        .route("/frames/dialogs/check", get(check))
        .route("/frames/dialogs/selection", get(selection))
        .route("/frames/dialogs/keywords", post(keywords))
        .route("/frames/dialogs/shift", post(shift))
        .route("/frames/dialogs/shifted", post(shifted))
        .route("/frames/dialogs/keyword-list", get(keyword_list))
        .route("/frames/dialogs/camera", get(camera))
        .route("/frames/dialogs/gather", get(gather))
        .route("/frames/dialogs/gathering", get(gathering))
}

/// A shoot, or a selection, in the menu.
struct Entry {
    id: i64,
    name: String,
    frames: i64,
    is_here: bool,
}

#[derive(Template)]
#[template(path = "dialogs/menu.html")]
struct Menu {
    /// The shoot on the desk, where it is one.
    shoot: Option<ShootEntry>,
    /// The selection on the desk, where it is one.
    selection: Option<i64>,
    has_frames: bool,
    selections: Vec<Entry>,
    shoots: Vec<Entry>,
}

struct ShootEntry {
    id: i64,
    follows: bool,
    takes_results: bool,
    left_out: usize,
}

/// Shoots that are named in the menu.
const SHOOTS: usize = 12;

async fn menu(State(app): State<App>) -> Result<Html<String>> {
    let laid = workspace::laid(&app).await?;
    let set = laid.desk.set();
    let here = |id: i64, of: fn(i64) -> Set| set.as_ref().is_some_and(|set| *set == of(id));
    let selections = app.store.selections().await?.into_iter();
    let shoots = app.store.shoots().await?.into_iter().take(SHOOTS);
    html(&Menu {
        shoot: laid.shoot.as_ref().filter(|s| here(s.id, Set::Shoot)).map(|shoot| ShootEntry {
            id: shoot.id,
            follows: shoot.follow,
            takes_results: shoot.results,
            left_out: app.frames.left_out(shoot.id).len(),
        }),
        selection: match set {
            Some(Set::Selection(id)) => Some(id),
            _ => None,
        },
        has_frames: !laid.frames.is_empty(),
        selections: selections
            .map(|s| Entry { is_here: here(s.id, Set::Selection), id: s.id, name: s.name, frames: s.frames })
            .collect(),
        shoots: shoots
            .map(|s| Entry { is_here: here(s.id, Set::Shoot), id: s.id, name: s.name, frames: 0 })
            .collect(),
    })
}

#[derive(Template)]
#[template(path = "dialogs/left-out.html")]
struct LeftOut {
    count: usize,
    files: Vec<(String, String)>,
}

/// Files that are named with why they were left out.
const NAMED: usize = 1000;

async fn left_out(State(app): State<App>) -> Result<Html<String>> {
    let laid = workspace::laid(&app).await?;
    let shoot = laid.shoot.ok_or_else(|| Error::bad("there are no frames yet; choose a folder"))?;
    let all = app.frames.left_out(shoot.id);
    let base = std::path::Path::new(&shoot.base);
    let named = all.iter().take(NAMED).map(|file| {
        let name = file.path.strip_prefix(base).unwrap_or(&file.path);
        (name.display().to_string(), file.reason.clone())
    });
    html(&LeftOut { count: all.len(), files: named.collect() })
}

#[derive(Template)]
#[template(path = "dialogs/check.html")]
struct Checked {
    check: Check,
    /// Distances, as JSON, where there are enough for a plot.
    distances: Option<String>,
}

impl Checked {
    /// Numbers of frames, to be shown alone.
    fn numbers(ids: &[i64]) -> String {
        ids.iter().map(i64::to_string).collect::<Vec<_>>().join(",")
    }
}

async fn check(State(app): State<App>) -> Result<Html<String>> {
    let (check, _) = check_chosen(&app).await?;
    let is_plotted = check.distances.len() > 1 && check.interval > 0.0;
    let distances = is_plotted.then(|| serde_json::to_string(&check.distances).unwrap_or_default());
    html(&Checked { check, distances })
}

/// How many frames something is done to.
#[derive(Default, Deserialize, JsonSchema)]
#[serde(default)]
struct Counted {
    count: usize,
    /// The folder they go to, where they go to one.
    folder: String,
}

#[derive(Template)]
#[template(path = "dialogs/selection.html")]
struct Selection {
    count: usize,
    names: Vec<String>,
}

async fn selection(State(app): State<App>, Query(asked): Query<Counted>) -> Result<Html<String>> {
    let names = app.store.selections().await?.into_iter().map(|s| s.name).collect();
    html(&Selection { count: asked.count, names })
}

#[derive(Template)]
#[template(path = "dialogs/keywords.html")]
struct Keywords {
    count: usize,
    words: Vec<Keyword>,
}

/// A keyword, and how many of the frames have it.
struct Keyword {
    word: String,
    frames: usize,
    is_on: bool,
}

/// Some frames.
#[derive(Deserialize, JsonSchema)]
struct Frames {
    ids: HashSet<i64>,
}

async fn keywords(State(app): State<App>, Sent(some): Sent<Frames>) -> Result<Html<String>> {
    let laid = workspace::laid(&app).await?;
    let frames: Vec<_> = laid.frames.iter().filter(|f| some.ids.contains(&f.id)).collect();
    let mut all = kept_keywords(&app).await?;
    for word in frames.iter().flat_map(|f| &f.marks.keywords) {
        if !all.contains(word) {
            all.push(word.clone());
        }
    }
    let words = all.into_iter().map(|word| {
        let having = frames.iter().filter(|f| f.marks.keywords.contains(&word)).count();
        Keyword { word, frames: having, is_on: having > 0 && having == frames.len() }
    });
    html(&Keywords { count: frames.len(), words: words.collect() })
}

#[derive(Template)]
#[template(path = "dialogs/shift.html")]
struct ShiftDialog {
    count: usize,
    /// The first of them, and when it was taken.
    name: String,
    taken: String,
}

async fn shift(State(app): State<App>, Sent(some): Sent<Frames>) -> Result<Html<String>> {
    let laid = workspace::laid(&app).await?;
    let first = laid.ordered().find(|f| some.ids.contains(&f.id));
    let taken = first.and_then(|f| f.taken()).map(|t| t.strftime("%Y-%m-%d %H:%M:%S%.f").to_string());
    html(&ShiftDialog {
        count: some.ids.len(),
        name: first.map(|f| f.name.clone()).unwrap_or_default(),
        taken: taken.unwrap_or_default(),
    })
}

#[derive(Template)]
#[template(path = "dialogs/shifted.html")]
struct ShiftedRows {
    told: Shifted,
}

async fn shifted(State(app): State<App>, Sent(asked): Sent<Shift>) -> Result<Html<String>> {
    html(&ShiftedRows { told: shifted_times(&app, asked).await? })
}

#[derive(Template)]
#[template(path = "dialogs/keyword-list.html")]
struct KeywordList {
    words: String,
}

async fn keyword_list(State(app): State<App>) -> Result<Html<String>> {
    html(&KeywordList { words: kept_keywords(&app).await?.join("\n") })
}

#[derive(Template)]
#[template(path = "dialogs/camera.html")]
struct Camera {
    state: CameraState,
    /// It is asked how it is to shoot, and not told how it does.
    is_asked: bool,
}

/// Whether settings are asked for.
#[derive(Default, Deserialize, JsonSchema)]
#[serde(default)]
struct Settings {
    settings: bool,
}

async fn camera(State(app): State<App>, Query(asked): Query<Settings>) -> Result<Html<String>> {
    html(&Camera { state: camera_state(&app), is_asked: asked.settings })
}

#[derive(Template)]
#[template(path = "dialogs/gather.html")]
struct Gather {
    count: usize,
    folder: String,
    template: &'static str,
}

async fn gather(Query(asked): Query<Counted>) -> Result<Html<String>> {
    let folder = asked.folder.rsplit('/').next().unwrap_or_default().to_owned();
    html(&Gather { count: asked.count, folder, template: TEMPLATE })
}

#[derive(Template)]
#[template(path = "dialogs/gathering.html")]
struct GatheringDialog {
    state: GatherState,
    title: String,
    share: f64,
    /// What is planned or done, in a sentence.
    said: String,
    lines: Vec<(String, String)>,
}

/// Frames that are named with what becomes of them.
const LINES: usize = 500;

async fn gathering(State(app): State<App>) -> Result<Html<String>> {
    let state = gather_state(app).await?;
    let title = match state.phase {
        PhaseName::Looking => say("dialogs-looking-at-the-frames"),
        PhaseName::Copying => say("dialogs-copying-into"),
        PhaseName::Planned => say("dialogs-into"),
        _ if state.report.as_ref().is_some_and(|report| report.stopped) => {
            say("dialogs-stopped-it-can-go-on")
        }
        _ => say("dialogs-gathered-into"),
    };
    let title = title.with("folder", &state.target).into();
    let Some(report) = &state.report else {
        let share = 100.0 * state.done as f64 / state.total.max(1) as f64;
        let far = match state.phase {
            PhaseName::Looking => say("dialogs-looked-at"),
            PhaseName::Copying => say("dialogs-copied"),
            _ => return Err(Error::bad(state.reason.unwrap_or_default())),
        };
        let said = far.with("done", state.done).with("total", state.total).into();
        return html(&GatheringDialog { title, share, said, lines: Vec::new(), state });
    };
    let trouble = match report.trouble.len() {
        0 => String::new(),
        count => say("dialogs-could-not-be-used").with("count", count).into(),
    };
    let said =
        say(if state.phase.is_planned() { "dialogs-so-many-to-copy" } else { "dialogs-so-many-copied" })
            .with("count", report.copied)
            .with("bytes", &report.bytes)
            .with("there", report.there)
            .with("twice", report.twice)
            .with("trouble", trouble)
            .into();
    let lines = report.lines.iter().take(LINES).map(|line| {
        let becomes = match line.what {
            "there" => say("dialogs-there-already").with("name", &line.name).into(),
            "same" => say("dialogs-same-picture-as").with("name", &line.name).into(),
            _ => line.name.clone(),
        };
        (line.source.clone(), becomes)
    });
    html(&GatheringDialog { title, share: 100.0, said, lines: lines.collect(), state })
}
