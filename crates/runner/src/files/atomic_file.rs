//! Files on their way: hidden, under a name that says whose they are, in the folder their final name will be in. What a
//! program that was killed left behind is swept away by the next one.

use std::path::Path;
use std::sync::LazyLock;

/// This machine, in a few letters: a folder may be shared by several.
static MACHINE: LazyLock<String> = LazyLock::new(|| {
    let id = std::fs::read_to_string("/etc/machine-id").unwrap_or_default();
    if id.trim().is_empty() {
        "0".into()
    } else {
        rallo_media::content_hash(id.as_bytes()).chars().take(8).collect()
    }
});

fn prefix() -> String {
    format!(".rallo-{}-{}-", *MACHINE, std::process::id())
}

/// A file with a temporary, hidden name in the folder its final name will be in.
pub(crate) fn part_in(folder: &Path) -> std::io::Result<tempfile::NamedTempFile> {
    use std::os::unix::fs::PermissionsExt;
    tempfile::Builder::new()
        .prefix(&prefix())
        .suffix(".part")
        .permissions(std::fs::Permissions::from_mode(0o644))
        .tempfile_in(folder)
}

/// Whose part it is, if it was made on this machine.
fn owner(name: &str) -> Option<u32> {
    let rest = name.strip_suffix(".part")?.strip_prefix(".rallo-")?.strip_prefix(MACHINE.as_str())?;
    rest.strip_prefix('-')?.split('-').next()?.parse().ok()
}

/// Takes away what programs that are gone left behind in a folder.
pub(crate) fn sweep(folder: &Path) {
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        let pid = entry.file_name().to_str().and_then(owner);
        if let Some(pid) = pid
            && !Path::new(&format!("/proc/{pid}")).exists()
            && Path::new("/proc/self").exists()
        {
            // Where it cannot be removed it stays hidden.
            let _ = std::fs::remove_file(entry.path());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_the_gone_left_is_swept_away() {
        let folder = tempfile::tempdir().unwrap();
        let mine = part_in(folder.path()).unwrap();
        let name = |pid: u32, machine: &str| folder.path().join(format!(".rallo-{machine}-{pid}-x1.part"));
        let (gone, elsewhere) = (name(u32::MAX - 1, &MACHINE), name(u32::MAX - 1, "elsewhere"));
        let picture = folder.path().join(".rallo-picture.jpg");
        for file in [&gone, &elsewhere, &picture] {
            std::fs::write(file, "x").unwrap();
        }
        sweep(folder.path());
        assert!(mine.path().exists() && elsewhere.exists() && picture.exists());
        assert!(!gone.exists());
    }
}
