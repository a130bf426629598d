//! One picture of all frames, joined in linear light while they are made.
//!
//! The brightest, the darkest and the mean need the room of two frames. The median needs all of them: they lie in a temporary
//! file, of 16 bits a sample, and are gone through part by part.

use crate::render::fault::{Fault, fault};
use crate::render::variant::encoding;
use crate::render::work::Lines;
use rallo_engine::colour::transfer::{decode, encode};
use rallo_engine::sequence::joining::Joining;
use rallo_engine::sequence::star_gaps::StarGaps;
use rallo_engine::step::JoinBy;
use rallo_engine::{OutputColour, Picture, Samples, Size, Source};
use rallo_job::FailureKind;
use rallo_media::Extras;
use rallo_recipe::delivery::{StackBy, StackPicture};
use rallo_recipe::{Pictures, Recipe, ResolveContext};
use std::fs::File;
use std::io::{BufReader, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Frames that are being joined.
pub(super) struct Stacking {
    by: StackBy,
    recipe: Recipe,
    context: ResolveContext,
    stage: Pictures,
    folder: PathBuf,
    size: Option<Size>,
    said: Option<Arc<OutputColour>>,
    joining: Option<Joining>,
    /// What is known of the stars of the frame before, where their ways are drawn.
    gaps: Option<StarGaps>,
    spooled: Option<File>,
    count: usize,
}

/// Samples of the median that are held at a time.
const AT_ONCE: usize = 32_000_000;

fn inside(e: &dyn std::fmt::Display) -> Fault {
    Fault::new(FailureKind::Inside, e.to_string())
}

impl Stacking {
    /// Of the frames of a recipe, which become a picture by `stage`; what does not fit into memory lies in `folder`
    /// meanwhile.
    pub(super) fn new(
        stack: &StackPicture,
        (recipe, context): (&Recipe, &ResolveContext),
        stage: Pictures,
        folder: &Path,
    ) -> Self {
        let (recipe, context, folder) = (recipe.clone(), context.clone(), folder.to_owned());
        Self {
            by: stack.by,
            recipe,
            context,
            stage,
            folder,
            size: None,
            said: None,
            joining: None,
            gaps: stack.closes_gaps().then(StarGaps::default),
            spooled: None,
            count: 0,
        }
    }

    pub(super) fn add(&mut self, lines: &Lines) -> Result<(), Fault> {
        let picture = lines.picture.level(0).map_err(|e| inside(&e))?;
        let size = picture.size();
        let (Samples::F32(values), first) = (picture.samples(), *self.size.get_or_insert(size)) else {
            return Err(Fault::new(FailureKind::Inside, "a frame came in another form than it is joined in"));
        };
        if size != first {
            return Err(Fault::new(
                FailureKind::Together,
                format!(
                    "one frame has {} × {} pixels and the first one {} × {}; frames of one picture are to have one size: crop or resize them alike",
                    size.width, size.height, first.width, first.height
                ),
            ));
        }
        if self.said.is_none() {
            self.said = lines.said();
        }
        self.count += 1;
        let by = match self.by {
            StackBy::Median => return self.spool(values),
            StackBy::Mean => JoinBy::Mean,
            StackBy::Lighten => JoinBy::Brighter,
            StackBy::Darken => JoinBy::Darker,
        };
        let mut drawn = None;
        if let Some(gaps) = &mut self.gaps {
            gaps.close(size, drawn.insert(values.clone()));
        }
        match &mut self.joining {
            None => {
                self.joining = Some(Joining::begin(by, size, drawn.unwrap_or_else(|| values.clone()), 1.0))
            }
            Some(joining) => joining.add(drawn.as_ref().unwrap_or(values), 1.0),
        }
        Ok(())
    }

    /// Lays a frame aside, as it is seen, which keeps the order of its values.
    fn spool(&mut self, values: &[f32]) -> Result<(), Fault> {
        let unwritten = |e: std::io::Error| {
            let full = e.kind() == std::io::ErrorKind::StorageFull;
            let kind = if full { FailureKind::NoRoom } else { FailureKind::Together };
            Fault::new(
                kind,
                format!("cannot lay frames aside in {} for their median: {e}", self.folder.display()),
            )
        };
        let file = match &mut self.spooled {
            Some(file) => file,
            None => self.spooled.insert(tempfile::tempfile_in(&self.folder).map_err(unwritten)?),
        };
        let code = |v: &f32| ((encode(v.clamp(0.0, 1.0)) * 65_535.0).round() as u16).to_le_bytes();
        let bytes: Vec<u8> = values.iter().flat_map(code).collect();
        file.write_all(&bytes).map_err(unwritten)
    }

    /// The middle value of every sample.
    fn median(&mut self, samples: usize) -> std::io::Result<Vec<f32>> {
        let Some(file) = &mut self.spooled else { return Ok(Vec::new()) };
        let mut file = BufReader::new(file);
        let part = (AT_ONCE / self.count.max(1)).clamp(1, samples);
        let mut out = Vec::with_capacity(samples);
        let mut all: Vec<Vec<u16>> = Vec::new();
        for from in (0..samples).step_by(part) {
            let length = part.min(samples - from);
            all.clear();
            for frame in 0..self.count {
                file.seek(SeekFrom::Start((frame * samples + from) as u64 * 2))?;
                let mut bytes = vec![0; length * 2];
                file.read_exact(&mut bytes)?;
                all.push(bytes.as_chunks::<2>().0.iter().map(|b| u16::from_le_bytes(*b)).collect());
            }
            let middle = self.count / 2;
            let mut column = vec![0u16; self.count];
            for k in 0..length {
                column.iter_mut().zip(&all).for_each(|(to, frame)| *to = frame[k]);
                let (below, upper, _) = column.select_nth_unstable(middle);
                // Of an even number the mean of both middle ones, in light.
                let upper = decode(f32::from(*upper) / 65_535.0);
                let lower = match below.iter().max().filter(|_| self.count.is_multiple_of(2)) {
                    Some(lower) => decode(f32::from(*lower) / 65_535.0),
                    None => upper,
                };
                out.push((lower + upper) / 2.0);
            }
        }
        Ok(out)
    }

    /// The file, and its size.
    pub(super) fn finish(mut self) -> Result<(Vec<u8>, (u32, u32)), Fault> {
        let size = self.size.unwrap_or(Size::new(0, 0));
        let values = match self.joining.take() {
            Some(joining) => joining.end(),
            None => self.median(size.area() as usize * 3).map_err(|e| {
                Fault::new(FailureKind::Together, format!("frames that were laid aside cannot be read: {e}"))
            })?,
        };
        let picture = Picture::of_working(size, values).map_err(|e| inside(&e))?;
        let lines = Lines::joined(picture, self.said.clone());
        let (picture, colours) = lines.picture(&self.recipe, &self.context, &self.stage, None)?;
        let extras = Extras { icc: Some(colours.icc.clone()), ..Extras::default() };
        let size = (picture.size.width, picture.size.height);
        let bytes = rallo_media::encode(&picture, encoding(&self.stage), &extras).map_err(|e| fault(&e))?;
        Ok((bytes, size))
    }
}
