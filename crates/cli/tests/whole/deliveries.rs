//! One recipe, several places: formats read back by another program, several widths, a size not to exceed, a page of them.

use crate::common::*;
use rallo_engine::{OutputProfile, Pixels, Plan, Samples, Source};
use rallo_media::{CameraData, Chroma, Encoding, Extras, FileSource, Format};
use serde_json::{Value, json};
use std::path::{Path, PathBuf};
use std::process::Command;

struct Place {
    folder: tempfile::TempDir,
}

impl Place {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir(folder.path().join("in")).unwrap();
        for i in 1..=2u32 {
            let camera = CameraData {
                camera: Some("Marlow 24".into()),
                lens: Some("Marlow 50 mm f/2".into()),
                iso: Some(400),
                orientation: 1,
                ..CameraData::default()
            };
            let extras = Extras { exif: camera.write().ok(), ..Extras::default() };
            let jpeg =
                Encoding::Jpeg { quality: 95, chroma: Chroma::Full, progressive: false, optimised: false };
            let bytes = rallo_media::encode(&picture(900, 600, i), jpeg, &extras).unwrap();
            std::fs::write(folder.path().join(format!("in/pot {i}.jpg")), bytes).unwrap();
        }
        Self { folder }
    }

    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    /// Runs a recipe with these deliveries on the folder; its report.
    fn run(&self, deliveries: Value) -> Value {
        let recipe = json!({"format": "rallo-recipe", "version": 1, "name": "All",
            "steps": [{"step": "exposure", "stops": 0.2}, {"step": "local_contrast", "amount": 20}], "deliveries": deliveries});
        std::fs::write(self.path("r.json"), recipe.to_string()).unwrap();
        let report = self.path("report.json");
        let done = program()
            .args([
                "run",
                &self.path("r.json").to_string_lossy(),
                "--from",
                &self.path("in").to_string_lossy(),
            ])
            .args(["--report", &report.to_string_lossy(), "--quiet"])
            .output()
            .unwrap();
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
        serde_json::from_slice(&std::fs::read(report).unwrap()).unwrap()
    }
}

/// What exiftool says of a file.
fn tags(path: &Path) -> Value {
    let out = Command::new("exiftool").args(["-json", "-n", "-G1"]).arg(path).output().unwrap();
    let all: Value = serde_json::from_slice(&out.stdout).unwrap();
    all[0].clone()
}

fn samples(path: &Path) -> Vec<f32> {
    let level = FileSource::open(path).unwrap().level(0).unwrap();
    match level.samples() {
        Samples::U8(v) => v.iter().map(|s| f32::from(*s)).collect(),
        Samples::U16(v) => v.iter().map(|s| f32::from(*s)).collect(),
        Samples::F32(v) => v.clone(),
    }
}

/// The picture in sRGB, whatever its space.
fn seen(path: &Path) -> Vec<f32> {
    let source = FileSource::open(path).unwrap();
    let program = Plan::for_picture(Vec::new(), &source).unwrap().program(1.0);
    let srgb = OutputProfile::Srgb.colour();
    match program.render(&source, program.size().rect(), srgb).unwrap().pixels {
        Pixels::U8(v) => v.into_iter().map(f32::from).collect(),
        _ => panic!(),
    }
}

fn apart(a: &Path, b: &Path) -> f32 {
    unlike(&samples(a), &samples(b))
}

fn unlike(a: &[f32], b: &[f32]) -> f32 {
    assert_eq!(a.len(), b.len());
    a.iter().zip(b).map(|(a, b)| (a - b).abs()).sum::<f32>() / a.len() as f32
}

#[test]
fn every_format_is_written_with_its_data_and_read_back_by_another_program() {
    let place = Place::new();
    let one = |format: &str, more: Value| {
        let mut all =
            json!({"kind": "pictures", "format": format, "name": "{stem}", "folder": format!("{format}")});
        all.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        all
    };
    let report = place.run(json!([
        one("png", json!({})),
        one("png", json!({"bits": 16, "profile": "display-p3", "folder": "png16"})),
        one("tiff", json!({"bits": 16, "profile": "display-p3", "compression": "lzw"})),
        one("tiff", json!({"compression": "none", "folder": "tiff8"})),
        one("webp", json!({"lossless": true})),
        one("webp", json!({"quality": 85, "folder": "webp lossy"})),
        one("avif", json!({"quality": 80})),
        one("jxl", json!({"quality": 85})),
        one("jxl", json!({"lossless": true, "folder": "jxl whole"})),
        one("jxl", json!({"lossless": true, "bits": 16, "profile": "display-p3", "folder": "jxl 16"})),
        one("jxl", json!({"quality": 90, "bits": 16, "profile": "romm-rgb", "folder": "jxl wide"})),
        one("png", json!({"bits": 16, "profile": "romm-rgb", "folder": "png wide"})),
    ]));
    assert_eq!((&report["done"], &report["failed"]), (&json!(2), &json!(0)));
    let file = |folder: &str, ending: &str| place.path(&format!("in/{folder}/pot 1.{ending}"));
    // Nothing is lost where nothing is to be lost: the same pixels in all of them.
    assert_eq!(apart(&file("png", "png"), &file("webp", "webp")), 0.0);
    assert_eq!(apart(&file("png", "png"), &file("tiff8", "tif")), 0.0);
    assert_eq!(apart(&file("png16", "png"), &file("tiff", "tif")), 0.0);
    let (lossy, av1) = (
        apart(&file("png", "png"), &file("webp lossy", "webp")),
        apart(&file("png", "png"), &file("avif", "avif")),
    );
    assert!(lossy > 0.1 && lossy < 2.5 && av1 > 0.05 && av1 < 2.5, "{lossy} {av1}");
    // JPEG XL through the format's own decoder, which hands on pixels and profile: the same again, or nearly.
    let decoded = |folder: &str| {
        let to = place.path(&format!("{folder}.png"));
        let done = Command::new("djxl").arg(file(folder, "jxl")).arg(&to).output().unwrap();
        assert!(done.status.success(), "{folder}: {}", String::from_utf8_lossy(&done.stderr));
        to
    };
    assert_eq!(apart(&file("png", "png"), &decoded("jxl whole")), 0.0);
    assert_eq!(apart(&file("png16", "png"), &decoded("jxl 16")), 0.0);
    let near = apart(&file("png", "png"), &decoded("jxl"));
    assert!(near > 0.1 && near < 2.5, "{near}");
    // That decoder gives lossy pictures of other spaces in one of its own, with its profile: compared by what is seen.
    for path in [decoded("jxl wide"), file("jxl wide", "jxl")] {
        let wide = unlike(&seen(&file("png wide", "png")), &seen(&path));
        assert!(wide > 0.05 && wide < 2.5, "{wide} {}", path.display());
    }
    let (was, is) = (tags(&file("png16", "png")), tags(&decoded("jxl 16")));
    assert_eq!(was["ICC_Profile:RedMatrixColumn"], is["ICC_Profile:RedMatrixColumn"]);
    for (folder, ending, kind) in [
        ("png", "png", "PNG"),
        ("png16", "png", "PNG"),
        ("tiff", "tif", "TIFF"),
        ("tiff8", "tif", "TIFF"),
        ("webp", "webp", "Extended WEBP"),
        ("webp lossy", "webp", "Extended WEBP"),
        ("avif", "avif", "AVIF"),
        ("jxl", "jxl", "JXL"),
        ("jxl 16", "jxl", "JXL"),
    ] {
        let path = file(folder, ending);
        let told = tags(&path);
        let say = |tag: &str| told.get(tag).cloned().unwrap_or_default();
        assert_eq!(say("File:FileType"), kind, "{folder}: {told}");
        let text = told.to_string();
        assert!(text.contains("ImageWidth\":900") && text.contains("ImageHeight\":600"), "{folder}: {text}");
        assert_eq!(say("IFD0:Make"), "Marlow", "{folder}: {text}");
        assert_eq!(say("ExifIFD:ISO"), 400, "{folder}: {text}");
        assert!(!text.contains("ExifTool:Warning") && !text.contains("ExifTool:Error"), "{folder}: {text}");
        // Theirs stands inside the picture's own code, where exiftool does not look.
        if !["AVIF", "JXL"].contains(&kind) {
            let profile = say("ICC_Profile:ProfileDescription").to_string();
            let wide = folder == "png16" || folder == "tiff";
            assert!(profile.contains(if wide { "P3" } else { "sRGB" }), "{folder}: {text}");
        }
        // It is known as a result, also by looking at the file's ends alone.
        assert!(
            rallo_media::Made::of(&path).is_some_and(|m| m.done == ["exposure", "local_contrast"]),
            "{folder}"
        );
    }
    assert_eq!(tags(&file("tiff", "tif"))["IFD0:BitsPerSample"], "16 16 16");
    assert_eq!(tags(&file("tiff", "tif"))["IFD0:Compression"], 5);
    assert_eq!(FileSource::open(&file("avif", "avif")).unwrap().format(), Format::Avif);
    // A second time nothing is made; what is missing is made alone.
    std::fs::remove_file(file("webp", "webp")).unwrap();
    let again = place.run(json!([one("png", json!({})), one("webp", json!({"lossless": true}))]));
    assert_eq!((&again["done"], &again["skipped"]), (&json!(1), &json!(1)));
    let outputs = again["items"][0]["outputs"].as_array().unwrap();
    let made: Vec<_> = outputs.iter().filter(|o| o["made"] == true).collect();
    assert_eq!((outputs.len(), made.len()), (2, 1), "{outputs:?}");
}

#[test]
fn a_web_set_has_every_width_none_too_large_with_a_page_and_is_taken_back_whole() {
    let place = Place::new();
    let report = place.run(json!([
        {"kind": "pictures", "format": "webp", "quality": 80, "name": "{stem}", "folder": "web", "widths": "240, 480", "sharpen": 30, "page": true},
        {"kind": "pictures", "format": "jpeg", "quality": 95, "limit": 9, "name": "{stem}", "folder": "web", "widths": "240, 480", "page": true},
        {"kind": "pictures", "format": "jpeg", "quality": 95, "name": "{stem}", "folder": "large"},
    ]));
    assert_eq!(report["done"], 2);
    let web = place.path("in/web");
    let size = |name: &str| {
        let size = FileSource::open(&web.join(name)).unwrap().size();
        (size.width, size.height)
    };
    for n in [1, 2] {
        for ending in ["webp", "jpg"] {
            assert_eq!(size(&format!("pot {n}-240.{ending}")), (240, 160));
            assert_eq!(size(&format!("pot {n}-480.{ending}")), (480, 320));
        }
        // As large as the limit lets it be, not a byte larger.
        let bytes = std::fs::metadata(web.join(format!("pot {n}-480.jpg"))).unwrap().len();
        assert!((6_000..=9_000).contains(&bytes), "{bytes}");
    }
    let page = std::fs::read_to_string(web.join("index.html")).unwrap();
    assert!(
        page.contains("<source type=\"image/webp\" srcset=\"pot%201-240.webp 240w, pot%201-480.webp 480w\""),
        "{page}"
    );
    assert!(page.contains("<img src=\"pot%202-480.jpg\""), "{page}");
    // What is shared gives what each would have been alone, but for the second resampling.
    let alone = Place::new();
    alone.run(
        json!([{"kind": "pictures", "format": "png", "name": "{stem}", "folder": "one", "long_edge": 480}]),
    );
    let two = json!([
        {"kind": "pictures", "format": "png", "name": "{stem}", "folder": "one", "long_edge": 480},
        {"kind": "pictures", "format": "png", "name": "{stem}-s", "folder": "one", "long_edge": 240}]);
    place.run(two.clone());
    // One that is missing is made again as it was, though the others are there.
    for name in ["pot 1.png", "pot 1-s.png"] {
        let file = place.path("in/one").join(name);
        let bytes = std::fs::read(&file).unwrap();
        std::fs::remove_file(&file).unwrap();
        place.run(two.clone());
        assert!(std::fs::read(&file).unwrap() == bytes, "{name} is another picture");
    }
    let difference = apart(&alone.path("in/one/pot 1.png"), &place.path("in/one/pot 1.png"));
    assert!(difference < 0.05, "{difference}");
    // A limit that cannot be met says so.
    let recipe = std::fs::read_to_string(place.path("r.json")).unwrap();
    let tight = recipe.replace(
        "\"format\":\"png\",\"name\":\"{stem}-s\"",
        "\"format\":\"jpeg\",\"limit\":1,\"name\":\"{stem}-tight\"",
    );
    assert_ne!(tight, recipe);
    std::fs::write(place.path("r.json"), tight).unwrap();
    let failed = program()
        .args(["run", &place.path("r.json").to_string_lossy(), "--from", &place.path("in").to_string_lossy()])
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&failed.stderr).into_owned();
    assert_eq!(failed.status.code(), Some(1));
    assert!(
        said.contains("at the lowest quality, where 1 kB are allowed; make it smaller in pixels"),
        "{said}"
    );
    // Taken back, the set is gone with its page.
    let run = report["run"].to_string();
    assert!(program().args(["queue", "undo", &run]).status().unwrap().success());
    assert!(!web.exists() && place.path("in").exists());
}
