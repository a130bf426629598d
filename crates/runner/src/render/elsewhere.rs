//! One picture made by another machine: what it has to be told, what it gives back, and what of that is believed.
//!
//! A machine that helps sees a picture's bytes, those of the pictures beside it that it is joined with or measured against, the recipe, and
//! the names that texts and file names may be made of; not where they lie, and nothing of other pictures. What it gives back is written only if it is a picture of the size it says, bears the mark of
//! this recipe on this original, and keeps within bounds.

use crate::assemble::piece::{self, Piece, SentAs};
use crate::frame_context::Decided;
use crate::lock::lock;
use crate::render::disk_cache::IntermediateCache;
use crate::render::execute::{Computed, Planned, planned};
use crate::render::fault::{Ended, Fault};
use crate::render::item::{bytes, read};
use crate::render::joined_frames::reach_of;
use crate::render::memory_budget::{MemoryBudget, default_memory};
use crate::render::picture_job::PictureJob;
use crate::render::sequence::{Frame, RunSequence, measured};
use crate::render::variant::{Variant, variants};
use crate::render::work::{Ready, Work, done};
use crate::schedule::{self, CancellationToken, Class};
use rallo_job::FailureKind;
use rallo_media::{FileSource, Made, content_hash};
use rallo_recipe::{FrameValue, Overrides, Recipe, ResolveContext};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

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
    /// The picture is measured, for lines that decide about all pictures together, and nothing is made of it.
    pub measures: bool,
    /// Other pictures of the run that it is joined with, or measured against.
    pub beside: Vec<PictureBeside>,
    /// The same for pictures whose work can be shared; empty where none are beside it.
    pub group: String,
}

/// Another picture of the run.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct PictureBeside {
    /// Its place in the run, from 0.
    pub place: usize,
    /// Hash of the original's bytes.
    pub source: String,
    /// How many they are.
    pub length: u64,
    /// Names of the original and its folder.
    pub name: PathBuf,
    /// What people decided about it.
    pub decided: Decided,
    /// What was decided about it together with the others.
    pub overrides: Overrides,
}

/// An original that another machine needs.
#[derive(Clone, Debug)]
pub struct Original {
    /// Hash of its bytes.
    pub hash: String,
    /// How many they are.
    pub length: u64,
    /// Its file.
    pub path: PathBuf,
    /// They, where they are at hand.
    pub bytes: Option<Arc<Vec<u8>>>,
}

/// What was made of a picture.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct MadePicture {
    /// Its files.
    pub files: Vec<MadeFile>,
    /// What joins others.
    pub pieces: Vec<MadePiece>,
    /// What was measured of it, by line.
    pub measured: Option<Value>,
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

/// A picture that is about to be made elsewhere.
pub(crate) struct Prepared {
    planned: Planned,
    source: FileSource,
    context: ResolveContext,
    of: usize,
    /// What the other machine is told.
    pub request: PictureRequest,
    /// What it needs for that.
    pub originals: Vec<Original>,
}

/// What is told about a picture of a recipe's document.
type About<'a> = (&'a Recipe, &'a str, &'a [FrameValue]);

/// The names of a file and its folder, without what is above.
fn names_of(path: &Path) -> PathBuf {
    let above = path.parent().and_then(Path::file_name).map(PathBuf::from).unwrap_or_default();
    above.join(path.file_name().unwrap_or_default())
}

/// What another machine is told about an opened picture and the others in `places`, and what it needs for that; nothing is
/// asked for yet.
fn request_for(
    (_, document, answers): About,
    item: &PictureJob,
    (source, context): (&FileSource, &ResolveContext),
    places: impl IntoIterator<Item = usize>,
    measures: bool,
) -> (PictureRequest, Vec<Original>) {
    let own = content_hash(source.bytes());
    let length = source.bytes().len() as u64;
    let mut originals = vec![Original {
        hash: own.clone(),
        length,
        path: item.source.clone(),
        bytes: Some(Arc::new(source.bytes().to_vec())),
    }];
    let mut beside = Vec::new();
    for place in places {
        // One that cannot be read fails by itself, in its own turn.
        let Some((hash, length)) = item.sequence.hash(place).ok().flatten() else { continue };
        let Some((path, decided)) = item.sequence.original(place) else { continue };
        originals.push(Original { hash: hash.clone(), length, path: path.clone(), bytes: None });
        let (name, decided, overrides) = (names_of(path), decided.clone(), item.sequence.overrides(place));
        beside.push(PictureBeside { place, source: hash, length, name, decided, overrides });
    }
    let group = match beside.is_empty() {
        true => String::new(),
        false => item.sequence.group(document, measures),
    };
    let request = PictureRequest {
        source: own,
        length,
        name: names_of(&item.source),
        recipe: document.to_owned(),
        answers: answers.to_vec(),
        decided: item.decided.clone(),
        number: item.number,
        count: item.sequence.count,
        overrides: context.overrides.clone(),
        files: Vec::new(),
        pieces: Vec::new(),
        of: 0,
        measures,
        beside,
        group,
    };
    (request, originals)
}

fn opened(recipe: &Recipe, item: &PictureJob) -> Result<(FileSource, ResolveContext), Fault> {
    let source = FileSource::open(&item.source)?;
    Ok(read(recipe, source, item))
}

/// Opens a picture and looks what is to be made of it.
pub(crate) fn prepared(
    about: About,
    item: &PictureJob,
    (wanted, of): (&[usize], usize),
) -> Result<Prepared, Box<Ended>> {
    let recipe = about.0;
    let (source, context) = opened(recipe, item).map_err(|fault| Box::new(Ended::failed(fault)))?;
    let planned = planned(recipe, &source, item, &context, wanted)?;
    let reach = if recipe.joins_neighbours() { reach_of(recipe, &context) } else { 0 };
    let at = item.number.saturating_sub(1);
    let around =
        at.saturating_sub(reach)..=at.saturating_add(reach).min(item.sequence.count.saturating_sub(1));
    let places = around.filter(|place| *place != at);
    let (mut request, originals) = request_for(about, item, (&source, &context), places, false);
    request.files = planned.todo.iter().map(|(variant, ..)| *variant).collect();
    request.pieces = planned.stages.iter().map(|(task, _)| *task).collect();
    request.of = of;
    Ok(Prepared { planned, source, context, of, request, originals })
}

/// Opens a picture that is to be measured: what another machine is told, and what it needs for that.
pub(crate) fn prepared_to_measure(
    about: About,
    item: &PictureJob,
) -> Result<(PictureRequest, Vec<Original>), Fault> {
    let (source, context) = opened(about.0, item)?;
    let places = item.sequence.against(about.0, item.number.saturating_sub(1));
    Ok(request_for(about, item, (&source, &context), places, true))
}

/// Numbers that are measured of a picture for one line at most.
const MOST_MEASURED: usize = 100_000;

/// What another machine measured, if it can be that; or why it is not believed.
pub(crate) fn believed_measured(recipe: &Recipe, made: MadePicture) -> Result<Value, String> {
    let measured = made.measured.ok_or("it measured nothing")?;
    let across = recipe.across();
    let by_line = measured.as_object().ok_or("what it measured is not by lines")?;
    let is_known = |(line, values): (&String, &Value)| {
        line.parse().is_ok_and(|line| across.contains(&line))
            && values.as_array().is_some_and(|v| v.len() <= MOST_MEASURED && v.iter().all(Value::is_f64))
    };
    if !made.files.is_empty() || !made.pieces.is_empty() || !by_line.iter().all(is_known) {
        return Err("what it measured is not what was asked for".into());
    }
    Ok(measured)
}

/// The largest file of so many pixels that is believed: sixteen bytes a pixel, and what may stand beside them.
pub fn most_bytes(width: u32, height: u32) -> u64 {
    64_000_000 + u64::from(width) * u64::from(height) * 16
}

impl Prepared {
    /// What another machine made, ready to be written; or why it is not believed.
    pub fn checked(
        mut self,
        recipe: &Recipe,
        item: &PictureJob,
        MadePicture { files, pieces, measured }: MadePicture,
    ) -> Result<Result<Computed, Box<Ended>>, String> {
        if measured.is_some() {
            return Err("it measured what was to be made".into());
        }
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
            let place = (item.number.saturating_sub(1), self.of);
            let of = (recipe, &self.context);
            joined.push((*task, Piece::unpacked(of, (*task, stage), place, piece.sent, piece.bytes)?));
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
    /// Pictures of the same runs that were worked on last, by their groups.
    groups: Mutex<Vec<(String, Arc<RunSequence>)>>,
}

/// So many groups are remembered.
const GROUPS: usize = 2;

/// Bytes of originals, by their hashes.
pub type Originals = HashMap<String, Arc<Vec<u8>>>;

impl Maker {
    /// What is expensive is kept in `folder`.
    pub fn new(folder: &Path) -> Self {
        Self {
            room: MemoryBudget::new(default_memory()),
            kept: IntermediateCache::new(folder),
            groups: Mutex::default(),
        }
    }

    /// The pictures of the run that were sent with one.
    fn sequence(&self, request: &PictureRequest, originals: &Originals) -> Arc<RunSequence> {
        let frame = |name: &PathBuf, decided: &Decided, hash: &str| {
            let bytes = originals.get(hash).cloned();
            Frame { source: name.clone(), decided: decided.clone(), bytes }
        };
        // The picture itself lies beside its neighbours.
        let at = request.number.saturating_sub(1);
        let mut overrides = HashMap::from([(at, request.overrides.clone())]);
        let mut frames = HashMap::from([(at, frame(&request.name, &request.decided, &request.source))]);
        for one in &request.beside {
            overrides.insert(one.place, one.overrides.clone());
            frames.insert(one.place, frame(&one.name, &one.decided, &one.source));
        }
        let mut groups = lock(&self.groups);
        let known = groups.iter().position(|(group, _)| *group == request.group && !group.is_empty());
        let before = known.map(|at| groups.remove(at).1).unwrap_or_default();
        let sequence = Arc::new(RunSequence::of_sent(request.count, overrides, frames, &before));
        if !request.group.is_empty() {
            groups.push((request.group.clone(), sequence.clone()));
            if groups.len() > GROUPS {
                groups.remove(0);
            }
        }
        sequence
    }

    /// Makes what is asked for of an original, in so many threads.
    ///
    /// # Errors
    /// [`Fault`], which says why; what goes wrong inside is a failure of this picture alone.
    pub fn make(
        &self,
        request: &PictureRequest,
        originals: &Originals,
        threads: usize,
    ) -> Result<MadePicture, Fault> {
        let work = || {
            schedule::work(Class::Run, threads, &CancellationToken::new(), || self.made(request, originals))
        };
        std::panic::catch_unwind(std::panic::AssertUnwindSafe(work)).unwrap_or_else(|_| {
            let reason = "the program failed on this picture; please report it";
            Err(Fault::new(FailureKind::Inside, reason))
        })
    }

    fn made(&self, request: &PictureRequest, originals: &Originals) -> Result<MadePicture, Fault> {
        let recipe = Recipe::parse(&request.recipe).and_then(|recipe| recipe.answered(&request.answers));
        let recipe = recipe.map_err(|faults| {
            Fault::new(FailureKind::Recipe, format!("the recipe cannot be read: {faults}"))
        })?;
        let original = originals
            .get(&request.source)
            .ok_or_else(|| Fault::new(FailureKind::Gone, "the original was not sent"))?;
        let sequence = self.sequence(request, originals);
        let item = PictureJob {
            source: request.name.clone(),
            targets: Vec::new(),
            decided: request.decided.clone(),
            number: request.number,
            sequence,
        };
        let (source, about) = read(&recipe, FileSource::from_bytes(original.to_vec())?, &item);
        let _taken = self.room.take(bytes(&recipe, &source, &about)?);
        if request.measures {
            let measured = measured(&recipe, &source, &about, &item.sequence, None)?;
            return Ok(MadePicture { measured: Some(measured), ..MadePicture::default() });
        }
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
            let (sent, bytes) = piece::piece(&work, task, &stage, place)?.packed()?;
            pieces.push(MadePiece { task, sent, bytes });
        }
        Ok(MadePicture { files: files.into_iter().map(file).collect(), pieces, measured: None })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::render::execute::execute;
    use crate::render::sequence::SequenceFrame;
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
        let originals = prepared.originals.iter().map(|o| {
            let bytes = o.bytes.clone().unwrap_or_else(|| Arc::new(std::fs::read(&o.path).unwrap()));
            (o.hash.clone(), bytes)
        });
        maker.make(&request, &originals.collect(), 1).unwrap()
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
    fn a_picture_is_among_the_neighbours_of_its_neighbours() {
        let folder = tempfile::tempdir().unwrap();
        let frames: Vec<SequenceFrame> = (0..6u8)
            .map(|n| {
                let pixels = (0..40 * 30u32).flat_map(|i| [(i % 40) as u8 * n, (i / 40) as u8 * 7, 40 * n]);
                let picture = Encoded { size: Size::new(40, 30), pixels: Pixels::U8(pixels.collect()) };
                let bytes = rallo_media::encode(&picture, Encoding::Png, &Extras::default()).unwrap();
                let source = folder.path().join(format!("S_{n}.png"));
                std::fs::write(&source, bytes).unwrap();
                SequenceFrame { source, stamp: 0, decided: Decided::default() }
            })
            .collect();
        let text = r#"{"format": "rallo-recipe", "version": 1, "name": "Calm",
            "steps": [{"step": "blend", "frames": 2}, {"step": "trails", "frames": 2}],
            "deliveries": [{"kind": "pictures", "format": "png"}]}"#;
        let recipe = Recipe::parse(text).unwrap();
        let sequence = Arc::new(RunSequence::new(&recipe, frames.clone(), &[]).unwrap());
        let job = PictureJob {
            source: frames[3].source.clone(),
            targets: vec![(folder.path().join("out.png"), None)],
            decided: Decided::default(),
            number: 4,
            sequence,
        };
        let prepared = prepared((&recipe, text, &[]), &job, (&[], 0)).unwrap();
        assert_eq!(prepared.request.beside.iter().map(|b| b.place).collect::<Vec<_>>(), [0, 1, 2, 4, 5]);
        let made = made(folder.path(), &prepared);
        let (source, about) = read(&recipe, FileSource::open(&job.source).unwrap(), &job);
        let own = execute(&recipe, &source, &job, &about, None, (&[], 0)).unwrap();
        assert!(made.files[0].bytes == own.files[0].bytes, "bytes differ");
    }

    #[test]
    fn numbers_that_were_not_asked_for_are_not_believed() {
        let text = r#"{"format": "rallo-recipe", "version": 1, "name": "Even", "steps": [{"step": "grey"}, {"step": "deflicker"}],
            "deliveries": [{"kind": "pictures"}]}"#;
        let recipe = Recipe::parse(text).unwrap();
        let told = |measured: Value| {
            believed_measured(&recipe, MadePicture { measured: Some(measured), ..MadePicture::default() })
        };
        let good = serde_json::json!({"1": [0.5, 0.25]});
        assert_eq!(told(good.clone()), Ok(good));
        assert_eq!(told(serde_json::json!({})), Ok(serde_json::json!({})), "a line that does not apply");
        let many = vec![0.5; MOST_MEASURED + 1];
        for wrong in [
            serde_json::json!([0.5]),
            serde_json::json!({"0": [0.5]}),
            serde_json::json!({"one": [0.5]}),
            serde_json::json!({"1": 0.5}),
            serde_json::json!({"1": ["much"]}),
            serde_json::json!({"1": many}),
        ] {
            assert!(told(wrong.clone()).is_err(), "{wrong}");
        }
        assert!(believed_measured(&recipe, MadePicture::default()).is_err());
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
