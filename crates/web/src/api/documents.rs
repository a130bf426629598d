//! A PDF of pictures made smaller: it comes in, and the smaller one is the answer.

use crate::App;
use crate::error::{Error, Result};
use axum::Router;
use axum::body::Bytes;
use axum::extract::{DefaultBodyLimit, Query};
use axum::http::{HeaderName, header};
use axum::response::{IntoResponse, Response};
use axum::routing::post;
use rallo_media::pdf::shrink::smaller;
use serde::Deserialize;

/// Largest PDF that is taken, in bytes.
const LARGEST: usize = 600_000_000;

pub fn routes() -> Router<App> {
    Router::new().route("/api/smaller", post(make_smaller)).layer(DefaultBodyLimit::max(LARGEST))
}

#[derive(Deserialize)]
#[serde(default, deny_unknown_fields)]
struct How {
    ppi: u32,
    quality: u8,
}

impl Default for How {
    fn default() -> Self {
        Self { ppi: 150, quality: 80 }
    }
}

/// The smaller PDF; how many of its pictures were changed stands in a header.
async fn make_smaller(Query(how): Query<How>, file: Bytes) -> Result<Response> {
    if !(36..=1200).contains(&how.ppi) || !(1..=100).contains(&how.quality) {
        return Err(Error::bad("expected ppi from 36 to 1200 and quality from 1 to 100"));
    }
    let done = tokio::task::spawn_blocking(move || smaller(&file, how.ppi, how.quality)).await??;
    let told = format!("{} of {}", done.changed, done.pictures);
    let headers = [
        (header::CONTENT_TYPE, "application/pdf".to_owned()),
        (HeaderName::from_static("x-rallo-changed"), told),
    ];
    Ok((headers, done.bytes).into_response())
}
