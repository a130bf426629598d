//! Other machines that make pictures of runs.

use super::answer::{Done, about};
use crate::App;
use crate::error::{Error, Result};
use aide::axum::ApiRouter;
use aide::axum::routing::{get_with, post_with};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use rallo_runner::queue::Helper;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

pub fn routes() -> ApiRouter<App> {
    ApiRouter::new()
        .api_route("/api/helpers", get_with(helpers, about("Other machines that make pictures of runs")))
        .api_route(
            "/api/helpers/{name}/home",
            post_with(send_home, about("Let one end what it has in work, and go")),
        )
}

/// The machines that help.
#[derive(Serialize, JsonSchema)]
struct Machines {
    /// The broker by which they are reached; nothing where the server has none.
    broker: Option<String>,
    /// Those that are here, or were in the last ten minutes.
    helpers: Vec<Helper>,
}

async fn helpers(State(app): State<App>) -> Json<Machines> {
    let all = app.queue.helpers();
    Json(Machines { broker: all.address(), helpers: all.helpers() })
}

/// A machine by its name.
#[derive(Deserialize, JsonSchema)]
struct Name {
    /// As the list has it.
    name: String,
}

async fn send_home(State(app): State<App>, Path(Name { name }): Path<Name>) -> Result<Json<Done>> {
    if app.queue.helpers().send_home(&name).await {
        Ok(Json(Done {}))
    } else {
        Err(Error(StatusCode::NOT_FOUND, format!("no machine of the name {name} helps")))
    }
}
