//! Looking for frames: which files of folders are pictures, what they say, and what is left out and why.

use rallo_media::decode::Facts;
use rallo_media::{Made, MediaError, has_picture_ending};
use std::path::{Path, PathBuf};

/// A picture file found.
#[derive(Clone, Debug)]
pub struct Found {
    /// Absolute path.
    pub path: PathBuf,
    /// Size of the file.
    pub bytes: u64,
    /// Modification time, nanoseconds since 1970.
    pub modified: i64,
}

/// A file that is not taken in.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize)]
pub struct LeftOut {
    /// The file or folder.
    pub path: PathBuf,
    /// Why.
    pub reason: String,
}

/// What is told while looking.
pub enum Seen {
    /// A picture.
    Picture(Found),
    /// Something else.
    Left(LeftOut),
}

/// What Rallo itself and others put beside pictures: nothing to speak of.
const QUIET_ENDINGS: [&str; 2] = ["xmp", "part"];

/// Goes through a folder, or looks at a single file; `seen` is told everything as it is found. Hidden files and
/// folders are not looked at; results of earlier runs are left out unless `results`. Files that are
/// `trusted` are not looked into.
///
/// # Errors
/// When the place itself cannot be opened; unreadable sub-folders are told as left out.
pub fn look(
    place: &Path,
    deep: bool,
    results: bool,
    trusted: &dyn Fn(&Found) -> bool,
    seen: &mut dyn FnMut(Seen),
) -> std::io::Result<()> {
    if std::fs::metadata(place)?.is_file() {
        file(place, results, trusted, seen);
        return Ok(());
    }
    let mut folders = vec![place.to_owned()];
    while let Some(at) = folders.pop() {
        let entries = match std::fs::read_dir(&at) {
            Ok(entries) => entries,
            Err(e) if at == place => return Err(e),
            Err(e) => {
                seen(Seen::Left(LeftOut { path: at, reason: format!("the folder cannot be opened: {e}") }));
                continue;
            }
        };
        for entry in entries.flatten() {
            let (path, name) = (entry.path(), entry.file_name());
            let Ok(kind) = entry.file_type() else { continue };
            if name.to_string_lossy().starts_with('.') {
                continue;
            }
            if kind.is_dir() {
                if let Some(reason) = no_text(&path) {
                    seen(Seen::Left(LeftOut { path, reason }));
                } else if deep {
                    folders.push(path);
                }
            } else if kind.is_file() {
                file(&path, results, trusted, seen);
            }
        }
    }
    Ok(())
}

/// When a file was changed, in nanoseconds since 1970.
pub(crate) fn modified_of(meta: &std::fs::Metadata) -> i64 {
    let since = meta.modified().ok().and_then(|t| t.duration_since(std::time::UNIX_EPOCH).ok());
    since.map_or(0, |d| d.as_nanos() as i64)
}

/// Why a path is left out that cannot be written down, which is done as text: two names that differ only in bytes that
/// are no UTF-8 would become one.
fn no_text(path: &Path) -> Option<String> {
    let name = path.to_string_lossy();
    let reason = || format!("the name {name:?} holds bytes that are no UTF-8; give the file another name");
    path.to_str().is_none().then(reason)
}

fn file(path: &Path, results: bool, trusted: &dyn Fn(&Found) -> bool, seen: &mut dyn FnMut(Seen)) {
    let left = |reason: String| Seen::Left(LeftOut { path: path.to_owned(), reason });
    if !has_picture_ending(path) {
        let ending = path.extension().map(|e| e.to_string_lossy().to_lowercase()).unwrap_or_default();
        if !QUIET_ENDINGS.contains(&ending.as_str()) {
            seen(left(if ending.is_empty() {
                "no picture by its name".into()
            } else {
                format!("no kind of picture Rallo reads (.{ending})")
            }));
        }
        return;
    }
    if let Some(reason) = no_text(path) {
        return seen(left(reason));
    }
    match std::fs::metadata(path) {
        Ok(meta) => {
            let modified = modified_of(&meta);
            let found = Found { path: path.to_owned(), bytes: meta.len(), modified };
            if !results && !trusted(&found) && is_result(path) {
                return seen(left("a result of an earlier run".into()));
            }
            seen(Seen::Picture(found));
        }
        Err(e) => seen(left(e.to_string())),
    }
}

/// The pictures of a folder in natural order, results left out.
///
/// # Errors
/// When the folder cannot be read.
pub fn scan(folder: &Path, deep: bool) -> std::io::Result<Vec<Found>> {
    sorted(folder, deep, false)
}

/// Every picture in a folder itself, in natural order, results too.
///
/// # Errors
/// When the folder cannot be read.
pub fn look_all(folder: &Path) -> std::io::Result<Vec<PathBuf>> {
    Ok(sorted(folder, false, true)?.into_iter().map(|f| f.path).collect())
}

fn sorted(folder: &Path, deep: bool, results: bool) -> std::io::Result<Vec<Found>> {
    let mut found = Vec::new();
    look(folder, deep, results, &|_| false, &mut |seen| {
        if let Seen::Picture(picture) = seen {
            found.push(picture);
        }
    })?;
    found.sort_by_cached_key(|f| rallo_shoot::natural_key(&f.path.to_string_lossy()));
    Ok(found)
}

/// The folder that everything lies in.
pub fn common_folder<'a>(paths: impl IntoIterator<Item = &'a PathBuf>) -> PathBuf {
    let folder = |p: &PathBuf| if p.is_dir() { p.clone() } else { p.parent().unwrap_or(p).to_owned() };
    let mut base: Option<PathBuf> = None;
    for path in paths {
        let parent = folder(path);
        let base = base.get_or_insert_with(|| parent.clone());
        while !parent.starts_with(&base) && base.pop() {}
    }
    base.unwrap_or_default()
}

/// Whether a file bears the mark of a result.
pub(crate) fn is_result(path: &Path) -> bool {
    Made::of(path).is_some()
}

/// How sharp a picture is, on the scale that frames are told by; nothing where it cannot be told.
pub fn sharpness(path: &Path) -> Option<f64> {
    let source = rallo_media::FileSource::open(path).ok()?;
    let measures = rallo_engine::analysis::measure::measure(&source as &dyn rallo_engine::Source).ok()?;
    Some(f64::from(measures.sharpness))
}

/// What a file says.
///
/// # Errors
/// Why it is no readable picture.
pub fn facts(path: &Path) -> Result<Facts, MediaError> {
    rallo_media::decode::facts(path)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_that_are_no_utf_8_are_left_out_with_a_reason() {
        use std::os::unix::ffi::OsStrExt;
        let folder = tempfile::tempdir().unwrap();
        for name in [&b"bed-\xff.jpg"[..], b"bed-\xfe.jpg", b"bed.jpg"] {
            std::fs::write(folder.path().join(std::ffi::OsStr::from_bytes(name)), "x").unwrap();
        }
        std::fs::create_dir(folder.path().join(std::ffi::OsStr::from_bytes(b"pots\xff"))).unwrap();
        let (mut found, mut left) = (Vec::new(), Vec::new());
        look(folder.path(), true, false, &|_| true, &mut |seen| match seen {
            Seen::Picture(picture) => found.push(picture.path),
            Seen::Left(one) => left.push(one.reason),
        })
        .unwrap();
        assert_eq!(found, [folder.path().join("bed.jpg")]);
        assert_eq!(left.len(), 3);
        assert!(left.iter().all(|reason| reason.contains("no UTF-8") && reason.contains("another name")));
    }

    #[test]
    fn the_common_folder_holds_all() {
        let common = |all: &[&str]| common_folder(&all.iter().map(PathBuf::from).collect::<Vec<_>>());
        assert_eq!(common(&["/p/a/1.jpg", "/p/b/2.jpg"]), Path::new("/p"));
        assert_eq!(common(&["/p/a/1.jpg"]), Path::new("/p/a"));
        assert_eq!(common(&["/q/1.jpg", "/p/2.jpg"]), Path::new("/"));
        assert_eq!(common(&[]), Path::new(""));
    }

    #[test]
    fn everything_is_told_and_nothing_dropped_silently() {
        let folder = tempfile::tempdir().unwrap();
        let put = |name: &str| std::fs::write(folder.path().join(name), b"x").unwrap();
        std::fs::create_dir(folder.path().join("deep")).unwrap();
        for name in ["a.jpg", "b.TIF", "notes.txt", "bare", "c.xmp", ".hidden.jpg", "deep/d.heic"] {
            put(name);
        }
        let all = |deep| {
            let mut told = Vec::new();
            look(folder.path(), deep, false, &|_| false, &mut |s| {
                told.push(match s {
                    Seen::Picture(f) => f.path.file_name().unwrap().to_string_lossy().into_owned(),
                    Seen::Left(l) => {
                        format!("{}: {}", l.path.file_name().unwrap().to_string_lossy(), l.reason)
                    }
                });
            })
            .unwrap();
            told.sort();
            told
        };
        let flat = [
            "a.jpg",
            "b.TIF",
            "bare: no picture by its name",
            "notes.txt: no kind of picture Rallo reads (.txt)",
        ];
        assert_eq!(all(false), flat);
        assert_eq!(all(true).len(), 5);
        assert!(look(&folder.path().join("gone"), false, false, &|_| false, &mut |_| {}).is_err());
    }
}
