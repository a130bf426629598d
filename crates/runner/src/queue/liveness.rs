//! Which workers there are, and which of them are gone.

/// When a process of this machine began, as its system counts.
pub(super) fn began(pid: u32) -> Option<String> {
    let stat = std::fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    // The name, in brackets, may hold anything.
    stat.rsplit(')').next()?.split_whitespace().nth(19).map(str::to_owned)
}

pub(super) fn boot() -> String {
    std::fs::read_to_string("/proc/sys/kernel/random/boot_id").unwrap_or_default().trim().to_owned()
}

/// This program as a worker, so that another one can tell whether it is still there.
pub(super) fn worker_name() -> String {
    let pid = std::process::id();
    format!("{} {pid} {}", boot(), began(pid).unwrap_or_default())
}

/// Whether a worker is gone for sure.
pub(super) fn is_gone(worker: &str) -> bool {
    let mut parts = worker.split(' ');
    let (Some(boots), Some(pid), Some(start)) = (parts.next(), parts.next(), parts.next()) else {
        return false;
    };
    if boots != boot() {
        return true;
    }
    let Ok(pid) = pid.parse() else { return false };
    !start.is_empty() && began(pid).as_deref() != Some(start)
}
