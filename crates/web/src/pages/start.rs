//! The first page: shoots to go on with, folders that could be opened, recipes to start from.

use super::ticket::{Piece, Ticket};
use super::{Rail, html};
use crate::App;
use crate::api::folders::picture_address;
use crate::error::Result;
use crate::words::{self, say};
use crate::workspace;
use askama::Template;
use axum::extract::State;
use axum::response::Html;
use jiff::civil::Date;
use rallo_job::prelude::*;
use rallo_media::equipment::EQUIPMENT;
use rallo_recipe::starters;
use rallo_runner::library::openable::{Openable, openable};
use std::collections::HashSet;
use std::path::PathBuf;

/// Cards of shoots and folders that are shown.
const CARDS: usize = 8;

#[derive(Template)]
#[template(path = "start.html")]
pub(super) struct Start {
    rail: Rail,
    cards: Vec<Card>,
    tickets: Vec<Ticket>,
    /// Whether a run has ended here before: then nobody needs to be told what people do here.
    is_known: bool,
    missing: usize,
}

/// Something to open.
struct Card {
    name: String,
    said: String,
    cover: String,
    opens: Opens,
}

/// What a card opens, as the interface takes it.
#[derive(serde::Serialize)]
#[serde(rename_all = "lowercase")]
enum Opens {
    Shoot(i64),
    Document(PathBuf),
    Places(Vec<rallo_shoot::document::Place>),
}

impl Opens {
    fn json(&self) -> String {
        serde_json::to_string(self).unwrap_or_default()
    }
}

pub(super) async fn start(State(app): State<App>) -> Result<Html<String>> {
    let laid = workspace::laid(&app).await?;
    let mut shoots = app.store.shoots().await?;
    shoots.sort_by(|a, b| b.scanned.cmp(&a.scanned));
    let mut known = HashSet::new();
    let mut cards = Vec::new();
    for shoot in &shoots {
        known.extend(app.store.folders_of_shoot(shoot.id).await?.into_iter().map(|f| PathBuf::from(f.path)));
        if cards.len() < CARDS {
            cards.extend(of_shoot(&app, shoot.id, &shoot.name).await?);
        }
    }
    let (roots, room) = (app.roots.clone(), CARDS - cards.len());
    let found =
        tokio::task::spawn_blocking(move || openable(&roots, &|path| known.contains(path), room)).await?;
    cards.extend(found.into_iter().map(Card::from));
    let runs = app.store.runs().await?;
    let tickets = starters().iter().map(Ticket::of).collect();
    let is_known = runs.iter().any(|r| r.state.is_over());
    let missing = EQUIPMENT.iter().filter(|e| !e.is_there()).count();
    html(&Start { rail: Rail::new(&app, &laid, "start"), cards, tickets, is_known, missing })
}

/// A card for a shoot that is known; none where nothing of it is left.
async fn of_shoot(app: &App, id: i64, name: &str) -> Result<Option<Card>> {
    let summary = app.store.shoot_summary(id).await?;
    let Some((cover, stamp)) = summary.cover else { return Ok(None) };
    Ok(Some(Card {
        name: name.to_owned(),
        said: say("start-opened-before").with("count", summary.frames as usize).into(),
        cover: format!("/api/frames/{cover}/thumb?edge=400&s={stamp}"),
        opens: Opens::Shoot(id),
    }))
}

impl From<Openable> for Card {
    fn from(found: Openable) -> Self {
        let mut said = pictures(found.pictures);
        if let Some((first, last)) = found.days {
            said = format!("{said}, {}", days(first, last));
        }
        Self {
            name: found.name,
            said,
            cover: picture_address(&found.cover),
            opens: match found.document {
                Some(file) => Opens::Document(file),
                None => Opens::Places(found.places),
            },
        }
    }
}

pub(super) fn pictures(count: usize) -> String {
    say("any-so-many-pictures").with("count", count).into()
}

/// A span of days as people say it: `3 May 2026`, `3 to 24 May 2026`, `30 April to 2 May 2026`.
pub(super) fn days(first: Date, last: Date) -> String {
    let whole = |d: Date| d.strftime("%-d %B %Y").to_string();
    let early = match (first.year() == last.year(), first.month() == last.month()) {
        _ if first == last => return whole(first),
        (true, true) => first.day().to_string(),
        (true, false) => first.strftime("%-d %B").to_string(),
        (false, _) => whole(first),
    };
    say("start-from-day-to-day").with("early", early).with("last", whole(last)).into()
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;

    #[test]
    fn days_are_said_as_short_as_they_are_clear() {
        assert_eq!(days(date(2026, 5, 3), date(2026, 5, 3)), "3 May 2026");
        assert_eq!(days(date(2026, 5, 3), date(2026, 5, 24)), "3 to 24 May 2026");
        assert_eq!(days(date(2026, 4, 30), date(2026, 5, 2)), "30 April to 2 May 2026");
        assert_eq!(days(date(2025, 12, 30), date(2026, 1, 2)), "30 December 2025 to 2 January 2026");
        assert_eq!((pictures(1), pictures(26)), ("1 picture".into(), "26 pictures".into()));
    }
}
