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
use rallo_recipe::{Pictures, Recipe, ResolveContext};
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
    /// What joins others: the task's place, and the picture.
    pub(super) stages: Vec<(usize, Pictures)>,
    there: Vec<ResultFile>,
    /// How it ends when there are no files to write.
    nothing: Option<(ItemState, Option<String>)>,
    /// How the original stood when it was read.
    before: Option<(u64, std::time::SystemTime)>,
}

/// Looks at what stands where the results of an opened source would go; pieces are made for the tasks in `wanted`.
pub(crate) fn planned(
    recipe: &Recipe,
    source: &FileSource,
    item: &PictureJob,
    context: &ResolveContext,
    wanted: &[usize],
) -> Result<Planned, Box<Ended>> {
    let variants = variants(recipe);
    let stages = recipe.stages();
    // A picture that only joins others names the file it joins.
    let joins = variants.is_empty() && !stages.is_empty();
    if !joins && (variants.is_empty() || variants.len() != item.targets.len()) {
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
    let stages: Vec<_> = stages.into_iter().filter(|(task, _)| wanted.contains(task)).collect();
    let nothing = match (todo.is_empty(), joins) {
        (false, _) => None,
        (true, false) => {
            Some((ItemState::Skipped, Some("already made by this recipe from this picture".to_owned())))
        }
        (true, true) if stages.is_empty() => Some((
            ItemState::Skipped,
            Some("not needed: what it would join is there, or leaves it out".to_owned()),
        )),
        (true, true) => Some((ItemState::Done, None)),
    };
    if let (true, Some((state, reason))) = (stages.is_empty(), nothing.clone()) {
        return Err(Box::new(Ended { state, kind: None, reason, outputs: there }));
    }
    Ok(Planned { todo, stages, there, nothing, before })
}

impl Planned {
    /// The files and pieces, made: they can be written, unless the original changed meanwhile.
    pub(super) fn with(
        self,
        files: Vec<Ready<(usize, PathBuf, bool)>>,
        pieces: Vec<(usize, Piece)>,
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
        Ok(Computed { files, there: self.there, pieces, nothing: self.nothing })
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
    let mut planned = planned(recipe, source, item, context, wanted)?;
    let failed = |fault| Box::new(Ended::failed(fault));
    let shift = item.decided.shift;
    let work = Work::new(recipe, source, context, shift, kept, &item.sequence).map_err(failed)?;
    let todo = std::mem::take(&mut planned.todo).into_iter();
    let todo = todo.map(|(v, variant, target, replace, made)| (variant, made, (v, target, replace)));
    let mut files = work.make_all(todo.collect()).map_err(failed)?;
    files.sort_by_key(|file| file.what.0);
    let place = (item.number.saturating_sub(1), of);
    let piece = |(task, stage): &(usize, Pictures)| Ok((*task, piece::piece(&work, *task, stage, place)?));
    let pieces = planned.stages.iter().map(piece).collect::<Result<_, _>>().map_err(failed)?;
    planned.with(files, pieces, source, item)
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
