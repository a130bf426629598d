//! Pictures that are dropped on a recipe: brought to the server, run, taken back as a ZIP or written into a folder.
//!
//! They lie in the program's own folder, under a name nobody can guess, and are removed a week after their run has ended.

use super::answer::{Done, about, attached, file, takes_file};
use super::sheet::{Answer, address, answers_of};
use crate::App;
use crate::error::{Error, Result};
use crate::request::{Id, Path, Sent};
use aide::axum::ApiRouter;
use aide::axum::routing::{delete_with, get_with, post_with, put_with};
use axum::Json;
use axum::body::Body;
use axum::extract::{DefaultBodyLimit, State};
use axum::http::{StatusCode, header};
use axum::response::Response;
use futures_core::Stream;
use rallo_job::Run;
use rallo_job::clock::text_of;
use rallo_job::prelude::*;
use rallo_media::decode::MAX_BYTES;
use rallo_media::{bytes_text, has_picture_ending};
use rallo_recipe::{Recipe, names};
use rallo_runner::Decided;
use rallo_runner::files::{free_space, zip};
use rallo_runner::library::scan;
use rallo_runner::preflight::{self, input, new_run};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::path::{Path as FilePath, PathBuf};
use std::pin::Pin;
use std::time::{Duration, SystemTime};
use tokio::io::AsyncWriteExt;
use tokio_util::io::ReaderStream;

/// How long brought pictures and their results are kept after their run has ended, and those that never ran.
const KEPT: Duration = Duration::from_secs(7 * 24 * 3600);
const UNUSED: Duration = Duration::from_secs(24 * 3600);
/// Most files of one drop.
const MOST_FILES: usize = 5000;
/// Room that must stay on the disk.
const SPARE: u64 = 500_000_000;

pub fn routes() -> ApiRouter<App> {
    let upload = ApiRouter::new()
        .api_route(
            "/api/drops/{drop}/files/{name}",
            put_with(bring, |o| takes_file(o.summary("Bring one"), "application/octet-stream")),
        )
        // Its own limit counts what arrives.
        .layer(DefaultBodyLimit::disable());
    ApiRouter::new()
        .api_route("/api/drops", post_with(begin, about("Begin to bring pictures")))
        .api_route("/api/drops/{drop}", delete_with(give_up, about("Give it up")))
        .api_route("/api/drops/{drop}/run", post_with(run, about("Run a recipe on what was brought")))
        .api_route(
            "/api/runs/{id}/results.zip",
            get_with(results, file("What it wrote, in one file", "application/zip")),
        )
        .merge(upload)
}

/// Where what is brought lies.
pub fn place(data: &FilePath) -> PathBuf {
    data.join("drops")
}

/// The folder of a drop, which must be there.
fn folder(app: &App, drop: &str) -> Result<PathBuf> {
    let is_name = drop.len() == 32 && drop.bytes().all(|b| b.is_ascii_hexdigit());
    let folder = place(&app.data).join(drop);
    if !is_name || !folder.is_dir() {
        return Err(Error(
            StatusCode::NOT_FOUND,
            "these pictures are not here any more; drop them again".into(),
        ));
    }
    Ok(folder)
}

/// A place for pictures that are brought.
#[derive(Serialize, JsonSchema)]
struct Begun {
    /// Its name, which nobody can guess.
    drop: String,
}

/// The name of such a place.
#[derive(Deserialize, JsonSchema)]
struct DropPath {
    /// As it was told when it was begun.
    #[schemars(regex(pattern = "^[0-9a-f]{32}$"))]
    drop: String,
}

async fn begin(State(app): State<App>) -> Result<Json<Begun>> {
    let drop = crate::token().map_err(Error::bad)?;
    let inside = place(&app.data).join(&drop).join("in");
    tokio::fs::create_dir_all(&inside).await.map_err(|e| Error::bad(format!("nothing can be kept: {e}")))?;
    Ok(Json(Begun { drop }))
}

/// Names a file may have in a folder, as near to the given one as a file system takes, the best first.
fn names_in(folder: &FilePath, name: &str) -> Result<impl Iterator<Item = PathBuf> + use<>> {
    let given = FilePath::new(name);
    if !has_picture_ending(given) {
        return Err(Error::bad(format!("{name} is no kind of picture Rallo reads")));
    }
    let stem = names::safe(&given.file_stem().unwrap_or_default().to_string_lossy());
    let ending = given.extension().unwrap_or_default().to_string_lossy().to_lowercase();
    let numbers = std::iter::once(String::new()).chain((2..100_000).map(|n| format!("-{n}")));
    let folder = folder.to_owned();
    Ok(numbers.map(move |n| folder.join(format!("{stem}{n}.{ending}"))))
}

/// Gives a file that came in whole the first of these names that is free. Nothing is ever replaced, also when several
/// files of one name come in at a time.
fn settle(part: PathBuf, names: impl Iterator<Item = PathBuf>) -> std::io::Result<PathBuf> {
    let mut part = tempfile::TempPath::try_from_path(part)?;
    for name in names {
        match part.persist_noclobber(&name) {
            Ok(()) => return Ok(name),
            Err(e) if e.error.kind() == std::io::ErrorKind::AlreadyExists => part = e.path,
            Err(e) => return Err(e.error),
        }
    }
    Err(std::io::Error::other("no name is free for it"))
}

/// A file that is brought.
#[derive(Deserialize, JsonSchema)]
struct BroughtPath {
    /// Where to.
    #[schemars(regex(pattern = "^[0-9a-f]{32}$"))]
    drop: String,
    /// Its name; it tells what kind of picture it is.
    name: String,
}

/// A file that was taken in.
#[derive(Serialize, JsonSchema)]
struct Brought {
    /// Its name here.
    name: Option<String>,
    /// Its bytes.
    bytes: u64,
}

/// Takes in one file, as it comes.
async fn bring(
    State(app): State<App>,
    Path(BroughtPath { drop, name }): Path<BroughtPath>,
    body: Body,
) -> Result<Json<Brought>> {
    let inside = folder(&app, &drop)?.join("in");
    let counted = inside.clone();
    let count =
        tokio::task::spawn_blocking(move || Ok::<_, std::io::Error>(std::fs::read_dir(counted)?.count()));
    if count.await?.map_err(Error::bad)? >= MOST_FILES {
        return Err(Error::bad(format!("at most {MOST_FILES} pictures at a time; run these first")));
    }
    let names = names_in(&inside, &name)?;
    let part = inside.join(format!(".{}.part", crate::token().map_err(Error::bad)?));
    let took = take(body, &part, &name).await;
    match took {
        Ok(bytes) => {
            let to = tokio::task::spawn_blocking(move || settle(part, names)).await?.map_err(Error::bad)?;
            let name = to.file_name().map(|n| n.to_string_lossy().into_owned());
            Ok(Json(Brought { name, bytes }))
        }
        Err(e) => {
            // What is left of it goes with the drop at the latest.
            let _ = tokio::fs::remove_file(&part).await;
            Err(e)
        }
    }
}

async fn take(body: Body, part: &FilePath, name: &str) -> Result<u64> {
    let cannot = |e: &dyn std::fmt::Display| Error::bad(format!("{name} was not taken in: {e}"));
    let mut file = tokio::fs::File::create_new(part).await.map_err(|e| cannot(&e))?;
    let mut stream = body.into_data_stream();
    let mut bytes = 0u64;
    let mut checked = 0u64;
    while let Some(chunk) = std::future::poll_fn(|cx| Pin::new(&mut stream).poll_next(cx)).await {
        let chunk = chunk.map_err(|e| cannot(&e))?;
        bytes += chunk.len() as u64;
        if bytes > MAX_BYTES {
            return Err(cannot(&format!("it has more than {}", bytes_text(MAX_BYTES))));
        }
        if bytes > checked {
            checked = bytes + 32_000_000;
            let free = part.parent().and_then(free_space::free_bytes);
            if free.is_some_and(|free| free < SPARE) {
                return Err(cannot(&"there is no room left on the server's disk"));
            }
        }
        file.write_all(&chunk).await.map_err(|e| cannot(&e))?;
    }
    file.flush().await.map_err(|e| cannot(&e))?;
    Ok(bytes)
}

/// What is made of what was brought.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct DropRun {
    /// The recipe, by identity.
    recipe: i64,
    /// What it asks, answered.
    #[serde(default)]
    answers: Vec<Answer>,
    /// Folder for the results; without one they are taken as a ZIP.
    #[serde(default)]
    to: Option<String>,
    /// An address the report is sent to when it has ended.
    #[serde(default)]
    report_to: Option<String>,
}

/// A run of what was brought.
#[derive(Serialize, JsonSchema)]
struct DropStarted {
    /// Its number.
    run: i64,
    /// Its pictures.
    count: usize,
}

async fn run(
    State(app): State<App>,
    Path(DropPath { drop }): Path<DropPath>,
    Sent(asked): Sent<DropRun>,
) -> Result<Json<DropStarted>> {
    let folder = folder(&app, &drop)?;
    let row = app.store.recipe(asked.recipe).await?;
    let recipe = super::recipes::followed(&app, Recipe::parse(&row.document)?).await?;
    let recipe = recipe.answered(&answers_of(&asked.answers))?;
    let to = match asked.to.as_deref().map(str::trim).filter(|t| !t.is_empty()) {
        Some(to) => {
            app.roots.future(FilePath::new(to))?;
            PathBuf::from(to)
        }
        None => folder.join("out"),
    };
    let inside = folder.join("in");
    let (of, base) = (recipe.clone(), inside.clone());
    let (sources, planning) = tokio::task::spawn_blocking(move || {
        let found = scan::look_all(&base)?;
        let source = |path: PathBuf| input::Source {
            facts: scan::facts(&path).ok(),
            path,
            decided: Decided::default(),
        };
        let sources: Vec<input::Source> = found.into_iter().map(source).collect();
        let planning = preflight::plan(&of, &sources, &base, Some(&to));
        Ok::<_, std::io::Error>((sources, planning))
    })
    .await?
    .map_err(Error::bad)?;
    if sources.is_empty() {
        return Err(Error::bad("no picture has arrived yet"));
    }
    let written = new_run::written(&planning, &sources, &inside, "dropped pictures", "dropped pictures");
    let (run, items) = written.map_err(Error::bad)?;
    let run = Run {
        recipe_id: Some(row.id),
        recipe_version: row.version,
        brought: Some(folder.to_string_lossy().into_owned()),
        hook: address(asked.report_to.as_deref())?,
        ..run
    };
    let id = app.store.add_run(&run, &items).await?;
    app.queue.added();
    app.queue.tell(id).await?;
    Ok(Json(DropStarted { run: id, count: sources.len() }))
}

async fn give_up(State(app): State<App>, Path(DropPath { drop }): Path<DropPath>) -> Result<Json<Done>> {
    let folder = folder(&app, &drop)?;
    let text = folder.to_string_lossy().into_owned();
    if app.store.is_brought(&text).await? {
        return Err(Error::bad("these pictures belong to a run; cancel that first"));
    }
    tokio::fs::remove_dir_all(&folder).await.map_err(Error::bad)?;
    Ok(Json(Done {}))
}

/// What a run wrote, in one file.
async fn results(State(app): State<App>, Path(Id { id }): Path<Id>) -> Result<Response> {
    let run = app.store.run(id).await?;
    let mut files = Vec::new();
    for item in app.store.items(id).await? {
        for output in &item.outputs {
            // A result that was moved or removed since is not in it.
            if let Ok(path) = app.roots.existing(&output.path) {
                files.push(path);
            }
        }
    }
    if files.is_empty() {
        return Err(Error::bad("this run has no results that are still there"));
    }
    let place = app.data.clone();
    let file = tokio::task::spawn_blocking(move || zip::write(&files, &place))
        .await?
        .map_err(|e| Error::bad(format!("the ZIP could not be written: {e}")))?;
    let bytes = file.metadata().map_err(Error::bad)?.len();
    let name = names::safe(&format!(
        "{} run {id}",
        Recipe::parse(&run.document).map_or_else(|_| "results".into(), |r| r.name)
    ));
    let body = Body::from_stream(ReaderStream::new(tokio::fs::File::from_std(file)));
    let mut answer = attached(body, "application/zip", &format!("{name}.zip"));
    answer.headers_mut().insert(header::CONTENT_LENGTH, bytes.into());
    Ok(answer)
}

/// Removes what is over its time, from hour to hour.
pub async fn tidy(app: App) {
    loop {
        if let Err(e) = tidy_once(&app).await {
            tracing::warn!("dropped pictures were not tidied: {}", e.1);
        }
        tokio::time::sleep(Duration::from_secs(3600)).await;
    }
}

async fn tidy_once(app: &App) -> Result<()> {
    let ago = |by: Duration| SystemTime::now().checked_sub(by).unwrap_or(SystemTime::UNIX_EPOCH);
    let text = |time| jiff::Timestamp::try_from(time).map(text_of);
    let over = text(ago(KEPT)).map_err(Error::bad)?;
    let folder_of_drops = place(&app.data);
    for (run, folder) in app.store.brought_before(&over).await? {
        let folder = PathBuf::from(folder);
        if folder.starts_with(&folder_of_drops) && folder.is_dir() {
            tokio::fs::remove_dir_all(&folder).await.map_err(Error::bad)?;
            tracing::info!("run {run}: its dropped pictures are removed after their time");
        }
    }
    let Ok(mut entries) = tokio::fs::read_dir(&folder_of_drops).await else { return Ok(()) };
    while let Ok(Some(entry)) = entries.next_entry().await {
        let path = entry.path();
        let old = entry.metadata().await.and_then(|m| m.modified()).is_ok_and(|t| t < ago(UNUSED));
        if old && !app.store.is_brought(&path.to_string_lossy()).await? {
            // The next hour tries again.
            let _ = tokio::fs::remove_dir_all(&path).await;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_of_one_name_that_come_in_together_all_stay() {
        let folder = tempfile::tempdir().unwrap();
        let parts: Vec<PathBuf> = (0..8).map(|n| folder.path().join(format!(".{n}.part"))).collect();
        for (n, part) in parts.iter().enumerate() {
            std::fs::write(part, [n as u8; 3]).unwrap();
        }
        let settled = std::thread::scope(|scope| {
            let folder = folder.path();
            let one = |part: PathBuf| {
                scope.spawn(move || settle(part, names_in(folder, "bed.jpg").unwrap()).unwrap())
            };
            let all: Vec<_> = parts.into_iter().map(one).collect();
            all.into_iter().map(|done| done.join().unwrap()).collect::<Vec<_>>()
        });
        let mut kept: Vec<u8> = settled.iter().map(|path| std::fs::read(path).unwrap()[0]).collect();
        kept.sort();
        assert_eq!(kept, [0, 1, 2, 3, 4, 5, 6, 7]);
        assert!(folder.path().join("bed.jpg").exists() && folder.path().join("bed-8.jpg").exists());
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 8, "nothing half is left");
    }
}
