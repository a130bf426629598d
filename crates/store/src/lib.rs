//! SQLite: migrations and typed queries. Knows no pixels and no pages.
//!
//! One file, write-ahead log, foreign keys on. Times are texts as the caller gives them (RFC 3339).

mod keys;
mod recipes;
mod runs;
mod shoots;
mod watches;

pub use keys::Token;
pub use recipes::{RecipeRow, VersionRow};
pub use runs::{Counts, Item, Kept, NewItem, Run, Written};
pub use shoots::{Decided, Frame, Place, Selection, Shoot};
pub use watches::{Arrival, Watch};

use sqlx::SqlitePool;
use sqlx::sqlite::{SqliteConnectOptions, SqliteJournalMode, SqlitePoolOptions, SqliteSynchronous};
use std::fs::File;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// What the database said.
pub type Error = sqlx::Error;
/// A query's result.
pub type Result<T> = std::result::Result<T, Error>;

/// The program's memory.
#[derive(Clone)]
pub struct Store {
    pub(crate) pool: SqlitePool,
    folder: PathBuf,
}

/// Name of the database in the program's data folder.
pub const FILE: &str = "rallo.sqlite";

/// Waits until nobody else holds the lock; it is let go with the file.
async fn alone(file: PathBuf) -> Result<File> {
    let lock = move || {
        let file = File::options().create(true).truncate(false).write(true).open(file)?;
        file.lock().map(|()| file)
    };
    let locked = tokio::task::spawn_blocking(lock).await.map_err(std::io::Error::other);
    locked.and_then(|file| file).map_err(Error::Io)
}

impl Store {
    /// Opens or makes the database and brings it up to date; one program at a time does so.
    ///
    /// # Errors
    /// When the file cannot be opened, or holds a newer shape.
    pub async fn open(file: &Path) -> Result<Self> {
        let options = SqliteConnectOptions::new()
            .filename(file)
            .create_if_missing(true)
            .journal_mode(SqliteJournalMode::Wal)
            .synchronous(SqliteSynchronous::Normal)
            .foreign_keys(true)
            .busy_timeout(Duration::from_secs(20))
            // Other connections' changes are seen without reading pages again.
            .pragma("mmap_size", "268435456");
        let alone = alone(file.with_extension("lock")).await?;
        let pool = SqlitePoolOptions::new().max_connections(4).connect_with(options).await?;
        sqlx::migrate!().run(&pool).await?;
        drop(alone);
        Ok(Self { pool, folder: file.parent().unwrap_or(Path::new(".")).to_owned() })
    }

    /// The folder it lies in: the program's own.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// A setting kept between sessions.
    ///
    /// # Errors
    /// The database's.
    pub async fn setting(&self, key: &str) -> Result<Option<String>> {
        sqlx::query_scalar("SELECT value FROM settings WHERE key = ?")
            .bind(key)
            .fetch_optional(&self.pool)
            .await
    }

    /// Keeps a setting.
    ///
    /// # Errors
    /// The database's.
    pub async fn set_setting(&self, key: &str, value: &str) -> Result<()> {
        sqlx::query("INSERT INTO settings (key, value) VALUES (?, ?) ON CONFLICT (key) DO UPDATE SET value = excluded.value")
            .bind(key)
            .bind(value)
            .execute(&self.pool)
            .await?;
        Ok(())
    }
}
