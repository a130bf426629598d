//! A sequence looked at before it is made: its frames small, as the whole recipe will make them, with what its lines decide about all
//! frames together and what they join. What was measured and made is held, so that a changed line computes only what depends
//! on it.

mod joined_sample;
mod memory;
mod sample;

pub use crate::render::preview::joined_sample::JoinedSample;
pub use crate::render::preview::memory::PreviewMemory;
pub use crate::render::preview::sample::{SequenceSample, sample};

use crate::lock::lock;
use crate::render::fault::Fault;
use crate::render::intermediate::ready_until;
use crate::render::joined_frames::Joins;
use crate::render::sequence::{
    LineMeasurement, MeasuredLines, Neighbour, RunSequence, SequenceFrame, by_halves, identity_of, key_of,
    measured_by,
};
use rallo_engine::OutputProfile;
use rallo_job::FailureKind;
use rallo_media::{Chroma, Encoding, Extras};
use rallo_recipe::{Line, Recipe};
use rayon::prelude::*;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, OnceLock};

/// Long edge of the pictures, about: they are reduced by halves, as decoders have them.
const EDGE: u32 = 600;

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
    /// Which frames they are, in a word.
    identity: String,
}

impl Look {
    fn new(recipe: Recipe, frames: Vec<SequenceFrame>) -> Self {
        Self { identity: identity_of(&frames), recipe, frames }
    }

    /// A word that is the same for the whole recipe over the same frames.
    fn key(&self) -> String {
        key_of(&self.recipe, self.recipe.steps.len(), &self.identity)
    }

    /// Lines that decide about all frames together, each with a word for what they measure.
    fn lines(&self) -> Vec<(usize, String)> {
        let line = |line| (line, key_of(&self.recipe, line + 1, &self.identity));
        self.recipe.across().into_iter().map(line).collect()
    }

    /// What was measured of a frame for these lines; nothing before all of that is.
    fn known(lines: &[(usize, String)], place: usize, memory: &PreviewMemory) -> Option<MeasuredLines> {
        let of = |(line, key): &(usize, String)| {
            let known = memory.measured.find(key, place);
            let is_unreadable = || lock(&memory.unreadable).contains(&(key.clone(), place));
            Some((*line, known.or_else(|| is_unreadable().then_some(None))?))
        };
        let by_line: Vec<(usize, LineMeasurement)> = lines.iter().map(of).collect::<Option<_>>()?;
        Some(by_line.into_iter().filter_map(|(line, values)| Some((line, values?))).collect())
    }

    /// The sequence, with what is decided by what was `measured`, or before anything is decided.
    fn sequence(
        &self,
        measured: Option<&[MeasuredLines]>,
        memory: &PreviewMemory,
    ) -> Result<RunSequence, Fault> {
        let frames = self.frames.clone();
        let sequence = match measured {
            Some(measured) => RunSequence::new(&self.recipe, frames, measured)?,
            None => RunSequence::unmeasured(&self.recipe, frames)?,
        };
        // The lines that make what is joined last.
        let last = |(at, line): (usize, &Line)| Some(Joins::of(&*line.step)?.lines(at));
        let joins = self.recipe.steps.iter().enumerate().rev().find_map(last);
        let key = |line| format!("{} {}", key_of(&self.recipe, line, &self.identity), measured.is_some());
        let made = joins.map(|lines| memory.made(key(lines)));
        Ok(sequence.rough(made.unwrap_or_default()))
    }
}

/// A sequence being looked at.
pub struct Preview {
    made: Look,
    untouched: Look,
    /// Words for what either side shows.
    keys: [String; 2],
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
    line.moves() && line.step.across().is_none() && Joins::of(&*line.step).is_none()
}

impl Preview {
    /// A look at frames through a recipe.
    ///
    /// # Errors
    /// [`Fault`] where its values that change over the sequence do not fit.
    pub fn new(
        recipe: &Recipe,
        frames: Vec<SequenceFrame>,
        memory: Arc<PreviewMemory>,
    ) -> Result<Self, Fault> {
        let mut recipe = recipe.clone();
        let mut left_out = Vec::new();
        for line in recipe.steps.iter_mut().filter(|line| line.on && line.kind().info.facts.expensive) {
            line.on = false;
            left_out.push(line.kind().info.title);
        }
        let mut untouched = recipe.clone();
        untouched.steps.retain(frames_alone);
        let untouched = Look::new(untouched, frames.clone());
        let made = Look::new(recipe, frames);
        let plain = [made.sequence(None, &memory)?, untouched.sequence(None, &memory)?];
        let decided = match made.recipe.across().is_empty() {
            true => OnceLock::from(Ok(plain[0].clone())),
            false => OnceLock::new(),
        };
        Ok(Self {
            keys: [made.key(), untouched.key()],
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
    pub fn key(&self) -> &str {
        &self.keys[0][..16]
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
        let (recipe, lines) = (&self.made.recipe, self.made.lines());
        let one = |place: usize| -> MeasuredLines {
            if Look::known(&lines, place, &self.memory).is_none() && !given_up() {
                let frame = self.plain[0].frame(recipe, place).ok().flatten();
                let of = frame.as_ref().map(|f| (&f.source, &f.context, &self.plain[0]));
                let kept = Some(&*self.memory.measured);
                if of.and_then(|of| measured_by(recipe, recipe.across(), of, kept).ok()).is_none() {
                    // A frame that cannot be read has nothing, as in a run.
                    let unreadable = lines.iter().map(|(_, key)| (key.clone(), place));
                    lock(&self.memory.unreadable).extend(unreadable);
                }
            }
            self.measured.fetch_add(1, Ordering::Relaxed);
            Look::known(&lines, place, &self.memory).unwrap_or_default()
        };
        let measured: Vec<_> = (0..self.count()).into_par_iter().with_max_len(1).map(one).collect();
        if !given_up() {
            let _ = self.decided.set(self.made.sequence(Some(&measured), &self.memory));
        }
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

    fn picture_key(&self, side: Side, is_decided: bool) -> String {
        match side {
            Side::Made => format!("{} {is_decided}", self.keys[0]),
            Side::Untouched => format!("{} untouched", self.keys[1]),
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
    let program = ready.plan.program(by_halves(EDGE, ready.plan.size()));
    let srgb = OutputProfile::Srgb.colour();
    let picture = program.render(ready.source(), program.size().rect(), srgb)?;
    let encoding = Encoding::Jpeg { quality: 88, chroma: Chroma::Half, progressive: false, optimised: false };
    Ok(rallo_media::encode(&picture, encoding, &Extras::default())?)
}
