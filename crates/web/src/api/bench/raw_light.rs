//! The light that a camera raw was taken under, as its camera was set or as something neutral in it tells.

use super::ask::Ask;
use super::opened::open;
use crate::App;
use crate::error::{Error, Result};
use crate::request::Sent;
use axum::Json;
use axum::extract::State;
use rallo_engine::Source;
use rallo_runner::schedule::{self, Class};
use schemars::JsonSchema;
use serde::Serialize;

/// A light.
#[derive(Serialize, JsonSchema)]
pub(super) struct RawLight {
    /// Kelvin.
    kelvin: f64,
    /// Distance from the black bodies (CIE 1960): above 0 greener, below 0 more magenta.
    duv: f64,
}

/// Without a place what the camera was set to; with one, as shares of the original's sides, the light under which that place
/// is neutral, by the sensor's own counts around it.
pub(super) async fn raw_light(State(app): State<App>, Sent(ask): Sent<Ask>) -> Result<Json<RawLight>> {
    let mut recipe = ask.recipe()?;
    // The answer is about the camera's own setting, whatever was given before.
    recipe.decode.raw.white = rallo_engine::RawWhite::AsShot;
    let frame = open(&app, ask.frame, &recipe).await?;
    let light = schedule::ask(Class::Eye, move || -> Result<_> {
        let raw = frame.source.raw().ok_or_else(|| Error::bad("this frame is no camera raw"))?;
        let Some([x, y]) = ask.at else { return Ok(raw.camera.light()) };
        let size = frame.source.size();
        let place = |share: f64, side: u32| {
            ((share.clamp(0.0, 1.0) * f64::from(side)) as usize).min(side.saturating_sub(1) as usize)
        };
        let found = raw.neutral_light(place(x, size.width), place(y, size.height));
        found.ok_or_else(|| {
            Error::bad("this place is too dark to tell the light, or fills the sensor; pick another one")
        })
    })
    .await??;
    Ok(Json(RawLight { kelvin: (light.kelvin / 10.0).round() * 10.0, duv: (light.duv * 2e3).round() / 2e3 }))
}
