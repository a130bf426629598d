//! Deliveries looked at before a run: the true preview of their files, names of all results side by side with the old ones.

use super::answer::{Image, about, after_head};
use super::bench::open;
use super::document::Document;
use crate::App;
use crate::error::{Error, Result};
use crate::request::Sent;
use crate::workspace::{self, Laid};
use aide::axum::ApiRouter;
use aide::axum::routing::post_with;
use axum::Json;
use axum::extract::State;
use rallo_engine::sequence::camera_move::{Framed, Window};
use rallo_engine::{Encoded, OutputProfile, Pixels, Plan, Rect, Size};
use rallo_media::{Encoding, Extras, FileSource};
use rallo_recipe::delivery::What;
use rallo_recipe::{Pictures, names};
use rallo_runner::assemble::clip;
use rallo_runner::render::variant;
use rallo_runner::schedule::{self, Class};
use rallo_runner::{Decided, resolve_context};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;

pub fn routes() -> ApiRouter<App> {
    ApiRouter::new()
        .api_route(
            "/api/delivered",
            post_with(delivered, about("A part of a file as a delivery would write it")),
        )
        .api_route("/api/names", post_with(name_all, about("Old and new names of the frames on the desk")))
        .api_route("/api/move", post_with(moving, about("The course of a clip's window")))
}

/// A part of a file as a delivery would write it.
#[derive(Deserialize, JsonSchema)]
pub struct Delivered {
    /// The document.
    recipe: Document,
    /// The frame.
    #[schemars(range(min = 1))]
    frame: i64,
    /// Which of the recipe's deliveries, from 0.
    at: usize,
    /// Which of its widths, from 0.
    #[serde(default)]
    width: usize,
    /// The middle of the part, as shares of the picture.
    middle: [f64; 2],
    /// Pixels of the part, at full size.
    #[schemars(inner(range(min = 1, max = 2400)))]
    size: [u32; 2],
    /// Without the losses of its format.
    #[serde(default)]
    plain: bool,
}

/// Longest side of a part.
const LONGEST: u32 = 2400;
/// Parts begin where JPEG's squares do, so that they lie as in the whole file.
const GRID: i64 = 16;

/// What is told before the part.
#[derive(Serialize)]
struct Head {
    /// Pixels of the whole, across and down.
    size: [u32; 2],
    /// The part in its pixels: left, top, width, height.
    part: [i64; 4],
    /// What a browser shows it as.
    kind: &'static str,
    /// What the whole file will take, by this part of it.
    bytes: Option<u64>,
    /// The quality that keeps within a limit of bytes.
    quality: Option<u8>,
}

/// The part encoded as the file will be, or without losses; before it four bytes of length and that many of JSON: pixels of
/// the whole, the part, and what a browser shows it as.
async fn delivered(State(app): State<App>, Sent(asked): Sent<Delivered>) -> Result<Image> {
    let recipe = asked.recipe.read()?;
    let frame = open(&app, asked.frame, &recipe).await?;
    let recipe = recipe.settled(&frame.about);
    if asked.size.iter().any(|s| *s == 0 || *s > LONGEST) {
        return Err(Error::bad(format!("size: expected 1 to {LONGEST} pixels each way")));
    }
    let bytes = schedule::ask(Class::Sight, move || -> Result<Vec<u8>> {
        let variants = variant::variants(&recipe);
        let mut of_delivery = variants.into_iter().filter(|v| v.at == asked.at);
        let variant = of_delivery.nth(asked.width).ok_or_else(|| {
            Error::bad("this delivery writes no file of each picture; its clip or document is made at the end of a run")
        })?;
        let delivery = &variant.delivery;
        let mut settings = recipe.settings(&frame.about);
        settings.extend(recipe.after(delivery, variant.width, &frame.about));
        let plan = Plan::for_picture(settings, &*frame.source).map_err(Error::bad)?;
        let program = plan.program(1.0);
        let whole = program.size();
        let start = |share: f64, part: u32, side: u32| {
            let middle = (share.clamp(0.0, 1.0) * f64::from(side)) as i64;
            let first = (middle - i64::from(part) / 2).clamp(0, (i64::from(side) - i64::from(part)).max(0));
            first / GRID * GRID
        };
        let rect = Rect::new(
            start(asked.middle[0], asked.size[0], whole.width),
            start(asked.middle[1], asked.size[1], whole.height),
            i64::from(asked.size[0]),
            i64::from(asked.size[1]),
        )
        .within(whole.rect());
        let colours = delivery.colours(&plan);
        let picture = program.render(&*frame.source, rect, &colours).map_err(Error::bad)?;
        let extras = Extras { icc: Some(colours.icc.clone()), ..Extras::default() };
        let encoding = if asked.plain { Encoding::Png } else { variant::encoding(delivery) };
        let (bytes, quality) = match delivery.limit.filter(|_| !asked.plain) {
            Some(limit) => {
                // The part's share of the whole file.
                let share = rect.area() as f64 / whole.area() as f64;
                let most = (f64::from(limit) * 1000.0 * share) as u64;
                let (bytes, quality) = rallo_media::encode_within(&picture, encoding, &extras, most)?;
                (bytes, Some(quality))
            }
            None => (rallo_media::encode(&picture, encoding, &extras)?, None),
        };
        let length = bytes.len();
        let (bytes, kind) = shown(&picture, encoding, bytes)?;
        let estimate = (!asked.plain)
            .then(|| (length as f64 * whole.area() as f64 / rect.area().max(1) as f64) as u64);
        let head = Head {
            size: [whole.width, whole.height],
            part: [rect.x, rect.y, rect.width, rect.height],
            kind,
            bytes: estimate,
            quality,
        };
        after_head(&head, &bytes)
    })
    .await??;
    Ok(Image { bytes, kind: "application/octet-stream", keep: false })
}

/// What a browser can show of an encoded picture: itself, or what it holds where it loses nothing anyway.
fn shown(picture: &Encoded, encoding: Encoding, bytes: Vec<u8>) -> Result<(Vec<u8>, &'static str)> {
    Ok(match encoding {
        Encoding::Jpeg { .. } => (bytes, "image/jpeg"),
        Encoding::Png => (bytes, "image/png"),
        Encoding::WebP { .. } => (bytes, "image/webp"),
        Encoding::Avif { .. } => (bytes, "image/avif"),
        Encoding::Jxl { quality: Some(_) } => {
            // Few browsers show it: what is left after its losses is shown.
            let source = FileSource::from_bytes(bytes)?;
            let program = Plan::for_picture(Vec::new(), &source).map_err(Error::bad)?.program(1.0);
            let srgb = OutputProfile::Srgb.colour();
            let picture = program.render(&source, program.size().rect(), srgb).map_err(Error::bad)?;
            let extras = Extras { icc: Some(srgb.icc.clone()), ..Extras::default() };
            (rallo_media::encode(&picture, Encoding::Png, &extras)?, "image/png")
        }
        Encoding::Jxl { quality: None } | Encoding::Tiff { .. } => {
            let eight = match &picture.pixels {
                Pixels::U8(v) => v.clone(),
                Pixels::U16(v) => v.iter().map(|s| (s >> 8) as u8).collect(),
                Pixels::F32(v) => v.iter().map(|s| (s * 255.0 + 0.5) as u8).collect(),
            };
            let picture = Encoded { size: picture.size, pixels: Pixels::U8(eight) };
            (rallo_media::encode(&picture, Encoding::Png, &Extras::default())?, "image/png")
        }
    })
}

/// A clip's move on a frame.
#[derive(Deserialize, JsonSchema)]
pub struct Moving {
    /// The document.
    recipe: Document,
    /// The frame.
    #[schemars(range(min = 1))]
    frame: i64,
    /// Which of the recipe's deliveries, from 0.
    at: usize,
}

/// Steps in which a move is told.
const STEPS: u32 = 200;

/// The course of a clip's window.
#[derive(Serialize, JsonSchema)]
struct Course {
    /// Pixels of what it travels over, across and down.
    size: [u32; 2],
    /// Pixels of the clip, across and down.
    clip: [u32; 2],
    /// Seconds it takes.
    seconds: f64,
    /// The window in equal steps, each as left, top, width and height in shares of the picture.
    windows: Vec<[f64; 4]>,
}

/// The course of a clip's window: pixels of what it travels over and of the clip, the seconds it
/// takes, and the window from
/// the first frame to the last in equal steps, each as left, top, width and height in shares of the picture.
async fn moving(State(app): State<App>, Sent(asked): Sent<Moving>) -> Result<Json<Course>> {
    let recipe = asked.recipe.read()?;
    let frame = open(&app, asked.frame, &recipe).await?;
    let count = workspace::laid(&app).await?.chosen().len().max(1);
    let recipe = recipe.settled(&frame.about);
    let delivery = recipe.deliveries.get(asked.at);
    let Some(What::Video(video)) = delivery.map(|d| &d.what) else {
        return Err(Error::bad("at: expected the place of a clip among the recipe's deliveries, from 0"));
    };
    let bare =
        Pictures { lines: delivery.map(|d| d.lines.clone()).unwrap_or_default(), ..Pictures::default() };
    let size = recipe.layout_for(&bare, None, &frame.about).map_err(Error::bad)?.size();
    let clip = clip::clip(video, &recipe.name, count);
    let share = |window: Window| {
        let (left, top, width, height) = Framed { window, size: clip.size }.part(size);
        let (w, h) = (f64::from(size.width), f64::from(size.height));
        [left / w, top / h, width / w, height / h]
    };
    // While a frame is held the window stands.
    let seconds = (video.seconds(count) / video.turns() - video.hold_first - video.hold_last).max(0.0);
    let windows: Vec<_> =
        (0..=STEPS).filter_map(|k| video.window_at(f64::from(k) / f64::from(STEPS))).map(share).collect();
    let side = |size: Size| [size.width, size.height];
    Ok(Json(Course { size: side(size), clip: side(clip.size), seconds, windows }))
}

/// A template for names, to be tried on the frames on the desk.
#[derive(Deserialize, JsonSchema)]
pub(crate) struct Template {
    /// The template.
    name: String,
    /// The recipe's name.
    #[serde(default)]
    recipe: String,
    /// Number of the first frame.
    #[serde(default = "one")]
    start: u32,
    /// The ending of the files.
    #[serde(default)]
    ending: String,
}

fn one() -> u32 {
    1
}

/// Old and new names.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Names {
    /// Of each frame, in order.
    pub(crate) names: Vec<Renamed>,
    /// Frames whose name is one that another has already.
    pub(crate) clashes: usize,
}

/// Old and new name of a frame.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Renamed {
    /// Its name now.
    pub(crate) old: String,
    /// The name of its result.
    pub(crate) new: String,
    /// Whether it had to be changed so that files can have it.
    pub(crate) changed: bool,
    /// The frame that has the same name before it.
    pub(crate) clash: Option<String>,
}

/// Old and new names of all frames on the desk; clashes are marked, and names that had to be changed.
async fn name_all(State(app): State<App>, Sent(asked): Sent<Template>) -> Result<Json<Names>> {
    Ok(Json(renamed_all(&app, asked).await?))
}

/// As [`name_all`].
pub(crate) async fn renamed_all(app: &App, asked: Template) -> Result<Names> {
    names::check(&asked.name).map_err(|e| Error::bad(format!("name: {e}")))?;
    let laid = workspace::laid(app).await?;
    Ok(tokio::task::spawn_blocking(move || renamed(&laid, &asked)).await?)
}

fn renamed(laid: &Laid, asked: &Template) -> Names {
    let mut seen: HashMap<String, String> = HashMap::new();
    let mut renamed: Vec<Renamed> = Vec::new();
    for (i, frame) in laid.chosen().into_iter().enumerate() {
        let mut about =
            resolve_context(&frame.path, frame.facts.as_ref(), &Decided::from(&frame.marks), i + 1);
        let number = &mut about.sequence.number;
        *number = (*number + asked.start as usize).saturating_sub(1);
        let name = names::expand(&asked.name, &asked.recipe, &about);
        let changed = names::changed(&asked.name, &asked.recipe, &about).is_some();
        let folder = frame.path.parent().map(|p| p.to_string_lossy().into_owned()).unwrap_or_default();
        // Compared without case, as some file systems do; within one folder.
        let key = format!("{folder}/{}", name.to_lowercase());
        let clash = seen.get(&key).cloned();
        if clash.is_none() {
            seen.insert(key, frame.name.clone());
        }
        let ending = if asked.ending.is_empty() { String::new() } else { format!(".{}", asked.ending) };
        renamed.push(Renamed { old: frame.name.clone(), new: format!("{name}{ending}"), changed, clash });
    }
    Names { clashes: renamed.iter().filter(|r| r.clash.is_some()).count(), names: renamed }
}
