//! The states of runs and items, and which may follow which.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::str::FromStr;

/// A word that is none of the states.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("expected one of {expected}, got {got:?}")]
pub struct UnknownWord {
    /// The words there are.
    pub expected: String,
    /// What came.
    pub got: String,
}

/// Gives an enum its words: `as_str`, `ALL`, `Display`, `FromStr`.
macro_rules! words {
    ($name:ident { $($variant:ident = $word:literal),* $(,)? }) => {
        impl $name {
            /// Every one there is.
            pub const ALL: &'static [Self] = &[$(Self::$variant),*];

            /// The word it is stored and told as.
            pub const fn as_str(self) -> &'static str {
                match self { $(Self::$variant => $word),* }
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str(self.as_str())
            }
        }

        impl FromStr for $name {
            type Err = UnknownWord;
            fn from_str(text: &str) -> std::result::Result<Self, UnknownWord> {
                Self::ALL.iter().copied().find(|v| v.as_str() == text).ok_or_else(|| UnknownWord {
                    expected: Self::ALL.iter().map(|v| v.as_str()).collect::<Vec<_>>().join(", "),
                    got: text.to_owned(),
                })
            }
        }
    };
}
pub(crate) use words;

/// Where a run stands.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum RunState {
    /// None of its items was claimed yet, or it was taken up again.
    #[default]
    Waiting,
    /// Items of it were claimed.
    Running,
    /// No further item is claimed until somebody, or the cause being over, lets it go on.
    Paused,
    /// It waits for a yes at a checkpoint.
    Asking,
    /// Every item has ended.
    Done,
    /// Somebody stopped it.
    Cancelled,
}

words!(RunState {
    Waiting = "waiting",
    Running = "running",
    Paused = "paused",
    Asking = "asking",
    Done = "done",
    Cancelled = "cancelled",
});

impl RunState {
    /// Whether it is over; only a retry takes it up again.
    pub const fn is_over(self) -> bool {
        matches!(self, Self::Done | Self::Cancelled)
    }

    /// Whether its items may be claimed.
    pub const fn is_claimable(self) -> bool {
        matches!(self, Self::Waiting | Self::Running)
    }

    /// The states of runs that are not over.
    pub const OPEN: &'static [Self] = &[Self::Running, Self::Waiting, Self::Paused, Self::Asking];

    /// The states of runs that are over.
    pub const OVER: &'static [Self] = &[Self::Done, Self::Cancelled];

    /// The states in which items may be claimed.
    pub const CLAIMABLE: &'static [Self] = &[Self::Running, Self::Waiting];
}

/// Where an item stands. One that is worked on is still `waiting`, with a worker and a lease.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum ItemState {
    /// It has not ended.
    #[default]
    Waiting,
    /// Its results were written.
    Done,
    /// It could not be done.
    Failed,
    /// Its results were there already.
    Skipped,
}

words!(ItemState { Waiting = "waiting", Done = "done", Failed = "failed", Skipped = "skipped" });

/// A change of a run's state. [`RunMove::from`] and [`RunMove::to`] are the whole table; whatever keeps runs refuses
/// a move from any other state.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum RunMove {
    /// Its first item was claimed.
    Begin,
    /// Somebody lets it pause, or a cause that is no picture's fault does.
    Pause,
    /// A paused one goes on.
    Resume,
    /// A checkpoint was passed and nothing more is asked.
    Answer,
    /// A checkpoint was passed and the next one asks.
    AskAgain,
    /// Its last item has ended.
    Finish,
    /// Somebody stops it.
    Cancel,
    /// Its failed items are tried again.
    Retry,
    /// A source that was gone is there again under another name.
    Reopen,
}

impl RunMove {
    /// Every move there is.
    pub const ALL: [Self; 9] = [
        Self::Begin,
        Self::Pause,
        Self::Resume,
        Self::Answer,
        Self::AskAgain,
        Self::Finish,
        Self::Cancel,
        Self::Retry,
        Self::Reopen,
    ];

    /// The states it may be made from.
    pub const fn from(self) -> &'static [RunState] {
        use RunState::{Asking, Done, Paused, Waiting};
        match self {
            Self::Begin => &[Waiting],
            Self::Pause | Self::Finish => RunState::CLAIMABLE,
            // One that waits for its time may be told to begin at once.
            Self::Resume => &[Paused, Waiting],
            Self::Answer | Self::AskAgain => &[Asking],
            Self::Cancel => RunState::OPEN,
            Self::Retry => &[Done, Paused],
            Self::Reopen => &[Done],
        }
    }

    /// The state it leads to.
    pub const fn to(self) -> RunState {
        match self {
            Self::Begin => RunState::Running,
            Self::Pause => RunState::Paused,
            Self::Resume | Self::Answer | Self::Retry | Self::Reopen => RunState::Waiting,
            Self::AskAgain => RunState::Asking,
            Self::Finish => RunState::Done,
            Self::Cancel => RunState::Cancelled,
        }
    }

    /// Whether it may be made from `state`.
    pub fn is_allowed(self, state: RunState) -> bool {
        self.from().contains(&state)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::HashSet;

    #[test]
    fn words_and_states_are_one_to_one() {
        for state in RunState::ALL {
            assert_eq!(state.as_str().parse(), Ok(*state));
            assert_eq!(serde_json::to_value(state).unwrap(), state.as_str());
        }
        for state in ItemState::ALL {
            assert_eq!(state.as_str().parse(), Ok(*state));
        }
        let refused = "runing".parse::<RunState>().unwrap_err();
        assert!(refused.to_string().contains("waiting, running") && refused.to_string().contains("runing"));
    }

    #[test]
    fn every_run_is_open_or_over_and_nothing_over_is_claimed() {
        for state in RunState::ALL {
            assert_ne!(RunState::OPEN.contains(state), state.is_over(), "{state}");
            assert_eq!(RunState::OVER.contains(state), state.is_over(), "{state}");
            assert_eq!(RunState::CLAIMABLE.contains(state), state.is_claimable(), "{state}");
            assert!(!(state.is_over() && state.is_claimable()), "{state}");
        }
    }

    #[test]
    fn every_open_run_can_be_cancelled_and_a_cancelled_one_stays_so() {
        for state in RunState::ALL {
            assert_eq!(RunMove::Cancel.is_allowed(*state), !state.is_over(), "{state}");
        }
        assert!(RunMove::ALL.iter().all(|m| !m.is_allowed(RunState::Cancelled)));
    }

    #[test]
    fn every_state_is_reached_and_an_open_one_can_reach_the_end() {
        let mut reached = HashSet::from([RunState::Waiting, RunState::Asking]);
        let mut ending: HashSet<RunState> = HashSet::from([RunState::Done, RunState::Cancelled]);
        for _ in RunMove::ALL {
            for change in RunMove::ALL {
                if change.from().iter().any(|s| reached.contains(s)) {
                    reached.insert(change.to());
                }
                if ending.contains(&change.to()) {
                    ending.extend(change.from());
                }
            }
        }
        assert_eq!(reached, RunState::ALL.iter().copied().collect());
        assert_eq!(ending, RunState::ALL.iter().copied().collect());
    }
}
