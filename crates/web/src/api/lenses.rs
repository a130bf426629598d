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
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

pub fn routes() -> ApiRouter<App> {
    ApiRouter::new().api_route(
        "/api/lens-names",
        post_with(
            remember,
            about("Say which known lens a name in pictures means; remembered for all later pictures"),
        ),
    )
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
