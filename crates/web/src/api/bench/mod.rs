//! The bench: steps, plans, renders, recipes.

mod ask;
mod catalogue;
mod opened;
mod plan;
mod raw_light;
mod render;
mod view;

pub use ask::Ask;
pub use catalogue::Control;
pub use opened::{Open, PrefixCache, open};
pub use view::ViewAsk;
pub(in crate::api) use view::{Moved, Shown, part_of};

use crate::App;
use crate::api::answer::about;
use aide::axum::ApiRouter;
use aide::axum::routing::{get_with, post_with};

pub fn routes() -> ApiRouter<App> {
    ApiRouter::new()
        .api_route("/api/steps", get_with(catalogue::steps, about("Every step with its parameters")))
        .api_route("/api/plan", post_with(plan::plan, about("What a recipe makes of a frame")))
        .api_route("/api/render", post_with(render::render, about("A part of a frame through a recipe")))
        .api_route("/api/neutral", post_with(render::neutral, about("White balance from a neutral spot")))
        .api_route("/api/raw-light", post_with(raw_light::raw_light, about("The light of a camera raw")))
}
