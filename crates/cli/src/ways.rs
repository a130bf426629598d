//! `rallo watch`, `rallo token` and `rallo passphrase`.

use crate::commands::{self, Ended, print};
use crate::queue::{runtime, said, say, store};
use crate::{TokenCommand, WatchCommand};
use rallo_job::prelude::*;
use rallo_job::{Watch, WatchState};
use rallo_runner::library::watch_folder as watches;
use rallo_web::auth;
use serde_json::{Value, json};
use std::io::{IsTerminal, Read};
use std::path::Path;

/// `rallo watch …`.
pub fn watch(command: &WatchCommand, data: &Path) -> Ended {
    runtime()?.block_on(async {
        let store = store(data).await?;
        let did = |done: bool, watch: i64, what: &str| {
            if done {
                say(format!("Watched folder {watch} {what}."))
            } else {
                Err("there is none of that number".into())
            }
        };
        match command {
            WatchCommand::Add { recipe, folder, deep, to, name, daily, answers, then, json } => {
                let recipe = commands::with_answers(recipe, answers)?;
                if let Some((line, param, _)) = recipe.asks().first()
                    && answers.is_empty()
                {
                    return Err(format!(
                        "the recipe asks for {} of line {}: say it with --set",
                        param.name,
                        line + 1
                    ));
                }
                let folder = commands::absolute(folder)?;
                let folder_name =
                    folder.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
                let to = to.as_deref().map(commands::absolute).transpose()?;
                let mut watch = Watch {
                    name: name.clone().unwrap_or(folder_name),
                    recipe_version: 1,
                    document: recipe.to_value().to_string(),
                    folder: folder.to_string_lossy().into_owned(),
                    deep: *deep,
                    target: to.map(|t| t.to_string_lossy().into_owned()),
                    daily: daily.clone(),
                    hook: then.clone(),
                    ..Watch::default()
                };
                watches::check(&mut watch, None).map_err(|e| e.to_string())?;
                let id = store.save_watch(&watch).await.map_err(said)?;
                if *json {
                    print(&json!({"watch": id}))
                } else {
                    say(format!("Watched folder {id} is set up."))
                }
            }
            WatchCommand::List { json } => {
                let mut rows = Vec::new();
                for w in store.watches().await.map_err(said)? {
                    let arrived = store.arrivals(w.id).await.map_err(said)?.len();
                    rows.push(json!({"watch": w.id, "name": w.name, "folder": w.folder, "state": w.state,
                        "daily": w.daily, "arrived": arrived, "problem": w.problem}));
                }
                if *json {
                    return print(&rows);
                }
                if rows.is_empty() {
                    return say("Nothing is watched.".into());
                }
                let text = |v: &Value| v.as_str().unwrap_or_default().to_owned();
                for w in &rows {
                    let problem = w["problem"].as_str().map(|p| format!(". {p}")).unwrap_or_default();
                    println!(
                        "{}: {}, {}, {}, {} arrived{problem}",
                        w["watch"],
                        text(&w["name"]),
                        text(&w["state"]),
                        text(&w["folder"]),
                        w["arrived"]
                    );
                }
                Ok(std::process::ExitCode::SUCCESS)
            }
            WatchCommand::Pause { watch } => {
                did(store.set_watch_state(*watch, WatchState::Paused).await.map_err(said)?, *watch, "pauses")
            }
            WatchCommand::GoOn { watch } => {
                did(store.set_watch_state(*watch, WatchState::On).await.map_err(said)?, *watch, "goes on")
            }
            WatchCommand::Remove { watch } => {
                did(store.remove_watch(*watch).await.map_err(said)?, *watch, "is gone")
            }
        }
    })
}

/// `rallo token …`.
pub fn token(command: &TokenCommand, data: &Path) -> Ended {
    runtime()?.block_on(async {
        let store = store(data).await?;
        match command {
            TokenCommand::Add { name } => {
                let (_, token) = auth::new_token(&store, name).await.map_err(|e| e.to_string())?;
                say(token)
            }
            TokenCommand::List => {
                for t in store.tokens().await.map_err(said)? {
                    println!(
                        "{}: {}, made {}, {}",
                        t.id,
                        t.name,
                        t.made,
                        t.used.map_or("never used".into(), |u| format!("used {u}"))
                    );
                }
                Ok(std::process::ExitCode::SUCCESS)
            }
            TokenCommand::Remove { token } => {
                if store.remove_token(*token).await.map_err(said)? {
                    say(format!("Token {token} is gone."))
                } else {
                    Err("there is none of that number".into())
                }
            }
        }
    })
}

/// `rallo passphrase`.
pub fn passphrase(data: &Path) -> Ended {
    let mut text = String::new();
    if std::io::stdin().is_terminal() {
        eprintln!("The new passphrase, then Enter:");
        std::io::stdin().read_line(&mut text).map_err(|e| e.to_string())?;
    } else {
        std::io::stdin().take(10_000).read_to_string(&mut text).map_err(|e| e.to_string())?;
    }
    let text = text.trim_end_matches(['\r', '\n']);
    runtime()?.block_on(async {
        auth::set_passphrase(&store(data).await?, text).await.map_err(|e| e.to_string())?;
        say("The passphrase is set; whoever was in must say it anew.".into())
    })
}
