//! Names of files and folders for people.

use std::path::Path;

/// The last part of a path, for people.
pub(crate) fn name_of(folder: &Path) -> String {
    folder.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default()
}
