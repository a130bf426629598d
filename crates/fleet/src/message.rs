//! What machines say to each other.

use rallo_job::FailureKind;
use rallo_runner::assemble::piece::SentAs;
use rallo_runner::queue::Helper;
use rallo_runner::render::elsewhere::PictureRequest;
use serde::{Deserialize, Serialize};

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
}

/// What it hears.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Reply {
    /// Why it gets nothing to do, if so.
    pub refused: Option<String>,
    /// It is to end what it has in work, and go.
    pub home: bool,
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
}

/// Asks to send a machine home, and whether it was there.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct Home {
    pub name: String,
}

/// The machines of a fleet.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct Status {
    pub server: String,
    pub helpers: Vec<Helper>,
}

/// A message's bytes.
pub(crate) fn written<T: Serialize>(message: &T) -> Vec<u8> {
    // Of what is said here all can be written.
    serde_json::to_vec(message).unwrap_or_default()
}
