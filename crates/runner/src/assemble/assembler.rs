//! Joining pieces into one file: a clip, a document, a contact sheet or one picture of all.

use crate::assemble::clip::{clip, record};
use crate::assemble::contact_sheet::Sheet;
use crate::assemble::in_between::InBetweenFrames;
use crate::assemble::pdf::{contact_layout, layout};
use crate::assemble::piece::{Is, Piece};
use crate::assemble::stack::Stacking;
use crate::files::atomic_file::part_in;
use crate::render::fault::{Fault, fault};
use rallo_job::FailureKind;
use rallo_media::pdf::album::Album;
use rallo_media::video::{ClipFacts, Recorder};
use rallo_recipe::{Assembly, FinishingTask, Recipe, ResolveContext, names};
use std::io::Write;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use tempfile::TempPath;

/// An assembly whose file is complete under a temporary name.
pub(crate) struct Gathered {
    /// The file; gone with this.
    pub part: TempPath,
    /// Pixels, of a page or a frame.
    pub size: (u32, u32),
    /// What a player needs to know of a clip.
    pub clip: Option<ClipFacts>,
    /// Pictures that are not in it.
    pub missing: usize,
    /// What people should know of it.
    pub told: Option<String>,
}

pub(super) enum Sink {
    Video(Box<Recorder>),
    Pdf(Album),
    Contact(Box<Sheet>),
    Stack(Box<Stacking>),
}

/// An assembly that is being filled, in the order of its positions.
pub(crate) struct Gatherer {
    pub(super) assembly: Assembly,
    pub(super) count: usize,
    pub(super) recipe: String,
    pub(super) part: TempPath,
    sink: Sink,
    /// How often each frame is shown.
    pub(super) times: Vec<usize>,
    /// What lies between frames is made of both.
    between: Option<InBetweenFrames>,
    /// Frames owed by pictures that are missing at the beginning.
    owed: usize,
    last: Option<Arc<Vec<u8>>>,
    pub(super) missing: usize,
    pub(super) taken: usize,
    /// Set when nobody waits for it any more: a picture that stands for long is not gone through to its end.
    pub(super) stop: Arc<AtomicBool>,
}

impl Gatherer {
    /// Begins an assembly of `count` pictures in the folder its file will be in.
    pub fn begin(
        assembly: &Assembly,
        recipe: &Recipe,
        first: &ResolveContext,
        count: usize,
        folder: &Path,
    ) -> Result<Self, Fault> {
        let room = |e: std::io::Error| {
            let kind = match e.kind() {
                std::io::ErrorKind::StorageFull | std::io::ErrorKind::QuotaExceeded => FailureKind::NoRoom,
                _ => FailureKind::NoPermission,
            };
            Fault::new(kind, format!("cannot write to {}: {e}", folder.display()))
        };
        std::fs::create_dir_all(folder).map_err(room)?;
        let part = part_in(folder).map_err(room)?.into_temp_path();
        let text = |template: &str| names::text(template, &recipe.name, first);
        let mut times = vec![1; count];
        let mut between = None;
        let sink = match assembly {
            Assembly::Video(video) => {
                times = vec![0; count];
                video.order(count).into_iter().for_each(|k| times[k] += 1);
                let clip = clip(video, &recipe.name, count);
                between =
                    video.makes_between().then(|| InBetweenFrames::new(video.clone(), clip.clone(), count));
                let recorder = Recorder::start(clip, &part).map_err(|e| fault(&e))?;
                crate::schedule::step_back_process(recorder.process());
                Sink::Video(Box::new(recorder))
            }
            Assembly::Pdf(pdf) => Sink::Pdf(Album::new(&text(&pdf.title), layout(pdf))),
            Assembly::Contact(c) if c.format == "pdf" => {
                Sink::Pdf(Album::new(&text(&c.title), contact_layout(c, count)))
            }
            Assembly::Stack(stack) => {
                let place = |(_, task): &(usize, FinishingTask)| matches!(task, FinishingTask::Assembly(of) if of == assembly);
                let place = recipe.tasks().iter().position(place);
                let stages = recipe.stages().into_iter();
                let stage = stages.filter(|(at, _)| Some(*at) == place).map(|(_, stage)| stage).next();
                let stage = stage.unwrap_or_else(|| assembly.stage());
                Sink::Stack(Box::new(Stacking::new(stack, (recipe, first), stage, folder)))
            }
            Assembly::Contact(c) => Sink::Contact(Box::new(Sheet::new(c, &text(&c.title), count)?)),
        };
        let recipe = recipe.name.clone();
        Ok(Self {
            assembly: assembly.clone(),
            count,
            recipe,
            part,
            sink,
            times,
            between,
            owed: 0,
            last: None,
            missing: 0,
            taken: 0,
            stop: Arc::default(),
        })
    }

    /// Takes the next picture, or what stands for one that failed; a picture may come in parts.
    pub fn take(&mut self, at: usize, piece: Option<Piece>) -> Result<(), Fault> {
        if let (Some(between), Sink::Video(recorder)) = (&mut self.between, &mut self.sink) {
            let (missing, picture) = (usize::from(piece.is_none()), piece.map(|piece| piece.what));
            between.take(recorder, at, picture)?;
            self.missing += missing;
            self.taken += 1 - missing;
            return Ok(());
        }
        let times = self.times.get(at).copied().unwrap_or(0);
        if times == 0 {
            return Ok(());
        }
        match piece {
            Some(piece) => piece.parts().try_for_each(|part| {
                if self.stop.load(Ordering::Relaxed) {
                    return Err(Fault::new(FailureKind::Together, "it was cancelled"));
                }
                self.join(times, part?)
            }),
            None => self.stand_in(times),
        }
    }

    /// The frame before stands for a picture that is missing, so that the others keep their times.
    fn stand_in(&mut self, times: usize) -> Result<(), Fault> {
        self.missing += 1;
        if let Sink::Video(recorder) = &mut self.sink {
            match &self.last {
                Some(frame) => record(recorder, frame, times)?,
                None => self.owed += times,
            }
        }
        Ok(())
    }

    pub(super) fn join(&mut self, times: usize, Piece { what, caption, folder }: Piece) -> Result<(), Fault> {
        match (&mut self.sink, what) {
            (Sink::Video(recorder), Is::Frame(frame)) => {
                record(recorder, &frame, times + std::mem::take(&mut self.owed))?;
                self.last = Some(frame);
            }
            (Sink::Video(recorder), Is::Shown(frames)) => {
                for (frame, times) in frames {
                    record(recorder, &frame, times + std::mem::take(&mut self.owed))?;
                    self.last = Some(frame);
                }
            }
            (Sink::Pdf(album), Is::Jpeg(bytes, size)) => album.add(bytes, size, &caption, &folder),
            (Sink::Stack(stacking), Is::Light(lines)) => stacking.add(&lines)?,
            (Sink::Contact(sheet), Is::Picture(picture)) => sheet.cells.push((picture, caption)),
            _ => {
                return Err(Fault::new(
                    FailureKind::Inside,
                    "a picture came in another form than it is joined in",
                ));
            }
        }
        self.taken += 1;
        Ok(())
    }

    /// Ends the assembly.
    pub fn finish(self) -> Result<Gathered, Fault> {
        if self.taken == 0 {
            return Err(Fault::new(
                FailureKind::Together,
                format!("there is no picture to make a {} of", self.assembly.word()),
            ));
        }
        let write = |bytes: &[u8]| {
            let mut file = std::fs::File::create(&self.part)?;
            file.write_all(bytes)?;
            file.sync_all()
        };
        let unwritten = |e: std::io::Error| {
            let full = e.kind() == std::io::ErrorKind::StorageFull;
            Fault::new(
                if full { FailureKind::NoRoom } else { FailureKind::Together },
                format!("cannot write the {}: {e}", self.assembly.word()),
            )
        };
        let (size, clip) = match self.sink {
            Sink::Video(recorder) => {
                recorder.finish().map_err(|e| fault(&e))?;
                std::fs::File::open(&self.part).and_then(|f| f.sync_all()).map_err(unwritten)?;
                let Assembly::Video(video) = &self.assembly else {
                    return Err(Fault::new(FailureKind::Inside, "a clip that is none"));
                };
                let settings = clip(video, &self.recipe, self.count);
                let facts = ClipFacts {
                    width: settings.size.width,
                    height: settings.size.height,
                    frames: settings.frames as u64 * u64::from(settings.turns.max(1)),
                    rate: settings.rate,
                    seconds: settings.seconds(),
                    codec: video.codec().to_owned(),
                };
                ((settings.size.width, settings.size.height), Some(facts))
            }
            Sink::Pdf(album) => {
                let bytes = album.finish().map_err(|e| fault(&e))?;
                write(&bytes).map_err(unwritten)?;
                ((0, 0), None)
            }
            Sink::Stack(stacking) => {
                let (bytes, size) = stacking.finish()?;
                write(&bytes).map_err(unwritten)?;
                (size, None)
            }
            Sink::Contact(sheet) => {
                let (bytes, size) = sheet.finish()?;
                write(&bytes).map_err(unwritten)?;
                (size, None)
            }
        };
        let told = self.between.as_ref().and_then(InBetweenFrames::told);
        Ok(Gathered { part: self.part, size, clip, missing: self.missing, told })
    }
}
