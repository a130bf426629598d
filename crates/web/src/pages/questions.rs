//! What people are asked: by a recipe when it starts, and by a run that waits for a yes.

use super::fields::{Field, Input};
use super::html;
use crate::App;
use crate::api::recipes::asked;
use crate::api::runs::{WaitingItem, question};
use crate::error::Result;
use crate::request::{Id, Path};
use crate::words;
use askama::Template;
use axum::Router;
use axum::extract::State;
use axum::response::Html;
use axum::routing::get;
use rallo_recipe::Recipe;
use serde_json::json;

pub(super) fn routes() -> Router<App> {
    Router::new().route("/recipes/{id}/asks", get(asks)).route("/runs/{id}/question", get(checkpoint))
}

/// What a recipe asks; nothing where it asks nothing.
#[derive(Template)]
#[template(path = "asks.html")]
struct Asks {
    fields: Vec<Field>,
}

async fn asks(State(app): State<App>, Path(Id { id }): Path<Id>) -> Result<Html<String>> {
    let row = app.store.recipe(id).await?;
    let recipe = Recipe::parse(&row.document)?;
    html(&Asks { fields: asked(&recipe).iter().map(Field::asked).collect() })
}

/// What a run asks that waits for a yes.
#[derive(Template)]
#[template(path = "checkpoint.html")]
struct Checkpoint {
    stage: i64,
    line: usize,
    what: String,
    pictures: Vec<Picture>,
    fields: Vec<Field>,
}

/// A picture that waits.
struct Picture {
    position: i64,
    name: String,
    /// Values it was given already, as the page hands them back.
    answers: String,
}

impl From<WaitingItem> for Picture {
    fn from(item: WaitingItem) -> Self {
        let answers: Vec<_> = item
            .answers
            .into_iter()
            .map(|(line, param, value)| json!({"line": line, "param": param, "value": value}))
            .collect();
        Self {
            position: item.position,
            name: item.name.unwrap_or_default(),
            answers: serde_json::Value::from(answers).to_string(),
        }
    }
}

async fn checkpoint(State(app): State<App>, Path(Id { id }): Path<Id>) -> Result<Html<String>> {
    let told = question(&app, id).await?;
    html(&Checkpoint {
        stage: told.stage,
        line: told.line + 1,
        what: told.what,
        pictures: told.items.into_iter().map(Picture::from).collect(),
        fields: told.values.iter().map(|v| Field::of_line(v.line, v.title, &v.param)).collect(),
    })
}
