//! Why an item failed, and how an item ended.

use crate::render::item::{Output, State};
use rallo_media::MediaError;
use std::io::ErrorKind;
use std::path::Path;

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
    pub(crate) fn writing(target: &Path, e: &std::io::Error) -> Self {
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
    pub(super) fn boxed(kind: &'static str, reason: String) -> Box<Self> {
        Box::new(Self::failed(Fault::new(kind, reason)))
    }

    /// It failed.
    pub fn failed(fault: Fault) -> Self {
        Self { state: State::Failed, kind: Some(fault.kind), reason: Some(fault.reason), outputs: Vec::new() }
    }
}
