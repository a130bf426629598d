//! One frame of a sequence as a sample of it: with what is decided from all frames, and joined with those beside it.

use crate::render::fault::Fault;
use crate::render::joined_frames::Joins;
use crate::render::preview::Look;
use crate::render::preview::joined_sample::JoinedSample;
use crate::render::preview::memory::{PreviewMemory, STATES, recalled};
use crate::render::sequence::{RunSequence, SequenceFrame, key_of};
use rallo_media::{FileSource, content_hash};
use rallo_recipe::{Line, Overrides, Recipe, ResolveContext};
use std::sync::Arc;

/// What is known of one frame of a sequence as a sample of it.
pub struct SequenceSample {
    /// What lines that look at all frames decided about it.
    pub overrides: Overrides,
    sequence: RunSequence,
    /// Which frames the sequence has.
    identity: String,
}

/// What is known of the frame at a place as a sample of the sequence; nothing before its frames were measured, by a run or for a
/// look at them.
///
/// # Errors
/// [`Fault`] where values that change over the sequence do not fit.
pub fn sample(
    recipe: &Recipe,
    frames: Vec<SequenceFrame>,
    place: usize,
    memory: &PreviewMemory,
) -> Result<Option<SequenceSample>, Fault> {
    let look = Look::new(recipe.clone(), frames);
    let lines = look.lines();
    let known = (0..look.frames.len()).map(|place| Look::known(&lines, place, memory));
    let Some(measured) = known.collect::<Option<Vec<_>>>() else { return Ok(None) };
    let sequence = look.sequence(Some(&measured), memory)?;
    Ok(Some(SequenceSample { overrides: sequence.overrides(place), sequence, identity: look.identity }))
}

impl SequenceSample {
    /// The frame joined with its neighbours by the last line that does so, where one does; nothing behind lines that take too long
    /// for a look.
    pub fn joined(
        &self,
        recipe: &Recipe,
        (source, context): (&Arc<FileSource>, &ResolveContext),
        memory: &PreviewMemory,
    ) -> Option<Arc<JoinedSample>> {
        let placed = recipe.placed(context);
        let (line, join) =
            placed.iter().rev().find_map(|(line, settings)| Some(((*line)?, Joins::of(&*settings.step)?)))?;
        let is_slow = |line: &Line| line.on && line.kind().info.facts.expensive;
        if recipe.steps[..line].iter().any(is_slow) {
            return None;
        }
        let key = format!("{} {}", key_of(recipe, line + 1, &self.identity), context.sequence.number);
        // Equal for equal pixels, as far as 16 digits tell.
        let state = u64::from_str_radix(&content_hash(key.as_bytes())[..16], 16).unwrap_or_default();
        let make =
            || JoinedSample::new((recipe, line, join), source, context, (self.sequence.clone(), state));
        recalled(&memory.samples, key, STATES, || make().map(Arc::new)).ok()
    }
}
