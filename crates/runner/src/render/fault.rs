//! Why an item failed, and how an item ended.

use rallo_engine::{PlanError, SourceError};
use rallo_job::{FailureKind, ItemState, ResultFile};
use rallo_media::MediaError;
use std::io::ErrorKind;
use std::path::Path;

/// Why an item failed: a kind for the program, a reason for people.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{reason}")]
pub struct Fault {
    /// What kind of failure it was.
    pub kind: FailureKind,
    /// In plain words.
    pub reason: String,
}

impl Fault {
    /// A failure of a kind.
    pub fn new(kind: FailureKind, reason: impl Into<String>) -> Self {
        Self { kind, reason: reason.into() }
    }

    /// Writing failed; some of these kinds hold up a run until their cause is gone.
    pub(crate) fn writing(target: &Path, e: &std::io::Error) -> Self {
        let (kind, why) = match e.kind() {
            ErrorKind::StorageFull | ErrorKind::QuotaExceeded => {
                (FailureKind::NoRoom, "there is no room left".to_owned())
            }
            ErrorKind::PermissionDenied
            | ErrorKind::ReadOnlyFilesystem
            | ErrorKind::NotFound
            | ErrorKind::NotADirectory => (FailureKind::NoPermission, e.to_string()),
            ErrorKind::AlreadyExists => {
                (FailureKind::NameTaken, "a file of that name appeared meanwhile".to_owned())
            }
            _ => (FailureKind::Inside, e.to_string()),
        };
        Self::new(kind, format!("cannot write {}: {why}", target.display()))
    }
}

impl From<MediaError> for Fault {
    fn from(e: MediaError) -> Self {
        let kind = match &e {
            MediaError::Io { source, .. } => match source.kind() {
                ErrorKind::NotFound => FailureKind::Gone,
                ErrorKind::PermissionDenied => FailureKind::NoPermissionToRead,
                _ => FailureKind::Unreadable,
            },
            MediaError::Unknown(_) | MediaError::Unsupported(_) => FailureKind::Unsupported,
            MediaError::TooLarge { .. } => FailureKind::TooLarge,
            MediaError::Encode { .. } => FailureKind::Encoding,
            MediaError::NoRoom { .. } => FailureKind::NoRoom,
            MediaError::Empty | MediaError::Truncated(_) | MediaError::Damaged(_) => FailureKind::Unreadable,
        };
        Self::new(kind, e.to_string())
    }
}

impl From<PlanError> for Fault {
    fn from(e: PlanError) -> Self {
        let kind = match &e {
            PlanError::TooLarge { .. } => FailureKind::TooLarge,
            PlanError::Source(_) => FailureKind::Unreadable,
        };
        Self::new(kind, e.to_string())
    }
}

impl From<SourceError> for Fault {
    fn from(e: SourceError) -> Self {
        Self::new(FailureKind::Unreadable, e.to_string())
    }
}

/// How one item ended.
#[derive(Clone, Debug, PartialEq)]
pub struct Ended {
    /// Done, failed or skipped.
    pub state: ItemState,
    /// What kind of failure it was.
    pub kind: Option<FailureKind>,
    /// Why it failed or was skipped.
    pub reason: Option<String>,
    /// What was written, or was there.
    pub outputs: Vec<ResultFile>,
}

impl Ended {
    pub(super) fn boxed(kind: FailureKind, reason: String) -> Box<Self> {
        Box::new(Self::failed(Fault::new(kind, reason)))
    }

    /// It failed.
    pub fn failed(fault: Fault) -> Self {
        Self {
            state: ItemState::Failed,
            kind: Some(fault.kind),
            reason: Some(fault.reason),
            outputs: Vec::new(),
        }
    }
}

/// A failure of something made of all pictures.
pub(crate) fn fault(e: &MediaError) -> Fault {
    match e {
        MediaError::Encode { message, .. } => Fault::new(FailureKind::Together, message),
        MediaError::NoRoom { .. } => Fault::new(FailureKind::NoRoom, e.to_string()),
        other => Fault::new(FailureKind::Together, other.to_string()),
    }
}
