//! A sequence looked at before it is made: its frames small, as the whole recipe will make them, with what its lines decide about all
//! frames together and what they join. What was measured and made is held, so that a changed line computes only what depends
//! on it.

mod joined_sample;
mod memory;
mod sample;

pub use crate::render::preview::joined_sample::JoinedSample;
pub use crate::render::preview::memory::PreviewMemory;
pub use crate::render::preview::sample::{SequenceSample, sample};

use crate::frame_context::Decided;
use crate::lock::lock;
use crate::render::fault::Fault;
use crate::render::intermediate::ready_until;
use crate::render::sequence::{
    LineMeasurement, Neighbour, RunSequence, SequenceFrame, identity_of, key_of, measured_by,
};
use rallo_engine::OutputProfile;
use rallo_job::FailureKind;
use rallo_media::{Chroma, Encoding, Extras};
use rallo_recipe::{Line, Recipe};
use rayon::prelude::*;
use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, OnceLock};

/// Long edge of the pictures, about: they are reduced by halves, as decoders have them.
const EDGE: f64 = 600.0;

/// A frame to be looked at.
#[derive(Clone, Debug)]
pub struct PreviewFrame {
    /// Its file.
    pub path: PathBuf,
    /// A number that changes with the file.
    pub stamp: i64,
    /// What people decided about it.
    pub decided: Decided,
}

/// Which pictures of a sequence are looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Side {
    /// As the recipe makes them.
    Made,
    /// As they are, framed alike.
    Untouched,
}

/// A recipe over frames.
struct Look {
    recipe: Recipe,
    frames: Vec<SequenceFrame>,
    /// What the lines and the frames are, in a word.
    key: String,
}

impl Look {
    /// A text that is the same for the same first `lines` over the same frames.
    fn key_of(&self, lines: usize) -> String {
        key_of(&self.recipe, lines, &self.key)
    }

    fn key_of_all(&self) -> String {
        self.key_of(self.recipe.steps.len())
    }

    /// The sequence, with values that are `decided` or without.
    fn sequence(&self, decided: bool, memory: &PreviewMemory) -> Result<RunSequence, Fault> {
        let frames = self.frames.clone();
        let sequence = match decided {
            true => RunSequence::new(&self.recipe, frames)?,
            false => RunSequence::unmeasured(&self.recipe, frames)?,
        };
        let joins = self.recipe.steps.iter().rposition(|line| line.step.joins().is_some());
        let made = joins.map(|line| memory.made(format!("{} {decided}", self.key_of(line))));
        Ok(sequence.rough(made.unwrap_or_default()))
    }
}

/// A sequence being looked at.
pub struct Preview {
    made: Look,
    untouched: Look,
    memory: Arc<PreviewMemory>,
    /// Titles of lines that are left out, since they take too long for a look.
    left_out: Vec<&'static str>,
    /// Before anything is measured, of either side.
    plain: [RunSequence; 2],
    /// With what was decided.
    decided: OnceLock<Result<RunSequence, Fault>>,
    measured: AtomicUsize,
    asked: Mutex<std::time::Instant>,
}

/// Whether a line belongs to how frames are framed alone, for each frame by itself.
fn frames_alone(line: &Line) -> bool {
    line.moves() && line.step.across().is_none() && line.step.joins().is_none()
}

impl Preview {
    /// A look at frames through a recipe.
    ///
    /// # Errors
    /// [`Fault`] where its values that change over the sequence do not fit.
    pub fn new(recipe: &Recipe, frames: &[PreviewFrame], memory: Arc<PreviewMemory>) -> Result<Self, Fault> {
        let mut recipe = recipe.clone();
        let mut left_out = Vec::new();
        for line in recipe.steps.iter_mut().filter(|line| line.on && line.kind().info.facts.expensive) {
            line.on = false;
            left_out.push(line.kind().info.title);
        }
        Self::whole(recipe, left_out, frames, memory)
    }

    /// The same of all lines, whatever they take.
    fn whole(
        recipe: Recipe,
        left_out: Vec<&'static str>,
        frames: &[PreviewFrame],
        memory: Arc<PreviewMemory>,
    ) -> Result<Self, Fault> {
        let frames: Vec<SequenceFrame> = frames
            .iter()
            .map(|frame| SequenceFrame {
                source: frame.path.clone(),
                stamp: frame.stamp,
                decided: frame.decided.clone(),
                measured: HashMap::new(),
            })
            .collect();
        let key = identity_of(&frames);
        let mut untouched = recipe.clone();
        untouched.steps.retain(frames_alone);
        let untouched = Look { recipe: untouched, frames: frames.clone(), key: key.clone() };
        let made = Look { recipe, frames, key };
        let plain = [made.sequence(false, &memory)?, untouched.sequence(false, &memory)?];
        let decided = match made.recipe.across().is_empty() {
            true => OnceLock::from(Ok(plain[0].clone())),
            false => OnceLock::new(),
        };
        Ok(Self {
            made,
            untouched,
            memory,
            left_out,
            plain,
            decided,
            measured: AtomicUsize::new(0),
            asked: Mutex::new(std::time::Instant::now()),
        })
    }

    /// A word that is the same for the same recipe over the same frames.
    pub fn key(&self) -> String {
        self.made.key_of_all()[..16].to_owned()
    }

    /// Frames.
    pub fn count(&self) -> usize {
        self.made.frames.len()
    }

    /// Frames that are measured, where lines decide about all of them together.
    pub fn measured(&self) -> usize {
        if self.is_decided() { self.count() } else { self.measured.load(Ordering::Relaxed) }
    }

    /// Whether those lines have decided.
    pub fn is_decided(&self) -> bool {
        self.decided.get().is_some()
    }

    /// Titles of lines that are left out.
    pub fn left_out(&self) -> &[&'static str] {
        &self.left_out
    }

    /// How many pictures of what is decided are made.
    pub fn made(&self) -> usize {
        let key = self.picture_key(Side::Made, true);
        (0..self.count()).filter(|place| self.memory.pictures.peek(&(key.clone(), *place)).is_some()).count()
    }

    /// How long nobody asked for a picture.
    pub fn idle(&self) -> std::time::Duration {
        lock(&self.asked).elapsed()
    }

    /// Says that somebody looks.
    pub fn looked_at(&self) {
        *lock(&self.asked) = std::time::Instant::now();
    }

    /// Measures every frame for the lines that decide about all together, and decides; not where it is `given_up` meanwhile.
    pub fn measure(&self, given_up: impl Fn() -> bool + Sync) {
        if self.is_decided() {
            return;
        }
        let recipe = &self.made.recipe;
        let lines: Vec<(usize, String)> =
            recipe.across().into_iter().map(|line| (line, self.made.key_of(line + 1))).collect();
        let kept = &*self.memory.measured;
        let one = |place: usize| -> HashMap<usize, Vec<f64>> {
            let known = |(line, key): &(usize, String)| Some((*line, kept.find(key, place)?));
            let measured = match lines.iter().map(known).collect::<Option<Vec<_>>>() {
                Some(known) => known,
                None if given_up() => Vec::new(),
                None => {
                    // A frame that cannot be read has nothing, as in a run.
                    let frame = self.plain[0].frame(recipe, place).ok().flatten();
                    let of = frame.as_ref().map(|f| (&f.source, &f.context, &self.plain[0]));
                    let new = of.and_then(|of| measured_by(recipe, recipe.across(), of, Some(kept)).ok());
                    new.unwrap_or_else(|| {
                        lines.iter().for_each(|(_, key)| kept.keep(key, place, &None));
                        Vec::new()
                    })
                }
            };
            self.measured.fetch_add(1, Ordering::Relaxed);
            measured.into_iter().filter_map(|(line, values)| Some((line, values?))).collect()
        };
        let measured: Vec<_> = (0..self.count()).into_par_iter().with_max_len(1).map(one).collect();
        if !given_up() {
            self.decide(measured);
        }
    }

    /// Decides, by what was measured of each frame.
    fn decide(&self, measured: Vec<HashMap<usize, Vec<f64>>>) {
        let recipe = &self.made.recipe;
        let frames = self.made.frames.iter().cloned().zip(measured);
        let frames = frames.map(|(frame, measured)| SequenceFrame { measured, ..frame }).collect();
        let look = Look { recipe: recipe.clone(), frames, key: self.made.key.clone() };
        let _ = self.decided.set(look.sequence(true, &self.memory));
    }

    /// Makes all pictures that are not made yet, the first ones first; not where it is `given_up` meanwhile.
    pub fn make_all(&self, given_up: impl Fn() -> bool + Sync) {
        (0..self.count()).into_par_iter().with_max_len(1).for_each(|place| {
            if !given_up() {
                // One that cannot be made is told when it is asked for.
                let _ = self.picture(place, Side::Made);
            }
        });
    }

    /// Decides where all frames were measured for the same lines before; whether that is so.
    fn decide_by_memory(&self) -> bool {
        let recipe = &self.made.recipe;
        let lines: Vec<(usize, String)> =
            recipe.across().into_iter().map(|line| (line, self.made.key_of(line + 1))).collect();
        let known = |place: usize| -> Option<HashMap<usize, Vec<f64>>> {
            let of = |(line, key): &(usize, String)| Some((*line, self.memory.measured.find(key, place)?));
            let by_line: Vec<(usize, LineMeasurement)> = lines.iter().map(of).collect::<Option<_>>()?;
            Some(by_line.into_iter().filter_map(|(line, values)| Some((line, values?))).collect())
        };
        if !self.is_decided() {
            let Some(measured) = (0..self.count()).map(known).collect::<Option<Vec<_>>>() else {
                return false;
            };
            self.decide(measured);
        }
        true
    }

    fn picture_key(&self, side: Side, is_decided: bool) -> String {
        match side {
            Side::Made => format!("{} {is_decided}", self.made.key_of_all()),
            Side::Untouched => format!("{} untouched", self.untouched.key_of_all()),
        }
    }

    /// A frame as a JPEG: with what is decided where that is known.
    ///
    /// # Errors
    /// [`Fault`] where it cannot be made.
    pub fn picture(&self, place: usize, side: Side) -> Result<Arc<Vec<u8>>, Fault> {
        let (look, sequence, is_decided) = match (side, self.decided.get()) {
            (Side::Untouched, _) => (&self.untouched, &self.plain[1], false),
            (Side::Made, Some(Ok(decided))) => (&self.made, decided, true),
            (Side::Made, Some(Err(fault))) => return Err(fault.clone()),
            (Side::Made, None) => (&self.made, &self.plain[0], false),
        };
        let key = (self.picture_key(side, is_decided), place);
        if let Some(known) = self.memory.pictures.get(&key) {
            return Ok(known);
        }
        let picture = Arc::new(rendered(&look.recipe, sequence, place)?);
        self.memory.pictures.insert(key, picture.clone());
        Ok(picture)
    }
}

/// A frame through a recipe, small, as a JPEG.
fn rendered(recipe: &Recipe, sequence: &RunSequence, place: usize) -> Result<Vec<u8>, Fault> {
    let Some(Neighbour { source, context }) = sequence.frame(recipe, place)? else {
        let reason = format!("there is no frame {} in the sequence", place + 1);
        return Err(Fault::new(FailureKind::Inside, reason));
    };
    let ready = ready_until(recipe, None, (&source, &context, sequence), None, Vec::new())?.reducing_early();
    let edge = f64::from(ready.plan.size().long_edge().max(1));
    let program = ready.plan.program((EDGE / edge).log2().round().exp2().min(1.0));
    let srgb = OutputProfile::Srgb.colour();
    let picture = program.render(ready.source(), program.size().rect(), srgb)?;
    let encoding = Encoding::Jpeg { quality: 88, chroma: Chroma::Half, progressive: false, optimised: false };
    Ok(rallo_media::encode(&picture, encoding, &Extras::default())?)
}
