//! The way between machines: slow, cut off for a while, or not needed where both have the folder.

use crate::common::broker::{Broker, Carries, Link, makers};
use crate::common::desk::Held;
use crate::common::place::{Place, files};
use std::process::Command;
use std::time::{Duration, Instant};

const QUICK: Carries = Carries { delay: Duration::ZERO, rate: 1e9 };

#[test]
fn a_cable_that_is_pulled_out_holds_nothing_up_for_good() {
    let place = Place::new(40, 1200, 800);
    let broker = Broker::start();
    let (to_server, to_worker) = (Link::to(&broker, QUICK), Link::to(&broker, QUICK));
    let _server = broker.serve_by(&place, &to_server.address(), &[]);
    let _first = Held(broker.worker_with(&place, "first", &to_worker.address(), &[]));
    let _second = Held(broker.worker(&place, "second"));
    broker.until_helped_by(&place, 2);
    let run = place.add("web.json", "pictures/out", &[]);
    place.until(&run, "begun", |r| r["done"].as_i64() > Some(2));
    // Longer than a machine is believed to be there, and than work is left with one that says nothing.
    to_worker.pull(true);
    std::thread::sleep(Duration::from_secs(18));
    to_worker.pull(false);
    to_server.pull(true);
    std::thread::sleep(Duration::from_secs(12));
    to_server.pull(false);
    let report = place.done(&run);
    assert_eq!((report["total"].as_i64(), report["failed"].as_i64()), (Some(40), Some(0)), "{report}");
    assert!(files(&place.path("pictures/out")) == place.undisturbed(), "bytes differ, or something is left");
    // Both are there again.
    broker.until_helped_by(&place, 2);
}

#[test]
fn over_a_slow_link_the_same_is_made() {
    let place = Place::new(6, 600, 400);
    let broker = Broker::start();
    // A tenth of a second each way, 10 megabits a second.
    let link = Link::to(&broker, Carries { delay: Duration::from_millis(100), rate: 1.25e6 });
    let _server = broker.serve(&place, &["--leave-pictures"]);
    let _worker = Held(broker.worker_with(&place, "far", &link.address(), &[]));
    broker.until_helped_by(&place, 1);
    let run = place.add("web.json", "pictures/out", &[]);
    let report = place.done(&run);
    assert_eq!(makers(&report).len(), 6, "{report}");
    assert!(files(&place.path("pictures/out")) == place.undisturbed(), "bytes differ");
}

#[test]
fn what_lies_in_a_shared_folder_is_not_carried_and_another_folder_is_found_out() {
    let place = Place::new(12, 1200, 800);
    let broker = Broker::start();
    let share = format!("spring={}", place.text("pictures/Spring"));
    let _server = broker.serve(&place, &["--leave-pictures", "--share", &share]);
    // One has another folder under that name, one has one that the server does not know; neither gets anything.
    let wrong = place.path("wrong");
    std::fs::create_dir_all(&wrong).unwrap();
    std::fs::write(wrong.join("TN_001.jpg"), b"something else").unwrap();
    let address = broker.address();
    let shares = [format!("spring={}", wrong.display()), format!("summer={}", wrong.display())];
    let _others = [("other", &shares[0]), ("unknown", &shares[1])]
        .map(|(name, share)| Held(broker.worker_with(&place, name, &address, &["--share", share])));
    let begin = Instant::now();
    for told in ["is another one than the server's", "and the server does not"] {
        while !broker.status(&place).to_string().contains(told) {
            assert!(begin.elapsed() < Duration::from_secs(20), "{told}: {}", broker.status(&place));
            std::thread::sleep(Duration::from_millis(100));
        }
    }
    let _same = Held(broker.worker_with(&place, "same", &address, &["--share", &share]));
    broker.until_helped_by(&place, 1);
    let held = broker.held();
    let run = place.add("web.json", "pictures/out", &[]);
    let mut most = 0;
    let report = place.until(&run, "done", |report| {
        most = most.max(broker.held());
        report["state"] == "done"
    });
    let all = makers(&report);
    assert!(all.len() == 12 && all.first() == all.last(), "{all:?}");
    assert!(files(&place.path("pictures/out")) == place.undisturbed(), "bytes differ");
    // No original went through the broker: what was added is less than one of them.
    let originals = files(&place.path("pictures/Spring"));
    let smallest = originals.values().map(Vec::len).min().unwrap() as u64;
    assert!(most.saturating_sub(held) < smallest * 3, "{} bytes of {smallest} each", most - held);
}

#[test]
fn what_a_worker_does_not_find_in_its_share_is_sent() {
    let place = Place::new(8, 600, 400);
    let copy = place.path("copy");
    std::fs::create_dir_all(&copy).unwrap();
    for name in files(&place.path("pictures/Spring")).keys() {
        std::fs::copy(place.path("pictures/Spring").join(name), copy.join(name)).unwrap();
    }
    let broker = Broker::start();
    let _server = broker.serve(
        &place,
        &["--leave-pictures", "--share", &format!("spring={}", place.text("pictures/Spring"))],
    );
    let share = format!("spring={}", copy.display());
    let _worker = Held(broker.worker_with(&place, "copy", &broker.address(), &["--share", &share]));
    broker.until_helped_by(&place, 1);
    // After it was compared, some are gone there, and one is another picture.
    std::fs::remove_file(copy.join("TN_003.jpg")).unwrap();
    std::fs::copy(copy.join("TN_001.jpg"), copy.join("TN_005.jpg")).unwrap();
    let run = place.add("web.json", "pictures/out", &[]);
    let report = place.done(&run);
    assert_eq!((makers(&report).len(), report["failed"].as_i64()), (8, Some(0)), "{report}");
    assert!(files(&place.path("pictures/out")) == place.undisturbed(), "bytes differ");
}

#[test]
fn where_nothing_but_tls_is_spoken_the_authority_is_needed() {
    let place = Place::new(3, 300, 200);
    let (certificate, key) = (place.text("certificate.pem"), place.text("key.pem"));
    let made = Command::new("openssl")
        .args(["req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=studio"])
        .args(["-addext", "subjectAltName=IP:127.0.0.1", "-addext", "basicConstraints=critical,CA:FALSE"])
        .args(["-keyout", &key, "-out", &certificate])
        .output()
        .expect("openssl is installed by script/test");
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    let broker = Broker::start_with(&["--tls", "--tlscert", &certificate, "--tlskey", &key]);
    let authority = ["--fleet-authority", &certificate];
    let status = |more: &[&str]| {
        let address = broker.address();
        place.rallo(&[&["fleet", "--json", "status", "--fleet", &address][..], more].concat())
    };
    // Who is not told whom to believe believes nobody.
    let (code, _, errors) = status(&[]);
    assert!(code != 0 && errors.contains("cannot be used"), "{errors}");
    let _server = broker.serve(&place, &[&authority[..], &["--leave-pictures"]].concat());
    let _worker = Held(broker.worker_with(&place, "first", &broker.address(), &authority));
    let begin = Instant::now();
    while !status(&authority).1.contains("\"refused\": null") {
        assert!(begin.elapsed() < Duration::from_secs(20), "{:?}", status(&authority));
        std::thread::sleep(Duration::from_millis(100));
    }
    let run = place.add("web.json", "pictures/out", &[]);
    assert_eq!(makers(&place.done(&run)).len(), 3);
}
