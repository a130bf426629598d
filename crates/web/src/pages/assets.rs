//! Styles, scripts and fonts that ship with the program.

use axum::extract::Path;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use std::borrow::Cow;

#[derive(rust_embed::RustEmbed)]
#[folder = "assets"]
struct Assets;

/// The styles of all pages, in the order in which later ones count more: one file to ask for instead of fourteen.
const STYLES: [&str; 15] = [
    "fonts",
    "base",
    "rail",
    "ticket",
    "bench",
    "frames",
    "runs",
    "ticket-recording",
    "recipes",
    "proof",
    "run-sheet",
    "start",
    "folders",
    "queue",
    // What takes others back where there is little room comes last.
    "narrow",
];

/// A file's bytes, and its hash as a word.
fn found(path: &str) -> Option<(Cow<'static, [u8]>, String)> {
    if path != "styles/all.css" {
        let file = Assets::get(path)?;
        let hash = file.metadata.sha256_hash();
        return Some((file.data, hash[..12].iter().map(|b| format!("{b:02x}")).collect()));
    }
    let mut all = Vec::new();
    for name in STYLES {
        all.extend_from_slice(&Assets::get(&format!("styles/{name}.css"))?.data);
    }
    let hash = rallo_media::content_hash(&all);
    Some((all.into(), hash))
}

/// A file of the pages. It is asked for again on every page, and sent again only when it has changed: its hash is its tag
/// (RFC 9110, 8.8.3).
pub(super) async fn asset(Path(path): Path<String>, headers: HeaderMap) -> Response {
    let Some((data, hash)) = found(&path) else { return StatusCode::NOT_FOUND.into_response() };
    let tag = format!("\"{hash}\"");
    let known = headers.get_all(header::IF_NONE_MATCH).iter().filter_map(|v| v.to_str().ok());
    if known.flat_map(|v| v.split(',')).any(|v| v.trim().trim_start_matches("W/") == tag) {
        return (StatusCode::NOT_MODIFIED, [(header::ETAG, tag)]).into_response();
    }
    let kind = match path.rsplit('.').next() {
        Some("css") => "text/css; charset=utf-8",
        Some("js") => "text/javascript; charset=utf-8",
        Some("woff2") => "font/woff2",
        Some("svg") => "image/svg+xml",
        _ => "text/plain; charset=utf-8",
    };
    let cache = if path.starts_with("vendor/") { "public, max-age=31536000, immutable" } else { "no-cache" };
    ([(header::CONTENT_TYPE, kind), (header::CACHE_CONTROL, cache), (header::ETAG, &tag)], data)
        .into_response()
}
