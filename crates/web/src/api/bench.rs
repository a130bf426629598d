//! The bench: steps, plans, renders, recipes.

use super::answer::{Image, about};
use super::document::Document;
use crate::App;
use crate::error::{Error, Result};
use crate::full_quality::{Denoised, FullQuality};
use crate::request::Sent;
use aide::axum::ApiRouter;
use aide::axum::routing::{get_with, post_with};
use axum::Json;
use axum::extract::State;
use rallo_engine::analysis::scopes::{self, Scopes, Waveform};
use rallo_engine::plan::fingerprint;
use rallo_engine::step::{StepInfo, Tool, View};
use rallo_engine::steps::light::white_balance::WhiteBalance;
use rallo_engine::{
    DecodeSettings, Encoded, Kind, Memory, OutputProfile, Param, Plan, PrefixPixels, Rect, Settings, Size,
    Source, Step, registry,
};
use rallo_job::prelude::*;
use rallo_media::{Chroma, Encoding, Extras, FileSource};
use rallo_recipe::{Advice, Part, Recipe, ResolveContext};
use rallo_runner::Decided;
use rallo_runner::render::intermediate;
use rallo_runner::schedule::{self, Class};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::path::Path as FilePath;
use std::sync::{Arc, LazyLock, Mutex};
use std::time::Instant;

pub fn routes() -> ApiRouter<App> {
    ApiRouter::new()
        .api_route("/api/steps", get_with(steps, about("Every step with its parameters")))
        .api_route("/api/plan", post_with(plan, about("What a recipe makes of a frame")))
        .api_route("/api/render", post_with(render, about("A part of a frame through a recipe")))
        .api_route("/api/neutral", post_with(neutral, about("White balance from a neutral spot")))
}

/// A parameter as the pages' controls take it.
#[derive(Serialize, JsonSchema)]
pub struct Control {
    /// Name in recipes.
    name: &'static str,
    /// What it does.
    about: &'static str,
    /// Unit; empty where there is none.
    unit: &'static str,
    /// What it is now.
    default: Value,
    /// How it is set.
    kind: &'static str,
    /// Least value, or least length.
    min: Option<f64>,
    /// Greatest value, or greatest length.
    max: Option<f64>,
    /// What one step of a control changes.
    step: Option<f64>,
    /// What can be chosen.
    #[serde(skip_serializing_if = "Option::is_none")]
    choices: Option<&'static [&'static str]>,
    /// What the numbers of a row are.
    #[serde(skip_serializing_if = "Option::is_none")]
    names: Option<&'static [&'static str]>,
}

impl Control {
    /// The control of a parameter that has this value.
    pub fn new(param: &Param, value: &Value) -> Self {
        let (min, max) = param.kind.range();
        let (mut choices, mut names) = (None, None);
        match param.kind {
            Kind::Choice(all) => choices = Some(all),
            Kind::Rows(all, _) => names = Some(all),
            _ => {}
        }
        Self {
            name: param.name,
            about: param.about,
            unit: param.unit,
            default: value.clone(),
            kind: param.kind.names().0,
            min,
            max,
            step: param.kind.notch(),
            choices,
            names,
        }
    }

    /// The controls of several, with their values by name.
    pub fn all(params: &[Param], values: &Value) -> Vec<Self> {
        params.iter().map(|p| Self::new(p, &values[p.name])).collect()
    }
}

/// What the bench's controls are made from.
#[derive(Serialize, JsonSchema)]
struct Catalogue {
    /// Every step.
    steps: Vec<StepEntry>,
    /// Every kind of delivery.
    deliveries: Vec<DeliveryEntry>,
}

/// A step.
#[derive(Serialize, JsonSchema)]
struct StepEntry {
    /// Name in recipes.
    id: &'static str,
    /// Name for people.
    title: &'static str,
    /// Heading it is listed under.
    group: &'static str,
    /// What it does.
    about: &'static str,
    /// Whether it changes where pixels lie or how large the picture is.
    moves: bool,
    /// Whether it can be limited to an area.
    takes_area: bool,
    /// Whether what it does shows only at full size.
    judged_at_full_size: bool,
    /// Parameters that are ends of the tones.
    clips: &'static [&'static str],
    /// Parameters of which at most one is given.
    one_of: &'static [&'static str],
    /// How it is set on the picture itself.
    tool: Option<ToolEntry>,
    /// What people may type when they look for it.
    words: &'static [&'static str],
    /// Values a new line starts with.
    starter: Value,
    /// Values it had last, where a new line starts from those.
    lately: Option<Value>,
    /// Its parameters with their defaults.
    params: Vec<Control>,
}

/// How a step is set on the picture itself.
#[derive(Serialize, JsonSchema)]
struct ToolEntry {
    /// What the hand does.
    kind: &'static str,
    /// The button that takes it up; without one it is at hand whenever the step is open.
    button: Option<&'static str>,
    /// What to do with it.
    hint: &'static str,
    /// Whether it is taken up as soon as the step is added.
    opens_at_once: bool,
    /// Whether the picture is shown as it comes to the step meanwhile.
    shows_input: bool,
}

impl From<Tool> for ToolEntry {
    fn from(tool: Tool) -> Self {
        let Tool { kind, button, hint, opens_at_once, shows_input } = tool;
        Self { kind: kind.as_str(), button, hint, opens_at_once, shows_input }
    }
}

/// A kind of delivery.
#[derive(Serialize, JsonSchema)]
struct DeliveryEntry {
    /// Name in recipes.
    id: &'static str,
    /// Name for people.
    title: &'static str,
    /// What it makes.
    about: &'static str,
    /// Its parameters with their defaults.
    params: Vec<Control>,
}

/// What the bench's controls are made from; a step that is used with the same values again and again starts from those
/// last written down.
async fn steps(State(app): State<App>) -> Result<Json<Catalogue>> {
    let lately = super::recipes::lately(&app).await?;
    let steps = registry().iter().map(|kind| {
        let (info, facts) = (&kind.info, &kind.info.facts);
        StepEntry {
            id: info.id,
            title: info.title,
            group: info.group,
            about: info.about,
            moves: facts.moves_pixels,
            takes_area: info.takes_area(),
            judged_at_full_size: facts.judged_at_full_size,
            clips: facts.clips,
            one_of: facts.one_of,
            tool: facts.tool.map(ToolEntry::from),
            words: info.words,
            starter: serde_json::from_str(info.starter).unwrap_or_default(),
            lately: lately.get(info.id).cloned(),
            params: Control::all(kind.params, &kind.defaults()),
        }
    });
    let deliveries = rallo_recipe::delivery::KINDS.iter().map(|kind| DeliveryEntry {
        id: kind.id,
        title: kind.title,
        about: kind.about,
        params: Control::all(kind.params, &kind.defaults()),
    });
    Ok(Json(Catalogue { steps: steps.collect(), deliveries: deliveries.collect() }))
}

/// What a page asks about a recipe on a frame.
#[derive(Clone, Deserialize, JsonSchema)]
pub struct Ask {
    /// The document.
    pub recipe: Document,
    /// The frame.
    #[schemars(range(min = 1))]
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
    #[schemars(range(min = 0.0001, max = 1.0))]
    pub scale: Option<f64>,
    /// A place in the result, as shares of its sides.
    #[serde(default)]
    pub at: Option<[f64; 2]>,
    /// The line that is being changed: what stands before it is kept from one render to the next.
    #[serde(default)]
    pub from: Option<usize>,
    /// Scopes and the like before the picture. At half size and more, what is still to be denoised is then shown without
    /// that and told as a stand-in, instead of being waited for.
    #[serde(default)]
    pub head: bool,
    /// Show what is clipped instead of the picture.
    #[serde(default)]
    pub clip: bool,
    /// Wait until more of the true picture is there than what was known before, where a stand-in was shown.
    #[serde(default)]
    pub more: Option<usize>,
    /// Instead of a region and a scale: how the picture is looked at.
    #[serde(default)]
    pub view: Option<ViewAsk>,
    /// The recipe that the view belongs to, where this is only compared with it: where they frame the picture differently,
    /// the same place is shown at the same scale.
    #[serde(default)]
    pub beside: Option<Document>,
    /// Leave out what would have to be measured first.
    #[serde(default)]
    pub quick: bool,
    /// Measure what a picture costs, which takes a while, instead of telling it from the machine's table.
    #[serde(default)]
    pub measure: bool,
}

/// A window onto the result.
#[derive(Clone, Deserialize, JsonSchema)]
pub struct ViewAsk {
    /// Pixels of the screen, across and down, 1 to 16,384 each.
    #[schemars(inner(range(min = 1.0, max = 16384.0)))]
    room: [f64; 2],
    /// Pixels of the screen for one of the result; nothing shows the whole.
    #[serde(default)]
    #[schemars(range(min = 0.01, max = 64.0))]
    zoom: Option<f64>,
    /// What lies in the middle, as shares of the result.
    centre: [f64; 2],
}

/// Most pixels of a window each way.
const LARGEST_ROOM: f64 = 16_384.0;

impl ViewAsk {
    fn check(&self) -> Result<()> {
        let fits = |v: &f64| (1.0..=LARGEST_ROOM).contains(v);
        if !self.room.iter().all(fits) {
            return Err(Error::bad(format!("view.room: expected 1 to {LARGEST_ROOM} pixels each way")));
        }
        if self.zoom.is_some_and(|z| !(0.01..=64.0).contains(&z)) {
            return Err(Error::bad("view.zoom: expected 0.01 to 64"));
        }
        if !self.centre.iter().all(|v| v.is_finite()) {
            return Err(Error::bad("view.centre: expected shares of the picture"));
        }
        Ok(())
    }

    /// Pixels of the screen for one of a result of that size.
    fn zoom(&self, size: Size) -> f64 {
        let (w, h) = (f64::from(size.width), f64::from(size.height));
        self.zoom.unwrap_or_else(|| (self.room[0] / w).min(self.room[1] / h).min(1.0))
    }

    /// What is seen of a result of that size, in its pixels: left, top, right, bottom. As the page lays it out.
    fn seen(&self, size: Size) -> [f64; 4] {
        let zoom = self.zoom(size);
        let side = |room: f64, side: u32, share: f64| {
            let side = f64::from(side);
            let spare = room - side * zoom;
            let at = if spare >= 0.0 {
                spare / 2.0
            } else {
                (room / 2.0 - share * side * zoom).min(0.0).max(spare)
            };
            ((-at / zoom).max(0.0), ((room - at) / zoom).min(side))
        };
        let (left, right) = side(self.room[0], size.width, self.centre[0]);
        let (top, bottom) = side(self.room[1], size.height, self.centre[1]);
        [left, top, right, bottom]
    }
}

/// Scale below which a stand-in is shown without denoising.
const STAND_IN: f64 = 0.5;

/// What a render needs.
struct Prepared {
    plan: Plan,
    source: Arc<dyn Source + Send + Sync>,
    /// The picture after its denoising, as far as it is computed, where that is the source.
    denoised: Option<Arc<Denoised>>,
    /// The denoising was left out.
    left_out: bool,
}

/// What part of a result is shown, and what it covers of the view's result.
struct Shown {
    scale: f64,
    /// In pixels of the result at that scale.
    region: Rect,
    /// In pixels of the view's result, at full size: left, top, right, bottom.
    area: [f64; 4],
    /// Size of the view's result.
    size: Size,
    /// A number for how the view's result lies on the source.
    geometry: String,
    /// Whether this picture is framed as the view's result is.
    is_alike: bool,
}

/// How a plan's output lies on the source, in numbers: equal for equal geometry, whatever the lines are.
fn geometry(plan: &Plan) -> String {
    let size = plan.size();
    let at = |share: f64, side: u32| share * f64::from(side);
    let points: Vec<(i64, i64)> = (0..9)
        .map(|n| {
            let (x, y) = (f64::from(n % 3) / 2.0, f64::from(n / 3) / 2.0);
            let (x, y) = plan.source_point((at(x, size.width), at(y, size.height)));
            ((x * 100.0).round() as i64, (y * 100.0).round() as i64)
        })
        .collect();
    rallo_media::content_hash(format!("{size:?} {points:?}").as_bytes())[..16].to_owned()
}

impl Ask {
    /// The document, checked.
    pub fn recipe(&self) -> Result<Recipe> {
        Ok(self.recipe.read()?)
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

    /// As [`plan`](Self::plan), without what would have to be measured: sizes and places are the same.
    fn outline(&self, recipe: &Recipe, frame: &Open) -> Result<Plan> {
        Plan::new(self.part(recipe).settings(&frame.about), frame.source.size()).map_err(Error::bad)
    }

    /// What is shown, by the view or by region and scale.
    fn shown(&self, recipe: &Recipe, frame: &Open) -> Result<Shown> {
        let plan = self.outline(recipe, frame)?;
        let size = plan.size();
        let Some(view) = &self.view else {
            let scale = self.scale.unwrap_or(1.0).clamp(1e-4, 1.0);
            let whole = plan.program(scale).size().rect();
            let region = self.region.map_or(whole, |[x, y, w, h]| Rect::new(x, y, w, h)).within(whole);
            let side = |v: i64| v as f64 / scale;
            let area = [side(region.x), side(region.y), side(region.right()), side(region.bottom())];
            return Ok(Shown { scale, region, area, size, geometry: geometry(&plan), is_alike: true });
        };
        view.check()?;
        let own = geometry(&plan);
        let Some(beside) = &self.beside else {
            return Ok(part_of(&plan, view.zoom(size), view.seen(size), None, (size, own)));
        };
        // The view's own recipe decides what is seen.
        let main = Ask { upto: None, before: false, ..self.clone() };
        let main = main.outline(&beside.read()?, frame)?;
        let (size, its) = (main.size(), geometry(&main));
        let (zoom, seen) = (view.zoom(size), view.seen(size));
        if its == own {
            return Ok(part_of(&plan, zoom, seen, None, (size, its)));
        }
        // The same place of the source in the middle, as large as there.
        let middle = ((seen[0] + seen[2]) / 2.0, (seen[1] + seen[3]) / 2.0);
        let at = plan.output_point(main.source_point(middle));
        let times = main.source_step(middle) / at.map_or(1.0, |at| plan.source_step(at)).max(1e-9);
        let Some(at) = at.filter(|_| times.is_finite() && times > 0.0) else {
            return Err(Error::bad("this recipe shows another part of the picture"));
        };
        let to_own = |v: f64, of: f64, own: f64| (v - of) * times + own;
        let part = [
            to_own(seen[0], middle.0, at.0),
            to_own(seen[1], middle.1, at.1),
            to_own(seen[2], middle.0, at.0),
            to_own(seen[3], middle.1, at.1),
        ];
        Ok(part_of(&plan, zoom / times, part, Some(Moved { times, middle, at }), (size, its)))
    }

    /// The first lines up to the denoising, where there is one, with a key for them.
    fn first(&self, frame: &Open, settings: &[Settings], steps: &[&StepInfo]) -> Option<(usize, String)> {
        let n = intermediate::lines(steps).filter(|_| !self.before)?;
        Some((n, format!("{} {}", frame.key, fingerprint(&settings[..n]))))
    }

    /// What is there of the picture after its denoising; `begin` begins it where there is nothing yet.
    fn denoised(
        &self,
        recipe: &Recipe,
        frame: &Open,
        full: &FullQuality,
        begin: bool,
    ) -> Option<Arc<Denoised>> {
        let recipe = self.part(recipe);
        let placed = recipe.placed(&frame.about);
        let steps = intermediate::infos(&recipe, &placed);
        let settings: Vec<Settings> = placed.into_iter().map(|(_, settings)| settings).collect();
        let (n, key) = self.first(frame, &settings, &steps)?;
        if !begin {
            return full.peek(&key);
        }
        let denoises: Vec<bool> = steps[..n].iter().map(|step| step.facts.expensive).collect();
        full.open(&key, settings[..n].to_vec(), &denoises, &frame.source, &*MEASURED)
    }

    /// As [`plan`](Self::plan), from the sample after its denoising as far as that is there.
    fn prepared(&self, recipe: &Recipe, frame: &Open, full: &FullQuality, scale: f64) -> Result<Prepared> {
        // Only who reads the head learns that parts are still to come; others wait for the whole truth.
        let begin = self.head && (scale >= STAND_IN || self.more.is_some());
        let whole = frame.source.size().rect();
        let denoised = self.denoised(recipe, frame, full, begin).filter(|d| self.head || d.is_done(whole));
        let recipe = self.part(recipe);
        // Lines that do not apply have no place in the plan.
        let placed = recipe.placed(&frame.about);
        let mut from =
            self.from.map(|line| placed.iter().take_while(|(l, _)| l.is_none_or(|l| l < line)).count());
        let steps = intermediate::infos(&recipe, &placed);
        let mut settings: Vec<_> = placed.into_iter().map(|(_, settings)| settings).collect();
        let mut source: Arc<dyn Source + Send + Sync> = frame.source.clone();
        let mut left_out = false;
        if let Some((n, _)) = self.first(frame, &settings, &steps) {
            match &denoised {
                Some(denoised) => {
                    source = denoised.clone();
                    settings.drain(..n);
                    from = from.and_then(|f| f.checked_sub(n));
                }
                // So much smaller, the noise averages out by itself; denoising comes with the true picture.
                None if scale < STAND_IN => {
                    left_out = true;
                    let mut at = 0;
                    settings.retain(|_| {
                        at += 1;
                        !steps[at - 1].facts.expensive
                    });
                    let gone = |n: usize| steps[..n].iter().filter(|step| step.facts.expensive).count();
                    from = from.map(|f| f - gone(f));
                }
                None => {}
            }
        }
        let plan = Plan::remembering(settings, &*source, Some(&*MEASURED)).map_err(Error::bad)?;
        let plan = match from {
            Some(line) => plan.cut_before(line),
            None => plan,
        };
        Ok(Prepared { plan, source, denoised, left_out })
    }
}

/// How a result lies on another one.
struct Moved {
    /// So many of its pixels are as long as one of the other's.
    times: f64,
    /// A point of the other one, and the same place in its own pixels.
    middle: (f64, f64),
    at: (f64, f64),
}

/// The part of a plan's output that shows `seen` (left, top, right, bottom, in its pixels) at so many pixels of the screen
/// each. `moved` tells how its pixels lie on those of the view's result, where they do not lie on each other.
fn part_of(
    plan: &Plan,
    zoom: f64,
    seen: [f64; 4],
    moved: Option<Moved>,
    (size, geometry): (Size, String),
) -> Shown {
    let scale = zoom.clamp(1e-4, 1.0);
    let whole = plan.program(scale).size();
    let low = |v: f64, side: u32| ((v * scale).floor() as i64).clamp(0, i64::from(side) - 1);
    let high = |v: f64, side: u32| ((v * scale).ceil() as i64).clamp(1, i64::from(side));
    let (x, y) = (low(seen[0], whole.width), low(seen[1], whole.height));
    let (right, bottom) = (high(seen[2], whole.width).max(x + 1), high(seen[3], whole.height).max(y + 1));
    let region = Rect::new(x, y, right - x, bottom - y);
    let is_alike = moved.is_none();
    let Moved { times, middle, at } =
        moved.unwrap_or(Moved { times: 1.0, middle: (0.0, 0.0), at: (0.0, 0.0) });
    let column = |v: i64| (v as f64 / scale - at.0) / times + middle.0;
    let row = |v: i64| (v as f64 / scale - at.1) / times + middle.1;
    let area = [column(x), row(y), column(right), row(bottom)];
    Shown { scale, region, area, size, geometry, is_alike }
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
pub struct PrefixCache([Mutex<Option<PrefixPixels>>; 2]);

/// A frame whose picture is open.
#[derive(Clone)]
pub struct Open {
    /// The picture.
    pub source: Arc<FileSource>,
    /// What is known of it.
    pub about: ResolveContext,
    /// Which file, in which state.
    key: String,
}

/// Opens a frame's picture.
pub async fn open(app: &App, frame: i64, decode: &DecodeSettings) -> Result<Open> {
    let row = app.store.frame(frame).await?;
    let path = app.roots.existing(FilePath::new(&row.path))?;
    let (app, decode) = (app.clone(), decode.clone());
    tokio::task::spawn_blocking(move || {
        let source = app.sources.open(&path, &decode)?;
        let decided = Decided {
            shift: row.shift,
            rating: Some(row.rating.clamp(0, 5) as u8),
            keywords: serde_json::from_str(&row.keywords).ok(),
            own: serde_json::from_str(&row.own).unwrap_or_default(),
        };
        let about = rallo_runner::resolve_context(&path, Some(&source.facts(&path)), &decided, 1);
        let key = format!("{} {}{}", path.display(), row.modified, decode.fingerprint());
        Ok(Open { source, about, key })
    })
    .await?
}

/// Sentences and sizes of a recipe on a frame.
#[derive(Serialize, JsonSchema)]
struct PlanAnswer {
    /// Its lines.
    lines: Vec<LineEntry>,
    /// The sentence of each delivery, in parts.
    goes: Vec<Vec<Part>>,
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
    /// What it found when it was shown the picture, by name.
    found: Vec<(&'static str, f64)>,
    /// The same as values that can be kept for every frame.
    measured: Option<Vec<f64>>,
    /// The ordinary steps that do what it chose, with their values.
    ordinary: Option<Vec<(&'static str, Value)>>,
}

async fn plan(State(app): State<App>, Sent(ask): Sent<Ask>) -> Result<Json<PlanAnswer>> {
    let recipe = ask.recipe()?;
    let frame = open(&app, ask.frame, &recipe.decode).await?;
    schedule::ask(Class::Eye, move || {
        let plan = if ask.quick { ask.outline(&recipe, &frame)? } else { ask.plan(&recipe, &frame)? };
        // Lines that are off or do not apply have no place in the plan; they are told without pixels.
        let placed = recipe.placed(&frame.about);
        let lines = recipe.steps.iter().enumerate().map(|(i, line)| {
            let own = placed.iter().position(|(line, _)| *line == Some(i));
            let applies = own.is_some();
            let before = || placed.iter().take_while(|(l, _)| l.is_none_or(|l| l < i)).count();
            let at = own.unwrap_or_else(before);
            let place = (applies && ask.upto.is_none()).then(|| plan.place(at, 1.0));
            let size = plan.size_before(at);
            let step = plan.steps().get(at).filter(|_| place.is_some()).map(|s| &s.step);
            LineEntry {
                parts: line.parts(place.as_ref()),
                size: [size.width, size.height],
                applies,
                found: step.map(|s| s.found()).unwrap_or_default(),
                measured: step.map(|s| s.kept_values()),
                ordinary: step.map(|s| s.ordinary()),
            }
        });
        let (size, from) = (plan.size(), frame.source.size());
        Ok(Json(PlanAnswer {
            lines: lines.collect(),
            goes: recipe.deliveries.iter().map(|d| d.parts(&recipe)).collect(),
            size: [size.width, size.height],
            own: frame.about.frame.own.words(),
            source: [from.width, from.height],
            advice: rallo_recipe::advice(&recipe),
        }))
    })
    .await?
}

/// Most pixels shown at once.
const LARGEST_PART: usize = 40_000_000;

/// What is told before a picture.
#[derive(Serialize, JsonSchema)]
struct Head {
    /// How often each level is, for red, green, blue and brightness.
    histogram: Vec<Vec<f32>>,
    /// Brightness from left to right.
    waveform: Waveform,
    /// Red, green and blue from left to right, a third of the columns each.
    parade: Waveform,
    /// Shares of pixels with a channel at 0, and with one at the most.
    clipped: [f32; 2],
    /// Whether the true picture is still to come.
    stand_in: bool,
    /// How much of it is there, 0 to 1.
    share: f64,
    /// A number that grows with what is there of it.
    known: usize,
    /// Whether it could not be made.
    failed: bool,
    /// Pixels of the result, across and down.
    size: [u32; 2],
    /// A number for how the result lies on the frame.
    geometry: String,
    /// Whether this picture is framed as the view's result is.
    alike: bool,
    /// 1 is full size.
    scale: f64,
    /// What the picture covers, in pixels of the view's result: left, top, right, bottom.
    area: [f64; 4],
    /// The same in pixels at the scale: left, top, width, height.
    region: [i64; 4],
    /// Seconds it took.
    seconds: f64,
}

impl Ask {
    /// The picture asked for, as a JPEG, after its head where that is wanted.
    fn rendered(&self, recipe: &Recipe, frame: &Open, app: &App) -> Result<Vec<u8>> {
        let start = Instant::now();
        let shown = self.shown(recipe, frame)?;
        if shown.region.area() > LARGEST_PART {
            return Err(Error::bad("this part is too large to be shown at once; zoom out"));
        }
        let Prepared { plan, source, denoised, left_out } =
            self.prepared(recipe, frame, &app.full, shown.scale)?;
        let program = plan.program(shown.scale);
        let level = program.level();
        let needed = program.needed(shown.region);
        let needed =
            Rect::new(needed.x << level, needed.y << level, needed.width << level, needed.height << level);
        if let Some(denoised) = &denoised {
            let whole = needed.within(source.size().rect()).area() as u64 >= source.size().area();
            denoised.look((!whole).then_some(needed));
        }
        let srgb = OutputProfile::Srgb.colour();
        // Looked up before: what comes while this is rendered is shown the next time.
        let (known, share) = denoised.as_ref().map_or((0, 0.0), |d| (d.known(), d.share(needed)));
        let stand_in = left_out || denoised.is_some() && share < 1.0;
        let mut picture = if stand_in && denoised.is_some() {
            program.render(&*source, shown.region, srgb).map_err(Error::bad)?
        } else {
            let kept = &app.kept.0[usize::from(shown.scale >= 1.0)];
            program.render_keeping(&*source, shown.region, srgb, kept).map_err(Error::bad)?
        };
        let encoding =
            Encoding::Jpeg { quality: 92, chroma: Chroma::Full, progressive: false, optimised: false };
        let scopes_of = |picture: &Encoded| self.head.then(|| Scopes::of(picture));
        let encoded = |picture: &Encoded| rallo_media::encode(picture, encoding, &Extras::default());
        let (scopes, jpeg) = if self.clip {
            let scopes = scopes_of(&picture);
            scopes::show_clipped(&mut picture);
            (scopes, encoded(&picture))
        } else {
            rayon::join(|| scopes_of(&picture), || encoded(&picture))
        };
        let jpeg = jpeg?;
        let Some(scopes) = scopes else {
            return Ok(jpeg);
        };
        let region = shown.region;
        let head = Head {
            histogram: scopes.histogram.iter().map(|h| h.to_vec()).collect(),
            waveform: scopes.waveform,
            parade: scopes.parade,
            clipped: scopes.clipped,
            stand_in,
            share,
            known,
            failed: denoised.is_some_and(|d| d.has_failed()),
            size: [shown.size.width, shown.size.height],
            geometry: shown.geometry,
            alike: shown.is_alike,
            scale: shown.scale,
            area: shown.area,
            region: [region.x, region.y, region.width, region.height],
            seconds: start.elapsed().as_secs_f64(),
        };
        let head = serde_json::to_vec(&head).map_err(Error::bad)?;
        Ok([&(head.len() as u32).to_le_bytes()[..], &head, &jpeg].concat())
    }
}

/// Renders a part of a frame through the recipe: the same call as for the final file. With `head`, four bytes of length
/// and that many of JSON come before the picture.
async fn render(State(app): State<App>, Sent(ask): Sent<Ask>) -> Result<Image> {
    let recipe = ask.recipe()?;
    let frame = open(&app, ask.frame, &recipe.decode).await?;
    if let Some(known) = ask.more
        && let Some(denoised) = ask.denoised(&recipe, &frame, &app.full, true)
    {
        denoised.look(None);
        denoised.more_than(known).await;
    }
    let bytes = schedule::ask(Class::Eye, move || ask.rendered(&recipe, &frame, &app)).await??;
    Ok(Image::jpeg(bytes))
}

/// A white balance.
#[derive(Serialize, JsonSchema)]
struct Neutral {
    /// As the step of that name has it.
    temperature: f64,
    /// As the step of that name has it.
    tint: f64,
}

/// The white balance that makes a place neutral; the mean of 9 × 9 pixels is taken.
async fn neutral(State(app): State<App>, Sent(ask): Sent<Ask>) -> Result<Json<Neutral>> {
    let recipe = ask.recipe()?;
    let [x, y] = ask.at.ok_or_else(|| Error::bad("at: expected [x, y] as shares of the picture"))?;
    let frame = open(&app, ask.frame, &recipe.decode).await?;
    let found = schedule::ask(Class::Eye, move || -> Result<Option<WhiteBalance>> {
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
    Ok(Json(Neutral { temperature: step.temperature, tint: step.tint }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rallo_engine::step_kind;
    use serde_json::json;

    fn plan(size: Size, lines: &[(&str, Value)]) -> Plan {
        let one = |(id, values): &(&str, Value)| {
            Settings::from(step_kind(id).unwrap().parse(values.as_object().unwrap()).unwrap())
        };
        Plan::new(lines.iter().map(one).collect(), size).unwrap()
    }

    #[test]
    fn what_is_asked_for_lies_in_the_picture_and_covers_what_is_seen() {
        for (w, h) in [(6000, 4000), (1200, 1800), (300, 200), (1, 1), (9000, 500)] {
            let (size, plan) = (Size::new(w, h), plan(Size::new(w, h), &[]));
            for zoom in [None, Some(1.0), Some(2.0), Some(3.0)] {
                for centre in [[0.5, 0.5], [0.0, 1.0], [0.93, 0.2], [-4.0, 9.0]] {
                    let view = ViewAsk { room: [870.0, 640.0], zoom, centre };
                    let (zoom, seen) = (view.zoom(size), view.seen(size));
                    let shown = part_of(&plan, zoom, seen, None, (size, String::new()));
                    let whole = plan.program(shown.scale).size().rect();
                    assert!(
                        !shown.region.is_empty() && shown.region.within(whole) == shown.region,
                        "{w} × {h}"
                    );
                    assert!(shown.scale <= 1.0 && (shown.scale - zoom.min(1.0)).abs() < 1e-12);
                    // As much as there is room for, and never beyond the picture.
                    for (side, room, of) in [(0, 870.0, w), (1, 640.0, h)] {
                        let (low, high) = (seen[side], seen[side + 2]);
                        let want = (room / zoom).min(f64::from(of));
                        assert!(low >= 0.0 && high <= f64::from(of) + 1e-9, "{seen:?} of {w} × {h}");
                        assert!((high - low - want).abs() < 1e-6, "{seen:?} of {w} × {h} at {zoom}");
                        assert!(
                            shown.area[side] <= low + 1e-9
                                && shown.area[side + 2] >= high - 1.0 / shown.scale
                        );
                    }
                }
            }
        }
    }

    #[test]
    fn geometry_is_told_by_where_pixels_come_from_and_not_by_lines() {
        let size = Size::new(900, 600);
        let of = |lines: &[(&str, Value)]| geometry(&plan(size, lines));
        let turn = |to: &str| ("rotate", json!({"turn": to}));
        assert_eq!(of(&[]), of(&[("exposure", json!({"stops": 1.0}))]));
        assert_eq!(of(&[turn("right"), turn("left")]), of(&[]));
        let mirror = || ("mirror", json!({"across": "left and right"}));
        assert_ne!(of(&[mirror()]), of(&[]));
        let crop = |x: u32| ("crop", json!({"pixels": [x, 10, 300, 200]}));
        assert_ne!(of(&[crop(10)]), of(&[crop(11)]));
        // The same size is not the same place.
        assert_ne!(of(&[crop(10)]), of(&[("resize", json!({"long_edge": 300}))]));
    }

    #[test]
    fn a_window_that_makes_no_sense_is_refused() {
        let check = |room, zoom, centre| ViewAsk { room, zoom, centre }.check();
        assert!(check([870.0, 640.0], Some(2.0), [0.5, 0.5]).is_ok());
        assert!(check([0.0, 640.0], None, [0.5, 0.5]).is_err());
        assert!(check([f64::NAN, 640.0], None, [0.5, 0.5]).is_err());
        assert!(check([870.0, 1e9], None, [0.5, 0.5]).is_err());
        assert!(check([870.0, 640.0], Some(0.0), [0.5, 0.5]).is_err());
        assert!(check([870.0, 640.0], None, [f64::INFINITY, 0.5]).is_err());
    }
}
