//! Colour profiles of one's own for cameras (files in the form of Adobe's DNG camera profiles), from a folder beside the
//! program's data. A camera is known by its name, as the profile tells it.

use crate::MediaError;
use crate::decode::raw::colour;
use crate::decode::read_file;
use crate::decode::tiff_directory;
use rallo_engine::raw::{Calibration, ColourProfile};
use rawler::tags::DngTag;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard};

/// What one file says.
pub(crate) struct OwnProfile {
    camera: String,
    pub calibrations: Vec<Calibration>,
    pub colours: ColourProfile,
}

static KNOWN: Mutex<Vec<Arc<OwnProfile>>> = Mutex::new(Vec::new());

fn known() -> MutexGuard<'static, Vec<Arc<OwnProfile>>> {
    KNOWN.lock().unwrap_or_else(|poisoned| poisoned.into_inner())
}

/// A name to be compared: small, with single spaces.
fn plain(name: &str) -> String {
    name.split_whitespace().collect::<Vec<_>>().join(" ").to_lowercase()
}

/// The profile for a camera.
pub(crate) fn of_camera(name: &str) -> Option<Arc<OwnProfile>> {
    let name = plain(name);
    known().iter().find(|p| !name.is_empty() && p.camera == name).cloned()
}

fn read(file: &[u8]) -> Result<OwnProfile, MediaError> {
    let none = || MediaError::Unsupported("this is no camera profile".into());
    if !file.starts_with(b"IIRC") && !file.starts_with(b"MMCR") {
        return Err(none());
    }
    let pages = tiff_directory::every(file);
    let page = pages.first().ok_or_else(none)?;
    let name = page.bytes(DngTag::UniqueCameraModel as u16).unwrap_or_default();
    let camera = plain(String::from_utf8_lossy(name).trim_end_matches('\0'));
    if camera.is_empty() {
        return Err(MediaError::Unsupported("this camera profile names no camera".into()));
    }
    let (calibrations, colours) = (colour::calibrations(page), colour::profile(page));
    if calibrations.is_empty() && colours.is_empty() {
        return Err(MediaError::Unsupported("this camera profile says nothing that can be used".into()));
    }
    Ok(OwnProfile { camera, calibrations, colours })
}

/// Adds the profile that a file holds.
///
/// # Errors
/// [`MediaError`] where it holds none.
pub fn add(file: &[u8]) -> Result<(), MediaError> {
    let profile = Arc::new(read(file)?);
    let mut known = known();
    known.retain(|p| p.camera != profile.camera);
    known.push(profile);
    Ok(())
}

/// Adds every profile of a folder; those that cannot be used are told with why. What is kept of pictures is kept by these
/// profiles from then on.
pub fn add_folder(folder: &Path) -> Vec<(PathBuf, MediaError)> {
    let Ok(entries) = std::fs::read_dir(folder) else { return Vec::new() };
    let mut files: Vec<PathBuf> = entries.flatten().map(|e| e.path()).collect();
    files.retain(|p| p.extension().is_some_and(|e| e.eq_ignore_ascii_case("dcp")));
    files.sort();
    let mut refused = Vec::new();
    let mut together = Vec::new();
    for path in files {
        match read_file(&path).and_then(|file| add(&file).map(|()| file)) {
            Ok(file) => together.push(crate::content_hash(&file)),
            Err(why) => refused.push((path, why)),
        }
    }
    if !together.is_empty() {
        rallo_engine::reading_depends_on(&together.concat());
    }
    refused
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_no_profile_is_refused_with_why() {
        for (file, why) in [
            (&b"II*\0\x08\0\0\0\0\0"[..], "no camera profile"),
            (b"IIRC\x08\0\0\0\0\0\0\0\0\0", "names no camera"),
            (b"", "no camera profile"),
        ] {
            let told = add(file).unwrap_err().to_string();
            assert!(told.contains(why), "{told}");
        }
        assert!(of_camera("").is_none());
    }
}
