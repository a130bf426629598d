//! What can go wrong with records of runs.

/// A record's result.
pub type Result<T> = std::result::Result<T, Error>;

/// Why a record could not be read or written.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum Error {
    /// There is no such record.
    #[error("there is no {what} {id}")]
    NotFound {
        /// What was asked for, such as `run`.
        what: &'static str,
        /// Its number, or what else names it.
        id: String,
    },
    /// What was stored is not what this version writes. Nothing is guessed: the record is left as it is.
    #[error("{what} cannot be read from what was stored ({value}): {reason}")]
    Stored {
        /// Which value, such as `the state of run 3`.
        what: String,
        /// What is stored, shortened.
        value: String,
        /// Why it makes no sense.
        reason: String,
    },
    /// There is no room left where records are kept.
    #[error("there is no room left on the disk that holds the program's own data")]
    NoRoom,
    /// The place where records are kept does not answer, or refused.
    #[error("the records cannot be used: {0}")]
    Unavailable(#[source] Box<dyn std::error::Error + Send + Sync>),
}

impl Error {
    /// There is no record `id` of that kind.
    pub fn not_found(what: &'static str, id: impl ToString) -> Self {
        Self::NotFound { what, id: id.to_string() }
    }

    /// A stored value that cannot be read.
    pub fn stored(what: impl Into<String>, value: &str, reason: impl ToString) -> Self {
        let value = if value.chars().count() > 60 {
            value.chars().take(60).chain(['…']).collect()
        } else {
            value.to_owned()
        };
        Self::Stored { what: what.into(), value, reason: reason.to_string() }
    }

    /// Whether the record asked for is not there.
    pub fn is_not_found(&self) -> bool {
        matches!(self, Self::NotFound { .. })
    }
}
