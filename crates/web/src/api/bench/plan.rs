//! Sentences and sizes of a recipe on a frame.

use super::ask::Ask;
use super::opened::open;
use crate::App;
use crate::error::Result;
use crate::request::Sent;
use axum::Json;
use axum::extract::State;
use rallo_engine::Source;
use rallo_media::Format;
use rallo_recipe::{Advice, Delivery, Part};
use rallo_runner::schedule::{self, Class};
use schemars::JsonSchema;
use serde::Serialize;
use serde_json::Value;

/// Sentences and sizes of a recipe on a frame.
#[derive(Serialize, JsonSchema)]
pub(super) struct PlanAnswer {
    /// How files are read, in parts; nothing where there is nothing to say.
    reading: Vec<Part>,
    /// Its lines.
    lines: Vec<LineEntry>,
    /// The sentence of each delivery, in parts.
    goes: Vec<Vec<Part>>,
    /// The values of each delivery that mean something by what its others are, by name.
    fits: Vec<Vec<&'static str>>,
    /// Pixels of the result, across and down.
    size: [u32; 2],
    /// The frame's own changes, in words.
    own: String,
    /// Pixels of the frame, across and down.
    source: [u32; 2],
    /// What could be better.
    advice: Vec<Advice>,
}

/// A line of a recipe on a frame.
#[derive(Serialize, JsonSchema)]
struct LineEntry {
    /// Its sentence, in parts.
    parts: Vec<Part>,
    /// Pixels of the picture that comes to it, across and down.
    size: [u32; 2],
    /// Whether it applies to this frame.
    applies: bool,
    /// What it says of this frame.
    note: Option<String>,
    /// What may be what it looks for and does not find, the likeliest first.
    offers: Vec<String>,
    /// What it found when it was shown the picture, by name.
    found: Vec<(&'static str, f64)>,
    /// The same as values that can be kept for every frame.
    measured: Option<Vec<f64>>,
    /// The ordinary steps that do what it chose, with their values.
    ordinary: Option<Vec<(&'static str, Value)>>,
}

/// The names of a delivery's values that mean something.
fn fitting(delivery: &Delivery) -> Vec<&'static str> {
    delivery.kind().fitting(&delivery.values()).into_iter().map(|param| param.name).collect()
}

pub(super) async fn plan(State(app): State<App>, Sent(ask): Sent<Ask>) -> Result<Json<PlanAnswer>> {
    let recipe = ask.recipe()?;
    let frame = open(&app, ask.frame, &recipe).await?;
    schedule::ask(Class::Eye, move || {
        let plan = if ask.quick { ask.outline(&recipe, &frame)? } else { ask.plan(&recipe, &frame)? };
        // Lines that are off or do not apply have no place in the plan; they are told without pixels.
        let placed = recipe.placed(&frame.about);
        let lines = recipe.steps.iter().enumerate().map(|(i, line)| {
            let own_position = placed.iter().position(|(line, _)| *line == Some(i));
            let applies = own_position.is_some();
            let before = || placed.iter().take_while(|(l, _)| l.is_none_or(|l| l < i)).count();
            let at = own_position.unwrap_or_else(before);
            let place = (applies && ask.upto.is_none()).then(|| plan.place(at, 1.0));
            let size = plan.size_before(at);
            let step = plan.steps().get(at).filter(|_| place.is_some()).map(|s| &s.step);
            LineEntry {
                parts: line.parts(place.as_ref()),
                size: [size.width, size.height],
                applies,
                note: step.and_then(|s| s.note()),
                offers: step.map(|s| s.offers()).unwrap_or_default(),
                found: step.map(|s| s.found()).unwrap_or_default(),
                measured: step.map(|s| s.kept_values()),
                ordinary: step.map(|s| s.ordinary()),
            }
        });
        let (size, from) = (plan.size(), frame.source.size());
        Ok(Json(PlanAnswer {
            reading: recipe.reading_parts(frame.source.format() == Format::Raw),
            lines: lines.collect(),
            goes: recipe.deliveries.iter().map(|d| d.parts(&recipe)).collect(),
            fits: recipe.deliveries.iter().map(fitting).collect(),
            size: [size.width, size.height],
            own: frame.about.frame.own.words(),
            source: [from.width, from.height],
            advice: rallo_recipe::advice(&recipe),
        }))
    })
    .await?
}
