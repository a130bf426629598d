//! Folders that the serving machine and others both have: what lies there is read where it lies, and not carried.
//!
//! Both sides declare them under one name. Before a machine gets any work its folder is compared with the server's by a few files, so
//! that one that is something else is found out at once. What is read is looked at by its hash all the same.

use rallo_media::content_hash;
use serde::{Deserialize, Serialize};
use std::fs::File;
use std::io::Read;
use std::path::{Component, Path, PathBuf};
use std::str::FromStr;

/// A folder under the name that both sides know it by.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Share {
    /// The name.
    pub name: String,
    /// Where it is on this machine.
    pub folder: PathBuf,
}

/// Why a share cannot be declared so.
#[derive(Debug, thiserror::Error)]
pub enum ShareError {
    /// The name or the folder is missing.
    #[error("say the share's name and its folder, as in photos=/mnt/photos")]
    Incomplete,
    /// The folder cannot be looked into.
    #[error("the folder {0}: {1}")]
    Folder(PathBuf, std::io::Error),
    /// It is a file.
    #[error("{0} is no folder")]
    NoFolder(PathBuf),
}

impl FromStr for Share {
    type Err = ShareError;

    fn from_str(text: &str) -> Result<Self, ShareError> {
        let (name, path) = text.split_once('=').unwrap_or((text, ""));
        if name.is_empty() || path.is_empty() {
            return Err(ShareError::Incomplete);
        }
        let folder = Path::new(path).canonicalize().map_err(|e| ShareError::Folder(path.into(), e))?;
        if !folder.is_dir() {
            return Err(ShareError::NoFolder(path.into()));
        }
        Ok(Self { name: name.to_owned(), folder })
    }
}

/// A file by which a share is known.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct KnownFile {
    /// Below the share.
    path: PathBuf,
    length: u64,
    /// Hash of how it begins.
    begins: String,
}

/// Some files of a share, by which another machine's folder is compared.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct SharePattern {
    /// The share's name.
    pub name: String,
    pub(crate) files: Vec<KnownFile>,
}

/// So many files are compared.
const COMPARED: usize = 8;
/// And so many looked at, to choose those from.
const LOOKED_AT: usize = 2000;
/// Bytes at a file's begin that are compared.
const BEGIN: u64 = 65_536;

fn begins(path: &Path) -> std::io::Result<(u64, String)> {
    let file = File::open(path)?;
    let length = file.metadata()?.len();
    let mut bytes = Vec::new();
    file.take(BEGIN).read_to_end(&mut bytes)?;
    Ok((length, content_hash(&bytes)))
}

impl Share {
    /// Some files by which it is known, spread over the first that are found.
    pub(crate) fn pattern(&self) -> SharePattern {
        let all = walkdir::WalkDir::new(&self.folder).sort_by_file_name().into_iter().flatten();
        let is_plain = |e: &walkdir::DirEntry| {
            e.file_type().is_file() && !e.file_name().to_string_lossy().starts_with('.')
        };
        let found: Vec<PathBuf> =
            all.filter(is_plain).take(LOOKED_AT).map(walkdir::DirEntry::into_path).collect();
        let known = |path: &PathBuf| {
            let (length, begins) = begins(path).ok()?;
            Some(KnownFile { path: path.strip_prefix(&self.folder).ok()?.to_owned(), length, begins })
        };
        let files = found.iter().step_by(found.len().div_ceil(COMPARED).max(1)).filter_map(known).collect();
        SharePattern { name: self.name.clone(), files }
    }

    /// What is other in this machine's folder than in the one a pattern was made of; nothing where they are alike.
    pub(crate) fn differs(&self, pattern: &SharePattern) -> Option<String> {
        let other = |file: &KnownFile| {
            let shown = file.path.display();
            match inside(&file.path).map(|path| begins(&self.folder.join(path))) {
                None => Some(format!("{shown} is no path below it")),
                Some(Err(e)) => Some(format!("{shown}: {e}")),
                Some(Ok((length, begins))) => (length != file.length || begins != file.begins)
                    .then(|| format!("{shown} is another file there")),
            }
        };
        pattern.files.iter().find_map(other)
    }
}

/// A path that leads nowhere but below where it begins.
fn inside(path: &Path) -> Option<&Path> {
    path.components().all(|part| matches!(part, Component::Normal(_))).then_some(path)
}

/// A file in a share.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct InShare {
    pub share: String,
    pub path: PathBuf,
}

/// Where a file lies in one of some shares, if it does.
pub(crate) fn place_of(shares: &[Share], file: &Path) -> Option<InShare> {
    let file = file.canonicalize().ok()?;
    let within = |share: &Share| {
        Some(InShare { share: share.name.clone(), path: file.strip_prefix(&share.folder).ok()?.to_owned() })
    };
    shares.iter().find_map(within)
}

/// The bytes of a file of a share, if this machine has it and they are those of the hash.
pub(crate) fn read(shares: &[Share], place: &InShare, hash: &str) -> Option<Vec<u8>> {
    let share = shares.iter().find(|share| share.name == place.share)?;
    let bytes = std::fs::read(share.folder.join(inside(&place.path)?)).ok()?;
    (content_hash(&bytes) == hash).then_some(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn folder_with(files: &[(&str, &str)]) -> (tempfile::TempDir, Share) {
        let folder = tempfile::tempdir().unwrap();
        for (name, text) in files {
            let path = folder.path().join(name);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, text).unwrap();
        }
        let share = format!("photos={}", folder.path().display()).parse().unwrap();
        (folder, share)
    }

    #[test]
    fn a_share_is_declared_by_a_name_and_a_folder() {
        for wrong in ["photos", "=/tmp", "photos=", "photos=/nowhere/at/all"] {
            let said = wrong.parse::<Share>().unwrap_err().to_string();
            assert!(said.contains("share") || said.contains("/nowhere"), "{said}");
        }
    }

    #[test]
    fn another_folder_is_found_out_and_the_same_one_is_not() {
        let files = [("a.jpg", "one"), ("May/b.jpg", "two"), ("May/c.jpg", "three")];
        let (_one, share) = folder_with(&files);
        let pattern = share.pattern();
        assert_eq!(pattern.files.len(), 3);
        assert_eq!(share.differs(&pattern), None);
        let (_same, same) = folder_with(&files);
        assert_eq!(same.differs(&pattern), None);
        let (_less, less) = folder_with(&files[..2]);
        assert!(less.differs(&pattern).unwrap().contains("c.jpg"));
        let (_other, other) = folder_with(&[("a.jpg", "one"), ("May/b.jpg", "too"), ("May/c.jpg", "three")]);
        assert!(other.differs(&pattern).unwrap().contains("b.jpg is another file"));
    }

    #[test]
    fn nothing_is_read_outside_a_share_or_of_other_bytes() {
        let (folder, share) = folder_with(&[("May/b.jpg", "two")]);
        let file = folder.path().join("May/b.jpg");
        let place = place_of(std::slice::from_ref(&share), &file).unwrap();
        assert_eq!(place.path, Path::new("May/b.jpg"));
        let shares = [share];
        assert_eq!(read(&shares, &place, &content_hash(b"two")).unwrap(), b"two");
        assert_eq!(read(&shares, &place, &content_hash(b"too")), None);
        let (outside, _) = folder_with(&[("secret", "s")]);
        assert_eq!(place_of(&shares, &outside.path().join("secret")), None);
        let hash = content_hash(b"s");
        for path in [
            outside.path().join("secret"),
            Path::new("../").join(outside.path().file_name().unwrap()).join("secret"),
        ] {
            let place = InShare { share: "photos".into(), path };
            assert_eq!(read(&shares, &place, &hash), None, "{}", place.path.display());
        }
    }
}
