//! The simulated interval camera, started and stopped from the page.

use super::lock;
use crate::App;
use crate::error::{Error, Result, Sent};
use axum::extract::State;
use axum::routing::{get, post};
use axum::{Json, Router};
use rallo_demo::device::{Device, Settings};
use serde::Deserialize;
use serde_json::{Value, json};
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

pub fn routes() -> Router<App> {
    Router::new().route("/api/camera", get(state).post(start)).route("/api/camera/stop", post(stop))
}

/// The camera, if one was started.
#[derive(Default)]
pub struct Camera(Mutex<Option<Arc<Work>>>);

struct Work {
    folder: PathBuf,
    frames: usize,
    taken: AtomicUsize,
    stop: AtomicBool,
    ended: Mutex<Option<String>>,
}

impl Work {
    fn is_on(&self) -> bool {
        lock(&self.ended).is_none()
    }
}

async fn state(State(app): State<App>) -> Json<Value> {
    let work = lock(&app.camera.0).clone();
    Json(match work {
        None => json!({"on": false}),
        Some(work) => {
            json!({"on": work.is_on(), "folder": app.roots.short(&work.folder), "frames": work.frames,
            "taken": work.taken.load(Ordering::Relaxed), "ended": *lock(&work.ended)})
        }
    })
}

#[derive(Deserialize)]
struct Start {
    folder: PathBuf,
    /// Seconds to wait between frames.
    every: f64,
    #[serde(flatten)]
    settings: Settings,
}

async fn start(State(app): State<App>, Sent(start): Sent<Start>) -> Result<Json<Value>> {
    app.roots.future(&start.folder)?;
    if !(0.05..=86_400.0).contains(&start.every) {
        return Err(Error::bad("every: expected 0.05 s to a day between frames"));
    }
    let mut device = Device::new(&start.folder, start.settings.clone(), 24).map_err(Error::bad)?;
    let work = Arc::new(Work {
        folder: start.folder.clone(),
        frames: start.settings.frames,
        taken: AtomicUsize::new(0),
        stop: AtomicBool::new(false),
        ended: Mutex::new(None),
    });
    {
        let mut held = lock(&app.camera.0);
        if held.as_ref().is_some_and(|w| w.is_on()) {
            return Err(Error::bad("the camera is at work already; stop it first"));
        }
        *held = Some(work.clone());
    }
    std::thread::spawn(move || {
        let begin = Instant::now();
        let mut end = "all frames taken".to_owned();
        let mut number = 0u32;
        while !device.is_done() {
            let due = Duration::from_secs_f64(start.every * f64::from(number));
            while begin.elapsed() < due && !work.stop.load(Ordering::Relaxed) {
                std::thread::sleep(Duration::from_millis(20));
            }
            if work.stop.load(Ordering::Relaxed) {
                end = "stopped".into();
                break;
            }
            if let Err(e) = device.shoot() {
                end = e.to_string();
                break;
            }
            number += 1;
            work.taken.store(number as usize, Ordering::Relaxed);
        }
        *lock(&work.ended) = Some(end);
    });
    Ok(state(State(app)).await)
}

async fn stop(State(app): State<App>) -> Json<Value> {
    if let Some(work) = lock(&app.camera.0).as_ref() {
        work.stop.store(true, Ordering::Relaxed);
    }
    state(State(app)).await
}
