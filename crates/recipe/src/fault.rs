//! Faults of a document, each with the place it is at.

use std::fmt;

/// One fault, with the place it is at.
#[derive(Clone, Debug, PartialEq)]
pub struct Fault {
    /// Such as `steps[2].crop.proportion`.
    pub path: String,
    /// What was expected and what came.
    pub message: String,
}

impl fmt::Display for Fault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.path.is_empty() {
            f.write_str(&self.message)
        } else {
            write!(f, "{}: {}", self.path, self.message)
        }
    }
}

/// Everything that is wrong with a document.
#[derive(Clone, Debug, thiserror::Error)]
#[error("{}", .0.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"))]
pub struct Faults(pub Vec<Fault>);
