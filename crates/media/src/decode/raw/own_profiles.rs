//! Colour profiles of one's own for cameras, from a folder beside the program's data: files in the form of Adobe's DNG camera
//! profiles, which name their camera, and ICC profiles, which do not: their file has the camera's name.

use crate::MediaError;
use crate::decode::raw::colour;
use crate::decode::read_file;
use crate::decode::tiff_directory;
use rallo_engine::raw::{Calibration, ColourProfile, InputTable};
use rawler::tags::DngTag;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard};

/// What one file says.
pub(crate) struct OwnProfile {
    camera: String,
    pub calibrations: Vec<Calibration>,
    pub colours: ColourProfile,
    pub table: Option<Arc<InputTable>>,
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
    Ok(OwnProfile { camera, calibrations, colours, table: None })
}

/// An ICC profile for the camera of that name.
fn read_icc(file: &[u8], camera: &str) -> Result<OwnProfile, MediaError> {
    let table = InputTable::of_icc(file).map_err(|e| MediaError::Unsupported(e.to_string()))?;
    Ok(OwnProfile {
        camera: plain(camera),
        calibrations: Vec::new(),
        colours: ColourProfile::default(),
        table: Some(Arc::new(table)),
    })
}

/// Adds the profile that a file holds; `name` is the file's own without its ending.
///
/// # Errors
/// [`MediaError`] where it holds none.
pub fn add(file: &[u8], name: &str) -> Result<(), MediaError> {
    // The signature of an ICC profile (ICC.1:2022, 7.2.11).
    let is_icc = file.get(36..40) == Some(b"acsp");
    let profile = Arc::new(if is_icc { read_icc(file, name)? } else { read(file)? });
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
    let endings = ["dcp", "icc", "icm"];
    files.retain(|p| p.extension().is_some_and(|e| endings.iter().any(|own| e.eq_ignore_ascii_case(own))));
    files.sort();
    let mut refused = Vec::new();
    let mut together = Vec::new();
    for path in files {
        let name = path.file_stem().unwrap_or_default().to_string_lossy();
        match read_file(&path).and_then(|file| add(&file, &name).map(|()| file)) {
            Ok(file) => together.push(format!("{}{}", plain(&name), crate::content_hash(&file))),
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
            let told = add(file, "").unwrap_err().to_string();
            assert!(told.contains(why), "{told}");
        }
        assert!(of_camera("").is_none());
    }
}
