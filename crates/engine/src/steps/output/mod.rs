//! Steps that say what a result carries.

pub mod data;
