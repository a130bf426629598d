//! What is done where a file of that name is there already.

use crate::render::fault::Ended;
use crate::render::picture_job::PictureJob;
use crate::render::variant::Variant;
use rallo_engine::Source;
use rallo_job::{FailureKind, ItemState, ResultFile};
use rallo_media::{FileSource, Made, content_hash};
use rallo_recipe::{Pictures, Recipe, ResolveContext};
use std::path::{Path, PathBuf};

/// A name with a number that is free: `name-2.jpg`, `name-3.jpg` …
pub(crate) fn numbered(path: &Path) -> Option<PathBuf> {
    let stem = path.file_stem()?.to_string_lossy().into_owned();
    let ending = path.extension()?.to_string_lossy().into_owned();
    (2..10_000).map(|n| path.with_file_name(format!("{stem}-{n}.{ending}"))).find(|p| !p.exists())
}

/// Identity of what shapes a result beside its source: the recipe, and what was decided about the frame.
pub(super) fn identity(recipe: &Recipe, variant: &Variant, shift: i64, context: &ResolveContext) -> String {
    let mut text =
        format!("engine {}|{}", rallo_engine::RESULTS, recipe.identity(&variant.delivery, context));
    if let Some(width) = variant.width {
        text += &format!("|width {width}");
    }
    if shift != 0 {
        text += &format!("|shift {shift}");
    }
    if context.frame.rating != 0 || !context.frame.keywords.is_empty() {
        text += &format!("|rating {} keywords {:?}", context.frame.rating, context.frame.keywords);
    }
    content_hash(text.as_bytes())
}

/// Length and time of a file, to see whether it changed.
pub(super) fn state_of(path: &Path) -> Option<(u64, std::time::SystemTime)> {
    let about = path.metadata().ok()?;
    Some((about.len(), about.modified().ok()?))
}

/// Whether two paths are one file, through links of both kinds.
pub(super) fn same_file(a: &Path, b: &Path) -> bool {
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
pub fn there(
    recipe: &Recipe,
    variant: &Variant,
    target: &Path,
    shift: i64,
    context: &ResolveContext,
) -> There {
    match Made::of(target) {
        None => There::Other,
        Some(mark) if mark.recipe == identity(recipe, variant, shift, context) => There::Same,
        Some(_) => There::Result,
    }
}

/// Where a result may go: the target, or what the delivery says where that is taken. A result that is there already is
/// told as such.
pub(super) fn place(
    delivery: &Pictures,
    item: &PictureJob,
    target: &Path,
    known: Option<&String>,
    made: &Made,
) -> Result<(PathBuf, bool), Box<Ended>> {
    let target = target.to_owned();
    if !target.exists() {
        // A link that leads nowhere is not followed: what it would write is not what was shown.
        if target.symlink_metadata().is_ok() {
            let name = target.display();
            return Err(Ended::boxed(
                FailureKind::NameTaken,
                format!("{name} is a link that leads nowhere; take it away"),
            ));
        }
        return Ok((target, false));
    }
    let name = target.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    let number = |target: &Path| match numbered(target) {
        Some(free) => Ok((free, false)),
        None => Err(Ended::boxed(FailureKind::NameTaken, format!("no free number for {name}"))),
    };
    if same_file(&target, &item.source) {
        return match delivery.existing.as_str() {
            "number" => number(&target),
            _ => Err(Ended::boxed(
                FailureKind::NameTaken,
                format!(
                    "{name} is the original itself, which is never written over; choose another name or folder"
                ),
            )),
        };
    }
    let found = Made::of(&target);
    // A plain copy bears no mark of its own.
    let copy = delivery.is_carried() && known.is_some_and(|known| *known == made.source);
    if copy || found.as_ref().is_some_and(|f| f.is_same(made)) {
        let bytes = std::fs::read(&target).unwrap_or_default();
        let hash = content_hash(&bytes);
        if known.is_none_or(|known| *known == hash) {
            let size = FileSource::from_bytes(bytes).ok();
            let bytes = target.metadata().map_or(0, |m| m.len());
            if let Some(size) = size.map(|s| s.size()) {
                return Err(Box::new(Ended {
                    state: ItemState::Skipped,
                    kind: None,
                    reason: Some("already made by this recipe from this picture".into()),
                    outputs: vec![ResultFile {
                        path: target,
                        bytes,
                        width: size.width,
                        height: size.height,
                        hash,
                        made: false,
                        variant: None,
                        clip: None,
                        made_by: None,
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
            FailureKind::NameTaken,
            format!(
                "{name} exists and is no earlier result, so it is not replaced; move it away or choose another name"
            ),
        )),
        _ => {
            let what = if found.is_some() { "a result of another recipe or picture" } else { "another file" };
            Err(Ended::boxed(
                FailureKind::NameTaken,
                format!(
                    "{name} exists already ({what}); choose another name or folder, or let the delivery number or replace"
                ),
            ))
        }
    }
}
