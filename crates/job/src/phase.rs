//! The parts of a run that follow each other.

use crate::state::{UnknownWord, words};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::str::FromStr;

/// The part of a run an item is in. No item has its turn while another one of its run waits in an earlier part.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema,
)]
#[serde(rename_all = "lowercase")]
pub enum Phase {
    /// The picture is measured; what it becomes is decided when all are.
    Measure,
    /// The picture is made.
    #[default]
    Render,
    /// A file of all pictures is made.
    Assemble,
}

words!(Phase { Measure = "measure", Render = "render", Assemble = "assemble" });
