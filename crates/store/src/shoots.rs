//! Shoots, their frames, and named selections.

use crate::rows::{Row, records};
use crate::{Store, failed};
use async_trait::async_trait;
use rallo_job::{
    Error, FrameDecision, FrameMeasured, FrameRecord, Result, Selection, Shoot, ShootFolder, ShootRecords,
    ShootSummary,
};
use sqlx::sqlite::Sqlite;

/// Frames of a shoot that are looked at for one to show.
const LOOKED_AT: i64 = 24;

#[async_trait]
impl ShootRecords for Store {
    async fn shoots(&self) -> Result<Vec<Shoot>> {
        sqlx::query_as("SELECT * FROM shoots ORDER BY id DESC")
            .fetch_all(&self.pool)
            .await
            .map(records)
            .map_err(failed)
    }

    async fn shoot(&self, id: i64) -> Result<Shoot> {
        let row: Option<Row<Shoot>> = sqlx::query_as("SELECT * FROM shoots WHERE id = ?")
            .bind(id)
            .fetch_optional(&self.pool)
            .await
            .map_err(failed)?;
        row.map(|row| row.0).ok_or_else(|| Error::not_found("shoot", id))
    }

    async fn folders_of_shoot(&self, shoot: i64) -> Result<Vec<ShootFolder>> {
        sqlx::query_as("SELECT path, deep FROM shoot_places WHERE shoot_id = ? ORDER BY path")
            .bind(shoot)
            .fetch_all(&self.pool)
            .await
            .map(records)
            .map_err(failed)
    }

    async fn shoot_of(&self, name: &str, base: &str, folders: &[ShootFolder]) -> Result<Shoot> {
        let mut sorted = folders.to_vec();
        sorted.sort_by(|a, b| a.path.cmp(&b.path));
        sorted.dedup_by(|a, b| a.path == b.path);
        for shoot in self.shoots().await? {
            let folders = self.folders_of_shoot(shoot.id).await?;
            if folders.iter().map(|p| &p.path).eq(sorted.iter().map(|p| &p.path)) {
                self.set_folders(shoot.id, &sorted).await?;
                return Ok(shoot);
            }
        }
        let shoot: Row<Shoot> =
            sqlx::query_as("INSERT INTO shoots (name, base, sorted) VALUES (?, ?, ?) RETURNING *")
                .bind(name)
                .bind(base)
                // Scattered frames belong together by time.
                .bind(if sorted.len() > 1 { r#"{"by": "time"}"# } else { "{}" })
                .fetch_one(&self.pool)
                .await
                .map_err(failed)?;
        let shoot = shoot.0;
        self.set_folders(shoot.id, &sorted).await?;
        Ok(shoot)
    }

    async fn set_shoot(&self, shoot: &Shoot) -> Result<()> {
        sqlx::query("UPDATE shoots SET name = ?, sorted = ?, follow = ?, results = ? WHERE id = ?")
            .bind(&shoot.name)
            .bind(&shoot.sorted)
            .bind(shoot.follow)
            .bind(shoot.results)
            .bind(shoot.id)
            .execute(&self.pool)
            .await
            .map_err(failed)?;
        Ok(())
    }

    async fn scanned(&self, shoot: i64, when: &str) -> Result<()> {
        sqlx::query("UPDATE shoots SET scanned = ? WHERE id = ?")
            .bind(when)
            .bind(shoot)
            .execute(&self.pool)
            .await
            .map_err(failed)?;
        Ok(())
    }

    async fn frames(&self, shoot: i64) -> Result<Vec<FrameRecord>> {
        sqlx::query_as("SELECT * FROM frames WHERE shoot_id = ? ORDER BY id")
            .bind(shoot)
            .fetch_all(&self.pool)
            .await
            .map(records)
            .map_err(failed)
    }

    async fn shoot_summary(&self, shoot: i64) -> Result<ShootSummary> {
        let frames: i64 = sqlx::query_scalar("SELECT COUNT(*) FROM frames WHERE shoot_id = ? AND gone = 0")
            .bind(shoot)
            .fetch_one(&self.pool)
            .await
            .map_err(failed)?;
        // Of a few from the first to the last, the one that is nearest to a middle brightness: no night, no fog.
        let cover = sqlx::query_as(
            "WITH shown AS (SELECT id, modified, measures FROM frames WHERE shoot_id = ?1 AND gone = 0 AND problem IS NULL)
             SELECT id, modified FROM shown WHERE id % ?2 = (SELECT min(id) FROM shown) % ?2
             ORDER BY abs(coalesce(json_extract(measures, '$.brightness'), 0) - 50), id LIMIT 1",
        )
        .bind(shoot)
        .bind(frames / LOOKED_AT + 1);
        let cover = cover.fetch_optional(&self.pool).await.map_err(failed)?;
        Ok(ShootSummary { frames, cover })
    }

    async fn frame(&self, id: i64) -> Result<FrameRecord> {
        let row: Option<Row<FrameRecord>> = sqlx::query_as("SELECT * FROM frames WHERE id = ?")
            .bind(id)
            .fetch_optional(&self.pool)
            .await
            .map_err(failed)?;
        row.map(|row| row.0).ok_or_else(|| Error::not_found("frame", id))
    }

    async fn put_frames(&self, frames: &[FrameRecord]) -> Result<Vec<FrameRecord>> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await.map_err(failed)?;
        let mut ids = Vec::with_capacity(frames.len());
        for frame in frames {
            let row = sqlx::query_as::<Sqlite, Row<FrameRecord>>(
                "INSERT INTO frames (shoot_id, path, name, bytes, modified, facts, problem, rating, keywords)
                 VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)
                 ON CONFLICT (shoot_id, path) DO UPDATE SET bytes = excluded.bytes, modified = excluded.modified,
                 facts = excluded.facts, problem = excluded.problem, gone = 0,
                 measures = CASE WHEN bytes = excluded.bytes AND modified = excluded.modified THEN measures END
                 RETURNING *",
            )
            .bind(frame.shoot_id)
            .bind(&frame.path)
            .bind(&frame.name)
            .bind(frame.bytes)
            .bind(frame.modified)
            .bind(&frame.facts)
            .bind(&frame.problem)
            .bind(frame.rating)
            .bind(if frame.keywords.is_empty() { "[]" } else { &frame.keywords })
            .fetch_one(&mut *tx)
            .await
            .map_err(failed)?;
            ids.push(row.0);
        }
        tx.commit().await.map_err(failed)?;
        Ok(ids)
    }

    async fn set_gone(&self, ids: &[i64], gone: bool) -> Result<()> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await.map_err(failed)?;
        for id in ids {
            sqlx::query("UPDATE frames SET gone = ? WHERE id = ?")
                .bind(gone)
                .bind(id)
                .execute(&mut *tx)
                .await
                .map_err(failed)?;
        }
        tx.commit().await.map_err(failed)
    }

    async fn decide(&self, decisions: &[FrameDecision]) -> Result<()> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await.map_err(failed)?;
        for decision in decisions {
            sqlx::query(
                "UPDATE frames SET choice = ?, rating = ?, keywords = ?, shift = ?, hand = ?, own = ? WHERE id = ?",
            )
            .bind(decision.choice)
            .bind(decision.rating)
            .bind(&decision.keywords)
            .bind(decision.shift)
            .bind(decision.hand)
            .bind(&decision.own)
            .bind(decision.id)
            .execute(&mut *tx)
            .await
            .map_err(failed)?;
        }
        tx.commit().await.map_err(failed)
    }

    async fn measured(&self, found: &[FrameMeasured]) -> Result<()> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await.map_err(failed)?;
        for frame in found {
            sqlx::query(
                "UPDATE frames SET measures = ?, problem = coalesce(?, problem), facts = coalesce(?, facts)
                 WHERE id = ?",
            )
            .bind(&frame.measures)
            .bind(&frame.problem)
            .bind(&frame.facts)
            .bind(frame.id)
            .execute(&mut *tx)
            .await
            .map_err(failed)?;
        }
        tx.commit().await.map_err(failed)
    }

    async fn selections(&self) -> Result<Vec<Selection>> {
        sqlx::query_as(
            "SELECT s.id, s.name, count(f.frame_id) AS frames FROM selections s
             LEFT JOIN selection_frames f ON f.selection_id = s.id GROUP BY s.id ORDER BY s.name",
        )
        .fetch_all(&self.pool)
        .await
        .map(records)
        .map_err(failed)
    }

    async fn selected_frames(&self, selection: i64) -> Result<Vec<FrameRecord>> {
        sqlx::query_as(
            "SELECT f.* FROM frames f JOIN selection_frames s ON s.frame_id = f.id WHERE s.selection_id = ? ORDER BY f.id",
        )
        .bind(selection)
        .fetch_all(&self.pool)
        .await
.map(records).map_err(failed)
    }

    async fn sources_done(&self, recipe: i64) -> Result<Vec<String>> {
        sqlx::query_scalar(
            "SELECT DISTINCT i.source FROM run_items i JOIN runs r ON r.id = i.run_id
             WHERE r.recipe_id = ? AND i.state IN ('done', 'skipped')",
        )
        .bind(recipe)
        .fetch_all(&self.pool)
        .await
        .map_err(failed)
    }
}

impl Store {
    async fn set_folders(&self, shoot: i64, folders: &[ShootFolder]) -> Result<()> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await.map_err(failed)?;
        sqlx::query("DELETE FROM shoot_places WHERE shoot_id = ?")
            .bind(shoot)
            .execute(&mut *tx)
            .await
            .map_err(failed)?;
        for place in folders {
            sqlx::query("INSERT INTO shoot_places (shoot_id, path, deep) VALUES (?, ?, ?)")
                .bind(shoot)
                .bind(&place.path)
                .bind(place.deep)
                .execute(&mut *tx)
                .await
                .map_err(failed)?;
        }
        tx.commit().await.map_err(failed)
    }

    /// Puts frames into the selection of that name, made when there is none.
    ///
    /// # Errors
    /// The database's.
    pub async fn add_to_selection(&self, name: &str, frames: &[i64], when: &str) -> Result<i64> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await.map_err(failed)?;
        let id: i64 = sqlx::query_scalar(
            "INSERT INTO selections (name, made) VALUES (?, ?)
             ON CONFLICT (name) DO UPDATE SET name = excluded.name RETURNING id",
        )
        .bind(name)
        .bind(when)
        .fetch_one(&mut *tx)
        .await
        .map_err(failed)?;
        for frame in frames {
            sqlx::query("INSERT OR IGNORE INTO selection_frames (selection_id, frame_id) VALUES (?, ?)")
                .bind(id)
                .bind(frame)
                .execute(&mut *tx)
                .await
                .map_err(failed)?;
        }
        tx.commit().await.map_err(failed)?;
        Ok(id)
    }

    /// Takes frames out of a selection.
    ///
    /// # Errors
    /// The database's.
    pub async fn remove_from_selection(&self, id: i64, frames: &[i64]) -> Result<()> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await.map_err(failed)?;
        for frame in frames {
            sqlx::query("DELETE FROM selection_frames WHERE selection_id = ? AND frame_id = ?")
                .bind(id)
                .bind(frame)
                .execute(&mut *tx)
                .await
                .map_err(failed)?;
        }
        tx.commit().await.map_err(failed)
    }

    /// Forgets a selection; its frames stay where they are.
    ///
    /// # Errors
    /// The database's.
    pub async fn forget_selection(&self, id: i64) -> Result<()> {
        sqlx::query("DELETE FROM selections WHERE id = ?")
            .bind(id)
            .execute(&self.pool)
            .await
            .map_err(failed)?;
        Ok(())
    }
}
