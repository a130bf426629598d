//! What a recipe's rules and texts are told of one picture.

use rallo_media::Facts;
use rallo_recipe::Subject;
use std::path::Path;

/// From a picture's path and what its file says; `number` is its position in the run, from 1.
pub fn subject(path: &Path, facts: Option<&Facts>, number: usize) -> Subject {
    let stem = path.file_stem().map(|s| s.to_string_lossy().into_owned()).unwrap_or_default();
    let folder = path.parent().map(crate::targets::name_of).unwrap_or_default();
    let known = Subject { stem, folder, number, ..Subject::default() };
    let Some(facts) = facts else { return known };
    let camera = facts.camera.clone();
    Subject {
        taken: camera.taken,
        camera: camera.camera,
        lens: camera.lens,
        focal_length: camera.focal_length,
        aperture: camera.aperture,
        shutter: camera.shutter,
        iso: camera.iso,
        width: facts.width,
        height: facts.height,
        rating: facts.rating,
        keywords: facts.keywords.clone(),
        ..known
    }
}
