//! Dialogs of the bench: what they say and ask is drawn here, what they do with the picture is the page's.

use super::html;
use crate::App;
use crate::api::delivered::{Names, Renamed, Template as NameTemplate, renamed_all};
use crate::error::Result;
use crate::request::{Query, Sent};
use crate::words::{self, say};
use askama::Template;
use axum::Router;
use axum::extract::State;
use axum::response::Html;
use axum::routing::{get, post};
use schemars::JsonSchema;
use serde::Deserialize;

pub(super) fn routes() -> Router<App> {
    Router::new()
        .route("/bench/dialogs/names", get(names))
        .route("/bench/dialogs/names/told", post(names_told))
        .route("/bench/dialogs/delivered", get(delivered))
        .route("/bench/dialogs/move", get(camera_move))
}

/// Names of results, put together from pieces.
#[derive(Template)]
#[template(path = "dialogs/names.html")]
struct NamesDialog;

async fn names() -> Result<Html<String>> {
    html(&NamesDialog)
}

/// Old and new names side by side.
#[derive(Template)]
#[template(path = "dialogs/names-told.html")]
struct NamesTold {
    told: String,
    clashes: usize,
    rows: Vec<Renamed>,
}

/// Names that are shown; those that are there twice come first.
const SHOWN: usize = 500;

impl From<Names> for NamesTold {
    fn from(Names { names: mut rows, clashes }: Names) -> Self {
        let count = rows.len();
        let told = match (count, clashes, rows.iter().filter(|row| row.changed).count()) {
            (0, ..) => say("names-there-are-no-frames"),
            (_, 1.., _) => say("names-are-there-twice").with("clashes", clashes).with("count", count),
            (_, 0, 0) => say("names-each-only-once").with("count", count),
            (_, 0, cut) => say("names-each-only-once-and-cut").with("count", count).with("cut", cut),
        };
        rows.sort_by_key(|row| row.clash.is_none());
        rows.truncate(SHOWN);
        Self { told: told.into(), clashes, rows }
    }
}

async fn names_told(State(app): State<App>, Sent(asked): Sent<NameTemplate>) -> Result<Html<String>> {
    html(&NamesTold::from(renamed_all(&app, asked).await?))
}

/// A delivery's widths as they are typed.
#[derive(Deserialize, JsonSchema)]
struct Widths {
    #[serde(default)]
    widths: String,
}

/// The file as it will be, beside the same without compression.
#[derive(Template)]
#[template(path = "dialogs/delivered.html")]
struct DeliveredDialog {
    widths: Vec<String>,
}

async fn delivered(Query(Widths { widths }): Query<Widths>) -> Result<Html<String>> {
    let widths = widths.split([' ', ',', ';']).filter(|width| !width.is_empty());
    html(&DeliveredDialog { widths: widths.map(str::to_owned).collect() })
}

/// A clip's camera move.
#[derive(Template)]
#[template(path = "dialogs/move.html")]
struct MoveDialog {
    /// How it may go from mark to mark, as recipes say it, and how that is called.
    eases: [(&'static str, words::Said); 5],
}

async fn camera_move() -> Result<Html<String>> {
    html(&MoveDialog {
        eases: [
            ("even", say("move-even")),
            ("soft", say("move-soft")),
            ("soft start", say("move-soft-start")),
            ("soft end", say("move-soft-end")),
            ("flowing", say("move-flowing")),
        ],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rallo_engine::Kind;
    use rallo_recipe::delivery::VIDEO;

    fn row(old: &str, clash: Option<&str>, changed: bool) -> Renamed {
        Renamed { old: old.into(), new: "pot.jpg".into(), changed, clash: clash.map(str::to_owned) }
    }

    #[test]
    fn names_that_are_there_twice_come_first() {
        let rows = vec![row("a", None, false), row("b", Some("a"), false), row("c", None, true)];
        let told = NamesTold::from(Names { names: rows, clashes: 1 });
        assert_eq!(told.rows.iter().map(|r| r.old.as_str()).collect::<String>(), "bac");
        assert_eq!(told.told, "1 of 3 names are there twice: add a number or the old name.");
        let said = |names: Vec<Renamed>| NamesTold::from(Names { names, clashes: 0 }).told;
        assert_eq!(said(vec![row("a", None, false)]), "One name.");
        assert_eq!(said(vec![row("a", None, false), row("b", None, false)]), "2 names, each only once.");
        assert_eq!(
            said(vec![row("a", None, true), row("b", None, false)]),
            "2 names, each only once. 1 had signs that not every file system takes."
        );
        assert_eq!(said(Vec::new()), "There are no frames to try it on.");
    }

    #[tokio::test]
    async fn every_way_between_marks_has_a_name() {
        let param = VIDEO.iter().find(|param| param.name == "ease").unwrap();
        let Kind::Choice(eases) = param.kind else { panic!("it is chosen") };
        let Html(text) = camera_move().await.unwrap();
        for ease in eases {
            assert!(text.contains(&format!("<option value=\"{ease}\">")), "{ease}");
        }
        assert_eq!(text.matches("<option").count(), eases.len());
    }
}
