//! Bringing frames in: which files of a folder are pictures, in which order, and what they say.

use rallo_media::{Facts, FileSource, Made, MediaError, has_picture_ending};
use std::cmp::Ordering;
use std::io::Read;
use std::path::{Path, PathBuf};

/// A file found.
#[derive(Clone, Debug)]
pub struct Found {
    /// Absolute path.
    pub path: PathBuf,
    /// Size of the file.
    pub bytes: u64,
    /// Modification time, nanoseconds since 1970.
    pub modified: i64,
}

/// The picture files of a folder in natural order, results of earlier runs left out; hidden files and folders
/// are not looked at.
///
/// # Errors
/// When the folder itself cannot be read; unreadable sub-folders are passed over.
pub fn scan(folder: &Path, recursive: bool) -> std::io::Result<Vec<Found>> {
    let mut found = Vec::new();
    let mut folders = vec![folder.to_owned()];
    while let Some(at) = folders.pop() {
        let entries = match std::fs::read_dir(&at) {
            Ok(entries) => entries,
            Err(e) if at == folder => return Err(e),
            Err(_) => continue,
        };
        for entry in entries.flatten() {
            let (path, name) = (entry.path(), entry.file_name());
            let Ok(kind) = entry.file_type() else { continue };
            if name.to_string_lossy().starts_with('.') {
                continue;
            }
            if kind.is_dir() {
                if recursive {
                    folders.push(path);
                }
            } else if kind.is_file() && has_picture_ending(&path) {
                let Ok(meta) = entry.metadata() else { continue };
                let modified = meta
                    .modified()
                    .ok()
                    .and_then(|t| t.duration_since(std::time::UNIX_EPOCH).ok())
                    .map_or(0, |d| d.as_nanos() as i64);
                if !is_result(&path) {
                    found.push(Found { path, bytes: meta.len(), modified });
                }
            }
        }
    }
    found.sort_by(|a, b| natural(&a.path.to_string_lossy(), &b.path.to_string_lossy()));
    Ok(found)
}

/// Whether a file bears the mark of a result.
fn is_result(path: &Path) -> bool {
    let mut head = Vec::new();
    // The mark stands before the pixels, behind at most the EXIF block and the profile.
    std::fs::File::open(path).is_ok_and(|f| f.take(160 * 1024).read_to_end(&mut head).is_ok())
        && Made::find(&head).is_some()
}

/// What a file says.
///
/// # Errors
/// Why it is no readable picture.
pub fn facts(path: &Path) -> Result<Facts, MediaError> {
    Ok(FileSource::open(path)?.facts(path))
}

/// Natural order: runs of digits by their number, the rest without case.
pub fn natural(a: &str, b: &str) -> Ordering {
    let (mut x, mut y) = (a.chars().peekable(), b.chars().peekable());
    loop {
        match (x.peek().copied(), y.peek().copied()) {
            (None, None) => return a.cmp(b),
            (None, _) => return Ordering::Less,
            (_, None) => return Ordering::Greater,
            (Some(p), Some(q)) if p.is_ascii_digit() && q.is_ascii_digit() => {
                let number = |it: &mut std::iter::Peekable<std::str::Chars>| {
                    let mut digits = String::new();
                    while let Some(d) = it.next_if(char::is_ascii_digit) {
                        digits.push(d);
                    }
                    digits.trim_start_matches('0').to_owned()
                };
                let (m, n) = (number(&mut x), number(&mut y));
                let order = m.len().cmp(&n.len()).then_with(|| m.cmp(&n));
                if order != Ordering::Equal {
                    return order;
                }
            }
            (Some(p), Some(q)) => {
                let order = p.to_lowercase().cmp(q.to_lowercase());
                if order != Ordering::Equal {
                    return order;
                }
                x.next();
                y.next();
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn two_comes_before_ten() {
        let mut names = ["IMG_10", "img_2", "IMG_1", "a", "IMG_02b", "IMG_2a"];
        names.sort_by(|a, b| natural(a, b));
        assert_eq!(names, ["a", "IMG_1", "img_2", "IMG_2a", "IMG_02b", "IMG_10"]);
    }
}
