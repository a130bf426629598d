//! What is done for all pictures of a run together, once they are made: assemblies, the check of numbered frames, sidecars and
//! checksums of an archive, the page of a course pack, ZIP files.

use crate::assemble::assembler::{Gathered, Gatherer};
use crate::assemble::clip;
use crate::assemble::ordered_stream::Stream;
use crate::assemble::piece::{self, Piece};
use crate::files::atomic_file::part_in;
use crate::frame_context::{decided, resolve_context};
use crate::library::scan;
use crate::render::disk_cache::IntermediateCache;
use crate::render::existing_file::numbered;
use crate::render::fault::{Ended, Fault};
use crate::render::item;
use crate::render::memory_budget::MemoryBudget;
use crate::render::picture_job::PictureJob;
use crate::render::sequence::RunSequence;
use crate::render::work::Work;
use rallo_job::{FailureKind, ItemState, Records, ResultFile, RunItem, WrittenFile};
use rallo_media::{content_hash, file_hash};
use rallo_recipe::{Assembly, FinishingTask, Recipe, ResolveContext};
use serde_json::{Value, json};
use std::fmt::Write as _;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use tempfile::TempPath;

/// A run when its pictures are made.
pub(crate) struct Around<'a> {
    pub records: &'a dyn Records,
    /// What waits for the records.
    pub handle: tokio::runtime::Handle,
    pub recipe: &'a Recipe,
    /// All of its items, tasks too.
    pub items: &'a [RunItem],
    /// The one that is done now.
    pub item: &'a RunItem,
    pub room: &'a Arc<MemoryBudget>,
    pub kept: &'a IntermediateCache,
    /// The pictures together.
    pub sequence: Arc<RunSequence>,
    /// Set when nobody waits for it any more.
    pub stop: &'a AtomicBool,
}

/// How it ended, and by what its result is known again.
pub(crate) struct Done {
    pub ended: Ended,
    pub mark: Option<String>,
}

impl Around<'_> {
    /// The pictures of the run.
    pub(super) fn pictures(&self) -> impl Iterator<Item = &RunItem> {
        self.items.iter().filter(|i| i.task.is_none())
    }

    /// Files of one of the recipe's deliveries, with their originals.
    pub(super) fn files(&self, delivery: usize) -> Vec<(ResultFile, &RunItem)> {
        let variants = crate::render::variant::variants(self.recipe);
        let of_delivery =
            |o: &ResultFile| o.variant.and_then(|v| variants.get(v)).is_some_and(|v| v.at == delivery);
        self.pictures()
            .flat_map(|i| i.outputs.clone().into_iter().filter(of_delivery).map(move |o| (o, i)))
            .collect()
    }

    /// What is known of a file that a run wrote: its hash, and its mark.
    fn known(&self, path: &Path) -> Option<(String, Option<String>)> {
        let row = self.handle.block_on(self.records.result(&path.to_string_lossy())).ok()??;
        Some((row.hash, row.mark))
    }

    /// Whether a file is as a run wrote it.
    fn is_ours(&self, path: &Path) -> bool {
        self.known(path).is_some_and(|(hash, _)| file_hash(path).is_ok_and(|now| now == hash))
    }

    /// Where a file of our own goes that stands beside others: its place, or one with a number where somebody else's is.
    pub(super) fn beside(&self, path: PathBuf) -> Result<PathBuf, Fault> {
        if !path.exists() || self.is_ours(&path) {
            return Ok(path);
        }
        let none = || Fault::new(FailureKind::NameTaken, format!("no free number for {}", path.display()));
        numbered(&path).ok_or_else(none)
    }

    /// Where a result goes, by what its delivery says of files that exist; nothing where it is there already.
    pub(super) fn place(&self, existing: &str, mark: &str) -> Result<Option<(PathBuf, bool)>, Fault> {
        let target = PathBuf::from(&self.item.target);
        if !target.exists() {
            return Ok(Some((target, false)));
        }
        let ours = self.is_ours(&target);
        if ours && self.known(&target).and_then(|k| k.1).as_deref() == Some(mark) {
            return Ok(None);
        }
        // What this very task wrote, before it was tried again.
        let before = self.item.outputs.iter().any(|o| o.path == target && o.made);
        if ours && before {
            return Ok(Some((target, true)));
        }
        let name = target.file_name().unwrap_or_default().to_string_lossy().into_owned();
        match existing {
            "number" => {
                let none = || Fault::new(FailureKind::NameTaken, format!("no free number for {name}"));
                Ok(Some((numbered(&target).ok_or_else(none)?, false)))
            }
            "replace" if ours => Ok(Some((target, true))),
            "replace" => Err(Fault::new(
                FailureKind::NameTaken,
                format!(
                    "{name} exists and is no earlier result, so it is not replaced; move it away or choose another name"
                ),
            )),
            _ => Err(Fault::new(
                FailureKind::NameTaken,
                format!(
                    "{name} exists already; choose another name or folder, or let the delivery number or replace"
                ),
            )),
        }
    }

    /// By what a result of all pictures is known again: the recipe, and every picture as it lies on the disk.
    pub fn mark(&self, what: &Value) -> String {
        let mut recipe = self.recipe.to_value();
        let lines = recipe["deliveries"]
            .as_array()
            .map(|deliveries| deliveries.iter().map(|d| d["steps"].clone()).collect::<Vec<_>>());
        for key in ["deliveries", "note", "labels"] {
            recipe[key] = Value::Null;
        }
        let mut text = format!("engine {}|{recipe}|{lines:?}|{what}", rallo_engine::RESULTS);
        for item in self.pictures() {
            let about = Path::new(&item.source).metadata().ok();
            let time = about.as_ref().and_then(|a| a.modified().ok());
            let answers = json!(item.answers);
            let _ = write!(
                text,
                "|{} {:?} {time:?} {} {answers}",
                item.source,
                about.map(|a| a.len()),
                item.decided
            );
        }
        content_hash(text.as_bytes())
    }

    /// The picture at a place of the run, as it is worked on.
    pub(super) fn picture(&self, at: usize) -> Option<(Recipe, PictureJob)> {
        let item = self.pictures().nth(at)?;
        let recipe = self.recipe.answered(&item.answers).ok()?;
        // What cannot be read has failed as a picture already, with a reason.
        let decided = decided(item).ok()?;
        let work = PictureJob {
            source: item.source.clone().into(),
            targets: Vec::new(),
            decided,
            number: at + 1,
            sequence: self.sequence.clone(),
        };
        Some((recipe, work))
    }

    /// What is known about the first picture that can be read.
    pub fn first(&self) -> ResolveContext {
        let about = |at: usize| {
            let (_, item) = self.picture(at)?;
            let facts = scan::facts(&item.source).ok()?;
            Some(resolve_context(&item.source, Some(&facts), &item.decided, 1))
        };
        (0..self.pictures().count()).find_map(about).unwrap_or_default()
    }

    /// Makes an assembly in a pass of its own.
    fn pass(&self, assembly: &Assembly, task: usize) -> Result<Gathered, Fault> {
        let count = self.pictures().count();
        let folder = Path::new(&self.item.target).parent().unwrap_or(Path::new("/"));
        let mut gatherer = Gatherer::begin(assembly, self.recipe, &self.first(), count, folder)?;
        let needs = assembly.needs(count);
        let failed: Vec<bool> = self.pictures().map(|i| i.state == ItemState::Failed).collect();
        let mut order: Vec<usize> = (0..count).filter(|k| needs[*k]).collect();
        if assembly.is_backwards() {
            order.reverse();
        }
        let piece_of = |at: usize| -> Option<Piece> {
            let (recipe, item) = self.picture(at).filter(|_| !failed[at])?;
            let (_, stage) = recipe.stages().into_iter().find(|(t, _)| *t == task)?;
            let made = item::opened(&recipe, &item, self.room, |source, about| {
                let work =
                    Work::new(&recipe, source, about, item.decided.shift, Some(self.kept), &item.sequence)
                        .map_err(|fault| Box::new(Ended::failed(fault)))?;
                piece::piece(&work, task, &stage, (at, count)).map_err(|fault| Box::new(Ended::failed(fault)))
            });
            made.ok()
        };
        // Some are worked on while those before them are taken.
        let threads = rayon::current_num_threads().max(1);
        let (give, take) = std::sync::mpsc::sync_channel::<Result<(usize, Option<Piece>), Fault>>(threads);
        std::thread::scope(|scope| {
            let taker = scope.spawn(move || -> Result<Gatherer, Fault> {
                for next in take {
                    let (at, piece) = next?;
                    gatherer.take(at, piece)?;
                }
                Ok(gatherer)
            });
            for window in order.chunks(threads) {
                if self.stop.load(Ordering::Relaxed) {
                    break;
                }
                use rayon::prelude::*;
                let pieces: Vec<(usize, Option<Piece>)> =
                    window.par_iter().map(|at| (*at, piece_of(*at))).collect();
                // In the threads of the run, not in the taker's.
                let mut parts = pieces.into_iter().flat_map(|(at, piece)| {
                    let missing = piece.is_none().then_some(Ok((at, None)));
                    let parts = piece.into_iter().flat_map(Piece::parts);
                    missing.into_iter().chain(parts.map(move |p| p.map(|p| (at, Some(p)))))
                });
                let gone = |part| self.stop.load(Ordering::Relaxed) || give.send(part).is_err();
                if parts.any(gone) {
                    break;
                }
            }
            drop(give);
            taker.join().unwrap_or_else(|_| {
                Err(Fault::new(FailureKind::Inside, "the program failed on this file; please report it"))
            })
        })
        .and_then(|gatherer| {
            if self.stop.load(Ordering::Relaxed) {
                return Err(Fault::new(FailureKind::Together, "it was cancelled"));
            }
            gatherer.finish()
        })
    }

    fn assembly(&self, assembly: &Assembly, task: usize, live: Option<Gatherer>) -> Result<Done, Fault> {
        let mark = self.mark(&assembly.identity());
        let Some((target, replace)) = self.place(&assembly.target().existing, &mark)? else {
            let mut ended = self.there();
            if let (Assembly::Video(video), Some(output)) = (assembly, ended.outputs.first_mut()) {
                let settings = clip::clip(video, "", self.pictures().count());
                (output.width, output.height) = (settings.size.width, settings.size.height);
            }
            return Ok(Done { ended, mark: Some(mark) });
        };
        let gathered = match live.map(Gatherer::finish) {
            Some(Ok(gathered)) => gathered,
            Some(Err(e)) if e.kind == FailureKind::NoRoom => return Err(e),
            _ => self.pass(assembly, task)?,
        };
        let Gathered { part, size, clip, missing, told } = gathered;
        let mut output = self.keep(part, &target, replace, Some(&mark))?;
        (output.width, output.height) = size;
        output.clip = clip.map(|facts| json!(facts));
        let reason = (missing > 0).then(|| match (assembly, missing) {
            (Assembly::Video(_), 1) => "one picture failed; the frame before stands for it".to_owned(),
            (Assembly::Video(_), n) => format!("{n} pictures failed; the frames before stand for them"),
            (_, 1) => "one picture failed and is not in it".to_owned(),
            (_, n) => format!("{n} pictures failed and are not in it"),
        });
        let both: Vec<String> = reason.into_iter().chain(told).collect();
        let reason = (!both.is_empty()).then(|| both.join("; "));
        let ended = Ended { state: ItemState::Done, kind: None, reason, outputs: vec![output] };
        Ok(Done { ended, mark: Some(mark) })
    }

    /// It is there already.
    pub(super) fn there(&self) -> Ended {
        let path = PathBuf::from(&self.item.target);
        let bytes = path.metadata().map_or(0, |m| m.len());
        let hash = file_hash(&path).unwrap_or_default();
        let output = ResultFile {
            path,
            bytes,
            width: 0,
            height: 0,
            hash,
            made: false,
            variant: None,
            clip: None,
            made_by: None,
        };
        let reason = Some("already made by this recipe from these pictures".to_owned());
        Ended { state: ItemState::Skipped, kind: None, reason, outputs: vec![output] }
    }

    /// Numbered frames have every number once, and one size.
    fn check(&self, delivery: usize) -> Result<Done, Fault> {
        let files = self.files(delivery);
        let missing: Vec<&RunItem> = self
            .pictures()
            .filter(|i| !files.iter().any(|(o, of)| of.position == i.position && o.path.exists()))
            .collect();
        let name = |i: &RunItem| {
            let target = i.targets().into_iter().nth(self.variant(delivery)).unwrap_or_default();
            let of = |p: &str| Path::new(p).file_name().unwrap_or_default().to_string_lossy().into_owned();
            format!("{} of {}", of(&target), of(&i.source))
        };
        let wrong = |text: String| Err(Fault::new(FailureKind::Together, text));
        if let Some(first) = missing.first() {
            let more =
                if missing.len() > 1 { format!(" and {} more", missing.len() - 1) } else { String::new() };
            return wrong(format!(
                "the frames have a gap: {}{more} was not made; an editor stops there. Mend or leave out that picture and try again",
                name(first)
            ));
        }
        let sizes: std::collections::BTreeSet<(u32, u32)> =
            files.iter().map(|(o, _)| (o.width, o.height)).collect();
        if sizes.len() > 1 {
            return wrong(format!(
                "the frames are of {} sizes; an editor takes only one as a clip",
                sizes.len()
            ));
        }
        let moved = files
            .iter()
            .find(|(o, i)| i.targets().get(self.variant(delivery)).is_some_and(|t| Path::new(t) != o.path));
        if let Some((output, _)) = moved {
            let name = output.path.file_name().unwrap_or_default().to_string_lossy().into_owned();
            return wrong(format!(
                "{name} got another number, because a file of its name was there; the frames are not in a row"
            ));
        }
        Ok(Done {
            ended: Ended { state: ItemState::Done, kind: None, reason: None, outputs: Vec::new() },
            mark: None,
        })
    }

    /// Which of the files of each picture is the delivery's first.
    fn variant(&self, delivery: usize) -> usize {
        crate::render::variant::variants(self.recipe).iter().position(|v| v.at == delivery).unwrap_or(0)
    }

    pub(super) fn write(&self, path: PathBuf, bytes: &[u8]) -> Result<ResultFile, Fault> {
        let fault = |e: std::io::Error| Fault::writing(&path, &e);
        let mut part = part_in(path.parent().unwrap_or(Path::new("/"))).map_err(fault)?;
        part.write_all(bytes).map_err(fault)?;
        part.as_file().sync_all().map_err(fault)?;
        self.keep(part.into_temp_path(), &path, true, None)
    }

    /// Gives a complete file its name. The store knows of it before: a program killed between the two finds its own file
    /// there, and not somebody's.
    pub(super) fn keep(
        &self,
        part: TempPath,
        target: &Path,
        replace: bool,
        mark: Option<&str>,
    ) -> Result<ResultFile, Fault> {
        let fault = |e: std::io::Error| Fault::writing(target, &e);
        let bytes = part.metadata().map_err(fault)?.len();
        let hash = file_hash(&part).map_err(fault)?;
        if !target.exists() {
            let written = WrittenFile {
                path: target.to_string_lossy().into_owned(),
                hash: hash.clone(),
                bytes: bytes as i64,
                mark: mark.map(str::to_owned),
            };
            self.handle
                .block_on(self.records.keep_result(&written, self.item.run_id))
                .map_err(|e| Fault::new(FailureKind::Inside, e.to_string()))?;
        }
        if replace { part.persist(target) } else { part.persist_noclobber(target) }
            .map_err(|e| fault(e.error))?;
        Ok(ResultFile {
            path: target.into(),
            bytes,
            width: 0,
            height: 0,
            hash,
            made: true,
            variant: None,
            clip: None,
            made_by: None,
        })
    }
}

pub(super) fn unreadable(path: &Path, e: &std::io::Error) -> Fault {
    Fault::new(FailureKind::Unreadable, format!("cannot read {}: {e}", path.display()))
}

/// An assembly that can be filled while the pictures are made, for the task an item stands for.
pub(crate) fn stream(around: &Around) -> Option<(usize, Stream)> {
    let place = usize::try_from(around.item.task?).ok()?;
    let (_, FinishingTask::Assembly(assembly)) = around.recipe.tasks().into_iter().nth(place)? else {
        return None;
    };
    if assembly.is_backwards() {
        return None;
    }
    let mark = around.mark(&assembly.identity());
    // One that is there, or may not be written, is not filled; why is told when it has its turn.
    around.place(&assembly.target().existing, &mark).ok().flatten()?;
    let count = around.pictures().count();
    let folder = Path::new(&around.item.target).parent()?;
    let gatherer = Gatherer::begin(&assembly, around.recipe, &around.first(), count, folder).ok()?;
    Some((place, Stream::new(&assembly, count, gatherer, around.room.reserve())))
}

/// Does a task; `live` is an assembly that was filled while the pictures were made.
pub(crate) fn perform(around: &Around, live: Option<Gatherer>) -> Done {
    let tasks = around.recipe.tasks();
    let place = around.item.task.and_then(|t| usize::try_from(t).ok());
    let Some((place, (delivery, task))) = place.and_then(|p| Some((p, tasks.get(p)?))) else {
        let ended = Ended::failed(Fault::new(
            FailureKind::Recipe,
            "the recipe has other deliveries than when the run began",
        ));
        return Done { ended, mark: None };
    };
    let done = match task {
        FinishingTask::Assembly(assembly) => around.assembly(assembly, place, live),
        FinishingTask::Check => around.check(*delivery),
        FinishingTask::Archive => around.archive(*delivery),
        FinishingTask::Course => around.course(*delivery),
        FinishingTask::Zip => around.zip(*delivery),
    };
    done.unwrap_or_else(|fault| Done { ended: Ended::failed(fault), mark: None })
}
