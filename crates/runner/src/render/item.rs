//! One picture of a run: from opening it to its file, within a memory bound for all that are in work; a bad one fails
//! alone.

use crate::assemble::piece::Piece;
use crate::frame_context::resolve_context;
use crate::render::disk_cache::IntermediateCache;
use crate::render::execute::execute;
use crate::render::fault::{Ended, Fault};
use crate::render::intermediate;
use crate::render::memory_budget::MemoryBudget;
use crate::render::picture_job::PictureJob;
use crate::render::variant::variants;
use rallo_engine::Source;
use rallo_job::FailureKind;
use rallo_media::{FileSource, Format};
use rallo_recipe::{Pictures, Recipe, ResolveContext};

/// One picture of a run, from opening it to its file; what goes wrong inside is a failure of this picture alone.
/// `computed` is told when only the writing is left.
pub(crate) fn picture(
    recipe: &Recipe,
    item: &PictureJob,
    room: &MemoryBudget,
    kept: &IntermediateCache,
    joins: &Joins,
    computed: &(dyn Fn() + Sync),
) -> Ended {
    let work = || made(recipe, item, room, kept, joins, computed);
    std::panic::catch_unwind(std::panic::AssertUnwindSafe(work)).unwrap_or_else(|_| {
        Ended::failed(Fault::new(FailureKind::Inside, "the program failed on this picture; please report it"))
    })
}

/// What a picture joins while it is made: the tasks by their places, and where its pieces go; a piece that does not come is
/// told too.
pub(crate) struct Joins<'a> {
    /// Tasks that want its piece.
    pub wanted: Vec<usize>,
    /// Pictures that they join.
    pub of: usize,
    /// Takes a piece.
    pub give: &'a (dyn Fn(usize, Piece) + Sync),
}

/// Reads a picture and makes what it is asked for, within a memory bound.
pub(crate) fn opened<T>(
    recipe: &Recipe,
    item: &PictureJob,
    room: &MemoryBudget,
    work: impl FnOnce(&FileSource, &ResolveContext) -> Result<T, Box<Ended>>,
) -> Result<T, Box<Ended>> {
    let failed = |fault| Box::new(Ended::failed(fault));
    let source = FileSource::open(&item.source).map_err(|e| failed(Fault::from(e)))?;
    let (source, about) = read(recipe, source, item);
    let _taken = room.take(bytes(recipe, &source, &about).map_err(failed)?);
    work(&source, &about)
}

/// A file as the recipe reads it, and what its lines depend on.
pub(super) fn read(recipe: &Recipe, source: FileSource, item: &PictureJob) -> (FileSource, ResolveContext) {
    let source = source.decoding_by(&recipe.decode);
    let facts = source.facts(&item.source);
    let mut about = resolve_context(&item.source, Some(&facts), &item.decided, item.number);
    about.sequence.count = item.sequence.count;
    about.overrides = item.sequence.overrides(item.number.saturating_sub(1));
    (source, about)
}

/// Memory that a picture takes while it is made.
pub(super) fn bytes(recipe: &Recipe, source: &FileSource, about: &ResolveContext) -> Result<u64, Fault> {
    let plan = recipe.layout(about).map_err(|e| Fault::new(FailureKind::TooLarge, e.to_string()))?;
    let level = plan.level();
    // What stays transparent is decoded twice.
    let keeps = variants(recipe).iter().any(|v| v.delivery.keeps_transparent());
    let times = if keeps && source.format().may_be_transparent() { 2 } else { 1 };
    // What is handed on as raw stands there as values, as they are packed, and as the file.
    let as_raw = variants(recipe).iter().any(|v| v.delivery.is_dng()) && source.format() == Format::Raw;
    let raw = if as_raw { source.size().area() * 24 } else { 0 };
    let bytes = times * source.decoded_bytes(level) + plan.working_bytes(1, 2) + raw;
    // What several files share is held as working values, with its reductions.
    let stages = recipe.stages();
    let files = variants(recipe).len() + stages.len();
    let moves = |(_, stage): &(usize, Pictures)| stage.frame.as_ref().is_some_and(|f| f.fit == "move");
    let shared = if files > 1 || stages.iter().any(moves) { plan.size().area() * 16 } else { 0 };
    Ok(bytes + intermediate::bytes(recipe, source.size(), about) + shared)
}

fn made(
    recipe: &Recipe,
    item: &PictureJob,
    room: &MemoryBudget,
    kept: &IntermediateCache,
    joins: &Joins,
    computed: &(dyn Fn() + Sync),
) -> Ended {
    let made = opened(recipe, item, room, |source, about| {
        execute(recipe, source, item, about, Some(kept), (&joins.wanted, joins.of))
    });
    match made {
        Ok(mut made) => {
            for (task, piece) in made.pieces.drain(..) {
                (joins.give)(task, piece);
            }
            computed();
            made.write()
        }
        Err(ended) => *ended,
    }
}
