//! The database by itself.

use rallo_job::prelude::*;
use rallo_job::{
    Claim, EndedItem, ExpiredLeases, FailureKind, FrameDecision, FrameMeasured, FrameRecord, Further,
    ItemKey, ItemState, NewRunItem, Run, RunItem, RunState, ShootFolder, ShootSummary, WrittenFile,
};
use rallo_store::Store;
use std::path::Path;

async fn open() -> (tempfile::TempDir, Store) {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(&folder.path().join("rallo.sqlite")).await.unwrap();
    (folder, store)
}

fn run() -> Run {
    Run {
        recipe_version: 1,
        document: "{}".into(),
        shoot_name: "Spring".into(),
        base: "/p".into(),
        created: "2026-05-04T09:00:00Z".into(),
        ..Run::default()
    }
}

#[tokio::test]
async fn saved_changes_are_versions_and_nobody_overwrites_another() {
    let (_folder, store) = open().await;
    let first = store.save_recipe(None, 0, "Web", "{1}", "t1").await.unwrap().unwrap();
    assert_eq!(first.version, 1);
    let second = store.save_recipe(Some(first.id), 1, "Web", "{2}", "t2").await.unwrap().unwrap();
    assert_eq!((second.version, second.document.as_str()), (2, "{2}"));
    // The same again is no new version; a change made from version 1 is refused.
    assert_eq!(store.save_recipe(Some(first.id), 2, "Web", "{2}", "t3").await.unwrap().unwrap().version, 2);
    assert!(store.save_recipe(Some(first.id), 1, "Web", "{3}", "t4").await.unwrap().is_none());
    assert_eq!(store.recipe(first.id).await.unwrap().document, "{2}");
}

fn place(path: &str, deep: bool) -> ShootFolder {
    ShootFolder { path: path.into(), deep }
}

fn frame(shoot: i64, path: &str) -> FrameRecord {
    FrameRecord {
        shoot_id: shoot,
        path: path.into(),
        name: "a.jpg".into(),
        bytes: 10,
        modified: 1,
        ..FrameRecord::default()
    }
}

#[tokio::test]
async fn frames_keep_their_identity_and_choices_over_a_second_scan() {
    let (_folder, store) = open().await;
    let shoot = store.shoot_of("Spring", "/p", &[place("/p", false)]).await.unwrap();
    assert_eq!(store.shoot_of("Other", "/p", &[place("/p", true)]).await.unwrap().id, shoot.id);
    assert_eq!(store.folders_of_shoot(shoot.id).await.unwrap(), [place("/p", true)]);
    let two = store.shoot_of("Two", "/", &[place("/q", true), place("/p", true)]).await.unwrap();
    assert_ne!(two.id, shoot.id);
    let mut one = frame(shoot.id, "/p/a.jpg");
    let id = store.put_frames(&[one.clone()]).await.unwrap()[0].id;
    let decided = FrameDecision {
        id,
        choice: 1,
        rating: 4,
        keywords: "[\"mint\"]".into(),
        shift: -500,
        hand: Some(2.0),
        own: "{}".into(),
    };
    store.decide(&[decided]).await.unwrap();
    store
        .measured(&[FrameMeasured { id, measures: Some("{}".into()), ..FrameMeasured::default() }])
        .await
        .unwrap();
    // Put again unchanged, the measures stay; changed, they go, but not what was decided.
    assert_eq!(store.put_frames(&[one.clone()]).await.unwrap()[0].measures.as_deref(), Some("{}"));
    one.bytes = 11;
    let again = &store.put_frames(&[one]).await.unwrap()[0];
    assert_eq!((again.id, again.bytes, again.measures.as_deref()), (id, 11, None));
    assert_eq!((again.choice, again.rating, again.shift, again.hand), (1, 4, -500, Some(2.0)));
    store.set_gone(&[id], true).await.unwrap();
    assert!(store.frames(shoot.id).await.unwrap()[0].gone);
    assert_eq!(store.frames(shoot.id).await.unwrap()[0].keywords, "[\"mint\"]");
}

#[tokio::test]
async fn a_shoot_is_shown_by_a_frame_that_is_neither_dark_nor_gone() {
    let (_folder, store) = open().await;
    let shoot = store.shoot_of("Beds", "/p", &[place("/p", false)]).await.unwrap().id;
    assert_eq!(store.shoot_summary(shoot).await.unwrap(), ShootSummary::default());
    let frames: Vec<_> = (0..5).map(|i| frame(shoot, &format!("/p/{i}.jpg"))).collect();
    let ids: Vec<i64> = store.put_frames(&frames).await.unwrap().iter().map(|f| f.id).collect();
    // Nothing is measured yet: any that is there.
    assert!(store.shoot_summary(shoot).await.unwrap().cover.is_some());
    let measured = |(id, brightness): (&i64, i64)| FrameMeasured {
        id: *id,
        measures: Some(format!("{{\"brightness\": {brightness}}}")),
        ..FrameMeasured::default()
    };
    let found: Vec<_> = ids.iter().zip([2, 45, 97, 50, 60]).map(measured).collect();
    store.measured(&found).await.unwrap();
    let cover = |summary: ShootSummary| (summary.frames, summary.cover.unwrap().0);
    assert_eq!(cover(store.shoot_summary(shoot).await.unwrap()), (5, ids[3]));
    store.set_gone(&[ids[3]], true).await.unwrap();
    assert_eq!(cover(store.shoot_summary(shoot).await.unwrap()), (4, ids[1]));
}

#[tokio::test]
async fn selections_hold_frames_of_several_shoots_without_copying() {
    let (_folder, store) = open().await;
    let a = store.shoot_of("A", "/a", &[place("/a", false)]).await.unwrap();
    let b = store.shoot_of("B", "/b", &[place("/b", false)]).await.unwrap();
    let rows = store.put_frames(&[frame(a.id, "/a/1.jpg"), frame(b.id, "/b/2.jpg")]).await.unwrap();
    let ids: Vec<i64> = rows.iter().map(|r| r.id).collect();
    let best = store.add_to_selection("Best", &ids[..1], "t").await.unwrap();
    assert_eq!(store.add_to_selection("Best", &ids, "t").await.unwrap(), best);
    assert_eq!(store.selections().await.unwrap()[0].frames, 2);
    assert_eq!(store.selected_frames(best).await.unwrap().len(), 2);
    store.remove_from_selection(best, &ids[..1]).await.unwrap();
    assert_eq!(store.selected_frames(best).await.unwrap()[0].path, "/b/2.jpg");
    store.forget_selection(best).await.unwrap();
    assert!(store.selections().await.unwrap().is_empty());
    assert_eq!(store.frames(b.id).await.unwrap().len(), 1);
}

#[tokio::test]
async fn a_database_of_the_first_version_is_brought_up_to_date() {
    use sqlx::Connection;
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("rallo.sqlite");
    let options = sqlx::sqlite::SqliteConnectOptions::new().filename(&file).create_if_missing(true);
    let mut old = sqlx::SqliteConnection::connect_with(&options).await.unwrap();
    // As the database library itself reads them from the folder.
    let folder_of_migrations = Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/migrations"));
    let migrations = sqlx::migrate::Migrator::new(folder_of_migrations).await.unwrap();
    let first = sqlx::migrate::Migrator {
        migrations: migrations.migrations[..1].to_vec().into(),
        ..sqlx::migrate::Migrator::DEFAULT
    };
    first.run(&mut old).await.unwrap();
    sqlx::raw_sql(
        "INSERT INTO shoots (id, name, folder, recursive) VALUES (7, 'Spring', '/p', 1);
         INSERT INTO frames (id, shoot_id, path, name, bytes, modified) VALUES (3, 7, '/p/a.jpg', 'a.jpg', 5, 6);",
    )
    .execute(&mut old)
    .await
    .unwrap();
    old.close().await.unwrap();
    let store = Store::open(&file).await.unwrap();
    let shoot = store.shoot(7).await.unwrap();
    assert_eq!((shoot.name.as_str(), shoot.base.as_str()), ("Spring", "/p"));
    assert_eq!(store.folders_of_shoot(7).await.unwrap(), [place("/p", true)]);
    let frames = store.frames(7).await.unwrap();
    assert_eq!((frames[0].id, frames[0].bytes, frames[0].choice), (3, 5, 0));
}

fn item(name: &str) -> NewRunItem {
    NewRunItem {
        source: format!("/p/{name}"),
        target: format!("/p/web/{name}"),
        bytes: 5,
        decided: "{}".into(),
        ..NewRunItem::default()
    }
}

#[tokio::test]
async fn what_a_recipe_has_made_is_known_by_source() {
    let (_folder, store) = open().await;
    let recipe = store.save_recipe(None, 0, "Web", "{1}", "t1").await.unwrap().unwrap();
    let with = Run { recipe_id: Some(recipe.id), ..run() };
    let id = store
        .add_run(&with, &[item("a.jpg"), NewRunItem { decided: r#"{"shift":70}"#.into(), ..item("b.jpg") }])
        .await
        .unwrap();
    assert!(store.sources_done(recipe.id).await.unwrap().is_empty());
    let mut one = store.item(ItemKey { run: id, position: 1 }).await.unwrap();
    assert_eq!(one.decided, r#"{"shift":70}"#);
    one.state = ItemState::Done;
    store.complete(&one, &[]).await.unwrap();
    assert_eq!(store.sources_done(recipe.id).await.unwrap(), ["/p/b.jpg"]);
}

async fn claim(store: &Store, worker: &str, now: i64, lease: i64, clock: &str) -> Option<RunItem> {
    store
        .claim(&Claim { worker, until: now + lease, clock, only: None, near: None, apart: false })
        .await
        .unwrap()
}

/// Milliseconds of a lease.
const LEASE: i64 = 1000;

#[tokio::test]
async fn pictures_are_given_out_once_and_again_when_a_worker_is_gone() {
    let (folder, store) = open().await;
    let items = [item("a.jpg"), item("b.jpg")];
    let one = store.add_run(&run(), &items).await.unwrap();
    let two = store.add_run(&run(), &items).await.unwrap();
    let take = |worker: &'static str, now: i64| {
        let store = store.clone();
        async move { claim(&store, worker, now, LEASE, "2026-05-04T10:00:00Z").await }
    };
    let first = take("anna", 0).await.unwrap();
    let second = take("bert", 0).await.unwrap();
    assert_eq!((first.run_id, first.position, second.run_id, second.position), (one, 0, one, 1));
    assert_eq!(store.run(one).await.unwrap().state, RunState::Running);
    let other = take("bert", 0).await.unwrap();
    assert_eq!((other.run_id, other.position), (two, 0));
    // What is renewed stays with who has it, item by item; what is not goes to the next who asks once it was given back.
    store.renew("anna", &[first.key()], 5000).await.unwrap();
    store.renew("anna", &[second.key()], 5000).await.unwrap();
    store.renew("bert", &[other.key()], 5000).await.unwrap();
    let free = take("carl", 2000).await.unwrap();
    assert_eq!((free.run_id, free.position), (two, 1), "nothing is claimed before it was given back");
    let expired = store.expired(2000).await.unwrap();
    assert_eq!(expired, [ExpiredLeases { worker: "bert".into(), folders: vec!["/p/web".into()] }]);
    assert_eq!(store.expired(2000).await.unwrap(), expired, "asking alone changes nothing");
    store.release("bert", 2000).await.unwrap();
    assert!(store.expired(2000).await.unwrap().is_empty());
    let again = take("carl", 2000).await.unwrap();
    assert_eq!((again.run_id, again.position, again.tries), (one, 1, 2));
    // Too late: the one who lost the lease changes nothing any more.
    let late = RunItem { state: ItemState::Failed, ..second };
    assert!(!store.complete(&late, &[]).await.unwrap());
    for (item, state) in [(first, ItemState::Done), (again, ItemState::Failed)] {
        let ended = RunItem { state, kind: Some(FailureKind::Gone), ..item };
        assert!(store.complete(&ended, &[]).await.unwrap());
    }
    assert!(store.end_run(one, "t2").await.unwrap() && !store.end_run(two, "t2").await.unwrap());
    // A program started anew gives back what a gone one had, when its time is over.
    let fresh = Store::open(&folder.path().join("rallo.sqlite")).await.unwrap();
    assert_eq!(fresh.claimable("2026-05-04T10:00:00Z", 9).await.unwrap(), 0);
    let mut gone: Vec<String> =
        fresh.expired(5001).await.unwrap().into_iter().map(|expired| expired.worker).collect();
    gone.sort();
    assert_eq!(gone, ["bert", "carl"]);
    for worker in &gone {
        fresh.release(worker, 5001).await.unwrap();
    }
    assert_eq!(fresh.claimable("2026-05-04T10:00:00Z", 9).await.unwrap(), 2);
    // The failed one is tried again, alone.
    store.retry_failed(one, Some(1)).await.unwrap();
    assert_eq!(store.run(one).await.unwrap().state, RunState::Waiting);
    assert_eq!(
        (
            store.item(ItemKey { run: one, position: 1 }).await.unwrap().state,
            store.item(ItemKey { run: one, position: 0 }).await.unwrap().state
        ),
        (ItemState::Waiting, ItemState::Done)
    );
}

#[tokio::test]
async fn pictures_beside_each_other_go_to_one_worker_as_long_as_there_is_room() {
    let (_folder, store) = open().await;
    let names: Vec<String> = (0..140).map(|i| format!("{i:03}.jpg")).collect();
    let items: Vec<NewRunItem> = names.iter().map(|name| item(name)).collect();
    let run = store.add_run(&run(), &items).await.unwrap();
    let take = |worker: &'static str| {
        let store = store.clone();
        async move { claim(&store, worker, 0, LEASE, "2026-05-04T10:00:00Z").await.unwrap() }
    };
    let first = take("anna").await;
    assert_eq!((first.run_id, first.position), (run, 0));
    assert_eq!(take("anna").await.position, 1);
    let other = take("bert").await;
    assert_eq!((other.position, take("bert").await.position), (64, 65));
    assert_eq!((take("anna").await.position, take("carl").await.position), (2, 128));
    // Where somebody is in every stretch, the next one is the first that waits.
    assert_eq!(take("dora").await.position, 3);
    // One who comes to the end of a stretch goes on where nobody is.
    for _ in 0..10 {
        take("carl").await;
    }
    assert_eq!(take("carl").await.position, 139);
    assert_eq!(take("carl").await.position, 4);
}

#[tokio::test]
async fn who_hands_out_to_several_keeps_each_in_a_stretch_of_its_own() {
    let (_folder, store) = open().await;
    let names: Vec<String> = (0..140).map(|i| format!("{i:03}.jpg")).collect();
    let items: Vec<NewRunItem> = names.iter().map(|name| item(name)).collect();
    let run = store.add_run(&run(), &items).await.unwrap();
    let take = |near: Option<i64>| {
        let store = store.clone();
        async move {
            let near = near.map(|position| ItemKey { run, position });
            let claim = Claim {
                worker: "server",
                until: LEASE,
                clock: "2026-05-04T10:00:00Z",
                only: None,
                near,
                apart: true,
            };
            store.claim(&claim).await.unwrap().unwrap().position
        }
    };
    // Each of three begins where nobody is, and goes on behind what it had last.
    assert_eq!((take(None).await, take(None).await, take(None).await), (0, 64, 128));
    assert_eq!((take(Some(64)).await, take(Some(0)).await, take(Some(128)).await), (65, 1, 129));
    assert_eq!((take(Some(65)).await, take(Some(1)).await), (66, 2));
    // At the end of its stretch one helps where others are.
    for position in 129..139 {
        assert_eq!(take(Some(position)).await, position + 1);
    }
    assert_eq!(take(Some(139)).await, 3);
    // Of another run's item nothing follows.
    let claim = Claim {
        worker: "server",
        until: LEASE,
        clock: "2026-05-04T10:00:00Z",
        only: None,
        near: Some(ItemKey { run: run + 1, position: 70 }),
        apart: true,
    };
    assert_eq!(store.claim(&claim).await.unwrap().unwrap().position, 4);
}

#[tokio::test]
async fn small_pictures_are_claimed_and_written_down_several_in_one_step() {
    let (_folder, store) = open().await;
    // The fifth is large, of the seventh nothing is known, and the last is made of all of them.
    let of = |i: i64| NewRunItem {
        pixels: [1000, 900_000, 0][usize::from(i == 4) + 2 * usize::from(i == 6)],
        task: (i == 69).then_some(0),
        ..item(&format!("{i:03}.jpg"))
    };
    let items: Vec<NewRunItem> = (0..70).map(of).collect();
    let run = store.add_run(&run(), &items).await.unwrap();
    let take = |most: usize| {
        let store = store.clone();
        async move {
            let clock = "2026-05-04T10:00:00Z";
            let claim = Claim { worker: "anna", until: LEASE, clock, only: None, near: None, apart: false };
            store.claim_several(&claim, Further { most, pixels: 5000 }).await.unwrap()
        }
    };
    let places = |items: &[RunItem]| items.iter().map(|i| i.position).collect::<Vec<_>>();
    let first = take(4).await;
    assert_eq!(places(&first), [0, 1, 2, 3, 5]);
    assert!(
        first.iter().all(|i| i.worker.as_deref() == Some("anna") && i.lease == Some(LEASE) && i.tries == 1)
    );
    // What comes next is taken whatever it is; what comes with it is small, in the same stretch, and no task.
    assert_eq!(places(&take(2).await), [4, 7, 8]);
    assert_eq!(places(&take(0).await), [6]);
    assert_eq!(places(&take(99).await), (9..64).collect::<Vec<_>>());
    assert_eq!(places(&take(99).await), [64, 65, 66, 67, 68]);
    assert!(take(99).await.is_empty(), "the task waits until all are over");

    let ended = |item: &RunItem, ended: i64| EndedItem {
        item: RunItem { state: ItemState::Done, seconds: Some(0.25), ended, ..item.clone() },
        written: vec![WrittenFile { path: item.target.clone(), hash: "h".into(), bytes: 7, mark: None }],
    };
    assert!(store.complete(&ended(&first[0], 1000).item, &[]).await.unwrap());
    // One of them was given to somebody else meanwhile; two ended at the same time, and one before what is written down already.
    store.give_back(&first[2]).await.unwrap();
    let times = [(1, 990), (2, 1001), (3, 1005), (4, 1005)];
    let together: Vec<EndedItem> = times.iter().map(|(i, at)| ended(&first[*i], *at)).collect();
    let mut done: Vec<i64> =
        store.complete_several(&together).await.unwrap().iter().map(|key| key.position).collect();
    done.sort_unstable();
    assert_eq!(done, [1, 3, 5]);
    let stored = store.items(run).await.unwrap();
    assert_eq!([1usize, 3, 5].map(|i| stored[i].ended), [1001, 1005, 1006]);
    assert_eq!((stored[2].state, stored[2].ended), (ItemState::Waiting, 0));
    assert_eq!((stored[3].seconds, stored[3].worker.clone()), (Some(0.25), None));
    assert_eq!(store.result(&first[3].target).await.unwrap().unwrap().bytes, 7);
    assert!(store.complete_several(&[]).await.unwrap().is_empty());
}

#[tokio::test]
async fn runs_are_moved_paused_asked_for_later_and_wait_for_a_yes() {
    let (_folder, store) = open().await;
    let items = [item("a.jpg")];
    let (early, late) = ("2026-05-04T10:00:00Z", "2026-05-04T23:00:00Z");
    let one = store.add_run(&run(), &items).await.unwrap();
    let two = store
        .add_run(&Run { not_before: Some("2026-05-04T22:00:00Z".into()), ..run() }, &items)
        .await
        .unwrap();
    let three = store
        .add_run(&Run { state: RunState::Asking, reason: Some("Sharp?".into()), ..run() }, &items)
        .await
        .unwrap();
    let order = |store: Store| async move {
        store.open_runs().await.unwrap().iter().map(|r| r.id).collect::<Vec<_>>()
    };
    store.move_run(three, -2).await.unwrap();
    store.move_run(one, 1).await.unwrap();
    assert_eq!(order(store.clone()).await, [three, two, one]);
    // The first asks, the second is for the night.
    assert_eq!(claim(&store, "anna", 0, LEASE, early).await.unwrap().run_id, one);
    assert!(claim(&store, "anna", 0, LEASE, early).await.is_none());
    assert_eq!(claim(&store, "anna", 0, LEASE, late).await.unwrap().run_id, two);
    // Yes: asked the next thing, then in line, with the document as it is now.
    assert!(store.pass_run(three, 0, "{1}", Some("Still?")).await.unwrap());
    assert!(!store.pass_run(three, 0, "{2}", None).await.unwrap(), "answered twice");
    assert_eq!(store.run(three).await.unwrap().reason.as_deref(), Some("Still?"));
    assert!(store.pass_run(three, 1, "{3}", None).await.unwrap());
    let now = store.run(three).await.unwrap();
    assert_eq!((now.state, now.document.as_str(), now.stage), (RunState::Waiting, "{3}", 2));
    // Paused: nothing is given out until it goes on; cancelled: never again.
    assert!(store.pause_run(three, Some("no room"), Some(FailureKind::NoRoom)).await.unwrap());
    assert!(claim(&store, "anna", 0, LEASE, late).await.is_none());
    assert!(store.resume_run(three).await.unwrap() && !store.resume_run(three).await.unwrap());
    // What was cancelled is not tried again, and keeps its reasons.
    let failed = RunItem {
        state: ItemState::Failed,
        ..store.item(ItemKey { run: three, position: 0 }).await.unwrap()
    };
    assert!(store.complete(&failed, &[]).await.unwrap());
    assert!(store.cancel_run(three, "t2").await.unwrap() && !store.cancel_run(three, "t3").await.unwrap());
    assert!(!store.pause_run(three, None, None).await.unwrap());
    assert!(claim(&store, "anna", 0, LEASE, late).await.is_none());
    store.retry_failed(three, None).await.unwrap();
    assert_eq!(store.item(ItemKey { run: three, position: 0 }).await.unwrap().state, ItemState::Failed);
    assert_eq!(order(store.clone()).await, [two, one]);
    // What was written is known by its path.
    for (hash, bytes) in [("h1", 4), ("h2", 5)] {
        let mark = (hash == "h1").then(|| "made of a and b".to_owned());
        let written =
            WrittenFile { path: "/p/web/a.jpg".into(), hash: hash.into(), bytes, mark: mark.clone() };
        store.complete(&failed, &[written]).await.unwrap();
        assert_eq!(store.result("/p/web/a.jpg").await.unwrap().unwrap().mark, mark);
    }
    assert_eq!(store.result("/p/web/a.jpg").await.unwrap().unwrap().hash, "h2");
    store.forget_result("/p/web/a.jpg").await.unwrap();
    assert!(store.result("/p/web/a.jpg").await.unwrap().is_none());
}

/// How items stand, counted one by one and as it is kept beside them: run, state, whether of all pictures, how many, pixels.
async fn counted(file: &Path) -> [Vec<(i64, String, bool, i64, i64)>; 2] {
    let pool = sqlx::SqlitePool::connect(&format!("sqlite:{}", file.display())).await.unwrap();
    let of = async |sql: &'static str| sqlx::query_as(sql).fetch_all(&pool).await.unwrap();
    [
        of("SELECT run_id, state, task IS NOT NULL, count(*), sum(max(pixels, 1)) FROM run_items GROUP BY 1, 2, 3 ORDER BY 1, 2, 3").await,
        of("SELECT run_id, state, is_task, items, pixels FROM run_counts WHERE items > 0 ORDER BY 1, 2, 3").await,
    ]
}

#[tokio::test]
async fn what_is_counted_beside_the_items_is_what_they_are() {
    let (folder, store) = open().await;
    let file = folder.path().join("rallo.sqlite");
    let items: Vec<NewRunItem> = (0..6)
        .map(|i| NewRunItem { pixels: i * 1000, task: (i == 5).then_some(0), ..item(&format!("{i}.jpg")) })
        .collect();
    let (one, two) =
        (store.add_run(&run(), &items).await.unwrap(), store.add_run(&run(), &items).await.unwrap());
    for state in [ItemState::Done, ItemState::Failed, ItemState::Skipped] {
        let claimed = claim(&store, "anna", 0, LEASE, "2026-05-04T10:00:00Z").await.unwrap();
        store.complete(&RunItem { state, ..claimed }, &[]).await.unwrap();
    }
    let claimed = claim(&store, "anna", 0, LEASE, "2026-05-04T10:00:00Z").await.unwrap();
    let counts = store.counts(one).await.unwrap();
    assert_eq!((counts.total, counts.tasks, counts.working), (6, 1, 1));
    assert_eq!((counts.done, counts.failed, counts.skipped), (1, 1, 1));
    // The first has no pixels that are known.
    assert_eq!((counts.pixels, counts.ended_pixels), (10_001, 3001));
    store.retry_failed(one, None).await.unwrap();
    store.give_back(&claimed).await.unwrap();
    store.cancel_run(two, "t").await.unwrap();
    let [items, kept] = counted(&file).await;
    assert_eq!(items, kept);
    // A database from before it was kept is counted once.
    let pool = sqlx::SqlitePool::connect(&format!("sqlite:{}", file.display())).await.unwrap();
    let back = "DROP TRIGGER run_counts_added; DROP TRIGGER run_counts_gone; DROP TRIGGER run_counts_moved;
        DROP TABLE run_counts; DELETE FROM _sqlx_migrations WHERE version = 10;";
    sqlx::raw_sql(back).execute(&pool).await.unwrap();
    let store = Store::open(&file).await.unwrap();
    let [items, kept] = counted(&file).await;
    assert_eq!(items, kept);
    // And a run that is taken away is counted no more.
    sqlx::raw_sql(
        "PRAGMA foreign_keys = ON; DELETE FROM run_items WHERE position < 3; DELETE FROM runs WHERE id = 1",
    )
    .execute(&pool)
    .await
    .unwrap();
    let [items, kept] = counted(&file).await;
    assert_eq!(items, kept);
    assert_eq!(store.counts(two).await.unwrap().total, 3);
}
