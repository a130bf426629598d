//! What is asked for, read and prepared: the recipe with this run's values, the pictures, their target paths.

use crate::App;
use crate::error::{Error, Result};
use crate::workspace::{self, Laid};
use rallo_recipe::Recipe;
use rallo_recipe::delivery::What;
use rallo_runner::library::scan::common_folder;
use rallo_runner::preflight::checks::{self, About};
use rallo_runner::preflight::problem::{self, Way};
use rallo_runner::preflight::{self, input, output_paths};
use rallo_runner::{Decided, Planned, Problem};
use rallo_shoot::Frame;
use schemars::JsonSchema;
use serde::Deserialize;
use serde_json::{Map, Value, json};
use std::collections::HashSet;
use std::path::{Path, PathBuf};

/// A value of a line for one run.
#[derive(Clone, Deserialize, JsonSchema)]
pub struct Answer {
    /// From 0.
    pub line: usize,
    /// A parameter's name, or `on` or `when`.
    pub param: String,
    /// Its value.
    pub value: Value,
}

/// Answers as the recipe takes them.
pub fn answers_of(answers: &[Answer]) -> Vec<(usize, String, Value)> {
    answers.iter().map(|a| (a.line, a.param.clone(), a.value.clone())).collect()
}

/// Values of a delivery for one run.
#[derive(Clone, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct DeliveryValues {
    /// Which, from 0; without it all of them.
    #[serde(default)]
    pub(super) at: Option<usize>,
    /// By their names.
    pub(super) values: Map<String, Value>,
}

/// What a run is started with; everything may be left out.
#[derive(Default, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct RunAsked {
    /// Values of lines.
    pub(crate) answers: Vec<Answer>,
    /// Values of deliveries.
    pub(crate) delivery: Vec<DeliveryValues>,
    /// How files are read, by the names of a recipe's `decode`.
    pub(super) decode: Map<String, Value>,
    /// Frames that are left out, by identity.
    pub(crate) leave_out: HashSet<i64>,
    /// Not before this time (RFC 3339).
    pub(super) at: Option<String>,
    /// Before all other runs.
    pub(super) first: bool,
    /// Failures after which it pauses.
    pub(super) most_failures: Option<i64>,
    /// An address its report is sent to when it has ended.
    pub(super) report_to: Option<String>,
}

/// What a run of what lies on the desk would do.
pub struct Prepared {
    pub(super) laid: Laid,
    /// Frames it takes, as positions in `laid.frames`.
    pub(super) frames: Vec<usize>,
    pub(super) sources: Vec<input::Source>,
    pub(crate) recipe: Recipe,
    pub(super) base: PathBuf,
    pub(super) planning: output_paths::Planning,
}

impl Prepared {
    fn chosen(&self) -> impl Iterator<Item = &Frame> {
        self.frames.iter().map(|i| &self.laid.frames[*i])
    }
}

/// The recipe on the desk with its changes for one run.
pub(super) fn changed(recipe: &Recipe, asked: &RunAsked) -> Result<Recipe> {
    let mut recipe = recipe.answered(&answers_of(&asked.answers))?;
    for delivery in &asked.delivery {
        recipe = recipe.delivering(delivery.at, &delivery.values)?;
    }
    if !asked.decode.is_empty() {
        recipe = recipe.reading(&asked.decode)?;
    }
    Ok(recipe)
}

pub(crate) async fn prepare(app: &App, asked: &RunAsked) -> Result<Prepared> {
    let laid = workspace::laid(app).await?;
    let row = laid.recipe.as_ref().ok_or_else(|| Error::bad("there is no recipe; open the bench first"))?;
    let recipe = crate::api::recipes::followed(app, Recipe::parse(&row.document)?).await?;
    let recipe = changed(&recipe, asked)?;
    let (app, leave_out) = (app.clone(), asked.leave_out.clone());
    // Names are looked for on the disk.
    tokio::task::spawn_blocking(move || prepared(&app, laid, recipe, &leave_out)).await?
}

/// What a run of a recipe on the frames on the desk would do.
pub(super) fn prepared(app: &App, laid: Laid, recipe: Recipe, leave_out: &HashSet<i64>) -> Result<Prepared> {
    let base = match (laid.desk.list, &laid.shoot) {
        (None, Some(shoot)) => PathBuf::from(&shoot.base),
        (Some(_), _) => common_folder(laid.frames.iter().map(|f| &f.path)),
        (None, None) => return Err(Error::bad("there is no shoot; choose a folder in Frames first")),
    };
    let place: std::collections::HashMap<i64, usize> =
        laid.frames.iter().enumerate().map(|(i, f)| (f.id, i)).collect();
    let frames: Vec<usize> = laid
        .chosen()
        .into_iter()
        .filter(|f| !leave_out.contains(&f.id))
        .filter_map(|f| place.get(&f.id).copied())
        .collect();
    let source = |i: &usize| {
        let f = &laid.frames[*i];
        input::Source { path: f.path.clone(), facts: f.facts.clone(), decided: Decided::from(&f.marks) }
    };
    let sources: Vec<input::Source> = frames.iter().map(source).collect();
    let mut planning = preflight::plan(&recipe, &sources, &base, None);
    let output_paths::Planning { pictures: planned, tasks, problems, .. } = &mut planning;
    if planned.is_empty() && problems.is_empty() {
        problems.push(Problem::stop(if laid.is_being_read(app) {
            "the folder is still being read and no frame was found yet; wait a moment, or choose another folder"
        } else {
            "there are no frames to run on; choose a folder in Frames"
        }));
    }
    let files =
        planned.iter().flat_map(Planned::all).map(|(p, _)| p).chain(tasks.iter().map(PathBuf::as_path));
    let folders = files.filter_map(Path::parent);
    for target in folders.collect::<std::collections::BTreeSet<_>>() {
        if let Err(e) = app.roots.future(target) {
            let problem = Problem::stop(e.to_string());
            let inside = problem::delivery("to", json!("subfolder"));
            problems.push(problem.or("Into a sub-folder instead", inside).or("Another folder", Way::Folder));
            break;
        }
    }
    let recipe = planning.recipe.clone().unwrap_or(recipe);
    for (at, one) in recipe.deliveries.iter().enumerate() {
        if let What::Video(video) = &one.what
            && !video.sound.trim().is_empty()
            && let Err(e) = app.roots.existing(Path::new(video.sound.trim()))
        {
            let none = problem::delivery_at(at, "sound", json!(""));
            planning.problems.push(Problem::stop(format!("sound: {e}")).or("Without sound", none));
        }
    }
    Ok(Prepared { laid, frames, sources, recipe, base, planning })
}

/// What should be known before a run, beside what stops it; the first lines tell what the recipe itself asks.
pub(super) async fn known(app: &App, prepared: &Prepared) -> Result<Vec<Problem>> {
    let mut notes = Vec::new();
    let Prepared { laid, recipe, sources, planning, .. } = prepared;
    if laid.is_being_read(app) && !sources.is_empty() {
        let found = match sources.len() {
            1 => "1 frame".to_owned(),
            n => format!("{n} frames"),
        };
        notes.push(Problem::note(format!(
            "The folder is still being read: {found} so far. A run takes those that are found when it starts."
        )));
    }
    for (at, what) in recipe.checkpoints() {
        notes.push(Problem::note(format!("It waits for your yes before line {}: {what}", at + 1)));
    }
    let adjusted: Vec<&Frame> = prepared.chosen().filter(|f| !f.marks.own.is_nothing()).collect();
    if let Some(first) = adjusted.first() {
        notes.push(Problem::note(match adjusted.len() {
            1 => format!("{} has its own changes: {}", first.name, first.marks.own.words()),
            n => format!(
                "{n} frames have their own changes, {} for one: {}",
                first.name,
                first.marks.own.words()
            ),
        }));
    }
    let unreadable: Vec<usize> =
        prepared.chosen().enumerate().filter(|(_, f)| f.problem.is_some()).map(|(i, _)| i).collect();
    if let Some(first) = unreadable.first() {
        let more =
            if unreadable.len() > 1 { format!(" and {} more", unreadable.len() - 1) } else { String::new() };
        let name = prepared.chosen().nth(*first).map(|f| f.name.clone()).unwrap_or_default();
        let rest = |f: &&Frame| f.problem.is_some() && f.facts.is_some();
        let has_part = prepared.chosen().any(|f| rest(&f));
        let mut problem = Problem::note(if has_part && recipe.decode.use_part {
            format!("{name}{more} cannot be read whole; the part that is there is used, the rest is grey")
        } else {
            format!("{name}{more} cannot be read and will fail")
        });
        if has_part && !recipe.decode.use_part {
            problem = problem
                .or("Use the part that is there", Way::Decode { param: "use_part", value: json!(true) });
        }
        notes.push(if unreadable.len() < sources.len() {
            problem.or("Leave out what cannot be read", Way::LeaveOut { pictures: unreadable })
        } else {
            problem
        });
    }
    let row = laid.recipe.as_ref();
    let seen = match row {
        Some(row) => app.store.proof(row.id).await?.map(|seen| (row.version, seen)),
        None => None,
    };
    let sample = laid.frames.iter().find(|f| Some(f.id) == laid.desk.frame);
    let lens = sample.and_then(|f| f.facts.as_ref()?.camera.lens.clone());
    let about = About { lens, versions: seen };
    let (recipe, sources, planned) = (recipe.clone(), sources.clone(), planning.pictures.clone());
    let warned =
        tokio::task::spawn_blocking(move || checks::warnings(&recipe, &sources, &planned, &about)).await?;
    notes.extend(warned);
    Ok(notes)
}
