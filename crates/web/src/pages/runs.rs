//! A run's report and what lies in its folder.

use super::ticket::{Piece, Ticket};
use super::{Rail, clock, html};
use crate::App;
use crate::error::{Error, Result};
use crate::words::{self, say};
use crate::workspace;
use askama::Template;
use axum::extract::{Path, State};
use axum::response::Html;
use rallo_job::ItemState;
use rallo_job::prelude::*;
use rallo_media::bytes_text;
use rallo_runner::report;

/// A run's report as a page to be printed.
#[derive(Template)]
#[template(path = "report.html")]
struct RunReport {
    id: i64,
    ticket: Ticket,
    frames_of: String,
    when: String,
    words: String,
    warnings: Vec<String>,
    origin: String,
    rows: Vec<ReportRow>,
    /// Whether other machines have helped.
    has_helpers: bool,
}

struct ReportRow {
    source: String,
    result: String,
    reason: String,
    size: String,
    before: String,
    after: String,
    seconds: String,
    /// The machine that made it, where another one did.
    made_by: String,
}

pub(super) async fn run_report(State(app): State<App>, Path(id): Path<i64>) -> Result<Html<String>> {
    let run = app.store.run(id).await?;
    let counts = app.store.counts(id).await?;
    let name = |path: &str| {
        std::path::Path::new(path).file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default()
    };
    let row = |item: rallo_job::RunItem| {
        let outputs = &item.outputs;
        let first = outputs.first();
        let reason = if item.state == ItemState::Done {
            String::new()
        } else {
            item.reason.unwrap_or(item.state.to_string())
        };
        ReportRow {
            source: name(&item.source),
            result: first.map(|o| name(&o.path.to_string_lossy())).unwrap_or_default(),
            reason,
            size: first.map(|o| format!("{} × {}", o.width, o.height)).unwrap_or_default(),
            before: bytes_text(item.source_bytes as u64),
            after: first.map(|o| bytes_text(o.bytes)).unwrap_or_default(),
            made_by: first.and_then(|o| o.made_by.clone()).unwrap_or_default(),
            seconds: item.seconds.map(|s| format!("{s:.1}")).unwrap_or_default(),
        }
    };
    let (before, after) = app.store.bytes(id).await?;
    let (before, after) = (bytes_text(before as u64), bytes_text(after as u64));
    let words = format!(
        "{} of {} pictures made, {} were there already, {} failed, in {:.1} seconds. {after} where the originals are {before}.",
        counts.done, counts.total, counts.skipped, counts.failed, run.seconds
    );
    let items = app.store.items(id).await?;
    let mut warnings = run.warnings.clone();
    warnings.extend(report::found(&run.document, &items));
    html(&RunReport {
        id,
        ticket: Ticket::new(&run.document, run.recipe_version)?,
        warnings,
        origin: run.origin,
        frames_of: run.shoot_name,
        when: clock(run.finished.as_deref().or(run.started.as_deref()).unwrap_or(&run.created)),
        words,
        has_helpers: items.iter().flat_map(|i| &i.outputs).any(|o| o.made_by.is_some()),
        rows: items.into_iter().map(row).collect(),
    })
}

/// What lies in the folder a run wrote into.
#[derive(Template)]
#[template(path = "listing.html")]
struct Listing {
    rail: Rail,
    id: i64,
    folder: String,
    more: usize,
    rows: Vec<ListingRow>,
}

struct ListingRow {
    name: String,
    bytes: String,
    when: String,
    /// Place in the run of what it wrote.
    made: Option<i64>,
}

/// Files that are listed.
const LISTED: usize = 5000;

pub(super) async fn run_folder(State(app): State<App>, Path(id): Path<i64>) -> Result<Html<String>> {
    let laid = workspace::laid(&app).await?;
    let target = app.store.first_target(id).await?.ok_or_else(|| Error::bad("this run has no pictures"))?;
    let folder = std::path::Path::new(&target).parent().unwrap_or(std::path::Path::new("/")).to_owned();
    let folder = app.roots.existing(&folder)?;
    let made: std::collections::HashMap<_, _> = app
        .store
        .items(id)
        .await?
        .into_iter()
        .filter(|i| i.state == ItemState::Done)
        .flat_map(|i| i.outputs.clone().into_iter().map(move |o| (o.path, i.position)))
        .collect();
    let short = app.roots.short(&folder);
    let (rows, more) =
        tokio::task::spawn_blocking(move || listed(&folder, &made)).await?.map_err(Error::bad)?;
    html(&Listing { rail: Rail::new(&app, &laid, "run"), id, folder: short, more, rows })
}

fn listed(
    folder: &std::path::Path,
    made: &std::collections::HashMap<std::path::PathBuf, i64>,
) -> std::io::Result<(Vec<ListingRow>, usize)> {
    let mut rows = Vec::new();
    for entry in std::fs::read_dir(folder)?.flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        let Ok(about) = entry.metadata() else { continue };
        if name.starts_with('.') {
            continue;
        }
        let when = about.modified().ok().and_then(|t| jiff::Timestamp::try_from(t).ok());
        rows.push(ListingRow {
            bytes: if about.is_dir() { say("listing-folder").into() } else { bytes_text(about.len()) },
            when: when.map(|t| clock(&t.to_string())).unwrap_or_default(),
            made: made.get(&folder.join(&name)).copied(),
            name,
        });
    }
    rows.sort_by_cached_key(|r| rallo_shoot::natural_key(&r.name));
    let more = rows.len().saturating_sub(LISTED);
    rows.truncate(LISTED);
    Ok((rows, more))
}
