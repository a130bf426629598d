//! One frame of a sequence as a sample of it: with what is decided from all frames, and joined with those beside it.

use crate::render::fault::Fault;
use crate::render::preview::joined_sample::JoinedSample;
use crate::render::preview::memory::{PreviewMemory, STATES, recalled};
use crate::render::preview::{Look, Preview, PreviewFrame};
use crate::render::sequence::RunSequence;
use rallo_media::{FileSource, content_hash};
use rallo_recipe::{Line, Overrides, Recipe, ResolveContext};
use std::sync::Arc;

/// What is known of one frame of a sequence as a sample of it.
pub struct SequenceSample {
    /// What lines that look at all frames decided about it, where that was found out by looking at the sequence.
    pub overrides: Option<Overrides>,
    sequence: Option<(RunSequence, String)>,
}

/// What is known of the frame at a place as a sample of the sequence, by what was measured for looks at it.
///
/// # Errors
/// [`Fault`] where values that change over the sequence do not fit.
pub fn sample(
    recipe: &Recipe,
    frames: &[PreviewFrame],
    place: usize,
    memory: &Arc<PreviewMemory>,
) -> Result<SequenceSample, Fault> {
    let look = Preview::whole(recipe.clone(), Vec::new(), frames, memory.clone())?;
    if !look.decide_by_memory() {
        return Ok(SequenceSample { overrides: None, sequence: None });
    }
    let Some(sequence) = look.decided.into_inner() else {
        return Ok(SequenceSample { overrides: None, sequence: None });
    };
    let sequence = sequence?;
    let overrides = Some(sequence.overrides(place));
    Ok(SequenceSample { overrides, sequence: Some((sequence, look.made.key.clone())) })
}

impl SequenceSample {
    /// The frame joined with its neighbours by the last line that does so, where one does; nothing behind lines that take too long
    /// for a look, or before what all frames decide is known.
    pub fn joined(
        &self,
        recipe: &Recipe,
        (source, context): (&Arc<FileSource>, &ResolveContext),
        memory: &PreviewMemory,
    ) -> Option<Arc<JoinedSample>> {
        let (sequence, key) = self.sequence.as_ref()?;
        let placed = recipe.placed(context);
        let (line, join) =
            placed.iter().rev().find_map(|(line, settings)| Some(((*line)?, settings.step.joins()?)))?;
        let is_slow = |line: &Line| line.on && line.kind().info.facts.expensive;
        if recipe.steps[..line].iter().any(is_slow) {
            return None;
        }
        let look = Look { recipe: recipe.clone(), frames: Vec::new(), key: key.clone() };
        let key = format!("{} {}", look.key_of(line + 1), context.sequence.number);
        // Equal for equal pixels, as far as 16 digits tell.
        let state = u64::from_str_radix(&content_hash(key.as_bytes())[..16], 16).unwrap_or_default();
        let make = || JoinedSample::new((recipe, line, join), source, context, (sequence.clone(), state));
        recalled(&memory.samples, key, STATES, || make().map(Arc::new)).ok()
    }
}
