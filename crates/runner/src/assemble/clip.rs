//! The clip a delivery asks for, and how fast its encoder is on this machine.

use crate::assemble::piece::fault;
use crate::frame_context::subject;
use crate::preflight::output_paths::Source;
use crate::render::fault::Fault;
use crate::render::work::Work;
use rallo_engine::Size;
use rallo_media::FileSource;
use rallo_media::video::{Clip, Codec, Recorder};
use rallo_recipe::delivery::Video;
use rallo_recipe::{Bundle, Recipe};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// What a clip of so many frames is, as it is encoded.
pub fn clip(video: &Video, recipe: &str, count: usize) -> Clip {
    let stage = Bundle::Video(video.clone()).stage();
    let order = video.order(count);
    let size = stage.frame.map_or(Size::new(1920, 1080), |f| Size::new(f.width, f.height));
    Clip {
        size,
        rate: video.rate(),
        codec: Codec::named(video.codec()),
        depth: video.depth(),
        quality: video.quality,
        bytes: video.megabytes.map(|m| u64::from(m) * 1_000_000),
        frames: order.len(),
        fresh: video.fresh(count),
        turns: video.turns() as u32,
        fade_in: video.fade_in,
        fade_out: video.fade_out,
        sound: (!video.sound.trim().is_empty()).then(|| PathBuf::from(video.sound.trim())),
        title: recipe.to_owned(),
    }
}

/// Pictures after each other that tell how long an encoder takes, and the seconds after which no further one is made.
pub(super) const TRIED: usize = 8;

pub(super) const TRIED_FOR: Duration = Duration::from_secs(3);

/// Seconds that the encoder of a clip of all these pictures takes beside what makes its frames: measured on a few that
/// follow each other in the middle, which it is shown to and fro; nothing where they cannot be read.
pub fn encoding(recipe: &Recipe, task: usize, video: &Video, sources: &[Source]) -> Option<f64> {
    let (_, stage) = recipe.stages().into_iter().find(|(at, _)| *at == task)?;
    let readable: Vec<&Source> = sources.iter().filter(|s| s.facts.is_some()).collect();
    let first = readable.len().saturating_sub(TRIED) / 2;
    let clip = clip(video, &recipe.name, sources.len());
    let begin = Instant::now();
    let mut frames = Vec::new();
    for one in readable[first..].iter().take(TRIED) {
        if frames.len() > 1 && begin.elapsed() > TRIED_FOR {
            break;
        }
        let source = FileSource::open(&one.path).ok()?;
        let about = subject(&one.path, one.facts.as_ref(), &one.decided, 1);
        let work = Work::new(recipe, &source, &about, one.decided.shift, None).ok()?;
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

/// Hands a frame on so many times.
pub(super) fn record(recorder: &mut Recorder, frame: &Arc<Vec<u8>>, times: usize) -> Result<(), Fault> {
    (0..times).try_for_each(|_| recorder.frame(frame.clone()).map_err(|e| fault(&e)))
}
