//! Looking closely: numbers under the pointer, places worth a look, which frames to record and prove on.

use super::answer::{Done, about};
use super::bench::{Ask, Open, open};
use super::document::Document;
use crate::error::{Error, Result};
use crate::request::Sent;
use crate::{App, workspace};
use aide::axum::ApiRouter;
use aide::axum::routing::{get_with, post_with};
use axum::Json;
use axum::extract::State;
use rallo_engine::analysis::points_of_interest;
use rallo_engine::{Encoded, OutputProfile, Pixels, Plan, Rect, Size, Source};
use rallo_job::prelude::*;
use rallo_media::{Extras, FileSource, Format, bytes_text};
use rallo_recipe::{FrameAdjustments, Recipe};
use rallo_runner::preflight::cost::{Original, Sure};
use rallo_runner::preflight::estimate;
use rallo_runner::render::variant;
use rallo_runner::schedule::{self, Class};
use rallo_shoot::Frame;
use rallo_shoot::sample::{Pick, typical, unlike};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::time::Instant;

pub fn routes() -> ApiRouter<App> {
    ApiRouter::new()
        .api_route("/api/value", post_with(value, about("The value of one pixel of a result")))
        .api_route("/api/cost", post_with(cost, about("Seconds and bytes of one picture")))
        .api_route("/api/places", post_with(close_places, about("Places worth a close look")))
        .api_route("/api/typical", get_with(typical_frames, about("The most typical frames")))
        .api_route(
            "/api/proof",
            get_with(proof_frames, about("The sample and the frames least like it"))
                .put_with(keep_proof, about("Keep what was accepted")),
        )
}

/// One pixel of a result.
#[derive(Serialize, JsonSchema)]
struct PixelValue {
    /// Red, green and blue, 0 to 255 with a decimal.
    values: Vec<f64>,
    /// The colour space they are in.
    space: String,
}

/// The values of one pixel of what is shown, in the colour space the delivery's files will have.
async fn value(State(app): State<App>, Sent(ask): Sent<Ask>) -> Result<Json<PixelValue>> {
    let recipe = ask.recipe()?;
    let [x, y] = ask.at.ok_or_else(|| Error::bad("at: expected [x, y] as shares of the picture"))?;
    let frame = open(&app, ask.frame, &recipe).await?;
    schedule::ask(Class::Eye, move || {
        let plan = ask.plan(&recipe, &frame)?;
        let program = plan.program(ask.scale.unwrap_or(1.0));
        let size = program.size();
        let at = |share: f64, side: u32| (share.clamp(0.0, 1.0) * f64::from(side)) as i64;
        let (px, py) = (
            at(x, size.width).min(i64::from(size.width) - 1),
            at(y, size.height).min(i64::from(size.height) - 1),
        );
        let delivery = recipe.shown();
        let colours = delivery.colours(&plan);
        let pixel =
            program.render_16(&*frame.source, Rect::new(px, py, 1, 1), &colours).map_err(Error::bad)?;
        let Pixels::U16(samples) = pixel.pixels else { return Err(Error::bad("no values")) };
        let eight: Vec<f64> = samples.iter().map(|v| (f64::from(*v) / 25.7).round() / 10.0).collect();
        Ok(Json(PixelValue { values: eight, space: colours.name() }))
    })
    .await?
}

/// Pixels of a result up to which it is made whole to tell what one costs.
const WHOLE: i64 = 2_000_000;
/// Side of the parts that are made of a larger one, three by three of them.
const PART: i64 = 256;

/// Seconds on all cores that measuring may take by the machine's table; what takes longer is only told by that.
const MEASURABLE: f64 = 6.0;

/// How much a figure is to be trusted.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
enum Trust {
    /// From another machine's table: right within a factor of three or so.
    Rough,
    /// From this machine's table.
    Estimated,
    /// From this machine's table, corrected by runs.
    Learned,
    /// Measured on this frame.
    Measured,
}

impl From<Sure> for Trust {
    fn from(sure: Sure) -> Self {
        match sure {
            Sure::Rough => Self::Rough,
            Sure::Estimated => Self::Estimated,
            Sure::Learned => Self::Learned,
        }
    }
}

/// What one picture costs.
#[derive(Serialize, JsonSchema)]
struct CostAnswer {
    /// Seconds on all cores.
    seconds: f64,
    /// Bytes of its files; nothing where it has none of its own.
    bytes: Option<u64>,
    /// Whether it was made whole for that.
    whole: bool,
    /// How much the figures are to be trusted.
    sure: Trust,
    /// Whether it was made for that.
    measured: bool,
    /// What each delivery costs, in words.
    deliveries: Vec<String>,
}

/// What one picture costs: seconds on all cores, and bytes of its files, at once from the machine's table and told how sure
/// that is; with `measure`, measured on the frame with the delivery's own settings, where that takes no longer than
/// seconds. A large result is made in nine parts for that.
async fn cost(State(app): State<App>, Sent(ask): Sent<Ask>) -> Result<Json<CostAnswer>> {
    let recipe = ask.recipe()?;
    let frame = open(&app, ask.frame, &recipe).await?;
    let count = workspace::laid(&app).await?.chosen().len();
    let costs = app.queue.costs();
    let recipe = recipe.settled(&frame.about);
    let file = &frame.source;
    let original = Original {
        size: file.size(),
        bytes: file.bytes().len() as u64,
        is_jpeg: file.format() == Format::Jpeg,
    };
    let expected = costs.picture(&recipe, &frame.about, original);
    if !ask.measure || expected.seconds / schedule::cores() as f64 > MEASURABLE {
        let cores = schedule::cores() as f64;
        let of = |at: usize| {
            let mut with_change = recipe.clone();
            with_change.deliveries = vec![recipe.deliveries[at].clone()];
            let has_files = !variant::variants(&with_change).is_empty();
            has_files
                .then(|| costs.picture(&with_change, &frame.about, original))
                .map(|c| (c.seconds / cores, c.bytes))
        };
        let deliveries = delivery_words(&recipe, count, |at| Ok(of(at)))?;
        let bytes = (!recipe.files().is_empty()).then_some(expected.bytes);
        return Ok(Json(CostAnswer {
            seconds: expected.seconds / cores,
            bytes,
            whole: false,
            sure: expected.sure.into(),
            measured: false,
            deliveries,
        }));
    }
    schedule::ask(Class::Background, move || {
        let whole = one_cost(&recipe, &frame, None)?;
        let deliveries = delivery_words(&recipe, count, |at| {
            let mut cost = Cost { seconds: 0.0, bytes: 0, whole: true };
            for variant in variant::variants(&recipe).iter().filter(|v| v.at == at) {
                let more = one_cost(&recipe, &frame, Some(variant))?;
                cost.seconds += more.seconds;
                cost.bytes += more.bytes;
            }
            Ok((cost.bytes > 0).then_some((cost.seconds, cost.bytes)))
        })?;
        let Cost { seconds, bytes, whole } = whole;
        // What only joins others has no file of its own.
        let bytes = (!recipe.files().is_empty()).then_some(bytes);
        Ok(Json(CostAnswer { seconds, bytes, whole, sure: Trust::Measured, measured: true, deliveries }))
    })
    .await?
}

/// What each delivery costs, in words; `of` gives the seconds and bytes of one that has files of each picture.
fn delivery_words(
    recipe: &Recipe,
    count: usize,
    of: impl Fn(usize) -> Result<Option<(f64, u64)>>,
) -> Result<Vec<String>> {
    let mut expected = estimate::expected(recipe, count).into_iter();
    let mut sizes = Vec::new();
    for (at, one) in recipe.deliveries.iter().enumerate() {
        let mut words = Vec::new();
        if let Some((seconds, bytes)) = of(at)? {
            words.push(format!(
                "About {} and {} a picture.",
                bytes_text(bytes),
                estimate::seconds_text(seconds)
            ));
        }
        for _ in one.assemblies() {
            words.extend(expected.next().map(|(text, _)| text));
        }
        sizes.push(words.join(" "));
    }
    Ok(sizes)
}

/// What one file costs.
struct Cost {
    seconds: f64,
    bytes: u64,
    /// Whether it was made whole.
    whole: bool,
}

/// What a file of a frame costs; that of the recipe's lines alone, as its first delivery writes it, without a variant.
fn one_cost(recipe: &Recipe, frame: &Open, variant: Option<&variant::Variant>) -> Result<Cost> {
    let start = Instant::now();
    let source = FileSource::from_bytes(frame.source.bytes().to_vec())?.decoding_by(&recipe.decode);
    let delivery = variant.map_or_else(|| recipe.shown(), |v| v.delivery.clone());
    let mut settings = recipe.settings(&frame.about);
    if let Some(variant) = variant {
        settings.extend(recipe.after(&delivery, variant.width, &frame.about));
    }
    let plan = Plan::for_picture(settings, &source).map_err(Error::bad)?;
    let program = plan.program(1.0);
    let colours = delivery.colours(&plan);
    let size = program.size();
    let wide = delivery.is_wide();
    let make = |part: Rect| {
        let made = if wide {
            program.render_16(&source, part, &colours)
        } else {
            program.render(&source, part, &colours)
        };
        made.map_err(Error::bad)
    };
    let encoded =
        |picture: &Encoded| rallo_media::encode(picture, variant::encoding(&delivery), &Extras::default());
    let (w, h) = (i64::from(size.width), i64::from(size.height));
    if w * h <= WHOLE || w < 3 * PART || h < 3 * PART {
        let bytes = encoded(&make(size.rect())?)?.len() as u64;
        return Ok(Cost { seconds: start.elapsed().as_secs_f64(), bytes, whole: true });
    }
    // Reading and measuring, once.
    make(Rect::new(w / 2, h / 2, 16, 16))?;
    let once = start.elapsed().as_secs_f64();
    let start = Instant::now();
    // One below the other they are one picture.
    let mut joined =
        Encoded { size: Size::new(PART as u32, 9 * PART as u32), pixels: Pixels::U8(Vec::new()) };
    for n in 0..9 {
        let at = |side: i64, n: i64| (side - PART) * n / 2;
        let part = make(Rect::new(at(w, n % 3), at(h, n / 3), PART, PART))?.pixels;
        match (&mut joined.pixels, part) {
            (Pixels::U8(joined), Pixels::U8(part)) => joined.extend(part),
            (Pixels::U16(joined), Pixels::U16(part)) => joined.extend(part),
            (joined, part) => *joined = part,
        }
    }
    let bytes = encoded(&joined)?.len();
    let times = (w * h) as f64 / (9 * PART * PART) as f64;
    let seconds = once + start.elapsed().as_secs_f64() * times;
    Ok(Cost { seconds, bytes: (bytes as f64 * times) as u64, whole: false })
}

/// Places worth a close look, as shares of the result.
#[derive(Serialize, JsonSchema)]
struct Places {
    /// Where noise is best judged.
    noisiest: [f64; 2],
    /// Where sharpness is best judged.
    sharpest: [f64; 2],
}

/// Where noise and where sharpness is best judged, as shares of the result.
async fn close_places(State(app): State<App>, Sent(mut ask): Sent<Ask>) -> Result<Json<Places>> {
    // What moves the picture counts, what smooths or sharpens it does not.
    ask.before = true;
    let recipe = ask.recipe()?;
    let frame = open(&app, ask.frame, &recipe).await?;
    schedule::ask(Class::Sight, move || {
        let program = ask.plan(&recipe, &frame)?.program(1.0);
        let whole = program.size().rect();
        let picture =
            program.render(&*frame.source, whole, OutputProfile::Srgb.colour()).map_err(Error::bad)?;
        let found = points_of_interest::places(&picture)
            .ok_or_else(|| Error::bad("this picture is too small to look for such places"))?;
        Ok(Json(Places { noisiest: found.noisiest, sharpest: found.sharpest }))
    })
    .await?
}

/// A frame that was picked.
#[derive(Serialize, JsonSchema)]
struct Picked {
    /// Its number.
    id: i64,
    /// File name.
    name: String,
    /// When the file was changed, as a number that changes with it.
    stamp: i64,
    /// Why it was picked.
    why: String,
    /// Its own changes on top of the recipe.
    own: FrameAdjustments,
}

fn picked(frames: &[&Frame], picks: Vec<Pick>) -> Vec<Picked> {
    let described = |pick: Pick| {
        let frame = frames[pick.at];
        Picked {
            id: frame.id,
            name: frame.name.clone(),
            stamp: frame.modified,
            why: pick.why,
            own: frame.marks.own,
        }
    };
    picks.into_iter().map(described).collect()
}

/// The frames most like the others, to record on.
async fn typical_frames(State(app): State<App>) -> Result<Json<Vec<Picked>>> {
    let laid = workspace::laid(&app).await?;
    let typical = move || {
        let frames = laid.chosen();
        picked(&frames, typical(&frames, 3))
    };
    Ok(Json(tokio::task::spawn_blocking(typical).await?))
}

/// What was accepted on the proof, of which version of which recipe.
#[derive(Default, Serialize, Deserialize, JsonSchema)]
pub struct Proof {
    /// The recipe.
    recipe: i64,
    /// Its version.
    version: i64,
    /// Frames on which it was accepted.
    accepted: Vec<i64>,
}

/// What is to be proved, and on what.
#[derive(Serialize, JsonSchema)]
struct ProofAnswer {
    /// The recipe on the desk.
    recipe: ProofRecipe,
    /// The frames: the sample, and those least like it.
    frames: Vec<Picked>,
    /// Those on which it was accepted.
    accepted: Vec<i64>,
}

/// A recipe that is to be proved.
#[derive(Serialize, JsonSchema)]
struct ProofRecipe {
    /// Its number.
    id: i64,
    /// Its version.
    version: i64,
    /// Its document.
    document: Document,
}

/// The recipe on the desk, and the frames to prove it on: the sample, and those least like it.
async fn proof_frames(State(app): State<App>) -> Result<Json<ProofAnswer>> {
    let laid = workspace::laid(&app).await?;
    let row = laid.recipe.as_ref().ok_or_else(|| Error::bad("there is no recipe; open the bench first"))?;
    let frames = laid.chosen();
    let sample = frames.iter().position(|f| Some(f.id) == laid.desk.frame);
    let mut picks: Vec<Pick> = sample.map(|at| Pick { at, why: "the sample".into() }).into_iter().collect();
    picks.extend(unlike(&frames, sample, 3));
    let document = serde_json::from_str(&row.document).map_err(Error::bad)?;
    let kept = app.store.setting("proof").await?;
    let kept: Proof = kept.and_then(|t| serde_json::from_str(&t).ok()).unwrap_or_default();
    app.store.keep_proof(row.id, row.version, &rallo_runner::now()).await?;
    // A changed recipe is proved anew.
    let same = (kept.recipe, kept.version) == (row.id, row.version);
    let recipe = ProofRecipe { id: row.id, version: row.version, document };
    let accepted = if same { kept.accepted } else { Vec::new() };
    Ok(Json(ProofAnswer { recipe, frames: picked(&frames, picks), accepted }))
}

async fn keep_proof(State(app): State<App>, Sent(proof): Sent<Proof>) -> Result<Json<Done>> {
    let text = serde_json::to_string(&proof).map_err(Error::bad)?;
    app.store.set_setting("proof", &text).await?;
    Ok(Json(Done {}))
}
