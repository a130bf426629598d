//! What is kept on the disk to save time: how much there is, how much there may be.

use crate::App;
use crate::error::{Result, Sent};
use axum::extract::State;
use axum::routing::get;
use axum::{Json, Router};
use rallo_job::prelude::*;
use rallo_media::bytes_text;
use rallo_runner::queue;
use schemars::JsonSchema;
use serde::Deserialize;
use serde_json::{Value, json};

pub fn routes() -> Router<App> {
    Router::new().route("/api/kept-work", get(held).put(change))
}

async fn held(State(app): State<App>) -> Result<Json<Value>> {
    told(app).await
}

async fn told(app: App) -> Result<Json<Value>> {
    let (count, bytes, limit) = tokio::task::spawn_blocking(move || {
        let kept = app.queue.kept();
        let (count, bytes) = kept.held();
        (count, bytes, kept.limit())
    })
    .await?;
    Ok(Json(json!({"pictures": count, "bytes": bytes, "held": bytes_text(bytes), "limit": limit})))
}

#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewLimit {
    /// Most bytes kept; 0 keeps nothing.
    limit: u64,
    /// Keeps nothing of what there is now.
    #[serde(default)]
    empty: bool,
}

async fn change(State(app): State<App>, Sent(new): Sent<NewLimit>) -> Result<Json<Value>> {
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
