//! Watched folders: a recipe, where pictures arrive, and what was taken into runs already.

use crate::runs::insert_items;
use crate::{NewItem, Result, Run, Store};
use sqlx::FromRow;

/// A recipe that runs on whatever arrives in a folder.
#[derive(Clone, Debug, Default, FromRow)]
pub struct Watch {
    /// Identity.
    pub id: i64,
    /// Name for people.
    pub name: String,
    /// The recipe it was set up with.
    pub recipe_id: Option<i64>,
    /// Its version.
    pub recipe_version: i64,
    /// The document as it was, with what it asks answered.
    pub document: String,
    /// Where pictures arrive.
    pub folder: String,
    /// With sub-folders.
    pub deep: bool,
    /// Folder for the results, instead of the recipe's.
    pub target: Option<String>,
    /// Once a day at this time of this machine's clock, `HH:MM`; without one at once.
    pub daily: Option<String>,
    /// What is called or run after each of its runs.
    pub hook: Option<String>,
    /// `on` or `paused`.
    pub state: String,
    /// When it was set up.
    pub made: String,
    /// When a daily one last had its turn.
    pub turn: Option<String>,
    /// What keeps it from working, for people.
    pub problem: Option<String>,
}

/// A file that was taken into a run.
#[derive(Clone, Debug, Default, PartialEq, FromRow)]
pub struct Arrival {
    /// Where it lay.
    pub path: String,
    /// Its length.
    pub bytes: i64,
    /// Its time, nanoseconds since 1970.
    pub modified: i64,
    /// The device it lies on.
    pub device: i64,
    /// Its number there, which stays when it is renamed.
    pub inode: i64,
    /// The run.
    pub run_id: i64,
    /// Its place in that run, counted over all runs of the watch.
    pub position: i64,
}

impl Store {
    /// Every watched folder, in the order they were set up.
    ///
    /// # Errors
    /// The database's.
    pub async fn watches(&self) -> Result<Vec<Watch>> {
        sqlx::query_as("SELECT * FROM watches ORDER BY id").fetch_all(&self.pool).await
    }

    /// One of them.
    ///
    /// # Errors
    /// The database's; `RowNotFound` when there is none.
    pub async fn watch(&self, id: i64) -> Result<Watch> {
        sqlx::query_as("SELECT * FROM watches WHERE id = ?").bind(id).fetch_one(&self.pool).await
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
    }

    /// Lets one pause (`paused`) or go on (`on`); returns whether there is one.
    ///
    /// # Errors
    /// The database's.
    pub async fn set_watch_state(&self, id: i64, state: &str) -> Result<bool> {
        let done = sqlx::query("UPDATE watches SET state = ? WHERE id = ?")
            .bind(state)
            .bind(id)
            .execute(&self.pool)
            .await?;
        Ok(done.rows_affected() > 0)
    }

    /// Says what keeps one from working, or that nothing does; when a daily one has had its turn, that too.
    ///
    /// # Errors
    /// The database's.
    pub async fn tell_watch(&self, id: i64, problem: Option<&str>, turn: Option<&str>) -> Result<()> {
        sqlx::query("UPDATE watches SET problem = ?, turn = coalesce(?, turn) WHERE id = ?")
            .bind(problem)
            .bind(turn)
            .bind(id)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Takes one away; runs and results stay. Returns whether there was one.
    ///
    /// # Errors
    /// The database's.
    pub async fn remove_watch(&self, id: i64) -> Result<bool> {
        let done = sqlx::query("DELETE FROM watches WHERE id = ?").bind(id).execute(&self.pool).await?;
        Ok(done.rows_affected() > 0)
    }

    /// What one has taken into runs.
    ///
    /// # Errors
    /// The database's.
    pub async fn arrivals(&self, watch: i64) -> Result<Vec<Arrival>> {
        sqlx::query_as(
            "SELECT path, bytes, modified, device, inode, run_id, position FROM arrivals WHERE watch_id = ?",
        )
        .bind(watch)
        .fetch_all(&self.pool)
        .await
    }

    /// Takes files that arrived into the watch's run: the open one where there is one, else `fresh` is written down. All
    /// at once or not at all; nothing happens where another program has taken the first of them meanwhile. `positions`
    /// of `arrivals` are those of `items`. The run, and whether it is a new one.
    ///
    /// # Errors
    /// The database's.
    pub async fn take_in(
        &self,
        watch: i64,
        fresh: &Run,
        items: &[NewItem],
        arrivals: &[Arrival],
    ) -> Result<Option<(i64, bool)>> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await?;
        let Some(first) = arrivals.first() else { return Ok(None) };
        let next: i64 =
            sqlx::query_scalar("SELECT coalesce(max(position) + 1, 0) FROM arrivals WHERE watch_id = ?")
                .bind(watch)
                .fetch_one(&mut *tx)
                .await?;
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
        .await?;
        let run = match open {
            Some(run) => run,
            None => crate::runs::insert_run(&mut tx, fresh).await?,
        };
        insert_items(&mut tx, run, first.position, items).await?;
        for one in arrivals {
            sqlx::query(
                "INSERT INTO arrivals (watch_id, path, bytes, modified, device, inode, run_id, position)
                 VALUES (?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (watch_id, path, bytes, modified)
                 DO UPDATE SET run_id = excluded.run_id, position = excluded.position",
            )
            .bind(watch)
            .bind(&one.path)
            .bind(one.bytes)
            .bind(one.modified)
            .bind(one.device)
            .bind(one.inode)
            .bind(run)
            .bind(one.position)
            .execute(&mut *tx)
            .await?;
        }
        tx.commit().await?;
        Ok(Some((run, open.is_none())))
    }

    /// A file that was taken in has another name now: it is known by that. Where its picture still waits, or failed
    /// because the old name was gone, it is worked on under the new one; returns whether that is so.
    ///
    /// # Errors
    /// The database's.
    pub async fn rename_arrival(
        &self,
        watch: i64,
        was: &Arrival,
        path: &str,
        target: &str,
        more: &[String],
    ) -> Result<bool> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await?;
        sqlx::query(
            "UPDATE OR REPLACE arrivals SET path = ?1 WHERE watch_id = ?2 AND path = ?3 AND bytes = ?4 AND modified = ?5",
        )
        .bind(path)
        .bind(watch)
        .bind(&was.path)
        .bind(was.bytes)
        .bind(was.modified)
        .execute(&mut *tx)
        .await?;
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
        .bind(serde_json::to_string(more).unwrap_or_else(|_| "[]".into()))
        .execute(&mut *tx)
        .await?;
        let again = moved.rows_affected() > 0;
        if again {
            sqlx::query("UPDATE runs SET state = 'waiting', finished = NULL, called = 0 WHERE id = ? AND state = 'done'")
                .bind(was.run_id)
                .execute(&mut *tx)
                .await?;
        }
        tx.commit().await?;
        Ok(again)
    }
}
