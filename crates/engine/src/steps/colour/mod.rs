//! Steps that change colours.

pub mod colour_balance;
pub mod convert_profile;
pub mod gentle_saturation;
pub mod grey;
pub mod lut;
pub mod saturation;
pub mod tint;
