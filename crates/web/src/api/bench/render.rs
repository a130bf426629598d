//! Pictures of a recipe on a frame, and what is read off them.

use super::ask::{Ask, Prepared};
use super::opened::{Open, open};
use crate::App;
use crate::api::answer::{FOR_SCREENS, Image, after_head};
use crate::error::{Error, Result};
use crate::request::Sent;
use axum::Json;
use axum::extract::State;
use rallo_engine::analysis::scopes::{self, Scopes, Waveform};
use rallo_engine::steps::light::white_balance::WhiteBalance;
use rallo_engine::{Encoded, OutputProfile, Rect};
use rallo_media::Extras;
use rallo_recipe::Recipe;
use rallo_runner::schedule::{self, Class};
use schemars::JsonSchema;
use serde::Serialize;
use std::time::Instant;

/// Most pixels shown at once.
const LARGEST_PART: usize = 40_000_000;

/// What is told before a picture.
#[derive(Serialize, JsonSchema)]
struct Head {
    /// How often each level is, for red, green, blue and brightness.
    histogram: Vec<Vec<f32>>,
    /// Brightness from left to right.
    waveform: Waveform,
    /// Red, green and blue from left to right, a third of the columns each.
    parade: Waveform,
    /// Shares of pixels with a channel at 0, and with one at the most.
    clipped: [f32; 2],
    /// Whether the true picture is still to come.
    stand_in: bool,
    /// How much of it is there, 0 to 1.
    share: f64,
    /// A number that grows with what is there of it.
    known: usize,
    /// Whether it could not be made.
    failed: bool,
    /// Pixels of the result, across and down.
    size: [u32; 2],
    /// A number for how the result lies on the frame.
    geometry: String,
    /// Whether this picture is framed as the view's result is.
    alike: bool,
    /// 1 is full size.
    scale: f64,
    /// What the picture covers, in pixels of the view's result: left, top, right, bottom.
    area: [f64; 4],
    /// The same in pixels at the scale: left, top, width, height.
    region: [i64; 4],
    /// Seconds it took.
    seconds: f64,
}

impl Ask {
    /// The picture asked for, as a JPEG, after its head where that is wanted.
    fn rendered(&self, recipe: &Recipe, frame: &Open, app: &App) -> Result<Vec<u8>> {
        let start = Instant::now();
        let shown = self.shown(recipe, frame)?;
        if shown.region.area() > LARGEST_PART {
            return Err(Error::bad("this part is too large to be shown at once; zoom out"));
        }
        let Prepared { plan, source, denoised, left_out } = self.prepared(recipe, frame, app, shown.scale)?;
        let program = plan.program(shown.scale);
        let level = program.level();
        let needed = program.needed(shown.region);
        let needed =
            Rect::new(needed.x << level, needed.y << level, needed.width << level, needed.height << level);
        if let Some(denoised) = &denoised {
            let whole = needed.within(source.size().rect()).area() as u64 >= source.size().area();
            denoised.look((!whole).then_some(needed));
        }
        let srgb = OutputProfile::Srgb.colour();
        // Looked up before: what comes while this is rendered is shown the next time.
        let (known, share) = denoised.as_ref().map_or((0, 0.0), |d| (d.known(), d.share(needed)));
        let stand_in = left_out || denoised.is_some() && share < 1.0;
        let mut picture = if stand_in && denoised.is_some() {
            program.render(&*source, shown.region, srgb).map_err(Error::bad)?
        } else {
            let kept = &app.kept.0[usize::from(shown.scale >= 1.0)];
            program.render_keeping(&*source, shown.region, srgb, kept).map_err(Error::bad)?
        };
        let scopes_of = |picture: &Encoded| self.head.then(|| Scopes::of(picture));
        let encoded = |picture: &Encoded| rallo_media::encode(picture, FOR_SCREENS, &Extras::default());
        let (scopes, jpeg) = if self.clip {
            let scopes = scopes_of(&picture);
            scopes::show_clipped(&mut picture);
            (scopes, encoded(&picture))
        } else {
            rayon::join(|| scopes_of(&picture), || encoded(&picture))
        };
        let jpeg = jpeg?;
        let Some(scopes) = scopes else {
            return Ok(jpeg);
        };
        let region = shown.region;
        let head = Head {
            histogram: scopes.histogram.iter().map(|h| h.to_vec()).collect(),
            waveform: scopes.waveform,
            parade: scopes.parade,
            clipped: scopes.clipped,
            stand_in,
            share,
            known,
            failed: denoised.is_some_and(|d| d.has_failed()),
            size: [shown.size.width, shown.size.height],
            geometry: shown.geometry,
            alike: shown.is_alike,
            scale: shown.scale,
            area: shown.area,
            region: [region.x, region.y, region.width, region.height],
            seconds: start.elapsed().as_secs_f64(),
        };
        after_head(&head, &jpeg)
    }
}

/// Renders a part of a frame through the recipe: the same call as for the final file. With `head`, four bytes of length
/// and that many of JSON come before the picture.
pub(super) async fn render(State(app): State<App>, Sent(ask): Sent<Ask>) -> Result<Image> {
    let recipe = ask.recipe()?;
    let frame = open(&app, ask.frame, &recipe).await?;
    if let Some(known) = ask.more
        && let Some(denoised) = ask.denoised(&recipe, &frame, &app.full, true)
    {
        denoised.look(None);
        denoised.more_than(known).await;
    }
    let bytes = schedule::ask(Class::Eye, move || ask.rendered(&recipe, &frame, &app)).await??;
    Ok(Image::jpeg(bytes))
}

/// A white balance.
#[derive(Serialize, JsonSchema)]
pub(super) struct Neutral {
    /// As the step of that name has it.
    temperature: f64,
    /// As the step of that name has it.
    tint: f64,
}

/// The white balance that makes a place neutral; the mean of 9 × 9 pixels is taken.
pub(super) async fn neutral(State(app): State<App>, Sent(ask): Sent<Ask>) -> Result<Json<Neutral>> {
    let recipe = ask.recipe()?;
    let [x, y] = ask.at.ok_or_else(|| Error::bad("at: expected [x, y] as shares of the picture"))?;
    let frame = open(&app, ask.frame, &recipe).await?;
    let found = schedule::ask(Class::Eye, move || -> Result<Option<WhiteBalance>> {
        let plan = ask.plan(&recipe, &frame)?;
        let program = plan.program(1.0);
        let size = program.size();
        let at = |share: f64, side: u32| (share.clamp(0.0, 1.0) * f64::from(side)) as i64 - 4;
        let rect = Rect::new(at(x, size.width), at(y, size.height), 9, 9);
        let (_, pixels) = program.render_working(&*frame.source, rect).map_err(Error::bad)?;
        let mean: [f32; 3] =
            std::array::from_fn(|c| pixels.iter().map(|p| p[c]).sum::<f32>() / pixels.len() as f32);
        Ok(WhiteBalance::for_neutral(mean))
    })
    .await??;
    let step =
        found.ok_or_else(|| Error::bad("this place is too dark to tell its colour; pick a lighter one"))?;
    Ok(Json(Neutral { temperature: step.temperature, tint: step.tint }))
}
