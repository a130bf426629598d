//! Steps that go by the other frames of a sequence.

pub mod blend;
pub mod deflicker;
pub mod hold_steady;
pub mod trails;

/// Said of a line that joins frames, where one frame is looked at.
const JOINED_IN_A_RUN: &str = "A run joins the frames; a single picture is shown as it is alone.";

/// Said of a line that decides about all frames together, where one frame is looked at.
const DECIDED_IN_A_RUN: &str =
    "Decided when a run has measured all frames; a single picture is shown as it is alone.";
