//! The HTTP interface as a script uses it, from the folder to the result and back: what the pages are told is what
//! scripts are told.

use crate::common::web::{Site, site};
use crate::common::*;
use rallo_media::{CameraData, Chroma, Encoding, Extras, FileSource};
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::path::Path;
use std::process::Command;
use std::time::Duration;

/// Twelve frames of one camera, a minute apart, every third at ISO 1600; a file that is none, a note, a hidden file.
fn beds(folder: &Path) {
    let spring = folder.join("pictures/Spring");
    std::fs::create_dir_all(spring.join("Late")).unwrap();
    for i in 1..=12u32 {
        let camera = CameraData {
            taken: format!("2026-05-04T09:{i:02}:00").parse().ok(),
            iso: Some(if i % 3 == 0 { 1600 } else { 100 }),
            camera: Some("Marlow 24".into()),
            orientation: 1,
            ..Default::default()
        };
        let extras = Extras { exif: camera.write().ok(), ..Extras::default() };
        let encoding =
            Encoding::Jpeg { quality: 90, chroma: Chroma::Half, progressive: false, optimised: false };
        let (w, h) = if i == 5 { (400, 600) } else { (600, 400) };
        let name = if i > 10 { format!("Late/B_{i}.jpg") } else { format!("B_{i}.jpg") };
        std::fs::write(spring.join(name), rallo_media::encode(&picture(w, h, i), encoding, &extras).unwrap())
            .unwrap();
    }
    std::fs::write(spring.join("torn.jpg"), b"\xff\xd8\xff\xe0 and no more").unwrap();
    std::fs::write(spring.join("note.txt"), "water on Friday").unwrap();
    std::fs::write(spring.join(".hidden.jpg"), "x").unwrap();
}

struct Desk {
    site: Site,
    folder: tempfile::TempDir,
}

impl Desk {
    /// The shoot of all of them is on the desk and looked through.
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        beds(folder.path());
        let site = site(folder.path(), &[]);
        let desk = Self { site, folder };
        let place = json!({"places": [{"path": desk.spring(), "deep": true}]});
        assert_eq!(desk.post("/api/shoots", place)["shoot"], 1);
        desk.until_scanned();
        desk
    }

    fn spring(&self) -> String {
        self.folder.path().canonicalize().unwrap().join("pictures/Spring").to_string_lossy().into_owned()
    }

    fn get(&self, path: &str) -> Value {
        self.site.json("GET", path, &Value::Null)
    }

    fn post(&self, path: &str, body: Value) -> Value {
        self.site.json("POST", path, &body)
    }

    fn put(&self, path: &str, body: Value) -> Value {
        self.site.json("PUT", path, &body)
    }

    /// What is said where it is refused.
    fn refused(&self, method: &str, path: &str, body: Value) -> (u16, String) {
        let answer = self.site.ask(method, path, &body);
        assert!(answer.status >= 400, "{method} {path}: {}", answer.text());
        (answer.status, answer.json()["detail"].as_str().unwrap_or_default().to_owned())
    }

    fn view(&self, filter: Value) -> Value {
        self.post("/api/view", json!({ "filter": filter }))
    }

    fn until_scanned(&self) {
        for _ in 0..300 {
            let told = self.view(json!({}));
            if told["scanning"] == false && told["total"] != 0 && told["unmeasured"] == 0 {
                return;
            }
            std::thread::sleep(Duration::from_millis(100));
        }
        panic!("it is never looked through");
    }

    /// Names of what a filter leaves, in the order it is shown.
    fn names(&self, filter: Value) -> Vec<String> {
        let ids = self.view(filter)["ids"].clone();
        let rows = self.post("/api/rows", json!({ "ids": ids }));
        let by: BTreeMap<i64, String> = rows
            .as_array()
            .unwrap()
            .iter()
            .map(|r| (r["id"].as_i64().unwrap(), r["name"].as_str().unwrap().replace(".jpg", "")))
            .collect();
        ids.as_array().unwrap().iter().map(|id| by[&id.as_i64().unwrap()].clone()).collect()
    }

    fn id(&self, name: &str) -> Value {
        let found = self.view(json!({ "text": format!("{name}.") }))["ids"].clone();
        assert_eq!(found.as_array().unwrap().len(), 1, "{name}");
        found[0].clone()
    }
}

#[test]
fn folders_are_listed_and_made() {
    let desk = Desk::new();
    let top = desk.get("/api/folders");
    let root = top["folders"][0]["path"].as_str().unwrap();
    assert!(root.ends_with("pictures") && top["path"].is_null());
    let inside = desk.get(&format!("/api/folders?path={root}"));
    assert_eq!(
        (&inside["folders"][0]["name"], &inside["folders"][0]["pictures"]),
        (&json!("Spring"), &json!(11 + 1))
    );
    assert!(inside["parent"].is_null(), "beyond it nothing is to be seen");
    let spring = desk.get(&format!("/api/folders?path={}", desk.spring()));
    let files: Vec<&str> =
        spring["files"].as_array().unwrap().iter().map(|f| f["name"].as_str().unwrap()).collect();
    // As people count, without what is hidden or no picture.
    assert_eq!(files[..3], ["B_1.jpg", "B_2.jpg", "B_3.jpg"]);
    assert_eq!(files[9..], ["B_10.jpg", "torn.jpg"]);
    assert_eq!(spring["parent"], json!(root));
    let made = desk.post("/api/folders", json!({"parent": desk.spring(), "name": "for: the / web. "}));
    assert!(made["path"].as_str().unwrap().ends_with("Spring/for- the - web"), "{made}");
    let again =
        desk.refused("POST", "/api/folders", json!({"parent": desk.spring(), "name": "for- the - web"}));
    assert!(again.0 == 422 && again.1.starts_with("for- the - web cannot be made"), "{again:?}");
    let away = desk.refused("POST", "/api/folders", json!({"parent": "/", "name": "x"}));
    assert_eq!(away.0, 403);
}

#[test]
fn frames_are_narrowed_ordered_and_decided() {
    let desk = Desk::new();
    let all = desk.view(json!({}));
    assert_eq!((&all["total"], &all["open"], &all["name"]), (&json!(13), &json!(13), &json!("Spring")));
    let left = desk.get("/api/shoots/1/left-out");
    assert_eq!((&all["left_out"], &left[0]["name"]), (&json!(1), &json!("note.txt")), "{left}");
    let natural = ["B_1", "B_2", "B_3", "B_4", "B_5", "B_6", "B_7", "B_8", "B_9", "B_10"];
    let names = desk.names(json!({}));
    assert_eq!(names.len(), 13);
    let flat: Vec<&String> =
        names.iter().filter(|n| !["B_11", "B_12", "torn"].contains(&n.as_str())).collect();
    assert_eq!(flat, natural.iter().collect::<Vec<_>>());
    // Facets count what each value would leave.
    let count = |told: &Value, facet: &str, value: &str| -> i64 {
        let all = told["facets"].as_array().unwrap();
        let one = all.iter().find(|f| f["facet"] == facet).unwrap_or_else(|| panic!("{facet}: {told}"));
        let found = one["values"].as_array().unwrap().iter().find(|v| v["value"] == value);
        found.map_or(0, |v| v["count"].as_i64().unwrap())
    };
    assert_eq!((count(&all, "iso", "1600"), count(&all, "iso", "100")), (4, 8));
    assert_eq!(desk.names(json!({"values": {"iso": ["1600"]}})), ["B_3", "B_6", "B_9", "B_12"]);
    let some =
        desk.view(json!({"values": {"iso": ["1600"], "proportion": ["3:2 upright", "2:3", "3:2 portrait"]}}));
    assert_eq!(some["ids"].as_array().unwrap().len(), 0, "the upright one has ISO 100");
    assert_eq!(desk.names(json!({"text": "b_1"})).len(), 4);
    let wrong = desk.refused("POST", "/api/view", json!({"filter": {"values": {"weight": ["1"]}}}));
    assert!(wrong.0 == 422 && wrong.1.contains("weight"), "{wrong:?}");
    // Another order is kept.
    let back = desk.post("/api/view", json!({"order": {"by": "time", "descending": true}}));
    assert_eq!(back["order"]["by"], "time");
    let latest = desk.names(json!({}));
    assert_eq!((latest[0].as_str(), latest[11].as_str(), latest[12].as_str()), ("B_12", "B_1", "torn"));
    desk.post("/api/view", json!({"order": {"by": "name"}}));
    // Deciding, and taking it back.
    let ids: Vec<Value> = ["B_1", "B_2", "B_3"].map(|n| desk.id(n)).to_vec();
    let keep = json!({"ids": ids, "change": {"do": "choice", "to": "kept"}});
    assert_eq!(desk.post("/api/change", keep)["changed"].as_array().map_or(3, Vec::len), 3);
    let told = desk.view(json!({}));
    assert_eq!((&told["kept"], &told["chosen"], &told["word"]), (&json!(3), &json!(3), &json!("kept")));
    desk.post("/api/change", json!({"ids": [ids[0]], "change": {"do": "rating", "to": 5}}));
    desk.post("/api/change", json!({"ids": [ids[0]], "change": {"do": "keywords", "add": ["mint", "pots"]}}));
    assert_eq!(desk.names(json!({"values": {"keyword": ["mint"]}})), ["B_1"]);
    assert_eq!(desk.get("/api/keywords"), json!(["mint", "pots"]));
    desk.post("/api/undo", json!(null));
    assert_eq!(desk.view(json!({"values": {"keyword": ["mint"]}}))["ids"], json!([]));
    desk.post("/api/redo", json!(null));
    assert_eq!(desk.names(json!({"values": {"keyword": ["mint"]}})), ["B_1"]);
    let row = desk.post("/api/rows", json!({"ids": [ids[0]]}))[0].clone();
    assert_eq!(
        (&row["rating"], &row["choice"], &row["keywords"]),
        (&json!(5), &json!("kept"), &json!(["mint", "pots"]))
    );
    let six = desk.refused("POST", "/api/change", json!({"ids": ids, "change": {"do": "rating", "to": 9}}));
    assert_eq!(six.0, 422, "{six:?}");
    // Own keywords: without blanks, each once, by the alphabet.
    assert_eq!(desk.put("/api/keywords", json!(["thyme", " ", "Mint", "thyme"])), json!(["Mint", "thyme"]));
    // What is torn is told apart, with a reason.
    let torn = desk.post("/api/rows", json!({"ids": [desk.id("torn")]}))[0].clone();
    assert!(torn["problem"].as_str().is_some_and(|p| !p.is_empty()) && torn["facts"].is_null(), "{torn}");
}

#[test]
fn times_are_corrected_checked_and_written_beside() {
    let desk = Desk::new();
    let ids = desk.view(json!({"values": {"iso": ["100"]}}))["ids"].clone();
    // By what one frame's time becomes; nothing is changed by asking.
    let asked =
        desk.post("/api/shift", json!({"ids": ids, "frame": ids[0], "becomes": "2026-05-04 11:01:30"}));
    assert_eq!(
        (&asked["millis"], &asked["timed"], &asked["untimed"]),
        (&json!(7_230_000), &json!(8), &json!(0))
    );
    assert_eq!(asked["lines"][0]["before"], "2026-05-04 09:01:00");
    assert_eq!(asked["lines"][0]["after"], "2026-05-04 11:01:30");
    let wrong =
        desk.refused("POST", "/api/shift", json!({"ids": ids, "frame": ids[0], "becomes": "at noon"}));
    assert!(wrong.1.contains("expected a time such as 2026-05-04 09:31:07, got \"at noon\""), "{wrong:?}");
    let none = desk.refused("POST", "/api/shift", json!({"ids": ids}));
    assert_eq!(none.1, "say by how much, or what one frame's time becomes");
    let torn = json!({"ids": [desk.id("torn")], "frame": desk.id("torn"), "becomes": "2026-05-04 11:01:30"});
    assert!(desk.refused("POST", "/api/shift", torn).1.contains("no capture time"));
    desk.post("/api/change", json!({"ids": ids, "change": {"do": "shift", "millis": 7_230_000}}));
    let row = desk.post("/api/rows", json!({"ids": [ids[0]]}))[0].clone();
    assert_eq!(row["shift"], 7_230_000);
    assert!(row["taken"].as_str().unwrap().starts_with("2026-05-04T11:01:30"), "{row}");
    desk.post("/api/undo", json!(null));
    // A steady minute, but for the upright one's size.
    let told = desk.post("/api/check", json!({"ids": []}));
    assert_eq!(told["check"]["interval"], 60.0);
    let said = told["check"]["statements"].to_string();
    assert!(said.contains("60 s") || said.contains("1 min"), "{said}");
    // Sidecars take ratings along, to another shoot or another program.
    let one = desk.id("B_4");
    desk.post("/api/change", json!({"ids": [one], "change": {"do": "rating", "to": 4}}));
    desk.post("/api/change", json!({"ids": [one], "change": {"do": "keywords", "add": ["thyme"]}}));
    assert_eq!(desk.post("/api/sidecars", json!({"ids": [one], "write": true}))["count"], 1);
    let beside: Vec<_> = std::fs::read_dir(desk.spring())
        .unwrap()
        .flatten()
        .filter(|e| e.path().extension().is_some_and(|x| x == "xmp"))
        .map(|e| e.path())
        .collect();
    assert_eq!(beside.len(), 1);
    desk.post("/api/change", json!({"ids": [one], "change": {"do": "rating", "to": 0}}));
    let read = desk.post("/api/sidecars", json!({"ids": [one, desk.id("B_5")], "write": false}));
    assert_eq!((&read["count"], &read["trouble"]), (&json!(1), &json!([])));
    assert_eq!(desk.post("/api/rows", json!({"ids": [one]}))[0]["rating"], 4);
    std::fs::write(&beside[0], "<x").unwrap();
    let read = desk.post("/api/sidecars", json!({"ids": [one], "write": false}));
    assert!(read["trouble"][0].as_str().unwrap().starts_with("B_4.jpg: "), "{read}");
}

#[test]
fn a_document_holds_what_is_measured_and_sieved() {
    let desk = Desk::new();
    let measured = json!({
        "areas": [{"name": "bed", "rectangle": [0, 0.5, 1, 0.5]}],
        "passes": [{"pass": "every", "n": 2}],
    });
    desk.post("/api/sequence/measure", measured);
    let until_measured = || {
        for _ in 0..300 {
            let told = desk.get("/api/sequence");
            if !told["frames"].as_array().unwrap().is_empty() {
                return told;
            }
            std::thread::sleep(Duration::from_millis(100));
        }
        panic!("it is never measured");
    };
    until_measured();
    let aside = desk.post("/api/sequence/apply", json!({}))["aside"].clone();
    assert!(aside.as_u64() > Some(0), "{aside}");
    let document = desk.site.ask("GET", "/api/shoot-file", &Value::Null).json();
    let by_sieve = |f: &&Value| f["by_sieve"] == true;
    let count = document["frames"].as_array().unwrap().iter().filter(by_sieve).count();
    assert_eq!((json!(count), &document["sequence"]["areas"][0]["name"]), (aside.clone(), &json!("bed")));
    // Taken over, all is as it was, and what the sieve set aside comes back without its passes.
    desk.post("/api/sequence/measure", json!({"areas": [], "passes": []}));
    let bearer = format!("Bearer {}", desk.site.token);
    let load =
        |text: &str| desk.site.raw("POST /api/shoot-file", &[("Authorization", &bearer)], text.as_bytes());
    assert_eq!(load(&document.to_string()).status, 200);
    let told = until_measured();
    assert_eq!(
        (&told["areas"], &told["passes"]),
        (&document["sequence"]["areas"], &document["sequence"]["passes"])
    );
    desk.post("/api/sequence/measure", json!({"areas": [], "passes": []}));
    until_measured();
    assert_eq!(desk.post("/api/sequence/apply", json!({}))["back"], aside);
    let wrong = load(&document.to_string().replace("\"every\"", "\"often\""));
    assert_eq!(wrong.status, 422, "{}", wrong.text());
}

#[test]
fn a_shoot_goes_out_as_a_document_and_comes_back_as_it_was() {
    let desk = Desk::new();
    let kept: Vec<Value> = ["B_2", "B_7"].map(|n| desk.id(n)).to_vec();
    desk.post("/api/change", json!({"ids": kept, "change": {"do": "choice", "to": "kept"}}));
    desk.post("/api/change", json!({"ids": [kept[1]], "change": {"do": "shift", "millis": -500}}));
    let file = desk.site.ask("GET", "/api/shoot-file", &Value::Null);
    assert!(file.header("content-disposition").unwrap().contains("Spring.rallo-shoot.json"));
    let document = file.json();
    assert_eq!((&document["format"], &document["name"]), (&json!("rallo-shoot"), &json!("Spring")));
    desk.post("/api/change", json!({"ids": kept, "change": {"do": "choice", "to": "set_aside"}}));
    // The body is the document's text itself.
    let bearer = format!("Bearer {}", desk.site.token);
    let load =
        |text: &str| desk.site.raw("POST /api/shoot-file", &[("Authorization", &bearer)], text.as_bytes());
    let taken = load(&document.to_string()).json();
    assert_eq!((&taken["frames"], &taken["missing"]), (&json!(13), &json!(0)), "{taken}");
    assert_eq!(desk.view(json!({}))["kept"], 2);
    assert_eq!(desk.post("/api/rows", json!({"ids": [kept[1]]}))[0]["shift"], -500);
    let wrong = load("{\"format\": \"rallo-shoot\", \"version\": 1}");
    assert!(wrong.status == 422 && !wrong.json()["detail"].as_str().unwrap().is_empty());
    // Selections hold frames of any shoot and are forgotten without them.
    let made = desk.post("/api/selections", json!({"name": " Best ", "ids": kept}));
    assert_eq!(made["name"], "Best");
    assert_eq!(desk.get("/api/selections")[0]["frames"], 2);
    desk.put("/api/desk", json!({"list": made["id"]}));
    assert_eq!(desk.names(json!({})), ["B_2", "B_7"]);
    desk.post(&format!("/api/selections/{}/remove", made["id"]), json!({"ids": [kept[0]]}));
    assert_eq!(desk.names(json!({})), ["B_7"]);
    desk.site.json("DELETE", &format!("/api/selections/{}", made["id"]), &Value::Null);
    assert_eq!(desk.get("/api/selections"), json!([]));
    // Files that were dropped on a page are found where they lie.
    let path = Path::new(&desk.spring()).join("B_3.jpg");
    let about = path.metadata().unwrap();
    let millis = about.modified().unwrap().duration_since(std::time::UNIX_EPOCH).unwrap().as_millis() as i64;
    let found = desk.post(
        "/api/dropped",
        json!([{"name": "B_3.jpg", "size": about.len(), "modified": millis}, {"name": "B_4.jpg", "size": 1, "modified": millis}]),
    );
    assert_eq!(found, json!({"places": [{"path": path}], "missing": ["B_4.jpg"]}));
}

fn web(name: &str) -> Value {
    json!({"format": "rallo-recipe", "version": 1, "name": name, "steps": [{"step": "exposure", "stops": 0.5}],
        "deliveries": [{"kind": "pictures", "format": "png", "long_edge": 120, "name": "{stem}-s", "to": "subfolder"}]})
}

#[test]
fn recipes_have_versions_copies_files_and_blocks() {
    let desk = Desk::new();
    let one = desk.post("/api/recipes", web("Web"));
    assert_eq!((&one["version"], &one["name"]), (&json!(1), &json!("Web")));
    assert!(one["said"].as_str().unwrap().contains("Make it 0.5 stops brighter"));
    let at = format!("/api/recipes/{}", one["id"]);
    let mut changed = one["document"].clone();
    changed["steps"][0]["stops"] = json!(1.5);
    let two = desk.put(&at, json!({"version": 1, "document": changed}));
    assert_eq!(two["version"], 2);
    // From an old version: nothing is written over.
    let mut late = one["document"].clone();
    late["steps"][0]["stops"] = json!(3);
    let conflict = desk.refused("PUT", &at, json!({"version": 1, "document": late}));
    assert!(conflict.0 == 409 && conflict.1.contains("changed in another window"), "{conflict:?}");
    let faulty = desk.refused("PUT", &at, json!({"version": 2, "document": {"format": "rallo-recipe", "version": 1, "name": "x", "steps": [{"step": "exposure", "stops": 99}]}}));
    assert!(faulty.0 == 422 && faulty.1.starts_with("steps[0].exposure.stops: expected"), "{faulty:?}");
    let versions = desk.get(&format!("{at}/versions"));
    assert_eq!(versions.as_array().unwrap().len(), 2);
    assert!(versions[0]["changes"].to_string().contains("1.5"), "{versions}");
    assert_eq!(versions[1]["changes"], json!(["the first version"]));
    assert_eq!(desk.get(&format!("{at}/versions/1"))["document"], one["document"]);
    // Back to the first is a third, with the first's document.
    let back = desk.post(&format!("{at}/versions/1"), json!(null));
    assert_eq!((&back["version"], &back["document"]), (&json!(3), &one["document"]));
    let copy = desk.post(&format!("{at}/copy"), json!(null));
    assert_eq!((&copy["name"], &copy["version"]), (&json!("Web, copy"), &json!(1)));
    assert_ne!(copy["id"], one["id"]);
    // Out as a file, in again; what is wrong in a file is said for each recipe by itself.
    let file =
        desk.site.ask("GET", &format!("/api/recipes/file?ids={},{}", one["id"], copy["id"]), &Value::Null);
    assert!(file.header("content-disposition").unwrap().contains("recipes.rallo-recipe.json"));
    let mut text = file.json();
    assert_eq!(text["recipes"].as_array().unwrap().len(), 2, "{text}");
    text["recipes"][1]["steps"][0]["stops"] = json!("bright");
    let loaded = desk.post("/api/recipes/load", json!(text.to_string()));
    assert_eq!(loaded["kept"][0]["name"], "Web");
    assert!(loaded["refused"][0]["faults"][0].as_str().unwrap().contains("exposure.stops"), "{loaded}");
    // With the one there is to begin with.
    let all = desk.get("/api/recipes");
    assert_eq!(all.as_array().unwrap().len(), 4, "{all:#}");
    // One recipe within another.
    let base = json!({"format": "rallo-recipe", "version": 1, "name": "Base", "steps": [{"step": "contrast", "amount": 9}]});
    let base = desk.post("/api/recipes", base);
    let block = desk.post(
        "/api/recipes/block",
        json!({"version": 3, "document": back["document"], "recipe": base["id"], "follow": true}),
    );
    let inside = &block["document"]["steps"];
    assert_eq!((&inside[1]["step"], &inside[1]["block"]), (&json!("contrast"), &json!("Base")), "{block}");
    // Kept values, and those that come by themselves.
    assert!(desk.get("/api/starters").as_array().unwrap().len() > 3);
    desk.site.ask("DELETE", &at, &Value::Null);
    assert_eq!(desk.refused("GET", &at, Value::Null).0, 404);
}

#[test]
fn a_run_is_looked_at_made_reported_and_taken_back() {
    let desk = Desk::new();
    let before = state(Path::new(&desk.spring()));
    desk.post("/api/recipes", web("Web"));
    let sheet = desk.post("/api/sheet", json!({}));
    assert_eq!(sheet["count"], 13);
    let text = sheet["names"].to_string();
    assert!(text.contains("B_1-s.png") && text.contains("[120,80]") && text.contains("[80,120]"), "{text}");
    assert!(sheet["free"].as_str().is_some_and(|f| f.ends_with('B')), "{sheet}");
    // Another length for this run alone, and one left out.
    let small = json!({"delivery": [{"at": 0, "values": {"long_edge": 60}}], "leave_out": [desk.id("torn")]});
    let sheet = desk.post("/api/sheet", small.clone());
    assert_eq!((&sheet["count"], &sheet["left_out"]), (&json!(12), &json!(1)));
    let measured = desk.post("/api/sheet/measure", small.clone());
    assert_eq!(measured["measured"], 4);
    for text in ["bytes", "each"] {
        let size = measured[text].as_str().unwrap();
        assert!(size.ends_with("kB") || size.ends_with("bytes"), "{measured}");
    }
    let wrong =
        desk.refused("POST", "/api/sheet", json!({"delivery": [{"at": 0, "values": {"long_edge": 0}}]}));
    assert!(wrong.0 == 422 && wrong.1.contains("long_edge"), "{wrong:?}");
    let run = desk.post("/api/runs", small)["run"].clone();
    let report = desk.site.done(&run);
    assert_eq!((&report["done"], &report["failed"]), (&json!(12), &json!(0)), "{report}");
    let made = Path::new(&desk.spring()).join("Web/B_1-s.png");
    let source = FileSource::open(&made).unwrap();
    assert_eq!(rallo_engine::Source::size(&source), rallo_engine::Size::new(60, 40));
    let told = desk.get(&format!("/api/runs/{run}"));
    assert_eq!(told["items"].as_array().unwrap().len(), 12);
    let last = told["items"].as_array().unwrap().iter().map(|i| i["ended"].as_i64().unwrap()).max().unwrap();
    assert_eq!(desk.get(&format!("/api/runs/{run}?since={last}"))["items"], json!([]));
    assert!(told["progress"]["each"].as_f64().unwrap() > 0.0 && told["progress"]["left"].is_null());
    let table = desk.site.ask("GET", &format!("/api/runs/{run}/report.csv"), &Value::Null);
    assert_eq!(table.text().lines().count(), 13);
    // All of it in one file, byte for byte.
    let zip = desk.site.ask("GET", &format!("/api/runs/{run}/results.zip"), &Value::Null);
    let file = desk.folder.path().join("results.zip");
    std::fs::write(&file, zip.body).unwrap();
    let read = "import sys, zipfile; z = zipfile.ZipFile(sys.argv[1]); \
        sys.stdout.buffer.write(z.read(next(n for n in z.namelist() if n.endswith(sys.argv[2]))))";
    let python = Command::new("python3").args(["-c", read]).arg(&file).arg("B_1-s.png").output().unwrap();
    let bytes = python.stdout;
    assert_eq!(bytes, std::fs::read(&made).unwrap());
    // Results are no frames, and known as done.
    desk.post("/api/shoots/1/scan", json!(null));
    desk.until_scanned();
    assert_eq!(desk.view(json!({}))["total"], 13);
    assert_eq!(desk.view(json!({"values": {"done": ["done"]}}))["ids"].as_array().unwrap().len(), 12);
    // Pictures of it, small and whole.
    for (what, begins) in [("thumb", &b"\xff\xd8"[..]), ("result", b"\x89PNG"), ("original", b"\xff\xd8")] {
        let picture = desk.site.ask("GET", &format!("/api/runs/{run}/items/0/{what}"), &Value::Null);
        assert!(picture.status == 200 && picture.body.starts_with(begins), "{what}: {}", picture.head);
    }
    // What only joins others has no size of its own.
    let mut clip = web("Clip");
    clip["deliveries"] = json!([{"kind": "video", "size": "custom", "width": 160, "height": 90}]);
    desk.post("/api/recipes", clip);
    let measured = desk.post("/api/sheet/measure", json!({"leave_out": [desk.id("torn")]}));
    assert!(
        measured["each"].is_null() && measured["bytes"].as_str().is_some_and(|b| b.ends_with("kB")),
        "{measured}"
    );
    desk.put("/api/desk", json!({"recipe": 2}));
    // The same once more makes nothing; with the torn one that one fails.
    let again = desk.post("/api/runs", json!({"delivery": [{"at": 0, "values": {"long_edge": 60}}]}));
    let report = desk.site.done(&again["run"]);
    assert_eq!((&report["skipped"], &report["failed"]), (&json!(12), &json!(1)), "{report}");
    let failed = desk.get(&format!("/api/runs/{}", again["run"]))["failed"][0].clone();
    assert_eq!((&failed["source"], &failed["kind"]), (&json!("torn.jpg"), &json!("unreadable")), "{failed}");
    // One result is altered by somebody: that one stays.
    std::fs::write(Path::new(&desk.spring()).join("Web/B_2-s.png"), "mine now").unwrap();
    let gone = desk.post(&format!("/api/runs/{run}/undo"), json!({}));
    assert_eq!((&gone["gone"], gone["kept"].as_array().unwrap().len()), (&json!(11), 1), "{gone}");
    assert!(!made.exists() && Path::new(&desk.spring()).join("Web/B_2-s.png").exists());
    std::fs::remove_dir_all(Path::new(&desk.spring()).join("Web")).unwrap();
    assert_eq!(state(Path::new(&desk.spring())), before, "originals are what they were");
}

#[test]
fn copies_are_planned_made_and_found_again() {
    let desk = Desk::new();
    let target = desk.folder.path().canonicalize().unwrap().join("pictures/Work");
    let start = json!({"target": target, "template": "{taken:%Y%m%d-%H%M%S} {stem}"});
    let until = |phase: &str| {
        for _ in 0..200 {
            let told = desk.get("/api/gather");
            if told["phase"] == phase {
                return told;
            }
            std::thread::sleep(Duration::from_millis(50));
        }
        panic!("never {phase}: {}", desk.get("/api/gather"));
    };
    desk.post("/api/gather", start.clone());
    let plan = until("planned");
    assert!(!target.exists(), "a plan writes nothing");
    let lines = plan["report"]["lines"].as_array().unwrap();
    assert!(lines.iter().any(|l| l["name"] == "20260504-090100 B_1.jpg" && l["what"] == "copy"), "{plan}");
    desk.post("/api/gather/go", json!(null));
    let ended = until("ended");
    assert_eq!(ended["report"]["copied"], lines.len());
    let copy = target.join("20260504-090100 B_1.jpg");
    assert_eq!(
        std::fs::read(&copy).unwrap(),
        std::fs::read(Path::new(&desk.spring()).join("B_1.jpg")).unwrap()
    );
    // Once more: they are there.
    desk.post("/api/gather", start);
    let again = until("planned");
    assert!(again["report"]["lines"].as_array().unwrap().iter().all(|l| l["what"] == "there"), "{again}");
    let wrong = desk.refused("POST", "/api/gather", json!({"target": "/etc", "template": "{stem}"}));
    assert_eq!(wrong.0, 403);
    let wrong = desk.refused("POST", "/api/gather", json!({"target": target, "template": "{stam}"}));
    assert!(wrong.0 == 422 && wrong.1.contains("unknown field {stam}"), "{wrong:?}");
}

#[test]
fn the_course_of_a_clips_window_is_told_as_it_will_be_made() {
    let desk = Desk::new();
    // Of frames of 600 × 400: the largest window of 16:9 is 600 × 337.5.
    let clip = |more: Value| {
        let mut one = json!({"kind": "video", "size": "720p", "fit": "move", "ease": "even", "length": 4, "hold_first": 1,
            "hold_last": 2, "times": 3, "move": [[0, 0.5, 0.5, 1], [0.5, 0.25, 0.5, 0.5], [1, 1, 1, 0.5]]});
        one.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        json!({"format": "rallo-recipe", "version": 1, "name": "m", "steps": [], "deliveries": [{"kind": "pdf"}, one]})
    };
    let told =
        |recipe: Value| desk.post("/api/move", json!({"recipe": recipe, "frame": desk.id("B_1"), "at": 1}));
    let all = told(clip(json!({})));
    assert_eq!((&all["size"], &all["clip"]), (&json!([600, 400]), &json!([1280, 720])));
    // Holds and turns are not the way's.
    assert!((all["seconds"].as_f64().unwrap() - 4.0).abs() < 1e-9, "{}", all["seconds"]);
    let windows: Vec<[f64; 4]> = serde_json::from_value(all["windows"].clone()).unwrap();
    assert_eq!(windows.len(), 201);
    let near = |at: usize, want: [f64; 4]| {
        assert!(
            windows[at].iter().zip(want).all(|(a, b)| (a - b).abs() < 1e-9),
            "{at}: {:?}, want {want:?}",
            windows[at]
        );
    };
    let high = 337.5 / 400.0;
    near(0, [0.0, (1.0 - high) / 2.0, 1.0, high]);
    near(100, [0.0, 0.5 - high / 4.0, 0.5, high / 2.0]);
    // Beyond the corner there is nothing: it stays in it.
    near(200, [0.5, 1.0 - high / 2.0, 0.5, high / 2.0]);
    let inside = |w: &[f64; 4]| {
        w[0] >= -1e-9 && w[1] >= -1e-9 && w[0] + w[2] <= 1.0 + 1e-9 && w[1] + w[3] <= 1.0 + 1e-9
    };
    assert!(windows.iter().all(inside));
    // By equal factors to the second mark, then all of one size.
    let factor = windows[1][2] / windows[0][2];
    assert!(windows[..101].windows(2).all(|w| (w[1][2] / w[0][2] - factor).abs() < 1e-9));
    assert!(windows[100..].iter().all(|w| (w[2] - 0.5).abs() < 1e-9));
    // Lines that come before it count, and the frames' own size and proportion.
    let mut cropped = clip(json!({"size": "own", "move": [[0, 0.5, 0.5, 1]]}));
    cropped["steps"] = json!([{"step": "crop", "proportion": "1:1"}]);
    let square = told(cropped);
    assert_eq!(
        (&square["size"], &square["clip"], &square["windows"][50]),
        (&json!([400, 400]), &json!([400, 400]), &json!([0.0, 0.0, 1.0, 1.0]))
    );
    // A clip without a move has none to tell; what is no clip is refused, as are marks that make no sense.
    assert_eq!(told(clip(json!({"fit": "fill"})))["windows"], json!([]));
    let ask = |recipe: Value, at: usize| {
        desk.refused("POST", "/api/move", json!({"recipe": recipe, "frame": desk.id("B_1"), "at": at}))
    };
    assert!(ask(clip(json!({})), 0).1.starts_with("at: expected the place of a clip"));
    assert!(ask(clip(json!({})), 9).1.starts_with("at: expected the place of a clip"));
    let wrong = ask(clip(json!({"move": [[0.5, 0.5, 0.5, 1], [0.2, 0.5, 0.5, 1]]})), 1);
    assert!(
        wrong.0 == 422 && wrong.1.contains("expected times that rise from mark to mark, got 0.2 after 0.5"),
        "{wrong:?}"
    );
}
