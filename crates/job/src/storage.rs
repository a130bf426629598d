//! Where the bytes of originals and results lie.

use serde::{Deserialize, Serialize};
use std::fmt;
use std::io;
use std::path::{Path, PathBuf};

/// A place for bytes: a path on a disk, or a key of an object store.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Location {
    /// An absolute path on a disk of this machine.
    Path(PathBuf),
    /// A key in an object store.
    Key {
        /// The store.
        store: String,
        /// The key in it.
        key: String,
    },
}

impl Location {
    /// A path as records keep it, which is text: names that are no UTF-8 have no location.
    ///
    /// # Errors
    /// [`StorageError::Name`].
    pub fn of_path(path: &Path) -> Result<Self, StorageError> {
        match path.to_str() {
            Some(_) => Ok(Self::Path(path.to_owned())),
            None => Err(StorageError::Name { name: path.to_string_lossy().into_owned() }),
        }
    }

    /// The path, where it is one.
    pub fn path(&self) -> Option<&Path> {
        match self {
            Self::Path(path) => Some(path),
            Self::Key { .. } => None,
        }
    }
}

impl fmt::Display for Location {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Path(path) => write!(f, "{}", path.display()),
            Self::Key { store, key } => write!(f, "{store}:{key}"),
        }
    }
}

/// What went wrong with bytes at a location.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum StorageError {
    /// The name is no UTF-8, so that it cannot be written down.
    #[error("the name {name:?} holds bytes that are no UTF-8; give the file another name")]
    Name {
        /// The name, as far as it can be shown.
        name: String,
    },
    /// This storage has no such kind of location.
    #[error("{location} does not lie in this storage")]
    Elsewhere {
        /// What was asked for.
        location: Location,
    },
    /// Something of that name is there, and was not to be replaced.
    #[error("{location} is there already")]
    Taken {
        /// The place.
        location: Location,
    },
    /// The system refused.
    #[error("{location}: {source}")]
    Io {
        /// The place.
        location: Location,
        /// What the system said.
        source: io::Error,
    },
}

/// Length and time of the bytes at a location.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Stat {
    /// Number of bytes.
    pub bytes: u64,
    /// When they were written, nanoseconds since 1970; 0 where that is not known.
    pub modified: i64,
}

/// Bytes by location. Writing is whole or not at all: nobody ever sees half of it.
pub trait Storage: Send + Sync {
    /// Length and time, or `None` where nothing is.
    ///
    /// # Errors
    /// [`StorageError::Io`].
    fn stat(&self, location: &Location) -> Result<Option<Stat>, StorageError>;

    /// The bytes.
    ///
    /// # Errors
    /// [`StorageError::Io`], also where nothing is.
    fn read(&self, location: &Location) -> Result<Vec<u8>, StorageError>;

    /// Writes bytes; over what is there only with `replace`.
    ///
    /// # Errors
    /// [`StorageError::Taken`] without `replace`, and [`StorageError::Io`].
    fn put(&self, location: &Location, bytes: &[u8], replace: bool) -> Result<(), StorageError>;

    /// Takes away what is there; nothing there is no error.
    ///
    /// # Errors
    /// [`StorageError::Io`].
    fn remove(&self, location: &Location) -> Result<(), StorageError>;

    /// Bytes that still fit beside a location, where that is known.
    fn free(&self, location: &Location) -> Option<u64>;
}
