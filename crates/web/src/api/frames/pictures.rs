//! Frames as small pictures, and parts of them at full size.

use crate::App;
use crate::api::answer::{FOR_SCREENS, Image};
use crate::error::{Error, Result};
use crate::request::{Id, Path, Query};
use axum::extract::State;
use rallo_engine::{DecodeSettings, OutputProfile, Plan, RESULTS, Rect, Source};
use rallo_job::prelude::*;
use rallo_media::{Chroma, Encoding, Extras, FileSource, content_hash};
use rallo_runner::schedule::{self, Class};
use schemars::JsonSchema;
use serde::Deserialize;
use std::path::{Path as FilePath, PathBuf};

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

/// Of a picture that is cut off or damaged, people see the part that is there.
fn as_far_as_it_goes() -> DecodeSettings {
    DecodeSettings { use_part: true, ..DecodeSettings::default() }
}

/// Long edges reduced pictures are made at: grid, film, whole window.
pub(super) const EDGES: [u32; 4] = [160, 400, 960, 1920];

/// Writes a file of the cache under a name of its own first, so that nobody ever reads half of it.
pub(super) fn keep_whole(file: &FilePath, bytes: &[u8]) -> std::io::Result<()> {
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
        let source = FileSource::open(&path)?.decoding_by(&as_far_as_it_goes());
        let bytes = small(&source, f64::from(edge))?;
        // A cache that cannot be written is no reason to show nothing.
        let _ = keep_whole(&file, &bytes);
        Ok(bytes)
    })
    .await??;
    Ok(Image { bytes, kind: "image/jpeg", keep: true })
}

/// How large a picture is wanted.
#[derive(Deserialize, JsonSchema)]
pub(super) struct Edge {
    /// Its long edge: 160, 400, 960 or 1920 pixels; 400 where it is another.
    #[serde(default)]
    edge: u32,
}

pub(super) async fn thumb(
    State(app): State<App>,
    Path(Id { id }): Path<Id>,
    Query(Edge { edge }): Query<Edge>,
) -> Result<Image> {
    let frame = app.store.frame(id).await?;
    let key = format!("{}|{}|{}|{RESULTS}", frame.path, frame.bytes, frame.modified);
    let path = app.roots.existing(FilePath::new(&frame.path))?;
    let edge = if EDGES.contains(&edge) { edge } else { 400 };
    cached_thumb(&app, path, key, edge).await
}

/// A part of a picture, in its pixels.
#[derive(Deserialize, JsonSchema)]
pub(super) struct Part {
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
pub(super) async fn part(
    State(app): State<App>,
    Path(Id { id }): Path<Id>,
    Query(part): Query<Part>,
) -> Result<Image> {
    let frame = app.store.frame(id).await?;
    let path = app.roots.existing(FilePath::new(&frame.path))?;
    let shared = app.clone();
    // A sound picture is the one that the bench has open.
    let decode = if frame.problem.is_some() { as_far_as_it_goes() } else { DecodeSettings::default() };
    let bytes = schedule::ask(Class::Eye, move || -> Result<Vec<u8>> {
        let source = shared.sources.open(&path, &decode)?;
        let program = Plan::new(Vec::new(), source.size()).map_err(Error::bad)?.program(1.0);
        let rect = Rect::new(part.x, part.y, part.w.min(8192), part.h.min(8192));
        let picture = program.render(&*source, rect, OutputProfile::Srgb.colour()).map_err(Error::bad)?;
        Ok(rallo_media::encode(&picture, FOR_SCREENS, &Extras::default())?)
    })
    .await??;
    Ok(Image { bytes, kind: "image/jpeg", keep: true })
}
