//! `rallo queue` and `rallo worker`: the queue of the pages, from the command line. Both work on the program's own data,
//! where a running server sees what is new within a second; without one, `rallo worker` does the work.

use crate::commands::{self, Ended, print};
use crate::{Pick, QueueCommand, Worker};
use rallo_job::prelude::*;
use rallo_job::{NewRunItem, Run, RunState};
use rallo_recipe::Recipe;
use rallo_runner::preflight::{self, checks, new_run};
use rallo_runner::queue::Event;
use rallo_runner::report::Report;
use rallo_runner::{Queue, QueueOptions, now, report};
use rallo_store::Store;
use serde_json::{Value, json};
use std::path::Path;
use std::process::ExitCode;
use std::sync::Arc;
use std::time::Duration;

pub async fn store(data: &Path) -> Result<Store, String> {
    std::fs::create_dir_all(data).map_err(|e| format!("cannot use {}: {e}", data.display()))?;
    let file = data.join(rallo_store::FILE);
    Store::open(&file).await.map_err(|e| format!("cannot open {}: {e}", file.display()))
}

pub fn said(e: rallo_job::Error) -> String {
    if e.is_not_found() { "there is no run of that number".into() } else { e.to_string() }
}

pub fn runtime() -> Result<tokio::runtime::Runtime, String> {
    tokio::runtime::Runtime::new().map_err(|e| e.to_string())
}

/// `rallo worker`.
pub fn worker(args: &Worker, data: &Path) -> Ended {
    commands::log();
    runtime()?.block_on(async {
        let store = store(data).await?;
        let cores = args.workers.unwrap_or_else(commands::cores).max(1);
        let queue = Queue::start(Arc::new(store.clone()), QueueOptions::new(cores));
        let empty = async {
            loop {
                tokio::time::sleep(Duration::from_millis(200)).await;
                let open = store.open_runs().await.map_err(said)?;
                let busy = |r: &Run| r.state.is_claimable() && r.not_before.is_none();
                if args.until_empty && !open.iter().any(busy) && !queue.is_calling() {
                    return Ok::<(), String>(());
                }
            }
        };
        tokio::select! {
            done = empty => done,
            () = commands::shutdown() => Ok(()),
        }
    })?;
    Ok(ExitCode::SUCCESS)
}

/// `rallo queue …`; with `json` what is printed is that.
pub fn queue(command: &QueueCommand, json: bool, data: &Path) -> Ended {
    let tell = |run: i64, text: String| {
        if json { print(&json!({"run": run, "said": text})) } else { say(text) }
    };
    runtime()?.block_on(async {
        let store = store(data).await?;
        match command {
            QueueCommand::Add { pick, at, most_failures, then } => {
                let id = add(&store, data, pick, at.as_deref(), *most_failures, then.clone()).await?;
                tell(id, format!("Run {id} is in the queue."))
            }
            QueueCommand::List => list(&store, json).await,
            QueueCommand::Pause { run } => {
                did(store.pause_run(*run, None, None).await, *run, "is not at work")?;
                tell(*run, format!("Run {run} pauses."))
            }
            QueueCommand::GoOn { run } => {
                did(store.resume_run(*run).await, *run, "is not paused")?;
                tell(*run, format!("Run {run} goes on."))
            }
            QueueCommand::Cancel { run } => {
                did(store.cancel_run(*run, &now()).await, *run, "is over")?;
                tell(*run, format!("Run {run} is cancelled."))
            }
            QueueCommand::First { run } => {
                store.run(*run).await.map_err(said)?;
                store.move_run(*run, -2).await.map_err(said)?;
                tell(*run, format!("Run {run} comes first."))
            }
            QueueCommand::Retry { run } => {
                store.run(*run).await.map_err(said)?;
                store.retry_failed(*run, None).await.map_err(said)?;
                tell(*run, format!("Run {run} tries its failed pictures again."))
            }
            QueueCommand::Report { run, csv } => {
                let report = report::of(&store, *run).await.map_err(said)?;
                if *csv && !json {
                    print!("{}", report::table(&report));
                    return Ok(ExitCode::SUCCESS);
                }
                print(&report)
            }
            QueueCommand::Undo { run } => {
                let state = store.run(*run).await.map_err(said)?.state;
                if !state.is_over() {
                    return Err(format!("run {run} is still at work; cancel it first"));
                }
                let (gone, kept) = report::undo(&store, *run).await.map_err(said)?;
                if json {
                    return print(&json!({"run": run, "gone": gone, "kept": kept}));
                }
                for reason in &kept {
                    eprintln!("{reason}");
                }
                say(format!("{gone} results of run {run} are gone, {} stay.", kept.len()))
            }
        }
    })
}

pub fn say(text: String) -> Ended {
    println!("{text}");
    Ok(ExitCode::SUCCESS)
}

fn did(done: rallo_job::Result<bool>, run: i64, no: &str) -> Result<(), String> {
    if done.map_err(said)? { Ok(()) } else { Err(format!("run {run} {no}")) }
}

async fn add(
    store: &Store,
    data: &Path,
    pick: &Pick,
    at: Option<&str>,
    most: Option<i64>,
    then: Option<String>,
) -> Result<i64, String> {
    let at = at.map(new_run::moment).transpose().map_err(|e| format!("--at: {e}"))?;
    let (run, items) = ordered(pick, data, "command line")?;
    let run = Run { not_before: at, most_failures: most, hook: then, ..run };
    store.add_run(&run, &items).await.map_err(said)
}

/// A run of what was picked, as it is written down.
fn ordered(pick: &Pick, data: &Path, origin: &str) -> Result<(Run, Vec<NewRunItem>), String> {
    let (recipe, from, sources) = commands::picked(pick, data)?;
    let to = pick.to.as_deref().map(commands::absolute).transpose()?;
    let planning = preflight::plan(&recipe, &sources, &from, to.as_deref());
    let name = from.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    let origin = std::env::var("USER").map_or_else(|_| origin.to_owned(), |user| format!("{origin}, {user}"));
    let (run, items) =
        new_run::written(&planning, &sources, &from, &name, &origin).map_err(|e| e.to_string())?;
    let mut problems = planning.problems;
    problems.extend(checks::warnings(&recipe, &sources, &planning.pictures, &checks::About::default()));
    for problem in &problems {
        eprintln!("{}", problem.message);
    }
    Ok((Run { warnings: new_run::warned(&problems), ..run }, items))
}

/// `rallo run`: a run like any other, worked on here and at once. One that was killed goes on when it is asked for again.
pub fn run(args: &crate::Run, data: &Path) -> Ended {
    let (run, items) = ordered(&args.pick, data, "rallo run")?;
    let how = Here { workers: args.workers, quiet: args.quiet, yes: args.yes };
    let report = here(run, items, data, &how)?;
    if let Some(file) = &args.report {
        let text = serde_json::to_string_pretty(&report).map_err(|e| e.to_string())?;
        std::fs::write(file, text + "\n").map_err(|e| format!("cannot write {}: {e}", file.display()))?;
    }
    if report.state == RunState::Paused {
        let reason = report.reason.as_deref().unwrap_or_default();
        eprintln!("it is paused; the same command goes on with it. {reason}");
        return Ok(ExitCode::from(commands::FAILED));
    }
    if !args.quiet {
        println!(
            "{} done, {} failed, {} skipped in {:.1} s",
            report.done, report.failed, report.skipped, report.seconds
        );
    }
    Ok(if report.failed > 0 { ExitCode::from(commands::FAILED) } else { ExitCode::SUCCESS })
}

/// A run worked on here and at once, without a word; its report.
pub fn worked(run: Run, items: Vec<NewRunItem>, data: &Path) -> Result<Report, String> {
    here(run, items, data, &Here { workers: None, quiet: true, yes: false })
}

/// How a run is worked on here.
struct Here {
    workers: Option<usize>,
    quiet: bool,
    yes: bool,
}

fn here(run: Run, items: Vec<NewRunItem>, data: &Path, how: &Here) -> Result<Report, String> {
    let base = std::path::PathBuf::from(&run.base);
    let total = items.len() as u64;
    runtime()?.block_on(async {
        let store = store(data).await?;
        let (id, known) = match store.open_like(&run, &items).await.map_err(said)? {
            Some(id) => (id, true),
            None => (store.add_run(&run, &items).await.map_err(said)?, false),
        };
        if known && !how.quiet {
            eprintln!("run {id} was not over: it goes on");
        }
        store.resume_run(id).await.map_err(said)?;
        yes(&store, id, how.yes).await?;
        let bar = commands::bar(total, how.quiet, "{bar:30} {pos} of {len}, {eta} left  {msg}");
        tokio::select! {
            done = follow(&store, id, how, &base, &bar) => done?,
            () = commands::shutdown() => {
                store.cancel_run(id, &now()).await.map_err(said)?;
                bar.finish_and_clear();
                return Err(format!("run {id} is cancelled; what is done stays"));
            }
        }
        bar.finish_and_clear();
        report::of(&store, id).await.map_err(said)
    })
}

/// Passes the checkpoints of a run, if that was said beforehand.
async fn yes(store: &Store, id: i64, said_yes: bool) -> Result<(), String> {
    loop {
        let run = store.run(id).await.map_err(said)?;
        if run.state != RunState::Asking {
            return Ok(());
        }
        if !said_yes {
            store.cancel_run(id, &now()).await.map_err(said)?;
            let asks = run.reason.unwrap_or_default();
            return Err(format!(
                "the recipe waits for a yes. {asks}. Say --yes, or look at its pictures first: rallo queue add, then the page"
            ));
        }
        let recipe = Recipe::parse(&run.document).map_err(|e| e.to_string())?;
        let next = report::asked(&recipe, run.stage + 1);
        store.pass_run(id, run.stage, &run.document, next.as_deref()).await.map_err(said)?;
    }
}

/// Works on a run until it is over or held up; tells how far it is.
async fn follow(
    store: &Store,
    id: i64,
    how: &Here,
    base: &Path,
    bar: &indicatif::ProgressBar,
) -> Result<(), String> {
    let cores = how.workers.unwrap_or_else(commands::cores).max(1);
    let queue =
        Queue::start(Arc::new(store.clone()), QueueOptions { only: Some(id), ..QueueOptions::new(cores) });
    let mut reported = std::collections::HashSet::new();
    let mut news = queue.events();
    // A run is not asked all the time, but at once when it is told to be over.
    let mut pause = Duration::from_millis(20);
    loop {
        pause = tokio::select! {
            () = tokio::time::sleep(pause) => (pause * 2).min(Duration::from_millis(300)),
            () = over(&mut news, id) => Duration::from_millis(2),
        };
        let run = store.run(id).await.map_err(said)?;
        let state = queue.state(&run).await.map_err(said)?;
        bar.set_position(state.ended().max(0) as u64);
        if let Some(source) = store.working(id).await.map_err(said)?.first() {
            bar.set_message(short(source, base));
        }
        let failed = if state.failed > reported.len() as i64 {
            store.failed(id, i64::MAX).await.map_err(said)?
        } else {
            Vec::new()
        };
        for item in failed {
            if reported.insert(item.position) {
                let reason = item.reason.as_deref().unwrap_or("unknown reason");
                bar.suspend(|| eprintln!("{}: {reason}", short(&item.source, base)));
            }
        }
        if !run.state.is_claimable() && state.working == 0 && !queue.is_calling() {
            return Ok(());
        }
    }
}

/// Until it is told of a run that nothing of it is left to be done, or held up.
async fn over(news: &mut tokio::sync::broadcast::Receiver<Event>, id: i64) {
    use tokio::sync::broadcast::error::RecvError;
    loop {
        match news.recv().await {
            Ok(event) if event.run == id && !event.state.is_claimable() => return,
            Ok(_) | Err(RecvError::Lagged(_)) => {}
            Err(RecvError::Closed) => return std::future::pending().await,
        }
    }
}

fn short(source: &str, base: &Path) -> String {
    let path = Path::new(source);
    path.strip_prefix(base).unwrap_or(path).display().to_string()
}

async fn list(store: &Store, as_json: bool) -> Ended {
    let mut rows: Vec<Value> = Vec::new();
    for run in store.open_runs().await.map_err(said)? {
        let counts = store.counts(run.id).await.map_err(said)?;
        rows.push(json!({"run": run.id, "recipe": run.recipe_name, "state": run.state, "reason": run.reason, "total": counts.total,
            "ended": counts.done + counts.failed + counts.skipped, "failed": counts.failed, "at": run.not_before}));
    }
    if as_json {
        return print(&rows);
    }
    if rows.is_empty() {
        return say("Nothing waits.".into());
    }
    for run in &rows {
        let reason = run["reason"].as_str().map(|r| format!(". {r}")).unwrap_or_default();
        println!(
            "Run {}: {}, {} of {}, {}{reason}",
            run["run"],
            run["state"].as_str().unwrap_or_default(),
            run["ended"],
            run["total"],
            run["recipe"].as_str().unwrap_or_default()
        );
    }
    Ok(ExitCode::SUCCESS)
}
