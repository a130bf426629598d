//! More ways in: watched folders, dropped pictures, a file manager's entry, the same run once more, addresses after a run.

use crate::common::web::{Site, site};
use crate::common::*;
use serde_json::{Value, json};
use std::io::{Read, Write};
use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

fn recipe(name: &str) -> Value {
    json!({"format": "rallo-recipe", "version": 1, "name": name,
        "steps": [{"step": "exposure", "stops": 0.3}, {"step": "resize", "long_edge": 300}],
        "deliveries": [{"kind": "pictures", "quality": 80, "name": "{n:03}-{stem}"}]})
}

struct Place {
    folder: tempfile::TempDir,
}

impl Place {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir_all(folder.path().join("pictures/In")).unwrap();
        std::fs::write(folder.path().join("web.json"), recipe("Web").to_string()).unwrap();
        Self { folder }
    }

    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn rallo(&self, args: &[&str]) -> String {
        let done = Command::new(env!("CARGO_BIN_EXE_rallo"))
            .args(["--data", &self.path("data").to_string_lossy()])
            .args(args)
            .output()
            .unwrap();
        assert!(done.status.success(), "{args:?}: {}", String::from_utf8_lossy(&done.stderr));
        String::from_utf8(done.stdout).unwrap()
    }

    fn watch(&self, more: &[&str]) {
        let (recipe, folder, out) =
            (self.path("web.json"), self.path("pictures/In"), self.path("pictures/Out"));
        let (recipe, folder, out) =
            (recipe.to_string_lossy(), folder.to_string_lossy(), out.to_string_lossy());
        let mut args = vec!["watch", "add", &recipe, "--folder", &folder, "--to", &out];
        args.extend(more);
        self.rallo(&args);
    }

    /// Names of the results, in order, once there are so many and nothing is at work.
    fn results(&self, count: usize) -> Vec<String> {
        let begin = Instant::now();
        loop {
            let names = names(&self.path("pictures/Out"));
            let open: Value = serde_json::from_str(&self.rallo(&["queue", "list", "--json"])).unwrap();
            if names.len() >= count && open.as_array().is_some_and(Vec::is_empty) {
                return names;
            }
            let log = std::fs::read_to_string(self.path("log")).unwrap_or_default();
            assert!(begin.elapsed() < Duration::from_secs(60), "only {names:?}; {open}; {log}");
            std::thread::sleep(Duration::from_millis(200));
        }
    }
}

/// Every name in a folder, hidden ones too.
fn all_names(folder: &Path) -> Vec<String> {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    let mut all: Vec<String> = entries.map(|e| e.file_name().to_string_lossy().into_owned()).collect();
    all.sort();
    all
}

fn names(folder: &Path) -> Vec<String> {
    all_names(folder).into_iter().filter(|n| !n.starts_with('.')).collect()
}

#[test]
fn what_arrives_is_worked_on_once_whole_under_its_last_name_and_over_restarts() {
    let place = Place::new();
    let inside = |name: &str| place.path(&format!("pictures/In/{name}"));
    write_jpeg(&inside("start.jpg"), 600, 400, 1);
    place.watch(&["--deep"]);
    let server = site(place.folder.path(), &[]);
    assert_eq!(place.results(1), ["001-start.jpg"]);

    // One that is written slowly, in two halves with a rest between; another is renamed when it is complete.
    let spare = place.path("spare.jpg");
    write_jpeg(&spare, 700, 500, 2);
    let bytes = std::fs::read(&spare).unwrap();
    std::fs::write(inside("slow.jpg"), &bytes[..bytes.len() / 2]).unwrap();
    std::fs::write(inside("copy.tmp"), &bytes).unwrap();
    std::thread::sleep(Duration::from_secs(5));
    assert_eq!(names(&place.path("pictures/Out")), ["001-start.jpg"], "half a file is not taken in");
    std::fs::OpenOptions::new()
        .append(true)
        .open(inside("slow.jpg"))
        .unwrap()
        .write_all(&bytes[bytes.len() / 2..])
        .unwrap();
    std::fs::rename(inside("copy.tmp"), inside("whole.jpg")).unwrap();
    // A folder with pictures is moved in.
    let moved = place.path("card");
    std::fs::create_dir(&moved).unwrap();
    write_jpeg(&moved.join("a.jpg"), 600, 400, 3);
    std::fs::rename(&moved, inside("card")).unwrap();
    let all = place.results(4);
    assert_eq!(all.len(), 4, "{all:?}: start, slow, whole and the card's folder");
    assert_eq!(names(&place.path("pictures/Out/card")).len(), 1);

    // A picture that was done is renamed: it is the same.
    std::fs::rename(inside("start.jpg"), inside("renamed.jpg")).unwrap();
    std::thread::sleep(Duration::from_secs(4));
    assert_eq!(place.results(4), all);

    // Killed; what arrives meanwhile is taken in afterwards, and nothing again.
    drop(server);
    write_jpeg(&inside("late.jpg"), 600, 400, 4);
    let _server = site(place.folder.path(), &[]);
    let after = place.results(5);
    assert_eq!(after.len(), 5, "{after:?}");
    assert!(after.contains(&"005-late.jpg".to_owned()), "{after:?}");
    let list: Value = serde_json::from_str(&place.rallo(&["watch", "list", "--json"])).unwrap();
    assert_eq!((&list[0]["arrived"], &list[0]["problem"]), (&json!(5), &Value::Null));
}

#[test]
fn the_camera_is_followed_and_a_paused_watch_catches_up() {
    let place = Place::new();
    place.watch(&[]);
    let _server = site(place.folder.path(), &[]);
    let shoot = |first: &str| {
        let folder = place.path("pictures/In").to_string_lossy().into_owned();
        place.rallo(&["camera", &folder, "--frames", "3", "--every", "0.3", "--first", first]);
    };
    shoot("1");
    let first = place.results(3);
    assert_eq!(first.len(), 3);
    place.rallo(&["watch", "pause", "1"]);
    std::thread::sleep(Duration::from_millis(800));
    shoot("4");
    std::thread::sleep(Duration::from_secs(4));
    assert_eq!(place.results(3), first);
    place.rallo(&["watch", "go-on", "1"]);
    assert_eq!(place.results(6).len(), 6);
    // A folder that is gone is said, and is watched again when it is back.
    let (there, away) = (place.path("pictures/In"), place.path("away"));
    std::fs::rename(&there, &away).unwrap();
    let problem = || {
        let list: Value = serde_json::from_str(&place.rallo(&["watch", "list", "--json"])).unwrap();
        list[0]["problem"].as_str().map(str::to_owned)
    };
    let until = |is: &dyn Fn(Option<String>) -> bool| {
        (0..100).any(|_| {
            std::thread::sleep(Duration::from_millis(100));
            is(problem())
        })
    };
    assert!(until(&|p| p.is_some_and(|p| p.contains("is not there"))));
    std::fs::rename(&away, &there).unwrap();
    assert!(until(&|p| p.is_none()));
    assert_eq!(place.results(6).len(), 6);
}

#[test]
fn a_daily_watch_has_its_turn_when_its_time_comes() {
    let place = Place::new();
    write_jpeg(&place.path("pictures/In/a.jpg"), 600, 400, 1);
    let clock = |minutes: i64| {
        let at = jiff::Timestamp::now() + jiff::SignedDuration::from_mins(minutes);
        at.to_zoned_datetime(jiff::tz::TimeZone::system()).strftime("%H:%M").to_string()
    };
    let second = || jiff::Timestamp::now().as_second() % 60;
    // The turn that has been is over; the one of the minute that is coming comes.
    place.watch(&["--daily", &clock(-3), "--name", "been"]);
    let _server = site(place.folder.path(), &[]);
    std::thread::sleep(Duration::from_secs(5));
    assert_eq!(names(&place.path("pictures/Out")), Vec::<String>::new(), "its turn is tomorrow");
    // Far enough from the end of this minute for what follows.
    while second() > 45 {
        std::thread::sleep(Duration::from_millis(500));
    }
    place.watch(&["--daily", &clock(1), "--name", "coming"]);
    std::thread::sleep(Duration::from_secs((60 - second()) as u64));
    assert_eq!(place.results(1), ["001-a.jpg"]);
    let wrong = Command::new(env!("CARGO_BIN_EXE_rallo"))
        .args(["--data", &place.path("data").to_string_lossy(), "watch", "add"])
        .args([
            place.path("web.json"),
            "--folder".into(),
            place.path("pictures/In"),
            "--daily".into(),
            "25:00".into(),
        ])
        .output()
        .unwrap();
    assert!(String::from_utf8_lossy(&wrong.stderr).contains("the time of day is 00:00 to 23:59"));
}

fn upload(site: &Site, drop: &str, name: &str, bytes: &[u8]) -> (u16, Value) {
    let bearer = format!("Bearer {}", site.token);
    let answer =
        site.raw(&format!("PUT /api/drops/{drop}/files/{name}"), &[("Authorization", &bearer)], bytes);
    (answer.status, answer.json())
}

#[test]
fn dropped_pictures_come_back_as_a_zip_or_in_a_folder() {
    let place = Place::new();
    let site = site(place.folder.path(), &[]);
    let id = site.json("POST", "/api/recipes", &recipe("Web"))["id"].clone();
    let drop = site.json("POST", "/api/drops", &Value::Null)["drop"].as_str().unwrap().to_owned();
    write_jpeg(&place.path("a.jpg"), 600, 400, 1);
    let picture = std::fs::read(place.path("a.jpg")).unwrap();
    assert_eq!(upload(&site, &drop, "a.jpg", &picture).0, 200);
    // The same name again is another picture; a name that climbs stays inside; what is no picture is refused.
    assert_eq!(upload(&site, &drop, "a.jpg", &picture).1["name"], "a-2.jpg");
    assert_eq!(upload(&site, &drop, "..%2F..%2Fb.jpg", &picture).1["name"], "b.jpg");
    assert_eq!(upload(&site, &drop, "bad.jpg", b"no picture").0, 200);
    let (status, told) = upload(&site, &drop, "notes.txt", b"text");
    assert!(status == 422 && told["detail"].as_str().unwrap().contains("no kind of picture"), "{told}");
    assert_eq!(upload(&site, &"0".repeat(32), "a.jpg", &picture).0, 404);
    assert_eq!(upload(&site, "..", "a.jpg", &picture).0, 404);
    let run = site.json("POST", &format!("/api/drops/{drop}/run"), &json!({"recipe": id}))["run"].clone();
    let report = site.done(&run);
    assert_eq!((&report["done"], &report["failed"]), (&json!(3), &json!(1)));
    let zip = site.ask("GET", &format!("/api/runs/{run}/results.zip"), &Value::Null);
    assert_eq!(zip.status, 200);
    std::fs::write(place.path("all.zip"), &zip.body).unwrap();
    // Read by another program: its own checksums, and the pictures.
    let listed = Command::new("python3")
        .args([
            "-c",
            "import sys, zipfile; z = zipfile.ZipFile(sys.argv[1]); assert z.testzip() is None; \
               print(*[(i.filename, z.read(i)[:2] == b'\\xff\\xd8') for i in z.infolist()], sep='\\n')",
        ])
        .arg(place.path("all.zip"))
        .output()
        .unwrap();
    let text = String::from_utf8(listed.stdout).unwrap();
    assert_eq!(text, "('001-a-2.jpg', True)\n('002-a.jpg', True)\n('003-b.jpg', True)\n");
    // The page shows them.
    assert_eq!(site.ask("GET", &format!("/api/runs/{run}/items/0/thumb"), &Value::Null).status, 200);
    // Brought pictures that belong to a run cannot be given up; others can.
    assert_eq!(site.ask("DELETE", &format!("/api/drops/{drop}"), &Value::Null).status, 422);

    let drop = site.json("POST", "/api/drops", &Value::Null)["drop"].as_str().unwrap().to_owned();
    upload(&site, &drop, "c.jpg", &picture);
    let run =
        |to: &Path| site.ask("POST", &format!("/api/drops/{drop}/run"), &json!({"recipe": id, "to": to}));
    assert_eq!(run(Path::new("/etc")).status, 403);
    let id = run(&place.path("pictures/Dropped")).json()["run"].clone();
    site.done(&id);
    assert_eq!(names(&place.path("pictures/Dropped")), ["001-c.jpg"]);
}

#[test]
fn pictures_are_opened_with_a_recipe_from_a_file_manager() {
    let place = Place::new();
    std::fs::write(place.path("odd $name.json"), recipe("Odd \"50%\" `web`").to_string()).unwrap();
    write_jpeg(&place.path("pictures/In/a b.jpg"), 600, 400, 1);
    let menu = place.path("menu").to_string_lossy().into_owned();
    let recipe = place.path("odd $name.json").to_string_lossy().into_owned();
    let entry = place.rallo(&["desktop", "install", &recipe, "--applications", &menu]);
    let text = std::fs::read_to_string(entry.trim()).unwrap();
    let value = |key: &str| text.lines().find_map(|l| l.strip_prefix(&format!("{key}="))).unwrap().to_owned();
    assert_eq!(value("Name"), "Odd \"50%\" `web` (Rallo)");
    assert!(value("MimeType").contains("image/jpeg;"));
    // What the entry runs, as the specification says: escapes of the value first, then quotes, then the field code.
    let exec = value("Exec").replace("\\\\", "\\").replace("%%", "%");
    let picture = place.path("pictures/In/a b.jpg");
    let line = exec.strip_suffix("%F").unwrap().to_owned() + "\"$1\"";
    let done = Command::new("/bin/sh").args(["-c", &line, "sh"]).arg(&picture).output().unwrap();
    assert!(done.status.success(), "{line}: {}", String::from_utf8_lossy(&done.stderr));
    let said = String::from_utf8(done.stdout).unwrap();
    assert!(said.contains("1 of 1 made"), "{said}");
    let folder = place.path("pictures/In/Odd -50%- `web`");
    assert_eq!(names(&folder), ["001-a b.jpg"]);
    // The run is in the program's journal like any other.
    let report: Value = serde_json::from_str(&place.rallo(&["queue", "report", "1"])).unwrap();
    assert_eq!((&report["from"], &report["state"]), (&json!("file manager"), &json!("done")));
    assert!(
        place.rallo(&["desktop", "remove", "--applications", &menu]).starts_with("1 menu entries are gone")
    );
    assert_eq!(names(Path::new(&menu)), Vec::<String>::new());
}

#[test]
fn a_run_that_was_killed_goes_on_when_it_is_asked_for_again() {
    let place = Place::new();
    for i in 1..=40 {
        write_jpeg(&place.path(&format!("pictures/In/{i:02}.jpg")), 900, 600, i);
    }
    let run = |out: &str| {
        let mut command = Command::new(env!("CARGO_BIN_EXE_rallo"));
        command.args(["--data", &place.path("data").to_string_lossy(), "run"]);
        command.args([
            place.path("web.json"),
            "--from".into(),
            place.path("pictures/In"),
            "--to".into(),
            place.path(out),
        ]);
        command.args(["--workers", "1"]);
        command
    };
    let mut child = run("out").stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    let begin = Instant::now();
    while names(&place.path("out")).len() < 5 && begin.elapsed() < Duration::from_secs(30) {
        std::thread::sleep(Duration::from_millis(10));
    }
    child.kill().unwrap();
    child.wait().unwrap();
    let half = names(&place.path("out")).len();
    assert!((5..40).contains(&half), "{half}");
    let again = run("out").output().unwrap();
    assert!(again.status.success());
    assert!(String::from_utf8_lossy(&again.stderr).contains("run 1 was not over: it goes on"));
    assert!(run("straight").output().unwrap().status.success());
    let bytes = |out: &str| -> Vec<(String, Vec<u8>)> {
        let read = |n: &String| std::fs::read(place.path(out).join(n)).unwrap();
        all_names(&place.path(out)).into_iter().map(|n| (n.clone(), read(&n))).collect()
    };
    assert_eq!(bytes("out").len(), 40);
    assert!(bytes("out") == bytes("straight"), "the results differ, or a part was left");
}

/// Takes one request and gives its body.
fn heard(listener: &TcpListener, answer: &str) -> (String, Value) {
    let (mut stream, _) = listener.accept().unwrap();
    let mut all = Vec::new();
    let mut part = [0u8; 4096];
    loop {
        let n = stream.read(&mut part).unwrap();
        all.extend(&part[..n]);
        let text = String::from_utf8_lossy(&all).into_owned();
        if let Some((head, body)) = text.split_once("\r\n\r\n") {
            let length = head.lines().find_map(|l| {
                l.to_lowercase().strip_prefix("content-length:").map(str::trim).and_then(|v| v.parse().ok())
            });
            let length: usize = length.unwrap_or_else(|| panic!("{head}"));
            if body.len() >= length {
                stream
                    .write_all(
                        format!("HTTP/1.1 {answer}\r\nContent-Length: 0\r\nConnection: close\r\n\r\n")
                            .as_bytes(),
                    )
                    .unwrap();
                return (head.to_owned(), serde_json::from_str(body).unwrap());
            }
        }
    }
}

#[test]
fn an_address_is_told_of_a_run_that_has_ended_and_told_again_where_it_fails() {
    let place = Place::new();
    write_jpeg(&place.path("pictures/In/a.jpg"), 600, 400, 1);
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = format!("http://user:secret@{}/done?key=hidden", listener.local_addr().unwrap());
    let server = site(place.folder.path(), &["--after-run", &address]);
    // A run that another program ends is told by the server all the same.
    place.rallo(&[
        "run",
        &place.path("web.json").to_string_lossy(),
        "--from",
        &place.path("pictures/In").to_string_lossy(),
        "--quiet",
    ]);
    let (head, _) = heard(&listener, "503 Busy");
    assert!(head.starts_with("POST /done?key=hidden "), "{head}");
    let (_, report) = heard(&listener, "200 OK");
    assert_eq!((&report["state"], &report["done"]), (&json!("done"), &json!(1)));
    assert_eq!(report["items"][0]["outputs"][0]["width"], 300);
    drop(server);
    let log = std::fs::read_to_string(place.path("log")).unwrap();
    assert!(log.contains("its report was not taken by 127.0.0.1"), "{log}");
    assert!(!log.contains("secret") && !log.contains("hidden"), "{log}");
}
