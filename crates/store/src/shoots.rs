//! Shoots, their frames, and named selections.

use crate::{Result, Store};
use sqlx::FromRow;
use sqlx::sqlite::Sqlite;

/// A set of frames from folders and files.
#[derive(Clone, Debug, FromRow)]
pub struct Shoot {
    /// Identity.
    pub id: i64,
    /// Name for people.
    pub name: String,
    /// The folder everything in it lies in.
    pub base: String,
    /// How it is sorted, JSON.
    pub sorted: String,
    /// Whether new files are looked for all the time.
    pub follow: bool,
    /// Whether results of earlier runs are taken in.
    pub results: bool,
    /// When it was last scanned to the end.
    pub scanned: Option<String>,
}

/// A folder or a file a shoot is made of.
#[derive(Clone, Debug, PartialEq, Eq, FromRow)]
pub struct Place {
    /// Absolute path.
    pub path: String,
    /// With sub-folders.
    pub deep: bool,
}

/// One picture of a shoot.
#[derive(Clone, Debug, Default, FromRow)]
pub struct Frame {
    /// Identity.
    pub id: i64,
    /// Its shoot.
    pub shoot_id: i64,
    /// Absolute path.
    pub path: String,
    /// File name.
    pub name: String,
    /// Size of the file.
    pub bytes: i64,
    /// Modification time, nanoseconds since 1970.
    pub modified: i64,
    /// What the file says, JSON.
    pub facts: Option<String>,
    /// Why it cannot be read.
    pub problem: Option<String>,
    /// Whether the file was not there at the last scan.
    pub gone: bool,
    /// 0 open, 1 kept, 2 set aside.
    pub choice: i64,
    /// 0 none … 5.
    pub rating: i64,
    /// Keywords, a JSON list.
    pub keywords: String,
    /// Correction of the capture time, milliseconds.
    pub shift: i64,
    /// Place in the order by hand.
    pub hand: Option<f64>,
    /// Its own small changes, JSON.
    pub own: String,
    /// What it measures, JSON.
    pub measures: Option<String>,
}

/// A named list of frames.
#[derive(Clone, Debug, FromRow)]
pub struct Selection {
    /// Identity.
    pub id: i64,
    /// Name.
    pub name: String,
    /// Frames in it.
    pub frames: i64,
}

/// What people decided about a frame, to be written down.
#[derive(Clone, Debug)]
pub struct Decided {
    /// The frame.
    pub id: i64,
    /// 0 open, 1 kept, 2 set aside.
    pub choice: i64,
    /// 0 none … 5.
    pub rating: i64,
    /// Keywords, a JSON list.
    pub keywords: String,
    /// Correction of the capture time, milliseconds.
    pub shift: i64,
    /// Place in the order by hand.
    pub hand: Option<f64>,
    /// Its own small changes, JSON.
    pub own: String,
}

impl Store {
    /// Every shoot, the newest first.
    ///
    /// # Errors
    /// The database's.
    pub async fn shoots(&self) -> Result<Vec<Shoot>> {
        sqlx::query_as("SELECT * FROM shoots ORDER BY id DESC").fetch_all(&self.pool).await
    }

    /// One shoot.
    ///
    /// # Errors
    /// The database's; `RowNotFound` when there is none.
    pub async fn shoot(&self, id: i64) -> Result<Shoot> {
        sqlx::query_as("SELECT * FROM shoots WHERE id = ?").bind(id).fetch_one(&self.pool).await
    }

    /// What a shoot is made of.
    ///
    /// # Errors
    /// The database's.
    pub async fn places(&self, shoot: i64) -> Result<Vec<Place>> {
        sqlx::query_as("SELECT path, deep FROM shoot_places WHERE shoot_id = ? ORDER BY path")
            .bind(shoot)
            .fetch_all(&self.pool)
            .await
    }

    /// The shoot made of exactly these paths, made when there is none.
    ///
    /// # Errors
    /// The database's.
    pub async fn shoot_of(&self, name: &str, base: &str, places: &[Place]) -> Result<Shoot> {
        let mut sorted = places.to_vec();
        sorted.sort_by(|a, b| a.path.cmp(&b.path));
        sorted.dedup_by(|a, b| a.path == b.path);
        for shoot in self.shoots().await? {
            let own = self.places(shoot.id).await?;
            if own.iter().map(|p| &p.path).eq(sorted.iter().map(|p| &p.path)) {
                self.set_places(shoot.id, &sorted).await?;
                return Ok(shoot);
            }
        }
        let shoot: Shoot =
            sqlx::query_as("INSERT INTO shoots (name, base, sorted) VALUES (?, ?, ?) RETURNING *")
                .bind(name)
                .bind(base)
                // Scattered frames belong together by time.
                .bind(if sorted.len() > 1 { r#"{"by": "time"}"# } else { "{}" })
                .fetch_one(&self.pool)
                .await?;
        self.set_places(shoot.id, &sorted).await?;
        Ok(shoot)
    }

    async fn set_places(&self, shoot: i64, places: &[Place]) -> Result<()> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await?;
        sqlx::query("DELETE FROM shoot_places WHERE shoot_id = ?").bind(shoot).execute(&mut *tx).await?;
        for place in places {
            sqlx::query("INSERT INTO shoot_places (shoot_id, path, deep) VALUES (?, ?, ?)")
                .bind(shoot)
                .bind(&place.path)
                .bind(place.deep)
                .execute(&mut *tx)
                .await?;
        }
        tx.commit().await
    }

    /// Changes how a shoot is sorted, followed, named, and whether it takes results in.
    ///
    /// # Errors
    /// The database's.
    pub async fn set_shoot(&self, shoot: &Shoot) -> Result<()> {
        sqlx::query("UPDATE shoots SET name = ?, sorted = ?, follow = ?, results = ? WHERE id = ?")
            .bind(&shoot.name)
            .bind(&shoot.sorted)
            .bind(shoot.follow)
            .bind(shoot.results)
            .bind(shoot.id)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Notes the end of a scan.
    ///
    /// # Errors
    /// The database's.
    pub async fn scanned(&self, shoot: i64, when: &str) -> Result<()> {
        sqlx::query("UPDATE shoots SET scanned = ? WHERE id = ?")
            .bind(when)
            .bind(shoot)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// A shoot's frames, in the order they were added; those whose files are gone too.
    ///
    /// # Errors
    /// The database's.
    pub async fn frames(&self, shoot: i64) -> Result<Vec<Frame>> {
        sqlx::query_as("SELECT * FROM frames WHERE shoot_id = ? ORDER BY id")
            .bind(shoot)
            .fetch_all(&self.pool)
            .await
    }

    /// One frame.
    ///
    /// # Errors
    /// The database's; `RowNotFound` when there is none.
    pub async fn frame(&self, id: i64) -> Result<Frame> {
        sqlx::query_as("SELECT * FROM frames WHERE id = ?").bind(id).fetch_one(&self.pool).await
    }

    /// Adds frames, or brings their facts up to date: a changed file loses its measures, what people decided
    /// stays. Returns them as they are now.
    ///
    /// # Errors
    /// The database's.
    pub async fn put_frames(&self, frames: &[Frame]) -> Result<Vec<Frame>> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await?;
        let mut all = Vec::with_capacity(frames.len());
        for frame in frames {
            let row = sqlx::query_as::<Sqlite, Frame>(
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
            .await?;
            all.push(row);
        }
        tx.commit().await?;
        Ok(all)
    }

    /// Notes which files are gone, or back again. What was decided about them is kept.
    ///
    /// # Errors
    /// The database's.
    pub async fn set_gone(&self, ids: &[i64], gone: bool) -> Result<()> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await?;
        for id in ids {
            sqlx::query("UPDATE frames SET gone = ? WHERE id = ?")
                .bind(gone)
                .bind(id)
                .execute(&mut *tx)
                .await?;
        }
        tx.commit().await
    }

    /// Writes down decisions, all at once or not at all.
    ///
    /// # Errors
    /// The database's.
    pub async fn decide(&self, all: &[Decided]) -> Result<()> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await?;
        for one in all {
            sqlx::query(
                "UPDATE frames SET choice = ?, rating = ?, keywords = ?, shift = ?, hand = ?, own = ? WHERE id = ?",
            )
            .bind(one.choice)
            .bind(one.rating)
            .bind(&one.keywords)
            .bind(one.shift)
            .bind(one.hand)
            .bind(&one.own)
            .bind(one.id)
            .execute(&mut *tx)
            .await?;
        }
        tx.commit().await
    }

    /// Keeps measures, or why the picture could not be decoded: (frame, measures, problem).
    ///
    /// # Errors
    /// The database's.
    pub async fn measured(&self, all: &[(i64, Option<String>, Option<String>)]) -> Result<()> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await?;
        for (id, measures, problem) in all {
            sqlx::query("UPDATE frames SET measures = ?, problem = coalesce(?, problem) WHERE id = ?")
                .bind(measures)
                .bind(problem)
                .bind(id)
                .execute(&mut *tx)
                .await?;
        }
        tx.commit().await
    }

    /// Every named selection.
    ///
    /// # Errors
    /// The database's.
    pub async fn selections(&self) -> Result<Vec<Selection>> {
        sqlx::query_as(
            "SELECT s.id, s.name, count(f.frame_id) AS frames FROM selections s
             LEFT JOIN selection_frames f ON f.selection_id = s.id GROUP BY s.id ORDER BY s.name",
        )
        .fetch_all(&self.pool)
        .await
    }

    /// Puts frames into the selection of that name, made when there is none.
    ///
    /// # Errors
    /// The database's.
    pub async fn add_to_selection(&self, name: &str, frames: &[i64], when: &str) -> Result<i64> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await?;
        let id: i64 = sqlx::query_scalar(
            "INSERT INTO selections (name, made) VALUES (?, ?)
             ON CONFLICT (name) DO UPDATE SET name = excluded.name RETURNING id",
        )
        .bind(name)
        .bind(when)
        .fetch_one(&mut *tx)
        .await?;
        for frame in frames {
            sqlx::query("INSERT OR IGNORE INTO selection_frames (selection_id, frame_id) VALUES (?, ?)")
                .bind(id)
                .bind(frame)
                .execute(&mut *tx)
                .await?;
        }
        tx.commit().await?;
        Ok(id)
    }

    /// Takes frames out of a selection.
    ///
    /// # Errors
    /// The database's.
    pub async fn remove_from_selection(&self, id: i64, frames: &[i64]) -> Result<()> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await?;
        for frame in frames {
            sqlx::query("DELETE FROM selection_frames WHERE selection_id = ? AND frame_id = ?")
                .bind(id)
                .bind(frame)
                .execute(&mut *tx)
                .await?;
        }
        tx.commit().await
    }

    /// Forgets a selection; its frames stay where they are.
    ///
    /// # Errors
    /// The database's.
    pub async fn forget_selection(&self, id: i64) -> Result<()> {
        sqlx::query("DELETE FROM selections WHERE id = ?").bind(id).execute(&self.pool).await?;
        Ok(())
    }

    /// A selection's frames, of whatever shoot.
    ///
    /// # Errors
    /// The database's.
    pub async fn selected_frames(&self, selection: i64) -> Result<Vec<Frame>> {
        sqlx::query_as(
            "SELECT f.* FROM frames f JOIN selection_frames s ON s.frame_id = f.id WHERE s.selection_id = ? ORDER BY f.id",
        )
        .bind(selection)
        .fetch_all(&self.pool)
        .await
    }

    /// Sources a recipe has made results of.
    ///
    /// # Errors
    /// The database's.
    pub async fn sources_done(&self, recipe: i64) -> Result<Vec<String>> {
        sqlx::query_scalar(
            "SELECT DISTINCT i.source FROM run_items i JOIN runs r ON r.id = i.run_id
             WHERE r.recipe_id = ? AND i.state IN ('done', 'skipped')",
        )
        .bind(recipe)
        .fetch_all(&self.pool)
        .await
    }
}
