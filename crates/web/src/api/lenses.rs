//! What the person says a lens is, where pictures call it otherwise than its profile does.

use super::answer::about;
use crate::App;
use crate::error::{Error, Result};
use crate::request::Sent;
use aide::axum::ApiRouter;
use aide::axum::routing::post_with;
use axum::Json;
use axum::extract::State;
use rallo_engine::lens;
use rallo_job::prelude::*;
use rallo_runner::Set;
use rallo_runner::library::lens_softness;
use rallo_runner::schedule::{self, Class};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Most pictures that are looked at to measure a lens.
const MOST: usize = 12;

pub fn routes() -> ApiRouter<App> {
    ApiRouter::new()
        .api_route(
            "/api/lens-softness",
            post_with(measure, about("Measure how soft a frame's lens draws, on the frames of the shoot that were taken with it")),
        )
        .api_route(
        "/api/lens-names",
        post_with(
            remember,
            about("Say which known lens a name in pictures means; remembered for all later pictures"),
        ),
    )
}

/// One of the frames that a lens took.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct OfFrame {
    /// Its number.
    #[schemars(range(min = 1))]
    frame: i64,
}

/// How soft a lens draws: the deviation of its blur, in thousandths of the long edge.
#[derive(Serialize, JsonSchema)]
struct MeasuredSoftness {
    /// As pictures call it.
    lens: String,
    /// Pictures that were looked at.
    pictures: usize,
    /// In the middle.
    middle: f64,
    /// In the corners.
    corner: f64,
}

/// It is kept, and used for all pictures that name this lens.
async fn measure(State(app): State<App>, Sent(ask): Sent<OfFrame>) -> Result<Json<MeasuredSoftness>> {
    let own = app.store.frame(ask.frame).await?;
    let shoot = app.frames.all(Set::Shoot(own.shoot_id)).await?;
    let name = |frame: &rallo_shoot::Frame| frame.facts.as_ref().and_then(|f| f.camera.lens.clone());
    let lens = shoot.iter().find(|frame| frame.id == ask.frame).and_then(name);
    let lens = lens.ok_or_else(|| Error::bad("this frame does not say which lens it was taken with"))?;
    let with_it: Vec<_> =
        shoot.iter().filter(|f| name(f).as_ref() == Some(&lens)).map(|f| f.path.clone()).collect();
    // Evenly over the shoot, so that different subjects count.
    let every = with_it.len().div_ceil(MOST).max(1);
    let pictures = with_it.into_iter().step_by(every).map(|path| app.roots.existing(&path));
    let pictures: Vec<_> = pictures.collect::<std::result::Result<_, _>>()?;
    let folder = app.data.join("lens-profiles");
    schedule::ask(Class::Eye, move || {
        let measured = lens_softness::measure(&pictures, |_| {});
        let found = measured.into_iter().find(|m| m.lens == lens);
        let softness = found.and_then(|found| found.softness).ok_or_else(|| {
            Error::bad("too few clean edges in these frames to measure the lens by; open a shoot with more of them, or type the values")
        })?;
        lens::keep_softness(&folder, &lens, softness)
            .map_err(|e| Error::bad(format!("this cannot be kept in {}: {e}", folder.display())))?;
        let lens::Softness { middle, corner } = softness;
        Ok(Json(MeasuredSoftness { lens, pictures: pictures.len(), middle, corner }))
    })
    .await?
}

/// A name in pictures, and the known lens it means.
#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct LensName {
    /// As pictures have it.
    #[schemars(length(min = 1, max = 120))]
    lens: String,
    /// A lens that has a profile; empty: it is forgotten again.
    #[schemars(length(max = 120))]
    is: String,
}

async fn remember(State(app): State<App>, Sent(name): Sent<LensName>) -> Result<Json<LensName>> {
    let fits = |text: &str| text.chars().count() <= 120;
    if name.lens.trim().is_empty() || !fits(&name.lens) || !fits(&name.is) {
        return Err(Error::bad("lens: expected 1 to 120 characters, as a picture names its lens"));
    }
    let folder = app.data.join("lens-profiles");
    tokio::task::spawn_blocking(move || {
        lens::remember(&folder, &name.lens, &name.is).map_err(|e| {
            Error::bad(format!(
                "this holds until the program ends, but cannot be kept in {}: {e}",
                folder.display()
            ))
        })?;
        Ok(Json(name))
    })
    .await?
}
