//! What follows a run that has ended: a command with the report on its standard input, or an address it is sent to.

use std::process::{ExitStatus, Stdio};
use std::time::Duration;
use tokio::io::AsyncWriteExt;
use tokio::process::Command;

/// Longest a command may take.
const LONGEST: Duration = Duration::from_secs(600);
/// Longest an address may take to answer, how often it is tried, and the time between.
const ANSWER: Duration = Duration::from_secs(30);
const TRIES: u32 = 3;
const BETWEEN: Duration = Duration::from_secs(5);

/// Whether a hook is an address; else it is a command for the shell.
pub fn is_address(hook: &str) -> bool {
    ["http://", "https://"].iter().any(|s| hook.get(..s.len()).is_some_and(|h| h.eq_ignore_ascii_case(s)))
}

/// Calls the hook of a run; what goes wrong is in the log and no fault of the run. What stands in an address behind its
/// server may be a secret and is not in the log.
pub async fn call(run: i64, hook: &str, report: String) {
    if is_address(hook) {
        let whose = hook.split('/').nth(2).and_then(|h| h.rsplit('@').next()).unwrap_or_default().to_owned();
        for number in 1..=TRIES {
            let (to, body) = (hook.to_owned(), report.clone());
            let sent = tokio::task::spawn_blocking(move || send(&to, body)).await;
            let why = match sent {
                Ok(Ok(())) => return,
                Ok(Err(why)) => why,
                Err(e) => e.to_string(),
            };
            tracing::warn!("run {run}: its report was not taken by {whose} (try {number}): {why}");
            if number < TRIES {
                tokio::time::sleep(BETWEEN * number).await;
            }
        }
        return;
    }
    match tokio::time::timeout(LONGEST, command(hook, report)).await {
        Ok(Ok(status)) if status.success() => {}
        Ok(Ok(status)) => tracing::warn!("run {run}: its command ended with {status}"),
        Ok(Err(e)) => tracing::warn!("run {run}: its command could not be run: {e}"),
        Err(_) => tracing::warn!("run {run}: its command was stopped after ten minutes"),
    }
}

fn send(to: &str, report: String) -> Result<(), String> {
    let agent: ureq::Agent =
        ureq::Agent::config_builder().timeout_global(Some(ANSWER)).max_redirects(0).build().into();
    let sent = agent.post(to).header("content-type", "application/json").send(report);
    match sent {
        Ok(answer) if answer.status().is_success() => Ok(()),
        Ok(answer) => Err(format!("it answered {}", answer.status())),
        Err(ureq::Error::StatusCode(code)) => Err(format!("it answered {code}")),
        Err(ureq::Error::BadUri(_)) => Err("the address is none".into()),
        Err(e) => Err(e.to_string()),
    }
}

async fn command(command: &str, report: String) -> std::io::Result<ExitStatus> {
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
