//! Recipes that are kept, as tickets, and the settings sheet of one.

use super::ticket::{Piece, Ticket};
use super::{Rail, clock, html};
use crate::App;
use crate::api::recipes::{VersionEntry, said_versions};
use crate::error::Result;
use crate::request::{Path, Query};
use crate::words::{self, say};
use crate::workspace;
use askama::Template;
use axum::extract::State;
use axum::http::header;
use axum::response::{Html, IntoResponse, Response};
use rallo_job::prelude::*;
use rallo_recipe::Recipe;
use rallo_runner::report::settings_sheet;
use rallo_runner::schedule::{self, Class};
use rallo_store::RecipeRow;
use std::collections::HashMap;

/// Lines that are told on a small ticket.
const LINES: usize = 5;

#[derive(Template)]
#[template(path = "recipes.html")]
struct Recipes {
    rail: Rail,
    list: RecipeList,
}

pub(super) async fn recipes(State(app): State<App>) -> Result<Html<String>> {
    let laid = workspace::laid(&app).await?;
    let list = RecipeList::new(&app, "").await?;
    html(&Recipes { rail: Rail::new(&app, &laid, "recipes"), list })
}

/// Words that a recipe has.
#[derive(serde::Deserialize)]
pub(super) struct Find {
    #[serde(default)]
    find: String,
}

/// The tickets that have all these words, to be exchanged in a page that is open.
pub(super) async fn recipe_list(State(app): State<App>, Query(find): Query<Find>) -> Result<Html<String>> {
    html(&RecipeList::new(&app, &find.find).await?)
}

#[derive(Template)]
#[template(path = "recipe-list.html")]
struct RecipeList {
    cards: Vec<RecipeCard>,
    /// Whether there are recipes at all.
    has_any: bool,
}

/// A recipe as a small ticket.
struct RecipeCard {
    id: i64,
    ticket: Ticket,
    /// Lines that are not told.
    more: usize,
    labels: Vec<String>,
    saved: String,
    /// A result of its last run.
    cover: Option<String>,
}

impl RecipeList {
    async fn new(app: &App, find: &str) -> Result<Self> {
        let words: Vec<String> = find.to_lowercase().split_whitespace().map(str::to_owned).collect();
        let rows = app.store.recipes().await?;
        let mut last_runs = HashMap::new();
        for run in app.store.runs().await? {
            if let Some(recipe) = run.recipe_id {
                last_runs.entry(recipe).or_insert(run.id);
            }
        }
        let has_any = !rows.is_empty();
        let mut cards = Vec::new();
        for row in rows {
            // What this program cannot read is found by its name alone.
            let Some(mut card) = RecipeCard::new(&row, &words) else { continue };
            if let Some(run) = last_runs.get(&row.id) {
                let latest = app.store.latest_results(*run, 1).await?;
                card.cover = latest.first().map(|at| format!("/api/runs/{run}/items/{at}/thumb"));
            }
            cards.push(card);
        }
        Ok(Self { cards, has_any })
    }
}

impl RecipeCard {
    /// The ticket of a recipe that has all these words.
    fn new(row: &RecipeRow, words: &[String]) -> Option<Self> {
        let recipe = Recipe::parse(&row.document).unwrap_or_else(|_| Recipe::new(&row.name));
        let all =
            [&recipe.name, &recipe.note, &recipe.labels.join(" "), &recipe.plain()].map(|t| t.to_lowercase());
        if !words.iter().all(|word| all.iter().any(|text| text.contains(word))) {
            return None;
        }
        let mut ticket = Ticket::of(&recipe);
        ticket.version = row.version;
        let more = ticket.lines.len().saturating_sub(LINES);
        ticket.lines.truncate(LINES);
        Some(Self { id: row.id, ticket, more, labels: recipe.labels, saved: clock(&row.saved), cover: None })
    }
}

/// One recipe with all that is kept of it.
#[derive(Template)]
#[template(path = "recipe.html")]
struct RecipePage {
    id: i64,
    ticket: Ticket,
    labels: String,
    saved: String,
    versions: Vec<VersionEntry>,
}

pub(super) async fn recipe(State(app): State<App>, Path(id): Path<i64>) -> Result<Html<String>> {
    let row = app.store.recipe(id).await?;
    let recipe = Recipe::parse(&row.document)?;
    let mut versions = said_versions(&app, id).await?;
    for version in &mut versions {
        version.saved = clock(&version.saved);
        if version.changes.is_empty() {
            version.changes.push(say("recipe-nothing-that-can-be-seen").into());
        }
    }
    let labels = recipe.labels.join(", ");
    let ticket = Ticket { version: row.version, ..Ticket::of(&recipe) };
    html(&RecipePage { id, ticket, labels, saved: clock(&row.saved), versions })
}

/// The recipe as a page to be printed.
#[derive(Template)]
#[template(path = "settings.html")]
struct Settings {
    ticket: Ticket,
    note: String,
    labels: String,
    saved: String,
    frame: i64,
    id: i64,
    token: String,
}

pub(super) async fn settings(State(app): State<App>, Path(id): Path<i64>) -> Result<Html<String>> {
    let laid = workspace::laid(&app).await?;
    let row = app.store.recipe(id).await?;
    let recipe = Recipe::parse(&row.document)?;
    html(&Settings {
        ticket: Ticket::new(&row.document, row.version)?,
        note: recipe.note.clone(),
        labels: recipe.labels.join(", "),
        saved: clock(&row.saved),
        frame: laid.desk.frame.unwrap_or(0),
        id,
        token: app.token.clone(),
    })
}

/// The same sheet as a PDF, with the pictures of the frame on the desk.
pub(super) async fn settings_pdf(State(app): State<App>, Path(id): Path<i64>) -> Result<Response> {
    let laid = workspace::laid(&app).await?;
    let row = app.store.recipe(id).await?;
    let recipe = Recipe::parse(&row.document)?;
    let frame = match laid.desk.frame {
        // A frame that cannot be opened leaves the sheet without pictures.
        Some(frame) => crate::api::bench::open(&app, frame, &recipe).await.ok(),
        None => None,
    };
    let about = say("any-version").with("version", row.version).with("saved", clock(&row.saved)).to_string();
    let bytes = schedule::ask(Class::Sight, move || {
        let pair = frame.and_then(|f| settings_sheet::pair(&recipe, &*f.source, &f.about).ok());
        settings_sheet::settings(&recipe, &about, pair)
    })
    .await??;
    let head = [(header::CONTENT_TYPE, "application/pdf"), (header::CACHE_CONTROL, "no-store")];
    Ok((head, bytes).into_response())
}
