//! Scanning, planning, queue, executing: ties recipe, media and store together.
//!
//! [`targets`] says which files a run will write before it runs; [`execute`] makes one result; [`queue`] works
//! through many, several at a time within a memory bound, with SQLite as its memory; [`paper`] prints the settings sheet; [`scan`] looks for frames, [`frames`] keeps
//! them and what was decided, [`gather`] makes verified copies; [`watch`] runs recipes on what arrives in folders.

pub mod assemble;
pub mod files;
pub mod frame_context;
pub mod library;
pub mod preflight;
pub mod queue;
pub mod render;
pub mod report;
pub mod schedule;

pub use files::allowed_folders::Roots;
pub use frame_context::{Decided, subject};
pub use library::shoot_index::{Frames, Set};
pub use preflight::checks::Problem;
pub use preflight::output_paths::Planned;
pub use queue::{Event, Limits, Queue};
pub use render::item::{Item, State};

/// Now, as the store keeps times.
pub fn now() -> String {
    jiff::Timestamp::now().strftime("%Y-%m-%dT%H:%M:%SZ").to_string()
}
