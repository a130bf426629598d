//! `rallo queue` and `rallo worker`: the queue of the pages, from the command line. Both work on the program's own data,
//! where a running server sees what is new within a second; without one, `rallo worker` does the work.

use crate::commands::{self, Ended, print};
use crate::{Pick, QueueCommand, Worker};
use rallo_recipe::Recipe;
use rallo_runner::{Limits, Queue, now, report, targets};
use rallo_store::{NewItem, Run, Store};
use serde_json::{Value, json};
use std::path::Path;
use std::process::ExitCode;
use std::time::Duration;

async fn store(data: &Path) -> Result<Store, String> {
    std::fs::create_dir_all(data).map_err(|e| format!("cannot use {}: {e}", data.display()))?;
    let file = data.join("rallo.sqlite");
    Store::open(&file).await.map_err(|e| format!("cannot open {}: {e}", file.display()))
}

fn said(e: rallo_store::Error) -> String {
    if e.to_string().contains("no rows") { "there is no run of that number".into() } else { e.to_string() }
}

fn runtime() -> Result<tokio::runtime::Runtime, String> {
    tokio::runtime::Runtime::new().map_err(|e| e.to_string())
}

/// `rallo worker`.
pub fn worker(args: &Worker, data: &Path) -> Ended {
    commands::log();
    runtime()?.block_on(async {
        let store = store(data).await?;
        let cores = args.workers.unwrap_or_else(commands::cores).max(1);
        let _queue = Queue::start(store.clone(), cores, Limits::default(), None);
        let empty = async {
            loop {
                tokio::time::sleep(Duration::from_millis(200)).await;
                let open = store.open_runs().await.map_err(said)?;
                let busy =
                    |r: &Run| matches!(r.state.as_str(), "waiting" | "running") && r.not_before.is_none();
                if args.until_empty && !open.iter().any(busy) {
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

/// `rallo queue …`.
pub fn queue(command: &QueueCommand, data: &Path) -> Ended {
    runtime()?.block_on(async {
        let store = store(data).await?;
        match command {
            QueueCommand::Add { pick, at, most_failures, then, json } => {
                let id = add(&store, pick, at.as_deref(), *most_failures, then.clone()).await?;
                if *json { print(&json!({"run": id})) } else { say(format!("Run {id} is in the queue.")) }
            }
            QueueCommand::List { json } => list(&store, *json).await,
            QueueCommand::Pause { run } => {
                did(store.pause_run(*run, None, None).await, *run, "pauses", "is not at work")
            }
            QueueCommand::GoOn { run } => did(store.resume_run(*run).await, *run, "goes on", "is not paused"),
            QueueCommand::Cancel { run } => {
                did(store.cancel_run(*run, &now()).await, *run, "is cancelled", "is over")
            }
            QueueCommand::First { run } => {
                store.move_run(*run, -2).await.map_err(said)?;
                say(format!("Run {run} comes first."))
            }
            QueueCommand::Retry { run } => {
                store.retry_failed(*run, None).await.map_err(said)?;
                say(format!("Run {run} tries its failed pictures again."))
            }
            QueueCommand::Report { run, csv } => {
                let report = report::of(&store, *run).await.map_err(said)?;
                if *csv {
                    print!("{}", report::table(&report));
                    return Ok(ExitCode::SUCCESS);
                }
                print(&report)
            }
            QueueCommand::Undo { run } => {
                let state = store.run(*run).await.map_err(said)?.state;
                if state != "done" && state != "cancelled" {
                    return Err(format!("run {run} is still at work; cancel it first"));
                }
                let (gone, kept) = report::undo(&store, *run).await.map_err(said)?;
                for one in &kept {
                    eprintln!("{one}");
                }
                say(format!("{gone} results of run {run} are gone, {} stay.", kept.len()))
            }
        }
    })
}

fn say(text: String) -> Ended {
    println!("{text}");
    Ok(ExitCode::SUCCESS)
}

fn did(done: rallo_store::Result<bool>, run: i64, yes: &str, no: &str) -> Ended {
    if done.map_err(said)? { say(format!("Run {run} {yes}.")) } else { Err(format!("run {run} {no}")) }
}

async fn add(
    store: &Store,
    pick: &Pick,
    at: Option<&str>,
    most: Option<i64>,
    then: Option<String>,
) -> Result<i64, String> {
    let at: Option<jiff::Timestamp> = match at {
        Some(text) => Some(
            text.parse()
                .map_err(|_| format!("--at: expected a time such as 2026-05-04T22:00:00Z, got {text}"))?,
        ),
        None => None,
    };
    let (recipe, from, sources) = commands::picked(pick)?;
    let to = pick.to.as_deref().map(commands::absolute).transpose()?;
    let (planned, problems) = targets::plan(&recipe, &sources, &from, to.as_deref());
    if let Some(problem) = problems.iter().find(|p| p.stops) {
        return Err(problem.message.clone());
    }
    let items: Vec<NewItem> = planned
        .iter()
        .zip(&sources)
        .map(|(p, s)| NewItem {
            source: p.source.to_string_lossy().into_owned(),
            target: p.target.to_string_lossy().into_owned(),
            bytes: p.source.metadata().map_or(0, |m| m.len() as i64),
            pixels: s.facts.as_ref().map_or(0, |f| i64::from(f.width) * i64::from(f.height)),
            decided: serde_json::to_string(&s.decided).unwrap_or_else(|_| "{}".into()),
        })
        .collect();
    let asks = report::asked(&recipe, 0);
    let run = Run {
        recipe_version: 1,
        document: recipe.to_value().to_string(),
        shoot_name: from.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default(),
        base: from.to_string_lossy().into_owned(),
        state: if asks.is_some() { "asking".into() } else { "waiting".into() },
        reason: asks,
        created: now(),
        not_before: at.map(|t| t.strftime("%Y-%m-%dT%H:%M:%SZ").to_string()),
        most_failures: most,
        origin: "command line".into(),
        hook: then,
        ..Run::default()
    };
    store.add_run(&run, &items).await.map_err(said)
}

async fn list(store: &Store, as_json: bool) -> Ended {
    let mut all: Vec<Value> = Vec::new();
    for run in store.open_runs().await.map_err(said)? {
        let counts = store.counts(run.id).await.map_err(said)?;
        let name = Recipe::parse(&run.document).map(|r| r.name).unwrap_or_default();
        all.push(json!({"run": run.id, "recipe": name, "state": run.state, "reason": run.reason, "total": counts.total,
            "ended": counts.done + counts.failed + counts.skipped, "failed": counts.failed, "at": run.not_before}));
    }
    if as_json {
        return print(&all.into());
    }
    if all.is_empty() {
        return say("Nothing waits.".into());
    }
    for run in &all {
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
