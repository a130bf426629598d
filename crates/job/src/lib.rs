//! The vocabulary of unattended work: runs and their items, the states they go through, why an item fails, who works
//! on what until when; and the interfaces behind which they are kept.
//!
//! A *run* is one execution of a recipe over many pictures. Its *items* are those pictures, and at its end the files
//! that are made of all of them. A worker *claims* an item and holds a *lease* on it, which it renews while it works; a
//! lease that runs out gives the item back, wherever its worker was. Which state may follow which is one table
//! ([`RunMove`]), and whatever keeps runs carries it out.
//!
//! No SQL, no HTTP and no pixels here. [`RunQueue`], [`RunJournal`], [`ShootRecords`] and [`WatchRecords`] are
//! carried out elsewhere; [`Clock`] has one for tests.

pub mod clock;
pub mod error;
pub mod failure;
pub mod journal;
pub mod library;
pub mod phase;
pub mod queue;
pub mod record;
pub mod state;
pub mod watch;

pub use clock::{Clock, ManualClock, SystemClock};
pub use error::{Error, Result};
pub use failure::FailureKind;
pub use journal::RunJournal;
pub use library::{
    FrameDecision, FrameMeasured, FrameRecord, Selection, Shoot, ShootFolder, ShootRecords, ShootSummary,
};
pub use phase::Phase;
pub use queue::{Claim, ExpiredLeases, Further, RunQueue};
pub use record::{
    Counts, EndedItem, ItemKey, KnownResult, NewRunItem, ResultFile, Run, RunItem, WrittenFile,
};
pub use state::{ItemState, RunMove, RunState};
pub use watch::{Arrival, Watch, WatchRecords, WatchState};

use async_trait::async_trait;
use std::path::Path;

/// Settings kept between sessions, and the folder the program keeps its own files in.
#[async_trait]
pub trait Settings: Send + Sync {
    /// The program's own folder.
    fn folder(&self) -> &Path;

    /// A setting, or `None` where it was never made.
    ///
    /// # Errors
    /// [`Error::Unavailable`].
    async fn setting(&self, key: &str) -> Result<Option<String>>;

    /// Keeps a setting.
    ///
    /// # Errors
    /// [`Error::Unavailable`].
    async fn set_setting(&self, key: &str, value: &str) -> Result<()>;
}

/// Everything the runner asks of what keeps runs, frames and watched folders.
pub trait Records: RunQueue + RunJournal + ShootRecords + WatchRecords + Settings {}

impl<T: RunQueue + RunJournal + ShootRecords + WatchRecords + Settings> Records for T {}

/// The interfaces' methods, without their names.
pub mod prelude {
    pub use crate::{
        Clock as _, RunJournal as _, RunQueue as _, Settings as _, ShootRecords as _, WatchRecords as _,
    };
}
