//! Files on their way: hidden, under a name that says which worker writes them, in the folder their final name will be
//! in. What a worker left behind when its leases ran out is swept away.

use std::io::Write;
use std::path::Path;
use std::sync::LazyLock;

/// This worker, of which there is no second one: 64 random bits.
static WORKER: LazyLock<String> = LazyLock::new(|| {
    let mut bytes = [0; 8];
    if getrandom::fill(&mut bytes).is_err() {
        // Without a source of chance: the time and the process, which differ enough on one machine.
        let time = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
        bytes = (time.as_nanos() as u64 ^ (u64::from(std::process::id()) << 40)).to_le_bytes();
    }
    bytes.iter().map(|b| format!("{b:02x}")).collect()
});

/// This worker's name.
pub fn worker_name() -> &'static str {
    &WORKER
}

/// A file with a temporary, hidden name in the folder its final name will be in.
pub(crate) fn part_in(folder: &Path) -> std::io::Result<tempfile::NamedTempFile> {
    use std::os::unix::fs::PermissionsExt;
    tempfile::Builder::new()
        .prefix(&format!(".rallo-{}-", *WORKER))
        .suffix(".part")
        .permissions(std::fs::Permissions::from_mode(0o644))
        .tempfile_in(folder)
}

/// Writes a file whole or not at all: under a temporary name, flushed, then under its own. Without `replace` a file that
/// appeared meanwhile is left alone.
///
/// # Errors
/// The system's; `AlreadyExists` without `replace`.
pub(crate) fn write_whole(target: &Path, bytes: &[u8], replace: bool) -> std::io::Result<()> {
    let mut part = part_in(target.parent().unwrap_or(Path::new(".")))?;
    part.write_all(bytes)?;
    part.as_file().sync_all()?;
    if replace { part.persist(target) } else { part.persist_noclobber(target) }.map_err(|e| e.error)?;
    Ok(())
}

/// Takes away what a worker left behind in a folder.
pub(crate) fn sweep(folder: &Path, worker: &str) {
    let prefix = format!(".rallo-{worker}-");
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        let name = entry.file_name();
        if name.to_str().is_some_and(|name| name.starts_with(&prefix) && name.ends_with(".part")) {
            // Where it cannot be removed it stays hidden.
            let _ = std::fs::remove_file(entry.path());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_that_worker_left_is_swept_away() {
        let folder = tempfile::tempdir().unwrap();
        let mine = part_in(folder.path()).unwrap();
        let left = folder.path().join(".rallo-0123456789abcdef-x1.part");
        let picture = folder.path().join(".rallo-0123456789abcdef-picture.jpg");
        for file in [&left, &picture] {
            std::fs::write(file, "x").unwrap();
        }
        sweep(folder.path(), "0123456789abcdef");
        assert!(mine.path().exists() && picture.exists() && !left.exists());
    }
}
