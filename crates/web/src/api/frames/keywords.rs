//! Keywords of one's own, and XMP files beside frames.

use crate::api::frames::set_of;
use crate::error::Result;
use crate::request::Sent;
use crate::{App, workspace};
use axum::Json;
use axum::extract::State;
use rallo_job::prelude::*;
use rallo_media::metadata::xmp::{self, Sidecar};
use rallo_shoot::Frame;
use rallo_shoot::frame::Marks;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::{HashMap, HashSet};

/// Which XMP files are written or read.
#[derive(Deserialize, JsonSchema)]
pub struct Sidecars {
    /// The frames beside which they lie.
    pub(super) ids: Vec<i64>,
    /// Write, or read.
    write: bool,
}

/// What came of it.
#[derive(Serialize, JsonSchema)]
pub(super) struct SidecarsDone {
    /// Files written, or read.
    pub(super) count: usize,
    /// What could not be, and why.
    trouble: Vec<String>,
}

/// Reads ratings and keywords from sidecars, or writes them; sidecars of other programs are left alone.
pub(super) async fn sidecars(
    State(app): State<App>,
    Sent(asked): Sent<Sidecars>,
) -> Result<Json<SidecarsDone>> {
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

pub(crate) async fn kept_keywords(app: &App) -> Result<Vec<String>> {
    let text = app.store.setting("keywords").await?;
    Ok(text.and_then(|t| serde_json::from_str(&t).ok()).unwrap_or_default())
}

pub(super) async fn remember_keywords(app: &App, words: &[String]) -> Result<()> {
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
pub(super) async fn keywords(State(app): State<App>) -> Result<Json<Vec<String>>> {
    Ok(Json(kept_keywords(&app).await?))
}

pub(super) async fn set_keywords(
    State(app): State<App>,
    Sent(words): Sent<Vec<String>>,
) -> Result<Json<Vec<String>>> {
    app.store.set_setting("keywords", "[]").await?;
    remember_keywords(&app, &words).await?;
    keywords(State(app)).await
}
