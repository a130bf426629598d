//! A run as it is written down: by the pages, the command line, a watched folder.

use crate::preflight::input::Source;
use crate::preflight::output_paths::{Planned, Planning};
use crate::{Problem, now, report};
use rallo_job::{NewRunItem, Phase, Run, RunState};
use rallo_recipe::Recipe;
use std::path::{Path, PathBuf};

/// A run of a recipe over pictures found in `base`, which people know as `name`; it waits for its turn, or for a yes where
/// the recipe has a checkpoint.
fn run(recipe: &Recipe, base: &Path, name: &str, origin: &str) -> Run {
    let asks = report::asked(recipe, 0);
    Run {
        recipe_version: 1,
        recipe_name: recipe.name.clone(),
        document: recipe.to_value().to_string(),
        shoot_name: name.to_owned(),
        base: base.to_string_lossy().into_owned(),
        state: if asks.is_some() { RunState::Asking } else { RunState::Waiting },
        reason: asks,
        created: now(),
        origin: origin.to_owned(),
        ..Run::default()
    }
}

/// Its pictures, and what is done for all of them together; `sources` are those that it was planned for.
fn items(recipe: &Recipe, planning: &Planning, sources: &[Source]) -> Vec<NewRunItem> {
    let phase = if recipe.across().is_empty() { Phase::Render } else { Phase::Measure };
    let item_of = |(p, s): (&Planned, &Source)| {
        let facts = s.facts.as_ref();
        NewRunItem {
            source: p.source.to_string_lossy().into_owned(),
            target: p.target.to_string_lossy().into_owned(),
            more: p.more.iter().map(|m| m.0.to_string_lossy().into_owned()).collect(),
            bytes: facts.map_or_else(|| p.source.metadata().map_or(0, |m| m.len()), |f| f.bytes) as i64,
            pixels: facts.map_or(0, |f| i64::from(f.width) * i64::from(f.height)),
            decided: serde_json::to_string(&s.decided).unwrap_or_else(|_| "{}".into()),
            task: None,
            phase,
        }
    };
    let pictures = planning.pictures.iter().zip(sources).map(item_of);
    let task = |(place, target): (usize, &PathBuf)| {
        let target = target.to_string_lossy().into_owned();
        let task = Some(place as i64);
        NewRunItem { source: target.clone(), target, decided: "{}".into(), task, ..NewRunItem::default() }
    };
    pictures.chain(planning.tasks.iter().enumerate().map(task)).collect()
}

/// Why a run is not written down.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum NotStarted {
    /// A problem that stops it: what, where, and what can be done.
    #[error("{0}")]
    Stopped(String),
    /// It was planned without a recipe.
    #[error("there is no recipe")]
    NoRecipe,
}

/// A run with its items, as it is written down; none where something stops it.
///
/// # Errors
/// [`NotStarted`].
pub fn written(
    planning: &Planning,
    sources: &[Source],
    base: &Path,
    name: &str,
    origin: &str,
) -> Result<(Run, Vec<NewRunItem>), NotStarted> {
    if let Some(stop) = planning.stop() {
        return Err(NotStarted::Stopped(stop.to_owned()));
    }
    let recipe = planning.recipe.as_ref().ok_or(NotStarted::NoRecipe)?;
    Ok((run(recipe, base, name, origin), items(recipe, planning, sources)))
}

/// What was said before a run, as it is kept with it.
pub fn warned(problems: &[Problem]) -> Vec<String> {
    problems.iter().filter(|p| !p.stops).map(|p| p.message.clone()).collect()
}

/// A text that is no time.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("expected a time such as 2026-05-04T22:00:00Z, got {0}")]
pub struct NoMoment(String);

/// A time not before which a run begins, as the store compares it.
///
/// # Errors
/// [`NoMoment`].
pub fn moment(text: &str) -> Result<String, NoMoment> {
    let time: jiff::Timestamp = text.parse().map_err(|_| NoMoment(text.to_owned()))?;
    Ok(rallo_job::clock::text_of(time))
}
