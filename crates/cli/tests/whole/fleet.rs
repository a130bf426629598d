//! Several machines: a real broker, a server that hands pictures out, and workers that share nothing with it.

use crate::common::broker::{Broker, makers};
use crate::common::desk::Held;
use crate::common::place::{Place, files};
use serde_json::json;
use std::process::Command;
use std::time::{Duration, Instant};

#[test]
fn others_make_the_same_bytes_and_the_report_says_who() {
    let place = Place::new(24, 900, 600);
    let broker = Broker::start();
    let _server = broker.serve(&place, &["--leave-pictures"]);
    let _workers = ["first", "second"].map(|name| Held(broker.worker(&place, name)));
    let status = broker.until_helped_by(&place, 2);
    let names: Vec<&str> =
        status["helpers"].as_array().unwrap().iter().map(|h| h["name"].as_str().unwrap()).collect();
    let run = place.add("web.json", "pictures/out", &[]);
    let report = place.done(&run);
    assert_eq!((report["done"].as_i64(), report["failed"].as_i64()), (Some(24), Some(0)), "{report}");
    assert!(files(&place.path("pictures/out")) == place.undisturbed(), "bytes differ");
    let makers = makers(&report);
    assert!(makers.len() == 24 && names.iter().all(|name| makers.iter().any(|m| m == name)), "{makers:?}");
    // Neither originals nor results stay with the broker; what JetStream keeps of its own is small.
    let begin = Instant::now();
    while broker.held() > 400_000 && begin.elapsed() < Duration::from_secs(20) {
        std::thread::sleep(Duration::from_millis(200));
    }
    let originals: u64 = files(&place.path("pictures/Spring")).values().map(|b| b.len() as u64).sum();
    assert!(broker.held() < 400_000.min(originals), "{} bytes are left of {originals}", broker.held());
}

#[test]
fn whoever_is_killed_every_result_is_made_once_and_the_same() {
    let place = Place::new(60, 1200, 800);
    let mut broker = Broker::start();
    let mut server = broker.serve(&place, &[]);
    let mut workers = ["first", "second"].map(|name| Held(broker.worker(&place, name)));
    broker.until_helped_by(&place, 2);
    let run = place.add("web.json", "pictures/out", &[]);
    for round in 0..6 {
        std::thread::sleep(Duration::from_millis(350 + 130 * round));
        match round {
            // The broker, with all it has in hand; and the server.
            2 => broker.restart(Duration::from_secs(1)),
            4 => {
                server.0.kill().unwrap();
                server.0.wait().unwrap();
                server = broker.serve(&place, &[]);
            }
            _ => {
                let at = round as usize % 2;
                workers[at].0.kill().unwrap();
                workers[at].0.wait().unwrap();
                workers[at] = Held(broker.worker(&place, ["first", "second"][at]));
            }
        }
    }
    let report = place.done(&run);
    assert_eq!((report["total"].as_i64(), report["failed"].as_i64()), (Some(60), Some(0)), "{report}");
    assert!(files(&place.path("pictures/out")) == place.undisturbed(), "bytes differ, or something is left");
    drop(server);
}

#[test]
fn what_cannot_be_made_elsewhere_is_made_here_and_a_second_server_is_refused() {
    let place = Place::new(6, 600, 400);
    let broker = Broker::start();
    let _server = broker.serve(&place, &[]);
    let _worker = Held(broker.worker(&place, "first"));
    broker.until_helped_by(&place, 1);
    // One picture cannot be read, and a page is made of all: the failure and the page are those of one machine.
    std::fs::write(place.path("pictures/Spring/TN_004.jpg"), b"\xff\xd8 this is none").unwrap();
    let recipe = json!({"format": "rallo-recipe", "version": 1, "name": "Both",
        "steps": [{"step": "exposure", "stops": 0.2}],
        "deliveries": [{"kind": "pictures", "format": "png", "long_edge": 200},
            {"kind": "pictures", "format": "webp", "long_edge": 100, "name": "{stem}-small"}]});
    std::fs::write(place.path("both.json"), recipe.to_string()).unwrap();
    let run = place.add("both.json", "pictures/both", &[]);
    let report = place.until(&run, "over", |r| r["state"] == "done" || r["state"] == "failed");
    assert_eq!((report["done"].as_i64(), report["failed"].as_i64()), (Some(5), Some(1)), "{report}");
    let bad = report["items"].as_array().unwrap().iter().find(|i| i["state"] == "failed").unwrap();
    assert!(bad["source"].as_str().unwrap().ends_with("TN_004.jpg"), "{bad}");
    assert_eq!(files(&place.path("pictures/both")).len(), 10);

    let second = Command::new(env!("CARGO_BIN_EXE_rallo"))
        .args(["--data", &place.text("other"), "serve", "--port", "0", "--root", &place.text("pictures")])
        .args(["--fleet", &broker.address()])
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&second.stderr).into_owned();
    assert!(!second.status.success() && said.contains("another server hands out work"), "{said}");
}

#[test]
fn a_clip_and_a_contact_sheet_are_joined_from_pieces_that_others_made() {
    let place = Place::new(30, 400, 300);
    // Two pictures that are the same come to the same bytes.
    let at = |name: &str| place.path("pictures/Spring").join(name);
    std::fs::copy(at("TN_007.jpg"), at("TN_031.jpg")).unwrap();
    let recipe = json!({"format": "rallo-recipe", "version": 1, "name": "Joined",
        "steps": [{"step": "exposure", "stops": 0.2}],
        "deliveries": [{"kind": "pictures", "long_edge": 160}, {"kind": "video", "size": "own"},
            {"kind": "contact", "columns": 6}, {"kind": "pdf"}]});
    std::fs::write(place.path("web.json"), recipe.to_string()).unwrap();
    let known = place.undisturbed();
    assert!(known.len() >= 34, "{:?}", known.keys());
    let broker = Broker::start();
    let _server = broker.serve(&place, &["--leave-pictures"]);
    let _workers = ["first", "second"].map(|name| Held(broker.worker(&place, name)));
    broker.until_helped_by(&place, 2);
    let run = place.add("web.json", "pictures/out", &[]);
    let report = place.done(&run);
    assert_eq!(report["failed"].as_i64(), Some(0), "{report}");
    let got = files(&place.path("pictures/out"));
    assert!(got.keys().eq(known.keys()), "{:?}\n{:?}", got.keys(), known.keys());
    let other: Vec<_> =
        got.iter().filter(|(name, bytes)| known[*name] != **bytes).map(|(name, _)| name).collect();
    assert!(other.is_empty(), "{other:?} have other bytes");
    assert_eq!(makers(&report).len(), 31, "{report}");
}

#[test]
fn a_broker_lets_nobody_in_without_the_login() {
    let folder = tempfile::tempdir().unwrap();
    let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let process = Broker::process(folder.path(), port, &["--auth", "s3cret"]);
    let broker = Broker { folder, port, process };
    let place = Place::new(1, 300, 200);
    let login = place.text("login");
    for (text, is_let_in) in [(None, false), (Some("wrong"), false), (Some("s3cret\n"), true)] {
        let mut args = vec!["fleet", "status", "--fleet"];
        let address = broker.address();
        args.push(&address);
        if let Some(text) = text {
            std::fs::write(&login, text).unwrap();
            args.extend(["--fleet-login", &login]);
        }
        let (code, out, errors) = place.rallo(&args);
        // Let in, it is told that no server is there.
        let said = if is_let_in { "no server hands out work" } else { "cannot be used" };
        assert!(code != 0 && errors.contains(said), "{text:?}: {out} {errors}");
    }
    let (code, _, errors) = place.rallo(&["fleet", "status"]);
    assert!(code != 0 && errors.contains("--fleet"), "{errors}");
}

#[test]
fn a_machine_with_other_profiles_is_told_why_it_gets_nothing_and_one_can_be_sent_home() {
    let place = Place::new(1, 300, 200);
    let broker = Broker::start();
    let _server = broker.serve(&place, &[]);
    let lenses = place.path("other/lens-profiles");
    std::fs::create_dir_all(&lenses).unwrap();
    std::fs::write(lenses.join("names.json"), "{}").unwrap();
    let _other = Held(broker.worker(&place, "other"));
    let mut alike = broker.worker(&place, "alike");
    broker.until_helped_by(&place, 1);
    let begin = Instant::now();
    let refused = loop {
        let status = broker.status(&place);
        let helpers = status["helpers"].as_array().cloned().unwrap_or_default();
        if let Some(why) = helpers.iter().find_map(|h| h["refused"].as_str().map(str::to_owned)) {
            break why;
        }
        assert!(begin.elapsed() < Duration::from_secs(20), "{status}");
        std::thread::sleep(Duration::from_millis(100));
    };
    assert!(refused.contains("profiles are others"), "{refused}");
    let status = broker.status(&place);
    let name = status["helpers"].as_array().unwrap().iter().find(|h| h["refused"].is_null()).unwrap()["name"]
        .clone();
    let (code, out, errors) =
        place.rallo(&["fleet", "send-home", name.as_str().unwrap(), "--fleet", &broker.address()]);
    assert!(code == 0 && out.contains("goes"), "{out} {errors}");
    let begin = Instant::now();
    while alike.try_wait().unwrap().is_none() {
        assert!(begin.elapsed() < Duration::from_secs(30), "it was sent home and stays");
        std::thread::sleep(Duration::from_millis(100));
    }
    let (code, _, errors) = place.rallo(&["fleet", "send-home", "nobody", "--fleet", &broker.address()]);
    assert!(code != 0 && errors.contains("no machine of the name nobody"), "{errors}");
}
