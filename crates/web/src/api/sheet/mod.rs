//! The run sheet: the last look at what will happen, with everything that can be put right there; starting a run.

mod asked;
mod measure;
mod problem_entry;
mod start;

pub(crate) use crate::api::sheet::asked::prepare;
pub use crate::api::sheet::asked::{Answer, Prepared, RunAsked, answers_of};
pub(crate) use crate::api::sheet::measure::{Measured, measured};
pub(crate) use crate::api::sheet::problem_entry::ProblemEntry;
pub use crate::api::sheet::start::address;

use crate::App;
use crate::api::answer::about;
use crate::api::bench::Control;
use crate::api::recipes::{Asking, RecipeAnswer};
use crate::api::sheet::asked::{changed, known};
use crate::api::sheet::measure::measure;
use crate::api::sheet::start::{again, go, start};
use crate::error::{Error, Result};
use crate::request::Sent;
use crate::workspace::{self};
use aide::axum::ApiRouter;
use aide::axum::routing::post_with;
use axum::Json;
use axum::extract::State;
use rallo_engine::{Kind, Size};
use rallo_media::{Format, bytes_text};
use rallo_recipe::{Delivery, Recipe, sentence};
use rallo_runner::Planned;
use rallo_runner::files::free_space;
use rallo_runner::preflight::cost::{self, Costs, Original, Sure};
use rallo_runner::preflight::{estimate, input, output_paths};
use rallo_runner::render::variant;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::{HashMap, HashSet};
use std::path::Path;

pub fn routes() -> ApiRouter<App> {
    ApiRouter::new()
        .api_route("/api/sheet", post_with(sheet, about("What a run of what lies on the desk would do")))
        .api_route(
            "/api/sheet/measure",
            post_with(measure, about("Times and sizes, from a few pictures made")),
        )
        .api_route("/api/sheet/keep", post_with(keep, about("Keep the changes in the recipe")))
        .api_route(
            "/api/runs",
            post_with(start, about("Start a run of what lies on the desk"))
                .get_with(crate::api::runs::open, about("The queue")),
        )
        .api_route(
            "/api/runs/again",
            post_with(again, about("The last run once more, on what is chosen now")),
        )
        .api_route("/api/runs/go", post_with(go, about("Start it if there is nothing to say")))
}

/// Whether a value can be typed on the sheet.
fn is_typed(kind: &Kind) -> bool {
    !matches!(kind, Kind::Kept(_))
}

/// A line with its values, as the sheet shows and changes them.
#[derive(Serialize, JsonSchema)]
pub(crate) struct SheetLine {
    /// Which, from 0.
    pub(crate) line: usize,
    /// Its step.
    pub(crate) title: &'static str,
    /// Whether it is on.
    pub(crate) on: bool,
    /// Its sentence.
    pub(crate) said: String,
    /// Its values.
    pub(crate) params: Vec<Control>,
}

fn lines(recipe: &Recipe) -> Vec<SheetLine> {
    let question = |(at, line): (usize, &rallo_recipe::Line)| {
        let values = line.step.values();
        let kind = line.kind();
        let typed = kind.params.iter().filter(|p| is_typed(&p.kind));
        SheetLine {
            line: at,
            title: kind.info.title,
            on: line.on,
            said: sentence::plain(&line.parts(None)),
            params: typed.map(|p| Control::new(p, &values[p.name])).collect(),
        }
    };
    recipe.steps.iter().enumerate().map(question).collect()
}

/// The values of a delivery that mean something.
fn delivery_values(delivery: &Delivery) -> Vec<Control> {
    let values = delivery.values();
    delivery.kind().fitting(&values).into_iter().map(|p| Control::new(p, &values[p.name])).collect()
}

/// Pictures by which a run's time and size are told at once.
const LOOKED_AT: usize = 12;

/// What a picture of a run takes by the machine's table, in seconds of one core.
fn said(costs: &Costs, recipe: &Recipe, source: &input::Source, number: usize) -> Option<cost::Cost> {
    let facts = source.facts.as_ref()?;
    let about = rallo_runner::resolve_context(&source.path, Some(facts), &source.decided, number);
    let original = Original {
        size: Size::new(facts.width, facts.height),
        bytes: facts.bytes,
        is_jpeg: facts.format == Format::Jpeg,
    };
    Some(costs.picture(recipe, &about, original))
}

/// What a run will take.
#[derive(Serialize, JsonSchema)]
pub(crate) struct RunCost {
    /// Seconds.
    pub(crate) seconds: f64,
    /// What all results take, in words.
    pub(crate) bytes: String,
    /// What the results of one picture take, in words.
    pub(crate) each: Option<String>,
    /// How much the figures are to be trusted.
    pub(crate) sure: Sure,
}

/// What a run will take, from the machine's table: seconds, bytes, and how sure that is.
pub(crate) fn at_once(app: &App, prepared: &Prepared) -> Option<RunCost> {
    let Prepared { sources, recipe, .. } = prepared;
    let costs = app.queue.costs();
    let many = sources.len().min(LOOKED_AT);
    let picked = (0..many).map(|n| (2 * n + 1) * sources.len() / (2 * many));
    let costs_of_picked: Vec<cost::Cost> =
        picked.filter_map(|i| said(&costs, recipe, &sources[i], i + 1)).collect();
    let (first, times) = (costs_of_picked.first()?, sources.len() as f64 / costs_of_picked.len() as f64);
    let seconds = costs_of_picked.iter().map(|c| c.seconds).sum::<f64>() * times / app.queue.width() as f64;
    let files = if recipe.files().is_empty() { 0 } else { costs_of_picked.iter().map(|c| c.bytes).sum() };
    let assemblies: u64 = estimate::expected(recipe, sources.len()).iter().map(|(_, bytes)| bytes).sum();
    let bytes = (files as f64 * times) as u64 + assemblies;
    let each = (files > 0).then(|| bytes_text((files as f64 / costs_of_picked.len() as f64) as u64));
    Some(RunCost { seconds, bytes: bytes_text(bytes), each, sure: first.sure })
}

/// The last look at what will happen.
#[derive(Serialize, JsonSchema)]
pub(crate) struct SheetAnswer {
    /// What the recipe asks.
    pub(crate) asks: Vec<Asking>,
    /// Pictures the run takes.
    pub(crate) count: usize,
    /// Which those are, as a sentence.
    pub(crate) takes: String,
    /// Frames left out on the sheet.
    pub(crate) left_out: usize,
    /// The folder results go to.
    pub(crate) folder: String,
    /// Folders results go to.
    pub(crate) folders: usize,
    /// All files it will write.
    pub(crate) names: Vec<NameEntry>,
    /// The recipe's lines.
    pub(crate) lines: Vec<SheetLine>,
    /// The sentence of each delivery.
    pub(crate) goes: Vec<String>,
    /// The values of each delivery that mean something by what its others are.
    pub(crate) delivery: Vec<Vec<Control>>,
    /// What is free on that disk, in words.
    pub(crate) free: Option<String>,
    /// What stops the run, or should be known.
    pub(crate) problems: Vec<ProblemEntry>,
    /// What to expect of files of all pictures, in words.
    pub(crate) expected: Vec<String>,
    /// What it takes; nothing where nothing can be read.
    pub(crate) cost: Option<RunCost>,
    /// The kind of each delivery.
    pub(crate) kinds: Vec<&'static str>,
}

/// A file a run will write.
#[derive(Serialize, JsonSchema)]
pub(crate) struct NameEntry {
    /// Name of the original.
    pub(crate) source: Option<String>,
    /// Name of the file.
    pub(crate) target: Option<String>,
    /// Its pixels, across and down, where they are known.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) size: Option<[u32; 2]>,
    /// What file of all pictures it is, in a word.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) what: Option<&'static str>,
    /// The folder it goes into, by its name.
    pub(crate) folder: Option<String>,
    /// The frame it is made of.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) frame: Option<i64>,
}

/// All files a run will write, those of all pictures first; then by the folders they go into, which are those of deliveries.
fn names(
    recipe: &Recipe,
    planning: &output_paths::Planning,
    frames: &[rallo_shoot::Frame],
) -> Vec<NameEntry> {
    let name = |path: &Path| path.file_name().map(|n| n.to_string_lossy().into_owned());
    let folder = |path: &Path| path.parent().and_then(name);
    let together = recipe.tasks().into_iter().zip(&planning.tasks);
    let together = together.map(|((_, task), path)| NameEntry {
        source: Some("all of them".into()),
        target: name(path),
        size: None,
        what: Some(task.word()),
        folder: folder(path),
        frame: None,
    });
    let mut names: Vec<NameEntry> = together.collect();
    if !variant::variants(recipe).is_empty() {
        let ids: HashMap<&Path, i64> = frames.iter().map(|f| (f.path.as_path(), f.id)).collect();
        let mut of_pictures = Vec::new();
        for picture in &planning.pictures {
            of_pictures.extend(picture.all().map(|(path, size)| NameEntry {
                source: name(&picture.source),
                target: name(path),
                size: size.map(|s| [s.width, s.height]),
                what: None,
                folder: folder(path),
                frame: ids.get(picture.source.as_path()).copied(),
            }));
        }
        // In the order in which folders are first met; pictures keep theirs.
        let mut met: Vec<Option<String>> = Vec::new();
        for entry in &of_pictures {
            if !met.contains(&entry.folder) {
                met.push(entry.folder.clone());
            }
        }
        of_pictures.sort_by_key(|entry| met.iter().position(|folder| *folder == entry.folder));
        names.extend(of_pictures);
    }
    names
}

async fn sheet(State(app): State<App>, Sent(asked): Sent<RunAsked>) -> Result<Json<SheetAnswer>> {
    let prepared = prepare(&app, &asked).await?;
    Ok(Json(told(&app, prepared, &asked).await?.0))
}

/// What a run of what is prepared would do, and its recipe.
pub(crate) async fn told(app: &App, prepared: Prepared, asked: &RunAsked) -> Result<(SheetAnswer, Recipe)> {
    let known = known(app, &prepared).await?;
    let left_out = asked.leave_out.len();
    let app = app.clone();
    // Room is looked up on the disk, and thousands of names are written.
    let answer = move || {
        let Prepared { recipe, base, planning, .. } = &prepared;
        let planned = &planning.pictures;
        let folders: HashSet<&Path> =
            planned.iter().flat_map(Planned::all).filter_map(|(p, _)| p.parent()).collect();
        let folder = planned.first().and_then(|p| p.target.parent()).unwrap_or(base);
        let there = folder.ancestors().find(|p| p.exists()).unwrap_or(base);
        let deliveries = &recipe.deliveries;
        let answer = SheetAnswer {
            asks: crate::api::recipes::asked(recipe),
            count: planned.len(),
            takes: prepared.laid.takes(),
            left_out,
            folder: app.roots.short(folder),
            folders: folders.len(),
            names: names(recipe, planning, &prepared.laid.frames),
            lines: lines(recipe),
            goes: deliveries.iter().map(|d| sentence::plain(&d.parts(recipe))).collect(),
            delivery: deliveries.iter().map(delivery_values).collect(),
            free: free_space::free_bytes(there).map(bytes_text),
            problems: planning
                .problems
                .iter()
                .chain(&known)
                .map(|p| ProblemEntry::new(p, &prepared))
                .collect(),
            expected: estimate::expected(recipe, planned.len()).into_iter().map(|(text, _)| text).collect(),
            cost: at_once(&app, &prepared),
            kinds: deliveries.iter().map(|d| d.kind().id).collect(),
        };
        (answer, prepared.recipe)
    };
    Ok(tokio::task::spawn_blocking(answer).await?)
}

/// Keeps the changes made on the sheet in the recipe, as its next version.
async fn keep(State(app): State<App>, Sent(asked): Sent<RunAsked>) -> Result<Json<RecipeAnswer>> {
    let laid = workspace::laid(&app).await?;
    let row = laid.recipe.ok_or_else(|| Error::bad("there is no recipe"))?;
    let recipe = changed(&Recipe::parse(&row.document)?, &asked)?;
    crate::api::recipes::keep_version(&app, row.id, row.version, &recipe).await
}
