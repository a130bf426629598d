//! All files of one picture: rendered, encoded, written whole.

use crate::assemble::piece::{self, Piece};
use crate::files::atomic_file::write_whole;
use crate::render::disk_cache::IntermediateCache;
use crate::render::existing_file::{identity, place, state_of};
use crate::render::fault::{Ended, Fault};
use crate::render::picture_job::PictureJob;
use crate::render::variant::{Variant, variants};
use crate::render::work::{Ready, Work, done};
use rallo_job::{FailureKind, ItemState, ResultFile};
use rallo_media::{FileSource, Made, content_hash};
use rallo_recipe::{Recipe, ResolveContext};
use std::io::ErrorKind;
use std::path::{Path, PathBuf};

/// The results of one picture, only to be written; and those that were there.
pub struct Computed {
    /// Each with its place among the variants, its name, and whether a file of that name is replaced.
    pub(super) files: Vec<Ready<(usize, PathBuf, bool)>>,
    there: Vec<ResultFile>,
    /// What joins others in one file: the task's place, and the piece.
    pub pieces: Vec<(usize, Piece)>,
    /// How it ends when nothing is left to write.
    pub(super) nothing: Option<(ItemState, Option<String>)>,
}

impl Computed {
    /// Writes them under their names; where one cannot be written, those before it stay and are known.
    pub fn write(self) -> Ended {
        if let (Some((state, reason)), true) = (self.nothing, self.files.is_empty()) {
            return Ended { state, kind: None, reason, outputs: self.there };
        }
        let mut outputs = self.there;
        for Ready { what: (variant, target, replace), bytes, size: (width, height) } in self.files {
            if let Err(e) = write(&target, &bytes, replace) {
                return Ended { outputs, ..Ended::failed(Fault::writing(&target, &e)) };
            }
            let hash = content_hash(&bytes);
            outputs.push(ResultFile {
                path: target,
                bytes: bytes.len() as u64,
                width,
                height,
                hash,
                made: true,
                variant: Some(variant),
                clip: None,
                made_by: None,
            });
        }
        Ended { state: ItemState::Done, kind: None, reason: None, outputs }
    }
}

/// What is to be made of an opened picture, and what is there already.
pub(crate) struct Planned {
    /// Each with its place among the variants, where it goes, and whether a file there is replaced.
    pub(super) todo: Vec<(usize, Variant, PathBuf, bool, Made)>,
    there: Vec<ResultFile>,
    /// How the original stood when it was read.
    before: Option<(u64, std::time::SystemTime)>,
}

/// Looks at what stands where the results of an opened source would go.
pub(crate) fn planned(
    recipe: &Recipe,
    source: &FileSource,
    item: &PictureJob,
    context: &ResolveContext,
) -> Result<Planned, Box<Ended>> {
    let variants = variants(recipe);
    // A picture that only joins others names the file it joins.
    if !joins_only(recipe) && (variants.is_empty() || variants.len() != item.targets.len()) {
        return Err(Ended::boxed(
            FailureKind::Recipe,
            "the recipe has no delivery, or others than when the run began".into(),
        ));
    }
    let before = state_of(&item.source);
    let (hash, done) = (content_hash(source.bytes()), done(recipe, source, context));
    let (mut there, mut todo) = (Vec::new(), Vec::new());
    for (variant, (one, (target, known))) in variants.into_iter().zip(&item.targets).enumerate() {
        let recipe = identity(recipe, &one, item.decided.shift, context);
        let made = Made { recipe, source: hash.clone(), done: done.clone() };
        match place(&one.delivery, item, target, known.as_ref(), &made) {
            Ok((target, replace)) => todo.push((variant, one, target, replace, made)),
            Err(ended) if ended.state == ItemState::Skipped => {
                there.extend(ended.outputs.into_iter().map(|o| ResultFile { variant: Some(variant), ..o }));
            }
            Err(ended) => return Err(ended),
        }
    }
    Ok(Planned { todo, there, before })
}

/// Whether the recipe makes no file of each picture, but only of all together.
fn joins_only(recipe: &Recipe) -> bool {
    variants(recipe).is_empty() && !recipe.stages().is_empty()
}

impl Planned {
    /// How a picture ends for which nothing is to be made.
    pub(super) fn skipped(self) -> Box<Ended> {
        let reason = Some("already made by this recipe from this picture".to_owned());
        Box::new(Ended { state: ItemState::Skipped, kind: None, reason, outputs: self.there })
    }

    /// The files, made: they can be written, unless the original changed meanwhile.
    pub(super) fn with_files(
        self,
        files: Vec<Ready<(usize, PathBuf, bool)>>,
        source: &FileSource,
        item: &PictureJob,
    ) -> Result<Computed, Box<Ended>> {
        if state_of(&item.source) != self.before
            || self.before.is_some_and(|b| b.0 != source.bytes().len() as u64)
        {
            let reason =
                "the original changed while it was read; nothing was written, try again when it is complete";
            return Err(Ended::boxed(FailureKind::Changed, reason.into()));
        }
        Ok(Computed { files, there: self.there, pieces: Vec::new(), nothing: None })
    }
}

/// Makes the results of an opened source for the item's targets, and its pieces for the tasks in `wanted`, which join `of`
/// pictures; or says how it ended before anything was written.
pub fn execute(
    recipe: &Recipe,
    source: &FileSource,
    item: &PictureJob,
    context: &ResolveContext,
    kept: Option<&IntermediateCache>,
    (wanted, of): (&[usize], usize),
) -> Result<Computed, Box<Ended>> {
    let mut planned = planned(recipe, source, item, context)?;
    let joins = joins_only(recipe);
    let stages: Vec<_> = recipe.stages().into_iter().filter(|(task, _)| wanted.contains(task)).collect();
    if planned.todo.is_empty() && stages.is_empty() {
        return Err(if joins {
            let reason = "not needed: what it would join is there, or leaves it out";
            let (state, reason) = (ItemState::Skipped, Some(reason.to_owned()));
            Box::new(Ended { state, kind: None, reason, outputs: planned.there })
        } else {
            planned.skipped()
        });
    }
    let nothing = match (planned.todo.is_empty(), joins) {
        (false, _) => None,
        (true, false) => {
            Some((ItemState::Skipped, Some("already made by this recipe from this picture".to_owned())))
        }
        (true, true) => Some((ItemState::Done, None)),
    };
    let failed = |fault| Box::new(Ended::failed(fault));
    let shift = item.decided.shift;
    let work = Work::new(recipe, source, context, shift, kept, &item.sequence).map_err(failed)?;
    let todo = std::mem::take(&mut planned.todo).into_iter();
    let todo = todo.map(|(v, variant, target, replace, made)| (variant, made, (v, target, replace)));
    let mut files = work.make_all(todo.collect()).map_err(failed)?;
    files.sort_by_key(|file| file.what.0);
    let place = (item.number.saturating_sub(1), of);
    let pieces: Result<Vec<_>, Fault> =
        stages.iter().map(|(task, stage)| Ok((*task, piece::piece(&work, *task, stage, place)?))).collect();
    let pieces = pieces.map_err(failed)?;
    Ok(Computed { pieces, nothing, ..planned.with_files(files, source, item)? })
}

/// Writes a result, in a folder that is made where there is none.
pub(super) fn write(target: &Path, bytes: &[u8], replace: bool) -> std::io::Result<()> {
    let folder = target.parent().unwrap_or(Path::new("."));
    // A file exists where the folder should be. Treat it like a permission error: pause the run, do not fail the picture.
    std::fs::create_dir_all(folder).map_err(|e| match e.kind() {
        ErrorKind::AlreadyExists => std::io::Error::new(ErrorKind::NotADirectory, e),
        _ => e,
    })?;
    write_whole(target, bytes, replace)
}
