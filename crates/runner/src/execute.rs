//! One result: read, render, write. Originals are opened read-only; a result appears under its name only when
//! it is complete.

use crate::behind::{self, Kept};
use crate::item::{Item, Output, State};
use crate::parts::part_in;
use rallo_engine::Source;
use rallo_engine::steps::data::{self, Data};
use rallo_media::camera::{self, Carry};
use rallo_media::{Chroma, Encoding, Extras, FileSource, Format, Made, MediaError, Words, content_hash};
use rallo_recipe::{Pictures, Recipe, Subject};
use std::fs::File;
use std::io::{ErrorKind, Read, Write};
use std::path::{Path, PathBuf};

/// Why a picture failed: a kind for the program, a reason for people.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fault {
    /// `unreadable`, `unsupported`, `too large`, `no room`, `no permission`, `no permission to read`, `gone`, `changed`, `name taken`, `recipe` or
    /// `inside`.
    pub kind: &'static str,
    /// In plain words.
    pub reason: String,
}

impl Fault {
    /// A failure of a kind.
    pub fn new(kind: &'static str, reason: impl Into<String>) -> Self {
        Self { kind, reason: reason.into() }
    }

    /// Writing failed; these kinds hold up a run until their cause is gone.
    fn writing(target: &Path, e: &std::io::Error) -> Self {
        let kind = match e.kind() {
            ErrorKind::StorageFull | ErrorKind::QuotaExceeded => "no room",
            ErrorKind::PermissionDenied
            | ErrorKind::ReadOnlyFilesystem
            | ErrorKind::NotFound
            | ErrorKind::NotADirectory => "no permission",
            ErrorKind::AlreadyExists => "name taken",
            _ => "inside",
        };
        let why = match kind {
            "no room" => "there is no room left".to_owned(),
            "name taken" => "a file of that name appeared meanwhile".to_owned(),
            _ => e.to_string(),
        };
        Self::new(kind, format!("cannot write {}: {why}", target.display()))
    }
}

impl From<MediaError> for Fault {
    fn from(e: MediaError) -> Self {
        let kind = match &e {
            MediaError::Io { source, .. } => match source.kind() {
                ErrorKind::NotFound => "gone",
                ErrorKind::PermissionDenied => "no permission to read",
                _ => "unreadable",
            },
            MediaError::Unknown(_) | MediaError::Unsupported(_) => "unsupported",
            MediaError::TooLarge { .. } => "too large",
            _ => "unreadable",
        };
        Self::new(kind, e.to_string())
    }
}

/// How one picture ended.
pub struct Ended {
    /// Done, failed or skipped.
    pub state: State,
    /// What kind of failure it was.
    pub kind: Option<&'static str>,
    /// Why it failed or was skipped.
    pub reason: Option<String>,
    /// What was written.
    pub outputs: Vec<Output>,
}

impl Ended {
    fn boxed(kind: &'static str, reason: String) -> Box<Self> {
        Box::new(Self::failed(Fault::new(kind, reason)))
    }

    /// It failed.
    pub fn failed(fault: Fault) -> Self {
        Self { state: State::Failed, kind: Some(fault.kind), reason: Some(fault.reason), outputs: Vec::new() }
    }
}

/// The settings of the encoder a delivery asks for.
pub fn encoding(delivery: &Pictures) -> Encoding {
    if delivery.format == "png" {
        return Encoding::Png;
    }
    let chroma = match delivery.chroma.as_str() {
        "4:4:4" => Chroma::Full,
        "4:2:2" => Chroma::Half,
        _ => Chroma::Quarter,
    };
    Encoding::Jpeg { quality: delivery.quality, chroma, progressive: delivery.progressive }
}

/// Reads the mark of an existing file.
fn mark_of(path: &Path) -> Option<Made> {
    let mut head = Vec::new();
    File::open(path).ok()?.take(512 * 1024).read_to_end(&mut head).ok()?;
    Made::find(&head)
}

/// A name with a number that is free: `name-2.jpg`, `name-3.jpg` …
fn numbered(path: &Path) -> Option<PathBuf> {
    let stem = path.file_stem()?.to_string_lossy().into_owned();
    let ending = path.extension()?.to_string_lossy().into_owned();
    (2..10_000).map(|n| path.with_file_name(format!("{stem}-{n}.{ending}"))).find(|p| !p.exists())
}

/// The bytes of one result, and its size: everything but the writing. What is expensive may be kept in `kept`.
///
/// # Errors
/// A reason for people.
pub fn make(
    recipe: &Recipe,
    delivery: &Pictures,
    source: &FileSource,
    made: Made,
    shift: i64,
    subject: &Subject,
    kept: Option<&Kept>,
) -> Result<(Vec<u8>, u32, u32), String> {
    if source.format() == Format::Raw {
        return Err(
            "camera raw is shown by its preview so far and cannot be run; develop it to TIFF first".into()
        );
    }
    let ready = behind::ready(recipe, source, subject, kept).map_err(|e| e.to_string())?;
    let program = ready.plan.program(1.0);
    let colours = delivery.colours(&ready.plan);
    let whole = program.size().rect();
    let wide = delivery.format == "png" && delivery.bits == 16;
    let rendered = if wide {
        program.render_16(ready.source(), whole, &colours)
    } else {
        program.render(ready.source(), whole, &colours)
    };
    let picture = rendered.map_err(|e| e.to_string())?;
    let size = picture.size;
    let data = recipe.data(subject);
    let keeps = |what: &str| data.iter().any(|d| d.keep == what);
    let nothing = !delivery.camera_data || keeps("nothing");
    let words = words(source, &data, nothing, subject);
    let resolution = data.iter().rev().find_map(|d| d.resolution);
    let serials = keeps("without place and serial numbers");
    let moved: i64 = data.iter().filter_map(|d| data::seconds(&d.shift)).sum();
    let carry = Carry {
        size: (size.width, size.height),
        shift: shift + moved * 1000,
        nothing,
        no_place: serials || keeps("without place"),
        no_serials: serials,
        words: Some(&words),
        resolution,
    };
    let exif = camera::carried(source.exif(), &carry);
    let extras = Extras { icc: Some(colours.icc.clone()), exif, made: Some(made), words, resolution };
    let bytes = rallo_media::encode(&picture, encoding(delivery), &extras).map_err(|e| e.to_string())?;
    Ok((bytes, size.width, size.height))
}

/// What a result says about its picture: what the original says, unless nothing is kept of that, and what the recipe
/// changes.
fn words(source: &FileSource, data: &[Data], nothing: bool, subject: &Subject) -> Words {
    let mut words = if nothing {
        Words::default()
    } else {
        let said = Words::read(source.bytes(), source.exif());
        Words { keywords: subject.keywords.clone(), rating: subject.rating, ..said }
    };
    for one in data {
        words.change(one);
    }
    words
}

/// Identity of what shapes a result beside its source: the recipe, and what was decided about the frame.
fn identity(recipe: &Recipe, delivery: &Pictures, shift: i64, subject: &Subject) -> String {
    let mut text = format!("engine {}|{}", rallo_engine::RESULTS, recipe.identity(delivery, subject));
    if shift != 0 {
        text += &format!("|shift {shift}");
    }
    if subject.rating != 0 || !subject.keywords.is_empty() {
        text += &format!("|rating {} keywords {:?}", subject.rating, subject.keywords);
    }
    content_hash(text.as_bytes())
}

/// What has been done to the picture once the recipe is through with it.
fn done(recipe: &Recipe, source: &FileSource, subject: &Subject) -> Vec<String> {
    let mut done = Made::find(source.bytes()).map(|m| m.done).unwrap_or_default();
    let lines = recipe.placed(subject).into_iter().filter_map(|(line, _)| Some(recipe.steps[line?].id));
    for id in lines {
        if !done.iter().any(|d| d == id) {
            done.push(id.into());
        }
    }
    done
}

/// Length and time of a file, to see whether it changed.
fn state_of(path: &Path) -> Option<(u64, std::time::SystemTime)> {
    let about = path.metadata().ok()?;
    Some((about.len(), about.modified().ok()?))
}

/// Whether two paths are one file, through links of both kinds.
fn same_file(a: &Path, b: &Path) -> bool {
    use std::os::unix::fs::MetadataExt;
    let about = |p: &Path| p.metadata().map(|m| (m.dev(), m.ino())).ok();
    matches!((about(a), about(b)), (Some(a), Some(b)) if a == b)
}

/// What stands where a result would go.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum There {
    /// A result of the same recipe with the same values.
    Same,
    /// Another result.
    Result,
    /// A file that is none.
    Other,
}

/// Looks at a file that stands where a result would go.
pub fn there(recipe: &Recipe, delivery: &Pictures, target: &Path, shift: i64, subject: &Subject) -> There {
    match mark_of(target) {
        None => There::Other,
        Some(mark) if mark.recipe == identity(recipe, delivery, shift, subject) => There::Same,
        Some(_) => There::Result,
    }
}

/// Where a result may go: the target, or what the delivery says where that is taken. A result that is there already is
/// told as such.
fn place(delivery: &Pictures, item: &Item, made: &Made) -> Result<(PathBuf, bool), Box<Ended>> {
    let target = item.target.clone();
    if !target.exists() {
        // A link that leads nowhere is not followed: what it would write is not what was shown.
        if target.symlink_metadata().is_ok() {
            let name = target.display();
            return Err(Ended::boxed(
                "name taken",
                format!("{name} is a link that leads nowhere; take it away"),
            ));
        }
        return Ok((target, false));
    }
    let name = target.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    let number = |target: &Path| match numbered(target) {
        Some(free) => Ok((free, false)),
        None => Err(Ended::boxed("name taken", format!("no free number for {name}"))),
    };
    if same_file(&target, &item.source) {
        return match delivery.existing.as_str() {
            "number" => number(&target),
            _ => Err(Ended::boxed(
                "name taken",
                format!(
                    "{name} is the original itself, which is never written over; choose another name or folder"
                ),
            )),
        };
    }
    let found = mark_of(&target);
    if found.as_ref().is_some_and(|f| f.is_same(made)) {
        let bytes = std::fs::read(&target).unwrap_or_default();
        let hash = content_hash(&bytes);
        if item.known.as_ref().is_none_or(|known| *known == hash) {
            let size = FileSource::from_bytes(bytes).ok();
            let bytes = target.metadata().map_or(0, |m| m.len());
            if let Some(size) = size.map(|s| s.size()) {
                return Err(Box::new(Ended {
                    state: State::Skipped,
                    kind: None,
                    reason: Some("already made by this recipe from this picture".into()),
                    outputs: vec![Output {
                        path: target,
                        bytes,
                        width: size.width,
                        height: size.height,
                        hash,
                    }],
                }));
            }
        }
        // Altered since, by a fault or by somebody: it is made again, and what is there stays.
        return if delivery.existing == "replace" { Ok((target, true)) } else { number(&target) };
    }
    match delivery.existing.as_str() {
        "number" => number(&target),
        "replace" if found.is_some() => Ok((target, true)),
        "replace" => Err(Ended::boxed(
            "name taken",
            format!(
                "{name} exists and is no earlier result, so it is not replaced; move it away or choose another name"
            ),
        )),
        _ => {
            let what = if found.is_some() { "a result of another recipe or picture" } else { "another file" };
            Err(Ended::boxed(
                "name taken",
                format!(
                    "{name} exists already ({what}); choose another name or folder, or let the delivery number or replace"
                ),
            ))
        }
    }
}

/// A result that is only to be written.
pub struct Computed {
    target: PathBuf,
    replace: bool,
    bytes: Vec<u8>,
    size: (u32, u32),
}

impl Computed {
    /// Writes it under its name.
    pub fn write(self) -> Ended {
        let Self { target, replace, bytes, size: (width, height) } = self;
        match write(&target, &bytes, replace) {
            Ok(()) => {
                let hash = content_hash(&bytes);
                Ended {
                    state: State::Done,
                    kind: None,
                    reason: None,
                    outputs: vec![Output { path: target, bytes: bytes.len() as u64, width, height, hash }],
                }
            }
            Err(e) => Ended::failed(Fault::writing(&target, &e)),
        }
    }
}

/// Makes one result from an opened source, for the item's target; or says how it ended before anything was written.
pub fn execute(
    recipe: &Recipe,
    source: &FileSource,
    item: &Item,
    subject: &Subject,
    kept: Option<&Kept>,
) -> Result<Computed, Box<Ended>> {
    let Some(delivery) = recipe.deliveries.first() else {
        return Err(Ended::boxed("recipe", "the recipe has no delivery".into()));
    };
    let shift = item.decided.shift;
    let before = state_of(&item.source);
    let made = Made {
        recipe: identity(recipe, delivery, shift, subject),
        source: content_hash(source.bytes()),
        done: done(recipe, source, subject),
    };
    let (target, replace) = place(delivery, item, &made)?;
    let (bytes, width, height) =
        make(recipe, delivery, source, made, shift, subject, kept).map_err(|reason| {
            let kind = if source.format() == Format::Raw { "unsupported" } else { "unreadable" };
            Ended::boxed(kind, reason)
        })?;
    if state_of(&item.source) != before || before.is_some_and(|b| b.0 != source.bytes().len() as u64) {
        let reason =
            "the original changed while it was read; nothing was written, try again when it is complete";
        return Err(Ended::boxed("changed", reason.into()));
    }
    Ok(Computed { target, replace, bytes, size: (width, height) })
}

/// Writes under a temporary name in the same folder, flushes, then gives the file its name; without `replace`
/// a file that appeared meanwhile is left alone.
fn write(target: &Path, bytes: &[u8], replace: bool) -> std::io::Result<()> {
    let folder = target.parent().unwrap_or(Path::new("."));
    // Something else stands where the folder should be: as little the picture's fault as a folder that is closed.
    std::fs::create_dir_all(folder).map_err(|e| match e.kind() {
        ErrorKind::AlreadyExists => std::io::Error::new(ErrorKind::NotADirectory, e),
        _ => e,
    })?;
    let mut part = part_in(folder)?;
    part.write_all(bytes)?;
    part.as_file().sync_all()?;
    if replace { part.persist(target) } else { part.persist_noclobber(target) }.map_err(|e| e.error)?;
    Ok(())
}
