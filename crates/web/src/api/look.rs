//! Looking closely: numbers under the pointer, places worth a look, which frames to record and prove on.

use super::bench::{Ask, open};
use crate::App;
use crate::desk;
use crate::error::{Error, Result};
use axum::extract::State;
use axum::routing::{get, post};
use axum::{Json, Router};
use rallo_engine::{OutputProfile, Pixels, Rect, places};
use rallo_shoot::Frame;
use rallo_shoot::sample::{Pick, typical, unlike};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

pub fn routes() -> Router<App> {
    Router::new()
        .route("/api/value", post(value))
        .route("/api/places", post(close_places))
        .route("/api/typical", get(typical_frames))
        .route("/api/proof", get(proof_frames).put(keep_proof))
}

/// The values of one pixel of what is shown, in the colour space the delivery's files will have.
async fn value(State(app): State<App>, Json(ask): Json<Ask>) -> Result<Json<Value>> {
    let recipe = ask.recipe()?;
    let [x, y] = ask.at.ok_or_else(|| Error::bad("at: expected [x, y] as shares of the picture"))?;
    let frame = open(&app, ask.frame).await?;
    tokio::task::spawn_blocking(move || {
        let plan = ask.plan(&recipe, &frame)?;
        let program = plan.program(ask.scale.unwrap_or(1.0));
        let size = program.size();
        let at = |share: f64, side: u32| (share.clamp(0.0, 1.0) * f64::from(side)) as i64;
        let (px, py) = (
            at(x, size.width).min(i64::from(size.width) - 1),
            at(y, size.height).min(i64::from(size.height) - 1),
        );
        let delivery = recipe.deliveries.first().cloned().unwrap_or_default();
        let colours = delivery.colours(&plan);
        let one = program.render_16(&*frame.source, Rect::new(px, py, 1, 1), &colours).map_err(Error::bad)?;
        let Pixels::U16(samples) = one.pixels else { return Err(Error::bad("no values")) };
        let eight: Vec<f64> = samples.iter().map(|v| (f64::from(*v) / 25.7).round() / 10.0).collect();
        Ok(Json(json!({"values": eight, "space": colours.name()})))
    })
    .await?
}

/// Where noise and where sharpness is best judged, as shares of the result.
async fn close_places(State(app): State<App>, Json(mut ask): Json<Ask>) -> Result<Json<Value>> {
    // What moves the picture counts, what smooths or sharpens it does not.
    ask.before = true;
    let recipe = ask.recipe()?;
    let frame = open(&app, ask.frame).await?;
    tokio::task::spawn_blocking(move || {
        let program = ask.plan(&recipe, &frame)?.program(1.0);
        let whole = program.size().rect();
        let picture =
            program.render(&*frame.source, whole, OutputProfile::Srgb.colour()).map_err(Error::bad)?;
        let found = places::places(&picture)
            .ok_or_else(|| Error::bad("this picture is too small to look for such places"))?;
        Ok(Json(json!({"noisiest": found.noisiest, "sharpest": found.sharpest})))
    })
    .await?
}

fn told(frames: &[&Frame], picks: Vec<Pick>) -> Vec<Value> {
    let one = |pick: Pick| {
        let frame = frames[pick.at];
        json!({"id": frame.id, "name": frame.name, "stamp": frame.modified, "why": pick.why, "own": frame.marks.own})
    };
    picks.into_iter().map(one).collect()
}

/// The frames most like the others, to record on.
async fn typical_frames(State(app): State<App>) -> Result<Json<Value>> {
    let laid = desk::laid(&app).await?;
    let frames = laid.chosen();
    Ok(Json(told(&frames, typical(&frames, 3)).into()))
}

/// What was accepted on the proof, of which version of which recipe.
#[derive(Default, Serialize, Deserialize)]
struct Proof {
    recipe: i64,
    version: i64,
    accepted: Vec<i64>,
}

/// The recipe on the desk, and the frames to prove it on: the sample, and those least like it.
async fn proof_frames(State(app): State<App>) -> Result<Json<Value>> {
    let laid = desk::laid(&app).await?;
    let row = laid.recipe.as_ref().ok_or_else(|| Error::bad("there is no recipe; open the bench first"))?;
    let frames = laid.chosen();
    let sample = frames.iter().position(|f| Some(f.id) == laid.desk.frame);
    let mut picks: Vec<Pick> = sample.map(|at| Pick { at, why: "the sample".into() }).into_iter().collect();
    picks.extend(unlike(&frames, sample, 3));
    let document: Value = serde_json::from_str(&row.document).map_err(Error::bad)?;
    let kept = app.store.setting("proof").await?;
    let kept: Proof = kept.and_then(|t| serde_json::from_str(&t).ok()).unwrap_or_default();
    // A changed recipe is proved anew.
    let same = (kept.recipe, kept.version) == (row.id, row.version);
    Ok(Json(json!({"recipe": {"id": row.id, "version": row.version, "document": document},
        "frames": told(&frames, picks), "accepted": if same { kept.accepted } else { Vec::new() }})))
}

async fn keep_proof(State(app): State<App>, Json(proof): Json<Proof>) -> Result<()> {
    let text = serde_json::to_string(&proof).map_err(Error::bad)?;
    Ok(app.store.set_setting("proof", &text).await?)
}
