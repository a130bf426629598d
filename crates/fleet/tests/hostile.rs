//! A machine that gives back what it should not: the server gets nothing of it, and gives it nothing more.
#![allow(missing_docs)]

mod common;

use async_nats::jetstream::consumer::PullConsumer;
use async_nats::jetstream::{self, AckKind};
use common::{Broker, request};
use futures_util::StreamExt;
use rallo_fleet::BrokerOptions;
use rallo_fleet::server::{Fleet, FleetOptions};
use rallo_fleet::worker::{Worker, WorkerOptions};
use rallo_media::content_hash;
use rallo_runner::queue::{FromHelper, Helpers, NotMade};
use rallo_runner::render::elsewhere::Original;
use serde_json::{Value, json};
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

async fn serve(broker: &BrokerOptions, data: &Path, most: Option<i64>) -> Fleet {
    let options =
        FleetOptions { broker: broker.clone(), data: data.to_owned(), most, ..FleetOptions::default() };
    Fleet::serve(&options).await.unwrap()
}

/// Pictures that all others could have in work.
fn room(fleet: &Fleet) -> usize {
    fleet.places().into_iter().map(|(_, room)| room).sum()
}

/// Waits until a helper is known.
async fn until_there(fleet: &Fleet, helping: &tokio::task::JoinHandle<()>) {
    while room(fleet) == 0 {
        assert!(!helping.is_finished(), "the helper failed");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

/// What comes of asking for a picture.
async fn asked(fleet: &Fleet, original: &[u8]) -> Result<FromHelper, NotMade> {
    let request = request(original);
    let bytes = Some(Arc::new(original.to_vec()));
    let own =
        Original { hash: request.source.clone(), length: request.length, path: "TN_1.jpg".into(), bytes };
    fleet.make(request, vec![own], None).await
}

/// Bytes that are held under a hash.
type Holds = Option<(String, &'static [u8])>;

/// A machine of one's own making: it is welcome, takes pictures, lets the broker hold what it `holds`, and says of each what
/// `answer` makes of it.
async fn helper(address: String, name: &'static str, holds: Holds, answer: impl Fn(&Value) -> Value) {
    let client = async_nats::connect(address).await.unwrap();
    let context = jetstream::new(client.clone());
    let stream = context.get_stream("rallo-work").await.unwrap();
    let consumer = stream.consumer_names().next().await.unwrap().unwrap();
    let kind = consumer.trim_start_matches("takes-").to_owned();
    let hello = json!({"name": name, "machine": "elsewhere", "cores": 1, "room": 1, "kind": kind,
        "version": "", "at_work": [], "made": 0, "leaves": false});
    let said = client.request("rallo.hello", hello.to_string().into()).await.unwrap();
    let said: Value = serde_json::from_slice(&said.payload).unwrap();
    assert!(said["refused"].is_null(), "{said}");
    let consumer: PullConsumer = stream.get_consumer(&consumer).await.unwrap();
    let mut messages = consumer.messages().await.unwrap();
    while let Some(Ok(message)) = messages.next().await {
        let assignment: Value = serde_json::from_slice(&message.payload).unwrap();
        // Content and names, and no paths.
        assert_eq!(assignment["request"]["name"], "Spring/TN_1.jpg");
        if let Some((hash, mut bytes)) = holds.clone() {
            let results = context.get_object_store("rallo-results").await.unwrap();
            let at = format!("{hash}-{}", assignment["token"].as_str().unwrap());
            results.put(at.as_str(), &mut bytes).await.unwrap();
        }
        let outcome = answer(&assignment);
        let to = assignment["answer"].as_str().unwrap().to_owned();
        client.request(to, outcome.to_string().into()).await.unwrap();
        message.ack().await.unwrap();
    }
}

#[tokio::test]
async fn bytes_of_another_hash_too_many_or_none_are_not_taken() {
    let folder = tempfile::tempdir().unwrap();
    let broker = Broker::start(&folder.path().join("broker"));
    let options = broker.options();
    let fleet = serve(&options, folder.path(), None).await;
    let wrong: [(&str, &str, Value); 3] = [
        (
            "none",
            "cannot be used",
            json!({"variant": 0, "hash": "0123", "length": 5, "width": 9, "height": 9}),
        ),
        (
            "huge",
            "larger than",
            json!({"variant": 0, "hash": "0123", "length": 900_000_000, "width": 9, "height": 9}),
        ),
        ("other", "not those of its hash", Value::Null),
    ];
    for (name, why, file) in wrong {
        let hash = content_hash(b"what it should be");
        let said = json!({"variant": 0, "hash": hash, "length": 14, "width": 9, "height": 9});
        // One holds other bytes under the hash it says.
        let (file, holds) =
            if file.is_null() { (said, Some((hash, &b"something else"[..]))) } else { (file, None) };
        let answer = move |assignment: &Value| json!({"token": assignment["token"], "helper": name, "seconds": 0.1, "result": {"Ok": {"files": [file]}}});
        let bad = tokio::spawn(helper(options.address.clone(), name, holds, answer));
        until_there(&fleet, &bad).await;
        let made = asked(&fleet, b"an original").await;
        let Err(NotMade::Nobody(said)) = made else { panic!("{name}: {made:?}") };
        assert!(said.contains(why), "{name}: {said}");
        assert_eq!(room(&fleet), 0, "{name} is given more");
        let known = fleet.helpers().into_iter().find(|helper| helper.name == name).unwrap();
        assert!(known.refused.unwrap().contains("not believed"));
        bad.abort();
    }
}

#[tokio::test]
async fn a_picture_that_nobody_asked_for_is_not_wanted_and_a_failure_is_the_pictures() {
    let folder = tempfile::tempdir().unwrap();
    let broker = Broker::start(&folder.path().join("broker"));
    let options = broker.options();
    let fleet = serve(&options, folder.path(), None).await;
    let address = options.address.clone();
    let helping = tokio::spawn(helper(address, "honest", None, |assignment: &Value| {
        json!({"token": assignment["token"], "helper": "honest", "seconds": 0.1,
            "result": {"Err": {"kind": "unreadable", "reason": "it is none"}}})
    }));
    until_there(&fleet, &helping).await;
    let made = asked(&fleet, b"one").await;
    assert!(matches!(&made, Err(NotMade::Failed(fault)) if fault.reason == "it is none"), "{made:?}");
    assert_eq!(room(&fleet), 1, "who tells of a bad picture is not to blame");

    let client = async_nats::connect(&options.address).await.unwrap();
    let stranger = json!({"token": "0123", "helper": "stranger", "seconds": 0.0, "result": {"Ok": {}}});
    let said =
        client.request(format!("rallo.done.{}", fleet.name()), stranger.to_string().into()).await.unwrap();
    assert_eq!(&said.payload[..], b"false");
    let nonsense = client.request("rallo.hello", "nonsense".into()).await.unwrap();
    assert!(String::from_utf8_lossy(&nonsense.payload).contains("cannot be understood"));
}

/// Waits until no work is with the broker.
async fn until_empty(address: &str) {
    let context = jetstream::new(async_nats::connect(address).await.unwrap());
    let mut stream = context.get_stream("rallo-work").await.unwrap();
    while stream.info().await.unwrap().state.messages > 0 {
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

/// The subject under which work waits, once there is some.
async fn waits_under(address: &str) -> String {
    let context = jetstream::new(async_nats::connect(address).await.unwrap());
    loop {
        let mut stream = context.get_stream("rallo-work").await.unwrap();
        let last = stream.info().await.unwrap().state.last_sequence;
        if let Ok(message) = stream.get_raw_message(last).await {
            return message.subject.to_string();
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

#[tokio::test]
async fn a_picture_that_took_long_goes_to_the_machine_that_has_kept_it_and_on_when_that_is_gone() {
    let folder = tempfile::tempdir().unwrap();
    let broker = Broker::start(&folder.path().join("broker"));
    let options = broker.options();
    let fleet = serve(&options, folder.path(), None).await;
    let helping = tokio::spawn(helper(options.address.clone(), "patient", None, |assignment: &Value| {
        json!({"token": assignment["token"], "helper": "patient", "seconds": 7.5,
            "result": {"Err": {"kind": "unreadable", "reason": "it is none"}}})
    }));
    until_there(&fleet, &helping).await;
    assert!(matches!(asked(&fleet, b"one").await, Err(NotMade::Failed(_))));
    until_empty(&options.address).await;
    helping.abort();
    let again = {
        let fleet = fleet.clone();
        tokio::spawn(async move { asked(&fleet, b"one").await })
    };
    let first = waits_under(&options.address).await;
    assert!(first.ends_with(".to.patient"), "{first}");
    // It says nothing any more: whoever can first makes it.
    let begin = std::time::Instant::now();
    while waits_under(&options.address).await == first {
        assert!(begin.elapsed() < Duration::from_secs(30), "it waits for one that is gone");
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    assert!(!again.is_finished());
    again.abort();
}

#[tokio::test]
async fn a_picture_that_no_machine_gives_back_fails_with_that_reason_and_stops_nobody() {
    let folder = tempfile::tempdir().unwrap();
    let broker = Broker::start(&folder.path().join("broker"));
    let options = broker.options();
    let fleet = serve(&options, folder.path(), None).await;
    let waits = {
        let fleet = fleet.clone();
        tokio::spawn(async move { asked(&fleet, b"poison").await })
    };
    waits_under(&options.address).await;
    // Five are given it and do not give it back.
    let context = jetstream::new(async_nats::connect(&options.address).await.unwrap());
    let stream = context.get_stream("rallo-work").await.unwrap();
    let name = stream.consumer_names().next().await.unwrap().unwrap();
    let consumer: PullConsumer = stream.get_consumer(&name).await.unwrap();
    for _ in 0..5 {
        let mut messages =
            consumer.fetch().max_messages(1).expires(Duration::from_secs(5)).messages().await.unwrap();
        let message = messages.next().await.unwrap().unwrap();
        message.ack_with(AckKind::Nak(None)).await.unwrap();
    }
    // The next one does not try it, and says so.
    let data = folder.path().join("worker");
    let own = WorkerOptions { broker: options.clone(), cores: 1, data, shares: Vec::new() };
    let worker = Worker::join(&own).await.unwrap();
    let helping = tokio::spawn({
        let worker = worker.clone();
        async move { worker.run(std::future::pending()).await }
    });
    let came = tokio::time::timeout(Duration::from_secs(20), waits).await.unwrap().unwrap();
    assert!(
        matches!(&came, Err(NotMade::Failed(fault)) if fault.reason.contains("5 machines were given")),
        "{came:?}"
    );
    assert!(!helping.is_finished() && fleet.helpers().iter().all(|helper| helper.refused.is_none()));
    helping.abort();
}

#[tokio::test]
async fn a_broker_that_is_full_leaves_the_picture_to_the_server() {
    let folder = tempfile::tempdir().unwrap();
    let broker = Broker::start(&folder.path().join("broker"));
    let options = broker.options();
    let fleet = serve(&options, folder.path(), Some(100_000)).await;
    let original = vec![7u8; 400_000];
    let made = asked(&fleet, &original).await;
    assert!(matches!(made, Err(NotMade::Nobody(_))), "{made:?}");
    // What there is room for goes on.
    let small = asked(&fleet, b"small");
    assert!(tokio::time::timeout(Duration::from_secs(2), small).await.is_err(), "it waits for somebody");
}
