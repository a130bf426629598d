//! Room on a disk.

use std::path::Path;

/// Free bytes on the disk that holds a folder.
pub fn free_bytes(folder: &Path) -> Option<u64> {
    fs4::available_space(folder).ok()
}
