//! Steps that go by the other frames of a sequence.

pub mod blend;
pub mod deflicker;
pub mod hold_steady;
pub mod trails;
