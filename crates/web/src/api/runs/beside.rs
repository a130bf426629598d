//! A result of a run and its original, part by part, so that they can be looked at as closely as one wants.

use crate::App;
use crate::api::answer::{FOR_SCREENS, Image, after_head};
use crate::api::bench::{Moved, Shown, ViewAsk, part_of};
use crate::api::runs::results::output;
use crate::error::{Error, Result};
use crate::request::{ItemPath, Path, Sent};
use axum::extract::State;
use rallo_engine::{DecodeSettings, OutputProfile, Plan, Size, Source};
use rallo_job::ItemKey;
use rallo_job::prelude::*;
use rallo_media::Extras;
use rallo_recipe::{Delivery, Recipe};
use rallo_runner::Decided;
use rallo_runner::schedule::{self, Class};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::path::Path as FilePath;

/// What is wanted of a result.
#[derive(Deserialize, JsonSchema)]
pub struct PartAsk {
    /// How the result is looked at.
    view: ViewAsk,
    /// The original, where the result shows it, instead of the result.
    #[serde(default)]
    before: bool,
}

/// What is told before the picture.
#[derive(Serialize, JsonSchema)]
struct PartHead {
    /// Pixels of the result, across and down.
    size: [u32; 2],
    /// 1 is full size.
    scale: f64,
    /// What the picture covers, in pixels of the result: left, top, right, bottom.
    area: [f64; 4],
    /// Equal for both.
    geometry: &'static str,
    /// Whether it is framed as the result is.
    alike: bool,
    /// No true picture is still to come.
    stand_in: bool,
}

/// The result lies on what the recipe makes of the picture in its middle, and fills it or is filled by it.
fn moved(own: Size, result: Size, fills: bool) -> Moved {
    let side = |of: fn(Size) -> u32| f64::from(of(own)) / f64::from(of(result)).max(1.0);
    let (across, down) = (side(|s| s.width), side(|s| s.height));
    let times = if fills { across.min(down) } else { across.max(down) };
    let middle = |size: Size| (f64::from(size.width) / 2.0, f64::from(size.height) / 2.0);
    Moved { times, middle: middle(result), at: middle(own) }
}

/// What a plan shows where the view looks at a result of that size.
fn shown(view: &ViewAsk, plan: &Plan, result: Size, fills: bool) -> Shown {
    let (zoom, seen) = (view.zoom(result), view.seen(result));
    let moved = moved(plan.size(), result, fills);
    let [left, top, right, bottom] = seen;
    let column = |v: f64| (v - moved.middle.0) * moved.times + moved.at.0;
    let row = |v: f64| (v - moved.middle.1) * moved.times + moved.at.1;
    let part = [column(left), row(top), column(right), row(bottom)];
    part_of(plan, zoom / moved.times, part, Some(moved), (result, String::new()))
}

/// Renders a part of a result as it lies on the disk, or of its original in the same frame; four bytes of length and that many
/// of JSON come before the picture.
pub(super) async fn part(
    State(app): State<App>,
    Path(ItemPath { id, position }): Path<ItemPath>,
    Sent(asked): Sent<PartAsk>,
) -> Result<Image> {
    asked.view.check()?;
    let (run, item) = (app.store.run(id).await?, app.store.item(ItemKey { run: id, position }).await?);
    let result = output(&app, id, position).await?.path;
    let original = app.roots.existing(FilePath::new(&item.source))?;
    let recipe = Recipe::parse(&run.document)?.answered(&item.answers)?;
    // What is shown of several deliveries is the first one's file.
    let first = recipe.deliveries.iter().flat_map(Delivery::files).next().unwrap_or_default();
    let fills = first.frame.is_none_or(|frame| frame.fit != "fit");
    let mut framing = recipe.clone();
    framing.steps.extend(first.lines);
    let framing = framing.framing();
    let bytes = schedule::ask(Class::Eye, move || -> Result<Vec<u8>> {
        // Looked at again and again while it is moved.
        let made = app.sources.open(&result, &DecodeSettings::default())?;
        let size = made.size();
        let (plan, source) = if asked.before {
            let source = app.sources.open(&original, &recipe.decode)?;
            let decided: Decided = serde_json::from_str(&item.decided).unwrap_or_default();
            let facts = source.facts(&original);
            let about =
                rallo_runner::resolve_context(&original, Some(&facts), &decided, item.position as usize + 1);
            (Plan::new(framing.settings(&about), source.size()).map_err(Error::bad)?, source)
        } else {
            (Plan::new(Vec::new(), size).map_err(Error::bad)?, made)
        };
        let Shown { scale, region, area, .. } = shown(&asked.view, &plan, size, fills);
        let program = plan.program(scale);
        let picture = program.render(&*source, region, OutputProfile::Srgb.colour()).map_err(Error::bad)?;
        let jpeg = rallo_media::encode(&picture, FOR_SCREENS, &Extras::default())?;
        let size = [size.width, size.height];
        let head = PartHead { size, scale, area, geometry: "result", alike: true, stand_in: false };
        after_head(&head, &jpeg)
    })
    .await??;
    Ok(Image::jpeg(bytes))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_original_lies_under_the_result() {
        let view = ViewAsk { room: [400.0, 300.0], zoom: Some(1.0), centre: [0.5, 0.5] };
        // Halved: the same place, from twice as many pixels.
        let plan = Plan::new(Vec::new(), Size::new(3000, 2000)).unwrap();
        let half = shown(&view, &plan, Size::new(1500, 1000), true);
        assert_eq!(half.scale, 0.5);
        assert_eq!(half.area, [550.0, 350.0, 950.0, 650.0]);
        // A square cut out of its middle: as high as the original, and as much of its width.
        let whole = ViewAsk { zoom: None, ..view };
        let cut = shown(&whole, &plan, Size::new(1000, 1000), true);
        assert!((cut.area[0]).abs() < 4.0 && (cut.area[2] - 1000.0).abs() < 4.0, "{:?}", cut.area);
        let (width, height) = (cut.region.width as f64, cut.region.height as f64);
        assert!((width / height - 1.0).abs() < 0.02, "{width} × {height}");
        // With colour around it: all of its width, and bars above and below.
        let around = shown(&whole, &plan, Size::new(1000, 1000), false);
        let [left, top, right, bottom] = around.area;
        assert!(left.abs() < 4.0 && (right - 1000.0).abs() < 4.0, "{:?}", around.area);
        assert!((top - 166.7).abs() < 4.0 && (bottom - 833.3).abs() < 4.0, "{:?}", around.area);
    }
}
