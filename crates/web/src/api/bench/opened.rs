//! The picture on the bench, and what was measured and computed of it lately.

use crate::App;
use crate::api::preview;
use crate::error::{Error, Result};
use crate::workspace;
use rallo_engine::step::View;
use rallo_engine::{Memory, PrefixPixels, Step};
use rallo_job::prelude::*;
use rallo_media::FileSource;
use rallo_recipe::{Overrides, RampFrame, Recipe, ResolveContext};
use rallo_runner::Decided;
use rallo_runner::render::preview::SequenceSample;
use rallo_shoot::Frame;
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
    /// What is known of it as one of a sequence, where the recipe looks at all of them.
    pub(super) sample: Option<Arc<SequenceSample>>,
}

/// Frames that are too many to be looked up for every picture of the bench.
const TOO_MANY: usize = 5000;

/// The frames a run would take, or all where the frame is none of them, and its place.
async fn sequence_of(app: &App, frame: i64) -> Result<Option<(Vec<Frame>, usize)>> {
    let laid = workspace::laid(app).await?;
    let chosen = laid.chosen();
    let frames = if chosen.iter().any(|f| f.id == frame) { chosen } else { laid.ordered().collect() };
    let at = frames.iter().position(|f| f.id == frame);
    Ok(at.map(|at| (frames.into_iter().cloned().collect(), at)))
}

/// What lines have for a frame that is one of a sequence, and what is known of it as that.
struct InSequence {
    overrides: Overrides,
    sample: Option<SequenceSample>,
    /// From 1, and of how many.
    number: usize,
    count: usize,
}

async fn in_sequence(app: &App, frame: i64, recipe: &Recipe) -> Result<InSequence> {
    let mut own = InSequence { overrides: Overrides::default(), sample: None, number: 1, count: 0 };
    let looks_at_all = !recipe.across().is_empty() || recipe.joins_neighbours();
    if !recipe.has_ramps() && !looks_at_all {
        return Ok(own);
    }
    let Some((frames, at)) = sequence_of(app, frame).await? else { return Ok(own) };
    (own.number, own.count) = (at + 1, frames.len());
    if looks_at_all && frames.len() <= TOO_MANY {
        let (shared, recipe, frames) = (app.clone(), recipe.clone(), frames.clone());
        let sample = move || -> Result<Option<SequenceSample>> {
            let frames = frames.iter().map(|f| preview::looked_at(&shared, f)).collect::<Result<Vec<_>>>()?;
            rallo_runner::render::preview::sample(&recipe, frames, at, &shared.previews.memory)
                .map_err(Error::bad)
        };
        own.sample = tokio::task::spawn_blocking(sample).await??;
    }
    if let Some(sample) = &own.sample {
        own.overrides = sample.overrides.clone();
    } else if recipe.has_ramps() {
        let named: Vec<RampFrame> =
            frames.iter().map(|f| RampFrame { name: f.name.clone(), taken: f.taken() }).collect();
        let values = recipe.ramped(&named).swap_remove(at);
        own.overrides = Overrides::new(recipe, &values).map_err(|faults| Error::bad(faults.to_string()))?;
    }
    Ok(own)
}

/// Opens a frame's picture as a recipe reads it.
pub async fn open(app: &App, frame: i64, recipe: &Recipe) -> Result<Open> {
    let row = app.store.frame(frame).await?;
    let path = app.roots.existing(FilePath::new(&row.path))?;
    let InSequence { overrides, sample, number, count } = in_sequence(app, frame, recipe).await?;
    let (app, decode) = (app.clone(), recipe.decode.clone());
    tokio::task::spawn_blocking(move || {
        let source = app.sources.open(&path, &decode)?;
        let decided = Decided {
            shift: row.shift,
            rating: Some(row.rating.clamp(0, 5) as u8),
            keywords: serde_json::from_str(&row.keywords).ok(),
            own: serde_json::from_str(&row.own).unwrap_or_default(),
        };
        let mut about = rallo_runner::resolve_context(&path, Some(&source.facts(&path)), &decided, number);
        about.overrides = overrides;
        about.sequence.count = count;
        let key = format!("{} {}{}", path.display(), row.modified, decode.fingerprint());
        Ok(Open { source, about, key, sample: sample.map(Arc::new) })
    })
    .await?
}
