//! One result: read, render, write. Originals are opened read-only; a result appears under its name only when
//! it is complete.

use crate::batch::{Output, State};
use rallo_engine::steps::data::{self, Data};
use rallo_engine::{Plan, Source};
use rallo_media::camera::{self, Carry};
use rallo_media::{Chroma, Encoding, Extras, FileSource, Format, Made, Words, content_hash};
use rallo_recipe::{Pictures, Recipe, Subject};
use std::fs::File;
use std::io::{Read, Write};
use std::path::{Path, PathBuf};

/// How one picture ended.
pub struct Ended {
    /// Done, failed or skipped.
    pub state: State,
    /// Why it failed or was skipped.
    pub reason: Option<String>,
    /// What was written.
    pub outputs: Vec<Output>,
}

impl Ended {
    fn failed(reason: impl Into<String>) -> Self {
        Self { state: State::Failed, reason: Some(reason.into()), outputs: Vec::new() }
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

/// The bytes of one result, and its size: everything but the writing.
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
) -> Result<(Vec<u8>, u32, u32), String> {
    if source.format() == Format::Raw {
        return Err(
            "camera raw is shown by its preview so far and cannot be run; develop it to TIFF first".into()
        );
    }
    let plan: Plan = recipe.plan(source, subject).map_err(|e| e.to_string())?;
    let program = plan.program(1.0);
    let colours = delivery.colours(&plan);
    let whole = program.size().rect();
    let wide = delivery.format == "png" && delivery.bits == 16;
    let rendered = if wide {
        program.render_16(source, whole, &colours)
    } else {
        program.render(source, whole, &colours)
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
    let mut text = recipe.identity(delivery, subject);
    if shift != 0 {
        text += &format!("|shift {shift}");
    }
    if subject.rating != 0 || !subject.keywords.is_empty() {
        text += &format!("|rating {} keywords {:?}", subject.rating, subject.keywords);
    }
    content_hash(text.as_bytes())
}

/// Makes one result from an opened source and writes it to `target`; the capture time it carries is moved by
/// `shift` milliseconds.
pub fn execute(recipe: &Recipe, source: &FileSource, target: &Path, shift: i64, subject: &Subject) -> Ended {
    let Some(delivery) = recipe.deliveries.first() else {
        return Ended::failed("the recipe has no delivery");
    };
    let made =
        Made { recipe: identity(recipe, delivery, shift, subject), source: content_hash(source.bytes()) };
    let mut target = target.to_owned();
    let mut replace = false;
    if target.exists() {
        let found = mark_of(&target);
        if found.as_ref() == Some(&made) {
            let bytes = target.metadata().map_or(0, |m| m.len());
            let size = FileSource::open(&target).ok().map_or((0, 0), |s| (s.size().width, s.size().height));
            return Ended {
                state: State::Skipped,
                reason: Some("already made by this recipe from this picture".into()),
                outputs: vec![Output { path: target, bytes, width: size.0, height: size.1 }],
            };
        }
        let name = target.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
        match delivery.existing.as_str() {
            "number" => match numbered(&target) {
                Some(free) => target = free,
                None => return Ended::failed(format!("no free number for {name}")),
            },
            "replace" if found.is_some() => replace = true,
            "replace" => {
                return Ended::failed(format!(
                    "{name} exists and is no earlier result, so it is not replaced; move it away or choose another name"
                ));
            }
            _ => {
                let what =
                    if found.is_some() { "a result of another recipe or picture" } else { "another file" };
                return Ended::failed(format!(
                    "{name} exists already ({what}); choose another name or folder, or let the delivery number or replace"
                ));
            }
        }
    }
    let (bytes, width, height) = match make(recipe, delivery, source, made, shift, subject) {
        Ok(made) => made,
        Err(reason) => return Ended::failed(reason),
    };
    match write(&target, &bytes, replace) {
        Ok(()) => Ended {
            state: State::Done,
            reason: None,
            outputs: vec![Output { path: target, bytes: bytes.len() as u64, width, height }],
        },
        Err(e) => Ended::failed(format!("cannot write {}: {e}", target.display())),
    }
}

/// A file with a temporary, hidden name in the folder its final name will be in.
pub(crate) fn part_in(folder: &Path) -> std::io::Result<tempfile::NamedTempFile> {
    use std::os::unix::fs::PermissionsExt;
    tempfile::Builder::new()
        .prefix(".rallo-")
        .suffix(".part")
        .permissions(std::fs::Permissions::from_mode(0o644))
        .tempfile_in(folder)
}

/// Writes under a temporary name in the same folder, flushes, then gives the file its name; without `replace`
/// a file that appeared meanwhile is left alone.
fn write(target: &Path, bytes: &[u8], replace: bool) -> std::io::Result<()> {
    let folder = target.parent().unwrap_or(Path::new("."));
    std::fs::create_dir_all(folder)?;
    let mut part = part_in(folder)?;
    part.write_all(bytes)?;
    part.as_file().sync_all()?;
    if replace { part.persist(target) } else { part.persist_noclobber(target) }.map_err(|e| e.error)?;
    Ok(())
}
