//! A clip that is slower than its frames, or faster by no whole number: what lies between two frames is made of both.

use crate::assemble::piece::Is;
use crate::render::fault::{Fault, fault};
use rallo_engine::sequence::in_between::{InBetween, mixed};
use rallo_engine::{Encoded, Pixels};
use rallo_job::FailureKind;
use rallo_media::video::{Clip, Recorder};
use rallo_recipe::delivery::Video;
use std::sync::Arc;

/// A share of the picture of which less could be followed is told.
const HARDLY: f64 = 0.7;

/// So many places are told one by one.
const TOLD: usize = 5;

/// Frames on their way into a clip, with what lies between them.
pub(super) struct InBetweenFrames {
    /// For each frame, in the order they come, what is shown until it is there: shares of the way from the one before.
    shares: Vec<Vec<f64>>,
    is_backwards: bool,
    follows_motion: bool,
    clip: Clip,
    last: Option<(usize, Encoded)>,
    /// Frames of the clip that were due before there was one.
    owed: usize,
    /// Pairs of frames, from 1, between which little could be followed.
    hardly: Vec<(usize, usize)>,
}

/// Values as they are seen, 0 to 1.
fn values(picture: &Encoded) -> Vec<f32> {
    match &picture.pixels {
        Pixels::U8(v) => v.iter().map(|v| f32::from(*v) / 255.0).collect(),
        Pixels::U16(v) => v.iter().map(|v| f32::from(*v) / 65_535.0).collect(),
        Pixels::F32(v) => v.clone(),
    }
}

impl InBetweenFrames {
    pub(super) fn new(video: &Video, clip: Clip, count: usize) -> Self {
        Self {
            shares: video.arrivals(count),
            is_backwards: video.backwards,
            follows_motion: video.between == "motion",
            clip,
            last: None,
            owed: 0,
            hardly: Vec::new(),
        }
    }

    fn record(&self, recorder: &mut Recorder, picture: &Encoded, times: usize) -> Result<(), Fault> {
        if times == 0 {
            return Ok(());
        }
        let raw = Arc::new(self.clip.raw(picture).map_err(|e| fault(&e))?);
        super::clip::record(recorder, &raw, times)
    }

    /// Takes the frame at a place, or what stands for one that failed.
    pub(super) fn take(
        &mut self,
        recorder: &mut Recorder,
        at: usize,
        picture: Option<Is>,
    ) -> Result<(), Fault> {
        let arrival = if self.is_backwards { self.shares.len().saturating_sub(at + 1) } else { at };
        let shares = self.shares.get(arrival).cloned().unwrap_or_default();
        let picture = match picture {
            Some(Is::Picture(picture)) => picture,
            Some(_) => {
                return Err(Fault::new(
                    FailureKind::Inside,
                    "a frame came in another form than it is shown in",
                ));
            }
            None => {
                match &self.last {
                    Some((_, last)) => self.record(recorder, last, shares.len())?,
                    None => self.owed += shares.len(),
                }
                return Ok(());
            }
        };
        let owed = std::mem::take(&mut self.owed);
        self.record(recorder, &picture, owed)?;
        let mut between: Option<Option<InBetween>> = None;
        for share in shares {
            let last = self.last.as_ref().filter(|(_, last)| share < 1.0 && last.size == picture.size);
            let Some((before, last)) = last else {
                self.record(recorder, &picture, 1)?;
                continue;
            };
            let follow =
                || self.follows_motion.then(|| InBetween::new(picture.size, values(last), values(&picture)));
            let is_new = between.is_none();
            let made = match between.get_or_insert_with(follow) {
                Some(followed) => {
                    if is_new && followed.trusted() < HARDLY {
                        self.hardly.push((before + 1, at + 1));
                    }
                    followed.at(share as f32)
                }
                None => mixed(&values(last), &values(&picture), share as f32),
            };
            let made = Encoded { size: picture.size, pixels: Pixels::F32(made) };
            self.record(recorder, &made, 1)?;
        }
        self.last = Some((at, picture));
        Ok(())
    }

    /// Where hardly anything could be followed, for people.
    pub(super) fn told(&self) -> Option<String> {
        let first = self.hardly.iter().take(TOLD);
        let places: Vec<String> = first.map(|(a, b)| format!("{a} and {b}")).collect();
        let more = self.hardly.len().saturating_sub(TOLD);
        let more = if more > 0 { format!(" and {more} more pairs") } else { String::new() };
        (!places.is_empty()).then(|| {
            format!(
                "what moves could hardly be followed between frames {}{more}; there both are mixed",
                places.join(", ")
            )
        })
    }
}
