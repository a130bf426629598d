//! Deliveries made of all pictures together, read back by other programs: clips, documents, contact sheets, numbered frames,
//! archives, course packs, ZIP files; and pixels that are carried over as they are.

use crate::common::*;
use rallo_engine::Source;
use rallo_media::{CameraData, Chroma, Encoding, Extras, FileSource};
use serde_json::{Value, json};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;

struct Place {
    folder: tempfile::TempDir,
}

impl Place {
    /// So many frames, each told apart by its brightness.
    fn new(count: u32) -> Self {
        let place = Self { folder: tempfile::tempdir().unwrap() };
        std::fs::create_dir(place.path("in")).unwrap();
        for i in 1..=count {
            write_jpeg(&place.path(&format!("in/F_{i:03}.jpg")), 960, 640, i);
        }
        place
    }

    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn recipe(&self, steps: Value, deliveries: Value) {
        let recipe = json!({"format": "rallo-recipe", "version": 1, "name": "Bed", "steps": steps, "deliveries": deliveries});
        std::fs::write(self.path("r.json"), recipe.to_string()).unwrap();
    }

    fn command(&self) -> Command {
        let mut command = program();
        command.env("RALLO_DATA", self.path("data"));
        command.args([
            "run",
            &self.path("r.json").to_string_lossy(),
            "--from",
            &self.path("in").to_string_lossy(),
        ]);
        command.args(["--report", &self.path("report.json").to_string_lossy(), "--quiet"]);
        command
    }

    /// Runs the recipe; its report.
    fn run(&self, steps: Value, deliveries: Value) -> Value {
        self.recipe(steps, deliveries);
        let done = self.command().output().unwrap();
        assert!(done.status.code().is_some(), "{done:?}");
        let said = String::from_utf8_lossy(&done.stderr).into_owned();
        serde_json::from_slice(
            &std::fs::read(self.path("report.json")).unwrap_or_else(|e| panic!("{e}: {said}")),
        )
        .unwrap()
    }
}

fn out(program: &str, args: &[&str], path: &Path) -> String {
    let out = Command::new(program).args(args).arg(path).output().unwrap();
    assert!(out.status.success(), "{program}: {}", String::from_utf8_lossy(&out.stderr));
    String::from_utf8_lossy(&out.stdout).into_owned()
}

/// What ffprobe says of a clip, its frames counted.
pub fn probed(path: &Path) -> Value {
    let args = ["-v", "error", "-count_frames", "-show_streams", "-show_format", "-of", "json"];
    serde_json::from_str(&out("ffprobe", &args, path)).unwrap()
}

/// A hash of every frame as it is decoded.
fn frames_of(path: &Path) -> Vec<String> {
    let path = path.to_string_lossy();
    let out =
        Command::new("ffmpeg").args(["-v", "error", "-i", &path, "-f", "framemd5", "-"]).output().unwrap();
    let text = String::from_utf8_lossy(&out.stdout).into_owned();
    text.lines()
        .filter(|l| !l.starts_with('#'))
        .filter_map(|l| Some(l.rsplit(',').next()?.trim().to_owned()))
        .collect()
}

fn item<'a>(report: &'a Value, ending: &str) -> &'a Value {
    let all = report["items"].as_array().unwrap();
    let ends = |i: &&Value| i["source"].as_str().is_some_and(|s| s.ends_with(ending));
    all.iter().find(ends).unwrap_or_else(|| panic!("no {ending} in {report}"))
}

#[test]
fn every_kind_is_written_and_read_back_by_another_program() {
    let place = Place::new(5);
    let report = place.run(
        json!([{"step": "exposure", "stops": 0.1}]),
        json!([
            {"kind": "pictures", "name": "{stem}", "folder": "small", "long_edge": 240, "zip": true},
            {"kind": "frames", "size": "720p", "fit": "fit", "colour": "#204060", "name": "bed-{n:05}", "start": 100, "folder": "frames"},
            {"kind": "video", "size": "custom", "width": 320, "height": 240, "rate": "23.976", "hold_last": 1, "text": "{n:03}", "name": "clip"},
            {"kind": "video", "purpose": "keep", "size": "own", "name": "kept", "backwards": true},
            {"kind": "pdf", "rows": 2, "columns": 1, "contents": true, "resolution": 100, "name": "hand-out", "caption": "{n} {stem}"},
            {"kind": "contact", "columns": 3, "cell": 120, "name": "all"},
            {"kind": "contact", "format": "pdf", "columns": 3, "name": "all"},
            {"kind": "archive", "folder": "archive"},
            {"kind": "course", "title": "Repotting & more", "folder": "course", "size": "720p", "seconds": 0.4},
        ]),
    );
    assert_eq!(report["failed"], 0, "{report:#}");
    let at = |name: &str| place.path("in").join(name);

    // Numbered frames: in a row from the number asked for, all of one size, coloured at the sides.
    for n in 100..105 {
        let frame = FileSource::open(&at(&format!("frames/bed-{n:05}.jpg"))).unwrap();
        assert_eq!((frame.size().width, frame.size().height), (1280, 720));
    }
    let corner = out("exiftool", &["-s3", "-ImageSize"], &at("frames/bed-00100.jpg"));
    assert_eq!(corner.trim(), "1280x720");
    let pixels = FileSource::open(&at("frames/bed-00102.jpg")).unwrap().level(0).unwrap();
    let rallo_engine::Samples::U8(v) = pixels.samples() else { panic!() };
    let near = |a: u8, b: u8| a.abs_diff(b) <= 3;
    assert!(near(v[0], 0x20) && near(v[1], 0x40) && near(v[2], 0x60), "{:?}", &v[..3]);

    // The clip: rate, frames, length, tags.
    let clip = probed(&at("Bed/clip.mp4"));
    let stream = &clip["streams"][0];
    assert_eq!(stream["codec_name"], "h264");
    assert_eq!((&stream["width"], &stream["height"]), (&json!(320), &json!(240)));
    assert_eq!(stream["r_frame_rate"], "24000/1001");
    assert_eq!(stream["nb_read_frames"], "29");
    assert_eq!((&stream["color_space"], &stream["color_range"]), (&json!("bt709"), &json!("tv")));
    assert_eq!(clip["format"]["tags"]["title"], "Bed");
    let told = &item(&report, "clip.mp4")["outputs"][0];
    assert_eq!((&told["clip"]["frames"], &told["clip"]["rate"]), (&json!(29), &json!([24_000, 1001])));
    let length: f64 = clip["format"]["duration"].as_str().unwrap().parse().unwrap();
    assert!((length - told["clip"]["seconds"].as_f64().unwrap()).abs() < 0.002);

    // The one that is kept loses nothing, and runs backwards.
    let kept = probed(&at("Bed/kept.mkv"));
    assert_eq!(
        (&kept["streams"][0]["codec_name"], &kept["streams"][0]["pix_fmt"]),
        (&json!("ffv1"), &json!("gbrp16le"))
    );
    let forwards = place.run(
        json!([{"step": "exposure", "stops": 0.1}]),
        json!([{"kind": "video", "purpose": "keep", "size": "own", "name": "forwards"}]),
    );
    assert_eq!(forwards["failed"], 0);
    let mut other = frames_of(&at("Bed/forwards.mkv"));
    other.reverse();
    assert_eq!(frames_of(&at("Bed/kept.mkv")), other);
    assert_eq!(other.iter().collect::<std::collections::HashSet<_>>().len(), 5);

    // The document: pages, title, captions, pictures no finer than asked.
    let document = at("Bed/hand-out.pdf");
    let info = out("pdfinfo", &[], &document);
    // Contents, and five pictures two by two.
    assert!(info.contains("Pages:           4") && info.contains("Title:           Bed"), "{info}");
    assert!(info.contains("595.276 x 841.89"), "{info}");
    let text = out("pdftotext", &["-layout"], &document);
    let text =
        if text.is_empty() { std::fs::read_to_string(document.with_extension("txt")).unwrap() } else { text };
    assert!(text.contains("3 F_003") && text.replace(' ', "").contains("4/4"), "{text}");
    let pictures = out("pdfimages", &["-list"], &document);
    let ppi = |line: &str| line.split_whitespace().nth(12).and_then(|t| t.parse::<f64>().ok());
    let all: Vec<f64> = pictures.lines().skip(2).filter_map(ppi).collect();
    assert!(all.len() == 5 && all.iter().all(|p| *p <= 110.0 && *p > 60.0), "{pictures}");

    // Contact sheets.
    let sheet = FileSource::open(&at("Bed/Bed contact sheet.jpg"))
        .ok()
        .or(FileSource::open(&at("Bed/all.jpg")).ok())
        .unwrap();
    assert_eq!(sheet.size().width, 24 + 3 * (120 + 24));
    assert!(out("pdfinfo", &[], &at("Bed/all.pdf")).contains("Pages:           1"));

    // The archive: 16 bits in a wide space, sidecars, sums that are right.
    let told = out("exiftool", &["-a", "-BitsPerSample", "-ICC_Profile:all"], &at("archive/F_001.tif"));
    assert!(told.contains("16 16 16") && told.contains("ROMM RGB (ISO 22028-2)"), "{told}");
    let sums = Command::new("sha256sum")
        .args(["-c", "--quiet", "SHA256SUMS"])
        .current_dir(at("archive"))
        .output()
        .unwrap();
    assert!(sums.status.success(), "{}", String::from_utf8_lossy(&sums.stderr));
    let list = std::fs::read_to_string(at("archive/SHA256SUMS")).unwrap();
    assert_eq!(list.lines().count(), 11, "{list}");
    assert!(out("exiftool", &["-s3", "-MIMEType"], &at("archive/F_002.tif.xmp")).contains("rdf+xml"));
    let kept: Value = serde_json::from_slice(&std::fs::read(at("archive/recipe.json")).unwrap()).unwrap();
    assert_eq!(kept["name"], "Bed");

    // The ZIP, by another library.
    let script = "import sys, zipfile, json, hashlib\nz = zipfile.ZipFile(sys.argv[1])\nm = json.loads(z.read('manifest.json'))\n\
                  assert z.testzip() is None\nprint(len(m['files']), all(hashlib.sha256(z.read(f['name'])).hexdigest() == f['sha256'] for f in m['files']))";
    let zip = Command::new("python3").args(["-c", script]).arg(at("small.zip")).output().unwrap();
    assert_eq!(
        String::from_utf8_lossy(&zip.stdout).trim(),
        "5 True",
        "{}",
        String::from_utf8_lossy(&zip.stderr)
    );

    // The course pack: everything its page shows lies beside it.
    let page = std::fs::read_to_string(at("course/index.html")).unwrap();
    assert!(page.contains("<h1>Repotting &amp; more</h1>"));
    for name in ["clip.mp4", "hand-out.pdf", "settings.pdf", "Bed-001.jpg", "Bed-005.jpg"] {
        assert!(at("course").join(name).exists(), "{name}");
        assert!(page.contains(&format!("\"{name}\"")), "{name} in {page}");
    }
    assert_eq!(probed(&at("course/clip.mp4"))["streams"][0]["nb_read_frames"], "50");
    assert_eq!(out("exiftool", &["-s3", "-n", "-XResolution"], &at("course/Bed-001.jpg")).trim(), "96");

    // A second time nothing is made; taken back, all of it is gone.
    let run = report["run"].to_string();
    assert!(
        program()
            .env("RALLO_DATA", place.path("data"))
            .args(["queue", "undo", &run])
            .status()
            .unwrap()
            .success()
    );
    for gone in ["Bed/clip.mp4", "Bed/hand-out.pdf", "archive/SHA256SUMS", "course/index.html", "small.zip"] {
        assert!(!at(gone).exists(), "{gone}");
    }
}

#[test]
fn a_run_that_was_killed_gives_the_same_clip_and_is_not_done_twice() {
    let steps = json!([{"step": "local_contrast", "amount": 20}]);
    // Two frames of each picture, in a window that travels.
    let deliveries = |name: &str| json!([{"kind": "pictures", "name": "{stem}", "folder": "p"}, {"kind": "video", "size": "720p", "name": name, "purpose": "keep", "fit": "move", "speed": 0.5}]);
    let place = Place::new(12);
    place.recipe(steps.clone(), deliveries("clip"));
    let mut child = place.command().spawn().unwrap();
    let some = place.path("in/p/F_003.jpg");
    for _ in 0..600 {
        if some.exists() {
            break;
        }
        std::thread::sleep(Duration::from_millis(50));
    }
    child.kill().unwrap();
    child.wait().unwrap();
    assert!(some.exists() && !place.path("in/Bed/clip.mkv").exists());
    let report = place.run(steps.clone(), deliveries("clip"));
    assert_eq!((&report["failed"], &report["state"]), (&json!(0), &json!("done")));
    // Nothing is left of the first try.
    let left: Vec<_> =
        std::fs::read_dir(place.path("in/Bed")).unwrap().flatten().map(|e| e.file_name()).collect();
    assert_eq!(left, ["clip.mkv"]);
    let once = place.run(steps.clone(), deliveries("once"));
    assert_eq!(once["failed"], 0);
    let frames = frames_of(&place.path("in/Bed/clip.mkv"));
    assert_eq!(frames.len(), 24);
    assert_eq!(frames, frames_of(&place.path("in/Bed/once.mkv")));
    let before = std::fs::metadata(place.path("in/Bed/once.mkv")).unwrap().modified().unwrap();
    let again = place.run(steps.clone(), deliveries("once"));
    assert_eq!(again["skipped"], 13, "{again:#}");
    assert_eq!(std::fs::metadata(place.path("in/Bed/once.mkv")).unwrap().modified().unwrap(), before);
    // Other values: not over it, unless the delivery says so.
    let other = json!([{"step": "exposure", "stops": 1}]);
    let clip = |existing: &str| json!([{"kind": "video", "size": "720p", "name": "once", "purpose": "keep", "existing": existing}]);
    let refused = place.run(other.clone(), clip("fail"));
    assert_eq!(refused["failed"], 1);
    assert!(item(&refused, "once.mkv")["reason"].as_str().unwrap().contains("once.mkv exists already"));
    assert_eq!(place.run(other.clone(), clip("replace"))["failed"], 0);
    assert_ne!(frames, frames_of(&place.path("in/Bed/once.mkv")));
    assert_eq!(place.run(steps, clip("number"))["failed"], 0);
    assert!(place.path("in/Bed/once-2.mkv").exists());
}

#[test]
fn a_clip_that_was_written_when_its_run_was_killed_is_known_again() {
    let place = Place::new(3);
    let deliveries = json!([{"kind": "video", "size": "720p", "name": "clip", "purpose": "keep"}]);
    place.run(json!([]), deliveries.clone());
    let clip = place.path("in/Bed/clip.mkv");
    let (frames, made) = (frames_of(&clip), std::fs::metadata(&clip).unwrap().modified().unwrap());
    // As it would be if the program had gone right behind the clip's last byte: its task is not over.
    let unsay = || {
        let text = "import sqlite3, sys; d = sqlite3.connect(sys.argv[1]); \
            d.execute(\"UPDATE run_items SET state = 'waiting', outputs = NULL, ended = 0 WHERE task IS NOT NULL AND run_id = 1\"); \
            d.execute(\"UPDATE runs SET state = 'running', finished = NULL WHERE id = 1\"); d.commit()";
        let done =
            Command::new("python3").args(["-c", text]).arg(place.path("data/rallo.sqlite")).output().unwrap();
        assert!(done.status.success(), "{done:?}");
    };
    unsay();
    let report = place.run(json!([]), deliveries.clone());
    assert_eq!((&report["run"], &report["failed"]), (&json!(1), &json!(0)), "{report:#}");
    let told = item(&report, "clip.mkv");
    assert_eq!(told["reason"], "already made by this recipe from these pictures", "{told}");
    assert_eq!(std::fs::metadata(&clip).unwrap().modified().unwrap(), made);
    // Or just before it had its name: what was written down of it makes nobody believe that it is there.
    std::fs::remove_file(&clip).unwrap();
    unsay();
    let report = place.run(json!([]), deliveries);
    assert_eq!(report["failed"], 0, "{report:#}");
    assert_eq!(frames_of(&clip), frames);
}

#[test]
fn one_bad_picture_does_not_stop_what_is_made_of_all() {
    let place = Place::new(4);
    std::fs::write(place.path("in/F_003.jpg"), b"\xff\xd8 not any more").unwrap();
    let report = place.run(
        json!([]),
        json!([
            {"kind": "video", "size": "own", "purpose": "keep", "name": "clip"},
            {"kind": "pdf", "rows": 1, "name": "all"},
            {"kind": "frames", "fit": "fill", "folder": "frames"},
        ]),
    );
    let clip = item(&report, "clip.mkv");
    assert_eq!(clip["state"], "done", "{report:#}");
    assert_eq!(clip["reason"], "one picture failed; the frame before stands for it");
    let frames = frames_of(&place.path("in/Bed/clip.mkv"));
    assert_eq!(frames.len(), 4);
    assert!(frames[1] == frames[2] && frames[0] != frames[1] && frames[2] != frames[3]);
    assert_eq!(item(&report, "all.pdf")["reason"], "one picture failed and is not in it");
    assert!(out("pdfinfo", &[], &place.path("in/Bed/all.pdf")).contains("Pages:           3"));
    let gap = item(&report, "frames");
    assert_eq!(gap["state"], "failed");
    let said = gap["reason"].as_str().unwrap();
    assert!(said.contains("have a gap: Bed-00003.jpg of F_003.jpg was not made"), "{said}");
    // Mended and tried again, everything is whole.
    write_jpeg(&place.path("in/F_003.jpg"), 960, 640, 9);
    let rallo = |args: &[&str]| program().env("RALLO_DATA", place.path("data")).args(args).output().unwrap();
    assert!(rallo(&["queue", "retry", &report["run"].to_string()]).status.success());
    let recipe = std::fs::read_to_string(place.path("r.json")).unwrap();
    let recipe: Value = serde_json::from_str(&recipe).unwrap();
    let again = place.run(recipe["steps"].clone(), recipe["deliveries"].clone());
    assert_eq!(again["failed"], 0, "{again:#}");
}

#[test]
fn frames_of_other_proportions_stop_a_run_until_something_is_said() {
    let place = Place::new(2);
    write_jpeg(&place.path("in/G_1.jpg"), 500, 500, 3);
    place.recipe(json!([]), json!([{"kind": "frames"}]));
    let refused = place.command().output().unwrap();
    assert_ne!(refused.status.code(), Some(0));
    let said = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(
        said.contains("G_1.jpg") && said.contains("another proportion than the numbered frames, 960 × 640"),
        "{said}"
    );
    assert!(!place.path("in/Bed frames").exists());
    let report = place.run(json!([]), json!([{"kind": "frames", "fit": "fill"}]));
    assert_eq!(report["failed"], 0);
    assert_eq!(FileSource::open(&place.path("in/Bed frames/Bed-00003.jpg")).unwrap().size().width, 960);
}

#[test]
fn pixels_are_carried_over_when_only_names_and_data_change() {
    let place = Place::new(1);
    // A JPEG on its side, a PNG, a WebP, and a GIF that can only be copied.
    let camera = CameraData { camera: Some("Marlow 24".into()), orientation: 6, ..CameraData::default() };
    let extras = Extras { exif: camera.write().ok(), ..Extras::default() };
    let jpeg = Encoding::Jpeg { quality: 77, chroma: Chroma::Quarter, progressive: true, optimised: false };
    for (name, encoding) in
        [("a.jpg", jpeg), ("b.png", Encoding::Png), ("c.webp", Encoding::WebP { quality: Some(70) })]
    {
        std::fs::write(
            place.path("in").join(name),
            rallo_media::encode(&picture(300, 200, 4), encoding, &extras).unwrap(),
        )
        .unwrap();
    }
    // What another program said of it, in XMP and in IPTC.
    let said = Command::new("exiftool")
        .args([
            "-q",
            "-overwrite_original",
            "-XMP-dc:Title=Seedlings",
            "-XMP-xmp:Label=bed 3",
            "-XMP-photoshop:City=Alder & Co",
        ])
        .args(["-XMP-dc:Creator=Old", "-IPTC:Headline=Spring opens", "-IPTC:By-line=Old"])
        .arg(place.path("in/a.jpg"))
        .status()
        .unwrap();
    assert!(said.success());
    let steps = json!([{"step": "data", "creator": "Mara Quill"}]);
    let delivery = json!([{"kind": "pictures", "format": "as it is", "name": "Pot {n:02} {stem:upper}", "folder": "named"}]);
    let report = place.run(steps.clone(), delivery.clone());
    assert_eq!((&report["failed"], &report["done"]), (&json!(0), &json!(4)), "{report:#}");
    let scan = |path: &Path| -> Vec<u8> {
        let bytes = std::fs::read(path).unwrap();
        // From the first frame header on a JPEG is tables and the compressed scan.
        let start = bytes.windows(2).position(|w| w == [0xff, 0xc2] || w == [0xff, 0xc0]).unwrap();
        bytes[start..].to_vec()
    };
    let at = |name: &str| place.path("in/named").join(name);
    assert!(scan(&place.path("in/a.jpg")) == scan(&at("Pot 01 A.jpg")), "the scan is another");
    let samples = |path: &Path| match FileSource::open(path).unwrap().level(0).unwrap().samples() {
        rallo_engine::Samples::U8(v) => v.clone(),
        _ => panic!(),
    };
    for (from, to) in [("a.jpg", "Pot 01 A.jpg"), ("b.png", "Pot 02 B.png"), ("c.webp", "Pot 03 C.webp")] {
        assert!(samples(&place.path("in").join(from)) == samples(&at(to)), "{to}");
        let told = out("exiftool", &["-json", "-n", "-G1"], &at(to));
        assert!(told.contains("Mara Quill") && !told.contains("Warning"), "{told}");
    }
    assert_eq!(out("exiftool", &["-s3", "-n", "-Orientation"], &at("Pot 01 A.jpg")).trim(), "6");
    let tags = [
        "-XMP-dc:Title",
        "-XMP-xmp:Label",
        "-XMP-photoshop:City",
        "-XMP-dc:Creator",
        "-IPTC:Headline",
        "-IPTC:By-line",
    ];
    let told = out("exiftool", &[&["-s3"][..], &tags].concat(), &at("Pot 01 A.jpg"));
    let lines: Vec<&str> = told.lines().collect();
    assert_eq!(lines, ["Seedlings", "bed 3", "Alder & Co", "Mara Quill", "Spring opens", "Mara Quill"]);
    // Where nothing is to be kept, nothing of it is.
    let nothing = json!([{"step": "data", "keep": "nothing"}]);
    let bare = json!([{"kind": "pictures", "format": "as it is", "name": "{stem}", "folder": "bare"}]);
    assert_eq!(place.run(nothing, bare)["failed"], 0);
    let told = out("exiftool", &["-G1", "-a"], &place.path("in/bare/a.jpg"));
    assert!(
        !["Seedlings", "bed 3", "Alder", "Spring opens", "Old"].iter().any(|w| told.contains(w)),
        "{told}"
    );
    // Not twice.
    assert_eq!(place.run(steps, delivery)["skipped"], 4);
}

#[test]
fn untouched_copies_go_along_with_what_is_made() {
    let place = Place::new(2);
    let steps = json!([{"step": "grey"}, {"step": "data", "creator": "Mara Quill"}]);
    let deliveries = json!([
        {"kind": "pictures", "name": "{stem}", "folder": "web", "long_edge": 200},
        {"kind": "pictures", "format": "copy", "name": "{n:02} {stem}", "folder": "originals", "camera_data": false},
    ]);
    let report = place.run(steps.clone(), deliveries.clone());
    assert_eq!((&report["done"], &report["failed"]), (&json!(2), &json!(0)), "{report:#}");
    for n in 1..=2 {
        let (from, to) = (format!("in/F_00{n}.jpg"), format!("in/originals/0{n} F_00{n}.jpg"));
        assert!(std::fs::read(place.path(&from)).unwrap() == std::fs::read(place.path(&to)).unwrap());
    }
    // Known again by their bytes; one that somebody changed is not written over.
    assert_eq!(place.run(steps.clone(), deliveries.clone())["skipped"], 2);
    std::fs::write(place.path("in/originals/01 F_001.jpg"), "mine").unwrap();
    let again = place.run(steps, deliveries);
    assert_eq!((&again["done"], &again["skipped"]), (&json!(1), &json!(1)), "{again:#}");
    let beside = std::fs::read(place.path("in/originals/01 F_001-2.jpg")).unwrap();
    assert!(beside == std::fs::read(place.path("in/F_001.jpg")).unwrap());
    assert_eq!(std::fs::read(place.path("in/originals/01 F_001.jpg")).unwrap(), b"mine");
}

#[test]
fn a_delivery_has_lines_of_its_own_and_formats_their_depths() {
    let place = Place::new(1);
    let report = place.run(
        json!([]),
        json!([
            {"kind": "pictures", "format": "png", "name": "plain", "folder": "o", "long_edge": 300},
            {"kind": "pictures", "format": "png", "name": "grey", "folder": "o", "long_edge": 300, "steps": [{"step": "grey"}]},
            {"kind": "pictures", "name": "usual", "folder": "o"},
            {"kind": "pictures", "name": "packed", "folder": "o", "optimised": true},
            {"kind": "pictures", "format": "tiff", "bits": 32, "name": "float", "folder": "o", "profile": "rec2020"},
        ]),
    );
    assert_eq!(report["failed"], 0, "{report:#}");
    let at = |name: &str| place.path("in/o").join(name);
    let samples = |path: &Path| FileSource::open(path).unwrap().level(0).unwrap().samples().clone();
    let (rallo_engine::Samples::U8(plain), rallo_engine::Samples::U8(grey)) =
        (samples(&at("plain.png")), samples(&at("grey.png")))
    else {
        panic!()
    };
    assert!(grey.chunks(3).all(|p| p[0] == p[1] && p[1] == p[2]) && plain.chunks(3).any(|p| p[0] != p[2]));
    let eight = |path: &Path| match samples(path) {
        rallo_engine::Samples::U8(v) => v,
        _ => panic!(),
    };
    // Tables of its own make a JPEG smaller and change nothing.
    let length = |name: &str| at(name).metadata().unwrap().len();
    assert!(
        length("packed.jpg") < length("usual.jpg") && eight(&at("packed.jpg")) == eight(&at("usual.jpg"))
    );
    // Few colours are kept as a palette, with nothing lost.
    assert!(out("exiftool", &["-s3", "-ColorType"], &at("grey.png")).contains("Palette"));
    assert!(out("exiftool", &["-s3", "-ColorType"], &at("plain.png")).contains("RGB"));
    let told = out("exiftool", &["-s3", "-BitsPerSample", "-SampleFormat"], &at("float.tif"));
    assert!(told.starts_with("32 32 32") && told.contains("Float"), "{told}");
    let rallo_engine::Samples::F32(float) = samples(&at("float.tif")) else { panic!("no floats") };
    assert!(
        float.iter().all(|v| (0.0..=1.0).contains(v)) && float.iter().any(|v| (v * 65_535.0).fract() > 0.01)
    );
}

/// A page of a document as 8-bit RGB, by another program.
fn page(path: &Path, number: u32) -> Vec<u8> {
    let n = number.to_string();
    let out = Command::new("pdftoppm").args(["-r", "50", "-f", &n, "-l", &n]).arg(path).output().unwrap();
    // P6, size, 255, then the pixels.
    let at = out.stdout.windows(4).position(|w| w == b"255\n").unwrap() + 4;
    out.stdout[at..].to_vec()
}

#[test]
fn a_document_is_made_smaller_and_keeps_everything_else() {
    let place = Place::new(3);
    let report = place.run(
        json!([]),
        json!([{"kind": "pdf", "rows": 3, "columns": 1, "resolution": 600, "quality": 95, "name": "large", "caption": "{n} {stem}"}]),
    );
    assert_eq!(report["failed"], 0);
    let (large, small) = (place.path("in/Bed/large.pdf"), place.path("small.pdf"));
    let rallo = |args: &[&str]| program().args(args).output().unwrap();
    let made = rallo(&[
        "smaller",
        &large.to_string_lossy(),
        "--out",
        &small.to_string_lossy(),
        "--ppi",
        "72",
        "--quality",
        "70",
    ]);
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    assert!(String::from_utf8_lossy(&made.stdout).starts_with("3 of 3 pictures made smaller"));
    let bytes = |p: &Path| p.metadata().unwrap().len();
    assert!(bytes(&small) * 3 < bytes(&large), "{} of {}", bytes(&small), bytes(&large));
    let list = out("pdfimages", &["-list"], &small);
    let ppi = |line: &str| line.split_whitespace().nth(12).and_then(|t| t.parse::<f64>().ok());
    let all: Vec<f64> = list.lines().skip(2).filter_map(ppi).collect();
    assert!(all.len() == 3 && all.iter().all(|p| (60.0..=75.0).contains(p)), "{list}");
    for tool in [["pdfinfo", "Pages:           1"], ["pdfinfo", "Title:           Bed"]] {
        assert!(out(tool[0], &[], &small).contains(tool[1]));
    }
    let text = |p: &Path| {
        String::from_utf8_lossy(&Command::new("pdftotext").arg(p).arg("-").output().unwrap().stdout)
            .into_owned()
    };
    assert!(text(&small) == text(&large) && text(&small).contains("2 F_002"));
    let (a, b) = (page(&large, 1), page(&small, 1));
    assert_eq!(a.len(), b.len());
    let apart = a.iter().zip(&b).map(|(a, b)| f64::from(a.abs_diff(*b))).sum::<f64>() / a.len() as f64;
    assert!(apart < 1.5, "{apart}");
    // Once more there is nothing to gain, and nothing is written over.
    let again = place.path("again.pdf");
    let told = rallo(&[
        "smaller",
        &small.to_string_lossy(),
        "--out",
        &again.to_string_lossy(),
        "--ppi",
        "72",
        "--quality",
        "70",
    ]);
    assert!(String::from_utf8_lossy(&told.stdout).contains("Nothing could be gained") && !again.exists());
    let over = rallo(&["smaller", &large.to_string_lossy(), "--out", &small.to_string_lossy()]);
    assert_eq!(over.status.code(), Some(2));
    let no = rallo(&["smaller", &place.path("r.json").to_string_lossy(), "--out", &again.to_string_lossy()]);
    assert!(String::from_utf8_lossy(&no.stderr).contains("this PDF cannot be read: it is none"));
}

#[test]
fn frames_of_a_clip_become_a_shoot() {
    let place = Place::new(4);
    let made = place.run(json!([]), json!([{"kind": "video", "purpose": "edit", "size": "custom", "width": 320, "height": 214, "name": "clip"}]));
    assert_eq!(made["failed"], 0);
    let clip = place.path("in/Bed/clip.mov");
    let done = program().args(["frames", &clip.to_string_lossy()]).output().unwrap();
    assert!(done.status.success() && String::from_utf8_lossy(&done.stdout).starts_with("4 frames"));
    let folder = place.path("in/Bed/clip frames");
    let first = FileSource::open(&folder.join("clip-000001.png")).unwrap();
    assert_eq!((first.size().width, first.facts(Path::new("x")).bits), (320, 16));
    let no = program().args(["frames", &place.path("r.json").to_string_lossy()]).output().unwrap();
    assert_eq!(no.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&no.stderr).contains("r.json: this clip cannot be read"));
}
