//! What a machine must have in common with the server, so that what it makes is the same bytes.

use rallo_media::content_hash;
use std::path::Path;

/// The program's version in words.
pub(crate) fn version() -> String {
    format!("{} (results {})", env!("CARGO_PKG_VERSION"), rallo_engine::RESULTS)
}

/// What kind of work a machine can do: by the program's version, and the profiles of lenses and cameras that lie in its folder.
pub(crate) fn kind(data: &Path) -> String {
    let mut all = format!("{}\n", version()).into_bytes();
    for folder in ["lens-profiles", "camera-profiles"] {
        let entries = std::fs::read_dir(data.join(folder)).into_iter().flatten().flatten();
        let mut files: Vec<_> = entries.map(|e| e.path()).filter(|p| p.is_file()).collect();
        files.sort();
        for file in files {
            let hash = content_hash(&std::fs::read(&file).unwrap_or_default());
            let name = file.file_name().unwrap_or_default().to_string_lossy().into_owned();
            all.extend(format!("{folder}/{name} {hash}\n").into_bytes());
        }
    }
    content_hash(&all).chars().take(16).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn machines_with_other_profiles_do_other_work() {
        let folder = std::env::temp_dir().join(format!("rallo-equipment-{}", std::process::id()));
        let lenses = folder.join("lens-profiles");
        std::fs::create_dir_all(&lenses).unwrap();
        let bare = kind(&folder);
        std::fs::write(lenses.join("own.xml"), "a").unwrap();
        let one = kind(&folder);
        std::fs::write(lenses.join("own.xml"), "b").unwrap();
        let other = kind(&folder);
        std::fs::remove_dir_all(&folder).unwrap();
        assert!(bare != one && one != other && bare != other);
        assert_eq!(bare, kind(&folder));
        assert!(bare.len() == 16 && bare.chars().all(|c| c.is_ascii_hexdigit()), "{bare}");
    }
}
