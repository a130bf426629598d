//! Commands that see to what is kept: watched folders, tokens, the passphrase, the queue; each says what it did, and ends
//! with 2 and a sentence where there is nothing to do it to.

use crate::common::*;
use serde_json::{Value, json};
use std::io::Write;
use std::path::PathBuf;
use std::process::{Command, Output, Stdio};

struct Place(tempfile::TempDir);

impl Place {
    fn new() -> Self {
        let place = Self(tempfile::tempdir().unwrap());
        std::fs::create_dir(place.path("in")).unwrap();
        place.recipe("web.json", json!([{"step": "exposure", "stops": 0.5}]));
        place
    }

    fn path(&self, name: &str) -> PathBuf {
        self.0.path().join(name)
    }

    fn text(&self, name: &str) -> String {
        self.path(name).to_string_lossy().into_owned()
    }

    fn recipe(&self, name: &str, steps: Value) {
        let document = json!({"format": "rallo-recipe", "version": 1, "name": "Web", "steps": steps,
            "deliveries": [{"kind": "pictures", "format": "png", "long_edge": 60, "name": "{stem}"}]});
        std::fs::write(self.path(name), document.to_string()).unwrap();
    }

    fn command(&self, args: &[&str]) -> Command {
        let mut command = program();
        command.env("RALLO_DATA", self.path("data")).args(args);
        command
    }

    fn run(&self, args: &[&str]) -> Output {
        self.command(args).output().unwrap()
    }

    /// What is printed by a command that must be well.
    fn said(&self, args: &[&str]) -> String {
        let done = self.run(args);
        assert_eq!(done.status.code(), Some(0), "{args:?}: {done:?}");
        String::from_utf8(done.stdout).unwrap().trim_end().to_owned()
    }

    /// What is said where it is refused.
    fn refused(&self, args: &[&str]) -> String {
        let done = self.run(args);
        assert_eq!(done.status.code(), Some(2), "{args:?}: {done:?}");
        assert!(done.stdout.is_empty(), "{args:?}: {done:?}");
        String::from_utf8(done.stderr).unwrap()
    }
}

#[test]
fn watched_folders_are_set_up_listed_paused_and_removed() {
    let place = Place::new();
    let (recipe, folder) = (place.text("web.json"), place.text("in"));
    assert_eq!(place.said(&["watch", "list"]), "Nothing is watched.");
    assert_eq!(place.said(&["watch", "add", &recipe, "--folder", &folder]), "Watched folder 1 is set up.");
    let second = place.said(&[
        "watch", "add", &recipe, "--folder", &folder, "--name", "Beds", "--daily", "22:30", "--json",
    ]);
    assert_eq!(serde_json::from_str::<Value>(&second).unwrap(), json!({"watch": 2}));
    let list = place.said(&["watch", "list"]);
    let lines: Vec<&str> = list.lines().collect();
    assert!(lines[0].starts_with("1: in, on, ") && lines[0].ends_with("in, 0 arrived"), "{list}");
    assert!(lines[1].starts_with("2: Beds, on, "), "{list}");
    assert_eq!(place.said(&["watch", "pause", "2"]), "Watched folder 2 pauses.");
    let told: Value = serde_json::from_str(&place.said(&["watch", "list", "--json"])).unwrap();
    assert_eq!(
        (&told[1]["state"], &told[1]["daily"], &told[0]["state"]),
        (&json!("paused"), &json!("22:30"), &json!("on"))
    );
    assert_eq!(place.said(&["watch", "go-on", "2"]), "Watched folder 2 goes on.");
    assert_eq!(place.said(&["watch", "remove", "1"]), "Watched folder 1 is gone.");
    for gone in [["watch", "remove", "1"], ["watch", "pause", "9"], ["watch", "go-on", "1"]] {
        assert!(place.refused(&gone).contains("there is none of that number"));
    }
    // What cannot work is refused when it is set up, not when pictures arrive.
    let add = |more: &[&str]| place.refused(&[&["watch", "add", &recipe], more].concat());
    assert!(add(&["--folder", &place.text("nowhere")]).contains("nowhere"));
    let time = add(&["--folder", &folder, "--daily", "half past ten"]);
    assert!(time.contains("half past ten"), "{time}");
    place.recipe("asks.json", json!([{"step": "exposure", "stops": 0.5, "ask": ["stops"]}]));
    let asks = place.refused(&["watch", "add", &place.text("asks.json"), "--folder", &folder]);
    assert!(asks.contains("the recipe asks for stops of line 1: say it with --set"), "{asks}");
    place.said(&["watch", "add", &place.text("asks.json"), "--folder", &folder, "--set", "1.stops=1.5"]);
    let wrong = place.refused(&[
        "watch",
        "add",
        &place.text("asks.json"),
        "--folder",
        &folder,
        "--set",
        "1.stops=99",
    ]);
    assert!(wrong.contains("expected a number from -5 to 5, got 99"), "{wrong}");
}

#[test]
fn tokens_are_told_once_and_taken_away() {
    let place = Place::new();
    assert_eq!(place.said(&["token", "list"]), "");
    let (one, two) =
        (place.said(&["token", "add", " night script "]), place.said(&["token", "add", "phone"]));
    // Thirty-two random bytes each.
    assert!(one.len() == 64 && one.chars().all(|c| c.is_ascii_hexdigit()) && one != two, "{one} {two}");
    let list = place.said(&["token", "list"]);
    assert!(list.starts_with("1: night script, made 20") && list.contains("\n2: phone, made"), "{list}");
    assert!(list.lines().all(|l| l.ends_with("never used")));
    assert!(!list.contains(&one) && !list.contains(&two), "a token is told twice");
    // Nor does it lie in the program's folder.
    for entry in std::fs::read_dir(place.path("data")).unwrap().flatten() {
        let bytes = std::fs::read(entry.path()).unwrap_or_default();
        assert!(!bytes.windows(64).any(|w| w == one.as_bytes()), "{:?}", entry.path());
    }
    assert_eq!(place.said(&["token", "remove", "1"]), "Token 1 is gone.");
    assert!(place.refused(&["token", "remove", "1"]).contains("there is none of that number"));
    assert!(place.refused(&["token", "add", "  "]).contains("a name of 1 to 80 characters is needed"));
    assert!(
        place.refused(&["token", "add", &"x".repeat(81)]).contains("a name of 1 to 80 characters is needed")
    );
}

#[test]
fn a_passphrase_is_read_from_the_standard_input() {
    let place = Place::new();
    let set = |text: &str| {
        let mut child = place
            .command(&["passphrase"])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        child.stdin.take().unwrap().write_all(text.as_bytes()).unwrap();
        child.wait_with_output().unwrap()
    };
    let short = set("seven 7\n");
    assert_eq!(short.status.code(), Some(2));
    let said = String::from_utf8_lossy(&short.stderr).into_owned();
    assert!(said.contains("a passphrase has at least 8 characters"), "{said}");
    let done = set("thyme by the old wall\n");
    assert!(done.status.success(), "{done:?}");
    let said = String::from_utf8_lossy(&done.stdout).into_owned();
    assert!(said.starts_with("The passphrase is set"), "{said}");
    let file = std::fs::read(place.path("data/rallo.sqlite")).unwrap();
    let log = std::fs::read(place.path("data/rallo.sqlite-wal")).unwrap_or_default();
    let secret = b"thyme by the old wall";
    assert!(![file, log].iter().any(|f| f.windows(secret.len()).any(|w| w == secret)));
}

#[test]
fn the_queue_is_seen_to_by_number() {
    let place = Place::new();
    for i in 1..=2 {
        write_jpeg(&place.path(&format!("in/a{i}.jpg")), 120, 80, i);
    }
    let (recipe, from) = (place.text("web.json"), place.text("in"));
    assert_eq!(place.said(&["queue", "list"]), "Nothing waits.");
    let add = ["queue", "add", &recipe, "--from", &from];
    assert_eq!(place.said(&add), "Run 1 is in the queue.");
    let out = place.text("out");
    let later = [&add[..], &["--at", "2099-05-04T22:00:00Z", "--set", "1.stops=1", "--to", &out]].concat();
    assert_eq!(place.said(&later), "Run 2 is in the queue.");
    let when = place.refused(&[&add[..], &["--at", "tonight"]].concat());
    assert!(when.contains("--at: ") && when.contains("tonight"), "{when}");
    assert_eq!(place.said(&["queue", "first", "2"]), "Run 2 comes first.");
    assert_eq!(place.said(&["queue", "list"]), "Run 2: waiting, 0 of 2, Web\nRun 1: waiting, 0 of 2, Web");
    let told: Value = serde_json::from_str(&place.said(&["queue", "list", "--json"])).unwrap();
    assert_eq!(
        (&told[0]["run"], &told[0]["at"], &told[1]["total"]),
        (&json!(2), &json!("2099-05-04T22:00:00Z"), &json!(2))
    );
    assert_eq!(place.said(&["queue", "pause", "1"]), "Run 1 pauses.");
    assert!(place.refused(&["queue", "pause", "1"]).contains("run 1 is not at work"));
    // What pauses is not worked on.
    place.said(&["worker", "--until-empty"]);
    assert_eq!(std::fs::read_dir(place.path("in")).unwrap().count(), 2);
    assert_eq!(place.said(&["queue", "go-on", "1"]), "Run 1 goes on.");
    assert!(place.refused(&["queue", "go-on", "1"]).contains("run 1 is not paused"));
    assert!(place.refused(&["queue", "undo", "1"]).contains("run 1 is still at work; cancel it first"));
    place.said(&["worker", "--until-empty"]);
    let report: Value = serde_json::from_str(&place.said(&["queue", "report", "1"])).unwrap();
    assert_eq!((&report["done"], &report["state"]), (&json!(2), &json!("done")));
    let table = place.said(&["queue", "report", "1", "--csv"]);
    assert_eq!(table.lines().count(), 3, "{table}");
    assert!(place.refused(&["queue", "cancel", "1"]).contains("run 1 is over"));
    assert_eq!(place.said(&["queue", "cancel", "2"]), "Run 2 is cancelled.");
    assert_eq!(place.said(&["queue", "undo", "1"]), "2 results of run 1 are gone, 0 stay.");
    for what in ["first", "retry", "report", "undo"] {
        assert!(place.refused(&["queue", what, "77"]).contains("there is no run of that number"), "{what}");
    }
}

#[test]
fn what_is_known_of_a_picture_is_said_to_people() {
    let place = Place::new();
    write_jpeg(&place.path("in/a.jpg"), 120, 80, 4);
    let said = place.said(&["inspect", &place.text("in/a.jpg")]);
    for word in ["120", "80", "Marlow 24", "400", "sRGB"] {
        assert!(said.contains(word), "{word}: {said}");
    }
    std::fs::write(place.path("in/b.jpg"), "no picture").unwrap();
    let wrong = place.run(&["inspect", &place.text("in/b.jpg")]);
    assert!(!wrong.status.success() && wrong.stdout.is_empty());
    let said = String::from_utf8_lossy(&wrong.stderr).into_owned();
    assert!(said.contains("b.jpg"), "{said}");
    // A recipe is said in plain sentences, and its faults by their places.
    let said = place.said(&["recipe", "check", &place.text("web.json")]);
    assert!(said.contains("1  Make it 0.5 stops brighter.") && said.contains("→  PNG"), "{said}");
    place.recipe("wrong.json", json!([{"step": "exposure", "stops": 9}, {"step": "sparkle"}]));
    let said = place.refused(&["recipe", "check", &place.text("wrong.json")]);
    assert!(said.contains("steps[0].exposure.stops: expected a number from -5 to 5, got 9"), "{said}");
    assert!(said.contains("steps[1]") && said.contains("sparkle"), "{said}");
}
