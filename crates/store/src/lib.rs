//! SQLite behind the interfaces of `rallo_job`, and for what only the pages and the command line keep: recipes, tokens,
//! sessions. Knows no pixels and no pages.
//!
//! One file, write-ahead log, foreign keys on. Times are texts as the caller gives them (RFC 3339). Stored values that
//! cannot be read are an error that names them, never a default.

mod journal;
mod keys;
mod migrations;
mod queue;
mod recipes;
mod rows;
mod shoots;
mod watches;

pub use keys::Token;
pub use rallo_job::{Error, Result};
pub use recipes::{RecipeRow, VersionRow};

use async_trait::async_trait;
use rallo_job::Settings;
use sqlx::SqlitePool;
use sqlx::sqlite::{SqliteConnectOptions, SqliteJournalMode, SqlitePoolOptions, SqliteSynchronous};
use std::fs::File;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// The program's memory.
#[derive(Clone)]
pub struct Store {
    pub(crate) pool: SqlitePool,
    folder: PathBuf,
}

/// Name of the database in the program's data folder.
pub const FILE: &str = "rallo.sqlite";

/// What the database said, as an error of records: what is stored and cannot be read is told apart from a database that
/// does not answer.
pub(crate) fn failed(e: sqlx::Error) -> Error {
    match e {
        sqlx::Error::ColumnDecode { source, index } => match source.downcast::<Error>() {
            Ok(stored) => *stored,
            Err(source) => Error::stored(index, "", source),
        },
        sqlx::Error::Database(e) if e.code().is_some_and(|code| code == FULL) => Error::NoRoom,
        other => Error::Unavailable(Box::new(other)),
    }
}

/// What SQLite calls a disk without room (SQLITE_FULL).
const FULL: &str = "13";

/// Waits until nobody else holds the lock; it is let go with the file.
async fn alone(file: PathBuf) -> Result<File> {
    let lock = move || {
        let file = File::options().create(true).truncate(false).write(true).open(file)?;
        file.lock().map(|()| file)
    };
    let locked = tokio::task::spawn_blocking(lock).await.map_err(std::io::Error::other);
    locked.and_then(|file| file).map_err(|e| Error::Unavailable(Box::new(e)))
}

impl Store {
    /// Opens or makes the database and brings it up to date; one program at a time does so.
    ///
    /// # Errors
    /// When the file cannot be opened, or was written by a newer version.
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
        let pool = SqlitePoolOptions::new()
            .max_connections(4)
            // A file does not hang up; to be asked first would take as long as most questions.
            .test_before_acquire(false)
            .connect_with(options)
            .await
            .map_err(failed)?;
        migrations::migrator().run(&pool).await.map_err(|e| Error::Unavailable(Box::new(e)))?;
        drop(alone);
        Ok(Self { pool, folder: file.parent().unwrap_or(Path::new(".")).to_owned() })
    }
}

#[async_trait]
impl Settings for Store {
    fn folder(&self) -> &Path {
        &self.folder
    }

    async fn setting(&self, key: &str) -> Result<Option<String>> {
        sqlx::query_scalar("SELECT value FROM settings WHERE key = ?")
            .bind(key)
            .fetch_optional(&self.pool)
            .await
            .map_err(failed)
    }

    async fn set_setting(&self, key: &str, value: &str) -> Result<()> {
        sqlx::query("INSERT INTO settings (key, value) VALUES (?, ?) ON CONFLICT (key) DO UPDATE SET value = excluded.value")
            .bind(key)
            .bind(value)
            .execute(&self.pool)
            .await
            .map_err(failed)?;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use sqlx::sqlite::SqlitePoolOptions;

    #[tokio::test]
    async fn a_disk_without_room_is_told_apart_from_a_database_that_does_not_answer() {
        let pool = SqlitePoolOptions::new().max_connections(1).connect("sqlite::memory:").await.unwrap();
        let run = async |sql: &'static str| sqlx::query(sql).execute(&pool).await;
        run("CREATE TABLE words (word TEXT)").await.unwrap();
        run("PRAGMA max_page_count = 4").await.unwrap();
        let full = run("INSERT INTO words VALUES (hex(randomblob(100000)))").await.unwrap_err();
        assert!(matches!(failed(full), Error::NoRoom));
        let wrong = run("INSERT INTO nothing VALUES (1)").await.unwrap_err();
        assert!(matches!(failed(wrong), Error::Unavailable(_)));
    }
}
