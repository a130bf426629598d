//! The journal: what became of runs and their items, and which files they wrote.

use crate::{Counts, ItemKey, KnownResult, NewRunItem, Result, Run, RunItem, WrittenFile};
use async_trait::async_trait;

/// What is known of runs. Asking for a run or an item that is not there is
/// [`Error::NotFound`](crate::Error::NotFound); what is stored and cannot be read,
/// [`Error::Stored`](crate::Error::Stored).
#[async_trait]
pub trait RunJournal: Send + Sync {
    /// The newest runs, the newest first.
    async fn runs(&self) -> Result<Vec<Run>>;

    /// One run.
    async fn run(&self, id: i64) -> Result<Run>;

    /// Runs that are not over, in the queue's order.
    async fn open_runs(&self) -> Result<Vec<Run>>;

    /// An open run of the same origin, document and folder, whose pictures and results are `items`.
    async fn open_like(&self, like: &Run, items: &[NewRunItem]) -> Result<Option<i64>>;

    /// A run's items in order.
    async fn items(&self, run: i64) -> Result<Vec<RunItem>>;

    /// One item.
    async fn item(&self, key: ItemKey) -> Result<RunItem>;

    /// Items of which it was written down later that they ended than of one that ended at that time, in that order, at most so many:
    /// times of ending rise within a run as they are written down.
    async fn ended_since(&self, run: i64, since: i64, most: i64) -> Result<Vec<RunItem>>;

    /// Places of pictures that were made last and have a result of their own, the newest first, at most so many.
    async fn latest_results(&self, run: i64, most: i64) -> Result<Vec<i64>>;

    /// Items that failed, at most so many.
    async fn failed(&self, run: i64, most: i64) -> Result<Vec<RunItem>>;

    /// The first items that have not ended.
    async fn waiting(&self, run: i64, most: i64) -> Result<Vec<RunItem>>;

    /// Originals in work now.
    async fn working(&self, run: i64) -> Result<Vec<String>>;

    /// Originals of all open runs that have not ended.
    async fn in_work(&self) -> Result<Vec<String>>;

    /// Items by state.
    async fn counts(&self, run: i64) -> Result<Counts>;

    /// Bytes of the originals whose results are there, and of those results.
    async fn bytes(&self, run: i64) -> Result<(i64, i64)>;

    /// Where a run's first result goes.
    async fn first_target(&self, run: i64) -> Result<Option<String>>;

    /// Adds to the seconds worked on a run.
    async fn add_seconds(&self, run: i64, seconds: f64) -> Result<()>;

    /// Says that what follows a run's end is begun; returns whether nobody had done so.
    async fn call_run(&self, run: i64) -> Result<bool>;

    /// Runs that have ended without what follows having begun: those with a hook of their own, or `all`.
    async fn uncalled(&self, all: bool) -> Result<Vec<i64>>;

    /// Folders of pictures that were brought for runs that ended before a time, with the run.
    async fn brought_before(&self, time: &str) -> Result<Vec<(i64, String)>>;

    /// Whether a run has this folder of brought pictures.
    async fn is_brought(&self, folder: &str) -> Result<bool>;

    /// What is remembered of the file at a path.
    async fn result(&self, path: &str) -> Result<Option<KnownResult>>;

    /// Remembers a file that was written beside a run's items.
    async fn keep_result(&self, file: &WrittenFile, run: i64) -> Result<()>;

    /// Everything a run wrote and nobody wrote over since: path and hash.
    async fn results_of(&self, run: i64) -> Result<Vec<(String, String)>>;

    /// Forgets the file at a path.
    async fn forget_result(&self, path: &str) -> Result<()>;
}
