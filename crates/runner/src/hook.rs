//! What is run when a run has ended: a command, with the report on its standard input.

use crate::report;
use rallo_store::Store;
use std::process::Stdio;
use std::time::Duration;
use tokio::io::AsyncWriteExt;
use tokio::process::Command;

/// Longest a command may take.
const LONGEST: Duration = Duration::from_secs(600);

/// Runs the command of a run that has ended, or else the `other` one; what goes wrong is in the log and no fault of the run.
pub async fn ended(store: &Store, run: i64, other: Option<&str>) {
    let Ok(row) = store.run(run).await else { return };
    let command = row.hook.or_else(|| other.map(str::to_owned)).filter(|h| !h.trim().is_empty());
    let Some(command) = command else { return };
    let report = match report::of(store, run).await {
        Ok(report) => report.to_string(),
        Err(e) => return tracing::error!("run {run}: no report for its command: {e}"),
    };
    // In the background: the queue goes on.
    tokio::spawn(async move {
        match tokio::time::timeout(LONGEST, call(&command, report)).await {
            Ok(Ok(status)) if status.success() => {}
            Ok(Ok(status)) => tracing::warn!("run {run}: its command ended with {status}"),
            Ok(Err(e)) => tracing::warn!("run {run}: its command could not be run: {e}"),
            Err(_) => tracing::warn!("run {run}: its command was stopped after ten minutes"),
        }
    });
}

async fn call(command: &str, report: String) -> std::io::Result<std::process::ExitStatus> {
    let mut child = Command::new("/bin/sh")
        .args(["-c", command])
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .kill_on_drop(true)
        .spawn()?;
    if let Some(mut input) = child.stdin.take() {
        // A command that does not read is no fault.
        let _ = input.write_all(report.as_bytes()).await;
    }
    child.wait().await
}
