//! The pictures of a run together: how many there are, what is decided about each by what was measured of all, and which
//! lie beside each.

use crate::frame_context::{Decided, decided, resolve_context};
use crate::lock::lock;
use crate::render::fault::Fault;
use crate::render::joined_frames::MadeFrames;
use rallo_engine::step::{AcrossPictures, Seen};
use rallo_engine::{Plan, Settings, Source};
use rallo_job::{FailureKind, RunItem};
use rallo_media::FileSource;
use rallo_recipe::{FrameValue, Overrides, RampFrame, Recipe, ResolveContext};
use rallo_shoot::frame::shifted;
use serde_json::{Map, Value, json};
use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::{Arc, Mutex};

/// A picture of a run, as its neighbours see it.
#[derive(Clone, Debug)]
struct Frame {
    source: PathBuf,
    decided: Decided,
}

/// What the pictures of a run have to do with each other.
#[derive(Clone, Debug, Default)]
pub struct RunSequence {
    /// Pictures in the run.
    pub count: usize,
    overrides: HashMap<usize, Overrides>,
    frames: Vec<Frame>,
    seen: Arc<SeenLately>,
    /// What was made of pictures to be joined.
    pub(super) made: Arc<MadeFrames>,
}

/// Pictures that were seen to be measured, or others against them: by line and place, the last used one last. Not waited for
/// by whoever else needs one: a thread that waits may be the one that computes.
#[derive(Default)]
struct SeenLately(Mutex<Vec<((usize, usize), Seen)>>);

/// So many are held; each takes a few megabytes.
const MOST_SEEN: usize = 8;

impl std::fmt::Debug for SeenLately {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_tuple("SeenLately").field(&lock(&self.0).len()).finish()
    }
}

impl SeenLately {
    fn find(&self, key: (usize, usize)) -> Option<Seen> {
        let mut held = lock(&self.0);
        let at = held.iter().position(|(known, _)| *known == key)?;
        let found = held.remove(at);
        held.push(found.clone());
        Some(found.1)
    }

    fn keep(&self, key: (usize, usize), seen: Seen) {
        let mut held = lock(&self.0);
        held.retain(|(known, _)| *known != key);
        held.push((key, seen));
        if held.len() > MOST_SEEN {
            held.remove(0);
        }
    }
}

/// A picture beside another one.
pub struct Neighbour {
    /// It, opened.
    pub source: FileSource,
    /// What its lines depend on.
    pub context: ResolveContext,
}

impl RunSequence {
    /// A run of so many pictures of which none depends on another.
    pub fn of(count: usize) -> Self {
        Self { count, ..Self::default() }
    }

    /// Pictures of which nothing is decided yet.
    pub fn of_files(files: impl IntoIterator<Item = PathBuf>) -> Self {
        let frame = |source| Frame { source, decided: Decided::default() };
        let frames: Vec<Frame> = files.into_iter().map(frame).collect();
        Self { count: frames.len(), frames, ..Self::default() }
    }

    /// The sequence of a run's items, every one of which is measured where the recipe asks for that.
    ///
    /// # Errors
    /// [`Fault`] where something that was stored cannot be read, or what is decided does not fit the recipe.
    pub fn new(recipe: &Recipe, items: &[RunItem]) -> Result<Self, Fault> {
        let pictures: Vec<&RunItem> = items.iter().filter(|item| item.task.is_none()).collect();
        let mut values: Vec<Vec<FrameValue>> = vec![Vec::new(); pictures.len()];
        for line in recipe.across() {
            let Some(across) = recipe.steps[line].step.across() else { continue };
            let measured: Vec<Option<Vec<f64>>> = pictures.iter().map(|i| measured_of(i, line)).collect();
            for (own, decided) in values.iter_mut().zip(across.decide(&measured)) {
                own.extend(decided.into_iter().map(|(name, value)| (line, name, value)));
            }
        }
        for (own, ramped) in values.iter_mut().zip(ramped(recipe, &pictures)?) {
            own.extend(ramped);
        }
        Self::with(recipe, &pictures, values)
    }

    /// The sequence as it is before its items are measured: only values that change over it are decided.
    ///
    /// # Errors
    /// [`Fault`] where something that was stored cannot be read, or what is decided does not fit the recipe.
    pub fn unmeasured(recipe: &Recipe, items: &[RunItem]) -> Result<Self, Fault> {
        let pictures: Vec<&RunItem> = items.iter().filter(|item| item.task.is_none()).collect();
        Self::with(recipe, &pictures, ramped(recipe, &pictures)?)
    }

    fn with(recipe: &Recipe, pictures: &[&RunItem], values: Vec<Vec<FrameValue>>) -> Result<Self, Fault> {
        let mut overrides = HashMap::new();
        for (at, values) in values.into_iter().enumerate().filter(|(_, values)| !values.is_empty()) {
            let frame_overrides = Overrides::new(recipe, &values)
                .map_err(|faults| Fault::new(FailureKind::Recipe, faults.to_string()))?;
            overrides.insert(at, frame_overrides);
        }
        let frame =
            |item: &&RunItem| Ok(Frame { source: item.source.clone().into(), decided: decided(item)? });
        let frames = pictures.iter().map(frame).collect::<Result<Vec<_>, Fault>>()?;
        Ok(Self { count: pictures.len(), overrides, frames, ..Self::default() })
    }

    /// What was decided about the picture at a place, from 0.
    pub fn overrides(&self, at: usize) -> Overrides {
        self.overrides.get(&at).cloned().unwrap_or_default()
    }

    /// The picture at a place, from 0; nothing beyond the end.
    ///
    /// # Errors
    /// [`Fault`] where it cannot be opened.
    pub fn frame(&self, recipe: &Recipe, place: usize) -> Result<Option<Neighbour>, Fault> {
        let Some(frame) = self.frames.get(place) else { return Ok(None) };
        let source = FileSource::open(&frame.source).map_err(Fault::from)?.decoding_by(&recipe.decode);
        let facts = source.facts(&frame.source);
        let mut context = resolve_context(&frame.source, Some(&facts), &frame.decided, place + 1);
        context.sequence.count = self.count;
        context.overrides = self.overrides(place);
        Ok(Some(Neighbour { source, context }))
    }
}

/// For every picture of a run the values of lines that change over it.
fn ramped(recipe: &Recipe, pictures: &[&RunItem]) -> Result<Vec<Vec<FrameValue>>, Fault> {
    if !recipe.has_ramps() {
        return Ok(vec![Vec::new(); pictures.len()]);
    }
    let by_time = recipe.ramps_by_time();
    let frame = |item: &&RunItem| {
        let path = PathBuf::from(&item.source);
        let name = path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
        let decided = decided(item)?;
        let camera = || rallo_media::decode::facts(&path).ok().and_then(|facts| facts.camera.taken);
        let taken = if by_time { camera().and_then(|t| shifted(t, decided.shift)) } else { None };
        Ok(RampFrame { name, taken })
    };
    let frames = pictures.iter().map(frame).collect::<Result<Vec<_>, Fault>>()?;
    Ok(recipe.ramped(&frames))
}

/// What was measured of a picture for a line.
pub(crate) fn measured_of(item: &RunItem, line: usize) -> Option<Vec<f64>> {
    serde_json::from_value(item.measured.as_ref()?.get(line.to_string())?.clone()).ok()
}

/// What a line makes of a picture, reduced, to measure it by; nothing where the line does not apply to it.
///
/// # Errors
/// [`Fault`] where the picture cannot be decoded.
fn see(
    recipe: &Recipe,
    line: usize,
    across: &dyn AcrossPictures,
    source: &FileSource,
    context: &ResolveContext,
) -> Result<Option<Seen>, Fault> {
    let placed = recipe.placed(context);
    if !placed.iter().any(|(at, _)| *at == Some(line)) {
        return Ok(None);
    }
    let before: Vec<Settings> = placed
        .into_iter()
        .take_while(|(at, _)| at.is_none_or(|at| at < line))
        .map(|(_, settings)| settings)
        .collect();
    let plan = Plan::for_picture(before, source)?;
    let edge = f64::from(plan.size().long_edge().max(1));
    let program = plan.program((f64::from(across.edge()) / edge).min(1.0));
    let (size, values) = program.render_values(source as &dyn Source, program.size().rect())?;
    Ok(Some(across.see(size, &values)))
}

/// What is measured of a picture for all lines of a recipe that decide about all pictures together, by line; `sequence` has
/// the pictures that it is measured against.
///
/// # Errors
/// [`Fault`] where the picture cannot be decoded.
pub fn measured(
    recipe: &Recipe,
    source: &FileSource,
    context: &ResolveContext,
    sequence: &RunSequence,
) -> Result<Value, Fault> {
    let at = context.sequence.number.saturating_sub(1);
    let mut by_line = Map::new();
    for line in recipe.across() {
        let Some(across) = recipe.steps[line].step.across() else { continue };
        let others = across.against();
        let known = if others.is_empty() { None } else { sequence.seen.find((line, at)) };
        let Some(own) = known.map_or_else(|| see(recipe, line, across, source, context), |s| Ok(Some(s)))?
        else {
            continue;
        };
        if !others.is_empty() {
            sequence.seen.keep((line, at), own.clone());
        }
        let other = |which: usize| -> Option<Seen> {
            let place = others.get(which)?.place(at, sequence.count)?;
            if place == at {
                return Some(own.clone());
            }
            if let Some(known) = sequence.seen.find((line, place)) {
                return Some(known);
            }
            // One that cannot be read fails in its own turn.
            let Neighbour { source, context } = sequence.frame(recipe, place).ok().flatten()?;
            let seen = see(recipe, line, across, &source, &context).ok().flatten()?;
            sequence.seen.keep((line, place), seen.clone());
            Some(seen)
        };
        by_line.insert(line.to_string(), json!(across.measure(&own, &other)));
    }
    Ok(Value::Object(by_line))
}
