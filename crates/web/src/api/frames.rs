//! The frames on the desk: what is shown in which order, what is decided about them, their pictures.

use super::image;
use crate::error::{Error, Result, Sent};
use crate::{App, workspace};
use axum::extract::{Path, Query, State};
use axum::response::Response;
use axum::routing::{delete, get, post};
use axum::{Json, Router};
use rallo_engine::{OutputProfile, Plan, Rect, Source};
use rallo_job::prelude::*;
use rallo_media::metadata::xmp::{self, Sidecar};
use rallo_media::{Chroma, Encoding, Extras, FileSource, content_hash};
use rallo_runner::library::shoot_index::{Change, Refusal};
use rallo_runner::schedule::{self, Class};
use rallo_runner::{Set, now};
use rallo_shoot::frame::{Marks, shifted};
use rallo_shoot::{Choice, Filter, Frame, Order, Sort, facets, sequence};
use schemars::JsonSchema;
use serde::Deserialize;
use serde_json::{Value, json};
use std::collections::{HashMap, HashSet};
use std::fmt::Write;
use std::path::{Path as FilePath, PathBuf};

pub fn routes() -> Router<App> {
    Router::new()
        .route("/api/view", post(view))
        .route("/api/rows", post(rows))
        .route("/api/change", post(change))
        .route("/api/undo", post(undo))
        .route("/api/redo", post(redo))
        .route("/api/shift", post(shift))
        .route("/api/check", post(check))
        .route("/api/sidecars", post(sidecars))
        .route("/api/keywords", get(keywords).put(set_keywords))
        .route("/api/selections", get(selections).post(add_selection))
        .route("/api/selections/{id}", delete(forget_selection))
        .route("/api/selections/{id}/remove", post(take_out))
        .route("/api/frames/{id}/thumb", get(thumb))
        .route("/api/frames/{id}/part", get(part))
        .route("/api/desk", get(get_desk).put(set_desk))
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

#[derive(Deserialize)]
struct View {
    #[serde(default)]
    filter: Filter,
    /// Kept with the shoot when given.
    order: Option<Order>,
}

/// Which frames are shown, in order, and how many there are of what.
async fn view(State(app): State<App>, Sent(view): Sent<View>) -> Result<Json<Value>> {
    if let Some(order) = view.order {
        keep_order(&app, order).await?;
    }
    let laid = workspace::laid(&app).await?;
    let Some(set) = laid.desk.set() else { return Ok(Json(json!({"ids": [], "total": 0, "facets": []}))) };
    let known = app.frames.known(set, laid.desk.recipe).await?;
    let narrowed = facets::narrow(&laid.frames, &view.filter, &known);
    let shown: Vec<&Frame> =
        laid.order.iter().filter(|i| narrowed.fits[**i]).map(|i| &laid.frames[*i]).collect();
    let mut colours = String::with_capacity(shown.len() * 6);
    for frame in &shown {
        let [r, g, b] = frame.measures.as_ref().map_or([0x34; 3], |m| m.colour);
        let _ = write!(colours, "{r:02x}{g:02x}{b:02x}");
    }
    // Every choice along, so that the page can show a change before it is answered.
    let choices: String = shown.iter().map(|f| ['o', 'k', 's'][f.marks.choice as usize]).collect();
    let of = |choice: Choice| laid.frames.iter().filter(|f| f.marks.choice == choice).count();
    let mut suggested: HashMap<&str, Vec<i64>> = HashMap::new();
    for (id, kinds) in known.problems.iter() {
        for kind in kinds {
            suggested.entry(kind).or_default().push(*id);
        }
    }
    let shoot = laid.shoot.as_ref().filter(|_| matches!(set, Set::Shoot(_)));
    Ok(Json(json!({
        "name": laid.name, "ids": shown.iter().map(|f| f.id).collect::<Vec<_>>(), "colours": colours, "choices": choices,
        "total": laid.frames.len(), "order": laid.sorted, "facets": narrowed.facets, "suggested": suggested,
        "open": of(Choice::Open), "kept": of(Choice::Kept), "aside": of(Choice::SetAside),
        "chosen": laid.chosen().len(), "word": laid.word(), "left_out_of_run": laid.left_out(), "at": laid.desk.frame,
        "scanning": shoot.is_some_and(|s| app.frames.is_scanning(s.id)),
        "follow": shoot.is_some_and(|s| s.follow), "results": shoot.is_some_and(|s| s.results),
        "left_out": shoot.map_or(0, |s| app.frames.left_out(s.id).len()),
        "unmeasured": laid.frames.iter().filter(|f| f.measures.is_none() && f.problem.is_none()).count(),
    })))
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

#[derive(Deserialize, JsonSchema)]
pub struct Ids {
    ids: Vec<i64>,
}

/// Most rows in one answer.
const ROWS: usize = 600;

/// What the page shows of some frames.
async fn rows(State(app): State<App>, Sent(Ids { ids }): Sent<Ids>) -> Result<Json<Value>> {
    let desk = workspace::load(&app).await?;
    let set = set_of(&desk)?;
    let all = app.frames.all(set).await?;
    let known = app.frames.known(set, desk.recipe).await?;
    let wanted: HashSet<i64> = ids.into_iter().take(ROWS).collect();
    let rows: Vec<Value> = all
        .iter()
        .filter(|f| wanted.contains(&f.id))
        .map(|f| {
            json!({"id": f.id, "name": f.name, "folder": app.roots.short(f.path.parent().unwrap_or(&f.path)),
                "bytes": f.bytes, "stamp": f.modified.to_string(), "facts": f.facts, "problem": f.problem,
                "taken": f.taken(), "shift": f.marks.shift, "choice": f.marks.choice, "rating": f.marks.rating,
                "keywords": f.marks.keywords, "measures": f.measures, "done": known.done.contains(&f.id),
                "look": known.problems.get(&f.id)})
        })
        .collect();
    Ok(Json(rows.into()))
}

#[derive(Deserialize)]
struct Asked {
    ids: Vec<i64>,
    change: Change,
}

async fn change(State(app): State<App>, Sent(asked): Sent<Asked>) -> Result<Json<Value>> {
    let set = set_of(&workspace::load(&app).await?)?;
    let changed = app.frames.change(set, &asked.ids, &asked.change).await?;
    if let Change::Keywords { add, .. } = &asked.change {
        remember_keywords(&app, add).await?;
    }
    Ok(Json(json!({"changed": changed})))
}

async fn undo(State(app): State<App>) -> Result<Json<Value>> {
    Ok(Json(json!({"changed": app.frames.undo().await?})))
}

async fn redo(State(app): State<App>) -> Result<Json<Value>> {
    Ok(Json(json!({"changed": app.frames.redo().await?})))
}

#[derive(Deserialize, JsonSchema)]
pub struct Shift {
    ids: Vec<i64>,
    /// Milliseconds to move by.
    millis: Option<i64>,
    /// Or: this frame's time becomes the given one.
    frame: Option<i64>,
    becomes: Option<String>,
}

/// What a shift would do: before and after of the first frames, and the shift itself.
async fn shift(State(app): State<App>, Sent(shift): Sent<Shift>) -> Result<Json<Value>> {
    let all = app.frames.all(set_of(&workspace::load(&app).await?)?).await?;
    let millis = match (shift.millis, shift.frame, &shift.becomes) {
        (Some(millis), _, _) => millis,
        (None, Some(id), Some(text)) => {
            let taken = all.iter().find(|f| f.id == id).and_then(Frame::taken);
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
        all.iter().filter(|f| ids.contains(&f.id)).filter_map(|f| Some((f, f.taken()?))).collect();
    let words = |t: jiff::civil::DateTime| t.strftime("%Y-%m-%d %H:%M:%S%.f").to_string();
    let lines: Vec<Value> = timed
        .iter()
        .take(6)
        .map(|(f, t)| json!({"name": f.name, "before": words(*t), "after": shifted(*t, millis).map(words)}))
        .collect();
    Ok(Json(
        json!({"millis": millis, "lines": lines, "timed": timed.len(), "untimed": ids.len() - timed.len()}),
    ))
}

/// The sequence check of the frames a run would take.
async fn check(State(app): State<App>) -> Result<Json<Value>> {
    let laid = workspace::laid(&app).await?;
    let chosen: Vec<Frame> = laid.chosen().into_iter().filter(|f| f.facts.is_some()).cloned().collect();
    if chosen.is_empty() {
        return Err(Error::bad("there are no readable frames to check"));
    }
    let check = tokio::task::spawn_blocking(move || sequence::check(&chosen)).await?;
    Ok(Json(json!({"check": check, "name": laid.name})))
}

#[derive(Deserialize, JsonSchema)]
pub struct Sidecars {
    ids: Vec<i64>,
    /// Write, or read.
    write: bool,
}

/// Reads ratings and keywords from sidecars, or writes them; sidecars of other programs are left alone.
async fn sidecars(State(app): State<App>, Sent(asked): Sent<Sidecars>) -> Result<Json<Value>> {
    let set = set_of(&workspace::load(&app).await?)?;
    let all = app.frames.all(set).await?;
    let ids: HashSet<i64> = asked.ids.into_iter().collect();
    let some: Vec<Frame> = all.iter().filter(|f| ids.contains(&f.id)).cloned().collect();
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
        let mut told: HashMap<i64, Marks> = HashMap::new();
        for frame in &some {
            match Sidecar::read(&xmp::path(&frame.path)) {
                Ok(Some(s)) => {
                    told.insert(
                        frame.id,
                        Marks { rating: s.rating, keywords: s.keywords, ..frame.marks.clone() },
                    );
                }
                Ok(None) => {}
                Err(e) => trouble.push(format!("{}: {e}", frame.name)),
            }
        }
        count = told.len();
        app.frames.take_over(set, &told).await?;
        let words: Vec<String> = told.into_values().flat_map(|m| m.keywords).collect();
        remember_keywords(&app, &words).await?;
    }
    Ok(Json(json!({"count": count, "trouble": trouble})))
}

async fn kept_keywords(app: &App) -> Result<Vec<String>> {
    let text = app.store.setting("keywords").await?;
    Ok(text.and_then(|t| serde_json::from_str(&t).ok()).unwrap_or_default())
}

async fn remember_keywords(app: &App, words: &[String]) -> Result<()> {
    let mut all = kept_keywords(app).await?;
    for word in words.iter().map(|w| w.trim()).filter(|w| !w.is_empty()) {
        if !all.iter().any(|k| k == word) {
            all.push(word.to_owned());
        }
    }
    all.sort_by_cached_key(|k| k.to_lowercase());
    Ok(app.store.set_setting("keywords", &serde_json::to_string(&all).unwrap_or_default()).await?)
}

/// The list of keywords people reuse.
async fn keywords(State(app): State<App>) -> Result<Json<Value>> {
    Ok(Json(kept_keywords(&app).await?.into()))
}

async fn set_keywords(State(app): State<App>, Sent(words): Sent<Vec<String>>) -> Result<Json<Value>> {
    app.store.set_setting("keywords", "[]").await?;
    remember_keywords(&app, &words).await?;
    keywords(State(app)).await
}

async fn selections(State(app): State<App>) -> Result<Json<Value>> {
    let all = app.store.selections().await?;
    let all: Vec<Value> =
        all.iter().map(|s| json!({"id": s.id, "name": s.name, "frames": s.frames})).collect();
    Ok(Json(all.into()))
}

#[derive(Deserialize, JsonSchema)]
pub struct Named {
    name: String,
    ids: Vec<i64>,
}

async fn add_selection(State(app): State<App>, Sent(named): Sent<Named>) -> Result<Json<Value>> {
    let name: String = named.name.trim().chars().take(120).collect();
    if name.is_empty() {
        return Err(Error::bad("a selection needs a name"));
    }
    let id = app.store.add_to_selection(&name, &named.ids, &now()).await?;
    app.frames.selection_changed(id);
    Ok(Json(json!({"id": id, "name": name})))
}

async fn take_out(
    State(app): State<App>,
    Path(id): Path<i64>,
    Sent(Ids { ids }): Sent<Ids>,
) -> Result<Json<Value>> {
    app.store.remove_from_selection(id, &ids).await?;
    app.frames.selection_changed(id);
    Ok(Json(json!({})))
}

async fn forget_selection(State(app): State<App>, Path(id): Path<i64>) -> Result<Json<Value>> {
    app.store.forget_selection(id).await?;
    app.frames.selection_changed(id);
    Ok(Json(json!({})))
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
pub async fn cached_thumb(app: &App, path: PathBuf, key: String, edge: u32) -> Result<Response> {
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
    Ok(image(bytes, "image/jpeg", true))
}

#[derive(Deserialize)]
struct Edge {
    #[serde(default)]
    edge: u32,
}

async fn thumb(
    State(app): State<App>,
    Path(id): Path<i64>,
    Query(Edge { edge }): Query<Edge>,
) -> Result<Response> {
    let frame = app.store.frame(id).await?;
    let key = format!("{}|{}|{}", frame.path, frame.bytes, frame.modified);
    let path = app.roots.existing(FilePath::new(&frame.path))?;
    let edge = if EDGES.contains(&edge) { edge } else { 400 };
    cached_thumb(&app, path, key, edge).await
}

#[derive(Deserialize)]
struct Part {
    x: i64,
    y: i64,
    w: i64,
    h: i64,
}

/// A part of the picture at 100 %.
async fn part(State(app): State<App>, Path(id): Path<i64>, Query(part): Query<Part>) -> Result<Response> {
    let frame = app.store.frame(id).await?;
    let path = app.roots.existing(FilePath::new(&frame.path))?;
    let shared = app.clone();
    let bytes = schedule::ask(Class::Eye, move || -> Result<Vec<u8>> {
        let source = shared.sources.open(&path)?;
        let program = Plan::new(Vec::new(), source.size()).map_err(Error::bad)?.program(1.0);
        let rect = Rect::new(part.x, part.y, part.w.min(8192), part.h.min(8192));
        let picture = program.render(&*source, rect, OutputProfile::Srgb.colour()).map_err(Error::bad)?;
        let encoding =
            Encoding::Jpeg { quality: 92, chroma: Chroma::Full, progressive: false, optimised: false };
        Ok(rallo_media::encode(&picture, encoding, &Extras::default())?)
    })
    .await??;
    Ok(image(bytes, "image/jpeg", true))
}

async fn get_desk(State(app): State<App>) -> Result<Json<Value>> {
    let laid = workspace::laid(&app).await?;
    let sorts: Vec<Value> = Sort::ALL.iter().map(|(by, title)| json!({"by": by, "title": title})).collect();
    let measures: Vec<Value> =
        facets::MEASURES.iter().map(|(id, title)| json!({"id": id, "title": title})).collect();
    Ok(Json(json!({"desk": laid.desk, "sorts": sorts, "measures": measures})))
}

/// Changes what lies on the desk; what is not named stays.
async fn set_desk(State(app): State<App>, Sent(change): Sent<Value>) -> Result<Json<Value>> {
    let mut now = serde_json::to_value(workspace::load(&app).await?).unwrap_or_default();
    for (key, value) in change.as_object().into_iter().flatten() {
        now[key] = value.clone();
    }
    let desk: workspace::Desk = serde_json::from_value(now).map_err(Error::bad)?;
    workspace::save(&app, &desk).await?;
    let laid = workspace::laid(&app).await?;
    Ok(Json(json!({"chosen": laid.chosen().len(), "word": laid.word(), "left_out": laid.left_out()})))
}
