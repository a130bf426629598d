//! The run sheet: what will run on what, and where to; anything can be put right there, for this run or for the recipe.

use super::fields::{Field, Input, Whose};
use super::ticket::{Piece, Ticket};
use super::{Rail, about_time, html};
use crate::App;
use crate::api::sheet::{
    Measured, NameEntry, ProblemEntry, RunAsked, RunCost, SheetAnswer, at_once, measured, prepare, told,
};
use crate::error::{Error, Result};
use crate::request::Sent;
use crate::words::{self, say};
use crate::workspace;
use askama::Template;
use axum::Router;
use axum::extract::State;
use axum::response::Html;
use axum::routing::{get, post};
use rallo_recipe::Recipe;
use rallo_runner::preflight::cost::Sure;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

pub(super) fn routes() -> Router<App> {
    Router::new()
        .route("/sheet", get(sheet))
        .route("/sheet/state", post(state))
        .route("/sheet/cost", post(cost))
}

#[derive(Template)]
#[template(path = "sheet.html")]
struct Sheet {
    rail: Rail,
    ticket: Ticket,
}

async fn sheet(State(app): State<App>) -> Result<Html<String>> {
    let laid = workspace::laid(&app).await?;
    let row = laid.recipe.as_ref().ok_or_else(|| Error::bad("there is no recipe"))?;
    html(&Sheet { ticket: Ticket::new(&row.document, row.version)?, rail: Rail::new(&app, &laid, "sheet") })
}

/// What the page asks for.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct Asked {
    /// What is to be run.
    run: RunAsked,
    /// What of the ticket is open.
    #[serde(default)]
    open: Option<Open>,
}

/// A part of the ticket, from 0.
#[derive(Clone, Copy, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
enum Open {
    Line(usize),
    Delivery(usize),
}

impl Open {
    /// As the page hands it back.
    fn json(self) -> String {
        serde_json::to_string(&self).unwrap_or_default()
    }
}

/// What of the page depends on what is to be run.
#[derive(Template)]
#[template(path = "sheet-state.html")]
struct SheetState {
    what: String,
    takes: String,
    place: String,
    cost: String,
    expected: Vec<String>,
    asks: Vec<Field>,
    values: Option<Values>,
    changed: Option<String>,
    may_keep: bool,
    problems: Vec<ProblemEntry>,
    groups: Vec<Group>,
    lines: Vec<Line>,
    goes: Vec<Goes>,
    has_pictures: bool,
}

/// The values of what is open.
struct Values {
    title: String,
    fields: Vec<Field>,
    /// Which delivery it is, where it is one.
    delivery: Option<usize>,
    open: String,
}

/// A line of the ticket.
struct Line {
    heads: Vec<String>,
    parts: Vec<Piece>,
    on: bool,
    is_changed: bool,
    open: String,
    label: String,
}

/// What becomes of the pictures.
struct Goes {
    parts: Vec<Piece>,
    is_changed: bool,
    open: String,
    label: String,
}

/// Files of one folder.
struct Group {
    folder: String,
    names: Vec<Name>,
}

/// A file that will be written.
struct Name {
    target: String,
    said: String,
    frame: Option<i64>,
}

impl From<NameEntry> for Name {
    fn from(entry: NameEntry) -> Self {
        let pixels = match (entry.size, entry.what) {
            (Some([width, height]), _) => format!("{width} × {height}"),
            (None, Some(what)) => what.to_owned(),
            (None, None) => say("sheet-size-unknown").into(),
        };
        let source = entry.source.unwrap_or_default();
        let said = say("sheet-of").with("pixels", pixels).with("source", source).into();
        Self { target: entry.target.unwrap_or_default(), said, frame: entry.frame }
    }
}

/// Files that follow each other and go into one folder.
fn by_folder(names: Vec<NameEntry>) -> Vec<Group> {
    let mut groups: Vec<Group> = Vec::new();
    for entry in names {
        let folder = entry.folder.clone().unwrap_or_default();
        match groups.last_mut() {
            Some(last) if last.folder == folder => last.names.push(entry.into()),
            _ => groups.push(Group { folder, names: vec![entry.into()] }),
        }
    }
    groups
}

impl Values {
    fn of(open: Open, sheet: &SheetAnswer) -> Option<Self> {
        let (title, fields, delivery) = match open {
            Open::Line(at) => {
                let line = sheet.lines.get(at)?;
                let mut fields = vec![Field::switch(at, line.on)];
                fields.extend(line.params.iter().map(|param| Field::new(Whose::Line(at), param)));
                let title = say("sheet-line").with("line", at + 1).with("title", line.title);
                (title, fields, None)
            }
            Open::Delivery(at) => {
                let params = sheet.delivery.get(at)?;
                let fields = params.iter().map(|param| Field::new(Whose::Delivery(at), param)).collect();
                (say("sheet-where-and-how"), fields, Some(at))
            }
        };
        Some(Self { title: title.into(), fields, delivery, open: open.json() })
    }
}

impl SheetState {
    fn of(sheet: SheetAnswer, recipe: &Recipe, asked: &Asked) -> Self {
        let run = &asked.run;
        let ticket = Ticket::of(recipe);
        let line = |(at, line): (usize, super::ticket::TicketLine)| Line {
            heads: line.heads,
            parts: line.parts,
            on: line.on,
            is_changed: run.answers.iter().any(|answer| answer.line == at),
            open: Open::Line(at).json(),
            label: say("sheet-values-of-line").with("line", at + 1).into(),
        };
        let goes = |(at, parts)| Goes {
            parts,
            is_changed: !run.delivery.is_empty(),
            open: Open::Delivery(at).json(),
            label: say("sheet-values-of-delivery").with("delivery", at + 1).into(),
        };
        let may_keep = !run.answers.is_empty() || !run.delivery.is_empty();
        let changed = match run.leave_out.len() {
            0 if may_keep => Some(say("sheet-changed").into()),
            0 => None,
            left => Some(say("sheet-changed-and-left-out").with("count", left).into()),
        };
        Self {
            what: say("any-so-many-pictures").with("count", sheet.count).into(),
            place: place(&sheet),
            cost: cost_at_once(sheet.cost.as_ref(), say("sheet-being-measured")),
            asks: sheet.asks.iter().map(Field::asked).collect(),
            values: asked.open.and_then(|open| Values::of(open, &sheet)),
            changed,
            may_keep,
            has_pictures: sheet.count > 0,
            lines: ticket.lines.into_iter().enumerate().map(line).collect(),
            goes: ticket.goes.into_iter().enumerate().map(goes).collect(),
            groups: by_folder(sheet.names),
            takes: sheet.takes,
            expected: sheet.expected,
            problems: sheet.problems,
        }
    }
}

fn place(sheet: &SheetAnswer) -> String {
    let folder = match sheet.folders {
        0 | 1 => sheet.folder.clone(),
        more => say("sheet-and-other-folders").with("folder", &sheet.folder).with("others", more - 1).into(),
    };
    match &sheet.free {
        Some(free) => say("sheet-into-where-is-free").with("folder", folder).with("free", free).into(),
        None => say("sheet-into").with("folder", folder).into(),
    }
}

/// What is known of time and size before anything was made, and what comes of it.
fn cost_at_once(cost: Option<&RunCost>, then: words::Said) -> String {
    let Some(cost) = cost else { return String::new() };
    let sure = match cost.sure {
        Sure::Rough => say("any-first-guess"),
        Sure::Estimated => say("sheet-estimated"),
        Sure::Learned => say("sheet-learned"),
    };
    let why = then.with("sure", String::from(sure));
    in_all(cost.seconds, &cost.bytes, cost.each.as_deref(), why)
}

/// Time and size of a run, and why they are thought so.
fn in_all(seconds: f64, bytes: &str, each: Option<&str>, why: words::Said) -> String {
    let each = each.map(|each| String::from(say("sheet-each").with("bytes", each))).unwrap_or_default();
    let all = say("sheet-in-all").with("time", about_time(seconds)).with("bytes", bytes).with("each", each);
    let text = String::from(all.with("why", String::from(why)));
    let mut letters = text.chars();
    letters.next().into_iter().flat_map(char::to_uppercase).chain(letters).collect()
}

async fn state(State(app): State<App>, Sent(asked): Sent<Asked>) -> Result<Html<String>> {
    let prepared = prepare(&app, &asked.run).await?;
    let (answer, recipe) = told(&app, prepared, &asked.run).await?;
    html(&SheetState::of(answer, &recipe, &asked))
}

/// Time and size as a few pictures took them that were made for it.
#[derive(Template)]
#[template(path = "sheet-cost.html")]
struct Cost {
    cost: String,
    problems: Vec<ProblemEntry>,
}

async fn cost(State(app): State<App>, Sent(asked): Sent<Asked>) -> Result<Html<String>> {
    let prepared = prepare(&app, &asked.run).await?;
    let found = measured(&app, &prepared).await?;
    let cost = match &found {
        Measured { is_long: true, .. } => {
            cost_at_once(at_once(&app, &prepared).as_ref(), say("sheet-corrected-while-it-runs"))
        }
        Measured { seconds: Some(seconds), bytes: Some(bytes), each, measured, .. } => {
            in_all(*seconds, bytes, each.as_deref(), say("sheet-measured-on").with("count", *measured))
        }
        _ => say("sheet-none-could-be-made").into(),
    };
    html(&Cost { cost, problems: found.room.into_iter().collect() })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn name(folder: &str, target: &str, size: Option<[u32; 2]>) -> NameEntry {
        NameEntry {
            source: Some("pot.jpg".into()),
            target: Some(target.into()),
            size,
            what: None,
            folder: Some(folder.into()),
            frame: None,
        }
    }

    #[test]
    fn names_stand_by_the_folders_they_go_into() {
        let groups = by_folder(vec![
            name("web", "a.jpg", Some([400, 225])),
            name("web", "b.jpg", None),
            name("course", "a.png", None),
        ]);
        let told: Vec<(&str, usize)> = groups.iter().map(|g| (g.folder.as_str(), g.names.len())).collect();
        assert_eq!(told, [("web", 2), ("course", 1)]);
        assert_eq!(groups[0].names[0].said, "400 × 225, of pot.jpg");
        assert_eq!(groups[0].names[1].said, "unknown, of pot.jpg");
    }

    #[test]
    fn a_cost_is_a_sentence() {
        let why = || say("sheet-measured-on").with("count", 4usize);
        assert_eq!(
            in_all(12.4, "3 MB", Some("100 kB"), why()),
            "About 12 seconds, about 3 MB in all, 100 kB each: measured on 4 of them, corrected while it runs."
        );
        assert_eq!(
            in_all(0.2, "3 MB", None, why()),
            "About a second, about 3 MB in all: measured on 4 of them, corrected while it runs."
        );
    }

    #[test]
    fn what_is_open_is_handed_back_as_it_came() {
        for (open, text) in [(Open::Line(2), r#"{"line":2}"#), (Open::Delivery(0), r#"{"delivery":0}"#)] {
            assert_eq!(open.json(), text);
            let asked: Asked = serde_json::from_str(&format!(r#"{{"run": {{}}, "open": {text}}}"#)).unwrap();
            assert_eq!(asked.open.map(Open::json), Some(text.to_owned()));
        }
    }
}
