//! What is kept on the disk to save time: how much there is, how much there may be.

use super::answer::about;
use crate::App;
use crate::error::Result;
use crate::request::Sent;
use aide::axum::ApiRouter;
use aide::axum::routing::get_with;
use axum::Json;
use axum::extract::State;
use rallo_job::prelude::*;
use rallo_media::bytes_text;
use rallo_runner::queue;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

pub fn routes() -> ApiRouter<App> {
    ApiRouter::new().api_route(
        "/api/kept-work",
        get_with(held, about("What is kept on the disk to save time"))
            .put_with(change, about("Give it another size, or empty it")),
    )
}

/// What is kept to save time.
#[derive(Serialize, JsonSchema)]
struct KeptWork {
    /// Pictures.
    pictures: usize,
    /// Bytes they take.
    bytes: u64,
    /// The same in words.
    held: String,
    /// Most bytes kept.
    limit: u64,
}

async fn held(State(app): State<App>) -> Result<Json<KeptWork>> {
    told(app).await
}

async fn told(app: App) -> Result<Json<KeptWork>> {
    let (count, bytes, limit) = tokio::task::spawn_blocking(move || {
        let kept = app.queue.kept();
        let (count, bytes) = kept.held();
        (count, bytes, kept.limit())
    })
    .await?;
    Ok(Json(KeptWork { pictures: count, bytes, held: bytes_text(bytes), limit }))
}

/// How much may be kept.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewLimit {
    /// Most bytes kept; 0 keeps nothing.
    limit: u64,
    /// Keeps nothing of what there is now.
    #[serde(default)]
    empty: bool,
}

async fn change(State(app): State<App>, Sent(new): Sent<NewLimit>) -> Result<Json<KeptWork>> {
    app.store.set_setting(queue::KEPT, &new.limit.to_string()).await?;
    let queue = app.queue.clone();
    tokio::task::spawn_blocking(move || {
        queue.kept().set_limit(new.limit);
        if new.empty {
            queue.kept().empty();
        }
    })
    .await?;
    told(app).await
}
