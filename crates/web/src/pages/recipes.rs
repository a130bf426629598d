//! Recipes that are kept, and the settings sheet of one.

use super::ticket::Ticket;
use super::{Rail, clock, html};
use crate::App;
use crate::error::Result;
use crate::workspace;
use askama::Template;
use axum::extract::{Path, State};
use axum::http::header;
use axum::response::{Html, IntoResponse, Response};
use rallo_recipe::{Part, Recipe};
use rallo_runner::report::settings_sheet;
use rallo_runner::schedule::{self, Class};

#[derive(Template)]
#[template(path = "recipes.html")]
struct Recipes {
    rail: Rail,
}

pub(super) async fn recipes(State(app): State<App>) -> Result<Html<String>> {
    let laid = workspace::laid(&app).await?;
    html(&Recipes { rail: Rail::new(&app, &laid, "recipes") })
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
    let about = format!("Version {}, {}", row.version, clock(&row.saved));
    let bytes = schedule::ask(Class::Sight, move || {
        let pair = frame.and_then(|f| settings_sheet::pair(&recipe, &*f.source, &f.about).ok());
        settings_sheet::settings(&recipe, &about, pair)
    })
    .await??;
    let head = [(header::CONTENT_TYPE, "application/pdf"), (header::CACHE_CONTROL, "no-store")];
    Ok((head, bytes).into_response())
}
