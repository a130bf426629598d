//! Before a run: names of its files, what should be known, what it will take.

pub mod checks;
pub mod cost;
pub mod estimate;
pub mod input;
pub mod new_run;
pub mod output_paths;
pub mod problem;

use crate::preflight::input::Source;
use crate::preflight::output_paths::Planning;
use rallo_recipe::Recipe;
use std::path::Path;

/// What a run over `sources` would do, and what should be known before: the names of all files, what stops it. `base` is
/// the folder the sources were found in, `to` overrides the recipe's target.
pub fn plan(recipe: &Recipe, sources: &[Source], base: &Path, to: Option<&Path>) -> Planning {
    plan_from(recipe, sources, base, to, 0)
}

/// As [`plan`], with `first` pictures numbered before these.
pub fn plan_from(
    recipe: &Recipe,
    sources: &[Source],
    base: &Path,
    to: Option<&Path>,
    first: usize,
) -> Planning {
    let (mut planning, subjects) = output_paths::name_all(recipe, sources, base, to, first);
    if let Some(settled) = &planning.recipe {
        planning.problems.extend(estimate::problems(settled, sources, &subjects));
        planning.problems.extend(output_paths::taken_already(settled, &planning.tasks));
    }
    planning
}
