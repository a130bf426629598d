//! A folder with pictures and a recipe, and the program's queue on them.

use crate::common::desk::Held;
use crate::common::{files_below, write_jpeg};
use serde_json::Value;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// Brighter, with more local contrast, small.
pub const RECIPE: &str = r#"{"format": "rallo-recipe", "version": 1, "name": "Web",
 "steps": [{"step": "exposure", "stops": 0.3}, {"step": "local_contrast", "amount": 20}, {"step": "resize", "long_edge": 300}],
 "deliveries": [{"kind": "pictures", "quality": 80}]}"#;

/// A folder with pictures, and the program's data.
pub struct Place {
    pub folder: tempfile::TempDir,
}

impl Place {
    /// A folder with so many pictures and a recipe.
    pub fn new(count: u32, width: u32, height: u32) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let pictures = folder.path().join("pictures/Spring");
        std::fs::create_dir_all(&pictures).unwrap();
        for i in 1..=count {
            write_jpeg(&pictures.join(format!("TN_{i:03}.jpg")), width, height, i);
        }
        std::fs::write(folder.path().join("web.json"), RECIPE).unwrap();
        Self { folder }
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    pub fn text(&self, name: &str) -> String {
        self.path(name).to_string_lossy().into_owned()
    }

    pub fn rallo(&self, args: &[&str]) -> (i32, String, String) {
        let done = Command::new(env!("CARGO_BIN_EXE_rallo"))
            .args(["--data", &self.text("data")])
            .args(args)
            .output()
            .unwrap();
        let text = |bytes| String::from_utf8(bytes).unwrap();
        (done.status.code().unwrap_or(-1), text(done.stdout), text(done.stderr))
    }

    pub fn add(&self, recipe: &str, to: &str, more: &[&str]) -> String {
        let (recipe, from, to) = (self.text(recipe), self.text("pictures/Spring"), self.text(to));
        let mut args = vec!["queue", "add", &recipe, "--from", &from, "--to", &to, "--json"];
        args.extend(more);
        let (code, out, errors) = self.rallo(&args);
        assert_eq!(code, 0, "{errors}");
        serde_json::from_str::<Value>(&out).unwrap()["run"].to_string()
    }

    pub fn report(&self, run: &str) -> Value {
        let (code, out, errors) = self.rallo(&["queue", "report", run]);
        assert_eq!(code, 0, "{errors}");
        serde_json::from_str(&out).unwrap()
    }

    pub fn worker(&self) -> Held {
        let mut command = Command::new(env!("CARGO_BIN_EXE_rallo"));
        command.args(["--data", &self.text("data"), "worker"]).stderr(Stdio::null());
        Held(command.spawn().unwrap())
    }

    /// Waits until a run is as wanted.
    pub fn until(&self, run: &str, what: &str, mut is: impl FnMut(&Value) -> bool) -> Value {
        let begin = Instant::now();
        loop {
            let report = self.report(run);
            if is(&report) {
                return report;
            }
            assert!(begin.elapsed() < Duration::from_secs(120), "never {what}: {report}");
            std::thread::sleep(Duration::from_millis(100));
        }
    }

    pub fn done(&self, run: &str) -> Value {
        self.until(run, "done", |r| r["state"] == "done")
    }

    /// What the same recipe gives in one go, undisturbed.
    pub fn undisturbed(&self) -> BTreeMap<String, Vec<u8>> {
        let (recipe, from, to) =
            (self.text("web.json"), self.text("pictures/Spring"), self.text("undisturbed"));
        assert_eq!(self.rallo(&["run", &recipe, "--from", &from, "--to", &to]).0, 0);
        files(&self.path("undisturbed"))
    }
}

/// Everything in a folder and below, hidden files too.
pub fn files(folder: &Path) -> BTreeMap<String, Vec<u8>> {
    let name = |path: &Path| path.strip_prefix(folder).unwrap().to_string_lossy().into_owned();
    files_below(folder).iter().map(|path| (name(path), std::fs::read(path).unwrap())).collect()
}
