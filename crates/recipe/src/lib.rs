//! The recipe document: steps, deliveries, names; validation, schema, plain sentences.
//!
//! A recipe is JSON (`"format": "rallo-recipe"`, version 1). [`Recipe::parse`] checks all of it and names every
//! fault by its path; [`schema::schema`] publishes the shape; both come from the descriptions of the steps.

pub mod advice;
mod blocks;
mod brief;
mod by_hand;
pub mod condition;
pub mod context;
pub mod delivery;
mod diff;
mod document;
mod fault;
pub mod file;
pub mod iso_table;
mod line;
pub mod names;
pub mod ramp;
mod read;
mod read_line;
mod resolve;
pub mod schema;
pub mod sentence;
mod starters;
pub mod text;
mod write;

pub use crate::document::{Block, MAX_STEPS, Recipe, TakenFrom};
pub use crate::fault::{Fault, Faults};
pub use crate::line::Line;
pub(crate) use crate::text::brief;
pub(crate) use crate::text::tidy;
pub use advice::{Advice, advice};
pub use brief::UNNAMED;
pub use by_hand::{ByHand, Sketch, SketchStroke};
pub use condition::Condition;
pub use context::{FrameAdjustments, FrameContext, Overrides, ResolveContext, SequencePlace};
pub use delivery::{Assembly, Delivery, FinishingTask, Pictures};
pub use diff::difference;
pub use iso_table::IsoTable;
pub use ramp::{FrameValue, MOST_MARKS, Mark, MarkPlaces, Ramp, RampFrame};
pub use sentence::Part;
pub use starters::starters;

/// The version this program writes and the newest it reads.
pub const VERSION: u64 = 1;
