//! Gathering: verified copies of scattered frames in one folder. Originals are only read.
//!
//! A copy is written under a temporary name, flushed, read back and compared by hash, then gets its name. What is
//! there already with the same content is left alone, so a gathering that was stopped goes on where it was.

use rallo_media::content_hash;
use rallo_media::decode::read_file;
use rallo_recipe::names::TemplateError;
use rallo_shoot::Frame;
use rallo_shoot::gather::{self, Becomes, Candidate, Line};
use serde::Serialize;
use std::collections::HashMap;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};

/// A file that could not be used.
#[derive(Clone, Debug, Serialize)]
pub struct Trouble {
    /// The file.
    pub path: PathBuf,
    /// Why.
    pub reason: String,
}

/// What will be done, or was done.
#[derive(Clone, Debug, Default, Serialize)]
pub struct Report {
    /// Copies to be made, or made.
    pub copied: usize,
    /// Copies that were there already.
    pub there: usize,
    /// Pictures found twice.
    pub twice: usize,
    /// Files that could not be read or written.
    pub trouble: Vec<Trouble>,
    /// Whether it was stopped before its end.
    pub stopped: bool,
    /// What becomes of each file.
    pub lines: Vec<Line>,
}

fn hash_of(path: &Path) -> Result<String, String> {
    read_file(path).map(|bytes| content_hash(&bytes)).map_err(|e| e.to_string())
}

/// Plans the copies of `frames` into `target`; reads every file once. `progress` is told (read, of).
///
/// # Errors
/// [`TemplateError`].
pub fn plan(
    frames: &[&Frame],
    target: &Path,
    template: &str,
    stop: &AtomicBool,
    progress: &dyn Fn(usize, usize),
) -> Result<Report, TemplateError> {
    rallo_recipe::names::check(template)?;
    let mut candidates = Vec::new();
    let mut report = Report::default();
    for (i, frame) in frames.iter().enumerate() {
        if stop.load(Ordering::Relaxed) {
            report.stopped = true;
            return Ok(report);
        }
        match hash_of(&frame.path) {
            Ok(content) => candidates.push(Candidate {
                path: frame.path.clone(),
                bytes: frame.bytes,
                taken: frame.taken(),
                iso: frame.facts.as_ref().and_then(|f| f.camera.iso),
                size: frame.facts.as_ref().map_or((0, 0), |f| (f.width, f.height)),
                content,
            }),
            Err(reason) => report.trouble.push(Trouble { path: frame.path.clone(), reason }),
        }
        progress(i + 1, frames.len());
    }
    let held: Mutex<HashMap<String, Option<String>>> = Mutex::default();
    let there = |name: &str| {
        let mut held = held.lock().unwrap_or_else(|p| p.into_inner());
        held.entry(name.to_owned())
            .or_insert_with(|| {
                let path = target.join(name);
                // Something that cannot be read is no copy of ours, but it is there.
                path.exists().then(|| hash_of(&path).unwrap_or_default())
            })
            .clone()
    };
    report.lines = gather::plan(&candidates, template, &there)?;
    count(&mut report);
    Ok(report)
}

fn count(report: &mut Report) {
    for line in &report.lines {
        match line.becomes {
            Becomes::Copy { .. } => report.copied += 1,
            Becomes::There { .. } => report.there += 1,
            Becomes::Same { .. } => report.twice += 1,
        }
    }
}

/// Carries a plan out. `progress` is told (done, of).
pub fn carry_out(plan: &Report, target: &Path, stop: &AtomicBool, progress: &dyn Fn(usize, usize)) -> Report {
    let mut report = Report { trouble: plan.trouble.clone(), lines: plan.lines.clone(), ..Report::default() };
    let total = plan.lines.len();
    for (i, line) in plan.lines.iter().enumerate() {
        if stop.load(Ordering::Relaxed) {
            report.stopped = true;
            break;
        }
        match &line.becomes {
            Becomes::Copy { name } => match copy(line, &target.join(name)) {
                Ok(()) => report.copied += 1,
                Err(reason) => report.trouble.push(Trouble { path: line.source.clone(), reason }),
            },
            Becomes::There { .. } => report.there += 1,
            Becomes::Same { .. } => report.twice += 1,
        }
        progress(i + 1, total);
    }
    report
}

/// One verified copy; the file's time goes along.
fn copy(line: &Line, to: &Path) -> Result<(), String> {
    let bytes = read_file(&line.source).map_err(|e| e.to_string())?;
    if content_hash(&bytes) != line.content {
        return Err("the file has changed since it was looked at; gather again".into());
    }
    let folder = to.parent().unwrap_or(Path::new("."));
    let system = |e: std::io::Error| format!("cannot write {}: {e}", to.display());
    std::fs::create_dir_all(folder).map_err(system)?;
    let mut part = crate::files::atomic_file::part_in(folder).map_err(system)?;
    part.write_all(&bytes).map_err(system)?;
    if let Ok(time) = std::fs::metadata(&line.source).and_then(|m| m.modified()) {
        part.as_file().set_modified(time).map_err(system)?;
    }
    part.as_file().sync_all().map_err(system)?;
    if hash_of(part.path())? != line.content {
        return Err(format!("the copy {} was not what was written; the disk may be failing", to.display()));
    }
    part.persist_noclobber(to).map_err(|e| system(e.error))?;
    Ok(())
}

/// The size a plan's copies will take.
pub fn bytes_needed(plan: &Report) -> u64 {
    plan.lines.iter().filter(|l| matches!(l.becomes, Becomes::Copy { .. })).map(|l| l.bytes).sum()
}
