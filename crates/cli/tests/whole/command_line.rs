//! The program from the command line.

use crate::common::*;
use rallo_engine::{Samples, Source};
use rallo_media::{FileSource, Made};
use serde_json::{Value, json};
use std::path::Path;

struct Desk {
    folder: tempfile::TempDir,
}

impl Desk {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir(folder.path().join("in")).unwrap();
        std::fs::write(folder.path().join("web.json"), CATALOGUE).unwrap();
        Self { folder }
    }
    fn path(&self, name: &str) -> String {
        self.folder.path().join(name).to_string_lossy().into_owned()
    }
    fn run(&self, more: &[&str]) -> (i32, String, Value) {
        let (recipe, from, to, report) =
            (self.path("web.json"), self.path("in"), self.path("out"), self.path("report.json"));
        let mut args = vec!["run", &recipe, "--from", &from, "--to", &to, "--report", &report];
        args.extend(more);
        let done = rallo(&args);
        let report = std::fs::read_to_string(&report).ok().and_then(|t| serde_json::from_str(&t).ok());
        (done.status.code().unwrap(), String::from_utf8(done.stderr).unwrap(), report.unwrap_or_default())
    }
}

#[test]
fn good_pictures_are_made_and_each_bad_one_is_named() {
    let desk = Desk::new();
    let at = |name: &str| desk.folder.path().join("in").join(name);
    write_jpeg(&at("a.jpg"), 900, 600, 1);
    write_jpeg(&at("b.jpg"), 600, 900, 2);
    write_png(&at("one.png"), 1, 1);
    std::fs::write(at("empty.jpg"), b"").unwrap();
    std::fs::write(at("list.jpg"), "milk\nseeds\ntwine\n").unwrap();
    let whole = std::fs::read(at("a.jpg")).unwrap();
    std::fs::write(at("cut.jpg"), &whole[..whole.len() / 2]).unwrap();
    let before = state(&desk.folder.path().join("in"));

    let (code, errors, report) = desk.run(&[]);
    assert_eq!(code, 1, "{errors}");
    assert_eq!((&report["done"], &report["failed"], &report["skipped"]), (&3.into(), &3.into(), &0.into()));
    let reason = |name: &str| {
        let items = report["items"].as_array().unwrap();
        let item = items.iter().find(|i| i["source"].as_str().unwrap().ends_with(name)).unwrap();
        (item["state"].as_str().unwrap().to_owned(), item["reason"].as_str().unwrap_or("").to_owned())
    };
    assert_eq!(reason("empty.jpg"), ("failed".into(), "the file is empty".into()));
    assert!(reason("list.jpg").1.contains("it holds text"));
    assert!(reason("cut.jpg").1.starts_with("the file ends in the middle of the picture"));
    assert_eq!(reason("one.png").0, "done");
    for name in ["empty.jpg", "list.jpg", "cut.jpg"] {
        assert!(errors.contains(name), "{errors}");
    }
    let result = FileSource::open(Path::new(&desk.path("out/a-web.jpg"))).unwrap();
    assert_eq!((result.size().width, result.size().height), (400, 225));
    assert_eq!(result.camera().iso, Some(100));
    // Originals are as they were, to the byte and the second; nothing half-written is left.
    assert_eq!(state(&desk.folder.path().join("in")), before);
    let left: Vec<_> =
        std::fs::read_dir(desk.path("out")).unwrap().flatten().map(|e| e.file_name()).collect();
    assert_eq!(left.len(), 3, "{left:?}");
}

#[test]
fn nothing_is_made_twice_and_nothing_is_overwritten() {
    let desk = Desk::new();
    write_jpeg(&desk.folder.path().join("in/a.jpg"), 300, 200, 1);
    write_jpeg(&desk.folder.path().join("in/b.jpg"), 300, 200, 2);
    assert_eq!(desk.run(&[]).0, 0);
    let first = state(Path::new(&desk.path("out")));
    let (code, _, report) = desk.run(&[]);
    assert_eq!((code, &report["skipped"]), (0, &2.into()));
    assert_eq!(report["items"][0]["reason"], "already made by this recipe from this picture");
    assert_eq!(state(Path::new(&desk.path("out"))), first);

    // Another recipe finds the names taken: it fails, numbers or replaces as its delivery says.
    let other = |existing: &str| {
        let text = CATALOGUE
            .replace("\"stops\": 0.35", "\"stops\": 0.1")
            .replace("\"to\": \"subfolder\"", &format!("\"existing\": \"{existing}\""));
        std::fs::write(desk.path("web.json"), text).unwrap();
        desk.run(&[])
    };
    let (code, errors, _) = other("fail");
    assert!(
        code == 1 && errors.contains("a-web.jpg exists already (a result of another recipe or picture)"),
        "{errors}"
    );
    assert_eq!(state(Path::new(&desk.path("out"))), first);
    assert_eq!(other("number").0, 0);
    assert!(Path::new(&desk.path("out/a-web-2.jpg")).exists());
    std::fs::write(desk.path("out/b-web.jpg"), b"somebody's own file").unwrap();
    let (code, errors, report) = other("replace");
    assert!(code == 1 && errors.contains("no earlier result"), "{errors}");
    assert_eq!(report["done"], 1);
    assert_eq!(std::fs::read(desk.path("out/b-web.jpg")).unwrap(), b"somebody's own file");
}

#[test]
fn workers_do_not_change_the_bytes_and_results_are_no_sources() {
    let desk = Desk::new();
    for i in 1..=4 {
        write_jpeg(&desk.folder.path().join(format!("in/p{i}.jpg")), 500, 400, i);
    }
    assert_eq!(desk.run(&["--workers", "1"]).0, 0);
    let one: Vec<_> = state(Path::new(&desk.path("out"))).into_iter().map(|s| (s.0, s.1)).collect();
    std::fs::remove_dir_all(desk.path("out")).unwrap();
    assert_eq!(desk.run(&["--workers", "3"]).0, 0);
    let three: Vec<_> = state(Path::new(&desk.path("out"))).into_iter().map(|s| (s.0, s.1)).collect();
    assert!(one == three);
    assert!(Made::find(&one[0].1).is_some());
    // Into a folder inside the source folder, with sub-folders: its results are not taken in again.
    let (recipe, from) = (desk.path("web.json"), desk.path("in"));
    assert!(rallo(&["run", &recipe, "--from", &from, "--recursive"]).status.success());
    let again = rallo(&["run", &recipe, "--from", &from, "--recursive"]);
    assert!(String::from_utf8_lossy(&again.stdout).starts_with("0 done, 0 failed, 4 skipped"), "{again:?}");
}

#[test]
fn wrong_use_ends_with_2_and_says_what_to_do() {
    let desk = Desk::new();
    write_jpeg(&desk.folder.path().join("in/a.jpg"), 100, 80, 1);
    write_jpeg(&desk.folder.path().join("in/b.jpg"), 100, 80, 2);
    let said = |args: &[&str]| {
        let done = rallo(args);
        assert_eq!(done.status.code(), Some(2), "{args:?}");
        String::from_utf8(done.stderr).unwrap()
    };
    let from = desk.path("in");
    std::fs::write(desk.path("bad.json"), CATALOGUE.replace("16:9", "wide").replace("{stem}", "{stam}"))
        .unwrap();
    let text = said(&["run", &desk.path("bad.json"), "--from", &from]);
    assert!(text.contains("steps[5].crop.proportion: expected W:H, got \"wide\""), "{text}");
    assert!(text.contains("deliveries[0].pictures.name: unknown field {stam}"), "{text}");
    std::fs::write(desk.path("same.json"), CATALOGUE.replace("{stem}-web", "picture")).unwrap();
    let text = said(&["run", &desk.path("same.json"), "--from", &from, "--to", &desk.path("out")]);
    assert!(text.contains("a.jpg and b.jpg would both be written as picture.jpg"), "{text}");
    assert!(!Path::new(&desk.path("out")).exists(), "something ran in spite of two results with one name");
    assert!(said(&["run", &desk.path("none.json"), "--from", &from]).contains("cannot read"));
    assert!(said(&["run", &desk.path("web.json"), "--from", &desk.path("nowhere")]).contains("cannot open"));
    assert!(said(&["render", &desk.path("web.json"), "x.jpg", "y.gif"]).contains("ending in .jpg or .png"));
}

#[test]
fn a_rendered_region_is_the_same_part_of_the_run_file() {
    let desk = Desk::new();
    let picture = desk.path("in/a.jpg");
    write_jpeg(Path::new(&picture), 900, 600, 3);
    let (recipe, whole, part) = (desk.path("web.json"), desk.path("whole.png"), desk.path("part.png"));
    assert!(rallo(&["render", &recipe, &picture, &whole]).status.success());
    assert!(rallo(&["render", &recipe, &picture, &part, "--region", "200,100,90,60"]).status.success());
    let pixels = |file: &str| {
        let picture = FileSource::open(Path::new(file)).unwrap().decode(0).unwrap();
        let Samples::U8(v) = picture.samples() else { panic!() };
        v.clone()
    };
    let (whole, part) = (pixels(&whole), pixels(&part));
    for (j, row) in part.chunks(90 * 3).enumerate() {
        let at = ((100 + j) * 400 + 200) * 3;
        assert_eq!(row, &whole[at..at + 90 * 3]);
    }
}

#[test]
fn steps_inspect_check_and_schema_speak_json() {
    let desk = Desk::new();
    let json = |args: &[&str]| -> Value { serde_json::from_slice(&rallo(args).stdout).unwrap() };
    let steps = json(&["steps", "--json"]);
    for step in steps.as_array().unwrap() {
        for key in ["id", "title", "group", "about", "sentence", "words", "parameters"] {
            assert!(step.get(key).is_some(), "{step} has no {key}");
        }
        for param in step["parameters"].as_array().unwrap() {
            for key in ["name", "about", "kind", "unit", "min", "max", "default"] {
                assert!(param.get(key).is_some(), "{param} has no {key}");
            }
        }
    }
    let exposure = steps.as_array().unwrap().iter().find(|s| s["id"] == "exposure").unwrap();
    assert_eq!(exposure["parameters"][0]["min"], -5.0);
    let picture = desk.path("in/a.jpg");
    write_jpeg(Path::new(&picture), 90, 60, 8);
    let facts = json(&["inspect", &picture, "--json"]);
    let want = [
        "path",
        "format",
        "width",
        "height",
        "bits",
        "profile",
        "orientation",
        "taken",
        "camera",
        "lens",
        "focal_length",
        "aperture",
        "shutter",
        "iso",
    ];
    for key in want {
        assert!(facts.get(key).is_some(), "no {key} in {facts}");
    }
    assert_eq!((&facts["width"], &facts["iso"], &facts["format"]), (&90.into(), &800.into(), &"jpeg".into()));
    assert_eq!(json(&["recipe", "schema"])["title"], "Rallo recipe");
    let check = rallo(&["recipe", "check", &desk.path("web.json")]);
    assert!(String::from_utf8(check.stdout).unwrap().contains("2  White 6 warmer and 2 greener."));
}

#[test]
fn the_simulated_camera_shoots_with_the_faults_it_is_told() {
    let folder = tempfile::tempdir().unwrap();
    let out = folder.path().join("post");
    let path = out.to_string_lossy().into_owned();
    let done = rallo(&[
        "camera",
        &path,
        "--frames",
        "4",
        "--every",
        "0",
        "--interval",
        "60",
        "--clock",
        "2026-04-12T12:00:00",
        "--missed",
        "2",
        "--double",
        "3",
        "--jump",
        "4:-3600",
    ]);
    assert!(done.status.success(), "{done:?}");
    let times: Vec<String> = (1..=4)
        .map(|i| {
            let source = FileSource::open(&out.join(format!("POST_{i:04}.jpg"))).unwrap();
            source.camera().taken.unwrap().time().to_string()
        })
        .collect();
    assert_eq!(times, ["12:00:00", "12:02:00", "12:02:02", "11:03:00"]);
    let wrong = rallo(&["camera", &path, "--jump", "soon"]);
    assert_eq!(wrong.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&wrong.stderr).contains("expected FRAME:SECONDS"));
}

#[test]
fn a_shoot_document_that_is_wrong_says_where() {
    let folder = tempfile::tempdir().unwrap();
    let file = |name: &str, text: &str| {
        let path = folder.path().join(name);
        std::fs::write(&path, text).unwrap();
        path.to_string_lossy().into_owned()
    };
    let recipe = file("recipe.json", CATALOGUE);
    let broken = file(
        "broken.json",
        r#"{"format": "rallo-shoot", "version": 1, "name": "x", "frames": [{"path": "a", "rating": 7}]}"#,
    );
    let done = rallo(&["run", &recipe, "--shoot", &broken]);
    assert_eq!(done.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&done.stderr).contains("frames[0].rating: expected 0 to 5, got 7"));
    // A frame that is gone fails by itself, with the reason.
    write_jpeg(&folder.path().join("a.jpg"), 300, 200, 1);
    let shoot = file(
        "shoot.json",
        r#"{"format": "rallo-shoot", "version": 1, "name": "x", "frames": [{"path": "a.jpg"}, {"path": "gone.jpg"}]}"#,
    );
    let out = folder.path().join("out").to_string_lossy().into_owned();
    let done = rallo(&["run", &recipe, "--shoot", &shoot, "--to", &out]);
    assert_eq!(done.status.code(), Some(1));
    assert!(String::from_utf8_lossy(&done.stderr).contains("gone.jpg: cannot read"));
    assert!(Path::new(&out).join("a-web.jpg").exists());
}

#[test]
fn the_settings_sheet_is_a_pdf_that_others_read() {
    let desk = Desk::new();
    let (recipe, picture, out) = (desk.path("long.json"), desk.path("in/a.jpg"), desk.path("sheet.pdf"));
    write_jpeg(Path::new(&picture), 900, 600, 1);
    // More lines than one page takes, one of them off, with signs the fonts lack.
    let mut steps: Vec<Value> =
        (1..=60).map(|n| json!({"step": "exposure", "stops": f64::from(n) / 20.0})).collect();
    steps.push(json!({"step": "unsharp_mask", "amount": 80, "on": false}));
    steps.push(json!({"step": "crop", "proportion": "16:9", "checkpoint": "Is the pot whole?"}));
    let document = json!({"format": "rallo-recipe", "version": 1, "name": "Repotting, Zürich",
        "note": "For the course in spring.", "labels": ["course"], "steps": steps, "deliveries": [{"kind": "pictures"}]});
    std::fs::write(&recipe, document.to_string()).unwrap();
    let done = rallo(&["recipe", "sheet", &recipe, "--out", &out, "--sample", &picture]);
    assert!(done.status.success(), "{done:?}");
    let say = |program: &str, args: &[&str]| {
        let done = std::process::Command::new(program).args(args).output().unwrap();
        assert!(done.status.success(), "{program}: {}", String::from_utf8_lossy(&done.stderr));
        String::from_utf8(done.stdout).unwrap()
    };
    let text = say("pdftotext", &["-layout", &out, "-"]);
    for wanted in [
        "Repotting, Zürich",
        "course",
        "For the course in spring.",
        "before",
        "after",
        "Make it 0.05 stops brighter.",
        "Make it 3 stops brighter.",
        "(off)",
        "Wait for a yes: Is the pot whole?",
        "Crop to 16:9, centre.",
        "62",
        "JPEG, quality",
    ] {
        assert!(text.contains(wanted), "{wanted} is not in\n{text}");
    }
    assert!(text.matches('\u{c}').count() >= 2, "one page only");
    let info = say("pdfinfo", &[&out]);
    assert!(info.contains("Repotting, Zürich") && info.contains("595.276 x 841.89 pts (A4)"), "{info}");
    // Two pictures, both of what the crop leaves.
    let images = say("pdfimages", &["-list", &out]);
    let sizes: Vec<Vec<&str>> = images.lines().skip(2).map(|l| l.split_whitespace().collect()).collect();
    assert_eq!(sizes.len(), 2, "{images}");
    assert!(sizes.iter().all(|s| s[3] == "900" && s[4].starts_with("50")), "{images}");
    // Nothing is overwritten, and a picture that is none is named.
    let again = rallo(&["recipe", "sheet", &recipe, "--out", &out]);
    assert!(!again.status.success() && String::from_utf8_lossy(&again.stderr).contains("sheet.pdf"));
    let broken = rallo(&["recipe", "sheet", &recipe, "--out", &desk.path("b.pdf"), "--sample", &recipe]);
    assert!(
        String::from_utf8_lossy(&broken.stderr).contains("long.json: this is not a picture"),
        "{broken:?}"
    );
}

#[test]
fn a_folder_of_camera_raw_and_jpeg_is_one_run() {
    let folder = tempfile::tempdir().unwrap();
    let from = folder.path().join("in");
    std::fs::create_dir(&from).unwrap();
    let kept = Path::new(env!("CARGO_MANIFEST_DIR")).join("../media/tests/pictures");
    for name in ["raw-bayer.dng", "near-linear.dng"] {
        std::fs::copy(kept.join(name), from.join(name)).unwrap();
    }
    write_jpeg(&from.join("plain.jpg"), 60, 40, 1);
    let recipe = folder.path().join("recipe.json");
    let document = r#"{"format": "rallo-recipe", "version": 1, "name": "Web", "steps": [{"step": "exposure", "stops": 0.1}],
        "deliveries": [{"kind": "pictures", "format": "png", "name": "{stem}", "to": "subfolder"}]}"#;
    std::fs::write(&recipe, document).unwrap();
    let path = |p: &Path| p.to_string_lossy().into_owned();
    let to = folder.path().join("out");
    let done = rallo(&["run", &path(&recipe), "--from", &path(&from), "--to", &path(&to)]);
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    assert_eq!(files_below(&to).len(), 3);
}
