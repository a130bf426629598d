//! Programs of others that are not installed: what needs them says so, with what to install, and nothing else is touched.

use crate::common::*;
use serde_json::{Value, json};
use std::path::{Path, PathBuf};
use std::process::Output;

struct Place {
    folder: tempfile::TempDir,
}

impl Place {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        for name in ["in", "programs"] {
            std::fs::create_dir(folder.path().join(name)).unwrap();
        }
        write_jpeg(&folder.path().join("in/a.jpg"), 90, 60, 1);
        Self { folder }
    }

    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    /// Rallo where no other program is found.
    fn rallo(&self, args: &[&str]) -> Output {
        program()
            .env("PATH", self.path("programs"))
            .env("RALLO_DATA", self.path("data"))
            .args(args)
            .output()
            .unwrap()
    }

    fn run(&self, deliveries: Value) -> (Option<i32>, String) {
        let recipe = json!({"format": "rallo-recipe", "version": 1, "name": "Bed", "deliveries": deliveries});
        std::fs::write(self.path("r.json"), recipe.to_string()).unwrap();
        let at = |name: &str| self.path(name).to_string_lossy().into_owned();
        let done = self.rallo(&["run", &at("r.json"), "--from", &at("in"), "--quiet"]);
        (done.status.code(), String::from_utf8_lossy(&done.stderr).into_owned())
    }
}

fn files(folder: &Path) -> Vec<String> {
    let all = std::fs::read_dir(folder).unwrap().flatten();
    let mut names: Vec<String> = all.map(|e| e.file_name().to_string_lossy().into_owned()).collect();
    names.sort();
    names
}

#[test]
fn what_cannot_be_written_here_is_told_before_anything_runs() {
    let place = Place::new();
    for (delivery, says) in [
        (
            json!({"kind": "video"}),
            "a clip needs the program ffmpeg, which is not installed here; on Debian: apt install ffmpeg",
        ),
        (json!({"kind": "video", "codec": "GIF"}), "a clip needs the program ffmpeg"),
        (json!({"kind": "course"}), "a clip needs the program ffmpeg"),
        (
            json!({"kind": "pictures", "format": "jxl"}),
            "a JPEG XL needs the program cjxl, which is not installed here; on Debian: apt install libjxl-tools",
        ),
    ] {
        // Beside one that could be made: the whole run waits for an answer.
        let (status, said) = place.run(json!([{"kind": "pictures", "folder": "plain"}, delivery]));
        assert_eq!(status, Some(2), "{said}");
        assert!(said.contains(says), "{said}");
        assert_eq!(files(&place.path("in")), ["a.jpg"], "{delivery}");
    }
    // All other formats need no program.
    let all = ["jpeg", "png", "webp", "avif", "tiff"]
        .map(|f| json!({"kind": "pictures", "format": f, "folder": "plain"}));
    let (status, said) = place.run(json!(all));
    assert_eq!(status, Some(0), "{said}");
    assert_eq!(files(&place.path("in/plain")), ["a.avif", "a.jpg", "a.png", "a.tif", "a.webp"]);
    let (status, said) =
        place.run(json!([{"kind": "pdf", "name": "sheet"}, {"kind": "contact", "name": "contact"}]));
    assert_eq!(status, Some(0), "{said}");
}

#[test]
fn what_cannot_be_read_here_is_told_with_its_name() {
    let place = Place::new();
    let clip = place.path("clip.mp4");
    std::fs::write(&clip, b"\0\0\0\x18ftypisom\0\0\x02\0isomiso2").unwrap();
    let told = place.rallo(&["frames", &clip.to_string_lossy()]);
    assert_eq!(told.status.code(), Some(2));
    let said = String::from_utf8_lossy(&told.stderr);
    let says = "clip.mp4: this clip cannot be read: the program ffmpeg is not installed; on Debian: apt install ffmpeg";
    assert!(said.contains(says), "{said}");
    // A HEIC among others fails alone.
    let heic = Path::new(env!("CARGO_MANIFEST_DIR")).join("../media/tests/formats");
    let one = std::fs::read_dir(&heic)
        .unwrap()
        .flatten()
        .find(|e| e.path().extension().is_some_and(|e| e == "heic"));
    std::fs::copy(one.unwrap().path(), place.path("in/b.heic")).unwrap();
    let (status, said) = place.run(json!([{"kind": "pictures", "folder": "plain"}]));
    assert_eq!(status, Some(1), "{said}");
    assert!(
        said.contains("b.heic: ") && said.contains("install Debian's package libheif-examples"),
        "{said}"
    );
    assert_eq!(files(&place.path("in/plain")), ["a.jpg"]);
}
