//! The queue: runs as slips that hang on the rail, the one in work filling with its results; and what is done.

use super::ticket::{Piece, Ticket};
use super::{Rail, clock_short, html};
use crate::App;
use crate::error::Result;
use crate::request::Query;
use crate::words::{self, say};
use crate::workspace;
use askama::Template;
use axum::extract::State;
use axum::response::Html;
use rallo_job::prelude::*;
use rallo_job::{Run, RunState};
use rallo_media::bytes_text;
use rallo_runner::preflight::estimate::seconds_text;
use rallo_runner::queue::{Event, Helper};

/// Results that are shown on the slip of the run in work.
const RESULTS: i64 = 8;

/// Lines of a recipe that are told on a slip.
const LINES: usize = 6;

/// Runs that are done on one page.
const DONE: usize = 24;

#[derive(Template)]
#[template(path = "runs.html")]
pub(super) struct Runs {
    rail: Rail,
    queue: Queue,
    machines: Machines,
    done: Vec<DoneRun>,
    /// The number of the last one shown, where there are earlier ones.
    earlier: Option<i64>,
}

/// From which run on.
#[derive(serde::Deserialize)]
pub(super) struct From {
    /// Only those before this one.
    before: Option<i64>,
}

pub(super) async fn runs(State(app): State<App>, Query(from): Query<From>) -> Result<Html<String>> {
    let laid = workspace::laid(&app).await?;
    let before = from.before.unwrap_or(i64::MAX);
    let over = app.store.runs().await?.into_iter().filter(|r| r.state.is_over() && r.id < before);
    let mut over: Vec<Run> = over.take(DONE + 1).collect();
    let has_more = over.len() > DONE;
    over.truncate(DONE);
    let earlier = over.last().filter(|_| has_more).map(|r| r.id);
    let mut done = Vec::new();
    for run in over {
        done.push(DoneRun::new(&app, run).await?);
    }
    let queue = Queue::new(&app).await?;
    html(&Runs { rail: Rail::new(&app, &laid, "queue"), queue, machines: Machines::new(&app), done, earlier })
}

/// The slips as they hang now, to be exchanged in a page that is open.
pub(super) async fn queue(State(app): State<App>) -> Result<Html<String>> {
    html(&Queue::new(&app).await?)
}

#[derive(Template)]
#[template(path = "queue.html")]
struct Queue {
    slips: Vec<Slip>,
}

/// A run that is not over.
struct Slip {
    id: i64,
    ticket: Ticket,
    /// Lines that are not told.
    more: usize,
    frames_of: String,
    progress: Event,
    /// Where it stands, as one plain statement.
    stands: String,
    /// A word on where it stands, beside its frames.
    word: String,
    share: f64,
    /// Places of the results made last, the newest first.
    results: Vec<i64>,
    is_first: bool,
    is_last: bool,
    /// Whether it waits for a time that was given.
    is_later: bool,
}

impl Slip {
    /// A text that changes when more than its progress has.
    fn key(&self) -> String {
        let Self { progress: p, is_first, is_last, is_later, .. } = self;
        format!("{} {is_first} {is_last} {is_later} {}", p.state, p.reason.as_deref().unwrap_or_default())
    }

    fn at_work(&self) -> bool {
        self.progress.state == RunState::Running
    }
}

impl Queue {
    async fn new(app: &App) -> Result<Self> {
        let runs = app.store.open_runs().await?;
        let last = runs.len().saturating_sub(1);
        let mut slips = Vec::new();
        for (i, run) in runs.into_iter().enumerate() {
            let progress = app.queue.state(&run).await?;
            let mut ticket = Ticket::new(&run.document, run.recipe_version)?;
            let more = ticket.lines.len().saturating_sub(LINES);
            ticket.lines.truncate(LINES);
            let results = match progress.done {
                0 => Vec::new(),
                _ => app.store.latest_results(run.id, RESULTS).await?,
            };
            let ended = progress.ended() as f64 + progress.under_way;
            slips.push(Slip {
                id: run.id,
                ticket,
                more,
                stands: stands(&progress, &run, i == 0),
                word: word(progress.state),
                share: 100.0 * ended / (progress.total.max(1) as f64),
                results,
                is_first: i == 0,
                is_last: i == last,
                is_later: progress.state == RunState::Waiting && is_later(&run),
                frames_of: run.shoot_name,
                progress,
            });
        }
        Ok(Self { slips })
    }
}

fn is_later(run: &Run) -> bool {
    let at: Option<jiff::Timestamp> = run.not_before.as_deref().and_then(|t| t.parse().ok());
    at.is_some_and(|at| at > jiff::Timestamp::now())
}

fn word(state: RunState) -> String {
    match state {
        RunState::Running => say("queue-at-work").into(),
        RunState::Paused => say("queue-paused").into(),
        _ => String::new(),
    }
}

fn stands(p: &Event, run: &Run, is_next: bool) -> String {
    let (ended, total) = (p.ended(), p.total);
    let said = match p.state {
        RunState::Running => match p.left {
            Some(left) => say("queue-of-with-time-left").with("time", about(left)),
            None => say("queue-of"),
        }
        .with("ended", ended)
        .with("total", total),
        RunState::Paused => say("queue-paused-at").with("ended", ended).with("total", total),
        RunState::Asking => say("queue-waits-for-your-yes"),
        _ if is_later(run) => {
            say("queue-begins").with("when", clock_short(run.not_before.as_deref().unwrap_or_default()))
        }
        _ if is_next => say("queue-next-in-turn"),
        _ => say("queue-waits-for-its-turn"),
    };
    said.into()
}

/// A time that is left, as people say it.
fn about(seconds: f64) -> String {
    match seconds {
        s if s < 90.0 => say("queue-seconds").with("count", s.ceil() as u64).into(),
        s if s < 5400.0 => say("queue-minutes").with("count", (s / 60.0).round() as u64).into(),
        s => say("queue-hours").with("hours", format!("{:.1}", s / 3600.0)).into(),
    }
}

/// A run that is over.
struct DoneRun {
    id: i64,
    name: String,
    when: String,
    /// Where its picture is.
    cover: String,
    said: String,
    has_failed: bool,
}

impl DoneRun {
    async fn new(app: &App, run: Run) -> Result<Self> {
        let counts = app.store.counts(run.id).await?;
        let (before, after) = app.store.bytes(run.id).await?;
        let latest = app.store.latest_results(run.id, 1).await?;
        let cover = match latest.first() {
            Some(position) => format!("/api/runs/{}/items/{position}/thumb", run.id),
            None => format!("/api/runs/{}/items/0/original", run.id),
        };
        let good = counts.done + counts.skipped;
        let mut said: String = match (run.state, counts.failed) {
            (RunState::Cancelled, _) => say("runs-stopped-at"),
            (_, 0) => say("runs-so-many-done"),
            (_, n) => say("runs-so-many-done-and-failed").with("failed", n),
        }
        .with("good", good)
        .with("total", counts.total)
        .into();
        said += &format!(", {}", seconds_text(run.seconds));
        if after > 0 {
            let (before, after) = (bytes_text(before as u64), bytes_text(after as u64));
            said += &say("runs-from-bytes-to-bytes").with("before", before).with("after", after).to_string();
        }
        let when = run.finished.as_deref().or(run.started.as_deref()).unwrap_or(&run.created);
        Ok(Self {
            id: run.id,
            when: clock_short(when),
            name: run.recipe_name,
            cover,
            said,
            has_failed: counts.failed > 0,
        })
    }
}

/// Other machines that make pictures of runs.
#[derive(Template)]
#[template(path = "machines.html")]
pub(super) struct Machines {
    broker: Option<String>,
    helpers: Vec<Helper>,
    /// Pictures are left to them, and none takes any.
    waits: bool,
}

impl Machines {
    fn new(app: &App) -> Self {
        let helpers = app.queue.helpers();
        let waits = app.queue.waits_for_helpers();
        Self { broker: helpers.address(), helpers: helpers.helpers(), waits }
    }
}

/// How they stand now, to be exchanged in a page that is open.
pub(super) async fn machines(State(app): State<App>) -> Result<Html<String>> {
    html(&Machines::new(&app))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn time_left_is_said_in_the_unit_people_think_in() {
        assert_eq!([0.4, 89.0, 95.0, 5399.0, 9000.0].map(about), ["1 s", "89 s", "2 min", "90 min", "2.5 h"]);
    }
}
