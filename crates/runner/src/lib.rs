//! Scanning, planning, queue, executing: ties recipe, media and store together.
//!
//! [`targets`] says which files a run will write before it runs; [`execute`] makes one result; [`queue`] works
//! through many, several at a time within a memory bound, with SQLite as its memory; [`paper`] prints the settings sheet; [`scan`] looks for frames, [`frames`] keeps
//! them and what was decided, [`gather`] makes verified copies; [`watch`] runs recipes on what arrives in folders.

pub mod behind;
pub mod bundle;
pub mod cost;
pub mod execute;
pub mod expect;
pub mod frames;
pub mod gather;
pub mod hook;
pub mod item;
pub mod order;
pub mod page;
pub mod paper;
mod parts;
pub mod queue;
pub mod report;
pub mod roots;
pub mod scan;
pub mod schedule;
pub mod subject;
pub mod targets;
mod tasks;
pub mod warnings;
pub mod watch;
pub mod zip;

pub use frames::{Frames, Set};
pub use item::{Item, State};
pub use queue::{Event, Limits, Queue};
pub use roots::Roots;
pub use subject::{Decided, subject};
pub use targets::Planned;
pub use warnings::Problem;

/// Now, as the store keeps times.
pub fn now() -> String {
    jiff::Timestamp::now().strftime("%Y-%m-%dT%H:%M:%SZ").to_string()
}
