//! The simulated interval camera, started and stopped from the page.

use super::answer::about;
use super::lock;
use crate::App;
use crate::error::{Error, Result};
use crate::request::Sent;
use aide::axum::ApiRouter;
use aide::axum::routing::{get_with, post_with};
use axum::Json;
use axum::extract::State;
use rallo_demo::device::{Device, Settings};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

pub fn routes() -> ApiRouter<App> {
    ApiRouter::new()
        .api_route(
            "/api/camera",
            get_with(state, about("The simulated camera"))
                .post_with(start, about("Let it shoot into a folder")),
        )
        .api_route("/api/camera/stop", post_with(stop, about("Let it stop")))
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

/// How the camera is.
#[derive(Default, Serialize, JsonSchema)]
pub(crate) struct CameraState {
    /// Whether it is at work.
    pub(crate) on: bool,
    /// The folder it writes into.
    pub(crate) folder: Option<String>,
    /// Frames it was told to take.
    pub(crate) frames: usize,
    /// Frames it has taken.
    pub(crate) taken: usize,
    /// How it ended.
    pub(crate) ended: Option<String>,
}

async fn state(State(app): State<App>) -> Json<CameraState> {
    Json(camera_state(&app))
}

/// How the camera is.
pub(crate) fn camera_state(app: &App) -> CameraState {
    let work = lock(&app.camera.0).clone();
    let Some(work) = work else { return CameraState::default() };
    CameraState {
        on: work.is_on(),
        folder: Some(app.roots.short(&work.folder)),
        frames: work.frames,
        taken: work.taken.load(Ordering::Relaxed),
        ended: lock(&work.ended).clone(),
    }
}

/// What it is to take.
#[derive(Deserialize, JsonSchema)]
struct StartCamera {
    /// The folder it writes into.
    folder: PathBuf,
    /// Seconds to wait between frames.
    #[schemars(range(min = 0.05, max = 86_400.0))]
    every: f64,
    #[serde(flatten)]
    settings: Settings,
}

async fn start(State(app): State<App>, Sent(start): Sent<StartCamera>) -> Result<Json<CameraState>> {
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

async fn stop(State(app): State<App>) -> Json<CameraState> {
    if let Some(work) = lock(&app.camera.0).as_ref() {
        work.stop.store(true, Ordering::Relaxed);
    }
    state(State(app)).await
}
