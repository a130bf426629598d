//! Gathering copies: a plan to be looked at, then the copying in the background.

use super::lock;
use crate::error::{Error, Result, Sent};
use crate::{App, workspace};
use axum::extract::State;
use axum::routing::{get, post};
use axum::{Json, Router};
use rallo_media::bytes_text;
use rallo_runner::library::verified_copy;
use rallo_runner::preflight::output_paths;
use rallo_shoot::Frame;
use rallo_shoot::gather::{Becomes, TEMPLATE};
use schemars::JsonSchema;
use serde::Deserialize;
use serde_json::{Value, json};
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};

pub fn routes() -> Router<App> {
    Router::new()
        .route("/api/gather", get(state).post(start))
        .route("/api/gather/go", post(go))
        .route("/api/gather/stop", post(stop))
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

impl Job {
    fn told(&self, app: &App) -> Value {
        let (done, total) = (self.done.load(Ordering::Relaxed), self.total.load(Ordering::Relaxed));
        let mut told = json!({"done": done, "total": total, "target": app.roots.short(&self.target)});
        let (phase, report) = match &*lock(&self.phase) {
            Phase::Looking => ("looking", None),
            Phase::Planned(report) => ("planned", Some(report.clone())),
            Phase::Copying => ("copying", None),
            Phase::Ended(report) => ("ended", Some(report.clone())),
            Phase::Failed(reason) => {
                told["reason"] = json!(reason);
                ("failed", None)
            }
        };
        told["phase"] = json!(phase);
        if let Some(report) = report {
            let short = |p: &PathBuf| app.roots.short(p);
            let lines: Vec<Value> = report
                .lines
                .iter()
                .take(2000)
                .map(|l| {
                    let (what, name) = match &l.becomes {
                        Becomes::Copy { name } => ("copy", name.clone()),
                        Becomes::There { name } => ("there", name.clone()),
                        Becomes::Same { of } => ("same", short(of)),
                    };
                    json!({"source": short(&l.source), "what": what, "name": name})
                })
                .collect();
            let trouble: Vec<Value> =
                report.trouble.iter().map(|t| json!({"name": short(&t.path), "reason": t.reason})).collect();
            let bytes = verified_copy::bytes_needed(&report);
            told["report"] = json!({"copied": report.copied, "there": report.there, "twice": report.twice,
                "trouble": trouble, "stopped": report.stopped, "lines": lines, "bytes": bytes_text(bytes),
                "room": output_paths::room(&self.target, bytes).map(|p| p.message)});
        }
        told
    }
}

async fn state(State(app): State<App>) -> Result<Json<Value>> {
    let job = lock(&app.gathering.job).clone();
    Ok(Json(match job {
        Some(job) => job.told(&app),
        None => json!({"phase": "none", "template": TEMPLATE}),
    }))
}

#[derive(Deserialize, JsonSchema)]
pub struct Start {
    target: PathBuf,
    template: String,
}

/// Plans copies of the frames a run would take into a folder; nothing is written yet.
async fn start(State(app): State<App>, Sent(start): Sent<Start>) -> Result<Json<Value>> {
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
        let all: Vec<&Frame> = frames.iter().collect();
        let tell = |done, _| job.done.store(done, Ordering::Relaxed);
        let planned = verified_copy::plan(&all, &start.target, &start.template, &job.stop, &tell);
        *lock(&job.phase) = match planned {
            Ok(report) => Phase::Planned(report),
            Err(reason) => Phase::Failed(reason),
        };
    });
    state(State(app)).await
}

/// Carries the plan out.
async fn go(State(app): State<App>) -> Result<Json<Value>> {
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

async fn stop(State(app): State<App>) -> Result<Json<Value>> {
    if let Some(job) = lock(&app.gathering.job).as_ref() {
        job.stop.store(true, Ordering::Relaxed);
    }
    state(State(app)).await
}
