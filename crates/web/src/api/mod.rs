//! JSON routes.

pub(crate) mod auth;
pub(crate) mod bench;
pub(crate) mod cache;
pub(crate) mod camera;
mod clips;
mod delivered;
mod documents;
pub(crate) mod drops;
mod folders;
mod frames;
pub(crate) mod gather;
pub(crate) mod inspect;
mod openapi;
pub mod recipes;
mod runs;
mod sheet;
mod watches;

use crate::App;
use axum::Router;
use axum::body::{Body, Bytes};
use axum::http::header;
use axum::response::{IntoResponse, Response};

pub fn routes() -> Router<App> {
    folders::routes()
        .merge(frames::routes())
        .merge(gather::routes())
        .merge(camera::routes())
        .merge(bench::routes())
        .merge(recipes::routes())
        .merge(inspect::routes())
        .merge(clips::routes())
        .merge(delivered::routes())
        .merge(documents::routes())
        .merge(runs::routes())
        .merge(sheet::routes())
        .merge(drops::routes())
        .merge(watches::routes())
        .merge(auth::routes())
        .merge(cache::routes())
        .merge(openapi::routes())
}

/// What a mutex guards, also after a thread that held it failed.
fn lock<T>(mutex: &std::sync::Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(|poisoned| poisoned.into_inner())
}

/// Something that is kept under a name, as an answer (RFC 6266).
fn attached(body: impl Into<Body>, kind: &'static str, name: &str) -> Response {
    let is_plain = |c: char| c.is_ascii() && !c.is_control() && !['"', '\\'].contains(&c);
    let plain: String = name.chars().map(|c| if is_plain(c) { c } else { '_' }).collect();
    let to = format!(
        "attachment; filename=\"{plain}\"; filename*=UTF-8''{}",
        rallo_runner::assemble::web_gallery::address(name)
    );
    ([(header::CONTENT_TYPE, kind.to_owned()), (header::CONTENT_DISPOSITION, to)], body.into())
        .into_response()
}

/// A picture as an answer.
fn image(bytes: Vec<u8>, kind: &'static str, keep: bool) -> Response {
    let cache = if keep { "private, max-age=31536000, immutable" } else { "no-store" };
    ([(header::CONTENT_TYPE, kind), (header::CACHE_CONTROL, cache)], Bytes::from(bytes)).into_response()
}
