//! Why items fail, told apart for programs; the sentence for people stands beside it.

use crate::state::{UnknownWord, words};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::str::FromStr;

/// What kind of failure it was.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, JsonSchema)]
#[non_exhaustive]
pub enum FailureKind {
    /// The original is not there any more.
    #[serde(rename = "gone")]
    Gone,
    /// The original may not be read.
    #[serde(rename = "no permission to read")]
    NoPermissionToRead,
    /// The original's bytes make no picture.
    #[serde(rename = "unreadable")]
    Unreadable,
    /// The original is of a kind that is not read.
    #[serde(rename = "unsupported")]
    Unsupported,
    /// The picture, or one on the way, is larger than the limit or the memory given.
    #[serde(rename = "too large")]
    TooLarge,
    /// The recipe cannot be carried out on this picture.
    #[serde(rename = "recipe")]
    Recipe,
    /// What was stored about the picture cannot be read.
    #[serde(rename = "stored")]
    Stored,
    /// The result cannot be encoded.
    #[serde(rename = "encoding")]
    Encoding,
    /// Another file stands at the place of the result.
    #[serde(rename = "name taken")]
    NameTaken,
    /// The original changed while it was worked on.
    #[serde(rename = "changed")]
    Changed,
    /// No room is left where the result goes.
    #[serde(rename = "no room")]
    NoRoom,
    /// The folder of the result is missing or may not be written to.
    #[serde(rename = "no permission")]
    NoPermission,
    /// A file of all pictures cannot be made of these.
    #[serde(rename = "together")]
    Together,
    /// A fault of the program or of one it uses.
    #[serde(rename = "inside")]
    Inside,
}

words!(FailureKind {
    Gone = "gone",
    NoPermissionToRead = "no permission to read",
    Unreadable = "unreadable",
    Unsupported = "unsupported",
    TooLarge = "too large",
    Recipe = "recipe",
    Stored = "stored",
    Encoding = "encoding",
    NameTaken = "name taken",
    Changed = "changed",
    NoRoom = "no room",
    NoPermission = "no permission",
    Together = "together",
    Inside = "inside",
});

impl FailureKind {
    /// Whether the cause is no picture's fault and passes: the run pauses instead of failing its pictures, and goes on
    /// when the cause is over.
    pub const fn holds_run(self) -> bool {
        matches!(self, Self::NoRoom | Self::NoPermission)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn kinds_are_stored_and_sent_under_one_word() {
        for kind in FailureKind::ALL {
            assert_eq!(kind.as_str().parse(), Ok(*kind));
            assert_eq!(serde_json::to_value(kind).unwrap(), kind.as_str());
        }
    }
}
