//! Several machines from the command line: who hands out work, who helps, and how it stands.

use crate::commands::{self, Ended, print};
use crate::queue::runtime;
use crate::{FleetCommand, Joins, Serve, Worker as WorkerArgs};
use rallo_fleet::server::{self, Fleet, FleetOptions};
use rallo_fleet::worker::{Worker, WorkerOptions};
use rallo_fleet::{BrokerOptions, FleetError, Reply};
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
pub async fn helpers(args: &Serve, data: &Path) -> Result<Option<Fleet>, FleetError> {
    let Some(broker) = broker(&args.joins) else { return Ok(None) };
    let bytes = |gigabytes: u64| i64::try_from(gigabytes.saturating_mul(1_000_000_000)).unwrap_or(i64::MAX);
    let (most, shares) = (args.fleet_room.map(bytes), args.shares.clone());
    let options = FleetOptions { broker, data: data.to_owned(), most, shares };
    Fleet::serve(&options).await.map(Some)
}

/// `rallo worker --fleet …`: helps another machine's runs until it is stopped or sent home.
pub fn help(args: &WorkerArgs, data: &Path) -> Ended {
    commands::log();
    let cores = args.workers.unwrap_or_else(commands::cores).max(1);
    let Some(broker) = broker(&args.joins) else {
        return Err("say where the broker is, with --fleet".into());
    };
    runtime()?.block_on(async {
        let options = WorkerOptions { broker, cores, data: data.to_owned(), shares: args.shares.clone() };
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
                let Some(status) = status else {
                    return Err("no server hands out work by this broker".into());
                };
                if json {
                    return print(&status);
                }
                println!("{} hands out work to {} machines.", status.server, status.helpers.len());
                for helper in status.helpers {
                    let refused = helper.refused.map(|why| format!("; it gets nothing: {why}"));
                    println!(
                        "{} on {}: {} cores, {} pictures in work, {} made, {} a minute, seen {:.0} s ago{}",
                        helper.name,
                        helper.machine,
                        helper.cores,
                        helper.at_work.len(),
                        helper.made,
                        helper.pace,
                        helper.seen,
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
