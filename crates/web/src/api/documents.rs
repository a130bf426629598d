//! A PDF of pictures made smaller: it comes in, and the smaller one is the answer.

use crate::App;
use crate::error::{Error, Result};
use axum::Router;
use axum::body::Body;
use axum::extract::{DefaultBodyLimit, Query};
use axum::http::{HeaderName, StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::routing::post;
use futures_core::Stream;
use rallo_media::pdf::shrink::smaller;
use serde::Deserialize;
use std::pin::Pin;

/// Largest PDF that is taken, in bytes.
const LARGEST: usize = 300_000_000;

/// How every PDF begins.
const START: &[u8] = b"%PDF-";

pub fn routes() -> Router<App> {
    // The body is counted while it comes in.
    Router::new().route("/api/smaller", post(make_smaller)).layer(DefaultBodyLimit::disable())
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

/// A PDF as it comes in: what is none is refused by its first bytes, before the rest is read.
async fn received(body: Body) -> Result<Vec<u8>> {
    let mut pieces = body.into_data_stream();
    let mut file: Vec<u8> = Vec::new();
    let none = || Error::bad("this PDF cannot be read: it is none, it does not begin with %PDF-");
    while let Some(piece) = std::future::poll_fn(|cx| Pin::new(&mut pieces).poll_next(cx)).await {
        let piece =
            piece.map_err(|e| Error(StatusCode::BAD_REQUEST, format!("the document was cut short: {e}")))?;
        if file.len() + piece.len() > LARGEST {
            let most = LARGEST / 1_000_000;
            return Err(Error(
                StatusCode::PAYLOAD_TOO_LARGE,
                format!("the document is larger than {most} MB"),
            ));
        }
        file.extend_from_slice(&piece);
        let shown = file.len().min(START.len());
        if file[..shown] != START[..shown] {
            return Err(none());
        }
    }
    if file.len() < START.len() { Err(none()) } else { Ok(file) }
}

/// The smaller PDF; how many of its pictures were changed stands in a header.
async fn make_smaller(Query(how): Query<How>, body: Body) -> Result<Response> {
    if !(36..=1200).contains(&how.ppi) || !(1..=100).contains(&how.quality) {
        return Err(Error::bad("expected ppi from 36 to 1200 and quality from 1 to 100"));
    }
    let file = received(body).await?;
    let done = tokio::task::spawn_blocking(move || smaller(&file, how.ppi, how.quality)).await??;
    let told = format!("{} of {}", done.changed, done.pictures);
    let headers = [
        (header::CONTENT_TYPE, "application/pdf".to_owned()),
        (HeaderName::from_static("x-rallo-changed"), told),
    ];
    Ok((headers, done.bytes).into_response())
}
