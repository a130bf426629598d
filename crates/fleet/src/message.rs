//! What machines say to each other.

use crate::share::{InShare, SharePattern};
use rallo_job::FailureKind;
use rallo_runner::assemble::piece::SentAs;
use rallo_runner::queue::Helper;
use rallo_runner::render::elsewhere::PictureRequest;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashMap};

/// What a machine that helps says of itself, every few seconds.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct Hello {
    pub name: String,
    pub machine: String,
    pub cores: usize,
    /// Pictures it wants to have in hand: those it makes, and some that wait for them.
    pub room: usize,
    /// What it must have in common with the server.
    pub kind: String,
    /// The same in words, for people.
    pub version: String,
    pub at_work: Vec<String>,
    pub made: u64,
    /// It takes nothing more.
    pub leaves: bool,
    /// Folders that it shares with the server, by name, as far as it has compared them.
    #[serde(default)]
    pub shares: BTreeMap<String, Compared>,
}

/// What came of comparing a shared folder with the server's.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) enum Compared {
    /// Not yet done.
    #[default]
    NotYet,
    /// They are alike.
    Same,
    /// What is other.
    Differs(String),
}

/// What it hears.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Reply {
    /// Why it gets nothing to do, if so.
    pub refused: Option<String>,
    /// It is to end what it has in work, and go.
    pub home: bool,
    /// Shared folders it is to compare before it gets anything.
    #[serde(default)]
    pub compare: Vec<SharePattern>,
}

/// Asks the server to hand over an original that was not found where both have it.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct Need {
    /// The picture it is needed for.
    pub token: String,
    /// Hash of the original.
    pub hash: String,
}

/// A picture that somebody is to make.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct Assignment {
    /// Its number, which only the server knows beforehand.
    pub token: String,
    /// Where what was made is told.
    pub answer: String,
    /// What is wanted; the recipe is held by its hash, which stands in its place.
    pub request: PictureRequest,
    /// Originals that lie in a shared folder, by their hashes; the broker holds the others.
    #[serde(default)]
    pub shared: HashMap<String, InShare>,
    /// Whom to ask for one of them that is not found there.
    #[serde(default)]
    pub need: String,
}

/// A file that was made, held by its hash.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct SentFile {
    pub variant: usize,
    pub hash: String,
    pub length: u64,
    pub width: u32,
    pub height: u32,
}

/// A piece of a file of all pictures, held by its hash.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct SentPiece {
    pub task: usize,
    pub sent: SentAs,
    pub hash: String,
    pub length: u64,
}

/// What was made of a picture.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[serde(default)]
pub(crate) struct Sent {
    pub files: Vec<SentFile>,
    pub pieces: Vec<SentPiece>,
    pub measured: Option<serde_json::Value>,
}

impl Sent {
    /// The hashes of all that is held.
    pub fn hashes(&self) -> impl Iterator<Item = &String> {
        self.files.iter().map(|file| &file.hash).chain(self.pieces.iter().map(|piece| &piece.hash))
    }
}

/// How it went.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct Outcome {
    pub token: String,
    pub helper: String,
    pub seconds: f64,
    pub result: Result<Sent, Failure>,
}

/// Why a picture could not be made.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct Failure {
    pub kind: FailureKind,
    pub reason: String,
    /// It says nothing of the picture: somebody else may have more luck.
    #[serde(default)]
    pub is_own: bool,
}

/// Asks to send a machine home, and whether it was there.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct Home {
    pub name: String,
}

/// The machines of a fleet.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Status {
    /// What the serving machine is called.
    pub server: String,
    /// Those that help it.
    pub helpers: Vec<Helper>,
}

/// A message's bytes.
pub(crate) fn written<T: Serialize>(message: &T) -> Vec<u8> {
    // Of what is said here all can be written.
    serde_json::to_vec(message).unwrap_or_default()
}
