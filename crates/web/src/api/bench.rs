//! The bench: steps, plans, renders, recipes.

use super::image;
use crate::App;
use crate::error::{Error, Result};
use axum::extract::State;
use axum::response::Response;
use axum::routing::{get, post};
use axum::{Json, Router};
use rallo_engine::steps::white_balance::WhiteBalance;
use rallo_engine::{Kind, OutputProfile, Param, Plan, Rect, Source, registry};
use rallo_media::{Chroma, Encoding, Extras, FileSource};
use rallo_recipe::{Pictures, Recipe, Subject};
use rallo_runner::Decided;
use serde::Deserialize;
use serde_json::{Value, json};
use std::path::Path as FilePath;
use std::sync::Arc;

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

/// What the bench's controls are made from.
async fn steps() -> Json<Value> {
    let all: Vec<Value> = registry()
        .iter()
        .map(|k| {
            let starter: Value = serde_json::from_str(k.info.starter).unwrap_or_default();
            json!({"id": k.info.id, "title": k.info.title, "group": k.info.group, "about": k.info.about,
                "takes_area": rallo_recipe::AREA_GROUPS.contains(&k.info.group), "words": k.info.words, "starter": starter, "params": params(k.params, &k.defaults())})
        })
        .collect();
    let delivery = params(&rallo_recipe::delivery::PICTURES, &Pictures::default().values());
    Json(json!({"steps": all, "delivery": delivery}))
}

#[derive(Deserialize)]
struct Ask {
    recipe: Value,
    frame: i64,
    /// Only the first so many lines.
    upto: Option<usize>,
    /// Only geometry, to compare with.
    #[serde(default)]
    before: bool,
    #[serde(default)]
    region: Option<[i64; 4]>,
    #[serde(default)]
    scale: Option<f64>,
    /// A place in the result, as shares of its sides.
    #[serde(default)]
    at: Option<[f64; 2]>,
}

impl Ask {
    fn recipe(&self) -> Result<Recipe> {
        Ok(Recipe::from_value(&self.recipe)?)
    }

    /// The recipe's plan for the frame, as far as it is asked for.
    fn plan(&self, recipe: &Recipe, frame: &Open) -> Result<Plan> {
        let mut recipe = recipe.clone();
        recipe.steps.truncate(self.upto.unwrap_or(usize::MAX));
        if self.before {
            // What moves or widens the picture, so that both sides lie on each other.
            let moves = |line: &rallo_recipe::Line| ["lens", "border", "caption"].contains(&line.id);
            recipe.steps.retain(|line| line.kind().info.group == "geometry" || moves(line));
        }
        recipe.plan(&*frame.source, &frame.about).map_err(Error::bad)
    }
}

/// A frame whose picture is open.
#[derive(Clone)]
struct Open {
    source: Arc<FileSource>,
    about: Subject,
}

async fn open(app: &App, frame: i64) -> Result<Open> {
    let row = app.store.frame(frame).await?;
    let path = app.roots.existing(FilePath::new(&row.path))?;
    let app = app.clone();
    tokio::task::spawn_blocking(move || {
        let source = app.sources.open(&path)?;
        let decided = Decided {
            shift: row.shift,
            rating: Some(row.rating.clamp(0, 5) as u8),
            keywords: serde_json::from_str(&row.keywords).ok(),
        };
        let about = rallo_runner::subject(&path, Some(&source.facts(&path)), &decided, 1);
        Ok(Open { source, about })
    })
    .await?
}

/// Sentences and sizes of a recipe on a frame.
async fn plan(State(app): State<App>, Json(ask): Json<Ask>) -> Result<Json<Value>> {
    let recipe = ask.recipe()?;
    let frame = open(&app, ask.frame).await?;
    tokio::task::spawn_blocking(move || {
        let plan = ask.plan(&recipe, &frame)?;
        // Lines that are off or do not apply have no place in the plan; they are told without pixels.
        let mut at = 0;
        let lines: Vec<Value> = recipe
            .steps
            .iter()
            .map(|line| {
                let runs = recipe.line_settings(line, &frame.about).is_some();
                let place = (runs && ask.upto.is_none()).then(|| plan.place(at, 1.0));
                let size = plan.size_before(at);
                let step = plan.steps().get(at).filter(|_| place.is_some()).map(|s| &s.step);
                let found: Vec<Value> = step
                    .map(|s| s.found().into_iter().map(|(n, v)| json!([n, v])).collect())
                    .unwrap_or_default();
                at += usize::from(runs);
                json!({"parts": line.parts(place.as_ref()), "size": [size.width, size.height],
                    "applies": runs, "found": found, "measured": step.map(|s| s.kept_values()),
                    "ordinary": step.map(|s| s.ordinary())})
            })
            .collect();
        let goes: Vec<Value> = recipe.deliveries.iter().map(|d| json!(d.parts(&recipe))).collect();
        let (size, from) = (plan.size(), frame.source.size());
        Ok(Json(json!({"lines": lines, "goes": goes, "size": [size.width, size.height],
            "source": [from.width, from.height], "advice": rallo_recipe::advice(&recipe)})))
    })
    .await?
}

/// Renders a part of a frame through the recipe: the same call as for the final file.
async fn render(State(app): State<App>, Json(ask): Json<Ask>) -> Result<Response> {
    let recipe = ask.recipe()?;
    let frame = open(&app, ask.frame).await?;
    let bytes = tokio::task::spawn_blocking(move || -> Result<Vec<u8>> {
        let plan = ask.plan(&recipe, &frame)?;
        let program = plan.program(ask.scale.unwrap_or(1.0));
        let whole = program.size().rect();
        let rect = ask.region.map_or(whole, |[x, y, w, h]| Rect::new(x, y, w, h)).within(whole);
        if rect.area() > 40_000_000 {
            return Err(Error::bad("this part is too large to be shown at once; zoom out"));
        }
        let picture =
            program.render(&*frame.source, rect, OutputProfile::Srgb.colour()).map_err(Error::bad)?;
        let encoding = Encoding::Jpeg { quality: 92, chroma: Chroma::Full, progressive: false };
        Ok(rallo_media::encode(&picture, encoding, &Extras::default())?)
    })
    .await??;
    Ok(image(bytes, "image/jpeg", false))
}

/// The white balance that makes a place neutral; the mean of 9 × 9 pixels is taken.
async fn neutral(State(app): State<App>, Json(ask): Json<Ask>) -> Result<Json<Value>> {
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
