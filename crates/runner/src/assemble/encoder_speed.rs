//! How fast the encoder of a clip is on this machine, by trying it.

use crate::assemble::clip::clip;
use crate::frame_context::resolve_context;
use crate::preflight::input::Source;
use crate::render::sequence::RunSequence;
use crate::render::work::Work;
use rallo_media::FileSource;
use rallo_media::video::{Clip, Recorder};
use rallo_recipe::Recipe;
use rallo_recipe::delivery::Video;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// Pictures after each other that tell how long an encoder takes, and the seconds after which no further one is made.
pub(crate) const TRIED: usize = 8;

pub(crate) const TRIED_FOR: Duration = Duration::from_secs(3);

/// Seconds that the encoder of a clip of all these pictures takes beside what makes its frames: measured on a few that
/// follow each other in the middle, which it is shown to and fro; nothing where they cannot be read.
pub fn encoding(recipe: &Recipe, task: usize, video: &Video, sources: &[Source]) -> Option<f64> {
    let (_, stage) = recipe.stages().into_iter().find(|(at, _)| *at == task)?;
    let readable: Vec<&Source> = sources.iter().filter(|s| s.facts.is_some()).collect();
    let first = readable.len().saturating_sub(TRIED) / 2;
    let clip = clip(video, &recipe.name, sources.len());
    let begin = Instant::now();
    let mut frames = Vec::new();
    for candidate in readable[first..].iter().take(TRIED) {
        if frames.len() > 1 && begin.elapsed() > TRIED_FOR {
            break;
        }
        let source = FileSource::open(&candidate.path).ok()?.decoding_by(&recipe.decode);
        let about = resolve_context(&candidate.path, candidate.facts.as_ref(), &candidate.decided, 1);
        let alone = RunSequence::default();
        let work = Work::new(recipe, &source, &about, candidate.decided.shift, None, &alone).ok()?;
        frames.push(Arc::new(clip.raw(&work.picture(&stage, None).ok()?.0).ok()?));
    }
    if frames.is_empty() {
        return None;
    }
    let back = frames.iter().rev().skip(1).take(frames.len().saturating_sub(2));
    let shown: Vec<_> = frames.iter().chain(back).cloned().collect();
    let folder = tempfile::tempdir().ok()?;
    let start = Instant::now();
    let some = Clip { frames: shown.len(), fresh: shown.len(), turns: 1, sound: None, ..clip };
    let (count, fresh) = (shown.len(), video.fresh(sources.len()));
    let mut recorder = Recorder::start(some, &folder.path().join("tried")).ok()?;
    shown.into_iter().try_for_each(|frame| recorder.frame(frame)).ok()?;
    recorder.finish().ok()?;
    Some(start.elapsed().as_secs_f64() / count as f64 * fresh as f64)
}
