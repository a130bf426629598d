//! Steps that go by the other frames of a sequence.

pub mod deflicker;
