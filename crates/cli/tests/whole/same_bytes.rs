//! The same recipe on the same picture gives the same file, byte for byte, as it did when the list beside this test
//! was written. Every step is run alone with the values a new line starts with, then a whole recipe into each format
//! that is encoded inside the program.
//!
//! A change that is meant to alter results raises `rallo_engine::RESULTS` and writes the list anew:
//! `RALLO_WRITE_HASHES=1 cargo test -p rallo-cli --test whole same_bytes`.

use crate::common::*;
use serde_json::{Map, Value, json};
use std::collections::BTreeMap;
use std::path::Path;

const LIST: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/whole/same_bytes.json");

/// A recipe of one step with one delivery to PNG, so that every sample of the result counts.
fn recipe_of_step(id: &str, values: Value) -> Value {
    let mut step = Map::from_iter([("step".to_owned(), json!(id))]);
    step.extend(values.as_object().cloned().unwrap_or_default());
    json!({"format": "rallo-recipe", "version": 1, "name": id, "steps": [step],
        "deliveries": [{"kind": "pictures", "format": "png", "name": "{stem}", "to": "subfolder"}]})
}

/// Every line of the catalogue recipe, into several formats.
fn recipe_of_formats() -> Value {
    let mut recipe: Value = serde_json::from_str(CATALOGUE).unwrap();
    let delivery = |format: &str| {
        let name = format!("{{stem}}-{format}");
        json!({"kind": "pictures", "format": format, "name": name, "to": "subfolder"})
    };
    recipe["deliveries"] = ["jpeg", "png", "webp", "tiff"].map(delivery).into_iter().collect();
    recipe
}

/// The fixed set, by name.
fn recipes() -> BTreeMap<String, Value> {
    let steps = rallo_engine::registry().iter().map(|kind| {
        let starter = serde_json::from_str(kind.info.starter).unwrap();
        (format!("step {}", kind.info.id), recipe_of_step(kind.info.id, starter))
    });
    steps.chain([("formats".to_owned(), recipe_of_formats())]).collect()
}

/// Hashes of the files a run of `recipe` over the pictures in `from` leaves in `to`, by file name.
fn results(folder: &Path, name: &str, recipe: &Value) -> BTreeMap<String, String> {
    let (document, from, to) =
        (folder.join("recipe.json"), folder.join("in"), folder.join("out").join(name.replace(' ', "-")));
    std::fs::write(&document, recipe.to_string()).unwrap();
    let path = |p: &Path| p.to_string_lossy().into_owned();
    let done = rallo(&["run", &path(&document), "--from", &path(&from), "--to", &path(&to)]);
    assert!(done.status.success(), "{name}: {}", String::from_utf8_lossy(&done.stderr));
    files_below(&to)
        .into_iter()
        .map(|file| {
            let bytes = std::fs::read(&file).unwrap();
            let file_name = file.file_name().unwrap().to_string_lossy().into_owned();
            (format!("{name}: {file_name}"), rallo_media::content_hash(&bytes))
        })
        .collect()
}

#[test]
fn results_are_the_bytes_they_were() {
    let folder = tempfile::tempdir().unwrap();
    let pictures = folder.path().join("in");
    std::fs::create_dir(&pictures).unwrap();
    write_jpeg(&pictures.join("wide.jpg"), 300, 200, 1);
    write_png(&pictures.join("tall.png"), 140, 210);
    let found: BTreeMap<String, String> =
        recipes().iter().flat_map(|(name, recipe)| results(folder.path(), name, recipe)).collect();
    assert!(found.len() >= 2 * rallo_engine::registry().len());
    if std::env::var_os("RALLO_WRITE_HASHES").is_some() {
        std::fs::write(LIST, serde_json::to_string_pretty(&found).unwrap() + "\n").unwrap();
        return;
    }
    let listed: BTreeMap<String, String> =
        serde_json::from_str(&std::fs::read_to_string(LIST).unwrap()).unwrap();
    let names: std::collections::BTreeSet<&String> = found.keys().chain(listed.keys()).collect();
    let differing: Vec<&String> = names.into_iter().filter(|n| found.get(*n) != listed.get(*n)).collect();
    assert!(differing.is_empty(), "other bytes than listed: {differing:#?}");
}
