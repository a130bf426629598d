//! Watched folders: a recipe, where pictures arrive, and what was taken into runs already.

use crate::queue::{insert_items, insert_run, list, update};
use crate::rows::{Row, records};
use crate::{Store, failed};
use async_trait::async_trait;
use rallo_job::{Arrival, Error, NewRunItem, Result, Run, RunMove, Watch, WatchRecords, WatchState};

#[async_trait]
impl WatchRecords for Store {
    async fn watches(&self) -> Result<Vec<Watch>> {
        sqlx::query_as("SELECT * FROM watches ORDER BY id")
            .fetch_all(&self.pool)
            .await
            .map(records)
            .map_err(failed)
    }

    async fn arrivals(&self, watch: i64) -> Result<Vec<Arrival>> {
        sqlx::query_as(
            "SELECT path, bytes, modified, device, inode, run_id, position FROM arrivals WHERE watch_id = ?",
        )
        .bind(watch)
        .fetch_all(&self.pool)
        .await
        .map(records)
        .map_err(failed)
    }

    async fn tell_watch(&self, id: i64, problem: Option<&str>, turn: Option<&str>) -> Result<()> {
        sqlx::query("UPDATE watches SET problem = ?, turn = coalesce(?, turn) WHERE id = ?")
            .bind(problem)
            .bind(turn)
            .bind(id)
            .execute(&self.pool)
            .await
            .map_err(failed)?;
        Ok(())
    }

    async fn take_in(
        &self,
        watch: i64,
        fresh: &Run,
        items: &[NewRunItem],
        arrivals: &[Arrival],
    ) -> Result<Option<(i64, bool)>> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await.map_err(failed)?;
        let Some(first) = arrivals.first() else { return Ok(None) };
        let next: i64 =
            sqlx::query_scalar("SELECT coalesce(max(position) + 1, 0) FROM arrivals WHERE watch_id = ?")
                .bind(watch)
                .fetch_one(&mut *tx)
                .await
                .map_err(failed)?;
        if next != first.position {
            return Ok(None);
        }
        let open: Option<i64> = sqlx::query_scalar(
            "SELECT id FROM runs WHERE watch_id = ? AND state IN ('running', 'waiting', 'paused') AND document = ?
             ORDER BY id DESC LIMIT 1",
        )
        .bind(watch)
        .bind(&fresh.document)
        .fetch_optional(&mut *tx)
        .await
        .map_err(failed)?;
        let run = match open {
            Some(run) => run,
            None => insert_run(&mut tx, fresh).await?,
        };
        insert_items(&mut tx, run, first.position, items).await?;
        for arrival in arrivals {
            sqlx::query(
                "INSERT INTO arrivals (watch_id, path, bytes, modified, device, inode, run_id, position)
                 VALUES (?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (watch_id, path, bytes, modified)
                 DO UPDATE SET run_id = excluded.run_id, position = excluded.position",
            )
            .bind(watch)
            .bind(&arrival.path)
            .bind(arrival.bytes)
            .bind(arrival.modified)
            .bind(arrival.device)
            .bind(arrival.inode)
            .bind(run)
            .bind(arrival.position)
            .execute(&mut *tx)
            .await
            .map_err(failed)?;
        }
        tx.commit().await.map_err(failed)?;
        Ok(Some((run, open.is_none())))
    }

    async fn rename_arrival(
        &self,
        watch: i64,
        was: &Arrival,
        path: &str,
        target: &str,
        more: &[String],
    ) -> Result<bool> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await.map_err(failed)?;
        sqlx::query(
            "UPDATE OR REPLACE arrivals SET path = ?1 WHERE watch_id = ?2 AND path = ?3 AND bytes = ?4 AND modified = ?5",
        )
        .bind(path)
        .bind(watch)
        .bind(&was.path)
        .bind(was.bytes)
        .bind(was.modified)
        .execute(&mut *tx)
        .await
        .map_err(failed)?;
        let moved = sqlx::query(
            "UPDATE run_items SET source = ?1, target = ?2, more = ?5, state = 'waiting', kind = NULL, reason = NULL
             WHERE run_id = ?3 AND position = ?4 AND worker IS NULL
             AND (state = 'waiting' OR state = 'failed' AND kind = 'gone')
             AND EXISTS (SELECT 1 FROM runs WHERE id = ?3 AND state <> 'cancelled')",
        )
        .bind(path)
        .bind(target)
        .bind(was.run_id)
        .bind(was.position)
        .bind(list(more))
        .execute(&mut *tx)
        .await
        .map_err(failed)?;
        let again = moved.rows_affected() > 0;
        if again {
            sqlx::query(update(RunMove::Reopen, "finished = NULL, called = 0", "id = ?"))
                .bind(was.run_id)
                .execute(&mut *tx)
                .await
                .map_err(failed)?;
        }
        tx.commit().await.map_err(failed)?;
        Ok(again)
    }
}

impl Store {
    /// One of them.
    ///
    /// # Errors
    /// The database's; `RowNotFound` when there is none.
    pub async fn watch(&self, id: i64) -> Result<Watch> {
        let row: Option<Row<Watch>> = sqlx::query_as("SELECT * FROM watches WHERE id = ?")
            .bind(id)
            .fetch_optional(&self.pool)
            .await
            .map_err(failed)?;
        row.map(|row| row.0).ok_or_else(|| Error::not_found("watched folder", id))
    }

    /// Sets one up, or changes the one of that identity where it is not 0.
    ///
    /// # Errors
    /// The database's.
    pub async fn save_watch(&self, w: &Watch) -> Result<i64> {
        sqlx::query_scalar(
            "INSERT INTO watches (id, name, recipe_id, recipe_version, document, folder, deep, target, daily, hook, made, turn)
             VALUES (nullif(?, 0), ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
             ON CONFLICT (id) DO UPDATE SET name = excluded.name, recipe_id = excluded.recipe_id,
             recipe_version = excluded.recipe_version, document = excluded.document, folder = excluded.folder,
             deep = excluded.deep, target = excluded.target, daily = excluded.daily, hook = excluded.hook,
             turn = excluded.turn, problem = NULL
             RETURNING id",
        )
        .bind(w.id)
        .bind(&w.name)
        .bind(w.recipe_id)
        .bind(w.recipe_version)
        .bind(&w.document)
        .bind(&w.folder)
        .bind(w.deep)
        .bind(&w.target)
        .bind(&w.daily)
        .bind(&w.hook)
        .bind(&w.made)
        .bind(&w.turn)
        .fetch_one(&self.pool)
        .await
        .map_err(failed)
    }

    /// Lets one pause or go on; returns whether there is one.
    ///
    /// # Errors
    /// The database's.
    pub async fn set_watch_state(&self, id: i64, state: WatchState) -> Result<bool> {
        let done = sqlx::query("UPDATE watches SET state = ? WHERE id = ?")
            .bind(state.as_str())
            .bind(id)
            .execute(&self.pool)
            .await
            .map_err(failed)?;
        Ok(done.rows_affected() > 0)
    }

    /// Takes one away; runs and results stay. Returns whether there was one.
    ///
    /// # Errors
    /// The database's.
    pub async fn remove_watch(&self, id: i64) -> Result<bool> {
        let done = sqlx::query("DELETE FROM watches WHERE id = ?")
            .bind(id)
            .execute(&self.pool)
            .await
            .map_err(failed)?;
        Ok(done.rows_affected() > 0)
    }
}
