//! Rows of the database as records.

use crate::{RecipeRow, Token, VersionRow};
use rallo_job::{
    Arrival, Counts, Error, FrameRecord, KnownResult, Run, RunItem, Selection, Shoot, ShootFolder, Watch,
};
use serde::de::DeserializeOwned;
use sqlx::sqlite::SqliteRow;
use sqlx::{FromRow, Row as _};
use std::str::FromStr;

/// A record read from a row.
pub(crate) struct Row<T>(pub T);

/// The records of rows.
pub(crate) fn records<T>(rows: Vec<Row<T>>) -> Vec<T> {
    rows.into_iter().map(|row| row.0).collect()
}

/// Reads records whose fields are columns of the same name.
macro_rules! plain {
    ($($record:ident { $($field:ident),* $(,)? })*) => {$(
        impl FromRow<'_, SqliteRow> for Row<$record> {
            fn from_row(row: &SqliteRow) -> sqlx::Result<Self> {
                Ok(Self($record { $($field: row.try_get(stringify!($field))?),* }))
            }
        }
    )*};
}

plain! {
    Shoot { id, name, base, sorted, follow, results, scanned }
    ShootFolder { path, deep }
    FrameRecord {
        id, shoot_id, path, name, bytes, modified, facts, problem, gone, choice, rating, keywords, shift, hand, own,
        measures,
    }
    Selection { id, name, frames }
    Arrival { path, bytes, modified, device, inode, run_id, position }
    Counts { total, tasks, done, failed, skipped, working, pixels, ended_pixels }
    KnownResult { hash, bytes, mark }
}

/// Reads types of this crate whose fields are columns of the same name.
macro_rules! own {
    ($($record:path { $($field:ident),* $(,)? })*) => {$(
        impl FromRow<'_, SqliteRow> for $record {
            fn from_row(row: &SqliteRow) -> sqlx::Result<Self> {
                Ok(Self { $($field: row.try_get(stringify!($field))?),* })
            }
        }
    )*};
}

own! {
    RecipeRow { id, name, version, document, saved }
    VersionRow { version, document, saved }
    Token { id, name, made, used }
}

/// What a column holds and does not make sense.
fn unreadable(record: &str, column: &str, value: &str, reason: impl ToString) -> sqlx::Error {
    let stored = Error::stored(format!("{column} of {record}"), value, reason);
    sqlx::Error::ColumnDecode { index: column.to_owned(), source: Box::new(stored) }
}

/// A column that holds one of a few words.
fn word<T: FromStr>(row: &SqliteRow, record: &str, column: &str) -> sqlx::Result<T>
where
    T::Err: ToString,
{
    let text: String = row.try_get(column)?;
    text.parse().map_err(|e: T::Err| unreadable(record, column, &text, e))
}

/// A column that holds one of a few words, or nothing.
fn some_word<T: FromStr>(row: &SqliteRow, record: &str, column: &str) -> sqlx::Result<Option<T>>
where
    T::Err: ToString,
{
    let text: Option<String> = row.try_get(column)?;
    text.map(|text| text.parse().map_err(|e: T::Err| unreadable(record, column, &text, e))).transpose()
}

/// A column that holds JSON.
fn json<T: DeserializeOwned + Default>(row: &SqliteRow, record: &str, column: &str) -> sqlx::Result<T> {
    let text: Option<String> = row.try_get(column)?;
    match text {
        Some(text) => serde_json::from_str(&text).map_err(|e| unreadable(record, column, &text, e)),
        None => Ok(T::default()),
    }
}

impl FromRow<'_, SqliteRow> for Row<Watch> {
    fn from_row(row: &SqliteRow) -> sqlx::Result<Self> {
        let id: i64 = row.try_get("id")?;
        Ok(Self(Watch {
            id,
            name: row.try_get("name")?,
            recipe_id: row.try_get("recipe_id")?,
            recipe_version: row.try_get("recipe_version")?,
            document: row.try_get("document")?,
            folder: row.try_get("folder")?,
            deep: row.try_get("deep")?,
            target: row.try_get("target")?,
            daily: row.try_get("daily")?,
            hook: row.try_get("hook")?,
            state: word(row, &format!("watched folder {id}"), "state")?,
            made: row.try_get("made")?,
            turn: row.try_get("turn")?,
            problem: row.try_get("problem")?,
        }))
    }
}

impl FromRow<'_, SqliteRow> for Row<Run> {
    fn from_row(row: &SqliteRow) -> sqlx::Result<Self> {
        let id: i64 = row.try_get("id")?;
        let record = format!("run {id}");
        Ok(Self(Run {
            id,
            recipe_id: row.try_get("recipe_id")?,
            recipe_version: row.try_get("recipe_version")?,
            recipe_name: row.try_get("recipe_name")?,
            document: row.try_get("document")?,
            shoot_id: row.try_get("shoot_id")?,
            shoot_name: row.try_get("shoot_name")?,
            base: row.try_get("base")?,
            state: word(row, &record, "state")?,
            created: row.try_get("created")?,
            started: row.try_get("started")?,
            finished: row.try_get("finished")?,
            seconds: row.try_get("seconds")?,
            place: row.try_get("place")?,
            not_before: row.try_get("not_before")?,
            stage: row.try_get("stage")?,
            most_failures: row.try_get("most_failures")?,
            reason: row.try_get("reason")?,
            held: some_word(row, &record, "held")?,
            origin: row.try_get("origin")?,
            hook: row.try_get("hook")?,
            watch_id: row.try_get("watch_id")?,
            brought: row.try_get("brought")?,
            warnings: json(row, &record, "warnings")?,
        }))
    }
}

impl FromRow<'_, SqliteRow> for Row<RunItem> {
    fn from_row(row: &SqliteRow) -> sqlx::Result<Self> {
        let (run_id, position): (i64, i64) = (row.try_get("run_id")?, row.try_get("position")?);
        let record = format!("item {} of run {run_id}", position + 1);
        Ok(Self(RunItem {
            run_id,
            position,
            source: row.try_get("source")?,
            target: row.try_get("target")?,
            more: json(row, &record, "more")?,
            state: word(row, &record, "state")?,
            kind: some_word(row, &record, "kind")?,
            reason: row.try_get("reason")?,
            outputs: json(row, &record, "outputs")?,
            source_bytes: row.try_get("source_bytes")?,
            pixels: row.try_get("pixels")?,
            seconds: row.try_get("seconds")?,
            decided: row.try_get("decided")?,
            answers: json(row, &record, "answers")?,
            worker: row.try_get("worker")?,
            lease: row.try_get("lease")?,
            tries: row.try_get("tries")?,
            ended: row.try_get("ended")?,
            task: row.try_get("task")?,
            phase: word(row, &record, "phase")?,
            measured: json(row, &record, "measured")?,
        }))
    }
}
