//! A clip that is slower than its frames, or faster by no whole number: what lies between two frames is made of both.

use crate::assemble::piece::{Is, Travel};
use crate::render::fault::{Fault, fault};
use rallo_engine::sequence::camera_move::Window;
use rallo_engine::sequence::in_between::{InBetween, mixed};
use rallo_engine::{Encoded, Pixels, Size};
use rallo_job::FailureKind;
use rallo_media::video::{Clip, Recorder};
use rallo_recipe::delivery::{Passing, Video};
use std::borrow::Cow;
use std::sync::Arc;

/// A share of the picture of which less could be followed is told.
const HARDLY: f64 = 0.7;

/// So many places are told one by one.
const TOLD: usize = 5;

/// A picture of the clip: as it stands in it, or as a window that moves shows it.
enum Shows {
    Picture(Encoded),
    Travel(Box<Travel>),
}

impl Shows {
    /// Through the window of a moment, where one moves.
    fn seen(&self, window: Option<Window>) -> Result<Cow<'_, Encoded>, Fault> {
        match (self, window) {
            (Self::Picture(picture), _) => Ok(Cow::Borrowed(picture)),
            (Self::Travel(travel), Some(window)) => Ok(Cow::Owned(travel.seen(window)?)),
            (Self::Travel(_), None) => Err(Fault::new(FailureKind::Inside, "a move without a window")),
        }
    }
}

/// What lies between two pictures, followed through one window.
struct Followed {
    window: Option<Window>,
    size: Size,
    by: By,
}

enum By {
    Motion(Box<InBetween>),
    /// Both are mixed.
    Mixing(Vec<f32>, Vec<f32>),
}

/// Frames on their way into a clip, with what lies between them.
pub(super) struct InBetweenFrames {
    /// For each picture, in the order they come, what is shown until it is there.
    arrivals: Vec<Vec<Passing>>,
    video: Video,
    clip: Clip,
    last: Option<(usize, Shows)>,
    /// Frames of the clip that were due before there was one.
    owed: Vec<Passing>,
    /// Pairs of frames, from 1, between which little could be followed.
    hardly: Vec<(usize, usize)>,
}

impl Followed {
    fn at(&self, share: f32) -> Encoded {
        let made = match &self.by {
            By::Motion(motion) => motion.at(share),
            By::Mixing(before, behind) => mixed(before, behind, share),
        };
        Encoded { size: self.size, pixels: Pixels::F32(made) }
    }

    fn is_hardly(&self) -> bool {
        matches!(&self.by, By::Motion(motion) if motion.trusted() < HARDLY)
    }
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
    pub(super) fn new(video: Video, clip: Clip, count: usize) -> Self {
        let arrivals = video.arrivals(count);
        Self { arrivals, video, clip, last: None, owed: Vec::new(), hardly: Vec::new() }
    }

    fn record(&self, recorder: &mut Recorder, picture: &Encoded, times: usize) -> Result<(), Fault> {
        let raw = Arc::new(self.clip.raw(picture).map_err(|e| fault(&e))?);
        super::clip::record(recorder, &raw, times)
    }

    /// Records a picture itself for each of those moments.
    fn stand(&self, recorder: &mut Recorder, shows: &Shows, passing: &[Passing]) -> Result<(), Fault> {
        let windows: Vec<_> = passing.iter().map(|passing| self.video.window_at(passing.at)).collect();
        windows
            .chunk_by(|a, b| a == b)
            .try_for_each(|alike| self.record(recorder, &*shows.seen(alike[0])?, alike.len()))
    }

    /// Takes the frame at a place, or what stands for one that failed.
    pub(super) fn take(
        &mut self,
        recorder: &mut Recorder,
        at: usize,
        picture: Option<Is>,
    ) -> Result<(), Fault> {
        let arrival = if self.video.backwards { self.arrivals.len().saturating_sub(at + 1) } else { at };
        let passing = self.arrivals.get(arrival).cloned().unwrap_or_default();
        let picture = match picture {
            Some(Is::Picture(picture)) => Shows::Picture(picture),
            Some(Is::Travel(travel)) => Shows::Travel(travel),
            Some(_) => {
                return Err(Fault::new(
                    FailureKind::Inside,
                    "a frame came in another form than it is shown in",
                ));
            }
            None => {
                match &self.last {
                    Some((_, last)) => self.stand(recorder, last, &passing)?,
                    None => self.owed.extend(passing),
                }
                return Ok(());
            }
        };
        let owed = std::mem::take(&mut self.owed);
        self.stand(recorder, &picture, &owed)?;
        let mut followed: Option<Followed> = None;
        let mut is_hardly = false;
        for passing in passing {
            let Some((_, last)) = self.last.as_ref().filter(|_| passing.share < 1.0) else {
                self.stand(recorder, &picture, &[passing])?;
                continue;
            };
            let window = self.video.window_at(passing.at);
            if followed.as_ref().is_none_or(|followed| followed.window != window) {
                followed = self.follow(last, &picture, window)?;
            }
            let Some(followed) = &followed else {
                self.stand(recorder, &picture, &[passing])?;
                continue;
            };
            is_hardly |= followed.is_hardly();
            self.record(recorder, &followed.at(passing.share as f32), 1)?;
        }
        if let Some((before, _)) = self.last.as_ref().filter(|_| is_hardly) {
            self.hardly.push((before + 1, at + 1));
        }
        self.last = Some((at, picture));
        Ok(())
    }

    /// What lies between two pictures through a window; nothing where they are of two sizes.
    fn follow(&self, last: &Shows, next: &Shows, window: Option<Window>) -> Result<Option<Followed>, Fault> {
        let (last, next) = rayon::join(|| last.seen(window), || next.seen(window));
        let (last, next) = (last?, next?);
        if last.size != next.size {
            return Ok(None);
        }
        let (size, before, behind) = (next.size, values(&last), values(&next));
        let by = match self.video.between.as_str() {
            "motion" => By::Motion(Box::new(InBetween::new(size, before, behind))),
            _ => By::Mixing(before, behind),
        };
        Ok(Some(Followed { window, size, by }))
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
