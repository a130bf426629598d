//! The pictures of a run together: how many there are, what is decided about each by what was measured of all, and which
//! lie beside each.

use crate::frame_context::{Decided, decided, resolve_context};
use crate::library::scan::modified_of;
use crate::lock::lock;
use crate::render::fault::Fault;
use crate::render::joined_frames::MadeFrames;
use crate::render::measurements::Measurements;
use rallo_engine::raw::RawView;
use rallo_engine::step::{AcrossPictures, MEASURED_EDGE, Seen};
use rallo_engine::{Orientation, Picture, Plan, Settings, Size, Source, SourceError};
use rallo_job::{FailureKind, RunItem};
use rallo_media::{FileSource, content_hash};
use rallo_recipe::{FrameValue, Overrides, RampFrame, Recipe, ResolveContext};
use rallo_shoot::frame::shifted;
use serde_json::{Value, json};
use std::collections::{BTreeSet, HashMap};
use std::path::PathBuf;
use std::sync::{Arc, Mutex};

/// A picture of a run, as its neighbours see it.
#[derive(Clone, Debug)]
pub(super) struct Frame {
    /// Its file; with no more than its name and its folder's where its bytes were sent.
    pub source: PathBuf,
    /// What people decided about it.
    pub decided: Decided,
    /// Its bytes, where another machine sent them.
    pub bytes: Option<Arc<Vec<u8>>>,
}

/// A picture that is to be one of a sequence.
#[derive(Clone, Debug)]
pub struct SequenceFrame {
    /// Its file.
    pub source: PathBuf,
    /// A number that changes with the file.
    pub stamp: i64,
    /// What people decided about it.
    pub decided: Decided,
}

/// What was measured of a picture, by line.
pub type MeasuredLines = HashMap<usize, Vec<f64>>;

impl SequenceFrame {
    /// The pictures of a run.
    ///
    /// # Errors
    /// [`Fault`] where something that was stored cannot be read.
    pub fn of_items(items: &[RunItem]) -> Result<Vec<Self>, Fault> {
        let frame = |item: &RunItem| {
            let source = PathBuf::from(&item.source);
            let stamp = std::fs::metadata(&source).as_ref().map_or(0, modified_of);
            Ok(Self { stamp, source, decided: decided(item)? })
        };
        items.iter().filter(|item| item.task.is_none()).map(frame).collect()
    }
}

/// What was measured of the pictures of a run.
pub fn measured_of_items(items: &[RunItem]) -> Vec<MeasuredLines> {
    let measured = |item: &RunItem| {
        let measured = item.measured.as_ref().and_then(Value::as_object).into_iter().flatten();
        let by_line = |(line, values): (&String, &Value)| {
            Some((line.parse().ok()?, serde_json::from_value(values.clone()).ok()?))
        };
        measured.filter_map(by_line).collect()
    };
    items.iter().filter(|item| item.task.is_none()).map(measured).collect()
}

/// What the pictures of a run have to do with each other.
#[derive(Clone, Debug, Default)]
pub struct RunSequence {
    /// Pictures in the run.
    pub count: usize,
    overrides: HashMap<usize, Overrides>,
    /// By their places, from 0.
    frames: HashMap<usize, Frame>,
    /// Which frames they are, in a word; empty where that is not known.
    identity: String,
    seen: Arc<SeenLately>,
    /// Hash and length of originals that were looked up to be told to other machines.
    hashes: Arc<Mutex<HashMap<usize, (String, u64)>>>,
    /// Whether frames are only looked at: sizes of reduced ones may be rounded.
    pub(super) is_rough: bool,
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

    /// Of a run of so many pictures those that another machine sent, by their places from 0, with what was decided about each;
    /// `before` is of the same run, whose work need not be done again.
    pub(super) fn of_sent(
        count: usize,
        overrides: HashMap<usize, Overrides>,
        frames: HashMap<usize, Frame>,
        before: &Self,
    ) -> Self {
        let (seen, made) = (before.seen.clone(), before.made.clone());
        Self { count, overrides, frames, seen, made, ..Self::default() }
    }

    /// Pictures of which nothing is decided yet.
    pub fn of_files(files: impl IntoIterator<Item = PathBuf>) -> Self {
        let frame = |source| Frame { source, decided: Decided::default(), bytes: None };
        let frames: HashMap<usize, Frame> = files.into_iter().map(frame).enumerate().collect();
        Self { count: frames.len(), frames, ..Self::default() }
    }

    /// Pictures with what was `measured` of each where the recipe asks for that.
    ///
    /// # Errors
    /// [`Fault`] where what is decided does not fit the recipe.
    pub fn new(
        recipe: &Recipe,
        frames: Vec<SequenceFrame>,
        measured: &[MeasuredLines],
    ) -> Result<Self, Fault> {
        let mut values: Vec<Vec<FrameValue>> = vec![Vec::new(); frames.len()];
        for line in recipe.across() {
            let Some(across) = recipe.steps[line].step.across() else { continue };
            let measured: Vec<Option<Vec<f64>>> =
                measured.iter().map(|measured| measured.get(&line).cloned()).collect();
            for (own, decided) in values.iter_mut().zip(across.decide(&measured)) {
                own.extend(decided.into_iter().map(|(name, value)| (line, name, value)));
            }
        }
        for (own, ramped) in values.iter_mut().zip(ramped(recipe, &frames)) {
            own.extend(ramped);
        }
        Self::with(recipe, frames, values)
    }

    /// The sequence as it is before its pictures are measured: only values that change over it are decided.
    ///
    /// # Errors
    /// [`Fault`] where what is decided does not fit the recipe.
    pub fn unmeasured(recipe: &Recipe, frames: Vec<SequenceFrame>) -> Result<Self, Fault> {
        let values = ramped(recipe, &frames);
        Self::with(recipe, frames, values)
    }

    fn with(
        recipe: &Recipe,
        frames: Vec<SequenceFrame>,
        values: Vec<Vec<FrameValue>>,
    ) -> Result<Self, Fault> {
        let mut overrides = HashMap::new();
        for (at, values) in values.into_iter().enumerate().filter(|(_, values)| !values.is_empty()) {
            let frame_overrides = Overrides::new(recipe, &values)
                .map_err(|faults| Fault::new(FailureKind::Recipe, faults.to_string()))?;
            overrides.insert(at, frame_overrides);
        }
        let identity = identity_of(&frames);
        let frame =
            |frame: SequenceFrame| Frame { source: frame.source, decided: frame.decided, bytes: None };
        let frames: HashMap<usize, Frame> = frames.into_iter().map(frame).enumerate().collect();
        Ok(Self { count: frames.len(), overrides, frames, identity, ..Self::default() })
    }

    /// The same for looking: sizes may be rounded, and `made` is held beyond it.
    pub(crate) fn rough(mut self, made: Arc<MadeFrames>) -> Self {
        self.is_rough = true;
        self.made = made;
        self
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
        let Some(frame) = self.frames.get(&place) else { return Ok(None) };
        let source = match &frame.bytes {
            Some(bytes) => FileSource::from_bytes(bytes.to_vec()),
            None => FileSource::open(&frame.source),
        };
        let source = source.map_err(Fault::from)?.decoding_by(&recipe.decode);
        let facts = source.facts(&frame.source);
        let mut context = resolve_context(&frame.source, Some(&facts), &frame.decided, place + 1);
        context.sequence.count = self.count;
        context.overrides = self.overrides(place);
        Ok(Some(Neighbour { source, context }))
    }
}

impl RunSequence {
    /// The file of the picture at a place, from 0, and what people decided about it; nothing beyond the end.
    pub(super) fn original(&self, place: usize) -> Option<(&PathBuf, &Decided)> {
        self.frames.get(&place).map(|frame| (&frame.source, &frame.decided))
    }

    /// Hash and length of the original at a place, from 0, read once.
    ///
    /// # Errors
    /// [`Fault`] where it cannot be read.
    pub(super) fn hash(&self, place: usize) -> Result<Option<(String, u64)>, Fault> {
        if let Some(known) = lock(&self.hashes).get(&place) {
            return Ok(Some(known.clone()));
        }
        let Some((path, _)) = self.original(place) else { return Ok(None) };
        let source = FileSource::open(path).map_err(Fault::from)?;
        let told = (content_hash(source.bytes()), source.bytes().len() as u64);
        lock(&self.hashes).insert(place, told.clone());
        Ok(Some(told))
    }

    /// A word for pictures of this run that a recipe's document is carried out on.
    pub(super) fn group(&self, document: &str, measures: bool) -> String {
        content_hash(
            json!([self.identity, content_hash(document.as_bytes()), measures]).to_string().as_bytes(),
        )
    }

    /// Places of the pictures that one, at a place from 0, is measured against.
    pub(super) fn against(&self, recipe: &Recipe, at: usize) -> BTreeSet<usize> {
        let across = recipe.across().into_iter().filter_map(|line| recipe.steps[line].step.across());
        let places = across.flat_map(|across| across.against());
        places.filter_map(|other| other.place(at, self.count)).filter(|place| *place != at).collect()
    }

    /// Whether all that a recipe measures of a picture is known.
    pub(crate) fn is_measured(&self, recipe: &Recipe, at: usize, kept: &Measurements) -> bool {
        let is_known = |line: usize| kept.find(&key_of(recipe, line + 1, &self.identity), at).is_some();
        !self.identity.is_empty() && recipe.across().into_iter().all(is_known)
    }

    /// Keeps what another machine measured of a picture of this run.
    pub(crate) fn keep_measured(&self, recipe: &Recipe, at: usize, measured: &Value, kept: &Measurements) {
        for line in recipe.across().into_iter().filter(|_| !self.identity.is_empty()) {
            let values = serde_json::from_value(measured[line.to_string()].clone()).ok();
            kept.keep(&key_of(recipe, line + 1, &self.identity), at, &values);
        }
    }
}

/// A word for frames in their order, that changes with them.
pub(super) fn identity_of(frames: &[SequenceFrame]) -> String {
    let frames: Vec<Value> = frames.iter().map(|f| json!([f.source, f.stamp, f.decided])).collect();
    content_hash(Value::from(frames).to_string().as_bytes())
}

/// A word that is the same for the same first `lines` of a recipe over the same frames.
pub(super) fn key_of(recipe: &Recipe, lines: usize, identity: &str) -> String {
    let document = recipe.to_value();
    let steps = document["steps"].as_array().map_or(&[][..], |steps| &steps[..lines.min(steps.len())]);
    let of = json!([rallo_engine::RESULTS, identity, document["decode"], document["blocks"], steps]);
    content_hash(of.to_string().as_bytes())
}

/// For every picture of a run the values of lines that change over it.
fn ramped(recipe: &Recipe, frames: &[SequenceFrame]) -> Vec<Vec<FrameValue>> {
    if !recipe.has_ramps() {
        return vec![Vec::new(); frames.len()];
    }
    let by_time = recipe.ramps_by_time();
    let frame = |frame: &SequenceFrame| {
        let path = &frame.source;
        let name = path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
        let camera = || rallo_media::decode::facts(path).ok().and_then(|facts| facts.camera.taken);
        let taken = if by_time { camera().and_then(|t| shifted(t, frame.decided.shift)) } else { None };
        RampFrame { name, taken }
    };
    recipe.ramped(&frames.iter().map(frame).collect::<Vec<_>>())
}

/// What was measured of a picture for a line.
pub(crate) fn measured_of(item: &RunItem, line: usize) -> Option<Vec<f64>> {
    serde_json::from_value(item.measured.as_ref()?.get(line.to_string())?.clone()).ok()
}

/// A picture of which several reductions are wanted, the largest first: it is decoded once.
struct DecodedOnce<'a> {
    source: &'a FileSource,
    smallest: Mutex<Option<(u8, Arc<Picture>)>>,
}

impl Source for DecodedOnce<'_> {
    fn size(&self) -> Size {
        self.source.size()
    }
    fn max_level(&self) -> u8 {
        self.source.max_level()
    }
    fn level(&self, level: u8) -> Result<Arc<Picture>, SourceError> {
        let mut smallest = lock(&self.smallest);
        let (mut at, mut picture) = match smallest.take().filter(|(held, _)| *held <= level) {
            Some(held) => held,
            None => (level, self.source.level(level)?),
        };
        while at < level {
            (at, picture) = (at + 1, Arc::new(picture.halved()));
        }
        *smallest = Some((at, picture.clone()));
        Ok(picture)
    }
    fn orientation(&self) -> Orientation {
        self.source.orientation()
    }
    fn seed(&self) -> u64 {
        self.source.seed()
    }
    fn raw(&self) -> Option<Arc<RawView>> {
        self.source.raw()
    }
}

/// The scale that brings a size nearest to a long edge by halves alone; never above 1.
pub(super) fn by_halves(edge: u32, size: Size) -> f64 {
    (f64::from(edge) / f64::from(size.long_edge().max(1))).log2().round().exp2().min(1.0)
}

/// What a line makes of a picture, reduced, to measure it by; nothing where the line does not apply to it.
///
/// # Errors
/// [`Fault`] where the picture cannot be decoded.
fn see(
    recipe: &Recipe,
    line: usize,
    across: &dyn AcrossPictures,
    source: &dyn Source,
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
    // Large ones by halves, as decoders have them without resampling.
    let is_large = across.edge() > MEASURED_EDGE;
    let plan = if is_large { plan.reducing_early() } else { plan };
    let exactly = f64::from(across.edge()) / f64::from(plan.size().long_edge().max(1));
    let scale = if is_large { by_halves(across.edge(), plan.size()) } else { exactly.min(1.0) };
    let program = plan.program(scale);
    let (size, values) = program.render_values(source, program.size().rect())?;
    Ok(Some(across.see(size, &values)))
}

/// What is measured of a picture for all lines of a recipe that decide about all pictures together, by line; `sequence` has
/// the pictures that it is measured against. What was measured before is taken from `kept`, and kept there.
///
/// # Errors
/// [`Fault`] where the picture cannot be decoded.
pub fn measured(
    recipe: &Recipe,
    source: &FileSource,
    context: &ResolveContext,
    sequence: &RunSequence,
    kept: Option<&Measurements>,
) -> Result<Value, Fault> {
    let measured = measured_by(recipe, recipe.across(), (source, context, sequence), kept)?;
    Ok(Value::Object(
        measured.into_iter().filter_map(|(line, values)| Some((line.to_string(), json!(values?)))).collect(),
    ))
}

/// What was measured of a picture for a line; nothing where the line does not apply to it.
pub(super) type LineMeasurement = Option<Vec<f64>>;

/// The same for some of those lines; nothing for one that does not apply to the picture.
pub(super) fn measured_by(
    recipe: &Recipe,
    mut lines: Vec<usize>,
    (source, context, sequence): (&FileSource, &ResolveContext, &RunSequence),
    kept: Option<&Measurements>,
) -> Result<Vec<(usize, LineMeasurement)>, Fault> {
    let edge = |line: &usize| recipe.steps[*line].step.across().map_or(0, |across| across.edge());
    lines.sort_by_key(|line| std::cmp::Reverse(edge(line)));
    let kept = kept.filter(|_| !sequence.identity.is_empty());
    let place = context.sequence.number.saturating_sub(1);
    let source = DecodedOnce { source, smallest: Mutex::default() };
    let one = |line: usize| {
        let key = kept.map(|kept| (kept, key_of(recipe, line + 1, &sequence.identity)));
        if let Some(known) = key.as_ref().and_then(|(kept, key)| kept.find(key, place)) {
            return Ok((line, known));
        }
        let values = measured_line(recipe, line, (&source, context, sequence))?;
        if let Some((kept, key)) = key {
            kept.keep(&key, place, &values);
        }
        Ok((line, values))
    };
    lines.into_iter().map(one).collect()
}

fn measured_line(
    recipe: &Recipe,
    line: usize,
    (source, context, sequence): (&dyn Source, &ResolveContext, &RunSequence),
) -> Result<LineMeasurement, Fault> {
    let Some(across) = recipe.steps[line].step.across() else { return Ok(None) };
    let at = context.sequence.number.saturating_sub(1);
    let others = across.against();
    let known = if others.is_empty() { None } else { sequence.seen.find((line, at)) };
    let Some(own) = known.map_or_else(|| see(recipe, line, across, source, context), |s| Ok(Some(s)))? else {
        return Ok(None);
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
    Ok(Some(across.measure(&own, &other)))
}
