//! Scanning, planning, queue, executing: ties recipe, media and store together.
//!
//! `preflight` says which files a run will write and what should be known before it runs; `render` makes the results of
//! one picture; `assemble` what is made of all of them; `queue` works through many, several at a time within a memory
//! bound; `library` finds frames, keeps what was decided, copies and watches; `report` tells what was done. What keeps
//! runs and frames is behind the interfaces of `rallo_job`.

pub mod assemble;
pub mod files;
pub mod frame_context;
pub mod library;
mod lock;
pub mod preflight;
pub mod queue;
pub mod render;
pub mod report;
pub mod schedule;

pub use files::allowed_folders::Roots;
pub use frame_context::{Decided, resolve_context};
pub use library::shoot_index::{Frames, Set};
pub use preflight::output_paths::Planned;
pub use preflight::problem::Problem;
pub use queue::{EndCalls, Event, Limits, Queue, QueueOptions};
pub use render::picture_job::PictureJob;

/// Now, as records keep times.
pub fn now() -> String {
    rallo_job::clock::text_of(jiff::Timestamp::now())
}
