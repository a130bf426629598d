//! SQLite: migrations and typed queries. Knows no pixels and no pages.
//!
//! One file, write-ahead log, foreign keys on. Times are texts as the caller gives them (RFC 3339).

mod recipes;
mod shoots;

pub use recipes::{RecipeRow, VersionRow};
pub use shoots::{Decided, Frame, Place, Selection, Shoot};

use sqlx::sqlite::{SqliteConnectOptions, SqliteJournalMode, SqlitePoolOptions, SqliteSynchronous};
use sqlx::{FromRow, SqlitePool};
use std::path::Path;
use std::time::Duration;

/// What the database said.
pub type Error = sqlx::Error;
/// A query's result.
pub type Result<T> = std::result::Result<T, Error>;

/// The program's memory.
#[derive(Clone)]
pub struct Store {
    pub(crate) pool: SqlitePool,
}

/// One execution of a recipe.
#[derive(Clone, Debug, FromRow)]
pub struct Run {
    /// Identity, and the number people see.
    pub id: i64,
    /// The recipe it was started with.
    pub recipe_id: Option<i64>,
    /// Its version.
    pub recipe_version: i64,
    /// The document as it was.
    pub document: String,
    /// The shoot.
    pub shoot_id: Option<i64>,
    /// Its name then.
    pub shoot_name: String,
    /// The shoot's folder, from which sub-folders count.
    pub base: String,
    /// `waiting`, `running`, `done` or `cancelled`.
    pub state: String,
    /// When it was asked for.
    pub created: String,
    /// When it began.
    pub started: Option<String>,
    /// When it ended.
    pub finished: Option<String>,
    /// Seconds worked on it.
    pub seconds: f64,
}

/// One picture of a run.
#[derive(Clone, Debug, FromRow)]
pub struct Item {
    /// Its run.
    pub run_id: i64,
    /// From 0.
    pub position: i64,
    /// The original.
    pub source: String,
    /// Where the result goes.
    pub target: String,
    /// `waiting`, `done`, `failed` or `skipped`.
    pub state: String,
    /// Why it failed or was skipped.
    pub reason: Option<String>,
    /// What was written, JSON.
    pub outputs: Option<String>,
    /// Bytes of the original.
    pub source_bytes: i64,
    /// Seconds it took.
    pub seconds: Option<f64>,
    /// What people decided about the frame, JSON.
    pub decided: String,
}

/// One picture to be added to a run.
#[derive(Clone, Debug)]
pub struct NewItem {
    /// The original.
    pub source: String,
    /// Where the result goes.
    pub target: String,
    /// Bytes of the original.
    pub bytes: i64,
    /// What people decided about the frame, JSON.
    pub decided: String,
}

/// A run's items by state, with bytes.
#[derive(Clone, Debug, Default, FromRow)]
pub struct Counts {
    /// All.
    pub total: i64,
    /// Done.
    pub done: i64,
    /// Failed.
    pub failed: i64,
    /// Skipped.
    pub skipped: i64,
}

impl Store {
    /// Opens or makes the database and brings it up to date.
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
            .busy_timeout(Duration::from_secs(20));
        let pool = SqlitePoolOptions::new().max_connections(4).connect_with(options).await?;
        sqlx::migrate!().run(&pool).await?;
        Ok(Self { pool })
    }

    /// Writes down a run with its items, all at once or not at all.
    ///
    /// # Errors
    /// The database's.
    pub async fn add_run(&self, run: &Run, items: &[NewItem]) -> Result<i64> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await?;
        let id: i64 = sqlx::query_scalar(
            "INSERT INTO runs (recipe_id, recipe_version, document, shoot_id, shoot_name, base, state, created)
             VALUES (?, ?, ?, ?, ?, ?, 'waiting', ?) RETURNING id",
        )
        .bind(run.recipe_id)
        .bind(run.recipe_version)
        .bind(&run.document)
        .bind(run.shoot_id)
        .bind(&run.shoot_name)
        .bind(&run.base)
        .bind(&run.created)
        .fetch_one(&mut *tx)
        .await?;
        for (position, item) in items.iter().enumerate() {
            sqlx::query("INSERT INTO run_items (run_id, position, source, target, source_bytes, decided) VALUES (?, ?, ?, ?, ?, ?)")
                .bind(id)
                .bind(position as i64)
                .bind(&item.source)
                .bind(&item.target)
                .bind(item.bytes)
                .bind(&item.decided)
                .execute(&mut *tx)
                .await?;
        }
        tx.commit().await?;
        Ok(id)
    }

    /// Every run, the newest first.
    ///
    /// # Errors
    /// The database's.
    pub async fn runs(&self) -> Result<Vec<Run>> {
        sqlx::query_as("SELECT * FROM runs ORDER BY id DESC LIMIT 200").fetch_all(&self.pool).await
    }

    /// One run.
    ///
    /// # Errors
    /// The database's; `RowNotFound` when there is none.
    pub async fn run(&self, id: i64) -> Result<Run> {
        sqlx::query_as("SELECT * FROM runs WHERE id = ?").bind(id).fetch_one(&self.pool).await
    }

    /// The run to work on: one that was interrupted, or the longest waiting.
    ///
    /// # Errors
    /// The database's.
    pub async fn next_run(&self) -> Result<Option<Run>> {
        sqlx::query_as("SELECT * FROM runs WHERE state IN ('running', 'waiting') ORDER BY state, id LIMIT 1")
            .fetch_optional(&self.pool)
            .await
    }

    /// Runs running or waiting.
    ///
    /// # Errors
    /// The database's.
    pub async fn open_runs(&self) -> Result<Vec<Run>> {
        sqlx::query_as("SELECT * FROM runs WHERE state IN ('running', 'waiting') ORDER BY state, id")
            .fetch_all(&self.pool)
            .await
    }

    /// Changes a run's state, but never that of a run that has ended; returns whether it did.
    ///
    /// # Errors
    /// The database's.
    pub async fn set_run_state(&self, id: i64, state: &str, when: &str) -> Result<bool> {
        let done = sqlx::query(
            "UPDATE runs SET state = ?1,
             started = CASE WHEN ?1 = 'running' THEN coalesce(started, ?2) ELSE started END,
             finished = CASE WHEN ?1 IN ('done', 'cancelled') THEN ?2 ELSE finished END
             WHERE id = ?3 AND state IN ('waiting', 'running')",
        )
        .bind(state)
        .bind(when)
        .bind(id)
        .execute(&self.pool)
        .await?;
        Ok(done.rows_affected() > 0)
    }

    /// Takes an ended run up again for its failed items.
    ///
    /// # Errors
    /// The database's.
    pub async fn retry_failed(&self, id: i64) -> Result<()> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await?;
        sqlx::query(
            "UPDATE run_items SET state = 'waiting', reason = NULL WHERE run_id = ? AND state = 'failed'",
        )
        .bind(id)
        .execute(&mut *tx)
        .await?;
        sqlx::query("UPDATE runs SET state = 'waiting', finished = NULL WHERE id = ?")
            .bind(id)
            .execute(&mut *tx)
            .await?;
        tx.commit().await
    }

    /// Adds to the seconds worked on a run.
    ///
    /// # Errors
    /// The database's.
    pub async fn add_seconds(&self, id: i64, seconds: f64) -> Result<()> {
        sqlx::query("UPDATE runs SET seconds = seconds + ? WHERE id = ?")
            .bind(seconds)
            .bind(id)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// A run's items in order.
    ///
    /// # Errors
    /// The database's.
    pub async fn items(&self, run: i64) -> Result<Vec<Item>> {
        sqlx::query_as("SELECT * FROM run_items WHERE run_id = ? ORDER BY position")
            .bind(run)
            .fetch_all(&self.pool)
            .await
    }

    /// One item.
    ///
    /// # Errors
    /// The database's; `RowNotFound` when there is none.
    pub async fn item(&self, run: i64, position: i64) -> Result<Item> {
        sqlx::query_as("SELECT * FROM run_items WHERE run_id = ? AND position = ?")
            .bind(run)
            .bind(position)
            .fetch_one(&self.pool)
            .await
    }

    /// Writes down how an item ended.
    ///
    /// # Errors
    /// The database's.
    pub async fn finish_item(&self, item: &Item) -> Result<()> {
        sqlx::query("UPDATE run_items SET state = ?, reason = ?, outputs = ?, seconds = ? WHERE run_id = ? AND position = ?")
            .bind(&item.state)
            .bind(&item.reason)
            .bind(&item.outputs)
            .bind(item.seconds)
            .bind(item.run_id)
            .bind(item.position)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Counts a run's items.
    ///
    /// # Errors
    /// The database's.
    pub async fn counts(&self, run: i64) -> Result<Counts> {
        sqlx::query_as(
            "SELECT count(*) AS total, coalesce(sum(state = 'done'), 0) AS done,
             coalesce(sum(state = 'failed'), 0) AS failed, coalesce(sum(state = 'skipped'), 0) AS skipped
             FROM run_items WHERE run_id = ?",
        )
        .bind(run)
        .fetch_one(&self.pool)
        .await
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
