//! The picture on the bench, and what was measured and computed of it lately.

use crate::App;
use crate::error::{Error, Result};
use crate::workspace;
use rallo_engine::step::View;
use rallo_engine::{Memory, PrefixPixels, Step};
use rallo_job::prelude::*;
use rallo_media::FileSource;
use rallo_recipe::{Overrides, RampFrame, Recipe, ResolveContext};
use rallo_runner::Decided;
use std::path::Path as FilePath;
use std::sync::{Arc, LazyLock, Mutex};

/// What steps measured and were shown lately, so that dragging a value measures nothing again; the last used first.
#[derive(Default)]
pub(super) struct Measured {
    steps: Mutex<Vec<(u64, Arc<dyn Step>)>>,
    views: Mutex<Vec<(u64, Arc<Vec<View>>)>>,
}

pub(super) static MEASURED: LazyLock<Measured> = LazyLock::new(Measured::default);

fn recalled<T: Clone>(entries: &Mutex<Vec<(u64, T)>>, key: u64) -> Option<T> {
    let mut entries = crate::api::lock(entries);
    let at = entries.iter().position(|(k, _)| *k == key)?;
    let entry = entries.remove(at);
    entries.insert(0, entry);
    Some(entries[0].1.clone())
}

fn kept<T>(entries: &Mutex<Vec<(u64, T)>>, key: u64, one: T, most: usize) {
    let mut entries = crate::api::lock(entries);
    entries.insert(0, (key, one));
    entries.truncate(most);
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
pub struct PrefixCache(pub(super) [Mutex<Option<PrefixPixels>>; 2]);

/// A frame whose picture is open.
#[derive(Clone)]
pub struct Open {
    /// The picture.
    pub source: Arc<FileSource>,
    /// What is known of it.
    pub about: ResolveContext,
    /// Which file, in which state.
    pub(super) key: String,
}

/// What lines have for a frame whose values change over the sequence: the frames a run would take, or all where it is none
/// of them.
async fn ramped(app: &App, frame: i64, recipe: &Recipe) -> Result<Overrides> {
    if !recipe.has_ramps() {
        return Ok(Overrides::default());
    }
    let laid = workspace::laid(app).await?;
    let chosen = laid.chosen();
    let frames = if chosen.iter().any(|f| f.id == frame) { chosen } else { laid.ordered().collect() };
    let Some(at) = frames.iter().position(|f| f.id == frame) else { return Ok(Overrides::default()) };
    let named: Vec<RampFrame> =
        frames.iter().map(|f| RampFrame { name: f.name.clone(), taken: f.taken() }).collect();
    let values = recipe.ramped(&named).swap_remove(at);
    Overrides::new(recipe, &values).map_err(|faults| Error::bad(faults.to_string()))
}

/// Opens a frame's picture as a recipe reads it.
pub async fn open(app: &App, frame: i64, recipe: &Recipe) -> Result<Open> {
    let row = app.store.frame(frame).await?;
    let path = app.roots.existing(FilePath::new(&row.path))?;
    let overrides = ramped(app, frame, recipe).await?;
    let (app, decode) = (app.clone(), recipe.decode.clone());
    tokio::task::spawn_blocking(move || {
        let source = app.sources.open(&path, &decode)?;
        let decided = Decided {
            shift: row.shift,
            rating: Some(row.rating.clamp(0, 5) as u8),
            keywords: serde_json::from_str(&row.keywords).ok(),
            own: serde_json::from_str(&row.own).unwrap_or_default(),
        };
        let about = ResolveContext {
            overrides,
            ..rallo_runner::resolve_context(&path, Some(&source.facts(&path)), &decided, 1)
        };
        let key = format!("{} {}{}", path.display(), row.modified, decode.fingerprint());
        Ok(Open { source, about, key })
    })
    .await?
}
