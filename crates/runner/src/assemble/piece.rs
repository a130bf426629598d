//! Assemblies: one file of all pictures of a run, a clip, a document, a contact sheet.
//!
//! Pictures of a run are worked on several at a time and in any order; a [`Stream`] puts their pieces in order and hands
//! them on while the run goes, so that each is decoded and worked through once and no frame waits on the disk. Where that
//! cannot be (a run that was interrupted, pictures that another program made, a clip that runs backwards) the assembly is
//! made in a pass of its own at the end. Both ways give the same file.

use crate::assemble::clip::clip;
use crate::render::fault::Fault;
use crate::render::variant::Variant;
use crate::render::work::{Lines, Work};
use rallo_engine::sequence::camera_move::Window;
use rallo_engine::{Encoded, Picture, Pixels, Samples, Size, Source};
use rallo_job::FailureKind;
use rallo_media::video::Clip;
use rallo_recipe::{Assembly, FinishingTask, Pictures, Recipe, ResolveContext, names};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// What one picture becomes before it joins the others.
pub struct Piece {
    pub(super) what: Is,
    pub(super) caption: String,
    pub(super) folder: String,
}

impl Piece {
    pub(super) fn bytes(&self) -> usize {
        match &self.what {
            Is::Frame(bytes) => bytes.len(),
            Is::Shown(frames) => frames.iter().map(|(bytes, _)| bytes.len()).sum(),
            Is::Travel(travel) => travel.lines.bytes(),
            Is::Jpeg(bytes, _) => bytes.len(),
            Is::Picture(picture) => picture.size.area() as usize * 3,
            Is::Light(lines) => lines.bytes(),
        }
    }
}

pub(super) enum Is {
    /// A frame as the pipe takes it, shown as often as the clip's course has it.
    Frame(Arc<Vec<u8>>),
    /// Some of a picture's frames, each with how often in a row.
    Shown(Shown),
    /// A picture that a move shows in several frames.
    Travel(Box<Travel>),
    /// A JPEG, and its pixels.
    Jpeg(Vec<u8>, (u32, u32)),
    /// Pixels.
    Picture(Encoded),
    /// Working values, as the lines made them.
    Light(Arc<Lines>),
}

/// Frames of a clip, each with how often in a row it is shown.
pub(super) type Shown = Vec<(Arc<Vec<u8>>, usize)>;

/// A picture through which a window travels: its frames are made when they are asked for, since a picture that stands for
/// long has hundreds of them.
pub(super) struct Travel {
    lines: Arc<Lines>,
    pub(super) recipe: Recipe,
    context: ResolveContext,
    pub(super) stage: Pictures,
    pub(super) clip: Clip,
    windows: std::vec::IntoIter<(Window, usize)>,
}

impl Travel {
    /// Its next frames, a few at a time, made side by side.
    pub(super) fn next(&mut self) -> Result<Shown, Fault> {
        let some: Vec<_> = self.windows.by_ref().take(rayon::current_num_threads().max(2)).collect();
        let frame_of = |(window, times): (Window, usize)| -> Result<_, Fault> {
            let frame = self.clip.raw(&self.seen(window)?)?;
            Ok((Arc::new(frame), times))
        };
        some.into_par_iter().map(frame_of).collect()
    }

    /// The picture through a window.
    pub(super) fn seen(&self, window: Window) -> Result<Encoded, Fault> {
        let stage = through(&self.stage, window);
        Ok(self.lines.picture(&self.recipe, &self.context, &stage, None)?.0)
    }
}

/// What a frame becomes, seen through a window.
pub(super) fn through(stage: &Pictures, window: Window) -> Pictures {
    let mut stage = stage.clone();
    if let Some(frame) = &mut stage.frame {
        frame.window = Some(window);
    }
    stage
}

impl Piece {
    /// The same in parts that are each ready to be taken, for one that is made when it is asked for.
    pub fn parts(self) -> impl Iterator<Item = Result<Self, Fault>> {
        let Self { what, caption, folder } = self;
        let mut rest = Some(what);
        std::iter::from_fn(move || {
            let is = match rest.take()? {
                Is::Travel(mut travel) => match travel.next() {
                    Ok(frames) if frames.is_empty() => return None,
                    Ok(frames) => {
                        rest = Some(Is::Travel(travel));
                        Is::Shown(frames)
                    }
                    Err(e) => return Some(Err(e)),
                },
                ready => ready,
            };
            Some(Ok(Self { what: is, caption: caption.clone(), folder: folder.clone() }))
        })
    }
}

/// What a picture in work, the one at `at` of `of`, becomes for one of the recipe's tasks.
pub(crate) fn piece(
    work: &Work,
    task: usize,
    stage: &Pictures,
    (at, of): (usize, usize),
) -> Result<Piece, Fault> {
    let tasks = work.recipe.tasks();
    let Some((_, FinishingTask::Assembly(assembly))) = tasks.get(task) else {
        return Err(Fault::new(FailureKind::Recipe, "there is no such file to join"));
    };
    let whole_variant = || Variant { at: task, delivery: stage.clone(), width: None };
    let what = match assembly {
        Assembly::Video(video) => {
            let clip = clip(video, "", 1);
            let windows = video.windows(at, of);
            if windows.len() > 1 || (video.is_moving() && video.makes_between()) {
                let (recipe, context) = (work.recipe.clone(), work.context.clone());
                let (lines, windows) = (work.lines(stage)?, windows.into_iter());
                Is::Travel(Box::new(Travel { lines, recipe, context, stage: stage.clone(), clip, windows }))
            } else {
                let stage =
                    windows.first().map_or_else(|| stage.clone(), |(window, _)| through(stage, *window));
                let (picture, _) = work.picture(&stage, None)?;
                match video.makes_between() {
                    true => Is::Picture(picture),
                    false => Is::Frame(Arc::new(clip.raw(&picture)?)),
                }
            }
        }
        Assembly::Stack(_) => Is::Light(work.lines(stage)?),
        Assembly::Contact(c) if c.format != "pdf" => Is::Picture(work.picture(stage, None)?.0),
        _ => {
            let (bytes, width, height) = work.make(&whole_variant(), None)?;
            Is::Jpeg(bytes, (width, height))
        }
    };
    Ok(labelled(what, work.recipe, work.context, assembly, stage))
}

/// A piece with what is written beside it.
fn labelled(
    what: Is,
    recipe: &Recipe,
    context: &ResolveContext,
    assembly: &Assembly,
    stage: &Pictures,
) -> Piece {
    let caption = match assembly {
        Assembly::Video(_) | Assembly::Stack(_) => "",
        Assembly::Pdf(p) => &p.caption,
        Assembly::Contact(c) => &c.caption,
    };
    let caption = names::text(caption, &recipe.name, &stage.counted(context));
    Piece { what, caption, folder: context.frame.folder.clone() }
}

/// What the bytes of a piece that was sent are.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum SentAs {
    /// A frame as the pipe takes it.
    Frame,
    /// A JPEG of so many columns and rows.
    Jpeg(u32, u32),
    /// So many columns and rows of pixels with three samples of so many bytes.
    Pixels(u32, u32, u8),
    /// So many columns and rows of working values, red, green and blue of each pixel.
    Light(u32, u32),
}

impl Piece {
    /// As it is sent to another machine.
    ///
    /// # Errors
    /// [`Fault`] for one that is only made on the way to its file.
    pub(crate) fn packed(self) -> Result<(SentAs, Vec<u8>), Fault> {
        let cannot =
            || Fault::new(FailureKind::Inside, "a piece of this picture cannot be sent; please report it");
        let values_of = |lines: &Lines| {
            let level = lines.picture.level(0).map_err(|_| cannot())?;
            let Samples::F32(values) = level.samples() else { return Err(cannot()) };
            let Size { width, height } = lines.picture.size();
            let bytes = values.iter().flat_map(|v| v.to_le_bytes()).collect();
            Ok((SentAs::Light(width, height), bytes))
        };
        match self.what {
            Is::Frame(bytes) => Ok((SentAs::Frame, Arc::unwrap_or_clone(bytes))),
            Is::Jpeg(bytes, (width, height)) => Ok((SentAs::Jpeg(width, height), bytes)),
            Is::Picture(Encoded { size: Size { width, height }, pixels }) => {
                let (depth, bytes) = match pixels {
                    Pixels::U8(v) => (1, v),
                    Pixels::U16(v) => (2, v.iter().flat_map(|v| v.to_le_bytes()).collect()),
                    Pixels::F32(v) => (4, v.iter().flat_map(|v| v.to_le_bytes()).collect()),
                };
                Ok((SentAs::Pixels(width, height, depth), bytes))
            }
            Is::Light(lines) => values_of(&lines),
            Is::Travel(travel) => values_of(&travel.lines),
            Is::Shown(_) => Err(cannot()),
        }
    }

    /// A piece that another machine made for one of the recipe's tasks.
    ///
    /// # Errors
    /// Why it is none.
    pub(crate) fn unpacked(
        (recipe, context): (&Recipe, &ResolveContext),
        (task, stage): (usize, &Pictures),
        (at, of): (usize, usize),
        sent: SentAs,
        bytes: Vec<u8>,
    ) -> Result<Self, String> {
        let tasks = recipe.tasks();
        let Some((_, FinishingTask::Assembly(assembly))) = tasks.get(task) else {
            return Err("its piece is for no file that is joined".into());
        };
        let wrong = || "its piece is not what is joined".to_owned();
        let (width, height) = match sent {
            SentAs::Frame => (1, 1),
            SentAs::Jpeg(width, height) | SentAs::Pixels(width, height, _) | SentAs::Light(width, height) => {
                (width, height)
            }
        };
        if width == 0 || height == 0 {
            return Err(wrong());
        }
        let what = match sent {
            SentAs::Frame => {
                let Assembly::Video(video) = assembly else { return Err(wrong()) };
                let clip = clip(video, "", 1);
                let black = Pixels::U8(vec![0; clip.size.area() as usize * 3]);
                let known =
                    clip.raw(&Encoded { size: clip.size, pixels: black }).map_err(|e| e.to_string())?;
                if known.len() != bytes.len() {
                    return Err(wrong());
                }
                Is::Frame(Arc::new(bytes))
            }
            SentAs::Jpeg(width, height) => {
                let read = rallo_media::FileSource::from_bytes(bytes.clone()).map_err(|e| e.to_string())?;
                if read.format() != rallo_media::Format::Jpeg || read.size() != Size::new(width, height) {
                    return Err(wrong());
                }
                Is::Jpeg(bytes, (width, height))
            }
            SentAs::Pixels(width, height, depth) => {
                let samples = u64::from(width) * u64::from(height) * 3;
                if bytes.len() as u64 != samples * u64::from(depth) {
                    return Err(wrong());
                }
                let pixels = match depth {
                    1 => Pixels::U8(bytes),
                    2 => Pixels::U16(bytes.as_chunks().0.iter().map(|b| u16::from_le_bytes(*b)).collect()),
                    4 => Pixels::F32(bytes.as_chunks().0.iter().map(|b| f32::from_le_bytes(*b)).collect()),
                    _ => return Err(wrong()),
                };
                Is::Picture(Encoded { size: Size::new(width, height), pixels })
            }
            SentAs::Light(width, height) => {
                let layout = recipe.layout(context).map_err(|e| e.to_string())?;
                let (size, whole) = (Size::new(width, height), layout.size());
                let values: Vec<f32> = bytes.as_chunks().0.iter().map(|b| f32::from_le_bytes(*b)).collect();
                if bytes.len() as u64 != size.area() * 12 || width > whole.width || height > whole.height {
                    return Err(wrong());
                }
                let picture = Picture::of_working(size, values).map_err(|e| e.to_string())?;
                let lines = Arc::new(Lines::joined(picture, layout.colours()));
                match assembly {
                    Assembly::Stack(_) => Is::Light(lines),
                    Assembly::Video(video) if video.is_moving() => {
                        let (recipe, context, stage) = (recipe.clone(), context.clone(), stage.clone());
                        let (clip, windows) = (clip(video, "", 1), video.windows(at, of).into_iter());
                        Is::Travel(Box::new(Travel { lines, recipe, context, stage, clip, windows }))
                    }
                    _ => return Err(wrong()),
                }
            }
        };
        Ok(labelled(what, recipe, context, assembly, stage))
    }
}
