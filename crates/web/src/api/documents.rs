//! A PDF of pictures made smaller: it comes in, and the smaller one is the answer.

use super::answer::{file, takes_file};
use crate::App;
use crate::error::{Error, Result};
use crate::request::Query;
use aide::axum::ApiRouter;
use aide::axum::routing::post_with;
use axum::body::Body;
use axum::extract::DefaultBodyLimit;
use axum::http::{HeaderName, StatusCode, header};
use axum::response::{IntoResponse, Response};
use futures_core::Stream;
use rallo_media::pdf::shrink::smaller;
use schemars::JsonSchema;
use serde::Deserialize;
use std::pin::Pin;

/// Largest PDF that is taken, in bytes.
const LARGEST: usize = 300_000_000;

/// How every PDF begins.
const START: &[u8] = b"%PDF-";

pub fn routes() -> ApiRouter<App> {
    // The body is counted while it comes in.
    ApiRouter::new()
        .api_route(
            "/api/smaller",
            post_with(make_smaller, |operation| {
                let operation = takes_file(operation, "application/pdf");
                file("A PDF with its pictures reduced", "application/pdf")(operation)
            }),
        )
        .layer(DefaultBodyLimit::disable())
}

/// How its pictures are reduced.
#[derive(Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
struct How {
    /// Most pixels an inch.
    #[schemars(range(min = 36, max = 1200))]
    ppi: u32,
    /// Quality of JPEG.
    #[schemars(range(min = 1, max = 100))]
    quality: u8,
}

impl Default for How {
    fn default() -> Self {
        Self { ppi: 150, quality: 80 }
    }
}

/// A PDF as it comes in: what is none is refused by its first bytes, before the rest is read.
async fn received(body: Body, largest: usize) -> Result<Vec<u8>> {
    let mut pieces = body.into_data_stream();
    let mut file: Vec<u8> = Vec::new();
    let none = || Error::bad("this PDF cannot be read: it is none, it does not begin with %PDF-");
    while let Some(piece) = std::future::poll_fn(|cx| Pin::new(&mut pieces).poll_next(cx)).await {
        let piece =
            piece.map_err(|e| Error(StatusCode::BAD_REQUEST, format!("the document was cut short: {e}")))?;
        if file.len() + piece.len() > largest {
            let most = largest / 1_000_000;
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
    let file = received(body, LARGEST).await?;
    let done = tokio::task::spawn_blocking(move || smaller(&file, how.ppi, how.quality)).await??;
    let summary = format!("{} of {}", done.changed, done.pictures);
    let headers = [
        (header::CONTENT_TYPE, "application/pdf".to_owned()),
        (HeaderName::from_static("x-rallo-changed"), summary),
    ];
    Ok((headers, done.bytes).into_response())
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::Arc;
    use std::sync::atomic::{AtomicUsize, Ordering};

    /// A body in pieces of 4 bytes, and how many of them were asked for.
    fn body(text: &'static [u8]) -> (Body, Arc<AtomicUsize>) {
        let asked = Arc::new(AtomicUsize::new(0));
        let count = asked.clone();
        let pieces = async_stream::stream! {
            for piece in text.chunks(4) {
                count.fetch_add(1, Ordering::Relaxed);
                yield Ok::<_, std::io::Error>(piece);
            }
        };
        (Body::from_stream(pieces), asked)
    }

    #[tokio::test]
    async fn what_is_no_document_or_too_large_is_refused_before_the_rest_is_read() {
        let (whole, _) = body(b"%PDF-1.7 and more");
        assert_eq!(received(whole, 100).await.unwrap(), b"%PDF-1.7 and more");
        let (other, asked) = body(b"%PDX, and much that nobody reads");
        let Error(status, why) = received(other, 100).await.unwrap_err();
        assert_eq!((status.as_u16(), asked.load(Ordering::Relaxed)), (422, 1), "{why}");
        let (large, asked) = body(b"%PDF-1.7 and far too much for it");
        assert_eq!(received(large, 10).await.unwrap_err().0.as_u16(), 413);
        assert_eq!(asked.load(Ordering::Relaxed), 3);
        let (short, _) = body(b"%PD");
        assert!(received(short, 100).await.is_err());
    }
}
