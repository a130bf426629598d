//! A frame of a sequence joined with those beside it, as a source to look at; computed when it is first asked for.

use crate::render::joined_frames::{JoinedFrames, Joins};
use crate::render::sequence::RunSequence;
use rallo_engine::{Orientation, Picture, PlanError, Pyramid, Size, Source, SourceError};
use rallo_media::FileSource;
use rallo_recipe::{Recipe, ResolveContext};
use std::sync::{Arc, OnceLock};

/// The frame as the line that joins it last makes it.
pub struct JoinedSample {
    recipe: Recipe,
    line: usize,
    joins: Joins,
    source: Arc<FileSource>,
    context: ResolveContext,
    sequence: RunSequence,
    size: Size,
    state: u64,
    levels: [OnceLock<Arc<Picture>>; Pyramid::LEVELS as usize + 1],
}

impl JoinedSample {
    pub(in crate::render) fn new(
        (recipe, line, joins): (&Recipe, usize, Joins),
        source: &Arc<FileSource>,
        context: &ResolveContext,
        (sequence, state): (RunSequence, u64),
    ) -> Result<Self, PlanError> {
        let of = (&**source, context, &sequence);
        let size = JoinedFrames::new((recipe, line, joins.clone()), of, None)?.size();
        Ok(Self {
            recipe: recipe.clone(),
            line,
            joins,
            source: source.clone(),
            context: context.clone(),
            sequence,
            size,
            state,
            levels: std::array::from_fn(|_| OnceLock::new()),
        })
    }

    /// The line that joins the frames.
    pub fn line(&self) -> usize {
        self.line
    }
}

impl Source for JoinedSample {
    fn size(&self) -> Size {
        self.size
    }
    fn max_level(&self) -> u8 {
        Pyramid::LEVELS
    }
    fn level(&self, level: u8) -> Result<Arc<Picture>, SourceError> {
        let slot = &self.levels[usize::from(level.min(Pyramid::LEVELS))];
        if let Some(known) = slot.get() {
            return Ok(known.clone());
        }
        let of = (&*self.source, &self.context, &self.sequence);
        let joined = JoinedFrames::new((&self.recipe, self.line, self.joins.clone()), of, None)
            .map_err(|e| SourceError(e.to_string()))?;
        let picture = joined.level(level)?;
        Ok(slot.get_or_init(|| picture).clone())
    }
    fn orientation(&self) -> Orientation {
        self.source.orientation()
    }
    fn seed(&self) -> u64 {
        self.source.seed()
    }
    fn state(&self) -> u64 {
        self.state
    }
}
