//! The run sheet: the last look at what will happen, with everything that can be put right there; starting a run.

use super::answer::about;
use super::bench::Control;
use super::recipes::{Asking, RecipeAnswer};
use crate::App;
use crate::error::{Error, Result};
use crate::request::Sent;
use crate::workspace::{self, Laid};
use aide::axum::ApiRouter;
use aide::axum::routing::post_with;
use axum::Json;
use axum::extract::State;
use rallo_engine::{Kind, Size, Source};
use rallo_job::Run;
use rallo_job::prelude::*;
use rallo_media::{FileSource, Format, bytes_text};
use rallo_recipe::delivery::What;
use rallo_recipe::{Assembly, FinishingTask, Recipe, sentence};
use rallo_runner::assemble::encoder_speed;
use rallo_runner::files::free_space;
use rallo_runner::library::scan::common_folder;
use rallo_runner::preflight::checks::{self, About};
use rallo_runner::preflight::cost::{self, Costs, Original, Sure};
use rallo_runner::preflight::problem::{self, Mend, Way};
use rallo_runner::preflight::{self, estimate, input, new_run, output_paths};
use rallo_runner::render::fault::Fault;
use rallo_runner::render::sequence::RunSequence;
use rallo_runner::render::{variant, work};
use rallo_runner::report::webhook;
use rallo_runner::schedule::{self, Class};
use rallo_runner::{Decided, Planned, Problem};
use rallo_shoot::Frame;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

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
                .get_with(super::runs::open, about("The queue")),
        )
        .api_route(
            "/api/runs/again",
            post_with(again, about("The last run once more, on what is chosen now")),
        )
        .api_route("/api/runs/go", post_with(go, about("Start it if there is nothing to say")))
}

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
    at: Option<usize>,
    /// By their names.
    values: Map<String, Value>,
}

/// What a run is started with; everything may be left out.
#[derive(Default, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct RunAsked {
    /// Values of lines.
    answers: Vec<Answer>,
    /// Values of deliveries.
    delivery: Vec<DeliveryValues>,
    /// Frames that are left out, by identity.
    leave_out: HashSet<i64>,
    /// Not before this time (RFC 3339).
    at: Option<String>,
    /// Before all other runs.
    first: bool,
    /// Failures after which it pauses.
    most_failures: Option<i64>,
    /// An address its report is sent to when it has ended.
    report_to: Option<String>,
}

/// What a run of what lies on the desk would do.
pub struct Prepared {
    laid: Laid,
    /// Frames it takes, as positions in `laid.frames`.
    frames: Vec<usize>,
    sources: Vec<input::Source>,
    recipe: Recipe,
    base: PathBuf,
    planning: output_paths::Planning,
}

impl Prepared {
    fn chosen(&self) -> impl Iterator<Item = &Frame> {
        self.frames.iter().map(|i| &self.laid.frames[*i])
    }
}

/// The recipe on the desk with its changes for one run.
fn changed(recipe: &Recipe, asked: &RunAsked) -> Result<Recipe> {
    let mut recipe = recipe.answered(&answers_of(&asked.answers))?;
    for delivery in &asked.delivery {
        recipe = recipe.delivering(delivery.at, &delivery.values)?;
    }
    Ok(recipe)
}

async fn prepare(app: &App, asked: &RunAsked) -> Result<Prepared> {
    let laid = workspace::laid(app).await?;
    let row = laid.recipe.as_ref().ok_or_else(|| Error::bad("there is no recipe; open the bench first"))?;
    let recipe = super::recipes::followed(app, Recipe::parse(&row.document)?).await?;
    let recipe = changed(&recipe, asked)?;
    let (app, leave_out) = (app.clone(), asked.leave_out.clone());
    // Names are looked for on the disk.
    tokio::task::spawn_blocking(move || prepared(&app, laid, recipe, &leave_out)).await?
}

/// What a run of a recipe on the frames on the desk would do.
fn prepared(app: &App, laid: Laid, recipe: Recipe, leave_out: &HashSet<i64>) -> Result<Prepared> {
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
        problems.push(Problem::stop("there are no frames to run on; choose a folder in Frames"));
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
async fn known(app: &App, prepared: &Prepared) -> Result<Vec<Problem>> {
    let mut notes = Vec::new();
    let Prepared { laid, recipe, sources, planning, .. } = prepared;
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
        let problem = Problem::note(format!("{name}{more} cannot be read and will fail"));
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

/// A problem; pictures are told by their frames.
#[derive(Serialize, JsonSchema)]
struct ProblemEntry {
    /// Whether nothing may run because of it.
    stops: bool,
    /// What, where, and what can be done.
    message: String,
    /// What mends it, each by itself.
    mends: Vec<MendEntry>,
}

/// What mends a problem, for this run.
#[derive(Serialize, JsonSchema)]
struct MendEntry {
    /// What it does.
    label: String,
    /// The same for the program.
    #[serde(flatten)]
    way: WayEntry,
}

/// How something is mended: as it was found, but that frames are told by their numbers.
#[derive(Serialize, JsonSchema)]
#[serde(untagged)]
enum WayEntry {
    /// Some frames are left out.
    LeaveOut(LeaveOutFrames),
    /// Anything else.
    Other(Way),
}

/// Frames that are left out.
#[derive(Serialize, JsonSchema)]
#[serde(tag = "do", rename = "leave_out")]
struct LeaveOutFrames {
    /// By their numbers.
    frames: Vec<i64>,
}

impl ProblemEntry {
    fn new(problem: &Problem, prepared: &Prepared) -> Self {
        let id = |i: &usize| prepared.frames.get(*i).map(|f| prepared.laid.frames[*f].id);
        let way = |way: &Way| match way {
            Way::LeaveOut { pictures } => {
                WayEntry::LeaveOut(LeaveOutFrames { frames: pictures.iter().filter_map(id).collect() })
            }
            other => WayEntry::Other(other.clone()),
        };
        let mend = |mend: &Mend| MendEntry { label: mend.label.clone(), way: way(&mend.way) };
        Self {
            stops: problem.stops,
            message: problem.message.clone(),
            mends: problem.mends.iter().map(mend).collect(),
        }
    }
}

/// Whether a value can be typed on the sheet.
fn is_typed(kind: &Kind) -> bool {
    !matches!(kind, Kind::Kept(_))
}

/// A line with its values, as the sheet shows and changes them.
#[derive(Serialize, JsonSchema)]
struct SheetLine {
    /// Which, from 0.
    line: usize,
    /// Its step.
    title: &'static str,
    /// Whether it is on.
    on: bool,
    /// Its sentence.
    said: String,
    /// Its values.
    params: Vec<Control>,
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
struct RunCost {
    /// Seconds.
    seconds: f64,
    /// What all results take, in words.
    bytes: String,
    /// What the results of one picture take, in words.
    each: Option<String>,
    /// How much the figures are to be trusted.
    sure: Sure,
}

/// What a run will take, from the machine's table: seconds, bytes, and how sure that is.
fn at_once(app: &App, prepared: &Prepared) -> Option<RunCost> {
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
struct SheetAnswer {
    /// What the recipe asks.
    asks: Vec<Asking>,
    /// Pictures the run takes.
    count: usize,
    /// Which those are, as a sentence.
    takes: String,
    /// Frames left out on the sheet.
    left_out: usize,
    /// The folder results go to.
    folder: String,
    /// Folders results go to.
    folders: usize,
    /// All files it will write.
    names: Vec<NameEntry>,
    /// The recipe's lines.
    lines: Vec<SheetLine>,
    /// The sentence of each delivery.
    goes: Vec<String>,
    /// The values of each delivery.
    delivery: Vec<Vec<Control>>,
    /// What is free on that disk, in words.
    free: Option<String>,
    /// What stops the run, or should be known.
    problems: Vec<ProblemEntry>,
    /// What to expect of files of all pictures, in words.
    expected: Vec<String>,
    /// What it takes; nothing where nothing can be read.
    cost: Option<RunCost>,
    /// The kind of each delivery.
    kinds: Vec<&'static str>,
}

/// A file a run will write.
#[derive(Serialize, JsonSchema)]
struct NameEntry {
    /// Name of the original.
    source: Option<String>,
    /// Name of the file.
    target: Option<String>,
    /// Its pixels, across and down, where they are known.
    #[serde(skip_serializing_if = "Option::is_none")]
    size: Option<[u32; 2]>,
    /// What file of all pictures it is, in a word.
    #[serde(skip_serializing_if = "Option::is_none")]
    what: Option<&'static str>,
}

/// All files a run will write, those of all pictures first.
fn names(recipe: &Recipe, planning: &output_paths::Planning) -> Vec<NameEntry> {
    let name = |path: &Path| path.file_name().map(|n| n.to_string_lossy().into_owned());
    let together = recipe.tasks().into_iter().zip(&planning.tasks);
    let together = together.map(|((_, task), path)| NameEntry {
        source: Some("all of them".into()),
        target: name(path),
        size: None,
        what: Some(task.word()),
    });
    let mut names: Vec<NameEntry> = together.collect();
    if !variant::variants(recipe).is_empty() {
        for picture in &planning.pictures {
            names.extend(picture.all().map(|(path, size)| NameEntry {
                source: name(&picture.source),
                target: name(path),
                size: size.map(|s| [s.width, s.height]),
                what: None,
            }));
        }
    }
    names
}

async fn sheet(State(app): State<App>, Sent(asked): Sent<RunAsked>) -> Result<Json<SheetAnswer>> {
    let prepared = prepare(&app, &asked).await?;
    let known = known(&app, &prepared).await?;
    let left_out = asked.leave_out.len();
    // Room is looked up on the disk, and thousands of names are written.
    let answer = move || {
        let Prepared { recipe, base, planning, .. } = &prepared;
        let planned = &planning.pictures;
        let folders: HashSet<&Path> =
            planned.iter().flat_map(Planned::all).filter_map(|(p, _)| p.parent()).collect();
        let folder = planned.first().and_then(|p| p.target.parent()).unwrap_or(base);
        let there = folder.ancestors().find(|p| p.exists()).unwrap_or(base);
        let deliveries = &recipe.deliveries;
        SheetAnswer {
            asks: super::recipes::asked(recipe),
            count: planned.len(),
            takes: prepared.laid.takes(),
            left_out,
            folder: app.roots.short(folder),
            folders: folders.len(),
            names: names(recipe, planning),
            lines: lines(recipe),
            goes: deliveries.iter().map(|d| sentence::plain(&d.parts(recipe))).collect(),
            delivery: deliveries.iter().map(|d| Control::all(d.kind().params, &d.values())).collect(),
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
        }
    };
    Ok(Json(tokio::task::spawn_blocking(answer).await?))
}

/// Seconds on all cores that one picture may take to be made for this.
const MEASURABLE: f64 = 8.0;
/// Pictures measured, spread over the run, and the time after which no further one is begun.
const MEASURED: usize = 4;
const LONG_ENOUGH: Duration = Duration::from_secs(5);

/// What a few of the pictures took.
#[derive(Default, Serialize, JsonSchema)]
struct Measured {
    /// Pictures that were made.
    measured: usize,
    /// Whether one takes too long to be made for this.
    is_long: bool,
    /// What all results will take, in words.
    bytes: Option<String>,
    /// What the results of one picture take, in words.
    each: Option<String>,
    /// Seconds all pictures will take.
    seconds: Option<f64>,
    /// What is wrong where there is too little room.
    room: Option<Problem>,
}

/// Makes a few of the pictures, as the run would, to tell sizes and times of all.
async fn measure(State(app): State<App>, Sent(asked): Sent<RunAsked>) -> Result<Json<Measured>> {
    let prepared = prepare(&app, &asked).await?;
    let Prepared { recipe, sources, planning, base, .. } = prepared;
    let planned = planning.pictures;
    let area = |s: &input::Source| s.facts.as_ref().map_or(0, |f| u64::from(f.width) * u64::from(f.height));
    let pixels: u64 = sources.iter().map(area).sum();
    let readable: Vec<usize> = (0..sources.len()).filter(|i| area(&sources[*i]) > 0).collect();
    let picked: Vec<input::Source> = (0..MEASURED.min(readable.len()))
        .map(|n| sources[readable[(2 * n + 1) * readable.len() / (2 * MEASURED.min(readable.len()))]].clone())
        .collect();
    let count = sources.len();
    let of = estimate::expected(&recipe, count);
    let costs = app.queue.costs();
    let is_long = |original: &input::Source| {
        said(&costs, &recipe, original, 1).is_some_and(|c| c.seconds / schedule::cores() as f64 > MEASURABLE)
    };
    if picked.iter().any(is_long) {
        return Ok(Json(Measured { is_long: true, ..Measured::default() }));
    }
    // One after the other, each with all cores; a run has several at a time with fewer of them each.
    let measured = schedule::ask(Class::Background, move || {
        let begin = Instant::now();
        let (mut bytes, mut seconds, mut area, mut made) = (0u64, 0.0, 0u64, 0usize);
        for (n, original) in picked.iter().enumerate() {
            if n > 0 && begin.elapsed() > LONG_ENOUGH {
                break;
            }
            let start = Instant::now();
            let Ok(source) = FileSource::open(&original.path) else { continue };
            let source = source.decoding_by(&recipe.decode);
            let about = rallo_runner::resolve_context(
                &original.path,
                Some(&source.facts(&original.path)),
                &original.decided,
                n + 1,
            );
            let kinds = variant::variants(&recipe);
            let alone = RunSequence::default();
            let Ok(work) = work::Work::new(&recipe, &source, &about, 0, None, &alone) else { continue };
            let files: std::result::Result<Vec<_>, Fault> =
                kinds.iter().map(|k| work.make(k, None)).collect();
            let Ok(files) = files else { continue };
            for (_, stage) in recipe.stages() {
                let _ = work.picture(&stage, None);
            }
            bytes += files.iter().map(|f| f.0.len() as u64).sum::<u64>();
            seconds += start.elapsed().as_secs_f64();
            area += source.size().area().max(1);
            made += 1;
        }
        let clip = |(at, (_, task)): (usize, (usize, FinishingTask))| match task {
            FinishingTask::Assembly(Assembly::Video(video)) => {
                encoder_speed::encoding(&recipe, at, &video, &sources)
            }
            _ => None,
        };
        let encoding: f64 = recipe.tasks().into_iter().enumerate().filter_map(clip).sum();
        (made > 0)
            .then(|| (made, bytes as f64 / made as f64, seconds / area as f64 * pixels as f64 + encoding))
    })
    .await?;
    let Some((made, each, seconds)) = measured else { return Ok(Json(Measured::default())) };
    let assemblies: u64 = of.iter().map(|(_, bytes)| bytes).sum();
    let bytes = (each * count as f64) as u64 + assemblies;
    let folder = planned.first().and_then(|p| p.target.parent()).unwrap_or(&base);
    let room = output_paths::room(folder, bytes);
    Ok(Json(Measured {
        measured: made,
        is_long: false,
        bytes: Some(bytes_text(bytes)),
        each: (each >= 1.0).then(|| bytes_text(each as u64)),
        seconds: Some(seconds),
        room,
    }))
}

/// Keeps the changes made on the sheet in the recipe, as its next version.
async fn keep(State(app): State<App>, Sent(asked): Sent<RunAsked>) -> Result<Json<RecipeAnswer>> {
    let laid = workspace::laid(&app).await?;
    let row = laid.recipe.ok_or_else(|| Error::bad("there is no recipe"))?;
    let recipe = changed(&Recipe::parse(&row.document)?, &asked)?;
    super::recipes::keep_version(&app, row.id, row.version, &recipe).await
}

/// A run that was started, or why it was not.
#[derive(Default, Serialize, JsonSchema)]
#[serde(default)]
struct Started {
    /// Its number.
    #[serde(skip_serializing_if = "Option::is_none")]
    run: Option<i64>,
    /// Its pictures.
    #[serde(skip_serializing_if = "Option::is_none")]
    count: Option<usize>,
    /// What its recipe is called.
    #[serde(skip_serializing_if = "Option::is_none")]
    recipe: Option<String>,
    /// Its recipe's version.
    #[serde(skip_serializing_if = "Option::is_none")]
    version: Option<i64>,
    /// The run it repeats.
    #[serde(skip_serializing_if = "Option::is_none")]
    like: Option<i64>,
    /// The recipe's newest version, where that is newer.
    #[serde(skip_serializing_if = "Option::is_none")]
    newer: Option<i64>,
    /// The folder results go to.
    #[serde(skip_serializing_if = "Option::is_none")]
    folder: Option<String>,
    /// Whether nothing was started and the sheet should be looked at.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    sheet: bool,
    /// Why.
    #[serde(skip_serializing_if = "Option::is_none")]
    reason: Option<String>,
}

/// Writes the run down and wakes the queue.
async fn start(State(app): State<App>, Sent(asked): Sent<RunAsked>) -> Result<Json<Started>> {
    let prepared = prepare(&app, &asked).await?;
    let row = prepared.laid.recipe.as_ref();
    let from = (row.map(|r| r.id), row.map_or(1, |r| r.version));
    let (id, _) = begin(&app, prepared, from, &asked).await?;
    Ok(Json(Started { run: Some(id), ..Started::default() }))
}

/// The run of what lies on the desk, at once where there is nothing to say or to ask; else nothing happens and the answer
/// says that the sheet should be looked at.
async fn go(State(app): State<App>) -> Result<Json<Started>> {
    let asked = RunAsked::default();
    let prepared = prepare(&app, &asked).await?;
    let mut problems: Vec<String> = prepared.planning.problems.iter().map(|p| p.message.clone()).collect();
    problems.extend(known(&app, &prepared).await?.into_iter().map(|p| p.message));
    problems.extend((!prepared.recipe.asks().is_empty()).then(|| "this recipe asks for values".to_owned()));
    if let Some(first) = problems.into_iter().next() {
        return Ok(Json(Started { sheet: true, reason: Some(first), ..Started::default() }));
    }
    let row = prepared.laid.recipe.as_ref();
    let from = (row.map(|r| r.id), row.map_or(1, |r| r.version));
    let name = prepared.recipe.name.clone();
    let folder =
        prepared.planning.pictures.first().and_then(|p| p.target.parent()).map(|f| app.roots.short(f));
    let (id, count) = begin(&app, prepared, from, &asked).await?;
    Ok(Json(Started { run: Some(id), count: Some(count), recipe: Some(name), folder, ..Started::default() }))
}

/// The last run's recipe, with the answers it was given, on the frames on the desk.
async fn again(State(app): State<App>) -> Result<Json<Started>> {
    let runs = app.store.runs().await?;
    let last = runs.into_iter().max_by_key(|r| r.id);
    let last = last.ok_or_else(|| Error::bad("nothing has run yet, so there is nothing to repeat"))?;
    let recipe = Recipe::parse(&last.document)?;
    let name = recipe.name.clone();
    let (shared, laid) = (app.clone(), workspace::laid(&app).await?);
    // Names are looked for on the disk.
    let prepared = move || prepared(&shared, laid, recipe, &HashSet::new());
    let prepared = tokio::task::spawn_blocking(prepared).await??;
    let asked = RunAsked { most_failures: last.most_failures, ..RunAsked::default() };
    let (id, count) = begin(&app, prepared, (last.recipe_id, last.recipe_version), &asked).await?;
    let newest = match last.recipe_id {
        Some(recipe) => app.store.recipe(recipe).await.ok().map(|r| r.version),
        None => None,
    };
    let newer = newest.filter(|v| *v > last.recipe_version);
    Ok(Json(Started {
        run: Some(id),
        count: Some(count),
        recipe: Some(name),
        version: Some(last.recipe_version),
        like: Some(last.id),
        newer,
        ..Started::default()
    }))
}

/// An address that a report may be sent to; commands are named where the program is started.
pub fn address(text: Option<&str>) -> Result<Option<String>> {
    match text.map(str::trim).filter(|t| !t.is_empty()) {
        None => Ok(None),
        Some(text) if webhook::is_address(text) && text.len() <= 2000 => Ok(Some(text.to_owned())),
        Some(text) => {
            Err(Error::bad(format!("expected an address that begins with http:// or https://, got {text}")))
        }
    }
}

/// Writes a run down and wakes the queue; the run's number, and of how many pictures.
async fn begin(
    app: &App,
    prepared: Prepared,
    from: (Option<i64>, i64),
    asked: &RunAsked,
) -> Result<(i64, usize)> {
    let Prepared { laid, sources, base, planning, .. } = &prepared;
    let written = new_run::written(planning, sources, base, &laid.name, "page");
    let (run, items) = written.map_err(Error::bad)?;
    let count = sources.len();
    let mut notes = known(app, &prepared).await?;
    let Prepared { laid, planning, .. } = prepared;
    notes.extend(planning.problems);
    let at = asked.at.as_deref().map(new_run::moment).transpose();
    let run = Run {
        recipe_id: from.0,
        recipe_version: from.1,
        shoot_id: laid.shoot.as_ref().map(|s| s.id),
        not_before: at.map_err(|e| Error::bad(format!("at: {e}")))?,
        most_failures: asked.most_failures,
        hook: address(asked.report_to.as_deref())?,
        warnings: new_run::warned(&notes),
        ..run
    };
    let id = app.store.add_run(&run, &items).await?;
    if asked.first {
        app.store.move_run(id, -2).await?;
    }
    app.queue.added();
    app.queue.tell(id).await?;
    Ok((id, count))
}
