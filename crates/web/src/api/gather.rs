//! Gathering copies: a plan to be looked at, then the copying in the background.

use super::answer::about;
use super::lock;
use crate::error::{Error, Result};
use crate::request::Sent;
use crate::{App, workspace};
use aide::axum::ApiRouter;
use aide::axum::routing::{get_with, post_with};
use axum::Json;
use axum::extract::State;
use rallo_media::bytes_text;
use rallo_runner::library::verified_copy;
use rallo_runner::preflight::output_paths;
use rallo_shoot::Frame;
use rallo_shoot::gather::{Becomes, TEMPLATE};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::path::{Path as FilePath, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};

pub fn routes() -> ApiRouter<App> {
    ApiRouter::new()
        .api_route(
            "/api/gather",
            get_with(state, about("A gathering: plan, progress, report"))
                .post_with(start, about("Plan verified copies of the frames on the desk")),
        )
        .api_route("/api/gather/go", post_with(go, about("Make the copies")))
        .api_route("/api/gather/stop", post_with(stop, about("Stop after the copy in work")))
}

/// What the one gathering at work is at.
#[derive(Default)]
pub struct Gathering {
    job: Mutex<Option<Arc<Job>>>,
}

struct Job {
    target: PathBuf,
    stop: AtomicBool,
    done: AtomicUsize,
    total: AtomicUsize,
    phase: Mutex<Phase>,
}

enum Phase {
    Looking,
    Planned(verified_copy::Report),
    Copying,
    Ended(verified_copy::Report),
    Failed(String),
}

/// How far a gathering is.
#[derive(Clone, Copy, Default, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub(crate) enum PhaseName {
    /// There is none.
    #[default]
    None,
    /// It looks what is there already.
    Looking,
    /// It can be looked at and carried out.
    Planned,
    /// It copies.
    Copying,
    /// It is over.
    Ended,
    /// It could not be planned.
    Failed,
}

impl PhaseName {
    /// Whether it can be carried out.
    pub(crate) fn is_planned(&self) -> bool {
        matches!(self, Self::Planned)
    }
}

/// A gathering.
#[derive(Default, Serialize, JsonSchema)]
pub(crate) struct GatherState {
    /// How far it is.
    pub(crate) phase: PhaseName,
    /// Frames looked at, or copies made.
    pub(crate) done: usize,
    /// Of how many.
    pub(crate) total: usize,
    /// The folder it goes to.
    pub(crate) target: String,
    /// Why it could not be planned.
    pub(crate) reason: Option<String>,
    /// What is planned, or what was done.
    pub(crate) report: Option<GatherReport>,
    /// The template names start from.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) template: Option<&'static str>,
}

/// What is planned, or what was done.
#[derive(Serialize, JsonSchema)]
pub(crate) struct GatherReport {
    /// Copies that were made.
    pub(crate) copied: usize,
    /// Frames that are there already.
    pub(crate) there: usize,
    /// Frames that are the same as another.
    pub(crate) twice: usize,
    /// What could not be copied.
    pub(crate) trouble: Vec<GatherTrouble>,
    /// Whether it was stopped.
    pub(crate) stopped: bool,
    /// The first frames, one by one.
    pub(crate) lines: Vec<GatherLine>,
    /// What the copies take, in words.
    pub(crate) bytes: String,
    /// What is wrong where there is too little room.
    pub(crate) room: Option<String>,
}

/// What could not be copied.
#[derive(Serialize, JsonSchema)]
pub(crate) struct GatherTrouble {
    /// The file.
    pub(crate) name: String,
    /// Why.
    pub(crate) reason: String,
}

/// What becomes of a frame.
#[derive(Serialize, JsonSchema)]
pub(crate) struct GatherLine {
    /// The frame's file.
    pub(crate) source: String,
    /// `copy`, `there` already, or the `same` as another.
    pub(crate) what: &'static str,
    /// Name of the copy, or the file it is the same as.
    pub(crate) name: String,
}

/// Frames of a plan that are told one by one.
const LINES: usize = 2000;

impl GatherReport {
    fn new(app: &App, target: &FilePath, report: &verified_copy::Report) -> Self {
        let short = |p: &PathBuf| app.roots.short(p);
        let line = |l: &rallo_shoot::gather::Line| {
            let (what, name) = match &l.becomes {
                Becomes::Copy { name } => ("copy", name.clone()),
                Becomes::There { name } => ("there", name.clone()),
                Becomes::Same { of } => ("same", short(of)),
            };
            GatherLine { source: short(&l.source), what, name }
        };
        let trouble =
            |t: &verified_copy::Trouble| GatherTrouble { name: short(&t.path), reason: t.reason.clone() };
        let bytes = verified_copy::bytes_needed(report);
        Self {
            copied: report.copied,
            there: report.there,
            twice: report.twice,
            trouble: report.trouble.iter().map(trouble).collect(),
            stopped: report.stopped,
            lines: report.lines.iter().take(LINES).map(line).collect(),
            bytes: bytes_text(bytes),
            room: output_paths::room(target, bytes).map(|p| p.message),
        }
    }
}

impl Job {
    fn told(&self, app: &App) -> GatherState {
        let (phase, report, reason) = match &*lock(&self.phase) {
            Phase::Looking => (PhaseName::Looking, None, None),
            Phase::Planned(report) => (PhaseName::Planned, Some(report.clone()), None),
            Phase::Copying => (PhaseName::Copying, None, None),
            Phase::Ended(report) => (PhaseName::Ended, Some(report.clone()), None),
            Phase::Failed(reason) => (PhaseName::Failed, None, Some(reason.clone())),
        };
        GatherState {
            phase,
            done: self.done.load(Ordering::Relaxed),
            total: self.total.load(Ordering::Relaxed),
            target: app.roots.short(&self.target),
            reason,
            report: report.map(|report| GatherReport::new(app, &self.target, &report)),
            template: None,
        }
    }
}

async fn state(State(app): State<App>) -> Result<Json<GatherState>> {
    Ok(Json(gather_state(app).await?))
}

/// What the gathering is at, or was.
pub(crate) async fn gather_state(app: App) -> Result<GatherState> {
    let job = lock(&app.gathering.job).clone();
    let Some(job) = job else {
        return Ok(GatherState { template: Some(TEMPLATE), ..GatherState::default() });
    };
    // How much room there is, is looked up on the disk.
    Ok(tokio::task::spawn_blocking(move || job.told(&app)).await?)
}

/// Copies that are to be planned.
#[derive(Deserialize, JsonSchema)]
pub struct StartGather {
    /// The folder they go to.
    target: PathBuf,
    /// Template of their names.
    template: String,
}

/// Plans copies of the frames a run would take into a folder; nothing is written yet.
async fn start(State(app): State<App>, Sent(start): Sent<StartGather>) -> Result<Json<GatherState>> {
    app.roots.future(&start.target)?;
    rallo_recipe::names::check(&start.template).map_err(Error::bad)?;
    let laid = workspace::laid(&app).await?;
    let frames: Vec<Frame> = laid.chosen().into_iter().cloned().collect();
    if frames.is_empty() {
        return Err(Error::bad("there are no frames to gather"));
    }
    let job = Arc::new(Job {
        target: start.target.clone(),
        stop: AtomicBool::new(false),
        done: AtomicUsize::new(0),
        total: AtomicUsize::new(frames.len()),
        phase: Mutex::new(Phase::Looking),
    });
    {
        let mut held = lock(&app.gathering.job);
        if held.as_ref().is_some_and(|j| matches!(*lock(&j.phase), Phase::Looking | Phase::Copying)) {
            return Err(Error::bad("copies are being gathered already; stop that first, or wait for it"));
        }
        *held = Some(job.clone());
    }
    tokio::task::spawn_blocking(move || {
        let whole_set: Vec<&Frame> = frames.iter().collect();
        let tell = |done, _| job.done.store(done, Ordering::Relaxed);
        let planned = verified_copy::plan(&whole_set, &start.target, &start.template, &job.stop, &tell);
        *lock(&job.phase) = match planned {
            Ok(report) => Phase::Planned(report),
            Err(e) => Phase::Failed(e.to_string()),
        };
    });
    state(State(app)).await
}

/// Carries the plan out.
async fn go(State(app): State<App>) -> Result<Json<GatherState>> {
    let job = lock(&app.gathering.job).clone().ok_or_else(|| Error::bad("there is no plan to carry out"))?;
    let plan = {
        let mut phase = lock(&job.phase);
        match std::mem::replace(&mut *phase, Phase::Copying) {
            Phase::Planned(plan) | Phase::Ended(plan) if !plan.lines.is_empty() => plan,
            other => {
                *phase = other;
                return Err(Error::bad("there is no plan to carry out"));
            }
        }
    };
    job.stop.store(false, Ordering::Relaxed);
    job.done.store(0, Ordering::Relaxed);
    job.total.store(plan.lines.len(), Ordering::Relaxed);
    let worker = job.clone();
    tokio::task::spawn_blocking(move || {
        let tell = |done, _| worker.done.store(done, Ordering::Relaxed);
        let report = verified_copy::carry_out(&plan, &worker.target, &worker.stop, &tell);
        *lock(&worker.phase) = Phase::Ended(report);
    });
    state(State(app)).await
}

async fn stop(State(app): State<App>) -> Result<Json<GatherState>> {
    if let Some(job) = lock(&app.gathering.job).as_ref() {
        job.stop.store(true, Ordering::Relaxed);
    }
    state(State(app)).await
}
