//! The frames on the desk: what is shown in which order, what is decided about them, their pictures.

use super::answer::{Done, Image, about};
use crate::error::{Error, Result};
use crate::request::{Id, Path, Query, Sent};
use crate::{App, workspace};
use aide::axum::ApiRouter;
use aide::axum::routing::{delete_with, get_with, post_with};
use axum::Json;
use axum::extract::State;
use rallo_engine::{DecodeSettings, Measures, OutputProfile, Plan, Rect, Source};
use rallo_job::prelude::*;
use rallo_media::metadata::xmp::{self, Sidecar};
use rallo_media::{Chroma, Encoding, Extras, Facts, FileSource, content_hash};
use rallo_runner::library::shoot_index::{Change, Refusal};
use rallo_runner::schedule::{self, Class};
use rallo_runner::{Set, now};
use rallo_shoot::frame::{Marks, shifted};
use rallo_shoot::{Choice, Filter, Frame, Order, Sort, facets, sequence};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::{HashMap, HashSet};
use std::fmt::Write;
use std::path::{Path as FilePath, PathBuf};

pub fn routes() -> ApiRouter<App> {
    ApiRouter::new()
        .api_route("/api/view", post_with(view, about("Frames on the desk, filtered and sorted")))
        .api_route("/api/rows", post_with(rows, about("What is shown of some frames")))
        .api_route("/api/change", post_with(change, about("Choose, rate, label frames")))
        .api_route("/api/undo", post_with(undo, about("Take the last change back")))
        .api_route("/api/redo", post_with(redo, about("Do it again after all")))
        .api_route("/api/shift", post_with(shift, about("Correct capture times")))
        .api_route("/api/check", post_with(check, about("Check a sequence")))
        .api_route("/api/sidecars", post_with(sidecars, about("Write or read XMP files beside frames")))
        .api_route(
            "/api/keywords",
            get_with(keywords, about("Keywords of one's own")).put_with(set_keywords, about("Keep them")),
        )
        .api_route(
            "/api/selections",
            get_with(selections, about("Selections")).post_with(add_selection, about("Keep a selection")),
        )
        .api_route("/api/selections/{id}", delete_with(forget_selection, about("Forget a selection")))
        .api_route(
            "/api/selections/{id}/remove",
            post_with(take_out, about("Take frames out of a selection")),
        )
        .api_route("/api/frames/{id}/thumb", get_with(thumb, about("A frame, small")))
        .api_route(
            "/api/frames/{id}/part",
            get_with(part, about("A part of a frame at full size: ?x=&y=&w=&h=")),
        )
        .api_route(
            "/api/desk",
            get_with(get_desk, about("What lies on the desk"))
                .put_with(set_desk, about("Lay something else on it")),
        )
}

impl From<Refusal> for Error {
    fn from(e: Refusal) -> Self {
        match e {
            Refusal::Records(e) => e.into(),
            Refusal::Wrong(text) => Self::bad(text),
        }
    }
}

fn set_of(desk: &workspace::Desk) -> Result<Set> {
    desk.set().ok_or_else(|| Error::bad("there are no frames yet; choose a folder"))
}

/// What is to be seen of the frames on the desk.
#[derive(Deserialize, JsonSchema)]
struct View {
    /// Only these.
    #[serde(default)]
    filter: Filter,
    /// Kept with the shoot when given.
    order: Option<Order>,
}

/// Which frames are shown, in order, and how many there are of what.
#[derive(Default, Serialize, JsonSchema)]
struct Viewed {
    /// What they are called together.
    name: String,
    /// The frames that are shown.
    ids: Vec<i64>,
    /// Their mean colours, six hexadecimal digits each.
    colours: String,
    /// Their choices, a letter each: `o` open, `k` kept, `s` set aside.
    choices: String,
    /// Frames in all.
    total: usize,
    /// How they are sorted.
    order: Order,
    /// What they have in common, counted.
    facets: Vec<facets::Counts>,
    /// Frames that should be looked at, by the reason.
    suggested: HashMap<&'static str, Vec<i64>>,
    /// Frames not decided yet.
    open: usize,
    /// Frames that are kept.
    kept: usize,
    /// Frames set aside.
    aside: usize,
    /// Frames a run would take.
    chosen: usize,
    /// What those are, in a word.
    word: &'static str,
    /// How many a run would leave out, and why, in words.
    left_out_of_run: String,
    /// The frame last looked at.
    at: Option<i64>,
    /// Whether the shoot is being looked through.
    scanning: bool,
    /// Whether its folders are followed.
    follow: bool,
    /// Whether results of runs are taken in.
    results: bool,
    /// Files that were left out of it.
    left_out: usize,
    /// Frames still to be measured.
    unmeasured: usize,
}

async fn view(State(app): State<App>, Sent(view): Sent<View>) -> Result<Json<Viewed>> {
    if let Some(order) = view.order {
        keep_order(&app, order).await?;
    }
    let laid = workspace::laid(&app).await?;
    let Some(set) = laid.desk.set() else { return Ok(Json(Viewed::default())) };
    let known = app.frames.known(set, laid.desk.recipe).await?;
    // Thousands of frames are counted.
    let viewed = move || {
        let narrowed = facets::narrow(&laid.frames, &view.filter, &known);
        let shown: Vec<&Frame> =
            laid.order.iter().filter(|i| narrowed.fits[**i]).map(|i| &laid.frames[*i]).collect();
        let mut colours = String::with_capacity(shown.len() * 6);
        for frame in &shown {
            let [r, g, b] = frame.measures.as_ref().map_or([0x34; 3], |m| m.colour);
            let _ = write!(colours, "{r:02x}{g:02x}{b:02x}");
        }
        let of = |choice: Choice| laid.frames.iter().filter(|f| f.marks.choice == choice).count();
        let mut suggested: HashMap<&'static str, Vec<i64>> = HashMap::new();
        for (id, kinds) in known.problems.iter() {
            for kind in kinds {
                suggested.entry(kind).or_default().push(*id);
            }
        }
        let shoot = laid.shoot.as_ref().filter(|_| matches!(set, Set::Shoot(_)));
        Viewed {
            ids: shown.iter().map(|f| f.id).collect(),
            colours,
            // Every choice along, so that the page can show a change before it is answered.
            choices: shown.iter().map(|f| ['o', 'k', 's'][f.marks.choice as usize]).collect(),
            total: laid.frames.len(),
            order: laid.sorted,
            facets: narrowed.facets,
            suggested,
            open: of(Choice::Open),
            kept: of(Choice::Kept),
            aside: of(Choice::SetAside),
            chosen: laid.chosen().len(),
            word: laid.word(),
            left_out_of_run: laid.left_out(),
            at: laid.desk.frame,
            scanning: shoot.is_some_and(|s| app.frames.is_scanning(s.id)),
            follow: shoot.is_some_and(|s| s.follow),
            results: shoot.is_some_and(|s| s.results),
            left_out: shoot.map_or(0, |s| app.frames.left_out(s.id).len()),
            unmeasured: laid.frames.iter().filter(|f| f.measures.is_none() && f.problem.is_none()).count(),
            name: laid.name,
        }
    };
    Ok(Json(tokio::task::spawn_blocking(viewed).await?))
}

async fn keep_order(app: &App, order: Order) -> Result<()> {
    let mut desk = workspace::load(app).await?;
    match desk.set() {
        Some(Set::Shoot(id)) => {
            let mut shoot = app.store.shoot(id).await?;
            shoot.sorted = serde_json::to_string(&order).unwrap_or_default();
            app.store.set_shoot(&shoot).await?;
        }
        Some(Set::Selection(_)) => {
            desk.list_order = order;
            workspace::save(app, &desk).await?;
        }
        None => {}
    }
    Ok(())
}

/// Some frames.
#[derive(Deserialize, JsonSchema)]
pub struct Ids {
    /// Their numbers.
    ids: Vec<i64>,
}

/// Most rows in one answer.
const ROWS: usize = 600;

/// What the page shows of a frame.
#[derive(Serialize, JsonSchema)]
struct Row {
    /// Its number.
    id: i64,
    /// File name.
    name: String,
    /// The folder it lies in.
    folder: String,
    /// Size of the file.
    bytes: u64,
    /// When the file was changed, as a number that changes with it.
    stamp: String,
    /// What the file says.
    facts: Option<Facts>,
    /// Why it cannot be read.
    problem: Option<String>,
    /// Capture time, corrected.
    #[schemars(with = "Option<String>")]
    taken: Option<jiff::civil::DateTime>,
    /// Milliseconds that is corrected by.
    shift: i64,
    /// Open, kept or set aside.
    choice: Choice,
    /// 0 none … 5.
    rating: u8,
    /// Keywords.
    keywords: Vec<String>,
    /// What its pixels measure.
    measures: Option<Measures>,
    /// Whether the recipe in use made something of it already.
    done: bool,
    /// Reasons to look at it.
    look: Option<Vec<&'static str>>,
}

async fn rows(State(app): State<App>, Sent(Ids { ids }): Sent<Ids>) -> Result<Json<Vec<Row>>> {
    let desk = workspace::load(&app).await?;
    let set = set_of(&desk)?;
    let frames = app.frames.all(set).await?;
    let known = app.frames.known(set, desk.recipe).await?;
    let wanted: HashSet<i64> = ids.into_iter().take(ROWS).collect();
    let row = |f: &Frame| Row {
        id: f.id,
        name: f.name.clone(),
        folder: app.roots.short(f.path.parent().unwrap_or(&f.path)),
        bytes: f.bytes,
        stamp: f.modified.to_string(),
        facts: f.facts.clone(),
        problem: f.problem.clone(),
        taken: f.taken(),
        shift: f.marks.shift,
        choice: f.marks.choice,
        rating: f.marks.rating,
        keywords: f.marks.keywords.clone(),
        measures: f.measures.clone(),
        done: known.done.contains(&f.id),
        look: known.problems.get(&f.id).cloned(),
    };
    Ok(Json(frames.iter().filter(|f| wanted.contains(&f.id)).map(row).collect()))
}

/// A change of some frames.
#[derive(Deserialize, JsonSchema)]
struct ChangeFrames {
    /// Which.
    ids: Vec<i64>,
    /// What is done to them.
    change: Change,
}

/// The frames that were changed.
#[derive(Serialize, JsonSchema)]
struct Changed {
    /// By their numbers.
    changed: Vec<i64>,
}

async fn change(State(app): State<App>, Sent(asked): Sent<ChangeFrames>) -> Result<Json<Changed>> {
    let set = set_of(&workspace::load(&app).await?)?;
    let changed = app.frames.change(set, &asked.ids, &asked.change).await?;
    if let Change::Keywords { add, .. } = &asked.change {
        remember_keywords(&app, add).await?;
    }
    Ok(Json(Changed { changed }))
}

async fn undo(State(app): State<App>) -> Result<Json<Changed>> {
    Ok(Json(Changed { changed: app.frames.undo().await? }))
}

async fn redo(State(app): State<App>) -> Result<Json<Changed>> {
    Ok(Json(Changed { changed: app.frames.redo().await? }))
}

/// A correction of capture times.
#[derive(Deserialize, JsonSchema)]
pub struct Shift {
    /// The frames.
    ids: Vec<i64>,
    /// Milliseconds to move by.
    millis: Option<i64>,
    /// Or: this frame's time becomes the given one.
    frame: Option<i64>,
    /// A time such as 2026-05-04 09:31:07.
    becomes: Option<String>,
}

/// What a correction would do.
#[derive(Serialize, JsonSchema)]
struct Shifted {
    /// Milliseconds to move by.
    millis: i64,
    /// The first frames.
    lines: Vec<ShiftedLine>,
    /// Frames with a capture time.
    timed: usize,
    /// Frames without one.
    untimed: usize,
}

/// What it would do to one frame.
#[derive(Serialize, JsonSchema)]
struct ShiftedLine {
    /// File name.
    name: String,
    /// Capture time now.
    before: String,
    /// And then.
    after: Option<String>,
}

/// What a shift would do: before and after of the first frames, and the shift itself.
async fn shift(State(app): State<App>, Sent(shift): Sent<Shift>) -> Result<Json<Shifted>> {
    let frames = app.frames.all(set_of(&workspace::load(&app).await?)?).await?;
    let millis = match (shift.millis, shift.frame, &shift.becomes) {
        (Some(millis), _, _) => millis,
        (None, Some(id), Some(text)) => {
            let taken = frames.iter().find(|f| f.id == id).and_then(Frame::taken);
            let taken = taken.ok_or_else(|| Error::bad("this frame has no capture time to start from"))?;
            let wanted: jiff::civil::DateTime = text.trim().replace(' ', "T").parse().map_err(|_| {
                Error::bad(format!("expected a time such as 2026-05-04 09:31:07, got {text:?}"))
            })?;
            wanted.duration_since(taken).as_millis() as i64
        }
        _ => return Err(Error::bad("say by how much, or what one frame's time becomes")),
    };
    let ids: HashSet<i64> = shift.ids.into_iter().collect();
    let timed: Vec<(&Frame, jiff::civil::DateTime)> =
        frames.iter().filter(|f| ids.contains(&f.id)).filter_map(|f| Some((f, f.taken()?))).collect();
    let words = |t: jiff::civil::DateTime| t.strftime("%Y-%m-%d %H:%M:%S%.f").to_string();
    let line = |(f, t): &(&Frame, jiff::civil::DateTime)| ShiftedLine {
        name: f.name.clone(),
        before: words(*t),
        after: shifted(*t, millis).map(words),
    };
    let lines = timed.iter().take(6).map(line).collect();
    Ok(Json(Shifted { millis, lines, timed: timed.len(), untimed: ids.len() - timed.len() }))
}

/// The sequence check of the frames a run would take.
#[derive(Serialize, JsonSchema)]
struct Checked {
    /// What it says.
    check: sequence::Check,
    /// What the frames are called together.
    name: String,
}

async fn check(State(app): State<App>) -> Result<Json<Checked>> {
    let laid = workspace::laid(&app).await?;
    let chosen: Vec<Frame> = laid.chosen().into_iter().filter(|f| f.facts.is_some()).cloned().collect();
    if chosen.is_empty() {
        return Err(Error::bad("there are no readable frames to check"));
    }
    let check = tokio::task::spawn_blocking(move || sequence::check(&chosen)).await?;
    Ok(Json(Checked { check, name: laid.name }))
}

/// Which XMP files are written or read.
#[derive(Deserialize, JsonSchema)]
pub struct Sidecars {
    /// The frames beside which they lie.
    ids: Vec<i64>,
    /// Write, or read.
    write: bool,
}

/// What came of it.
#[derive(Serialize, JsonSchema)]
struct SidecarsDone {
    /// Files written, or read.
    count: usize,
    /// What could not be, and why.
    trouble: Vec<String>,
}

/// Reads ratings and keywords from sidecars, or writes them; sidecars of other programs are left alone.
async fn sidecars(State(app): State<App>, Sent(asked): Sent<Sidecars>) -> Result<Json<SidecarsDone>> {
    let set = set_of(&workspace::load(&app).await?)?;
    let frames = app.frames.all(set).await?;
    let ids: HashSet<i64> = asked.ids.into_iter().collect();
    let some: Vec<Frame> = frames.iter().filter(|f| ids.contains(&f.id)).cloned().collect();
    let mut trouble: Vec<String> = Vec::new();
    let mut count = 0;
    if asked.write {
        for frame in &some {
            let path = xmp::path(&frame.path);
            app.roots.future(&path)?;
            let sidecar = Sidecar { rating: frame.marks.rating, keywords: frame.marks.keywords.clone() };
            match sidecar.write(&path) {
                Ok(()) => count += 1,
                Err(e) => trouble.push(format!("{}: {e}", frame.name)),
            }
        }
    } else {
        let mut marks: HashMap<i64, Marks> = HashMap::new();
        for frame in &some {
            match Sidecar::read(&xmp::path(&frame.path)) {
                Ok(Some(s)) => {
                    marks.insert(
                        frame.id,
                        Marks { rating: s.rating, keywords: s.keywords, ..frame.marks.clone() },
                    );
                }
                Ok(None) => {}
                Err(e) => trouble.push(format!("{}: {e}", frame.name)),
            }
        }
        count = marks.len();
        app.frames.take_over(set, &marks).await?;
        let words: Vec<String> = marks.into_values().flat_map(|m| m.keywords).collect();
        remember_keywords(&app, &words).await?;
    }
    Ok(Json(SidecarsDone { count, trouble }))
}

async fn kept_keywords(app: &App) -> Result<Vec<String>> {
    let text = app.store.setting("keywords").await?;
    Ok(text.and_then(|t| serde_json::from_str(&t).ok()).unwrap_or_default())
}

async fn remember_keywords(app: &App, words: &[String]) -> Result<()> {
    let mut keywords = kept_keywords(app).await?;
    for word in words.iter().map(|w| w.trim()).filter(|w| !w.is_empty()) {
        if !keywords.iter().any(|k| k == word) {
            keywords.push(word.to_owned());
        }
    }
    keywords.sort_by_cached_key(|k| k.to_lowercase());
    Ok(app.store.set_setting("keywords", &serde_json::to_string(&keywords).unwrap_or_default()).await?)
}

/// The list of keywords people reuse.
async fn keywords(State(app): State<App>) -> Result<Json<Vec<String>>> {
    Ok(Json(kept_keywords(&app).await?))
}

async fn set_keywords(State(app): State<App>, Sent(words): Sent<Vec<String>>) -> Result<Json<Vec<String>>> {
    app.store.set_setting("keywords", "[]").await?;
    remember_keywords(&app, &words).await?;
    keywords(State(app)).await
}

/// A named selection.
#[derive(Serialize, JsonSchema)]
struct SelectionEntry {
    /// Its number.
    id: i64,
    /// Its name.
    name: String,
    /// Frames in it.
    frames: i64,
}

async fn selections(State(app): State<App>) -> Result<Json<Vec<SelectionEntry>>> {
    let selections = app.store.selections().await?.into_iter();
    Ok(Json(selections.map(|s| SelectionEntry { id: s.id, name: s.name, frames: s.frames }).collect()))
}

/// A selection to be kept, or more frames for one of that name.
#[derive(Deserialize, JsonSchema)]
pub struct Named {
    /// What it is called.
    #[schemars(length(min = 1, max = 120))]
    name: String,
    /// The frames.
    ids: Vec<i64>,
}

/// A selection that was kept.
#[derive(Serialize, JsonSchema)]
struct NamedAnswer {
    /// Its number.
    id: i64,
    /// Its name.
    name: String,
}

async fn add_selection(State(app): State<App>, Sent(named): Sent<Named>) -> Result<Json<NamedAnswer>> {
    let name: String = named.name.trim().chars().take(120).collect();
    if name.is_empty() {
        return Err(Error::bad("a selection needs a name"));
    }
    let id = app.store.add_to_selection(&name, &named.ids, &now()).await?;
    app.frames.selection_changed(id);
    Ok(Json(NamedAnswer { id, name }))
}

async fn take_out(
    State(app): State<App>,
    Path(Id { id }): Path<Id>,
    Sent(Ids { ids }): Sent<Ids>,
) -> Result<Json<Done>> {
    app.store.remove_from_selection(id, &ids).await?;
    app.frames.selection_changed(id);
    Ok(Json(Done {}))
}

async fn forget_selection(State(app): State<App>, Path(Id { id }): Path<Id>) -> Result<Json<Done>> {
    app.store.forget_selection(id).await?;
    app.frames.selection_changed(id);
    Ok(Json(Done {}))
}

/// A reduced picture, made by the engine as any other render; a preview inside the file serves where it is large
/// enough.
pub fn small(source: &FileSource, long_edge: f64) -> Result<Vec<u8>> {
    let preview = source.embedded(long_edge as u32);
    let source = preview.as_ref().unwrap_or(source);
    let size = source.size();
    let plan = Plan::new(Vec::new(), size).map_err(Error::bad)?;
    let program = plan.program((long_edge / f64::from(size.long_edge())).min(1.0));
    let picture =
        program.render(source, program.size().rect(), OutputProfile::Srgb.colour()).map_err(Error::bad)?;
    let encoding =
        Encoding::Jpeg { quality: 85, chroma: Chroma::Quarter, progressive: false, optimised: false };
    Ok(rallo_media::encode(&picture, encoding, &Extras::default())?)
}

/// Long edges reduced pictures are made at: grid, film, whole window.
const EDGES: [u32; 4] = [160, 400, 960, 1920];

/// Writes a file of the cache under a name of its own first, so that nobody ever reads half of it.
fn keep_whole(file: &FilePath, bytes: &[u8]) -> std::io::Result<()> {
    let mut part = tempfile::NamedTempFile::new_in(file.parent().unwrap_or(FilePath::new(".")))?;
    std::io::Write::write_all(&mut part, bytes)?;
    part.persist(file).map(|_| ()).map_err(|e| e.error)
}

/// A reduced picture, kept on disk under the file's path, size and time.
pub async fn cached_thumb(app: &App, path: PathBuf, key: String, edge: u32) -> Result<Image> {
    let file = app.thumbs.join(format!("{}.jpg", content_hash(format!("{key}|{edge}").as_bytes())));
    let bytes = schedule::ask(Class::Sight, move || -> Result<Vec<u8>> {
        if let Ok(bytes) = std::fs::read(&file) {
            return Ok(bytes);
        }
        let bytes = small(&FileSource::open(&path)?, f64::from(edge))?;
        // A cache that cannot be written is no reason to show nothing.
        let _ = keep_whole(&file, &bytes);
        Ok(bytes)
    })
    .await??;
    Ok(Image { bytes, kind: "image/jpeg", keep: true })
}

/// How large a picture is wanted.
#[derive(Deserialize, JsonSchema)]
struct Edge {
    /// Its long edge: 160, 400, 960 or 1920 pixels; 400 where it is another.
    #[serde(default)]
    edge: u32,
}

async fn thumb(
    State(app): State<App>,
    Path(Id { id }): Path<Id>,
    Query(Edge { edge }): Query<Edge>,
) -> Result<Image> {
    let frame = app.store.frame(id).await?;
    let key = format!("{}|{}|{}", frame.path, frame.bytes, frame.modified);
    let path = app.roots.existing(FilePath::new(&frame.path))?;
    let edge = if EDGES.contains(&edge) { edge } else { 400 };
    cached_thumb(&app, path, key, edge).await
}

/// A part of a picture, in its pixels.
#[derive(Deserialize, JsonSchema)]
struct Part {
    /// Left edge.
    #[schemars(range(min = 0, max = 1_000_000))]
    x: i64,
    /// Upper edge.
    #[schemars(range(min = 0, max = 1_000_000))]
    y: i64,
    /// Width.
    #[schemars(range(min = 1, max = 8192))]
    w: i64,
    /// Height.
    #[schemars(range(min = 1, max = 8192))]
    h: i64,
}

/// A part of the picture at 100 %.
async fn part(State(app): State<App>, Path(Id { id }): Path<Id>, Query(part): Query<Part>) -> Result<Image> {
    let frame = app.store.frame(id).await?;
    let path = app.roots.existing(FilePath::new(&frame.path))?;
    let shared = app.clone();
    let bytes = schedule::ask(Class::Eye, move || -> Result<Vec<u8>> {
        let source = shared.sources.open(&path, &DecodeSettings::default())?;
        let program = Plan::new(Vec::new(), source.size()).map_err(Error::bad)?.program(1.0);
        let rect = Rect::new(part.x, part.y, part.w.min(8192), part.h.min(8192));
        let picture = program.render(&*source, rect, OutputProfile::Srgb.colour()).map_err(Error::bad)?;
        let encoding =
            Encoding::Jpeg { quality: 92, chroma: Chroma::Full, progressive: false, optimised: false };
        Ok(rallo_media::encode(&picture, encoding, &Extras::default())?)
    })
    .await??;
    Ok(Image { bytes, kind: "image/jpeg", keep: true })
}

/// What lies on the desk, and what frames can be sorted and told apart by.
#[derive(Serialize, JsonSchema)]
struct DeskAnswer {
    /// Identities of what is in use.
    desk: workspace::Desk,
    /// What frames can be sorted by.
    sorts: Vec<SortEntry>,
    /// Measures that can be limited to a range.
    measures: Vec<MeasureEntry>,
}

/// Something to sort by.
#[derive(Serialize, JsonSchema)]
struct SortEntry {
    /// As an order writes it.
    by: Sort,
    /// For people.
    title: &'static str,
}

/// A measure.
#[derive(Serialize, JsonSchema)]
struct MeasureEntry {
    /// As a filter writes it.
    id: &'static str,
    /// For people, with its unit.
    title: &'static str,
}

async fn get_desk(State(app): State<App>) -> Result<Json<DeskAnswer>> {
    let laid = workspace::laid(&app).await?;
    let sorts = Sort::ALL.iter().map(|(by, title)| SortEntry { by: *by, title }).collect();
    let measures = facets::MEASURES.iter().map(|(id, title)| MeasureEntry { id, title }).collect();
    Ok(Json(DeskAnswer { desk: laid.desk, sorts, measures }))
}

/// What a run would take of what lies on the desk.
#[derive(Serialize, JsonSchema)]
struct DeskChosen {
    /// Frames.
    chosen: usize,
    /// What they are, in a word.
    word: &'static str,
    /// How many are left out, and why, in words.
    left_out: String,
}

/// Changes what lies on the desk; what is not named stays.
async fn set_desk(
    State(app): State<App>,
    Sent(workspace::DeskChange(change)): Sent<workspace::DeskChange>,
) -> Result<Json<DeskChosen>> {
    let mut now = serde_json::to_value(workspace::load(&app).await?).unwrap_or_default();
    for (key, value) in change {
        now[key] = value;
    }
    let desk: workspace::Desk = serde_json::from_value(now).map_err(Error::bad)?;
    workspace::save(&app, &desk).await?;
    let laid = workspace::laid(&app).await?;
    Ok(Json(DeskChosen { chosen: laid.chosen().len(), word: laid.word(), left_out: laid.left_out() }))
}
