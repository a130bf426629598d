//! A run as it is written down: by the pages, the command line, a watched folder.

use crate::preflight::input::Source;
use crate::preflight::output_paths::{Planned, Planning};
use crate::{Problem, now, report};
use rallo_job::{NewRunItem, Run, RunState};
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
fn items(planning: &Planning, sources: &[Source]) -> Vec<NewRunItem> {
    let one = |(p, s): (&Planned, &Source)| {
        let facts = s.facts.as_ref();
        NewRunItem {
            source: p.source.to_string_lossy().into_owned(),
            target: p.target.to_string_lossy().into_owned(),
            more: p.more.iter().map(|m| m.0.to_string_lossy().into_owned()).collect(),
            bytes: facts.map_or_else(|| p.source.metadata().map_or(0, |m| m.len()), |f| f.bytes) as i64,
            pixels: facts.map_or(0, |f| i64::from(f.width) * i64::from(f.height)),
            decided: serde_json::to_string(&s.decided).unwrap_or_else(|_| "{}".into()),
            task: None,
        }
    };
    let pictures = planning.pictures.iter().zip(sources).map(one);
    let task = |(place, target): (usize, &PathBuf)| {
        let target = target.to_string_lossy().into_owned();
        let task = Some(place as i64);
        NewRunItem { source: target.clone(), target, decided: "{}".into(), task, ..NewRunItem::default() }
    };
    pictures.chain(planning.tasks.iter().enumerate().map(task)).collect()
}

/// A run with its items, as it is written down; none where something stops it.
///
/// # Errors
/// What stops it.
pub fn written(
    planning: &Planning,
    sources: &[Source],
    base: &Path,
    name: &str,
    origin: &str,
) -> Result<(Run, Vec<NewRunItem>), String> {
    if let Some(stop) = planning.stop() {
        return Err(stop.to_owned());
    }
    let recipe = planning.recipe.as_ref().ok_or("there is no recipe")?;
    Ok((run(recipe, base, name, origin), items(planning, sources)))
}

/// What was said before a run, as it is kept with it.
pub fn warned(problems: &[Problem]) -> Vec<String> {
    problems.iter().filter(|p| !p.stops).map(|p| p.message.clone()).collect()
}

/// A time not before which a run begins, as the store compares it.
///
/// # Errors
/// What was expected instead.
pub fn moment(text: &str) -> Result<String, String> {
    let time: jiff::Timestamp =
        text.parse().map_err(|_| format!("expected a time such as 2026-05-04T22:00:00Z, got {text}"))?;
    Ok(rallo_job::clock::text_of(time))
}
