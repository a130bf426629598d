//! Styles, scripts and fonts that ship with the program.

use axum::extract::Path;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};

#[derive(rust_embed::RustEmbed)]
#[folder = "assets"]
struct Assets;

/// A file of the pages. It is asked for again on every page, and sent again only when it has changed: its hash is its tag
/// (RFC 9110, 8.8.3).
pub(super) async fn asset(Path(path): Path<String>, headers: HeaderMap) -> Response {
    let Some(file) = Assets::get(&path) else { return StatusCode::NOT_FOUND.into_response() };
    let hash = file.metadata.sha256_hash();
    let tag = format!("\"{}\"", hash[..12].iter().map(|b| format!("{b:02x}")).collect::<String>());
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
    ([(header::CONTENT_TYPE, kind), (header::CACHE_CONTROL, cache), (header::ETAG, &tag)], file.data)
        .into_response()
}
