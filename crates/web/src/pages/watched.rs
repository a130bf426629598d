//! Watched folders, each as a slip with its recipe.

use super::ticket::{Piece, Ticket};
use super::{Rail, html};
use crate::App;
use crate::api::watches::{WatchEntry, entries};
use crate::error::Result;
use crate::words;
use crate::workspace;
use askama::Template;
use axum::extract::State;
use axum::response::Html;
use rallo_job::WatchState;
use rallo_job::prelude::*;

/// Lines of a recipe that are told on a slip.
const LINES: usize = 5;

#[derive(Template)]
#[template(path = "watched.html")]
struct Watched {
    rail: Rail,
    list: WatchList,
}

pub(super) async fn watched(State(app): State<App>) -> Result<Html<String>> {
    let laid = workspace::laid(&app).await?;
    html(&Watched { rail: Rail::new(&app, &laid, "watched"), list: WatchList::new(&app).await? })
}

/// How they stand now, to be exchanged in a page that is open.
pub(super) async fn watch_list(State(app): State<App>) -> Result<Html<String>> {
    html(&WatchList::new(&app).await?)
}

#[derive(Template)]
#[template(path = "watch-list.html")]
struct WatchList {
    slips: Vec<WatchSlip>,
}

struct WatchSlip {
    watch: WatchEntry,
    ticket: Ticket,
    /// Lines that are not told.
    more: usize,
}

impl WatchSlip {
    fn is_paused(&self) -> bool {
        self.watch.state == WatchState::Paused
    }

    /// The newest version of its recipe, where it works by an older one.
    fn newer(&self) -> Option<i64> {
        self.watch.newest.filter(|n| *n != self.watch.version)
    }
}

impl WatchList {
    async fn new(app: &App) -> Result<Self> {
        let documents = app.store.watches().await?;
        let mut slips = Vec::new();
        for watch in entries(app).await? {
            let Some(kept) = documents.iter().find(|w| w.id == watch.id) else { continue };
            let mut ticket = Ticket::new(&kept.document, kept.recipe_version)?;
            let more = ticket.lines.len().saturating_sub(LINES);
            ticket.lines.truncate(LINES);
            slips.push(WatchSlip { watch, ticket, more });
        }
        Ok(Self { slips })
    }
}
