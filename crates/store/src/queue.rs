//! The queue in SQLite: claims, leases, and the moves of runs.
//!
//! An item in work names its `worker` and the end of its `lease` (milliseconds of Unix time). A lease that was not
//! renewed is over, and [`release`](RunQueue::release) gives the item back; work done twice does no harm.
//! From which states a run may move stands in [`RunMove`]; the statements here only carry it out.

use crate::rows::Row;
use crate::{Store, failed};
use async_trait::async_trait;
use rallo_job::{
    Claim, EndedItem, Error, ExpiredLeases, FailureKind, Further, ItemKey, ItemState, NewRunItem, Phase,
    Result, Run, RunItem, RunMove, RunQueue, RunState,
};
use serde_json::{Value, json};
use sqlx::sqlite::SqliteRow;
use sqlx::{AssertSqlSafe, FromRow, Row as _, Sqlite, SqliteConnection, Transaction};
use std::path::Path;

/// A picture is made when all pictures of its run are measured; a file of all pictures, when everything before it is over.
///
/// The indices are named: without statistics others look as good, and are read from end to end for each item.
const TURN: &str =
    "(i.phase = 'measure' OR NOT EXISTS (SELECT 1 FROM run_items m INDEXED BY run_items_to_measure
    WHERE m.run_id = i.run_id AND m.phase = 'measure' AND m.state = 'waiting'))
    AND (i.task IS NULL OR NOT EXISTS (SELECT 1 FROM run_items b INDEXED BY run_items_waiting
    WHERE b.run_id = i.run_id AND b.position < i.position AND b.state = 'waiting'))";

/// So many pictures beside each other go to one worker as long as there are stretches that nobody is in: what joins pictures with
/// those around makes them once more where two workers meet, and nowhere else.
const STRETCH: i64 = 64;

/// States as a list for `IN`.
pub(crate) fn among(states: &[RunState]) -> String {
    let words: Vec<String> = states.iter().map(|s| format!("'{s}'")).collect();
    format!("({})", words.join(", "))
}

/// `UPDATE runs` into the state a move leads to, with more columns set, from the states it may be made from.
pub(crate) fn update(change: RunMove, more: &str, condition: &str) -> AssertSqlSafe<String> {
    let comma = if more.is_empty() { "" } else { ", " };
    AssertSqlSafe(format!(
        "UPDATE runs SET state = '{}'{comma}{more} WHERE state IN {} AND {condition}",
        change.to(),
        among(change.from())
    ))
}

pub(crate) async fn insert_run(tx: &mut Transaction<'_, Sqlite>, run: &Run) -> Result<i64> {
    sqlx::query_scalar(
        "INSERT INTO runs (recipe_id, recipe_version, recipe_name, document, shoot_id, shoot_name, base, state, created,
         not_before, most_failures, reason, origin, hook, watch_id, brought, warnings, place)
         VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, (SELECT coalesce(max(place), 0) + 1 FROM runs))
         RETURNING id",
    )
    .bind(run.recipe_id)
    .bind(run.recipe_version)
    .bind(&run.recipe_name)
    .bind(&run.document)
    .bind(run.shoot_id)
    .bind(&run.shoot_name)
    .bind(&run.base)
    .bind(if run.state == RunState::Asking { RunState::Asking } else { RunState::Waiting }.as_str())
    .bind(&run.created)
    .bind(&run.not_before)
    .bind(run.most_failures)
    .bind(&run.reason)
    .bind(if run.origin.is_empty() { "page" } else { &run.origin })
    .bind(&run.hook)
    .bind(run.watch_id)
    .bind(&run.brought)
    .bind(list(&run.warnings))
    .fetch_one(&mut **tx)
    .await
    .map_err(failed)
}

/// A list of texts as it is stored.
pub(crate) fn list(texts: &[String]) -> String {
    json!(texts).to_string()
}

/// Items with positions from `first` on.
pub(crate) async fn insert_items(
    tx: &mut Transaction<'_, Sqlite>,
    run: i64,
    first: i64,
    items: &[NewRunItem],
) -> Result<()> {
    for (position, item) in (first..).zip(items) {
        sqlx::query(
            "INSERT INTO run_items (run_id, position, source, target, source_bytes, pixels, decided, more, task, phase)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        )
        .bind(run)
        .bind(position)
        .bind(&item.source)
        .bind(&item.target)
        .bind(item.bytes)
        .bind(item.pixels)
        .bind(if item.decided.is_empty() { "{}" } else { &item.decided })
        .bind(list(&item.more))
        .bind(item.task)
        .bind(if item.task.is_some() { Phase::Assemble } else { item.phase }.as_str())
        .execute(&mut **tx)
        .await
        .map_err(failed)?;
    }
    Ok(())
}

/// When the last item of a run ended. Times of ending rise in the order in which they are written down, so that whoever asks for
/// what ended since one they know misses none that ended before it and was written down behind it.
async fn last_end(on: &mut SqliteConnection, run: i64) -> Result<i64> {
    sqlx::query_scalar("SELECT coalesce(max(ended), 0) FROM run_items WHERE run_id = ?")
        .bind(run)
        .fetch_one(on)
        .await
        .map_err(failed)
}

impl Store {
    /// Folders in which a worker may have left files half written.
    async fn folders_of_worker(&self, worker: &str) -> Result<Vec<String>> {
        // What is made of all pictures is written while they are made.
        let targets: Vec<String> = sqlx::query_scalar(
            "SELECT target FROM run_items WHERE worker = ?1 OR (task IS NOT NULL AND run_id IN
             (SELECT run_id FROM run_items WHERE worker = ?1))",
        )
        .bind(worker)
        .fetch_all(&self.pool)
        .await
        .map_err(failed)?;
        let folder = |t: &String| Some(Path::new(t).parent()?.to_string_lossy().into_owned());
        let mut folders: Vec<String> = targets.iter().filter_map(folder).collect();
        folders.sort();
        folders.dedup();
        Ok(folders)
    }
}

impl Store {
    /// An item of which something stored cannot be read fails with that reason; the others go on.
    async fn fail_unreadable(&self, row: &SqliteRow, reason: &Error) -> Result<()> {
        let key: (i64, i64) =
            (row.try_get("run_id").map_err(failed)?, row.try_get("position").map_err(failed)?);
        sqlx::query(
            "UPDATE run_items SET state = ?, kind = ?, reason = ?,
             ended = max(CAST(unixepoch('subsec') * 1000 AS INTEGER),
                 1 + (SELECT coalesce(max(o.ended), 0) FROM run_items o WHERE o.run_id = run_items.run_id)),
             worker = NULL, lease = NULL WHERE run_id = ? AND position = ?",
        )
        .bind(ItemState::Failed.as_str())
        .bind(FailureKind::Stored.as_str())
        .bind(reason.to_string())
        .bind(key.0)
        .bind(key.1)
        .execute(&self.pool)
        .await
        .map_err(failed)?;
        Ok(())
    }
}

#[async_trait]
impl RunQueue for Store {
    async fn add_run(&self, run: &Run, items: &[NewRunItem]) -> Result<i64> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await.map_err(failed)?;
        let id = insert_run(&mut tx, run).await?;
        insert_items(&mut tx, id, 0, items).await?;
        tx.commit().await.map_err(failed)?;
        Ok(id)
    }

    async fn claim_several(&self, claim: &Claim<'_>, further: Further) -> Result<Vec<RunItem>> {
        let query = format!(
            "WITH next AS (SELECT r.id AS run_id FROM runs r
                     WHERE r.state IN {} AND (r.not_before IS NULL OR r.not_before <= ?3) AND (?4 IS NULL OR r.id = ?4)
                     AND EXISTS (SELECT 1 FROM run_items i INDEXED BY run_items_waiting
                         WHERE i.run_id = r.id AND i.state = 'waiting' AND i.worker IS NULL AND {TURN})
                     ORDER BY r.place, r.id LIMIT 1),
                 first AS MATERIALIZED (SELECT next.run_id, coalesce((SELECT i.position FROM run_items i INDEXED BY run_items_waiting
                     WHERE ?5 = next.run_id AND i.run_id = ?5 AND i.position > ?6
                     AND i.position < (?6 / {STRETCH} + 1) * {STRETCH} AND i.state = 'waiting' AND i.worker IS NULL AND {TURN}
                     ORDER BY i.position LIMIT 1),
                 (SELECT i.position FROM run_items i INDEXED BY run_items_waiting
                     WHERE i.run_id = next.run_id AND i.state = 'waiting' AND i.worker IS NULL AND {TURN} AND NOT EXISTS (
                         SELECT 1 FROM run_items o INDEXED BY run_items_leases WHERE o.lease IS NOT NULL AND o.run_id = i.run_id
                         AND (?7 OR o.worker <> ?1) AND o.state = 'waiting' AND o.position / {STRETCH} = i.position / {STRETCH})
                     ORDER BY i.position LIMIT 1),
                 (SELECT i.position FROM run_items i INDEXED BY run_items_waiting
                     WHERE i.run_id = next.run_id AND i.state = 'waiting' AND i.worker IS NULL AND {TURN}
                     ORDER BY i.position LIMIT 1)) AS position FROM next)
             UPDATE run_items SET worker = ?1, lease = ?2, tries = tries + 1
             WHERE run_id = (SELECT run_id FROM first) AND position IN (SELECT position FROM first
                 UNION ALL SELECT * FROM (SELECT i.position FROM first CROSS JOIN run_items i INDEXED BY run_items_waiting
                     WHERE i.run_id = first.run_id AND i.position > first.position
                     AND i.position < (first.position / {STRETCH} + 1) * {STRETCH} AND i.state = 'waiting' AND i.worker IS NULL
                     AND i.task IS NULL AND i.pixels BETWEEN 1 AND ?8 AND {TURN} ORDER BY i.position LIMIT {most}))
             RETURNING *, (SELECT state FROM runs WHERE id = run_items.run_id) AS run_state",
            among(RunState::CLAIMABLE),
            // Bound to the statement, it would have to be prepared anew each time.
            most = further.most
        );
        loop {
            let rows = sqlx::query(AssertSqlSafe(query.clone()))
                .bind(claim.worker)
                .bind(claim.until)
                .bind(claim.clock)
                .bind(claim.only)
                .bind(claim.near.map(|near| near.run))
                .bind(claim.near.map(|near| near.position))
                .bind(claim.apart)
                .bind(further.pixels)
                .fetch_all(&self.pool)
                .await
                .map_err(failed)?;
            let Some(any) = rows.first() else { return Ok(Vec::new()) };
            let state: String = any.try_get("run_state").map_err(failed)?;
            let mut items = Vec::with_capacity(rows.len());
            for row in &rows {
                match Row::<RunItem>::from_row(row) {
                    Ok(item) => items.push(item.0),
                    Err(e) => self.fail_unreadable(row, &failed(e)).await?,
                }
            }
            let Some(run) = items.first().map(|item| item.run_id) else { continue };
            if RunMove::Begin.from().iter().any(|from| from.as_str() == state) {
                sqlx::query(update(RunMove::Begin, "started = coalesce(started, ?1)", "id = ?2"))
                    .bind(claim.clock)
                    .bind(run)
                    .execute(&self.pool)
                    .await
                    .map_err(failed)?;
            }
            items.sort_by_key(|item| item.position);
            return Ok(items);
        }
    }

    async fn claimable(&self, clock: &str, most: i64) -> Result<i64> {
        let query = format!(
            "SELECT count(*) FROM (SELECT 1 FROM runs r CROSS JOIN run_items i INDEXED BY run_items_waiting ON i.run_id = r.id
             WHERE r.state IN {} AND (r.not_before IS NULL OR r.not_before <= ?1)
             AND i.state = 'waiting' AND i.worker IS NULL AND {TURN} LIMIT ?2)",
            among(RunState::CLAIMABLE)
        );
        sqlx::query_scalar(AssertSqlSafe(query))
            .bind(clock)
            .bind(most)
            .fetch_one(&self.pool)
            .await
            .map_err(failed)
    }

    async fn renew(&self, worker: &str, items: &[ItemKey], until: i64) -> Result<()> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await.map_err(failed)?;
        for item in items {
            sqlx::query(
                "UPDATE run_items SET lease = ? WHERE run_id = ? AND position = ? AND worker = ? AND state = 'waiting'",
            )
            .bind(until)
            .bind(item.run)
            .bind(item.position)
            .bind(worker)
            .execute(&mut *tx)
            .await
            .map_err(failed)?;
        }
        tx.commit().await.map_err(failed)
    }

    async fn expired(&self, now: i64) -> Result<Vec<ExpiredLeases>> {
        let workers: Vec<String> = sqlx::query_scalar(
            "SELECT DISTINCT worker FROM run_items WHERE lease < ? AND worker IS NOT NULL AND state = 'waiting'",
        )
        .bind(now)
        .fetch_all(&self.pool)
        .await
        .map_err(failed)?;
        let mut expired = Vec::new();
        for worker in workers {
            let folders = self.folders_of_worker(&worker).await?;
            expired.push(ExpiredLeases { worker, folders });
        }
        Ok(expired)
    }

    async fn release(&self, worker: &str, now: i64) -> Result<()> {
        sqlx::query("UPDATE run_items SET worker = NULL, lease = NULL WHERE worker = ? AND lease < ?")
            .bind(worker)
            .bind(now)
            .execute(&self.pool)
            .await
            .map(|_| ())
            .map_err(failed)
    }

    async fn give_back(&self, item: &RunItem) -> Result<()> {
        sqlx::query("UPDATE run_items SET worker = NULL, lease = NULL WHERE run_id = ? AND position = ? AND worker IS ?")
            .bind(item.run_id)
            .bind(item.position)
            .bind(&item.worker)
            .execute(&self.pool)
            .await
            .map_err(failed)?;
        Ok(())
    }

    async fn complete_several(&self, ended: &[EndedItem]) -> Result<Vec<ItemKey>> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await.map_err(failed)?;
        let mut order: Vec<&EndedItem> = ended.iter().collect();
        order.sort_by_key(|e| (e.item.run_id, e.item.ended));
        let mut last: Option<(i64, i64)> = None;
        let (mut files, mut items) = (Vec::new(), Vec::new());
        for EndedItem { item, written } in order {
            let run = item.run_id;
            files.extend(written.iter().map(|file| {
                json!({"path": file.path, "hash": file.hash, "bytes": file.bytes, "run": run, "mark": file.mark})
            }));
            let mut at = item.ended;
            if at > 0 {
                let before = match last {
                    Some((of, before)) if of == run => before,
                    _ => last_end(&mut tx, run).await?,
                };
                at = at.max(before + 1);
                last = Some((run, at));
            }
            items.push(json!({
                "run": run, "position": item.position, "worker": item.worker, "state": item.state.as_str(),
                "kind": item.kind.map(FailureKind::as_str), "reason": item.reason,
                "outputs": json!(item.outputs).to_string(), "seconds": item.seconds, "ended": at
            }));
        }
        if !files.is_empty() {
            sqlx::query(
                "INSERT INTO results (path, hash, bytes, run_id, mark)
                 SELECT value->>'path', value->>'hash', value->>'bytes', value->>'run', value->>'mark' FROM json_each(?)
                 WHERE true ON CONFLICT (path) DO UPDATE SET hash = excluded.hash, bytes = excluded.bytes,
                 run_id = excluded.run_id, mark = excluded.mark",
            )
            .bind(Value::from(files).to_string())
            .execute(&mut *tx)
            .await
            .map_err(failed)?;
        }
        let done: Vec<(i64, i64)> = sqlx::query_as(
            "UPDATE run_items SET state = e.value->>'state', kind = e.value->>'kind', reason = e.value->>'reason',
             outputs = e.value->>'outputs', seconds = e.value->>'seconds', ended = e.value->>'ended',
             worker = NULL, lease = NULL FROM json_each(?) e
             WHERE run_items.run_id = e.value->>'run' AND run_items.position = e.value->>'position'
             AND run_items.worker IS e.value->>'worker' RETURNING run_id, position",
        )
        .bind(Value::from(items).to_string())
        .fetch_all(&mut *tx)
        .await
        .map_err(failed)?;
        tx.commit().await.map_err(failed)?;
        Ok(done.into_iter().map(|(run, position)| ItemKey { run, position }).collect())
    }

    async fn keep_measured(&self, item: &RunItem, measured: &Value) -> Result<bool> {
        let done = sqlx::query(
            "UPDATE run_items SET phase = ?, measured = ?, worker = NULL, lease = NULL
             WHERE run_id = ? AND position = ? AND worker IS ? AND phase = ?",
        )
        .bind(Phase::Render.as_str())
        .bind(measured.to_string())
        .bind(item.run_id)
        .bind(item.position)
        .bind(&item.worker)
        .bind(Phase::Measure.as_str())
        .execute(&self.pool)
        .await
        .map_err(failed)?;
        Ok(done.rows_affected() > 0)
    }

    async fn has_waiting(&self, run: i64) -> Result<bool> {
        sqlx::query_scalar("SELECT EXISTS (SELECT 1 FROM run_items WHERE run_id = ? AND state = 'waiting')")
            .bind(run)
            .fetch_one(&self.pool)
            .await
            .map_err(failed)
    }

    async fn end_run(&self, run: i64, when: &str) -> Result<bool> {
        let done = sqlx::query(update(
            RunMove::Finish,
            "finished = ?1, started = coalesce(started, ?1), reason = NULL, held = NULL",
            "id = ?2 AND NOT EXISTS (SELECT 1 FROM run_items WHERE run_id = ?2 AND state = 'waiting')",
        ))
        .bind(when)
        .bind(run)
        .execute(&self.pool)
        .await
        .map_err(failed)?;
        Ok(done.rows_affected() > 0)
    }

    async fn cancel_run(&self, run: i64, when: &str) -> Result<bool> {
        let done =
            sqlx::query(update(RunMove::Cancel, "finished = ?1, reason = NULL, held = NULL", "id = ?2"))
                .bind(when)
                .bind(run)
                .execute(&self.pool)
                .await
                .map_err(failed)?;
        Ok(done.rows_affected() > 0)
    }

    async fn pause_run(&self, run: i64, reason: Option<&str>, held: Option<FailureKind>) -> Result<bool> {
        let done = sqlx::query(update(RunMove::Pause, "reason = ?1, held = ?2", "id = ?3"))
            .bind(reason)
            .bind(held.map(FailureKind::as_str))
            .bind(run)
            .execute(&self.pool)
            .await
            .map_err(failed)?;
        Ok(done.rows_affected() > 0)
    }

    async fn resume_run(&self, run: i64) -> Result<bool> {
        let done = sqlx::query(update(
            RunMove::Resume,
            "reason = NULL, held = NULL, not_before = NULL",
            "id = ? AND (state <> 'waiting' OR not_before IS NOT NULL)",
        ))
        .bind(run)
        .execute(&self.pool)
        .await
        .map_err(failed)?;
        Ok(done.rows_affected() > 0)
    }

    async fn pass_run(&self, run: i64, stage: i64, document: &str, asks: Option<&str>) -> Result<bool> {
        let change = if asks.is_some() { RunMove::AskAgain } else { RunMove::Answer };
        let done = sqlx::query(update(
            change,
            "stage = ?1 + 1, document = ?2, reason = ?3",
            "id = ?4 AND stage = ?1",
        ))
        .bind(stage)
        .bind(document)
        .bind(asks)
        .bind(run)
        .execute(&self.pool)
        .await
        .map_err(failed)?;
        Ok(done.rows_affected() > 0)
    }

    async fn set_answers(&self, item: ItemKey, answers: &str) -> Result<()> {
        sqlx::query(
            "UPDATE run_items SET answers = ? WHERE run_id = ? AND position = ? AND state = 'waiting'",
        )
        .bind(answers)
        .bind(item.run)
        .bind(item.position)
        .execute(&self.pool)
        .await
        .map_err(failed)?;
        Ok(())
    }

    async fn move_run(&self, run: i64, by: i64) -> Result<()> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await.map_err(failed)?;
        let query =
            format!("SELECT id, place FROM runs WHERE state IN {} ORDER BY place, id", among(RunState::OPEN));
        let open: Vec<(i64, f64)> =
            sqlx::query_as(AssertSqlSafe(query)).fetch_all(&mut *tx).await.map_err(failed)?;
        let mut order: Vec<i64> = open.iter().map(|r| r.0).collect();
        if let Some(from) = order.iter().position(|r| *r == run) {
            let to = if by < -1 { 0 } else { (from as i64 + by).clamp(0, order.len() as i64 - 1) as usize };
            order.remove(from);
            order.insert(to, run);
            let mut places: Vec<f64> = open.iter().map(|r| r.1).collect();
            places.sort_by(f64::total_cmp);
            for (n, run) in order.iter().enumerate() {
                // Equal places of old are told apart.
                let place = places[n] + n as f64 * 1e-6;
                sqlx::query("UPDATE runs SET place = ? WHERE id = ?")
                    .bind(place)
                    .bind(run)
                    .execute(&mut *tx)
                    .await
                    .map_err(failed)?;
            }
        }
        tx.commit().await.map_err(failed)
    }

    async fn retry_failed(&self, run: i64, position: Option<i64>) -> Result<()> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await.map_err(failed)?;
        let done = sqlx::query(
            "UPDATE run_items SET state = 'waiting', kind = NULL, reason = NULL
             WHERE run_id = ?1 AND state = 'failed' AND (?2 IS NULL OR position = ?2)
             AND EXISTS (SELECT 1 FROM runs WHERE id = ?1 AND state <> 'cancelled')",
        )
        .bind(run)
        .bind(position)
        .execute(&mut *tx)
        .await
        .map_err(failed)?;
        if done.rows_affected() > 0 {
            // What is made of all pictures together, and of what was made before it, is made once more.
            sqlx::query(
                "UPDATE run_items SET state = 'waiting', kind = NULL, reason = NULL WHERE run_id = ?1 AND task IS NOT NULL
                 AND position > (SELECT min(position) FROM run_items WHERE run_id = ?1 AND state = 'waiting')",
            )
            .bind(run)
            .execute(&mut *tx)
            .await
            .map_err(failed)?;
            sqlx::query(update(
                RunMove::Retry,
                "finished = NULL, reason = NULL, held = NULL, called = 0",
                "id = ?",
            ))
            .bind(run)
            .execute(&mut *tx)
            .await
            .map_err(failed)?;
        }
        tx.commit().await.map_err(failed)
    }
}
