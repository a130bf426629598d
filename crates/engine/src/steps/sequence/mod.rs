//! Steps that go by the other frames of a sequence.

pub mod blend;
pub mod deflicker;
pub mod denoise_over_time;
pub mod hold_steady;
pub mod trails;

/// Said of a line that joins frames, where one frame is looked at.
const JOINED_IN_A_RUN: &str =
    "With the frames beside the sample; behind a line that takes long for each of them only in a run.";

/// Said of a line that decides about all frames together, where one frame is looked at.
const DECIDED_IN_A_RUN: &str = "Decided from all frames: by a run, or once the sequence was played here.";
