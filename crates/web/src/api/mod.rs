//! JSON routes.

mod answer;
pub(crate) mod auth;
pub(crate) mod bench;
pub(crate) mod cache;
pub(crate) mod camera;
mod clips;
pub(crate) mod delivered;
mod document;
mod documents;
pub(crate) mod drops;
pub(crate) mod folders;
pub(crate) mod frames;
pub(crate) mod gather;
mod helpers;
pub(crate) mod inspect;
mod lenses;
pub(crate) mod openapi;
pub(crate) mod preview;
mod ramps;
pub mod recipes;
pub(crate) mod runs;
pub(crate) mod sequence;
pub(crate) mod sheet;
mod shoots;
pub(crate) mod watches;

use crate::App;
use aide::axum::ApiRouter;

/// All routes, as they are described by what they take and answer.
pub fn routes() -> ApiRouter<App> {
    folders::routes()
        .merge(shoots::routes())
        .merge(frames::routes())
        .merge(gather::routes())
        .merge(camera::routes())
        .merge(bench::routes())
        .merge(recipes::routes())
        .merge(inspect::routes())
        .merge(lenses::routes())
        .merge(clips::routes())
        .merge(delivered::routes())
        .merge(documents::routes())
        .merge(runs::routes())
        .merge(sequence::routes())
        .merge(ramps::routes())
        .merge(preview::routes())
        .merge(sheet::routes())
        .merge(drops::routes())
        .merge(watches::routes())
        .merge(auth::routes())
        .merge(cache::routes())
        .merge(helpers::routes())
}

/// What a mutex guards, also after a thread that held it failed.
fn lock<T>(mutex: &std::sync::Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(|poisoned| poisoned.into_inner())
}
