//! The journal in SQLite: what became of runs and their items, and which files they wrote.

use crate::queue::among;
use crate::rows::{Row, records};
use crate::{Store, failed};
use async_trait::async_trait;
use rallo_job::{
    Counts, Error, ItemKey, KnownResult, NewRunItem, Result, Run, RunItem, RunJournal, RunState, WrittenFile,
};
use sqlx::sqlite::SqliteRow;
use sqlx::{AssertSqlSafe, FromRow};

/// The runs of rows. One that cannot be read is named in the log and left out, so that the others go on; asked for
/// itself, it is an error.
fn readable(rows: Vec<SqliteRow>) -> Vec<Run> {
    let run = |row: &SqliteRow| match Row::<Run>::from_row(row) {
        Ok(run) => Some(run.0),
        Err(e) => {
            tracing::error!("{}", failed(e));
            None
        }
    };
    rows.iter().filter_map(run).collect()
}

impl Store {
    /// Items of a run that meet a condition, in an order, at most so many.
    async fn items_where(&self, run: i64, condition: &'static str, most: i64) -> Result<Vec<RunItem>> {
        let query =
            format!("SELECT * FROM run_items WHERE run_id = ? AND {condition} ORDER BY position LIMIT ?");
        sqlx::query_as(AssertSqlSafe(query))
            .bind(run)
            .bind(most)
            .fetch_all(&self.pool)
            .await
            .map(records)
            .map_err(failed)
    }
}

#[async_trait]
impl RunJournal for Store {
    async fn runs(&self) -> Result<Vec<Run>> {
        let rows = sqlx::query("SELECT * FROM runs ORDER BY id DESC LIMIT 200").fetch_all(&self.pool).await;
        rows.map(readable).map_err(failed)
    }

    async fn run(&self, id: i64) -> Result<Run> {
        let row: Option<Row<Run>> = sqlx::query_as("SELECT * FROM runs WHERE id = ?")
            .bind(id)
            .fetch_optional(&self.pool)
            .await
            .map_err(failed)?;
        row.map(|row| row.0).ok_or_else(|| Error::not_found("run", id))
    }

    async fn open_runs(&self) -> Result<Vec<Run>> {
        let query = format!("SELECT * FROM runs WHERE state IN {} ORDER BY place, id", among(RunState::OPEN));
        sqlx::query(AssertSqlSafe(query)).fetch_all(&self.pool).await.map(readable).map_err(failed)
    }

    async fn open_like(&self, like: &Run, items: &[NewRunItem]) -> Result<Option<i64>> {
        for run in self.open_runs().await? {
            if (&run.origin, &run.document, &run.base) == (&like.origin, &like.document, &like.base) {
                let present = self.items(run.id).await?;
                let same = |(a, b): (&RunItem, &NewRunItem)| (&a.source, &a.target) == (&b.source, &b.target);
                if present.len() == items.len() && present.iter().zip(items).all(same) {
                    return Ok(Some(run.id));
                }
            }
        }
        Ok(None)
    }

    async fn items(&self, run: i64) -> Result<Vec<RunItem>> {
        self.items_where(run, "TRUE", i64::MAX).await
    }

    async fn item(&self, key: ItemKey) -> Result<RunItem> {
        let row: Option<Row<RunItem>> =
            sqlx::query_as("SELECT * FROM run_items WHERE run_id = ? AND position = ?")
                .bind(key.run)
                .bind(key.position)
                .fetch_optional(&self.pool)
                .await
                .map_err(failed)?;
        row.map(|row| row.0)
            .ok_or_else(|| Error::not_found("picture", format!("{} in run {}", key.position + 1, key.run)))
    }

    async fn ended_since(&self, run: i64, since: i64, most: i64) -> Result<Vec<RunItem>> {
        sqlx::query_as(
            "SELECT * FROM run_items WHERE run_id = ? AND ended > ? ORDER BY ended, position LIMIT ?",
        )
        .bind(run)
        .bind(since)
        .bind(most)
        .fetch_all(&self.pool)
        .await
        .map(records)
        .map_err(failed)
    }

    async fn latest_results(&self, run: i64, most: i64) -> Result<Vec<i64>> {
        sqlx::query_scalar(
            "SELECT position FROM run_items WHERE run_id = ? AND ended > 0 AND state IN ('done', 'skipped')
             AND task IS NULL AND outputs <> '[]' ORDER BY ended DESC LIMIT ?",
        )
        .bind(run)
        .bind(most)
        .fetch_all(&self.pool)
        .await
        .map_err(failed)
    }

    async fn failed(&self, run: i64, most: i64) -> Result<Vec<RunItem>> {
        self.items_where(run, "state = 'failed'", most).await
    }

    async fn waiting(&self, run: i64, most: i64) -> Result<Vec<RunItem>> {
        self.items_where(run, "state = 'waiting'", most).await
    }

    async fn working(&self, run: i64) -> Result<Vec<String>> {
        sqlx::query_scalar(
            "SELECT source FROM run_items WHERE run_id = ? AND state = 'waiting' AND worker IS NOT NULL ORDER BY position",
        )
        .bind(run)
        .fetch_all(&self.pool)
        .await
        .map_err(failed)
    }

    async fn in_work(&self) -> Result<Vec<String>> {
        let query = format!(
            "SELECT DISTINCT i.source FROM runs r JOIN run_items i ON i.run_id = r.id WHERE r.state IN {} AND i.state = 'waiting'",
            among(RunState::OPEN)
        );
        sqlx::query_scalar(AssertSqlSafe(query)).fetch_all(&self.pool).await.map_err(failed)
    }

    async fn counts(&self, run: i64) -> Result<Counts> {
        let row: Row<Counts> = sqlx::query_as(
            "SELECT coalesce(sum(items), 0) AS total, coalesce(sum(items) FILTER (WHERE is_task), 0) AS tasks,
             coalesce(sum(items) FILTER (WHERE state = 'done'), 0) AS done,
             coalesce(sum(items) FILTER (WHERE state = 'failed'), 0) AS failed,
             coalesce(sum(items) FILTER (WHERE state = 'skipped'), 0) AS skipped,
             (SELECT count(*) FROM run_items INDEXED BY run_items_leases
              WHERE lease IS NOT NULL AND run_id = ?1 AND state = 'waiting' AND worker IS NOT NULL) AS working,
             coalesce(sum(pixels) FILTER (WHERE NOT is_task), 0) AS pixels,
             coalesce(sum(pixels) FILTER (WHERE NOT is_task AND state <> 'waiting'), 0) AS ended_pixels
             FROM run_counts WHERE run_id = ?1",
        )
        .bind(run)
        .fetch_one(&self.pool)
        .await
        .map_err(failed)?;
        Ok(row.0)
    }

    async fn bytes(&self, run: i64) -> Result<(i64, i64)> {
        sqlx::query_as(
            "SELECT coalesce(sum(source_bytes), 0),
             coalesce(sum((SELECT sum(value ->> 'bytes') FROM json_each(outputs))), 0)
             FROM run_items WHERE run_id = ? AND state IN ('done', 'skipped')",
        )
        .bind(run)
        .fetch_one(&self.pool)
        .await
        .map_err(failed)
    }

    async fn first_target(&self, run: i64) -> Result<Option<String>> {
        sqlx::query_scalar("SELECT target FROM run_items WHERE run_id = ? ORDER BY position LIMIT 1")
            .bind(run)
            .fetch_optional(&self.pool)
            .await
            .map_err(failed)
    }

    async fn add_seconds(&self, run: i64, seconds: f64) -> Result<()> {
        sqlx::query("UPDATE runs SET seconds = seconds + ? WHERE id = ?")
            .bind(seconds)
            .bind(run)
            .execute(&self.pool)
            .await
            .map_err(failed)?;
        Ok(())
    }

    async fn call_run(&self, run: i64) -> Result<bool> {
        let query = format!(
            "UPDATE runs SET called = 1 WHERE id = ? AND called = 0 AND state IN {}",
            among(RunState::OVER)
        );
        let done = sqlx::query(AssertSqlSafe(query)).bind(run).execute(&self.pool).await.map_err(failed)?;
        Ok(done.rows_affected() > 0)
    }

    async fn uncalled(&self, all: bool) -> Result<Vec<i64>> {
        let query = format!(
            "SELECT id FROM runs WHERE called = 0 AND state IN {} AND (? OR hook IS NOT NULL) ORDER BY id",
            among(RunState::OVER)
        );
        sqlx::query_scalar(AssertSqlSafe(query)).bind(all).fetch_all(&self.pool).await.map_err(failed)
    }

    async fn brought_before(&self, time: &str) -> Result<Vec<(i64, String)>> {
        let query = format!(
            "SELECT id, brought FROM runs WHERE brought IS NOT NULL AND state IN {} AND finished < ?",
            among(RunState::OVER)
        );
        sqlx::query_as(AssertSqlSafe(query)).bind(time).fetch_all(&self.pool).await.map_err(failed)
    }

    async fn is_brought(&self, folder: &str) -> Result<bool> {
        sqlx::query_scalar("SELECT EXISTS (SELECT 1 FROM runs WHERE brought = ?)")
            .bind(folder)
            .fetch_one(&self.pool)
            .await
            .map_err(failed)
    }

    async fn result(&self, path: &str) -> Result<Option<KnownResult>> {
        let row: Option<Row<KnownResult>> =
            sqlx::query_as("SELECT hash, bytes, mark FROM results WHERE path = ?")
                .bind(path)
                .fetch_optional(&self.pool)
                .await
                .map_err(failed)?;
        Ok(row.map(|row| row.0))
    }

    async fn keep_result(&self, file: &WrittenFile, run: i64) -> Result<()> {
        sqlx::query(
            "INSERT INTO results (path, hash, bytes, run_id, mark) VALUES (?1, ?2, ?3, ?4, ?5)
             ON CONFLICT (path) DO UPDATE SET hash = ?2, bytes = ?3, run_id = ?4, mark = ?5",
        )
        .bind(&file.path)
        .bind(&file.hash)
        .bind(file.bytes)
        .bind(run)
        .bind(&file.mark)
        .execute(&self.pool)
        .await
        .map_err(failed)?;
        Ok(())
    }

    async fn results_of(&self, run: i64) -> Result<Vec<(String, String)>> {
        sqlx::query_as("SELECT path, hash FROM results WHERE run_id = ? ORDER BY path")
            .bind(run)
            .fetch_all(&self.pool)
            .await
            .map_err(failed)
    }

    async fn forget_result(&self, path: &str) -> Result<()> {
        sqlx::query("DELETE FROM results WHERE path = ?")
            .bind(path)
            .execute(&self.pool)
            .await
            .map_err(failed)?;
        Ok(())
    }
}
