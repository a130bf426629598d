//! The frames on the desk: what is shown in which order, what is decided about them, their pictures.

mod change;
mod desk;
mod keywords;
mod pictures;
mod selections;

pub use crate::api::frames::pictures::cached_thumb;

use crate::api::answer::about;
pub(crate) use crate::api::frames::change::{Shift, Shifted, shifted_times};
use crate::api::frames::change::{change, redo, shift, undo};
use crate::api::frames::desk::{get_desk, set_desk};
pub(crate) use crate::api::frames::keywords::kept_keywords;
use crate::api::frames::keywords::{keywords, set_keywords, sidecars};
use crate::api::frames::pictures::{part, thumb};
use crate::api::frames::selections::{add_selection, forget_selection, selections, take_out};
use crate::error::{Error, Result};
use crate::request::Sent;
use crate::{App, workspace};
use aide::axum::ApiRouter;
use aide::axum::routing::{delete_with, get_with, post_with};
use axum::Json;
use axum::extract::State;
use rallo_engine::Measures;
use rallo_job::prelude::*;
use rallo_media::Facts;
use rallo_runner::Set;
use rallo_runner::library::shoot_index::Refusal;
use rallo_shoot::{Choice, Filter, Frame, Order, facets, sequence};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::{HashMap, HashSet};
use std::fmt::Write;

pub fn routes() -> ApiRouter<App> {
    ApiRouter::new()
        .api_route("/api/view", post_with(view, about("Frames on the desk, filtered and sorted")))
        .api_route("/api/rows", post_with(rows, about("What is shown of some frames")))
        .api_route("/api/change", post_with(change, about("Choose, rate, label frames")))
        .api_route("/api/undo", post_with(undo, about("Take the last change back")))
        .api_route("/api/redo", post_with(redo, about("Do it again after all")))
        .api_route("/api/shift", post_with(shift, about("Correct capture times")))
        .api_route("/api/check", post_with(check, about("Check a sequence")))
        .api_route("/api/sidecars", post_with(sidecars, about("Write or read XMP files beside frames")))
        .api_route(
            "/api/keywords",
            get_with(keywords, about("Keywords of one's own")).put_with(set_keywords, about("Keep them")),
        )
        .api_route(
            "/api/selections",
            get_with(selections, about("Selections")).post_with(add_selection, about("Keep a selection")),
        )
        .api_route("/api/selections/{id}", delete_with(forget_selection, about("Forget a selection")))
        .api_route(
            "/api/selections/{id}/remove",
            post_with(take_out, about("Take frames out of a selection")),
        )
        .api_route("/api/frames/{id}/thumb", get_with(thumb, about("A frame, small")))
        .api_route(
            "/api/frames/{id}/part",
            get_with(part, about("A part of a frame at full size: ?x=&y=&w=&h=")),
        )
        .api_route(
            "/api/desk",
            get_with(get_desk, about("What lies on the desk"))
                .put_with(set_desk, about("Lay something else on it")),
        )
}

impl From<Refusal> for Error {
    fn from(e: Refusal) -> Self {
        match e {
            Refusal::Records(e) => e.into(),
            Refusal::Wrong(text) => Self::bad(text),
        }
    }
}

fn set_of(desk: &workspace::Desk) -> Result<Set> {
    desk.set().ok_or_else(|| Error::bad("there are no frames yet; choose a folder"))
}

/// What is to be seen of the frames on the desk.
#[derive(Deserialize, JsonSchema)]
struct View {
    /// Only these.
    #[serde(default)]
    filter: Filter,
    /// Kept with the shoot when given.
    order: Option<Order>,
}

/// Which frames are shown, in order, and how many there are of what.
#[derive(Default, Serialize, JsonSchema)]
struct Viewed {
    /// What they are called together.
    name: String,
    /// The frames that are shown.
    ids: Vec<i64>,
    /// Their mean colours, six hexadecimal digits each.
    colours: String,
    /// Their choices, a letter each: `o` open, `k` kept, `s` set aside.
    choices: String,
    /// Frames in all.
    total: usize,
    /// How they are sorted.
    order: Order,
    /// What they have in common, counted.
    facets: Vec<facets::Counts>,
    /// Frames that should be looked at, by the reason.
    suggested: HashMap<&'static str, Vec<i64>>,
    /// Frames not decided yet.
    open: usize,
    /// Frames that are kept.
    kept: usize,
    /// Frames set aside.
    aside: usize,
    /// Frames a run would take.
    chosen: usize,
    /// What those are, in a word.
    word: String,
    /// How many a run would leave out, and why, in words.
    left_out_of_run: String,
    /// The frame last looked at.
    at: Option<i64>,
    /// Whether the shoot is being looked through.
    scanning: bool,
    /// Whether its folders are followed.
    follow: bool,
    /// Whether results of runs are taken in.
    results: bool,
    /// Files that were left out of it.
    left_out: usize,
    /// Frames still to be measured.
    unmeasured: usize,
}

async fn view(State(app): State<App>, Sent(view): Sent<View>) -> Result<Json<Viewed>> {
    if let Some(order) = view.order {
        keep_order(&app, order).await?;
    }
    let laid = workspace::laid(&app).await?;
    let Some(set) = laid.desk.set() else { return Ok(Json(Viewed::default())) };
    let known = app.frames.known(set, laid.desk.recipe).await?;
    // Thousands of frames are counted.
    let viewed = move || {
        let narrowed = facets::narrow(&laid.frames, &view.filter, &known);
        let shown: Vec<&Frame> =
            laid.order.iter().filter(|i| narrowed.fits[**i]).map(|i| &laid.frames[*i]).collect();
        let mut colours = String::with_capacity(shown.len() * 6);
        for frame in &shown {
            let [r, g, b] = frame.measures.as_ref().map_or([0x34; 3], |m| m.colour);
            let _ = write!(colours, "{r:02x}{g:02x}{b:02x}");
        }
        let of = |choice: Choice| laid.frames.iter().filter(|f| f.marks.choice == choice).count();
        let mut suggested: HashMap<&'static str, Vec<i64>> = HashMap::new();
        for (id, kinds) in known.problems.iter() {
            for kind in kinds {
                suggested.entry(kind).or_default().push(*id);
            }
        }
        let shoot = laid.shoot.as_ref().filter(|_| matches!(set, Set::Shoot(_)));
        Viewed {
            ids: shown.iter().map(|f| f.id).collect(),
            colours,
            // Every choice along, so that the page can show a change before it is answered.
            choices: shown.iter().map(|f| ['o', 'k', 's'][f.marks.choice as usize]).collect(),
            total: laid.frames.len(),
            order: laid.sorted,
            facets: narrowed.facets,
            suggested,
            open: of(Choice::Open),
            kept: of(Choice::Kept),
            aside: of(Choice::SetAside),
            chosen: laid.chosen().len(),
            word: laid.word(),
            left_out_of_run: laid.left_out(),
            at: if laid.was_looked_at { laid.desk.frame } else { laid.ordered().next().map(|f| f.id) },
            scanning: laid.is_being_read(&app),
            follow: shoot.is_some_and(|s| s.follow),
            results: shoot.is_some_and(|s| s.results),
            left_out: shoot.map_or(0, |s| app.frames.left_out(s.id).len()),
            unmeasured: laid.frames.iter().filter(|f| f.measures.is_none() && f.problem.is_none()).count(),
            name: laid.name,
        }
    };
    Ok(Json(tokio::task::spawn_blocking(viewed).await?))
}

async fn keep_order(app: &App, order: Order) -> Result<()> {
    let mut desk = workspace::load(app).await?;
    match desk.set() {
        Some(Set::Shoot(id)) => {
            let mut shoot = app.store.shoot(id).await?;
            shoot.sorted = serde_json::to_string(&order).unwrap_or_default();
            app.store.set_shoot(&shoot).await?;
        }
        Some(Set::Selection(_)) => {
            desk.list_order = order;
            workspace::save(app, &desk).await?;
        }
        None => {}
    }
    Ok(())
}

/// Some frames.
#[derive(Deserialize, JsonSchema)]
pub struct Ids {
    /// Their numbers.
    ids: Vec<i64>,
}

/// Most rows in one answer.
const ROWS: usize = 600;

/// What the page shows of a frame.
#[derive(Serialize, JsonSchema)]
struct Row {
    /// Its number.
    id: i64,
    /// File name.
    name: String,
    /// The folder it lies in.
    folder: String,
    /// Size of the file.
    bytes: u64,
    /// When the file was changed, as a number that changes with it.
    stamp: String,
    /// What the file says.
    facts: Option<Facts>,
    /// Why it cannot be read.
    problem: Option<String>,
    /// Capture time, corrected.
    #[schemars(with = "Option<String>")]
    taken: Option<jiff::civil::DateTime>,
    /// Milliseconds that is corrected by.
    shift: i64,
    /// Open, kept or set aside.
    choice: Choice,
    /// 0 none … 5.
    rating: u8,
    /// Keywords.
    keywords: Vec<String>,
    /// What its pixels measure.
    measures: Option<Measures>,
    /// Whether the recipe in use made something of it already.
    done: bool,
    /// Reasons to look at it.
    look: Option<Vec<&'static str>>,
}

async fn rows(State(app): State<App>, Sent(Ids { ids }): Sent<Ids>) -> Result<Json<Vec<Row>>> {
    let desk = workspace::load(&app).await?;
    let set = set_of(&desk)?;
    let frames = app.frames.all(set).await?;
    let known = app.frames.known(set, desk.recipe).await?;
    let wanted: HashSet<i64> = ids.into_iter().take(ROWS).collect();
    let row = |f: &Frame| Row {
        id: f.id,
        name: f.name.clone(),
        folder: app.roots.short(f.path.parent().unwrap_or(&f.path)),
        bytes: f.bytes,
        stamp: f.modified.to_string(),
        facts: f.facts.clone(),
        problem: f.problem.clone(),
        taken: f.taken(),
        shift: f.marks.shift,
        choice: f.marks.choice,
        rating: f.marks.rating,
        keywords: f.marks.keywords.clone(),
        measures: f.measures.clone(),
        done: known.done.contains(&f.id),
        look: known.problems.get(&f.id).cloned(),
    };
    Ok(Json(frames.iter().filter(|f| wanted.contains(&f.id)).map(row).collect()))
}

/// The sequence check of the frames a run would take.
#[derive(Serialize, JsonSchema)]
struct Checked {
    /// What it says.
    check: sequence::Check,
    /// What the frames are called together.
    name: String,
}

async fn check(State(app): State<App>) -> Result<Json<Checked>> {
    let (check, name) = check_chosen(&app).await?;
    Ok(Json(Checked { check, name }))
}

/// The check of the frames a run would take, and what they are called together.
pub(crate) async fn check_chosen(app: &App) -> Result<(sequence::Check, String)> {
    let laid = workspace::laid(app).await?;
    let chosen: Vec<Frame> = laid.chosen().into_iter().filter(|f| f.facts.is_some()).cloned().collect();
    if chosen.is_empty() {
        return Err(Error::bad("there are no readable frames to check"));
    }
    let check = tokio::task::spawn_blocking(move || sequence::check(&chosen)).await?;
    Ok((check, laid.name))
}
