//! What results carry beside their pixels, as another program reads it.

use crate::common::*;
use rallo_media::{CameraData, Chroma, Encoding, Extras, encode};
use serde_json::{Value, json};
use std::path::Path;
use std::process::Command;

/// A photograph with a place and a serial number.
fn write_photo(path: &Path) {
    let camera = CameraData {
        taken: "2026-05-04T09:31:07".parse().ok(),
        camera: Some("Marlow 24".into()),
        iso: Some(800),
        gps: Some([51.5, -2.25]),
        ..CameraData::default()
    };
    let extras = Extras { exif: Some(camera.write().unwrap()), ..Extras::default() };
    let encoding = Encoding::Jpeg { quality: 90, chroma: Chroma::Full, progressive: false, optimised: false };
    std::fs::write(path, encode(&picture(600, 400, 1), encoding, &extras).unwrap()).unwrap();
    write_tags(path, &["-ExifIFD:SerialNumber=M24-0007", "-ExifIFD:OwnerName=Mara"]);
}

fn write_tags(path: &Path, tags: &[&str]) {
    let done =
        Command::new("exiftool").args(["-q", "-overwrite_original"]).args(tags).arg(path).status().unwrap();
    assert!(done.success());
}

/// All tags of a file, by group and name.
fn exiftool(path: &Path) -> Value {
    let out = Command::new("exiftool").args(["-json", "-G1"]).arg(path).output().unwrap();
    let mut all: Value = serde_json::from_slice(&out.stdout).unwrap();
    all[0].take()
}

fn run_recipe(recipe: &Value, from: &Path) {
    let file = from.join("recipe.json");
    std::fs::write(&file, recipe.to_string()).unwrap();
    let done = rallo(&["run", &file.to_string_lossy(), "--from", &from.to_string_lossy()]);
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
}

#[test]
fn other_programs_read_creator_rights_caption_keywords_time_and_resolution() {
    let folder = tempfile::tempdir().unwrap();
    let originals = folder.path().join("in");
    std::fs::create_dir(&originals).unwrap();
    write_photo(&originals.join("TN_1.jpg"));
    for format in ["jpeg", "png"] {
        let recipe = json!({
            "format": "rallo-recipe", "version": 1, "name": "Press",
            "steps": [
                {"step": "resize", "long_edge": 200},
                {"step": "data", "creator": "Mara Quill", "copyright": "© {taken:%Y} Thistlewick Nursery",
                 "caption": "Thyme & sage in Grünzeug pots, ISO {iso}", "add": ["thyme", "pots & trays"],
                 "shift": "-1:00", "resolution": 240, "keep": "without place and serial numbers"},
            ],
            "deliveries": [{"kind": "pictures", "format": format, "to": "subfolder", "folder": format}],
        });
        run_recipe(&recipe, &originals);
        let ending = if format == "png" { "png" } else { "jpg" };
        let tags = exiftool(&originals.join(format).join(format!("TN_1.{ending}")));
        let says = |tag: &str| tags.get(tag).cloned().unwrap_or(Value::Null);
        let caption = "Thyme & sage in Grünzeug pots, ISO 800";
        for (tag, want) in [
            ("IFD0:Artist", json!("Mara Quill")),
            ("XMP-dc:Creator", json!("Mara Quill")),
            ("IFD0:Copyright", json!("© 2026 Thistlewick Nursery")),
            ("XMP-dc:Rights", json!("© 2026 Thistlewick Nursery")),
            ("IFD0:ImageDescription", json!(caption)),
            ("XMP-dc:Description", json!(caption)),
            ("XMP-dc:Subject", json!(["thyme", "pots & trays"])),
            ("ExifIFD:DateTimeOriginal", json!("2026:05:04 08:31:07")),
            ("IFD0:XResolution", json!(240)),
            ("IFD0:Make", json!("Marlow")),
            ("ExifIFD:ISO", json!(800)),
        ] {
            assert_eq!(says(tag), want, "{format} {tag}: {tags}");
        }
        for gone in
            ["GPS:GPSLatitude", "ExifIFD:SerialNumber", "ExifIFD:LensSerialNumber", "ExifIFD:OwnerName"]
        {
            assert_eq!(says(gone), Value::Null, "{format} {gone}: {tags}");
        }
        if format == "jpeg" {
            assert_eq!(says("IPTC:By-line"), json!("Mara Quill"));
            assert_eq!(says("IPTC:CopyrightNotice"), json!("© 2026 Thistlewick Nursery"));
            assert_eq!(says("IPTC:Caption-Abstract"), json!(caption));
            assert_eq!(says("IPTC:Keywords"), json!(["thyme", "pots & trays"]));
            assert_eq!(
                (says("JFIF:XResolution"), says("JFIF:ResolutionUnit")),
                (json!(240), json!("inches"))
            );
        } else {
            // 240 to the inch are 9449 to the metre.
            assert_eq!(says("PNG-pHYs:PixelsPerUnitX"), json!(9449));
        }
        assert_eq!(says("ExifTool:Warning"), Value::Null, "{tags}");
    }
}

#[test]
fn what_is_kept_of_the_original_is_as_asked() {
    let folder = tempfile::tempdir().unwrap();
    let originals = folder.path().join("in");
    std::fs::create_dir(&originals).unwrap();
    write_photo(&originals.join("TN_1.jpg"));
    // The original says all this itself, as another program wrote it.
    write_tags(
        &originals.join("TN_1.jpg"),
        &[
            "-XMP-dc:Subject=thyme",
            "-XMP-dc:Subject+=sage",
            "-XMP:Rating=3",
            "-IPTC:By-line=Mara Quill",
            "-EXIF:Copyright=ours",
            "-codedcharacterset=utf8",
            "-IPTC:Caption-Abstract=Thyme, Grünzeug",
        ],
    );
    let made = |name: &str, steps: Value| {
        let recipe = json!({
            "format": "rallo-recipe", "version": 1, "name": name, "steps": steps,
            "deliveries": [{"kind": "pictures", "format": "jpeg", "to": "subfolder"}],
        });
        run_recipe(&recipe, &originals);
        exiftool(&originals.join(name).join("TN_1.jpg"))
    };
    let all = made("all", json!([{"step": "data", "remove": ["Sage"], "add": ["pots"]}]));
    assert_eq!(all["XMP-dc:Subject"], json!(["thyme", "pots"]));
    assert_eq!((&all["XMP-xmp:Rating"], &all["IPTC:By-line"]), (&json!(3), &json!("Mara Quill")));
    assert_eq!((&all["XMP-dc:Creator"], &all["XMP-dc:Rights"]), (&json!("Mara Quill"), &json!("ours")));
    assert_eq!(all["XMP-dc:Description"], json!("Thyme, Grünzeug"));
    assert_eq!(all["ExifIFD:SerialNumber"], json!("M24-0007"));
    assert!(all["GPS:GPSLatitude"].is_string());
    let placeless = made("placeless", json!([{"step": "data", "keep": "without place"}]));
    assert!(placeless["GPS:GPSLatitude"].is_null() && placeless["ExifIFD:SerialNumber"] == json!("M24-0007"));
    let bare = made("bare", json!([{"step": "data", "keep": "nothing", "copyright": "© Thistlewick"}]));
    for gone in
        ["GPS:GPSLatitude", "IFD0:Model", "ExifIFD:DateTimeOriginal", "XMP-dc:Subject", "IPTC:By-line"]
    {
        assert!(bare[gone].is_null(), "{gone}: {bare}");
    }
    assert_eq!(bare["IFD0:Copyright"], json!("© Thistlewick"));
}

#[test]
fn what_was_decided_about_frames_counts_in_conditions_and_results() {
    let folder = tempfile::tempdir().unwrap();
    for name in ["TN_1.jpg", "TN_2.jpg"] {
        write_photo(&folder.path().join(name));
    }
    let shoot = json!({
        "format": "rallo-shoot", "version": 1, "name": "Beds",
        "frames": [
            {"path": "TN_1.jpg", "rating": 5, "keywords": ["thyme"], "shift": 3600.0},
            {"path": "TN_2.jpg", "rating": 1},
        ],
    });
    let recipe = json!({
        "format": "rallo-recipe", "version": 1, "name": "Best",
        "steps": [
            {"step": "grey", "when": "rating at least 4 and keyword is \"thyme\" and taken from 10:00 to 11:00"},
            {"step": "data", "caption": "{taken:%H:%M}"},
        ],
        "deliveries": [{"kind": "pictures", "format": "png", "to": "subfolder"}],
    });
    let at = |name: &str| folder.path().join(name).to_string_lossy().into_owned();
    std::fs::write(at("shoot.json"), shoot.to_string()).unwrap();
    std::fs::write(at("recipe.json"), recipe.to_string()).unwrap();
    let done = rallo(&["run", &at("recipe.json"), "--shoot", &at("shoot.json")]);
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    for (name, grey, rating, caption) in [("TN_1.png", true, 5, "10:31"), ("TN_2.png", false, 1, "09:31")] {
        let file = folder.path().join("Best").join(name);
        let picture = rallo_media::FileSource::open(&file).unwrap();
        let level = rallo_engine::Source::level(&picture, 0).unwrap();
        let rallo_engine::Samples::U8(px) = level.samples() else { panic!() };
        let spread = px.as_chunks::<3>().0.iter().map(|p| p[0].abs_diff(p[2])).max().unwrap();
        assert_eq!(spread <= 1, grey, "{name}: {spread}");
        let tags = exiftool(&file);
        assert_eq!((&tags["XMP-xmp:Rating"], &tags["XMP-dc:Description"]), (&json!(rating), &json!(caption)));
    }
}
