//! Every instruction set gives the same bytes: the program is run on processors that are emulated, from the plainest of
//! its kind on.
#![cfg(target_arch = "x86_64")]

use crate::common::*;
use serde_json::{Map, Value, json};
use std::path::Path;
use std::process::Command;

/// Processors, by the names the emulator knows them by, with the newest vector instructions each has.
const PROCESSORS: [(&str, &str); 3] = [("qemu64", "SSE2"), ("Nehalem", "SSE4.2"), ("Haswell", "AVX2")];

/// One recipe with a line of every step, as a new line starts.
fn every_step() -> Value {
    let line = |kind: &&rallo_engine::StepKind| {
        let starter: Value = serde_json::from_str(kind.info.starter).unwrap();
        let mut line = Map::from_iter([("step".to_owned(), json!(kind.info.id))]);
        line.extend(starter.as_object().cloned().unwrap_or_default());
        Value::Object(line)
    };
    let steps: Vec<Value> = rallo_engine::registry().iter().map(line).collect();
    json!({"format": "rallo-recipe", "version": 1, "name": "Every step", "steps": steps,
        "deliveries": [{"kind": "pictures", "format": "png", "name": "{stem}", "to": "subfolder"},
            {"kind": "pictures", "format": "jpeg", "long_edge": 40, "name": "{stem}-small", "to": "subfolder"}]})
}

/// Hashes of the files a run leaves, by name; `emulated` is a processor, or this one.
fn run(folder: &Path, emulated: Option<&str>) -> Vec<(String, String)> {
    let name = emulated.unwrap_or("own");
    let program = env!("CARGO_BIN_EXE_rallo");
    let mut command = match emulated {
        Some(cpu) => {
            let mut command = Command::new("qemu-x86_64");
            command.args(["-cpu", cpu, program]);
            command
        }
        None => Command::new(program),
    };
    let to = folder.join(name);
    command
        .arg("run")
        .arg(folder.join("recipe.json"))
        .arg("--from")
        .arg(folder.join("in"))
        .arg("--to")
        .arg(&to);
    command.arg("--data").arg(folder.join(format!("data-{name}")));
    let done = command.output().expect("script/test installs qemu-user");
    assert!(done.status.success(), "{name}: {}", String::from_utf8_lossy(&done.stderr));
    let hashed = |file: std::path::PathBuf| {
        let name = file.file_name().unwrap().to_string_lossy().into_owned();
        (name, rallo_media::content_hash(&std::fs::read(&file).unwrap()))
    };
    let mut found: Vec<(String, String)> = files_below(&to).into_iter().map(hashed).collect();
    found.sort();
    found
}

#[test]
fn every_instruction_set_gives_the_same_bytes() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::create_dir(folder.path().join("in")).unwrap();
    write_jpeg(&folder.path().join("in/a.jpg"), 120, 80, 3);
    std::fs::write(folder.path().join("recipe.json"), every_step().to_string()).unwrap();
    let own = run(folder.path(), None);
    assert_eq!(own.len(), 2, "{own:?}");
    for (cpu, instructions) in PROCESSORS {
        assert_eq!(run(folder.path(), Some(cpu)), own, "{cpu} ({instructions})");
    }
}
