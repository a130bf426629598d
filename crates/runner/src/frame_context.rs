//! What a recipe's rules and texts are told of one picture.

use crate::render::fault::Fault;
use rallo_job::{FailureKind, RunItem};
use rallo_media::Facts;
use rallo_recipe::{FrameAdjustments, FrameContext, ResolveContext};
use rallo_shoot::frame::{Marks, shifted};
use serde::{Deserialize, Serialize};
use std::path::Path;

/// What people decided about a frame, beyond what its file says; what is not there is as the file says.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Decided {
    /// Correction of the capture time, milliseconds.
    pub shift: i64,
    /// 0 none … 5.
    pub rating: Option<u8>,
    /// Keywords.
    pub keywords: Option<Vec<String>>,
    /// Its own small changes on top of a recipe.
    pub own: FrameAdjustments,
}

/// What was decided about an item's frame, as it was stored when the run began.
///
/// # Errors
/// [`Fault`] of the kind `stored` where it is not what this version writes; nothing is guessed, since that would give
/// other pixels than were asked for.
pub fn decided(item: &RunItem) -> Result<Decided, Fault> {
    serde_json::from_str(&item.decided).map_err(|e| {
        Fault::new(
            FailureKind::Stored,
            format!(
                "what was decided about this picture cannot be read ({e}); it was stored by another version of the \
                 program: start the run again"
            ),
        )
    })
}

impl From<&Marks> for Decided {
    fn from(marks: &Marks) -> Self {
        Self {
            shift: marks.shift,
            rating: Some(marks.rating),
            keywords: Some(marks.keywords.clone()),
            own: marks.own,
        }
    }
}

/// From a picture's path, what its file says, and what was decided; `number` is its position in the run, from 1.
pub fn resolve_context(
    path: &Path,
    facts: Option<&Facts>,
    decided: &Decided,
    number: usize,
) -> ResolveContext {
    let stem = path.file_stem().map(|s| s.to_string_lossy().into_owned()).unwrap_or_default();
    let folder = path.parent().map(crate::files::file_names::name_of).unwrap_or_default();
    let known = FrameContext { stem, folder, ..FrameContext::default() };
    let Some(facts) = facts else { return ResolveContext::nth(known, number) };
    let camera = facts.camera.clone();
    let frame = FrameContext {
        taken: camera.taken.and_then(|t| shifted(t, decided.shift)),
        camera: camera.camera,
        lens: camera.lens,
        focal_length: camera.focal_length,
        aperture: camera.aperture,
        embedded_lens: camera.embedded_lens,
        shutter: camera.shutter,
        iso: camera.iso,
        width: facts.width,
        height: facts.height,
        rating: decided.rating.unwrap_or(facts.rating),
        keywords: decided.keywords.clone().unwrap_or_else(|| facts.keywords.clone()),
        own: decided.own,
        ..known
    };
    ResolveContext::nth(frame, number)
}
