//! The queue on a store of its own, by a clock that is moved on by hand.

use crate::queue::lease::InWork;
use crate::queue::{Queue, QueueOptions, lock};
use crate::schedule::Share;
use rallo_engine::{Encoded, Pixels, Size};
use rallo_job::prelude::*;
use rallo_job::{
    Claim, FailureKind, ItemKey, ItemState, ManualClock, NewRunItem, Records, Run, RunItem, RunState,
};
use rallo_media::{Encoding, Extras};
use rallo_store::Store;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

const RECIPE: &str = r#"{"format": "rallo-recipe", "version": 1, "name": "Small",
    "steps": [{"step": "resize", "long_edge": 20}],
    "deliveries": [{"kind": "pictures", "format": "png", "name": "{stem}-small", "to": "subfolder"}]}"#;

pub(super) struct Desk {
    folder: tempfile::TempDir,
    pub(super) records: Arc<dyn Records>,
    pub(super) clock: Arc<ManualClock>,
}

impl Desk {
    pub(super) async fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(&folder.path().join("rallo.sqlite")).await.unwrap();
        let clock = Arc::new(ManualClock::at("2026-05-04T10:00:00Z".parse().unwrap()));
        Self { folder, records: Arc::new(store), clock }
    }

    /// A run over pictures of these names; each is drawn unless it says otherwise.
    async fn run(&self, names: &[&str]) -> i64 {
        let items: Vec<NewRunItem> = names.iter().map(|name| self.item(name)).collect();
        let run = Run { document: RECIPE.into(), base: "/p".into(), ..Run::default() };
        self.records.add_run(&run, &items).await.unwrap()
    }

    pub(super) fn item(&self, name: &str) -> NewRunItem {
        let path = self.folder.path().join(name);
        draw(&path);
        NewRunItem {
            source: path.to_string_lossy().into_owned(),
            target: self.folder.path().join("out").join(name).to_string_lossy().into_owned(),
            ..NewRunItem::default()
        }
    }

    pub(super) fn queue(&self) -> Queue {
        Queue::start(self.records.clone(), QueueOptions { clock: self.clock.clone(), ..QueueOptions::new(2) })
    }

    async fn claimed(&self, worker: &str) -> RunItem {
        let clock = self.clock.text();
        let claim = Claim {
            worker,
            until: self.clock.millis() + 10_000,
            clock: &clock,
            only: None,
            near: None,
            apart: false,
        };
        self.records.claim(&claim).await.unwrap().unwrap()
    }

    /// Waits until the run stands so; the queue works in real time.
    pub(super) async fn until(&self, run: i64, state: RunState) {
        for _ in 0..3000 {
            if self.records.run(run).await.unwrap().state == state {
                return;
            }
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
        panic!("run {run} is {:?}", self.records.run(run).await.unwrap().state);
    }
}

fn draw(path: &Path) {
    let picture = Encoded { size: Size::new(40, 30), pixels: Pixels::U8(vec![90; 40 * 30 * 3]) };
    let file = rallo_media::encode(&picture, Encoding::Png, &Extras::default()).unwrap();
    std::fs::write(path, file).unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn an_item_whose_work_panics_ends_with_a_reason_and_holds_nothing() {
    let desk = Desk::new().await;
    let run = desk.run(&["a.png", "panic-in-the-queue.png", "b.png"]).await;
    let queue = desk.queue();
    desk.until(run, RunState::Done).await;
    let items = desk.records.items(run).await.unwrap();
    let states: Vec<ItemState> = items.iter().map(|i| i.state).collect();
    assert_eq!(states, [ItemState::Done, ItemState::Failed, ItemState::Done]);
    assert_eq!(items[1].kind, Some(FailureKind::Inside));
    assert!(items[1].reason.as_deref().unwrap().contains("the program failed on this picture"));
    // Its lease goes a moment after its end was written down.
    for _ in 0..500 {
        if lock(&queue.0.leases).is_empty() {
            return;
        }
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    panic!("a lease is renewed for ever");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_time_of_the_last_item_counts_and_nothing_that_has_ended_is_under_way() {
    let desk = Desk::new().await;
    let run = desk.run(&["a.png"]).await;
    let queue = desk.queue();
    let mut events = queue.events();
    desk.until(run, RunState::Done).await;
    assert!(desk.records.run(run).await.unwrap().seconds > 0.0, "the only picture took some time");
    while let Ok(event) = events.try_recv() {
        assert!(event.ended() == 0 || event.under_way == 0.0, "{event:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn decisions_of_another_version_fail_their_item_and_are_never_left_out() {
    let desk = Desk::new().await;
    let items = [
        NewRunItem { decided: r#"{"own": {"exposure": 1, "dream": 2}}"#.into(), ..desk.item("a.png") },
        NewRunItem { decided: r#"{"rating": 3}"#.into(), ..desk.item("b.png") },
    ];
    let run = Run { document: RECIPE.into(), base: "/p".into(), ..Run::default() };
    let run = desk.records.add_run(&run, &items).await.unwrap();
    let _queue = desk.queue();
    desk.until(run, RunState::Done).await;
    let items = desk.records.items(run).await.unwrap();
    assert_eq!((items[0].state, items[0].kind), (ItemState::Failed, Some(FailureKind::Stored)));
    assert!(items[0].reason.as_deref().unwrap().contains("dream"), "{:?}", items[0].reason);
    assert_eq!(items[1].state, ItemState::Done);
    assert!(!Path::new(&items[0].target).exists());
}

#[tokio::test(flavor = "multi_thread")]
async fn only_what_is_in_work_is_renewed_and_the_rest_goes_back_by_time_alone() {
    let desk = Desk::new().await;
    let run = desk.run(&["a.png", "b.png"]).await;
    // A worker of another machine, of which nothing is known here, holds both and renews one.
    let (a, b) = (desk.claimed("elsewhere").await, desk.claimed("elsewhere").await);
    let left = desk.folder.path().join("out").join(".rallo-elsewhere-x.part");
    std::fs::create_dir_all(left.parent().unwrap()).unwrap();
    std::fs::write(&left, "half").unwrap();
    let _queue = desk.queue();
    desk.clock.advance(Duration::from_secs(8));
    desk.records.renew("elsewhere", &[a.key()], desk.clock.millis() + 10_000).await.unwrap();
    tokio::time::sleep(Duration::from_millis(1500)).await;
    assert_eq!(
        desk.records.item(b.key()).await.unwrap().worker.as_deref(),
        Some("elsewhere"),
        "not gone yet"
    );
    desk.clock.advance(Duration::from_secs(3));
    for _ in 0..600 {
        if desk.records.item(b.key()).await.unwrap().state == ItemState::Done {
            break;
        }
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    assert_eq!(desk.records.item(b.key()).await.unwrap().state, ItemState::Done);
    assert_eq!(desk.records.item(a.key()).await.unwrap().worker.as_deref(), Some("elsewhere"));
    assert!(!left.exists(), "what it left half written is swept away");
    // The other one is late and changes nothing.
    let late = RunItem { state: ItemState::Failed, ..b };
    assert!(!desk.records.complete(&late, &[]).await.unwrap());
    assert_eq!(desk.records.run(run).await.unwrap().state, RunState::Running);
}

#[tokio::test(flavor = "multi_thread")]
async fn pausing_and_going_on_while_items_are_in_work_keeps_count() {
    let desk = Desk::new().await;
    let run = desk.run(&["a.png", "b.png"]).await;
    let (a, b) = (desk.claimed("here").await, desk.claimed("here").await);
    // A queue that takes nothing by itself: the run pauses.
    desk.records.pause_run(run, None, None).await.unwrap();
    let queue = desk.queue();
    let first = InWork::begin(&queue, &a);
    assert!(first.count(&a, &Share::default(), (0, 0)));
    queue.go_on(run).await.unwrap();
    let second = InWork::begin(&queue, &b);
    assert!(!second.count(&b, &Share::default(), (0, 0)), "the stretch of work goes on");
    queue.pause(run).await.unwrap();
    queue.go_on(run).await.unwrap();
    assert_eq!(lock(&queue.0.active)[&run].at_work.len(), 2);
    drop(first);
    assert_eq!(lock(&queue.0.active)[&run].at_work.len(), 1);
    drop(second);
    assert!(lock(&queue.0.active)[&run].at_work.is_empty());
    queue.go_on(run).await.unwrap();
    assert!(lock(&queue.0.leases).iter().all(|key| *key != ItemKey { run, position: 0 }));
}

#[tokio::test(flavor = "multi_thread")]
async fn quick_pictures_are_claimed_together_and_go_back_when_their_run_pauses() {
    let desk = Desk::new().await;
    let first = desk.item("a.png");
    let of = |n: usize| NewRunItem {
        source: first.source.clone(),
        target: first.target.replace("a.png", &format!("{n}.png")),
        pixels: 1200,
        ..NewRunItem::default()
    };
    let items: Vec<NewRunItem> = (0..400).map(of).collect();
    let run = Run { document: RECIPE.into(), base: "/p".into(), ..Run::default() };
    let run = desk.records.add_run(&run, &items).await.unwrap();
    let queue = desk.queue();
    // As if a picture had taken a millisecond: how long one takes in a build for development is not what is asked.
    queue.0.took.store(1000, Ordering::Relaxed);
    let claimed = || lock(&queue.0.put_by).len();
    while claimed() == 0 {
        queue.0.took.store(1000, Ordering::Relaxed);
        tokio::time::sleep(Duration::from_micros(100)).await;
    }
    queue.pause(run).await.unwrap();
    // What is in work is finished.
    for _ in 0..3000 {
        if lock(&queue.0.leases).is_empty() && claimed() == 0 {
            break;
        }
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    let items = desk.records.items(run).await.unwrap();
    let (done, waiting): (Vec<&RunItem>, Vec<&RunItem>) =
        items.iter().partition(|i| i.state == ItemState::Done);
    assert!(!waiting.is_empty() && waiting.iter().all(|i| i.worker.is_none()), "{}", done.len());
    assert!(waiting.iter().any(|i| i.tries == 1), "one was claimed and given back");
    queue.go_on(run).await.unwrap();
    desk.until(run, RunState::Done).await;
    let items = desk.records.items(run).await.unwrap();
    assert!(items.iter().all(|i| i.state == ItemState::Done && Path::new(&i.target).exists()));
    // Each has a time of ending of its own, also those that were written down in one step.
    let ends: std::collections::HashSet<i64> = items.iter().map(|i| i.ended).collect();
    assert_eq!(ends.len(), items.len());
}
