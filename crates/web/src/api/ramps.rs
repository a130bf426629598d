//! Values of the recipe that change over the sequence: their marks and curves, where marks are worth setting, and what takes
//! the camera's jumps out.

use super::answer::about;
use super::recipes::keep_version;
use super::sequence::{self, InOrder};
use crate::App;
use crate::error::{Error, Result};
use crate::request::Sent;
use crate::workspace;
use aide::axum::ApiRouter;
use aide::axum::routing::get_with;
use axum::Json;
use axum::extract::State;
use rallo_engine::Kind;
use rallo_engine::sequence::{exposure_jumps, ramp_curve};
use rallo_recipe::{MarkPlaces, RampFrame, Recipe};
use rallo_runner::library::frame_light;
use rallo_runner::schedule::{self, Class};
use rallo_shoot::Frame;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

/// Marks that are proposed.
const PROPOSED: usize = 5;

pub fn routes() -> ApiRouter<App> {
    ApiRouter::new().api_route(
        "/api/sequence/ramps",
        get_with(all, about("Values of the recipe that may change over the sequence, and how they do"))
            .post_with(set, about("Let a value of the recipe change over the sequence, or hold it again")),
    )
}

/// Values that may change over the sequence.
#[derive(Serialize, JsonSchema)]
struct Ramps {
    /// Numbers of the recipe's lines.
    values: Vec<RampValue>,
    /// Where the camera let in more or less light than before: the frame, from 0, and stops.
    jumps: Vec<(usize, f64)>,
    /// Marks for stops that take them out, as shares of the sequence; none where there are too many.
    compensation: Vec<(f64, f64)>,
    /// Shares of the sequence at which marks follow its light best.
    proposed: Vec<f64>,
}

/// One of them.
#[derive(Serialize, JsonSchema)]
struct RampValue {
    /// The line, from 0.
    line: usize,
    /// What its step is called.
    title: &'static str,
    /// The parameter.
    param: &'static str,
    /// The least it may be.
    low: Option<f64>,
    /// The most.
    high: Option<f64>,
    /// What it is without marks.
    value: f64,
    /// Its marks, in their order.
    marks: Vec<MarkEntry>,
    /// What it is at every frame; nothing without marks.
    curve: Vec<f64>,
}

/// A mark.
#[derive(Serialize, JsonSchema)]
struct MarkEntry {
    /// As it is written: a share, a frame's name or a time.
    place: Value,
    /// Its share of the sequence; nothing where its frame is not in it.
    at: Option<f64>,
    /// The value there.
    value: f64,
}

fn named(frames: &InOrder) -> Vec<RampFrame> {
    frames.iter().map(|f| RampFrame { name: f.name.clone(), taken: f.taken() }).collect()
}

fn values_of(recipe: &Recipe, frames: &[RampFrame]) -> Vec<RampValue> {
    let ramped = recipe.ramped(frames);
    let places = MarkPlaces::of(frames);
    let mut out = Vec::new();
    for (line, own) in recipe.steps.iter().enumerate() {
        let values = own.step.values();
        for param in own.kind().params.iter().filter(|p| matches!(p.kind, Kind::Number { .. })) {
            let (low, high) = param.kind.range();
            let marks = own.ramp.as_ref().map_or(&[][..], |ramp| ramp.marks(param.name)).iter();
            let at_frame = |all: &Vec<(usize, String, Value)>| {
                all.iter().find(|(l, name, _)| *l == line && name == param.name).and_then(|v| v.2.as_f64())
            };
            out.push(RampValue {
                line,
                title: own.kind().info.title,
                param: param.name,
                low,
                high,
                value: values[param.name].as_f64().unwrap_or_default(),
                marks: marks
                    .map(|(mark, value)| MarkEntry {
                        place: mark.to_value(),
                        at: places.share_of(mark),
                        value: *value,
                    })
                    .collect(),
                curve: ramped.iter().filter_map(at_frame).collect(),
            });
        }
    }
    out
}

async fn all(State(app): State<App>) -> Result<Json<Ramps>> {
    let frames = InOrder::of(&app).await?;
    let recipe = sequence::recipe(&app).await?.map(|(_, recipe)| recipe);
    let light = sequence::brightness(&app, &frames).await?;
    Ok(Json(schedule::ask(Class::Eye, move || ramps(&frames, recipe.as_ref(), &light)).await?))
}

fn ramps(frames: &InOrder, recipe: Option<&Recipe>, light: &[f64]) -> Ramps {
    let exposure = |f: &Frame| frame_light::exposure(&f.facts.as_ref()?.camera);
    let exposures: Vec<Option<f64>> = frames.iter().map(exposure).collect();
    let most = exposures.len().saturating_sub(1).max(1) as f64;
    let compensation = exposure_jumps::compensation(&exposures);
    let few = compensation.len() <= rallo_recipe::MOST_MARKS;
    Ramps {
        values: recipe.map_or_else(Vec::new, |recipe| values_of(recipe, &named(frames))),
        jumps: exposure_jumps::jumps(&exposures),
        compensation: compensation
            .into_iter()
            .filter(|_| few)
            .map(|(at, stops)| (at as f64 / most, (stops * 1e3).round() / 1e3))
            .collect(),
        proposed: ramp_curve::where_light_changes(light, PROPOSED)
            .into_iter()
            .map(|at| at as f64 / most)
            .collect(),
    }
}

/// How a value of the recipe is to change.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct SetRamp {
    /// The line, from 0.
    line: usize,
    /// The parameter.
    param: String,
    /// Its marks, each `[place, value]`; none holds it again.
    marks: Vec<(Value, f64)>,
}

async fn set(State(app): State<App>, Sent(asked): Sent<SetRamp>) -> Result<Json<Ramps>> {
    let desk = workspace::load(&app).await?;
    let Some(row) = workspace::recipe(&app, &desk).await? else {
        return Err(Error::bad("there is no recipe yet; begin one on the bench"));
    };
    let mut document = Recipe::parse(&row.document)?.to_value();
    let line = document["steps"].get_mut(asked.line).and_then(Value::as_object_mut);
    let line = line.ok_or_else(|| Error::bad(format!("line: the recipe has no line {}", asked.line + 1)))?;
    let ramp = line.entry("ramp").or_insert_with(|| json!({}));
    if let Some(ramp) = ramp.as_object_mut() {
        if asked.marks.is_empty() {
            ramp.remove(&asked.param);
        } else {
            ramp.insert(asked.param, json!(asked.marks));
        }
        if ramp.is_empty() {
            line.remove("ramp");
        }
    }
    let recipe = Recipe::from_value(&document)?;
    let _ = keep_version(&app, row.id, row.version, &recipe).await?;
    all(State(app)).await
}
