//! The bench: steps, plans, renders, recipes.

use super::image;
use crate::App;
use crate::error::{Error, Result, Sent};
use crate::truth::Truth;
use axum::extract::State;
use axum::response::Response;
use axum::routing::{get, post};
use axum::{Json, Router};
use rallo_engine::scopes::{self, Scopes};
use rallo_engine::step::View;
use rallo_engine::steps::white_balance::WhiteBalance;
use rallo_engine::{Kept, Kind, Memory, OutputProfile, Param, Plan, Rect, Source, Step, registry};
use rallo_media::{Chroma, Encoding, Extras, FileSource};
use rallo_recipe::{Recipe, Subject};
use rallo_runner::Decided;
use rallo_runner::behind;
use schemars::JsonSchema;
use serde::Deserialize;
use serde_json::{Value, json};
use std::path::Path as FilePath;
use std::sync::{Arc, LazyLock, Mutex};
use std::time::Instant;

pub fn routes() -> Router<App> {
    Router::new()
        .route("/api/steps", get(steps))
        .route("/api/plan", post(plan))
        .route("/api/render", post(render))
        .route("/api/neutral", post(neutral))
}

/// A parameter as the pages' controls take it.
pub fn param(p: &Param, default: &Value) -> Value {
    let (min, max) = p.kind.range();
    let mut one = json!({"name": p.name, "about": p.about, "unit": p.unit, "default": default,
        "kind": p.kind.names().0, "min": min, "max": max, "step": p.kind.notch()});
    match p.kind {
        Kind::Choice(all) => one["choices"] = json!(all),
        Kind::Rows(names, _) => one["names"] = json!(names),
        _ => {}
    }
    one
}

fn params(all: &[Param], defaults: &Value) -> Vec<Value> {
    all.iter().map(|p| param(p, &defaults[p.name])).collect()
}

/// What the bench's controls are made from; a step that is used with the same values again and again starts from those
/// last written down.
async fn steps(State(app): State<App>) -> Result<Json<Value>> {
    let lately = super::recipes::lately(&app).await?;
    let all: Vec<Value> = registry()
        .iter()
        .map(|k| {
            let starter: Value = serde_json::from_str(k.info.starter).unwrap_or_default();
            json!({"id": k.info.id, "title": k.info.title, "group": k.info.group, "about": k.info.about,
                "moves": rallo_recipe::moves(k),
                "takes_area": rallo_recipe::AREA_GROUPS.contains(&k.info.group), "words": k.info.words, "starter": starter,
                "lately": lately.get(k.info.id), "params": params(k.params, &k.defaults())})
        })
        .collect();
    let deliveries: Vec<Value> = rallo_recipe::delivery::KINDS
        .iter()
        .map(|k| json!({"id": k.id, "title": k.title, "about": k.about, "params": params(k.params, &k.defaults())}))
        .collect();
    Ok(Json(json!({"steps": all, "deliveries": deliveries})))
}

/// What a page asks about a recipe on a frame.
#[derive(Deserialize, JsonSchema)]
pub struct Ask {
    /// The document.
    pub recipe: Value,
    /// The frame.
    pub frame: i64,
    /// Only the first so many lines.
    pub upto: Option<usize>,
    /// Only geometry, to compare with.
    #[serde(default)]
    pub before: bool,
    /// Part of the result, in its pixels at the scale.
    #[serde(default)]
    pub region: Option<[i64; 4]>,
    /// 1 is full size.
    #[serde(default)]
    pub scale: Option<f64>,
    /// A place in the result, as shares of its sides.
    #[serde(default)]
    pub at: Option<[f64; 2]>,
    /// The line that is being changed: what stands before it is kept from one render to the next.
    #[serde(default)]
    pub from: Option<usize>,
    /// Scopes and the like before the picture.
    #[serde(default)]
    pub head: bool,
    /// Show what is clipped instead of the picture.
    #[serde(default)]
    pub clip: bool,
    /// Wait for the true picture where only a stand-in could be shown at once.
    #[serde(default)]
    pub wait: bool,
}

/// Scale below which a stand-in is shown without denoising.
const STAND_IN: f64 = 0.5;

/// What a render needs.
struct Prepared {
    plan: Plan,
    source: Arc<dyn Source + Send + Sync>,
    /// Denoising was done on a reduced picture: noise is not to be judged by it.
    stand_in: bool,
}

impl Ask {
    /// The document, checked.
    pub fn recipe(&self) -> Result<Recipe> {
        Ok(Recipe::from_value(&self.recipe)?)
    }

    /// The recipe as far as it is asked for.
    fn part(&self, recipe: &Recipe) -> Recipe {
        let mut recipe = recipe.clone();
        recipe.steps.truncate(self.upto.unwrap_or(usize::MAX));
        if self.before {
            // What moves or widens the picture, so that both sides lie on each other.
            recipe.steps.retain(rallo_recipe::Line::moves);
        }
        recipe
    }

    /// The recipe's plan for the frame, as far as it is asked for.
    pub fn plan(&self, recipe: &Recipe, frame: &Open) -> Result<Plan> {
        let settings = self.part(recipe).settings(&frame.about);
        Plan::remembering(settings, &*frame.source, Some(&*MEASURED)).map_err(Error::bad)
    }

    /// As [`plan`](Self::plan), from the sample behind its denoising where that is there, or is waited for.
    fn prepared(&self, recipe: &Recipe, frame: &Open, truth: &Arc<Truth>) -> Result<Prepared> {
        let recipe = self.part(recipe);
        // Lines that do not apply have no place in the plan.
        let placed = recipe.placed(&frame.about);
        let mut from =
            self.from.map(|line| placed.iter().take_while(|(l, _)| l.is_none_or(|l| l < line)).count());
        let groups = behind::groups(&recipe, &placed);
        let mut settings: Vec<_> = placed.into_iter().map(|(_, settings)| settings).collect();
        let mut source: Arc<dyn Source + Send + Sync> = frame.source.clone();
        let mut stand_in = false;
        if let Some(n) = behind::lines(&groups).filter(|_| !self.before) {
            let key = format!("{} {:?}", frame.key, &settings[..n]);
            let found = if self.wait {
                truth.wait(&key, settings[..n].to_vec(), source.clone())
            } else {
                truth.peek(&key)
            };
            match found {
                Some(denoised) => {
                    source = denoised;
                    settings.drain(..n);
                    from = from.and_then(|f| f.checked_sub(n));
                }
                // So much smaller, the noise averages out by itself; denoising comes with the true picture.
                None if self.scale.unwrap_or(1.0) < STAND_IN => {
                    stand_in = true;
                    let mut at = 0;
                    settings.retain(|_| {
                        at += 1;
                        !behind::DENOISE.contains(&groups[at - 1].0)
                    });
                    let gone =
                        |n: usize| groups[..n].iter().filter(|g| behind::DENOISE.contains(&g.0)).count();
                    from = from.map(|f| f - gone(f));
                }
                None => stand_in = self.scale.unwrap_or(1.0) < 1.0,
            }
        }
        let plan = Plan::remembering(settings, &*source, Some(&*MEASURED)).map_err(Error::bad)?;
        let plan = match from {
            Some(line) => plan.cut_before(line),
            None => plan,
        };
        Ok(Prepared { plan, source, stand_in })
    }
}

/// What steps measured and were shown lately, so that dragging a value measures nothing again; the last used first.
#[derive(Default)]
struct Measured {
    steps: Mutex<Vec<(u64, Arc<dyn Step>)>>,
    views: Mutex<Vec<(u64, Arc<Vec<View>>)>>,
}

static MEASURED: LazyLock<Measured> = LazyLock::new(Measured::default);

fn recalled<T: Clone>(all: &Mutex<Vec<(u64, T)>>, key: u64) -> Option<T> {
    let mut all = super::lock(all);
    let at = all.iter().position(|(k, _)| *k == key)?;
    let one = all.remove(at);
    all.insert(0, one);
    Some(all[0].1.clone())
}

fn kept<T>(all: &Mutex<Vec<(u64, T)>>, key: u64, one: T, most: usize) {
    let mut all = super::lock(all);
    all.insert(0, (key, one));
    all.truncate(most);
}

impl Memory for Measured {
    fn recall(&self, key: u64) -> Option<Arc<dyn Step>> {
        recalled(&self.steps, key)
    }
    fn keep(&self, key: u64, step: Arc<dyn Step>) {
        kept(&self.steps, key, step, 32);
    }
    fn recall_views(&self, key: u64) -> Option<Arc<Vec<View>>> {
        recalled(&self.views, key)
    }
    // A dozen megabytes each at most.
    fn keep_views(&self, key: u64, views: Arc<Vec<View>>) {
        kept(&self.views, key, views, 6);
    }
}

/// Parts of pictures before the line that is changed: of the whole at a small scale, and of what is seen at full size.
#[derive(Default)]
pub struct KeptParts([Mutex<Option<Kept>>; 2]);

/// A frame whose picture is open.
#[derive(Clone)]
pub struct Open {
    /// The picture.
    pub source: Arc<FileSource>,
    /// What is known of it.
    pub about: Subject,
    /// Which file, in which state.
    key: String,
}

/// Opens a frame's picture.
pub async fn open(app: &App, frame: i64) -> Result<Open> {
    let row = app.store.frame(frame).await?;
    let path = app.roots.existing(FilePath::new(&row.path))?;
    let app = app.clone();
    tokio::task::spawn_blocking(move || {
        let source = app.sources.open(&path)?;
        let decided = Decided {
            shift: row.shift,
            rating: Some(row.rating.clamp(0, 5) as u8),
            keywords: serde_json::from_str(&row.keywords).ok(),
            own: serde_json::from_str(&row.own).unwrap_or_default(),
        };
        let about = rallo_runner::subject(&path, Some(&source.facts(&path)), &decided, 1);
        let key = format!("{} {}", path.display(), row.modified);
        Ok(Open { source, about, key })
    })
    .await?
}

/// Sentences and sizes of a recipe on a frame.
async fn plan(State(app): State<App>, Sent(ask): Sent<Ask>) -> Result<Json<Value>> {
    let recipe = ask.recipe()?;
    let frame = open(&app, ask.frame).await?;
    tokio::task::spawn_blocking(move || {
        let plan = ask.plan(&recipe, &frame)?;
        // Lines that are off or do not apply have no place in the plan; they are told without pixels.
        let placed = recipe.placed(&frame.about);
        let lines: Vec<Value> = recipe
            .steps
            .iter()
            .enumerate()
            .map(|(i, line)| {
                let own = placed.iter().position(|(line, _)| *line == Some(i));
                let runs = own.is_some();
                let at = own.unwrap_or_else(|| placed.iter().take_while(|(l, _)| l.is_none_or(|l| l < i)).count());
                let place = (runs && ask.upto.is_none()).then(|| plan.place(at, 1.0));
                let size = plan.size_before(at);
                let step = plan.steps().get(at).filter(|_| place.is_some()).map(|s| &s.step);
                let found: Vec<Value> = step
                    .map(|s| s.found().into_iter().map(|(n, v)| json!([n, v])).collect())
                    .unwrap_or_default();
                json!({"parts": line.parts(place.as_ref()), "size": [size.width, size.height],
                    "applies": runs, "found": found, "measured": step.map(|s| s.kept_values()),
                    "ordinary": step.map(|s| s.ordinary())})
            })
            .collect();
        let goes: Vec<Value> = recipe.deliveries.iter().map(|d| json!(d.parts(&recipe))).collect();
        let (size, from) = (plan.size(), frame.source.size());
        Ok(Json(json!({"lines": lines, "goes": goes, "size": [size.width, size.height],
            "own": frame.about.own.words(), "source": [from.width, from.height], "advice": rallo_recipe::advice(&recipe)})))
    })
    .await?
}

/// Renders a part of a frame through the recipe: the same call as for the final file. With `head`, four bytes of length
/// and that many of JSON come before the picture.
async fn render(State(app): State<App>, Sent(ask): Sent<Ask>) -> Result<Response> {
    let recipe = ask.recipe()?;
    let frame = open(&app, ask.frame).await?;
    let bytes = tokio::task::spawn_blocking(move || -> Result<Vec<u8>> {
        let start = Instant::now();
        let Prepared { plan, source, stand_in } = ask.prepared(&recipe, &frame, &app.truth)?;
        let scale = ask.scale.unwrap_or(1.0);
        let program = plan.program(scale);
        let whole = program.size().rect();
        let rect = ask.region.map_or(whole, |[x, y, w, h]| Rect::new(x, y, w, h)).within(whole);
        if rect.area() > 40_000_000 {
            return Err(Error::bad("this part is too large to be shown at once; zoom out"));
        }
        let kept = &app.kept.0[usize::from(scale >= 1.0)];
        let srgb = OutputProfile::Srgb.colour();
        let mut picture = program.render_keeping(&*source, rect, srgb, kept).map_err(Error::bad)?;
        let scopes = ask.head.then(|| Scopes::of(&picture));
        if ask.clip {
            scopes::show_clipped(&mut picture);
        }
        let encoding =
            Encoding::Jpeg { quality: 92, chroma: Chroma::Full, progressive: false, optimised: false };
        let jpeg = rallo_media::encode(&picture, encoding, &Extras::default())?;
        let Some(scopes) = scopes else {
            return Ok(jpeg);
        };
        let histogram: Vec<Vec<f32>> = scopes.histogram.iter().map(|h| h.to_vec()).collect();
        let head = json!({"histogram": histogram, "waveform": scopes.waveform, "parade": scopes.parade,
            "clipped": scopes.clipped, "stand_in": stand_in, "seconds": start.elapsed().as_secs_f64()});
        let head = head.to_string();
        Ok([&(head.len() as u32).to_le_bytes(), head.as_bytes(), &jpeg].concat())
    })
    .await??;
    Ok(image(bytes, "image/jpeg", false))
}

/// The white balance that makes a place neutral; the mean of 9 × 9 pixels is taken.
async fn neutral(State(app): State<App>, Sent(ask): Sent<Ask>) -> Result<Json<Value>> {
    let recipe = ask.recipe()?;
    let [x, y] = ask.at.ok_or_else(|| Error::bad("at: expected [x, y] as shares of the picture"))?;
    let frame = open(&app, ask.frame).await?;
    let found = tokio::task::spawn_blocking(move || -> Result<Option<WhiteBalance>> {
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
    Ok(Json(json!({"temperature": step.temperature, "tint": step.tint})))
}
