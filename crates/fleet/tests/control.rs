//! Handing out and taking back alone: machines that make nothing and only say so, with the records of a run beside.
//!
//! As a test it is short. `RALLO_ITEMS=1000000 RALLO_HANDS=64 cargo test --workspace --test control -- --nocapture` tells items a
//! second and the server's memory on the way; the machines are a process of their own then too.
#![allow(missing_docs)]

mod common;

use async_nats::jetstream;
use async_nats::jetstream::consumer::PullConsumer;
use common::{Broker, request};
use futures_util::StreamExt;
use rallo_fleet::server::{Fleet, FleetOptions};
use rallo_job::prelude::*;
use rallo_job::{Claim, ItemState, NewRunItem, Run};
use rallo_runner::queue::Helpers;
use rallo_runner::render::elsewhere::Original;
use rallo_store::Store;
use serde_json::{Value, json};
use std::path::Path;
use std::process::{Child, Command};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

fn number(name: &str, usual: u64) -> u64 {
    std::env::var(name).ok().and_then(|text| text.parse().ok()).unwrap_or(usual)
}

/// Megabytes that this process takes now.
fn memory() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap();
    let line = status.lines().find(|line| line.starts_with("VmRSS:")).unwrap();
    line.split_whitespace().nth(1).unwrap().parse::<u64>().unwrap() / 1024
}

/// Says hello again and again.
async fn greets(client: async_nats::Client, name: String, kind: String) {
    loop {
        let hello = json!({"name": name, "machine": "elsewhere", "cores": 2, "room": 3, "kind": kind,
            "version": "", "at_work": [], "made": 0, "leaves": false});
        let _ = client.request("rallo.hello", hello.to_string().into()).await;
        tokio::time::sleep(Duration::from_secs(2)).await;
    }
}

/// Takes one after the other, and says of each that it was measured.
async fn takes(client: async_nats::Client, name: String, consumer: PullConsumer) {
    loop {
        let came = consumer.fetch().max_messages(1).expires(Duration::from_secs(2)).messages().await;
        let Ok(mut messages) = came else { continue };
        let Some(Ok(message)) = messages.next().await else { continue };
        let assignment: Value = serde_json::from_slice(&message.payload).unwrap();
        let outcome = json!({"token": assignment["token"], "helper": name, "seconds": 0.0,
            "result": {"Ok": {"measured": {}}}});
        let to = assignment["answer"].as_str().unwrap().to_owned();
        client.request(to, outcome.to_string().into()).await.unwrap();
        message.ack().await.unwrap();
    }
}

/// So many machines of a process of their own; does nothing unless it is told where the broker is.
#[tokio::test(flavor = "multi_thread")]
async fn hands() {
    let Ok(address) = std::env::var("RALLO_BROKER") else { return };
    let mut all = Vec::new();
    for n in 0..number("RALLO_HANDS", 8) {
        let client = async_nats::connect(&address).await.unwrap();
        let stream = jetstream::new(client.clone()).get_stream("rallo-work").await.unwrap();
        let consumer = stream.consumer_names().next().await.unwrap().unwrap();
        let (name, kind) = (format!("hand-{n}"), consumer.trim_start_matches("takes-").to_owned());
        all.push(tokio::spawn(greets(client.clone(), name.clone(), kind)));
        for _ in 0..3 {
            let consumer = stream.get_consumer(&consumer).await.unwrap();
            all.push(tokio::spawn(takes(client.clone(), name.clone(), consumer)));
        }
    }
    for one in all {
        one.await.unwrap();
    }
}

struct Hands(Child);

impl Drop for Hands {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// A run of so many items.
async fn store_with(file: &Path, items: u64) -> (Store, i64) {
    let store = Store::open(file).await.unwrap();
    let run = Run {
        document: "{}".into(),
        base: "/p".into(),
        created: "2026-05-04T09:00:00Z".into(),
        ..Run::default()
    };
    let item = |n: u64| NewRunItem {
        source: format!("/p/{n}.jpg"),
        target: format!("/p/web/{n}.jpg"),
        bytes: 5,
        decided: "{}".into(),
        ..NewRunItem::default()
    };
    let id = store.add_run(&run, &(0..items).map(item).collect::<Vec<_>>()).await.unwrap();
    (store, id)
}

/// Claims items, has them made by whoever can, and writes down their ends, until none is left.
async fn sees_through(store: Store, fleet: Fleet, done: Arc<AtomicU64>) {
    let clock = "2026-05-04T10:00:00Z";
    loop {
        let claim = Claim { worker: "server", until: i64::MAX, clock, only: None, near: None, apart: false };
        let Some(mut item) = store.claim(&claim).await.unwrap() else { return };
        let mut request = request(b"an original");
        request.number = item.position as usize + 1;
        let bytes = Some(Arc::new(b"an original".to_vec()));
        let own =
            Original { hash: request.source.clone(), length: request.length, path: "a.jpg".into(), bytes };
        let came = fleet.make(request, vec![own], None).await.unwrap();
        assert_eq!(came.made.measured, Some(json!({})));
        item.state = ItemState::Done;
        item.ended = 1;
        assert!(store.complete(&item, &[]).await.unwrap(), "an item ended twice");
        done.fetch_add(1, Ordering::Relaxed);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn every_item_is_handed_out_and_comes_back_once() {
    let (items, hands) = (number("RALLO_ITEMS", 3000), number("RALLO_HANDS", 8));
    let folder = tempfile::tempdir().unwrap();
    let broker = Broker::start(&folder.path().join("broker"));
    let options =
        FleetOptions { broker: broker.options(), data: folder.path().to_owned(), ..FleetOptions::default() };
    let fleet = Fleet::serve(&options).await.unwrap();
    let (store, run) = store_with(&folder.path().join("rallo.db"), items).await;
    let mut others = Command::new(std::env::current_exe().unwrap());
    others.args(["hands", "--exact"]).env("RALLO_BROKER", &options.broker.address);
    let _hands = Hands(others.env("RALLO_HANDS", hands.to_string()).spawn().unwrap());
    while fleet.places().len() < hands as usize {
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let done = Arc::new(AtomicU64::new(0));
    let begin = Instant::now();
    let all: Vec<_> = (0..hands * 3)
        .map(|_| tokio::spawn(sees_through(store.clone(), fleet.clone(), done.clone())))
        .collect();
    let told = tokio::spawn({
        let done = done.clone();
        async move {
            let (mut last, mut since) = (0, Instant::now());
            for part in 1..=10 {
                while done.load(Ordering::Relaxed) < items * part / 10 {
                    tokio::time::sleep(Duration::from_millis(20)).await;
                }
                let now = done.load(Ordering::Relaxed);
                let rate = (now - last) as f64 / since.elapsed().as_secs_f64();
                println!("{now} of {items}: {rate:.0} a second, {} MB", memory());
                (last, since) = (now, Instant::now());
            }
        }
    });
    for one in all {
        one.await.unwrap();
    }
    told.await.unwrap();
    println!("{items} items, {hands} machines: {:.0} a second", items as f64 / begin.elapsed().as_secs_f64());
    let counts = store.counts(run).await.unwrap();
    assert_eq!((counts.done, counts.total), (items as i64, items as i64));
    // Nothing is left that somebody could take.
    let context = jetstream::new(async_nats::connect(&options.broker.address).await.unwrap());
    let mut stream = context.get_stream("rallo-work").await.unwrap();
    let left = Instant::now();
    while stream.info().await.unwrap().state.messages > 0 {
        assert!(left.elapsed() < Duration::from_secs(20), "work is left with the broker");
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}
