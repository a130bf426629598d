//! The clip a delivery asks for, and how fast its encoder is on this machine.

use crate::render::fault::{Fault, fault};
use rallo_engine::Size;
use rallo_media::video::{Clip, Codec, Recorder};
use rallo_recipe::Assembly;
use rallo_recipe::delivery::Video;
use std::path::PathBuf;
use std::sync::Arc;

/// What a clip of so many frames is, as it is encoded.
pub fn clip(video: &Video, recipe: &str, count: usize) -> Clip {
    let stage = Assembly::Video(video.clone()).stage();
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

/// Hands a frame on so many times.
pub(super) fn record(recorder: &mut Recorder, frame: &Arc<Vec<u8>>, times: usize) -> Result<(), Fault> {
    (0..times).try_for_each(|_| recorder.frame(frame.clone()).map_err(|e| fault(&e)))
}
