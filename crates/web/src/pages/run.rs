//! A run: how far it is, what it made and what failed. The page is exchanged part by part while the run works.

use super::ticket::{Piece, Ticket};
use super::{Rail, about_time, clock, clock_short, html};
use crate::App;
use crate::api::runs::{ItemEntry, RunAnswer, WorkingEntry, WrittenFile, answer, found};
use crate::error::Result;
use crate::request::{Id, Path, Query, Since};
use crate::words::{self, say};
use crate::workspace;
use askama::Template;
use axum::extract::State;
use axum::response::Html;
use rallo_job::prelude::*;
use rallo_job::{FailureKind, ItemState, Run, RunState};
use rallo_runner::queue::Event;

#[derive(Template)]
#[template(path = "run.html")]
struct RunPage {
    rail: Rail,
    ticket: Ticket,
    run: Run,
    state: Standing,
}

pub(super) async fn run(State(app): State<App>, Path(Id { id }): Path<Id>) -> Result<Html<String>> {
    let laid = workspace::laid(&app).await?;
    let run = app.store.run(id).await?;
    html(&RunPage {
        ticket: Ticket::new(&run.document, run.recipe_version)?,
        state: Standing::of(&app, &run, 0).await?,
        run,
        rail: Rail::new(&app, &laid, "run"),
    })
}

#[derive(Template)]
#[template(path = "run-answer.html")]
struct Answer {
    state: Standing,
}

/// What of the page moves, with what has ended since.
pub(super) async fn state(
    State(app): State<App>,
    Path(Id { id }): Path<Id>,
    Query(asked): Query<Since>,
) -> Result<Html<String>> {
    let run = app.store.run(id).await?;
    html(&Answer { state: Standing::of(&app, &run, asked.since).await? })
}

/// How a run stands, in words.
struct Standing {
    id: i64,
    what: String,
    place: String,
    stamp: String,
    working: String,
    found: Vec<String>,
    failed: Vec<Failed>,
    together: Vec<Together>,
    results: Vec<Picture>,
    /// When the last of these ended, to ask for those after it.
    since: i64,
    has_more: bool,
    /// Shares of the pictures, per cent.
    ended_share: f64,
    good_share: f64,
    failed_share: f64,
    /// What it asks, where it waits for a yes.
    question: Option<String>,
    is_done: bool,
    is_over: bool,
    is_running: bool,
    is_paused: bool,
    is_brought: bool,
    may_pause: bool,
    may_go_on: bool,
    may_retry: bool,
    may_undo: bool,
    has_results: bool,
    has_ended_some: bool,
}

/// A picture that failed.
struct Failed {
    position: i64,
    name: String,
    kind: String,
    reason: String,
}

/// A picture that was made.
struct Picture {
    position: i64,
    name: String,
    said: String,
}

/// Files made of all pictures.
struct Together {
    position: i64,
    title: String,
    files: Vec<Written>,
    /// Files beyond those that are named.
    more: usize,
    facts: String,
    /// What a player needs to know, as JSON, where it is a clip that is there.
    clip: Option<String>,
}

struct Written {
    name: String,
    bytes: String,
}

/// Files of all pictures that are named.
const NAMED: usize = 6;
/// What a result is skipped with once it was taken back.
const TAKEN_BACK: &str = "taken back";

impl Standing {
    async fn of(app: &App, run: &Run, since: i64) -> Result<Self> {
        let told = answer(app, run.id, since).await?;
        let p = &told.progress;
        let ended = p.ended();
        let good = p.done + p.skipped;
        let is_over = matches!(p.state, RunState::Done | RunState::Cancelled);
        // What lines found that look at all pictures: once the first picture is made, and again at the end. All items are read
        // for it, which is too much for every look.
        let is_to_be_told = since == 0 && ended > p.failed;
        let found = if is_over || is_to_be_told { found(app, run.id).await? } else { Vec::new() };
        let is_taken_back = is_over && p.done == 0 && p.skipped > 0 && is_taken_back(app, run.id).await?;
        let share = |n: f64| 100.0 * n / p.total.max(1) as f64;
        let may_retry = p.failed > 0 && matches!(p.state, RunState::Done | RunState::Paused);
        let when = run.finished.as_deref().or(run.started.as_deref()).unwrap_or_default();
        Ok(Self {
            id: run.id,
            what: if is_taken_back { say("run-taken-back").into() } else { what(&told) },
            place: if is_taken_back {
                say("run-its-results-are-gone").with("failed", could_not(p)).into()
            } else {
                place(&told)
            },
            stamp: clock_short(when),
            working: all_in_work(&told.working),
            found,
            failed: told.failed.iter().map(Failed::new).collect(),
            since: told.items.iter().map(|item| item.ended).max().unwrap_or(0).max(since),
            has_more: told.more,
            ended_share: share(ended as f64),
            good_share: share(good as f64 + p.under_way),
            failed_share: share(p.failed as f64),
            question: (p.state == RunState::Asking).then(|| p.reason.clone().unwrap_or_default()),
            is_done: p.state == RunState::Done,
            is_over,
            is_running: p.state == RunState::Running,
            is_paused: p.state == RunState::Paused,
            is_brought: told.brought,
            may_pause: matches!(p.state, RunState::Running | RunState::Waiting),
            may_go_on: p.state == RunState::Paused || (p.state == RunState::Waiting && told.at.is_some()),
            may_retry,
            may_undo: is_over && p.done > 0,
            has_results: good > 0,
            has_ended_some: ended > 0,
            together: told.items.iter().filter_map(Together::new).collect(),
            results: told.items.iter().filter_map(Picture::new).collect(),
        })
    }
}

/// Whether the results of a run that has none any more were taken back.
async fn is_taken_back(app: &App, id: i64) -> Result<bool> {
    Ok(app.store.ended_since(id, 0, 1).await?.iter().any(|item| item.reason.as_deref() == Some(TAKEN_BACK)))
}

/// Pictures that could not be made, behind another sentence; empty where all could.
fn could_not(p: &Event) -> String {
    if p.failed == 0 { String::new() } else { say("run-could-not-be-made").with("count", p.failed).into() }
}

/// The heading.
fn what(told: &RunAnswer) -> String {
    let p = &told.progress;
    let good = p.done + p.skipped;
    let at: Option<jiff::Timestamp> = told.at.as_deref().and_then(|at| at.parse().ok());
    let said = match (p.state, at) {
        (RunState::Waiting, Some(at)) if at > jiff::Timestamp::now() => {
            say("run-waiting-until").with("when", clock(told.at.as_deref().unwrap_or_default()))
        }
        (RunState::Waiting, _) => say("run-waiting-for-its-turn"),
        (RunState::Running, _) => match p.left {
            Some(left) => say("run-of-done-with-time-left").with("time", about_time(left)),
            None => say("run-of-done"),
        },
        (RunState::Paused, _) => say("run-paused-of-done"),
        (RunState::Asking, _) => say("run-waiting-for-your-yes"),
        (RunState::Done, _) if p.failed > 0 => say("run-done-of"),
        (RunState::Done, _) => say("run-all-done-of"),
        (RunState::Cancelled, _) => say("run-stopped-at"),
    };
    let seconds = format!("{:.1}", told.seconds);
    said.with("ended", p.ended()).with("good", good).with("total", p.total).with("seconds", seconds).into()
}

/// Where results go, how long each takes, and what is wrong.
fn place(told: &RunAnswer) -> String {
    let p = &told.progress;
    if let (RunState::Paused, Some(reason)) = (p.state, &p.reason) {
        return reason.clone();
    }
    let mut said = String::new();
    if p.tasks > 0 {
        said += &say("run-pictures-and-tasks")
            .with("count", p.total - p.tasks)
            .with("tasks", p.tasks)
            .to_string();
    }
    let folder = told.folder.as_deref().unwrap_or_default();
    if p.state == RunState::Running {
        if let Some(each) = p.each {
            said += &if each < QUICK {
                say("run-pictures-a-second").with("count", (1.0 / each.max(1e-6)).round() as i64).to_string()
            } else {
                say("run-seconds-a-picture").with("seconds", format!("{each:.2}")).to_string()
            };
        }
        said += &say("run-into").with("folder", folder).to_string();
        if let Some(expected) = &told.expected {
            said += &say("run-about-in-all").with("bytes", expected).to_string();
        }
    } else if p.done + p.skipped > 0 {
        let sizes = say("run-into-with-sizes").with("folder", folder);
        said += &sizes.with("after", &told.after).with("before", &told.before).to_string();
    } else {
        said += &say("run-into").with("folder", folder).to_string();
    }
    said + &could_not(p)
}

/// A picture in work. Of a long one it is told how far it is; a short one is done before that could be read.
fn in_work(one: &WorkingEntry) -> String {
    let name = one.name.as_deref().unwrap_or_default();
    match one.share {
        Some(share) if share > 0.0 => format!("{name} {:.0} %", share * 100.0),
        _ => name.to_owned(),
    }
}

/// Seconds of which nothing would be left when they are rounded.
const QUICK: f64 = 0.05;

/// Pictures in work by their names; of many the first ones.
fn all_in_work(all: &[WorkingEntry]) -> String {
    const NAMED: usize = 6;
    let names: Vec<String> = all.iter().take(NAMED).map(in_work).collect();
    let names = names.join(", ");
    match all.len().saturating_sub(NAMED) {
        0 => names,
        more => format!("{names} {}", say("any-and-more").with("more", more)),
    }
}

/// What kind of failure it was, in words; empty where its reason says it.
fn kind_words(kind: Option<FailureKind>) -> String {
    let Some(kind) = kind else { return String::new() };
    match kind {
        FailureKind::Together => say("run-made-of-all-pictures"),
        FailureKind::Gone => say("run-kind-gone"),
        FailureKind::Unreadable => say("run-cannot-be-read"),
        FailureKind::Unsupported => say("run-not-supported"),
        FailureKind::TooLarge => say("run-too-large"),
        FailureKind::NoPermissionToRead => say("run-no-permission"),
        FailureKind::Changed => say("run-changed-meanwhile"),
        FailureKind::NameTaken => say("run-name-taken"),
        FailureKind::Recipe => say("run-kind-recipe"),
        FailureKind::Inside => say("run-fault-in-the-program"),
        _ => return String::new(),
    }
    .into()
}

impl Failed {
    fn new(item: &ItemEntry) -> Self {
        Self {
            position: item.position,
            name: item.source.clone().unwrap_or_default(),
            kind: kind_words(item.kind),
            reason: item.reason.clone().unwrap_or_default(),
        }
    }
}

impl Picture {
    /// A picture with a result of its own.
    fn new(item: &ItemEntry) -> Option<Self> {
        let is_taken_back = item.reason.as_deref() == Some(TAKEN_BACK);
        if item.state == ItemState::Failed || item.task.is_some() || item.joins || is_taken_back {
            return None;
        }
        let said = if item.state == ItemState::Skipped {
            say("run-was-there-already")
        } else {
            let seconds = item.seconds.unwrap_or(0.0);
            let (text, time) = if seconds < QUICK {
                ("run-from-to-in-ms", format!("{:.0}", (seconds * 1000.0).max(1.0)))
            } else {
                ("run-from-to-in", format!("{seconds:.1}"))
            };
            say(text).with("before", &item.before).with("after", &item.after).with("seconds", time)
        };
        let name = item.target.clone().unwrap_or_default();
        Some(Self { position: item.position, name, said: said.into() })
    }
}

impl Together {
    /// Files of all pictures that are there.
    fn new(item: &ItemEntry) -> Option<Self> {
        let title = item.task?;
        let reason = item.reason.as_deref().filter(|_| item.state != ItemState::Failed);
        if item.state == ItemState::Failed || reason == Some(TAKEN_BACK) {
            return None;
        }
        let first = item.files.first();
        let clip = first.and_then(|file| file.clip.as_ref().map(|clip| (clip, &file.bytes)));
        let facts = match clip {
            Some((clip, bytes)) => clip_words(clip, bytes),
            None => first.map(|file| file.bytes.clone()).unwrap_or_default(),
        };
        let name = |file: &WrittenFile| Written {
            name: file.name.clone().unwrap_or_default(),
            bytes: file.bytes.clone(),
        };
        Some(Self {
            position: item.position,
            title: title.to_owned(),
            files: item.files.iter().take(NAMED).map(name).collect(),
            more: item.files.len().saturating_sub(NAMED),
            facts: [facts.as_str(), reason.unwrap_or_default()]
                .into_iter()
                .filter(|text| !text.is_empty())
                .collect::<Vec<_>>()
                .join(" · "),
            clip: clip.map(|(clip, _)| clip.to_string()),
        })
    }
}

/// A clip's frames, length, size and codec.
fn clip_words(clip: &serde_json::Value, bytes: &str) -> String {
    let number = |key: &str| clip[key].as_u64().unwrap_or_default();
    let seconds = (clip["seconds"].as_f64().unwrap_or_default() * 100.0).round() / 100.0;
    say("run-clip")
        .with("count", number("frames"))
        .with("seconds", seconds.to_string())
        .with("width", number("width"))
        .with("height", number("height"))
        .with("codec", clip["codec"].as_str().unwrap_or_default())
        .with("bytes", bytes)
        .into()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::api::runs::WrittenFile;
    use serde_json::json;

    fn event(state: RunState, done: i64, failed: i64, skipped: i64) -> Event {
        Event {
            run: 7,
            state,
            reason: None,
            total: 12,
            tasks: 0,
            done,
            failed,
            skipped,
            working: 0,
            each: None,
            left: None,
            under_way: 0.0,
        }
    }

    fn told(progress: Event) -> RunAnswer {
        RunAnswer {
            progress,
            items: Vec::new(),
            more: false,
            failed: Vec::new(),
            working: Vec::new(),
            before: "40 MB".into(),
            after: "3 MB".into(),
            folder: Some("Spring/web".into()),
            seconds: 8.25,
            at: None,
            expected: None,
            brought: false,
        }
    }

    #[test]
    fn of_many_pictures_in_work_the_first_are_named() {
        let of = |count: usize| {
            let entry =
                |n: usize| WorkingEntry { name: Some(format!("{n}.jpg")), share: (n == 2).then_some(0.5) };
            all_in_work(&(1..=count).map(entry).collect::<Vec<_>>())
        };
        assert_eq!([of(0), of(2)], [String::new(), "1.jpg, 2.jpg 50 %".to_owned()]);
        assert_eq!(of(6), "1.jpg, 2.jpg 50 %, 3.jpg, 4.jpg, 5.jpg, 6.jpg");
        assert_eq!(of(18), "1.jpg, 2.jpg 50 %, 3.jpg, 4.jpg, 5.jpg, 6.jpg and 12 more");
    }

    #[test]
    fn the_heading_says_how_the_run_stands() {
        use RunState::*;
        let heading = |state, done, failed, skipped| what(&told(event(state, done, failed, skipped)));
        assert_eq!(heading(Waiting, 0, 0, 0), "Waiting for its turn");
        assert_eq!(heading(Running, 3, 1, 2), "6 of 12 done");
        assert_eq!(heading(Paused, 3, 1, 2), "Paused: 6 of 12 done");
        assert_eq!(heading(Asking, 0, 0, 0), "Waiting for your yes");
        assert_eq!(heading(Done, 10, 0, 2), "All done: 12 of 12, in 8.2 seconds");
        assert_eq!(heading(Done, 10, 2, 0), "Done: 10 of 12, in 8.2 seconds");
        assert_eq!(heading(Cancelled, 4, 0, 0), "Stopped: 4 of 12 are done");
        let left = |seconds| what(&told(Event { left: Some(seconds), ..event(Running, 6, 0, 0) }));
        assert_eq!(left(0.4), "6 of 12 done, about a second left");
        assert_eq!(left(50.0), "6 of 12 done, about 50 seconds left");
        assert_eq!(left(95.0), "6 of 12 done, about 2 minutes left");
        assert_eq!(left(9000.0), "6 of 12 done, about 2.5 hours left");
        // A time that lies behind is no reason to wait.
        let at = |at: &str| what(&RunAnswer { at: Some(at.into()), ..told(event(Waiting, 0, 0, 0)) });
        assert_eq!(at("2020-01-01T00:00:00Z"), "Waiting for its turn");
        assert!(
            at("2999-05-04T12:00:00Z").starts_with("Waiting until 4 May 2999"),
            "{}",
            at("2999-05-04T12:00:00Z")
        );
    }

    #[test]
    fn below_it_stands_where_results_go_and_what_is_wrong() {
        use RunState::*;
        let running = Event { each: Some(0.256), tasks: 2, ..event(Running, 3, 1, 0) };
        let running = RunAnswer { expected: Some("9 MB".into()), ..told(running) };
        assert_eq!(
            place(&running),
            "10 pictures, and 2 made of all of them or checked. 0.26 s a picture. Into Spring/web. About 9 MB in all. 1 could not be made."
        );
        let quick = told(Event { each: Some(0.00204), ..event(Running, 3, 0, 0) });
        assert_eq!(place(&quick), "490 pictures a second. Into Spring/web.");
        assert_eq!(
            place(&told(event(Done, 12, 0, 0))),
            "Into Spring/web: 3 MB where the originals are 40 MB."
        );
        assert_eq!(place(&told(event(Waiting, 0, 0, 0))), "Into Spring/web.");
        let paused = Event { reason: Some("There is no room.".into()), ..event(Paused, 1, 0, 0) };
        assert_eq!(place(&told(paused)), "There is no room.");
    }

    fn item(state: ItemState) -> ItemEntry {
        ItemEntry {
            task: None,
            files: Vec::new(),
            joins: false,
            position: 4,
            source: Some("a.jpg".into()),
            target: Some("a-small.jpg".into()),
            state,
            kind: None,
            reason: None,
            seconds: Some(0.34),
            ended: 9,
            before: "6 MB".into(),
            after: "90 kB".into(),
        }
    }

    #[test]
    fn results_are_pictures_of_their_own_that_are_there() {
        let said = |item: &ItemEntry| Picture::new(item).map(|p| p.said);
        assert_eq!(said(&item(ItemState::Done)).as_deref(), Some("6 MB to 90 kB, 0.3 s"));
        let quick = ItemEntry { seconds: Some(0.0034), ..item(ItemState::Done) };
        assert_eq!(said(&quick).as_deref(), Some("6 MB to 90 kB, 3 ms"));
        assert_eq!(said(&item(ItemState::Skipped)).as_deref(), Some("was there already"));
        assert_eq!(said(&item(ItemState::Failed)), None);
        assert_eq!(said(&ItemEntry { joins: true, ..item(ItemState::Done) }), None);
        let back = ItemEntry { reason: Some(TAKEN_BACK.into()), ..item(ItemState::Skipped) };
        assert_eq!(said(&back), None);
        let clip = json!({"frames": 25, "seconds": 1.0, "width": 1920, "height": 1080, "codec": "H.264"});
        let file = WrittenFile { name: Some("clip.mp4".into()), bytes: "2 MB".into(), clip: Some(clip) };
        let task = ItemEntry { task: Some("clip"), files: vec![file], ..item(ItemState::Done) };
        assert_eq!(said(&task), None);
        let together = Together::new(&task).unwrap();
        assert_eq!(together.facts, "25 frames, 1 s, 1920 × 1080, H.264, 2 MB");
        assert!(together.clip.is_some() && together.more == 0);
        assert!(Together::new(&item(ItemState::Done)).is_none());
    }

    #[test]
    fn what_failed_says_what_kind_of_failure_it_was() {
        let failed = |kind| Failed::new(&ItemEntry { kind, ..item(ItemState::Failed) }).kind;
        assert_eq!(failed(Some(FailureKind::TooLarge)), "too large");
        assert_eq!(failed(Some(FailureKind::Inside)), "fault in the program");
        // Its reason says all there is to say.
        assert_eq!(failed(Some(FailureKind::Encoding)), "");
        assert_eq!(failed(None), "");
        let share = |share| in_work(&WorkingEntry { name: Some("a.jpg".into()), share });
        assert_eq!([share(None), share(Some(0.0)), share(Some(0.254))], ["a.jpg", "a.jpg", "a.jpg 25 %"]);
    }
}
