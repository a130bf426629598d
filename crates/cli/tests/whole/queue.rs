//! Runs that can be left alone: killed at any moment, shared by several workers, held up and going on, taken back.

use crate::common::desk::serve;
use crate::common::place::{Place, RECIPE, files};
use crate::common::*;
use serde_json::{Value, json};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

#[test]
fn a_server_killed_fifty_times_makes_every_result_once_and_the_same() {
    let total = 240;
    let place = Place::new(total, 900, 600);
    let run = place.add("web.json", "pictures/out", &[]);
    let done = |report: &Value| report["done"].as_i64().unwrap() + report["skipped"].as_i64().unwrap();
    let mut kills = 0;
    let mut seed = 12345u32;
    let mut patience = 400;
    while kills < 50 {
        // As long as the work is behind, it is left alone longer and longer: it shall be half done after all kills, on
        // a slow disk too.
        let behind = done(&place.report(&run)) < i64::from(total) * kills / 100;
        let (mut server, _) = serve(place.folder.path(), 0);
        seed = seed.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        patience = if behind { (patience + 100).min(4000) } else { 400 };
        let longest = if behind { patience } else { 60 };
        std::thread::sleep(Duration::from_millis(u64::from(seed >> 16) % longest));
        server.0.kill().unwrap();
        server.0.wait().unwrap();
        kills += 1;
        // What is to be seen under its own name is whole, at every moment.
        if kills % 10 == 0 && place.path("pictures/out").exists() {
            for (name, bytes) in files(&place.path("pictures/out")) {
                assert!(name.starts_with('.') || bytes.ends_with(&[0xff, 0xd9]), "{name} is not whole");
            }
        }
    }
    let killed = place.report(&run);
    assert!(
        killed["done"].as_i64() > Some(20) && killed["state"] != "done",
        "killed too early or too late: {} done",
        killed["done"]
    );
    let (_server, _) = serve(place.folder.path(), 0);
    let report = place.done(&run);
    assert_eq!((report["total"].as_i64(), report["failed"].as_i64()), (Some(i64::from(total)), Some(0)));
    let (got, want) = (files(&place.path("pictures/out")), place.undisturbed());
    assert_eq!(
        got.keys().collect::<Vec<_>>(),
        want.keys().collect::<Vec<_>>(),
        "after {} were done",
        killed["done"]
    );
    assert!(got == want, "bytes differ");
}

/// Lines that measure all frames, decide and join them, and one picture of all: whatever is being done is lost, and done again.
#[test]
fn a_run_over_time_that_is_killed_again_and_again_makes_the_same_frames() {
    let place = Place { folder: tempfile::tempdir().unwrap() };
    crate::steady::write_frames(&place.path("pictures/Spring"));
    let recipe = json!({"format": "rallo-recipe", "version": 1, "name": "Web",
        "steps": [{"step": "deflicker"}, {"step": "hold_steady"}, {"step": "denoise_over_time", "frames": 3},
            {"step": "blend", "frames": 4}],
        "deliveries": [{"kind": "pictures", "format": "png"},
            {"kind": "stack", "by": "mean", "format": "png", "name": "all"}]});
    std::fs::write(place.path("web.json"), recipe.to_string()).unwrap();
    let run = place.add("web.json", "out", &[]);
    let (mut kills, mut seed, mut longest) = (0, 4711u32, 250u64);
    let mut was = Value::Null;
    loop {
        let report = place.report(&run);
        if report["state"] == "done" {
            break;
        }
        // Where nothing was done meanwhile, the next one is left alone longer.
        let now = json!([report["done"], report["measured"], report["state"]]);
        longest = if now == was { (longest * 3 / 2).min(20_000) } else { longest };
        was = now;
        let mut worker = place.worker();
        seed = seed.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        std::thread::sleep(Duration::from_millis(200 + u64::from(seed >> 16) % longest));
        worker.0.kill().unwrap();
        worker.0.wait().unwrap();
        kills += 1;
        assert!(kills < 200, "never done: {report}");
    }
    assert!(kills >= 4, "killed {kills} times only");
    let report = place.report(&run);
    assert_eq!((&report["done"], &report["failed"]), (&report["total"], &json!(0)), "{report}");
    let got = files(&place.path("out"));
    assert_eq!(got.len(), crate::steady::FRAMES + 1, "{:?}", got.keys());
    assert!(got == place.undisturbed(), "bytes differ");
}

#[test]
fn two_workers_share_a_run_and_one_of_them_is_killed() {
    let place = Place::new(60, 900, 600);
    let run = place.add("web.json", "pictures/out", &[]);
    let mut first = place.worker();
    let second = place.worker();
    place.until(&run, "begun", |r| r["done"].as_i64() > Some(4));
    first.0.kill().unwrap();
    first.0.wait().unwrap();
    let report = place.done(&run);
    drop(second);
    assert_eq!(report["done"].as_i64().unwrap() + report["skipped"].as_i64().unwrap(), 60);
    assert!(files(&place.path("pictures/out")) == place.undisturbed());
}

#[test]
fn a_run_waits_while_its_folder_cannot_be_written_and_goes_on_by_itself() {
    use std::os::unix::fs::PermissionsExt;
    let place = Place::new(4, 300, 200);
    let out = place.path("pictures/out");
    std::fs::create_dir(&out).unwrap();
    // A file where the folder should be: for root, permissions alone hold nobody up.
    let (run, blocked) = (place.add("web.json", "pictures/out/deep", &[]), out.join("deep"));
    std::fs::write(&blocked, "in the way").unwrap();
    std::fs::set_permissions(&blocked, std::fs::Permissions::from_mode(0o400)).unwrap();
    let _worker = place.worker();
    let report = place.until(&run, "held up", |r| r["state"] == "paused" || r["failed"].as_i64() > Some(0));
    assert_eq!((&report["state"], &report["failed"]), (&json!("paused"), &json!(0)), "{report}");
    std::fs::remove_file(&blocked).unwrap();
    let report = place.done(&run);
    assert_eq!((&report["done"], &report["failed"]), (&json!(4), &json!(0)), "{report}");
}

#[test]
fn a_full_disk_holds_a_run_up_until_there_is_room() {
    let place = Place::new(6, 1200, 800);
    let small = place.path("pictures/small");
    std::fs::create_dir(&small).unwrap();
    let mounted =
        Command::new("mount").args(["-t", "tmpfs", "-o", "size=1536k", "tmpfs"]).arg(&small).output();
    if !mounted.as_ref().is_ok_and(|m| m.status.success()) {
        // Leaving this out must be somebody's decision.
        assert!(
            std::env::var_os("RALLO_NO_MOUNT").is_some(),
            "no small disk could be mounted to be filled ({mounted:?}): run the tests as root, or set RALLO_NO_MOUNT"
        );
        return;
    }
    struct Mounted(PathBuf);
    impl Drop for Mounted {
        fn drop(&mut self) {
            let _ = Command::new("umount").arg("-l").arg(&self.0).status();
        }
    }
    let _mounted = Mounted(small.clone());
    std::fs::write(small.join("ballast"), vec![1u8; 1_400_000]).unwrap();
    let large = RECIPE.replace("\"long_edge\": 300", "\"long_edge\": 1200").replace("80}", "95}");
    std::fs::write(place.path("large.json"), large).unwrap();
    let run = place.add("large.json", "pictures/small/out", &[]);
    let _worker = place.worker();
    let report = place.until(&run, "held up", |r| r["state"] == "paused");
    assert_eq!(report["failed"], 0, "{report}");
    for (name, bytes) in files(&small.join("out")) {
        assert!(bytes.ends_with(&[0xff, 0xd9]), "{name} is not whole");
    }
    let (_, list, _) = place.rallo(&["queue", "list"]);
    assert!(list.contains("there is no room left") && list.contains("goes on by itself"), "{list}");
    std::fs::remove_file(small.join("ballast")).unwrap();
    assert_eq!(place.done(&run)["done"], 6);
}

#[test]
fn originals_survive_tricks_with_links_and_altered_results_are_made_again_beside() {
    let place = Place::new(3, 300, 200);
    let spring = place.path("pictures/Spring");
    let originals = files(&spring);
    let out = place.path("pictures/out");
    std::fs::create_dir(&out).unwrap();
    // A hard link, a link, and a link that leads nowhere stand where results would go.
    std::fs::hard_link(spring.join("TN_001.jpg"), out.join("TN_001.jpg")).unwrap();
    std::os::unix::fs::symlink(spring.join("TN_002.jpg"), out.join("TN_002.jpg")).unwrap();
    std::os::unix::fs::symlink(spring.join("TN_009.jpg"), out.join("TN_003.jpg")).unwrap();
    for existing in ["fail", "replace"] {
        let recipe =
            RECIPE.replace("\"quality\": 80", &format!("\"quality\": 80, \"existing\": \"{existing}\""));
        std::fs::write(place.path("tricky.json"), recipe).unwrap();
        let run = place.add("tricky.json", "pictures/out", &[]);
        let report = {
            let _worker = place.worker();
            place.done(&run)
        };
        assert_eq!(report["failed"], 3, "{report}");
        assert!(report["items"][0]["reason"].as_str().unwrap().contains("never written over"), "{report}");
        assert_eq!(files(&spring), originals);
    }
    // A result that was altered since is no result: it is made again, and the altered one stays.
    let run = place.add("web.json", "pictures/fresh", &[]);
    let _worker = place.worker();
    place.done(&run);
    let file = place.path("pictures/fresh/TN_001.jpg");
    let mut bytes = std::fs::read(&file).unwrap();
    let at = bytes.len() - 40;
    bytes[at] ^= 0x55;
    std::fs::write(&file, &bytes).unwrap();
    let again = place.add("web.json", "pictures/fresh", &[]);
    let report = place.done(&again);
    assert_eq!((report["done"].as_i64(), report["skipped"].as_i64()), (Some(1), Some(2)), "{report}");
    assert_eq!(std::fs::read(&file).unwrap(), bytes);
    // Taken back: what the runs wrote is gone, what was changed since stays and is named.
    let (_, said, errors) = place.rallo(&["queue", "undo", &run]);
    assert!(said.contains("2 results") && errors.contains("TN_001.jpg was changed since"), "{said} {errors}");
    let (_, said, _) = place.rallo(&["queue", "undo", &again]);
    assert!(said.contains("1 results"), "{said}");
    assert_eq!(files(&place.path("pictures/fresh")).keys().collect::<Vec<_>>(), ["TN_001.jpg"]);
    assert_eq!(files(&spring), originals);
}

#[test]
fn failures_have_kinds_and_too_many_pause_a_run_and_a_command_hears_of_its_end() {
    let place = Place::new(2, 300, 200);
    let spring = place.path("pictures/Spring");
    std::fs::write(spring.join("TN_003.jpg"), b"").unwrap();
    let whole = std::fs::read(spring.join("TN_001.jpg")).unwrap();
    std::fs::write(spring.join("TN_004.jpg"), &whole[..whole.len() / 3]).unwrap();
    std::fs::write(spring.join("TN_005.jpg"), b"this is a letter").unwrap();
    let heard = place.text("heard.json");
    let run = place.add(
        "web.json",
        "pictures/out",
        &["--most-failures", "2", "--then", &format!("cat > {heard}.part; mv {heard}.part {heard}")],
    );
    // One vanishes between being asked for and being read.
    std::fs::remove_file(spring.join("TN_002.jpg")).unwrap();
    let _worker = place.worker();
    let report = place.until(&run, "paused", |r| r["state"] == "paused");
    assert!(report["failed"].as_i64() >= Some(2), "{report}");
    assert_eq!(place.rallo(&["queue", "go-on", &run]).0, 0);
    // It pauses again as long as there are more failures; each time it is let go on.
    let report = place.until(&run, "done", |r| {
        if r["state"] == "paused" {
            place.rallo(&["queue", "go-on", &run]);
        }
        r["state"] == "done"
    });
    assert_eq!((report["done"].as_i64(), report["failed"].as_i64()), (Some(1), Some(4)), "{report}");
    let kinds: Vec<&str> =
        report["items"].as_array().unwrap().iter().filter_map(|i| i["kind"].as_str()).collect();
    assert_eq!(kinds, ["gone", "unreadable", "unreadable", "unsupported"], "{report}");
    let (_, table, _) = place.rallo(&["queue", "report", &run, "--csv"]);
    assert_eq!(table.lines().count(), 6);
    for _ in 0..100 {
        if Path::new(&heard).exists() {
            break;
        }
        std::thread::sleep(Duration::from_millis(50));
    }
    let heard: Value = serde_json::from_str(&std::fs::read_to_string(&heard).unwrap()).unwrap();
    assert_eq!(heard["failed"], json!(4));
    // The vanished one comes back, and is tried again alone with the others.
    std::fs::write(spring.join("TN_002.jpg"), whole).unwrap();
    place.rallo(&["queue", "retry", &run]);
    let report = place.until(&run, "done again", |r| {
        if r["state"] == "paused" {
            place.rallo(&["queue", "go-on", &run]);
        }
        r["state"] == "done" && r["done"] == 2
    });
    assert_eq!(report["failed"], 3);
}

#[test]
fn runs_are_ordered_paused_and_kept_for_later_from_the_command_line() {
    let place = Place::new(2, 200, 120);
    let one = place.add("web.json", "pictures/one", &[]);
    let two = place.add("web.json", "pictures/two", &[]);
    let night = place.add("web.json", "pictures/three", &["--at", "2999-01-01T00:00:00Z"]);
    assert_eq!(place.rallo(&["queue", "pause", &one]).0, 0);
    assert_eq!(place.rallo(&["queue", "first", &two]).0, 0);
    let (_, list, _) = place.rallo(&["queue", "list", "--json"]);
    let list: Value = serde_json::from_str(&list).unwrap();
    let order: Vec<String> = list.as_array().unwrap().iter().map(|r| r["run"].to_string()).collect();
    assert_eq!(order, [two.clone(), one.clone(), night.clone()]);
    // A worker that ends when nothing is left does what may be done now.
    assert_eq!(place.rallo(&["worker", "--until-empty"]).0, 0);
    assert!(place.path("pictures/two").exists() && !place.path("pictures/one").exists());
    assert_eq!(place.rallo(&["queue", "go-on", &one]).0, 0);
    assert_eq!(place.rallo(&["worker", "--until-empty"]).0, 0);
    assert_eq!(place.report(&one)["done"], 2);
    assert_eq!(place.report(&night)["state"], "waiting");
    let (code, _, said) = place.rallo(&["queue", "go-on", "99"]);
    assert!(code == 2 && said.contains("run 99 is not paused"), "{said}");
    let (code, _, said) = place.rallo(&["queue", "report", "99"]);
    assert!(code == 2 && said.contains("no run of that number"), "{said}");
}

#[test]
fn a_file_that_changes_while_it_is_read_fails_alone_and_is_made_when_it_is_at_rest() {
    let place = Place::new(2, 900, 600);
    let grows = place.path("pictures/Spring/TN_003.jpg");
    write_jpeg(&grows, 5000, 3600, 3);
    let stop = std::sync::Arc::new(std::sync::atomic::AtomicBool::new(false));
    let (file, over) = (grows.clone(), stop.clone());
    let writer = std::thread::spawn(move || {
        let mut file = std::fs::OpenOptions::new().append(true).open(file).unwrap();
        while !over.load(std::sync::atomic::Ordering::Relaxed) {
            std::io::Write::write_all(&mut file, b"more").unwrap();
            std::thread::sleep(Duration::from_millis(5));
        }
    });
    let (recipe, from, to) = (place.text("web.json"), place.text("pictures/Spring"), place.text("out"));
    let (code, _, errors) = place.rallo(&["run", &recipe, "--from", &from, "--to", &to, "--quiet"]);
    stop.store(true, std::sync::atomic::Ordering::Relaxed);
    writer.join().unwrap();
    assert_eq!(code, 1);
    assert!(errors.contains("TN_003.jpg: the original changed while it was read"), "{errors}");
    assert_eq!(files(&place.path("out")).keys().collect::<Vec<_>>(), ["TN_001.jpg", "TN_002.jpg"]);
    let report = place.report("1");
    assert_eq!(report["items"][2]["kind"], "changed");
    assert_eq!(place.rallo(&["queue", "retry", "1"]).0, 0);
    assert_eq!(place.rallo(&["worker", "--until-empty"]).0, 0);
    assert_eq!(place.report("1")["done"], 3);
    assert_eq!(files(&place.path("out")).len(), 3);
}

#[test]
fn a_store_that_is_locked_holds_a_run_up_and_nothing_is_lost() {
    let place = Place::new(30, 900, 600);
    let run = place.add("web.json", "out", &[]);
    let _worker = place.worker();
    place.until(&run, "begun", |r| r["done"].as_i64() >= Some(3));
    // Somebody else writes to the store for longer than anybody waits for it.
    let lock = "import sqlite3, sys, time\nc = sqlite3.connect(sys.argv[1], isolation_level=None)\n\
                c.execute('PRAGMA busy_timeout = 20000')\nc.execute('BEGIN IMMEDIATE')\nprint('held', flush=True)\n\
                time.sleep(24)\nc.execute('ROLLBACK')";
    let mut holder = Command::new("python3")
        .args(["-c", lock])
        .arg(place.path("data/rallo.sqlite"))
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let mut line = String::new();
    std::io::BufRead::read_line(&mut std::io::BufReader::new(holder.stdout.take().unwrap()), &mut line)
        .unwrap();
    assert_eq!(line, "held\n");
    let before = place.report(&run)["done"].as_i64().unwrap();
    std::thread::sleep(Duration::from_secs(5));
    let report = place.report(&run);
    assert_eq!(report["done"].as_i64(), Some(before), "nobody can write it down");
    assert!(before < 30);
    holder.wait().unwrap();
    let report = place.done(&run);
    assert_eq!((&report["done"], &report["failed"]), (&json!(30), &json!(0)));
    assert_eq!(files(&place.path("out")), place.undisturbed());
}

#[test]
fn a_changed_last_line_does_not_denoise_again_and_gives_what_it_would_have_given() {
    let place = Place::new(2, 600, 400);
    let recipe = |stops: f64| {
        json!({"format": "rallo-recipe", "version": 1, "name": "Web",
            "steps": [{"step": "denoise", "method": "thorough"}, {"step": "exposure", "stops": stops}],
            "deliveries": [{"kind": "pictures", "quality": 90}]})
    };
    let run = |data: &str, stops: f64, out: &str| {
        std::fs::write(place.path("r.json"), recipe(stops).to_string()).unwrap();
        let done = Command::new(env!("CARGO_BIN_EXE_rallo"))
            .args(["--data", &place.text(data), "run", &place.text("r.json"), "--quiet"])
            .args(["--from", &place.text("pictures/Spring"), "--to", &place.text(out)])
            .output()
            .unwrap();
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
        files(&place.path(out))
    };
    let kept = |data: &str| -> Vec<(std::ffi::OsString, std::time::SystemTime)> {
        let entries = std::fs::read_dir(place.path(data).join("kept")).into_iter().flatten().flatten();
        let mut all: Vec<_> =
            entries.map(|e| (e.file_name(), e.metadata().unwrap().modified().unwrap())).collect();
        all.sort();
        all
    };
    run("data", 0.2, "first");
    let before = kept("data");
    assert_eq!(before.len(), 2, "one for each picture");
    let second = run("data", 0.7, "second");
    let after = kept("data");
    assert!(
        before.iter().zip(&after).all(|(a, b)| a.0 == b.0 && a.1 < b.1),
        "each was used: {before:?} {after:?}"
    );
    // Without anything kept the same bytes come out.
    assert_eq!(second, run("fresh", 0.7, "fresh out"));
    // A spoilt one is made anew.
    let file = place.path("data/kept").join(&after[0].0);
    let mut bytes = std::fs::read(&file).unwrap();
    bytes[4000] ^= 64;
    std::fs::write(&file, bytes).unwrap();
    assert_eq!(run("data", 0.7, "third"), second);
}
