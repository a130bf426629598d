//! The sequence on the desk: the light of its frames, and the sieve.

use super::answer::about;
use super::lock;
use crate::error::{Error, Result};
use crate::request::Sent;
use crate::{App, workspace};
use aide::axum::ApiRouter;
use aide::axum::routing::{get_with, post_with};
use axum::Json;
use axum::extract::State;
use rallo_job::prelude::*;
use rallo_recipe::Recipe;
use rallo_runner::Set;
use rallo_runner::library::frame_light::{self, Behind, FrameFile, FrameLight};
use rallo_runner::library::shoot_index::Change;
use rallo_runner::schedule::{self, Class};
use rallo_shoot::document::SequenceSettings;
use rallo_shoot::sieve::{
    Against, HeldLately, Light, Line, Pass, SieveFrame, SwitchedPass, sieve, sieve_again, suggested,
};
use rallo_shoot::{Choice, Frame, MeasuredArea, NamedArea, Order, Sort};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::ops::ControlFlow;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, OnceLock};

pub fn routes() -> ApiRouter<App> {
    ApiRouter::new()
        .api_route(
            "/api/sequence",
            get_with(light, about("The light of the frames on the desk, in the order of time")),
        )
        .api_route(
            "/api/sequence/sieve",
            post_with(through, about("Send the frames through passes, and keep the passes")),
        )
        .api_route(
            "/api/sequence/measure",
            post_with(
                measure,
                about("Measure these areas of the frames, behind so many lines of the recipe"),
            ),
        )
        .api_route(
            "/api/sequence/suggested",
            get_with(
                suggest,
                about("Passes that take night, fog, dull days, passing shadows and what is in the way"),
            ),
        )
        .api_route(
            "/api/sequence/apply",
            post_with(apply, about("Set aside what the sieve does, and take back what it did before")),
        )
}

/// Sequences that are measured, by what they are made of.
#[derive(Default)]
pub(crate) struct Sequences(Mutex<HashMap<Set, Arc<Measuring>>>);

/// What is measured.
#[derive(PartialEq)]
struct MeasuredOf {
    /// Number, time of change and capture time of each frame.
    frames: Vec<(i64, i64, Option<jiff::civil::DateTime>)>,
    areas: Vec<MeasuredArea>,
    /// The recipe's document, and behind how many of its lines.
    behind: Option<(String, usize)>,
}

/// The frames of a sequence, measured or about to be.
struct Measuring {
    of: MeasuredOf,
    /// Whether something else is wanted by now.
    given_up: AtomicBool,
    done: AtomicUsize,
    frames: OnceLock<Vec<SieveFrame>>,
    /// What its lines were held against lately.
    lately: HeldLately,
}

/// The light of the sequence, as far as it is measured.
#[derive(Serialize, JsonSchema)]
struct SequenceLight {
    /// Frames that are measured.
    done: usize,
    /// Frames of the sequence.
    total: usize,
    /// Every frame in the order of time; none before all are measured.
    frames: Vec<FrameEntry>,
    /// The passes that were kept.
    passes: Vec<SwitchedPass>,
    /// Areas that are measured besides the whole.
    areas: Vec<NamedArea>,
    /// What the lines of the recipe on the desk say.
    lines: Vec<String>,
    /// Behind how many of them frames are measured.
    behind: usize,
}

/// One frame.
#[derive(Serialize, JsonSchema)]
struct FrameEntry {
    /// Its number.
    id: i64,
    /// File name.
    name: String,
    /// When the file was changed, as a number that changes with it.
    stamp: i64,
    /// Seconds since the first one, where times are known.
    at: Option<f64>,
    /// When it was taken.
    #[schemars(with = "Option<String>")]
    taken: Option<jiff::civil::DateTime>,
    /// Its light; nothing where it could not be measured.
    light: Option<Light>,
    /// That of each area.
    areas: Vec<Light>,
}

/// The frames of the desk in the order of time, those without one behind the others.
pub(super) struct InOrder {
    set: Set,
    frames: Arc<Vec<Frame>>,
    /// Places among them.
    order: Vec<usize>,
}

impl InOrder {
    pub(super) async fn of(app: &App) -> Result<Self> {
        let set = workspace::load(app).await?.set();
        let set = set.ok_or_else(|| Error::bad("there are no frames yet; choose a folder"))?;
        let frames = app.frames.all(set).await?;
        let order = Order { by: Sort::Time, descending: false }.of(&frames);
        Ok(Self { set, frames, order })
    }

    pub(super) fn iter(&self) -> impl Iterator<Item = &Frame> {
        self.order.iter().map(|at| &self.frames[*at])
    }
}

/// The recipe on the desk.
pub(super) async fn recipe(app: &App) -> Result<Option<(String, Recipe)>> {
    let desk = workspace::load(app).await?;
    let Some(row) = workspace::recipe(app, &desk).await? else { return Ok(None) };
    let recipe = Recipe::parse(&row.document)?;
    Ok(Some((row.document, recipe)))
}

/// The sequence as it is measured; begins to measure it where that is not done.
async fn measuring(app: &App, frames: &InOrder, kept: &Kept) -> Result<Arc<Measuring>> {
    let set = frames.set;
    let recipe = if kept.behind > 0 { recipe(app).await? } else { None };
    let of = MeasuredOf {
        frames: frames.iter().map(|f| (f.id, f.modified, f.taken())).collect(),
        areas: NamedArea::shapes(&kept.areas),
        behind: recipe.as_ref().map(|(document, _)| (document.clone(), kept.behind)),
    };
    if let Some(known) = lock(&app.sequences.0).get(&set).filter(|m| m.of == of) {
        return Ok(known.clone());
    }
    let entry = Arc::new(Measuring {
        of,
        given_up: AtomicBool::new(false),
        done: AtomicUsize::new(0),
        frames: OnceLock::new(),
        lately: HeldLately::default(),
    });
    // While frames are still being found, it would begin anew with every one.
    if let Set::Shoot(shoot) = set
        && app.frames.is_scanning(shoot)
    {
        return Ok(entry);
    }
    if let Some(other) = lock(&app.sequences.0).insert(set, entry.clone()) {
        other.given_up.store(true, Ordering::Relaxed);
    }
    let exposure = |f: &Frame| frame_light::exposure(&f.facts.as_ref()?.camera);
    let files: Vec<FrameFile> = frames
        .iter()
        .map(|f| FrameFile { path: f.path.clone(), taken: f.taken(), exposure: exposure(f) })
        .collect();
    let about: Vec<_> = frames
        .iter()
        .map(|f| (f.name.clone(), f.taken(), f.measures.as_ref().map(|m| f64::from(m.sharpness))))
        .collect();
    let (folder, lines, mine) = (frame_light::folder_of(&app.data), kept.behind, entry.clone());
    tokio::spawn(async move {
        let work = move || {
            let told = |_: &std::path::Path| {
                mine.done.fetch_add(1, Ordering::Relaxed);
                if mine.given_up.load(Ordering::Relaxed) {
                    ControlFlow::Break(())
                } else {
                    ControlFlow::Continue(())
                }
            };
            let behind = recipe.as_ref().map(|(_, recipe)| Behind { recipe, lines });
            let lights = frame_light::lights(&files, &mine.of.areas, Some(&folder), behind, told);
            let Some(lights) = lights else { return };
            let frame =
                |((name, taken, sharpness), FrameLight { mark, light }): ((String, _, _), FrameLight)| {
                    let (light, areas) =
                        light.map_or((None, Vec::new()), |(whole, areas)| (Some(whole), areas));
                    SieveFrame { name, taken, light, areas, sharpness, pixels: mark }
                };
            let _ = mine.frames.set(about.into_iter().zip(lights).map(frame).collect());
        };
        if let Err(e) = schedule::ask(Class::Background, work).await {
            tracing::error!("measuring a sequence: {e}");
        }
    });
    Ok(entry)
}

fn setting_of(set: Set) -> String {
    match set {
        Set::Shoot(id) => format!("sieve of shoot {id}"),
        Set::Selection(id) => format!("sieve of selection {id}"),
    }
}

/// What is kept of a sequence.
#[derive(Default, Serialize, Deserialize)]
#[serde(default)]
struct Kept {
    passes: Vec<SwitchedPass>,
    /// Frames that the sieve set aside.
    aside: Vec<i64>,
    /// Areas that are measured.
    areas: Vec<NamedArea>,
    /// Behind so many lines of the recipe.
    behind: usize,
}

async fn kept(app: &App, set: Set) -> Result<Kept> {
    let text = app.store.setting(&setting_of(set)).await?;
    Ok(text.and_then(|t| serde_json::from_str(&t).ok()).unwrap_or_default())
}

async fn keep(app: &App, set: Set, kept: &Kept) -> Result<()> {
    let text = serde_json::to_string(kept).map_err(Error::bad)?;
    Ok(app.store.set_setting(&setting_of(set), &text).await?)
}

/// What is kept of a shoot's frames as a sequence, for its document, and the numbers of those that the sieve set aside.
pub(super) async fn for_document(app: &App, set: Set) -> Result<(SequenceSettings, Vec<i64>)> {
    let Kept { passes, aside, areas, behind } = kept(app, set).await?;
    Ok((SequenceSettings { passes, areas, behind }, aside))
}

/// Takes over what a document says of them, where it does.
pub(super) async fn from_document(
    app: &App,
    set: Set,
    settings: SequenceSettings,
    aside: Vec<i64>,
) -> Result<()> {
    if settings.is_nothing() {
        return Ok(());
    }
    let SequenceSettings { passes, areas, behind } = settings;
    keep(app, set, &Kept { passes, aside, areas, behind }).await
}

async fn light(State(app): State<App>) -> Result<Json<SequenceLight>> {
    let frames = InOrder::of(&app).await?;
    let kept = kept(&app, frames.set).await?;
    let measured = measuring(&app, &frames, &kept).await?;
    let recipe = recipe(&app).await?;
    let first = frames.iter().find_map(Frame::taken);
    let entry = |(frame, known): (&Frame, &SieveFrame)| FrameEntry {
        id: frame.id,
        name: frame.name.clone(),
        stamp: frame.modified,
        at: frame.taken().zip(first).map(|(t, first)| t.duration_since(first).as_secs_f64()),
        taken: frame.taken(),
        light: known.light,
        areas: known.areas.clone(),
    };
    let told = measured.frames.get().map(|known| frames.iter().zip(known).map(entry).collect());
    Ok(Json(SequenceLight {
        done: measured.done.load(Ordering::Relaxed),
        total: frames.order.len(),
        frames: told.unwrap_or_default(),
        passes: kept.passes,
        areas: kept.areas,
        lines: recipe.map_or_else(Vec::new, |(_, r)| r.steps.iter().map(|line| line.sentence()).collect()),
        behind: kept.behind,
    }))
}

/// Passes, in their order.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct Passes {
    /// Each with its switch.
    passes: Vec<SwitchedPass>,
    /// The line that is looked at, from 0: what it is held against is told.
    #[serde(default)]
    open: Option<usize>,
}

/// What becomes of the frames.
#[derive(Serialize, JsonSchema)]
struct ThroughSieve {
    /// For each frame the pass, from 0, that sets it aside; nothing for one that stays.
    by: Vec<Option<usize>>,
    /// Of the line that is looked at, where it is one: for each frame its value and what that is held against.
    held: Vec<Option<(f64, f64)>>,
}

/// The brightness of the frames, that of the one before where one has none; empty before all are measured.
pub(super) async fn brightness(app: &App, frames: &InOrder) -> Result<Vec<f64>> {
    let kept = kept(app, frames.set).await?;
    let measured = measuring(app, frames, &kept).await?;
    let mut last = 0.0;
    let known = measured.frames.get().map(Vec::as_slice).unwrap_or_default();
    let light = |f: &SieveFrame| {
        last = f.light.map_or(last, |l| l.brightness);
        last
    };
    Ok(known.iter().map(light).collect())
}

/// The frames of the desk, once they are measured, and what is kept of them.
async fn known(app: &App) -> Result<(InOrder, Arc<Measuring>, Kept)> {
    let frames = InOrder::of(app).await?;
    let kept = kept(app, frames.set).await?;
    let measured = measuring(app, &frames, &kept).await?;
    if measured.frames.get().is_none() {
        return Err(Error::bad("the frames are still being measured; wait until that is done"));
    }
    Ok((frames, measured, kept))
}

/// What is measured of the frames.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct Measure {
    /// Areas besides the whole, in their order.
    areas: Vec<NamedArea>,
    /// Behind how many lines of the recipe on the desk; 0 is the originals.
    #[serde(default)]
    behind: usize,
    /// The passes, which may go by an area.
    passes: Vec<SwitchedPass>,
}

async fn measure(State(app): State<App>, Sent(asked): Sent<Measure>) -> Result<Json<SequenceLight>> {
    let Measure { areas, behind, passes } = asked;
    NamedArea::check(&areas).map_err(|e| Error::bad(e.to_string()))?;
    let lines = recipe(&app).await?.map_or(0, |(_, recipe)| recipe.steps.len());
    if behind > lines {
        return Err(Error::bad(format!(
            "behind: expected 0 to {lines}, got {behind}; the recipe has no more lines"
        )));
    }
    let set = InOrder::of(&app).await?.set;
    let aside = kept(&app, set).await?.aside;
    keep(&app, set, &Kept { passes, aside, areas, behind }).await?;
    light(State(app)).await
}

/// Suggested passes.
#[derive(Serialize, JsonSchema)]
struct Suggested {
    /// In their order.
    passes: Vec<SwitchedPass>,
}

async fn suggest(State(app): State<App>) -> Result<Json<Suggested>> {
    let (_, measured, _) = known(&app).await?;
    let passes = schedule::ask(Class::Eye, move || {
        suggested(measured.frames.get().map(Vec::as_slice).unwrap_or_default())
    })
    .await?;
    Ok(Json(Suggested { passes }))
}

async fn through(State(app): State<App>, Sent(asked): Sent<Passes>) -> Result<Json<ThroughSieve>> {
    let (InOrder { set, .. }, measured, kept) = known(&app).await?;
    let found = schedule::ask(Class::Eye, move || -> Result<(ThroughSieve, Vec<SwitchedPass>)> {
        let frames = measured.frames.get().map(Vec::as_slice).unwrap_or_default();
        let lately = &measured.lately;
        let found = sieve_again(frames, &asked.passes, lately).map_err(|e| Error::bad(e.to_string()))?;
        let held = asked.open.and_then(|at| asked.passes.get(at)).map_or_else(Vec::new, |open| {
            let Pass::Line { line, area, against, .. } = &open.pass else { return Vec::new() };
            held_by(lately, frames, (&found.by, asked.open), (*line, *area, *against))
        });
        Ok((ThroughSieve { by: found.by, held }, asked.passes))
    })
    .await??;
    let (answer, passes) = found;
    keep(&app, set, &Kept { passes, ..kept }).await?;
    Ok(Json(answer))
}

/// A line over the frames that come to its pass; nothing for the others.
fn held_by(
    lately: &HeldLately,
    frames: &[SieveFrame],
    (by, pass): (&[Option<usize>], Option<usize>),
    held_as: (Line, Option<usize>, Against),
) -> Vec<Option<(f64, f64)>> {
    let comes = |i: &usize| by[*i].is_none_or(|at| Some(at) >= pass);
    let left: Vec<usize> = (0..frames.len()).filter(comes).collect();
    let mut out = vec![None; frames.len()];
    let held = lately.values(frames, &left, held_as);
    for (i, held) in left.into_iter().zip(held.iter()) {
        out[i] = *held;
    }
    out
}

/// How many frames were set aside, and how many came back.
#[derive(Serialize, JsonSchema)]
struct Applied {
    /// Set aside now.
    aside: usize,
    /// Back among the frames.
    back: usize,
}

async fn apply(State(app): State<App>) -> Result<Json<Applied>> {
    let (frames, measured, kept) = known(&app).await?;
    let set = frames.set;
    let asked = kept.passes.clone();
    let found = schedule::ask(Class::Eye, move || {
        sieve(measured.frames.get().map(Vec::as_slice).unwrap_or_default(), &asked)
    })
    .await?
    .map_err(|e| Error::bad(e.to_string()))?;
    let of =
        |goes: bool| frames.iter().zip(&found.by).filter(move |(_, by)| by.is_some() == goes).map(|(f, _)| f);
    // What people set aside themselves stays so, and what they kept is theirs as well.
    let go: Vec<i64> = of(true).filter(|f| f.marks.choice == Choice::Open).map(|f| f.id).collect();
    let back: Vec<i64> = of(false)
        .filter(|f| f.marks.choice == Choice::SetAside && kept.aside.contains(&f.id))
        .map(|f| f.id)
        .collect();
    let choose = |to: Choice| Change::Choice { to };
    app.frames.change(set, &go, &choose(Choice::SetAside)).await?;
    app.frames.change(set, &back, &choose(Choice::Open)).await?;
    let aside = kept.aside.iter().filter(|id| !back.contains(id)).chain(&go).copied().collect();
    keep(&app, set, &Kept { aside, ..kept }).await?;
    Ok(Json(Applied { aside: go.len(), back: back.len() }))
}
