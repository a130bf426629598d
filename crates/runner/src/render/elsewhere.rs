//! One picture made by another machine: what it has to be told, what it gives back, and what of that is believed.
//!
//! A machine that helps sees a picture's bytes, the recipe, and the names that texts and file names may be made of; not where
//! the picture lies, and nothing of other pictures. What it gives back is written only if it is a picture of the size it says, bears the mark of
//! this recipe on this original, and keeps within bounds.

use crate::assemble::piece::{self, Piece, SentAs};
use crate::frame_context::Decided;
use crate::render::disk_cache::IntermediateCache;
use crate::render::execute::{Computed, Planned, planned};
use crate::render::fault::{Ended, Fault};
use crate::render::item::{bytes, read};
use crate::render::memory_budget::{MemoryBudget, default_memory};
use crate::render::picture_job::PictureJob;
use crate::render::sequence::RunSequence;
use crate::render::variant::{Variant, variants};
use crate::render::work::{Ready, Work, done};
use crate::schedule::{self, CancellationToken, Class};
use rallo_job::FailureKind;
use rallo_media::{FileSource, Made, content_hash};
use rallo_recipe::{FinishingTask, FrameValue, Overrides, Recipe, ResolveContext};
use serde::{Deserialize, Serialize};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Everything that the files made of one picture depend on, but for its bytes.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct PictureRequest {
    /// Hash of the original's bytes.
    pub source: String,
    /// How many they are.
    pub length: u64,
    /// Names of the original and its folder, without what is above.
    pub name: PathBuf,
    /// The recipe's document.
    pub recipe: String,
    /// What was changed of it for this picture: line, parameter, value.
    pub answers: Vec<FrameValue>,
    /// What people decided about the picture.
    pub decided: Decided,
    /// Its place in the run, from 1.
    pub number: usize,
    /// Pictures of the run.
    pub count: usize,
    /// What was decided about it together with the others.
    pub overrides: Overrides,
    /// Which of the files that the recipe makes of each picture are wanted.
    pub files: Vec<usize>,
    /// Which of its files of all pictures want a piece of this one.
    pub pieces: Vec<usize>,
    /// Pictures that they join.
    pub of: usize,
}

/// What was made of a picture.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct MadePicture {
    /// Its files.
    pub files: Vec<MadeFile>,
    /// What joins others.
    pub pieces: Vec<MadePiece>,
}

/// A piece of a file of all pictures.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MadePiece {
    /// Which of the recipe's files of all pictures wants it.
    pub task: usize,
    /// What its bytes are.
    pub sent: SentAs,
    /// They.
    pub bytes: Vec<u8>,
}

/// A file that was made.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MadeFile {
    /// Which of the files that the recipe makes of each picture it is.
    pub variant: usize,
    /// Its bytes.
    pub bytes: Vec<u8>,
    /// Pixels per row.
    pub width: u32,
    /// Rows.
    pub height: u32,
}

/// Whether pictures of a recipe can be made elsewhere: each for itself, with pieces that are not too large to be sent.
pub(crate) fn is_possible(recipe: &Recipe) -> bool {
    let can_be_sent = |(_, task): &(usize, FinishingTask)| match task {
        FinishingTask::Assembly(assembly) => piece::can_be_sent(assembly),
        _ => true,
    };
    !recipe.joins_neighbours() && recipe.tasks().iter().all(can_be_sent)
}

/// A picture that is about to be made elsewhere.
pub(crate) struct Prepared {
    planned: Planned,
    source: FileSource,
    context: ResolveContext,
    /// What the other machine is told.
    pub request: PictureRequest,
}

/// Opens a picture and looks what is to be made of it.
pub(crate) fn prepared(
    (recipe, document, answers): (&Recipe, &str, &[FrameValue]),
    item: &PictureJob,
    (wanted, of): (&[usize], usize),
) -> Result<Prepared, Box<Ended>> {
    let source = FileSource::open(&item.source).map_err(|e| Box::new(Ended::failed(Fault::from(e))))?;
    let (source, context) = read(recipe, source, item);
    let planned = planned(recipe, &source, item, &context, wanted)?;
    let above = item.source.parent().and_then(Path::file_name).map(PathBuf::from).unwrap_or_default();
    let request = PictureRequest {
        source: content_hash(source.bytes()),
        length: source.bytes().len() as u64,
        name: above.join(item.source.file_name().unwrap_or_default()),
        recipe: document.to_owned(),
        answers: answers.to_vec(),
        decided: item.decided.clone(),
        number: item.number,
        count: item.sequence.count,
        overrides: context.overrides.clone(),
        files: planned.todo.iter().map(|(variant, ..)| *variant).collect(),
        pieces: planned.stages.iter().map(|(task, _)| *task).collect(),
        of,
    };
    Ok(Prepared { planned, source, context, request })
}

/// The largest file of so many pixels that is believed: sixteen bytes a pixel, and what may stand beside them.
pub fn most_bytes(width: u32, height: u32) -> u64 {
    64_000_000 + u64::from(width) * u64::from(height) * 16
}

impl Prepared {
    /// The original's bytes.
    pub fn original(&self) -> &[u8] {
        self.source.bytes()
    }

    /// What another machine made, ready to be written; or why it is not believed.
    pub fn checked(
        mut self,
        recipe: &Recipe,
        item: &PictureJob,
        MadePicture { files, pieces }: MadePicture,
    ) -> Result<Result<Computed, Box<Ended>>, String> {
        let todo = std::mem::take(&mut self.planned.todo);
        if files.iter().map(|f| f.variant).ne(todo.iter().map(|(variant, ..)| *variant)) {
            return Err("it gave other files than were asked for".into());
        }
        let mut ready = Vec::new();
        for (file, (variant, of, target, replace, made)) in files.into_iter().zip(todo) {
            believed(recipe, &self.context, &file, &of, &made, &self.source)?;
            let (what, size) = ((variant, target, replace), (file.width, file.height));
            ready.push(Ready { what, bytes: file.bytes, size });
        }
        if pieces.iter().map(|p| p.task).ne(self.planned.stages.iter().map(|(task, _)| *task)) {
            return Err("it gave other pieces than were asked for".into());
        }
        let mut joined = Vec::new();
        for (piece, (task, stage)) in pieces.into_iter().zip(&self.planned.stages) {
            let of = (recipe, &self.context);
            joined.push((*task, Piece::unpacked(of, (*task, stage), piece.sent, piece.bytes)?));
        }
        Ok(self.planned.with(ready, joined, &self.source, item))
    }
}

/// Whether a file is what was asked for, as far as that can be told without making it.
fn believed(
    recipe: &Recipe,
    context: &ResolveContext,
    file: &MadeFile,
    variant: &Variant,
    made: &Made,
    original: &FileSource,
) -> Result<(), String> {
    if variant.delivery.is_carried() {
        return if file.bytes == original.bytes() {
            Ok(())
        } else {
            Err("its copy is not the original".into())
        };
    }
    let planned =
        recipe.layout_for(&variant.delivery, variant.width, context).map_err(|e| e.to_string())?.size();
    // Raw is handed on as large as the sensor.
    if !variant.delivery.is_dng() && (planned.width, planned.height) != (file.width, file.height) {
        return Err(format!(
            "its result is {} × {} and not {} × {}",
            file.width, file.height, planned.width, planned.height
        ));
    }
    if file.bytes.len() as u64 > most_bytes(file.width, file.height) {
        return Err("its result is larger than such a picture can be".into());
    }
    if !Made::find(&file.bytes).is_some_and(|found| found.is_same(made)) {
        return Err("its result does not bear the mark of this recipe on this original".into());
    }
    Ok(())
}

/// Makes pictures for another machine.
pub struct Maker {
    room: MemoryBudget,
    kept: IntermediateCache,
}

impl Maker {
    /// What is expensive is kept in `folder`.
    pub fn new(folder: &Path) -> Self {
        Self { room: MemoryBudget::new(default_memory()), kept: IntermediateCache::new(folder) }
    }

    /// Makes what is asked for of an original, in so many threads.
    ///
    /// # Errors
    /// [`Fault`], which says why; what goes wrong inside is a failure of this picture alone.
    pub fn make(
        &self,
        request: &PictureRequest,
        original: Vec<u8>,
        threads: usize,
    ) -> Result<MadePicture, Fault> {
        let work = || {
            schedule::work(Class::Run, threads, &CancellationToken::new(), || self.made(request, original))
        };
        std::panic::catch_unwind(std::panic::AssertUnwindSafe(work)).unwrap_or_else(|_| {
            let reason = "the program failed on this picture; please report it";
            Err(Fault::new(FailureKind::Inside, reason))
        })
    }

    fn made(&self, request: &PictureRequest, original: Vec<u8>) -> Result<MadePicture, Fault> {
        let recipe = Recipe::parse(&request.recipe).and_then(|recipe| recipe.answered(&request.answers));
        let recipe = recipe.map_err(|faults| {
            Fault::new(FailureKind::Recipe, format!("the recipe cannot be read: {faults}"))
        })?;
        let sequence = Arc::new(RunSequence::of_one(
            request.count,
            request.number.saturating_sub(1),
            request.overrides.clone(),
        ));
        let item = PictureJob {
            source: request.name.clone(),
            targets: Vec::new(),
            decided: request.decided.clone(),
            number: request.number,
            sequence,
        };
        let (source, about) = read(&recipe, FileSource::from_bytes(original)?, &item);
        let _taken = self.room.take(bytes(&recipe, &source, &about)?);
        let shift = item.decided.shift;
        let (hash, done) = (content_hash(source.bytes()), done(&recipe, &source, &about));
        let work = Work::new(&recipe, &source, &about, shift, Some(&self.kept), &item.sequence)?;
        let wanted = variants(&recipe).into_iter().enumerate().filter(|(at, _)| request.files.contains(at));
        let todo = wanted.map(|(at, variant)| {
            let recipe = super::existing_file::identity(&recipe, &variant, shift, &about);
            let made = Made { recipe, source: hash.clone(), done: done.clone() };
            (variant, made, at)
        });
        let mut files = work.make_all(todo.collect())?;
        files.sort_by_key(|file| file.what);
        let file =
            |Ready { what, bytes, size: (width, height) }| MadeFile { variant: what, bytes, width, height };
        let place = (request.number.saturating_sub(1), request.of);
        let mut pieces = Vec::new();
        for (task, stage) in recipe.stages().into_iter().filter(|(task, _)| request.pieces.contains(task)) {
            let packed = piece::piece(&work, task, &stage, place)?.packed();
            let (sent, bytes) = packed.ok_or_else(|| {
                Fault::new(FailureKind::Inside, "a piece of this picture cannot be sent; please report it")
            })?;
            pieces.push(MadePiece { task, sent, bytes });
        }
        Ok(MadePicture { files: files.into_iter().map(file).collect(), pieces })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::render::execute::execute;
    use rallo_engine::{Encoded, Pixels, Size};
    use rallo_media::{Encoding, Extras};

    const RECIPE: &str = r#"{"format": "rallo-recipe", "version": 1, "name": "Web",
        "steps": [{"step": "exposure", "stops": 0.3}, {"step": "watermark", "text": "{stem} {folder}"}],
        "deliveries": [{"kind": "pictures", "format": "jpeg", "long_edge": 120, "name": "{stem}-web"},
            {"kind": "pictures", "format": "png", "long_edge": 60, "name": "{stem}-small"}]}"#;

    /// A recipe and a picture in a folder.
    fn place() -> (tempfile::TempDir, Recipe, PictureJob) {
        let folder = tempfile::tempdir().unwrap();
        let spring = folder.path().join("Spring");
        std::fs::create_dir(&spring).unwrap();
        let pixels = (0..160 * 100u32).flat_map(|i| [(i % 160) as u8, (i / 160) as u8 * 2, 90]).collect();
        let picture = Encoded { size: Size::new(160, 100), pixels: Pixels::U8(pixels) };
        let bytes = rallo_media::encode(&picture, Encoding::Png, &Extras::default()).unwrap();
        let source = spring.join("TN_1.png");
        std::fs::write(&source, bytes).unwrap();
        let targets =
            ["TN_1-web.jpg", "TN_1-small.png"].map(|n| (folder.path().join("out").join(n), None)).into();
        let job = PictureJob {
            source,
            targets,
            decided: Decided::default(),
            number: 1,
            sequence: Arc::new(RunSequence::of(1)),
        };
        (folder, Recipe::parse(RECIPE).unwrap(), job)
    }

    /// What another machine is told, in writing, and what it makes of that.
    fn made(folder: &Path, prepared: &Prepared) -> MadePicture {
        let text = serde_json::to_string(&prepared.request).unwrap();
        assert!(!text.contains(folder.to_str().unwrap()), "a path is told: {text}");
        let request = serde_json::from_str(&text).unwrap();
        let maker = Maker::new(&folder.join("kept"));
        maker.make(&request, prepared.original().to_vec(), 1).unwrap()
    }

    #[test]
    fn another_machine_makes_the_same_bytes() {
        let (folder, recipe, job) = place();
        let prepared = prepared((&recipe, RECIPE, &[]), &job, (&[], 0)).unwrap();
        let made = made(folder.path(), &prepared);
        let own: Vec<Vec<u8>> = {
            let (source, about) = read(&recipe, FileSource::open(&job.source).unwrap(), &job);
            let computed = execute(&recipe, &source, &job, &about, None, (&[], 0)).unwrap();
            computed.files.into_iter().map(|file| file.bytes).collect()
        };
        assert!(made.files.iter().map(|f| &f.bytes).eq(&own) && own.len() == 2, "bytes differ");
        let ended = prepared.checked(&recipe, &job, made).unwrap().unwrap().write();
        assert_eq!(ended.state, rallo_job::ItemState::Done);
        assert!(job.targets.iter().all(|(target, _)| target.exists()));
        // What is there is not made again.
        let again = super::prepared((&recipe, RECIPE, &[]), &job, (&[], 0)).err().unwrap();
        assert_eq!(again.state, rallo_job::ItemState::Skipped);
    }

    #[test]
    fn what_is_something_else_is_not_believed() {
        let (folder, recipe, job) = place();
        let fresh = || prepared((&recipe, RECIPE, &[]), &job, (&[], 0)).unwrap();
        let made = made(folder.path(), &fresh());
        type Change = fn(&mut Vec<MadeFile>);
        let wrong: [(&str, Change); 5] = [
            ("other files", |files| drop(files.pop())),
            ("other files", |files| files.swap(0, 1)),
            ("its result is", |files| files[0].width += 1),
            ("mark of this recipe", |files| files[0].bytes = files[1].bytes.clone()[..200].to_vec()),
            ("larger than", |files| files[1].bytes.resize(70_000_000, 0)),
        ];
        for (why, change) in wrong {
            let mut wrong = made.clone();
            change(&mut wrong.files);
            let said = fresh().checked(&recipe, &job, wrong).err().unwrap();
            assert!(said.contains(why), "{said}");
        }
        assert!(!folder.path().join("out").exists(), "something was written");
        // An original that changed meanwhile fails, and that is the picture's matter.
        let before = fresh();
        std::fs::write(&job.source, b"other").unwrap();
        let ended = before.checked(&recipe, &job, made).unwrap().err().unwrap();
        assert_eq!(ended.kind, Some(FailureKind::Changed));
    }
}
