//! Several machines from the command line: who hands out work, who helps, and how it stands.

use crate::commands::{self, Ended, print};
use crate::queue::runtime;
use crate::{FleetCommand, Joins};
use rallo_fleet::server::{self, Fleet};
use rallo_fleet::worker::{Worker, WorkerOptions};
use rallo_fleet::{BrokerOptions, Reply};
use std::io::Write;
use std::path::Path;
use std::process::ExitCode;
use std::time::Duration;
use tokio::sync::watch::Receiver;

/// Where the broker is, as it was said.
fn broker(joins: &Joins) -> Option<BrokerOptions> {
    joins.fleet.clone().map(|address| BrokerOptions {
        address,
        login: joins.fleet_login.clone(),
        authority: joins.fleet_authority.clone(),
    })
}

/// Connects as the one who hands out work, where that was asked for.
pub async fn helpers(joins: &Joins, data: &Path, most: Option<u64>) -> Result<Option<Fleet>, String> {
    let Some(options) = broker(joins) else { return Ok(None) };
    let most =
        most.map(|gigabytes| i64::try_from(gigabytes.saturating_mul(1_000_000_000)).unwrap_or(i64::MAX));
    let fleet = Fleet::serve(&options, data, most).await.map_err(|e| e.to_string())?;
    Ok(Some(fleet))
}

/// `rallo worker --fleet …`: helps another machine's runs until it is stopped or sent home.
pub fn help(joins: &Joins, cores: usize, data: &Path) -> Ended {
    commands::log();
    let Some(broker) = broker(joins) else { return Err("say where the broker is, with --fleet".into()) };
    runtime()?.block_on(async {
        let options = WorkerOptions { broker, cores, data: data.to_owned() };
        let worker = Worker::join(&options).await.map_err(|e| e.to_string())?;
        println!("This machine helps as {}, {cores} pictures at a time (Ctrl-C stops it)", worker.name());
        tokio::spawn(tell(worker.said()));
        worker.run(commands::shutdown()).await;
        Ok::<(), String>(())
    })?;
    println!("It ended what it had in work.");
    Ok(ExitCode::SUCCESS)
}

/// Says what the server thinks of this machine, whenever that is new.
async fn tell(mut said: Receiver<Option<Reply>>) {
    // The server has answered by now, if one is there.
    tokio::time::sleep(Duration::from_secs(1)).await;
    loop {
        let text = match &*said.borrow_and_update() {
            None => "No server hands out work by this broker yet; it waits.".to_owned(),
            Some(Reply { home: true, .. }) => "It is sent home.".to_owned(),
            Some(Reply { refused: Some(why), .. }) => format!("It gets nothing to do: {why}."),
            Some(_) => "It is given pictures.".to_owned(),
        };
        let _ = writeln!(std::io::stdout(), "{text}");
        if said.changed().await.is_err() {
            return;
        }
    }
}

/// `rallo fleet …`.
pub fn fleet(command: &FleetCommand, json: bool) -> Ended {
    let joins = match command {
        FleetCommand::Status(joins) | FleetCommand::SendHome { joins, .. } => joins,
    };
    let Some(options) = broker(joins) else { return Err("say where the broker is, with --fleet".into()) };
    runtime()?.block_on(async {
        match command {
            FleetCommand::Status(_) => {
                let status = server::status(&options).await.map_err(|e| e.to_string())?;
                let Some(status) = status else { return Err("no server hands out work by this broker".into()) };
                if json {
                    return print(&status);
                }
                let helpers = status["helpers"].as_array().cloned().unwrap_or_default();
                println!("{} hands out work to {} machines.", status["server"].as_str().unwrap_or("A server"), helpers.len());
                for helper in helpers {
                    let word = |name: &str| helper[name].as_str().unwrap_or_default().to_owned();
                    let at_work = helper["at_work"].as_array().map_or(0, Vec::len);
                    let refused = helper["refused"].as_str().map(|why| format!("; it gets nothing: {why}"));
                    println!(
                        "{} on {}: {} cores, {at_work} pictures in work, {} made, {} a minute, seen {:.0} s ago{}",
                        word("name"),
                        word("machine"),
                        helper["cores"],
                        helper["made"],
                        helper["pace"],
                        helper["seen"].as_f64().unwrap_or_default(),
                        refused.unwrap_or_default()
                    );
                }
                Ok(ExitCode::SUCCESS)
            }
            FleetCommand::SendHome { name, .. } => {
                if server::send_home(&options, name).await.map_err(|e| e.to_string())? {
                    println!("{name} ends what it has in work, and goes.");
                    Ok(ExitCode::SUCCESS)
                } else {
                    Err(format!("no machine of the name {name} helps"))
                }
            }
        }
    })
}
