//! Runs and their pictures: who works on what, and how it ended.
//!
//! A picture in work is on loan: `worker` says to whom, `lease` until when (milliseconds of Unix time). A loan that was
//! not renewed is over, and the picture is given out again; work done twice does no harm.

use crate::{Result, Store};
use sqlx::{FromRow, Sqlite, SqliteConnection, Transaction};
use std::path::Path;

/// One execution of a recipe.
#[derive(Clone, Debug, Default, FromRow)]
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
    /// `waiting`, `running`, `paused`, `asking`, `done` or `cancelled`.
    pub state: String,
    /// When it was asked for.
    pub created: String,
    /// When it began.
    pub started: Option<String>,
    /// When it ended.
    pub finished: Option<String>,
    /// Seconds worked on it.
    pub seconds: f64,
    /// Where it stands in the queue, the least first.
    pub place: f64,
    /// Not to begin before this time.
    pub not_before: Option<String>,
    /// Checkpoints passed.
    pub stage: i64,
    /// Failures after which it pauses.
    pub most_failures: Option<i64>,
    /// Why it pauses or what it asks.
    pub reason: Option<String>,
    /// What it pauses for by itself (`no room`, `no permission`), to go on when that is over.
    pub held: Option<String>,
    /// Where it came from: `page`, `command line`, `folder NAME` …
    pub origin: String,
    /// What is called or run when it has ended.
    pub hook: Option<String>,
    /// The watched folder it comes from.
    pub watch_id: Option<i64>,
    /// Folder of pictures that were brought for it alone.
    pub brought: Option<String>,
    /// What was said before it began, a JSON list of texts.
    pub warnings: String,
}

/// One picture of a run.
#[derive(Clone, Debug, Default, FromRow)]
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
    /// What kind of failure it was.
    pub kind: Option<String>,
    /// Why it failed or was skipped.
    pub reason: Option<String>,
    /// What was written, JSON.
    pub outputs: Option<String>,
    /// Bytes of the original.
    pub source_bytes: i64,
    /// Pixels of the original, 0 where unknown.
    pub pixels: i64,
    /// Seconds it took.
    pub seconds: Option<f64>,
    /// What people decided about the frame, JSON.
    pub decided: String,
    /// Values changed for this picture at a checkpoint, JSON.
    pub answers: String,
    /// Who works on it.
    pub worker: Option<String>,
    /// Until when.
    pub lease: Option<i64>,
    /// How often it was given out.
    pub tries: i64,
    /// When it ended, in milliseconds of Unix time; 0 where it has not.
    pub ended: i64,
    /// Where further results go, a JSON list of paths.
    pub more: String,
    /// Which of the recipe's tasks for all pictures together it is; a picture has none.
    pub task: Option<i64>,
}

impl Item {
    /// Where its results go.
    pub fn targets(&self) -> Vec<String> {
        let more: Vec<String> = serde_json::from_str(&self.more).unwrap_or_default();
        std::iter::once(self.target.clone()).chain(more).collect()
    }
}

/// One picture to be added to a run.
#[derive(Clone, Debug, Default)]
pub struct NewItem {
    /// The original.
    pub source: String,
    /// Where the first result goes.
    pub target: String,
    /// Where further ones go.
    pub more: Vec<String>,
    /// Bytes of the original.
    pub bytes: i64,
    /// Its pixels, 0 where unknown.
    pub pixels: i64,
    /// What people decided about the frame, JSON.
    pub decided: String,
    /// Which of the recipe's tasks for all pictures together it is.
    pub task: Option<i64>,
}

/// A run's items by state, with how much of the work that is.
#[derive(Clone, Debug, Default, FromRow)]
pub struct Counts {
    /// All.
    pub total: i64,
    /// Those that are no pictures, but files and checks of all of them.
    pub tasks: i64,
    /// Done.
    pub done: i64,
    /// Failed.
    pub failed: i64,
    /// Skipped.
    pub skipped: i64,
    /// On loan.
    pub working: i64,
    /// Pixels of all pictures; each unknown one counts as one.
    pub pixels: i64,
    /// Pixels of those that have ended.
    pub ended_pixels: i64,
}

/// A file that a run wrote.
#[derive(Clone, Debug, FromRow)]
pub struct Kept {
    /// Hash of its bytes.
    pub hash: String,
    /// Their number.
    pub bytes: i64,
    /// What it was made by and of, where the file itself does not say.
    pub mark: Option<String>,
}

/// States in which a run is not over.
const OPEN: &str = "('running', 'waiting', 'paused', 'asking')";

/// A task for all pictures together has its turn when everything before it is over.
const TURN: &str = "(i.task IS NULL OR NOT EXISTS (SELECT 1 FROM run_items b
    WHERE b.run_id = i.run_id AND b.position < i.position AND b.state = 'waiting'))";

pub(crate) async fn insert_run(tx: &mut Transaction<'_, Sqlite>, run: &Run) -> Result<i64> {
    sqlx::query_scalar(
        "INSERT INTO runs (recipe_id, recipe_version, document, shoot_id, shoot_name, base, state, created, not_before,
         most_failures, reason, origin, hook, watch_id, brought, warnings, place)
         VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, (SELECT coalesce(max(place), 0) + 1 FROM runs)) RETURNING id",
    )
    .bind(run.recipe_id)
    .bind(run.recipe_version)
    .bind(&run.document)
    .bind(run.shoot_id)
    .bind(&run.shoot_name)
    .bind(&run.base)
    .bind(if run.state == "asking" { "asking" } else { "waiting" })
    .bind(&run.created)
    .bind(&run.not_before)
    .bind(run.most_failures)
    .bind(&run.reason)
    .bind(if run.origin.is_empty() { "page" } else { &run.origin })
    .bind(&run.hook)
    .bind(run.watch_id)
    .bind(&run.brought)
    .bind(if run.warnings.is_empty() { "[]" } else { &run.warnings })
    .fetch_one(&mut **tx)
    .await
}

/// Items with positions from `first` on.
pub(crate) async fn insert_items(
    tx: &mut Transaction<'_, Sqlite>,
    run: i64,
    first: i64,
    items: &[NewItem],
) -> Result<()> {
    for (position, item) in (first..).zip(items) {
        sqlx::query(
            "INSERT INTO run_items (run_id, position, source, target, source_bytes, pixels, decided, more, task)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
        )
        .bind(run)
        .bind(position)
        .bind(&item.source)
        .bind(&item.target)
        .bind(item.bytes)
        .bind(item.pixels)
        .bind(&item.decided)
        .bind(serde_json::to_string(&item.more).unwrap_or_else(|_| "[]".into()))
        .bind(item.task)
        .execute(&mut **tx)
        .await?;
    }
    Ok(())
}

/// A file that was written.
#[derive(Clone, Debug, Default)]
pub struct Written {
    /// Where.
    pub path: String,
    /// Hash of its bytes.
    pub hash: String,
    /// Its length.
    pub bytes: i64,
    /// By what and of what it was made, where the file itself does not say so.
    pub mark: Option<String>,
}

/// Keeps what was written at a path.
async fn keep(on: &mut SqliteConnection, one: &Written, run: i64) -> Result<()> {
    sqlx::query(
        "INSERT INTO results (path, hash, bytes, run_id, mark) VALUES (?1, ?2, ?3, ?4, ?5)
         ON CONFLICT (path) DO UPDATE SET hash = ?2, bytes = ?3, run_id = ?4, mark = ?5",
    )
    .bind(&one.path)
    .bind(&one.hash)
    .bind(one.bytes)
    .bind(run)
    .bind(&one.mark)
    .execute(on)
    .await?;
    Ok(())
}

impl Store {
    /// Writes down a run with its items at the end of the queue, all at once or not at all. Its state is taken over where
    /// it is `asking`, else it waits.
    ///
    /// # Errors
    /// The database's.
    pub async fn add_run(&self, run: &Run, items: &[NewItem]) -> Result<i64> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await?;
        let id = insert_run(&mut tx, run).await?;
        insert_items(&mut tx, id, 0, items).await?;
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

    /// Runs that are not over, in the queue's order.
    ///
    /// # Errors
    /// The database's.
    pub async fn open_runs(&self) -> Result<Vec<Run>> {
        let query = format!("SELECT * FROM runs WHERE state IN {OPEN} ORDER BY place, id");
        sqlx::query_as(sqlx::AssertSqlSafe(query)).fetch_all(&self.pool).await
    }

    /// Gives out the next picture: of the first run in the queue that has one and may begin. `now` is Unix time in
    /// milliseconds, `clock` the same as text; with `only` pictures of that run alone.
    ///
    /// # Errors
    /// The database's.
    pub async fn take(
        &self,
        worker: &str,
        now: i64,
        lease: i64,
        clock: &str,
        only: Option<i64>,
    ) -> Result<Option<Item>> {
        let query = format!(
            "UPDATE run_items SET worker = ?1, lease = ?2 + ?3, tries = tries + 1
             WHERE (run_id, position) = (
                 SELECT i.run_id, i.position FROM runs r JOIN run_items i ON i.run_id = r.id
                 WHERE r.state IN ('running', 'waiting') AND (r.not_before IS NULL OR r.not_before <= ?4)
                 AND i.state = 'waiting' AND (i.lease IS NULL OR i.lease < ?2) AND (?5 IS NULL OR r.id = ?5)
                 AND {TURN}
                 ORDER BY r.place, r.id, i.position LIMIT 1)
             RETURNING *"
        );
        let item: Option<Item> = sqlx::query_as(sqlx::AssertSqlSafe(query))
            .bind(worker)
            .bind(now)
            .bind(lease)
            .bind(clock)
            .bind(only)
            .fetch_optional(&self.pool)
            .await?;
        if let Some(item) = &item {
            sqlx::query("UPDATE runs SET state = 'running', started = coalesce(started, ?) WHERE id = ? AND state = 'waiting'")
                .bind(clock)
                .bind(item.run_id)
                .execute(&self.pool)
                .await?;
        }
        Ok(item)
    }

    /// How many pictures could be given out now, counted up to `most`.
    ///
    /// # Errors
    /// The database's.
    pub async fn ready(&self, now: i64, clock: &str, most: i64) -> Result<i64> {
        let query = format!(
            "SELECT count(*) FROM (SELECT 1 FROM runs r JOIN run_items i ON i.run_id = r.id
             WHERE r.state IN ('running', 'waiting') AND (r.not_before IS NULL OR r.not_before <= ?2)
             AND i.state = 'waiting' AND (i.lease IS NULL OR i.lease < ?1) AND {TURN} LIMIT ?3)"
        );
        sqlx::query_scalar(sqlx::AssertSqlSafe(query))
            .bind(now)
            .bind(clock)
            .bind(most)
            .fetch_one(&self.pool)
            .await
    }

    /// Renews a worker's loans.
    ///
    /// # Errors
    /// The database's.
    pub async fn beat(&self, worker: &str, until: i64) -> Result<()> {
        sqlx::query("UPDATE run_items SET lease = ? WHERE worker = ? AND state = 'waiting'")
            .bind(until)
            .bind(worker)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Who has something on loan.
    ///
    /// # Errors
    /// The database's.
    pub async fn workers(&self) -> Result<Vec<String>> {
        sqlx::query_scalar(
            "SELECT DISTINCT worker FROM run_items WHERE worker IS NOT NULL AND state = 'waiting'",
        )
        .fetch_all(&self.pool)
        .await
    }

    /// Folders of the results a worker may be writing.
    ///
    /// # Errors
    /// The database's.
    pub async fn folders_of(&self, worker: &str) -> Result<Vec<String>> {
        // What is made of all pictures is written while they are made.
        let all: Vec<String> = sqlx::query_scalar(
            "SELECT target FROM run_items WHERE worker = ?1 OR (task IS NOT NULL AND run_id IN
             (SELECT run_id FROM run_items WHERE worker = ?1))",
        )
        .bind(worker)
        .fetch_all(&self.pool)
        .await?;
        let folder = |t: &String| Some(Path::new(t).parent()?.to_string_lossy().into_owned());
        let mut folders: Vec<String> = all.iter().filter_map(folder).collect();
        folders.sort();
        folders.dedup();
        Ok(folders)
    }

    /// Takes back everything a worker has on loan.
    ///
    /// # Errors
    /// The database's.
    pub async fn release(&self, worker: &str) -> Result<()> {
        sqlx::query("UPDATE run_items SET worker = NULL, lease = NULL WHERE worker = ?")
            .bind(worker)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Puts one picture back, for another time.
    ///
    /// # Errors
    /// The database's.
    pub async fn give_back(&self, item: &Item) -> Result<()> {
        sqlx::query("UPDATE run_items SET worker = NULL, lease = NULL WHERE run_id = ? AND position = ? AND worker IS ?")
            .bind(item.run_id)
            .bind(item.position)
            .bind(&item.worker)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Writes down how an item ended, if it is still on loan to the one that says so, and what it wrote (path, hash, bytes);
    /// returns whether it was.
    ///
    /// # Errors
    /// The database's.
    pub async fn finish_item(&self, item: &Item, written: &[Written]) -> Result<bool> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await?;
        for one in written {
            keep(&mut tx, one, item.run_id).await?;
        }
        let done = sqlx::query(
            "UPDATE run_items SET state = ?, kind = ?, reason = ?, outputs = ?, seconds = ?, ended = ?, worker = NULL, lease = NULL
             WHERE run_id = ? AND position = ? AND worker IS ?",
        )
        .bind(&item.state)
        .bind(&item.kind)
        .bind(&item.reason)
        .bind(&item.outputs)
        .bind(item.seconds)
        .bind(item.ended)
        .bind(item.run_id)
        .bind(item.position)
        .bind(&item.worker)
        .execute(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(done.rows_affected() > 0)
    }

    /// Whether pictures of a run wait or are in work.
    ///
    /// # Errors
    /// The database's.
    pub async fn has_waiting(&self, run: i64) -> Result<bool> {
        sqlx::query_scalar("SELECT EXISTS (SELECT 1 FROM run_items WHERE run_id = ? AND state = 'waiting')")
            .bind(run)
            .fetch_one(&self.pool)
            .await
    }

    /// Ends a run none of whose pictures is left; returns whether it did.
    ///
    /// # Errors
    /// The database's.
    pub async fn end_run(&self, id: i64, when: &str) -> Result<bool> {
        let done = sqlx::query(
            "UPDATE runs SET state = 'done', finished = ?1, started = coalesce(started, ?1), reason = NULL, held = NULL
             WHERE id = ?2 AND state IN ('running', 'waiting')
             AND NOT EXISTS (SELECT 1 FROM run_items WHERE run_id = ?2 AND state = 'waiting')",
        )
        .bind(when)
        .bind(id)
        .execute(&self.pool)
        .await?;
        Ok(done.rows_affected() > 0)
    }

    /// Cancels a run that is not over; returns whether it was open.
    ///
    /// # Errors
    /// The database's.
    pub async fn cancel_run(&self, id: i64, when: &str) -> Result<bool> {
        let query = format!(
            "UPDATE runs SET state = 'cancelled', finished = ?, reason = NULL, held = NULL WHERE id = ? AND state IN {OPEN}"
        );
        let done = sqlx::query(sqlx::AssertSqlSafe(query)).bind(when).bind(id).execute(&self.pool).await?;
        Ok(done.rows_affected() > 0)
    }

    /// Lets a run pause, with a reason where it does so by itself; returns whether it was at work or waiting.
    ///
    /// # Errors
    /// The database's.
    pub async fn pause_run(&self, id: i64, reason: Option<&str>, held: Option<&str>) -> Result<bool> {
        let done = sqlx::query(
            "UPDATE runs SET state = 'paused', reason = ?, held = ? WHERE id = ? AND state IN ('running', 'waiting')",
        )
        .bind(reason)
        .bind(held)
        .bind(id)
        .execute(&self.pool)
        .await?;
        Ok(done.rows_affected() > 0)
    }

    /// Lets a paused run go on; returns whether it was paused.
    ///
    /// # Errors
    /// The database's.
    pub async fn resume_run(&self, id: i64) -> Result<bool> {
        let done = sqlx::query(
            "UPDATE runs SET state = 'waiting', reason = NULL, held = NULL, not_before = NULL
             WHERE id = ? AND (state = 'paused' OR state = 'waiting' AND not_before IS NOT NULL)",
        )
        .bind(id)
        .execute(&self.pool)
        .await?;
        Ok(done.rows_affected() > 0)
    }

    /// Passes a checkpoint: the run has another document now, and asks the next thing or waits for its turn.
    ///
    /// # Errors
    /// The database's.
    pub async fn pass_run(&self, id: i64, stage: i64, document: &str, asks: Option<&str>) -> Result<bool> {
        let done = sqlx::query(
            "UPDATE runs SET stage = ?1 + 1, document = ?2, reason = ?3,
             state = CASE WHEN ?3 IS NULL THEN 'waiting' ELSE 'asking' END
             WHERE id = ?4 AND state = 'asking' AND stage = ?1",
        )
        .bind(stage)
        .bind(document)
        .bind(asks)
        .bind(id)
        .execute(&self.pool)
        .await?;
        Ok(done.rows_affected() > 0)
    }

    /// Keeps values that were changed for one picture.
    ///
    /// # Errors
    /// The database's.
    pub async fn set_answers(&self, run: i64, position: i64, answers: &str) -> Result<()> {
        sqlx::query(
            "UPDATE run_items SET answers = ? WHERE run_id = ? AND position = ? AND state = 'waiting'",
        )
        .bind(answers)
        .bind(run)
        .bind(position)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Moves a run one place up (−1) or down (1) among those that are not over, or to the front (−2).
    ///
    /// # Errors
    /// The database's.
    pub async fn move_run(&self, id: i64, by: i64) -> Result<()> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await?;
        let query = format!("SELECT id, place FROM runs WHERE state IN {OPEN} ORDER BY place, id");
        let all: Vec<(i64, f64)> = sqlx::query_as(sqlx::AssertSqlSafe(query)).fetch_all(&mut *tx).await?;
        let mut order: Vec<i64> = all.iter().map(|r| r.0).collect();
        if let Some(at) = order.iter().position(|r| *r == id) {
            let to = if by < -1 { 0 } else { (at as i64 + by).clamp(0, order.len() as i64 - 1) as usize };
            order.remove(at);
            order.insert(to, id);
            let mut places: Vec<f64> = all.iter().map(|r| r.1).collect();
            places.sort_by(f64::total_cmp);
            for (n, run) in order.iter().enumerate() {
                // Equal places of old are told apart.
                let place = places[n] + n as f64 * 1e-6;
                sqlx::query("UPDATE runs SET place = ? WHERE id = ?")
                    .bind(place)
                    .bind(run)
                    .execute(&mut *tx)
                    .await?;
            }
        }
        tx.commit().await
    }

    /// Takes a run up again for its failed items, or one of them; a cancelled one stays as it is.
    ///
    /// # Errors
    /// The database's.
    pub async fn retry_failed(&self, id: i64, position: Option<i64>) -> Result<()> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await?;
        let done = sqlx::query(
            "UPDATE run_items SET state = 'waiting', kind = NULL, reason = NULL
             WHERE run_id = ?1 AND state = 'failed' AND (?2 IS NULL OR position = ?2)
             AND EXISTS (SELECT 1 FROM runs WHERE id = ?1 AND state <> 'cancelled')",
        )
        .bind(id)
        .bind(position)
        .execute(&mut *tx)
        .await?;
        if done.rows_affected() > 0 {
            // What is made of all pictures together, and of what was made before it, is made once more.
            sqlx::query(
                "UPDATE run_items SET state = 'waiting', kind = NULL, reason = NULL WHERE run_id = ?1 AND task IS NOT NULL
                 AND position > (SELECT min(position) FROM run_items WHERE run_id = ?1 AND state = 'waiting')",
            )
            .bind(id)
            .execute(&mut *tx)
            .await?;
            sqlx::query("UPDATE runs SET state = 'waiting', finished = NULL, reason = NULL, called = 0 WHERE id = ? AND state IN ('done', 'paused')")
                .bind(id)
                .execute(&mut *tx)
                .await?;
        }
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

    /// Items that ended after a time, in that order, at most so many.
    ///
    /// # Errors
    /// The database's.
    pub async fn ended_since(&self, run: i64, since: i64, most: i64) -> Result<Vec<Item>> {
        sqlx::query_as(
            "SELECT * FROM run_items WHERE run_id = ? AND ended > ? ORDER BY ended, position LIMIT ?",
        )
        .bind(run)
        .bind(since)
        .bind(most)
        .fetch_all(&self.pool)
        .await
    }

    /// Originals in work now.
    ///
    /// # Errors
    /// The database's.
    pub async fn working(&self, run: i64) -> Result<Vec<String>> {
        sqlx::query_scalar("SELECT source FROM run_items WHERE run_id = ? AND state = 'waiting' AND worker IS NOT NULL ORDER BY position")
            .bind(run)
            .fetch_all(&self.pool)
            .await
    }

    /// Bytes of the originals whose results are there, and of those results.
    ///
    /// # Errors
    /// The database's.
    pub async fn bytes(&self, run: i64) -> Result<(i64, i64)> {
        sqlx::query_as(
            "SELECT coalesce(sum(source_bytes), 0),
             coalesce(sum((SELECT sum(value ->> 'bytes') FROM json_each(outputs))), 0)
             FROM run_items WHERE run_id = ? AND state IN ('done', 'skipped')",
        )
        .bind(run)
        .fetch_one(&self.pool)
        .await
    }

    /// Items that failed, at most so many.
    ///
    /// # Errors
    /// The database's.
    pub async fn failed(&self, run: i64, most: i64) -> Result<Vec<Item>> {
        sqlx::query_as(
            "SELECT * FROM run_items WHERE run_id = ? AND state = 'failed' ORDER BY position LIMIT ?",
        )
        .bind(run)
        .bind(most)
        .fetch_all(&self.pool)
        .await
    }

    /// The first items of a run that wait.
    ///
    /// # Errors
    /// The database's.
    pub async fn waiting(&self, run: i64, most: i64) -> Result<Vec<Item>> {
        sqlx::query_as(
            "SELECT * FROM run_items WHERE run_id = ? AND state = 'waiting' ORDER BY position LIMIT ?",
        )
        .bind(run)
        .bind(most)
        .fetch_all(&self.pool)
        .await
    }

    /// Where a run's first result goes.
    ///
    /// # Errors
    /// The database's.
    pub async fn first_target(&self, run: i64) -> Result<Option<String>> {
        sqlx::query_scalar("SELECT target FROM run_items WHERE run_id = ? ORDER BY position LIMIT 1")
            .bind(run)
            .fetch_optional(&self.pool)
            .await
    }

    /// A run that is not over, of that origin, document and folder, whose pictures and results are `items`.
    ///
    /// # Errors
    /// The database's.
    pub async fn open_like(&self, like: &Run, items: &[NewItem]) -> Result<Option<i64>> {
        for run in self.open_runs().await? {
            if (&run.origin, &run.document, &run.base) == (&like.origin, &like.document, &like.base) {
                let own = self.items(run.id).await?;
                let same = |(a, b): (&Item, &NewItem)| (&a.source, &a.target) == (&b.source, &b.target);
                if own.len() == items.len() && own.iter().zip(items).all(same) {
                    return Ok(Some(run.id));
                }
            }
        }
        Ok(None)
    }

    /// Says that what follows a run's end is begun; returns whether nobody had done so.
    ///
    /// # Errors
    /// The database's.
    pub async fn call_run(&self, id: i64) -> Result<bool> {
        let done = sqlx::query(
            "UPDATE runs SET called = 1 WHERE id = ? AND called = 0 AND state IN ('done', 'cancelled')",
        )
        .bind(id)
        .execute(&self.pool)
        .await?;
        Ok(done.rows_affected() > 0)
    }

    /// Runs that have ended without what follows having begun: those with a hook of their own, or `all`.
    ///
    /// # Errors
    /// The database's.
    pub async fn uncalled(&self, all: bool) -> Result<Vec<i64>> {
        sqlx::query_scalar(
            "SELECT id FROM runs WHERE called = 0 AND state IN ('done', 'cancelled')
             AND (? OR hook IS NOT NULL) ORDER BY id",
        )
        .bind(all)
        .fetch_all(&self.pool)
        .await
    }

    /// Folders of pictures that were brought for runs that ended before a time, with the run.
    ///
    /// # Errors
    /// The database's.
    pub async fn brought_before(&self, time: &str) -> Result<Vec<(i64, String)>> {
        sqlx::query_as(
            "SELECT id, brought FROM runs WHERE brought IS NOT NULL AND state IN ('done', 'cancelled') AND finished < ?",
        )
        .bind(time)
        .fetch_all(&self.pool)
        .await
    }

    /// Whether a run has this folder of brought pictures.
    ///
    /// # Errors
    /// The database's.
    pub async fn is_brought(&self, folder: &str) -> Result<bool> {
        sqlx::query_scalar("SELECT EXISTS (SELECT 1 FROM runs WHERE brought = ?)")
            .bind(folder)
            .fetch_one(&self.pool)
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

    /// Originals that wait or are in work in any run that is not over.
    ///
    /// # Errors
    /// The database's.
    pub async fn in_work(&self) -> Result<Vec<String>> {
        let query = format!(
            "SELECT DISTINCT i.source FROM runs r JOIN run_items i ON i.run_id = r.id WHERE r.state IN {OPEN} AND i.state = 'waiting'"
        );
        sqlx::query_scalar(sqlx::AssertSqlSafe(query)).fetch_all(&self.pool).await
    }

    /// Counts a run's items.
    ///
    /// # Errors
    /// The database's.
    pub async fn counts(&self, run: i64) -> Result<Counts> {
        sqlx::query_as(
            "SELECT count(*) AS total, count(task) AS tasks, coalesce(sum(state = 'done'), 0) AS done,
             coalesce(sum(state = 'failed'), 0) AS failed, coalesce(sum(state = 'skipped'), 0) AS skipped,
             coalesce(sum(state = 'waiting' AND worker IS NOT NULL), 0) AS working,
             coalesce(sum(max(pixels, 1)) FILTER (WHERE task IS NULL), 0) AS pixels,
             coalesce(sum(max(pixels, 1)) FILTER (WHERE task IS NULL AND state <> 'waiting'), 0) AS ended_pixels
             FROM run_items WHERE run_id = ?",
        )
        .bind(run)
        .fetch_one(&self.pool)
        .await
    }

    /// What was written at a path, as far as that is known.
    ///
    /// # Errors
    /// The database's.
    pub async fn result(&self, path: &str) -> Result<Option<Kept>> {
        sqlx::query_as("SELECT hash, bytes, mark FROM results WHERE path = ?")
            .bind(path)
            .fetch_optional(&self.pool)
            .await
    }

    /// Keeps what was written at a path beside a run's pictures.
    ///
    /// # Errors
    /// The database's.
    pub async fn keep_result(&self, one: &Written, run: i64) -> Result<()> {
        keep(&mut *self.pool.acquire().await?, one, run).await
    }

    /// Everything a run wrote and nobody wrote over since: path and hash.
    ///
    /// # Errors
    /// The database's.
    pub async fn results_of(&self, run: i64) -> Result<Vec<(String, String)>> {
        sqlx::query_as("SELECT path, hash FROM results WHERE run_id = ? ORDER BY path")
            .bind(run)
            .fetch_all(&self.pool)
            .await
    }

    /// Forgets what was written at a path.
    ///
    /// # Errors
    /// The database's.
    pub async fn forget_result(&self, path: &str) -> Result<()> {
        sqlx::query("DELETE FROM results WHERE path = ?").bind(path).execute(&self.pool).await?;
        Ok(())
    }
}
