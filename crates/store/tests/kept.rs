//! What is kept beside frames and runs: who may come in, versions of recipes, proofs, settings, watched folders with what
//! arrived there; and what a run's items say when they are counted.

use rallo_job::prelude::*;
use rallo_job::{
    Arrival, Claim, FailureKind, ItemKey, ItemState, NewRunItem, ResultFile, Run, RunItem, RunState, Watch,
    WatchState, WrittenFile,
};
use rallo_store::Store;

const T: &str = "2026-05-04T09:00:00Z";

async fn open() -> (tempfile::TempDir, Store) {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(&folder.path().join("rallo.sqlite")).await.unwrap();
    (folder, store)
}

async fn claim(store: &Store, worker: &str, now: i64, lease: i64, clock: &str) -> Option<RunItem> {
    store
        .claim(&Claim { worker, until: now + lease, clock, only: None, near: None, apart: false })
        .await
        .unwrap()
}

fn run(document: &str) -> Run {
    Run { document: document.into(), base: "/p".into(), created: T.into(), ..Run::default() }
}

fn item(name: &str, pixels: i64) -> NewRunItem {
    NewRunItem {
        source: format!("/p/{name}"),
        target: format!("/p/web/{name}"),
        bytes: 100,
        pixels,
        decided: "{}".into(),
        ..NewRunItem::default()
    }
}

/// The task of a run that has its turn behind the pictures.
fn task(name: &str, task: i64) -> NewRunItem {
    NewRunItem { task: Some(task), ..item(name, 0) }
}

#[tokio::test]
async fn settings_are_written_over_and_stay_when_the_program_is_started_again() {
    let (folder, store) = open().await;
    assert_eq!(store.setting("limits").await.unwrap(), None);
    store.set_setting("limits", "1").await.unwrap();
    store.set_setting("limits", "2").await.unwrap();
    drop(store);
    let again = Store::open(&folder.path().join("rallo.sqlite")).await.unwrap();
    assert_eq!(again.setting("limits").await.unwrap().as_deref(), Some("2"));
    assert_eq!(again.folder(), folder.path());
}

#[tokio::test]
async fn a_token_is_known_by_its_hash_until_it_is_taken_away() {
    let (_folder, store) = open().await;
    let id = store.add_token("night script", "h1", T).await.unwrap();
    let other = store.add_token("night script", "h2", T).await.unwrap();
    assert!(!store.use_token("h3", T).await.unwrap());
    assert_eq!(store.tokens().await.unwrap()[0].used, None);
    // When it was used is kept to the minute: asking often writes little.
    for (when, kept) in [
        ("2026-05-04T10:00:01Z", "2026-05-04T10:00:01Z"),
        ("2026-05-04T10:00:59Z", "2026-05-04T10:00:01Z"),
        ("2026-05-04T10:01:00Z", "2026-05-04T10:01:00Z"),
    ] {
        assert!(store.use_token("h1", when).await.unwrap());
        assert_eq!(store.tokens().await.unwrap()[0].used.as_deref(), Some(kept));
    }
    assert!(store.remove_token(id).await.unwrap() && !store.remove_token(id).await.unwrap());
    assert!(!store.use_token("h1", T).await.unwrap() && store.use_token("h2", T).await.unwrap());
    assert_eq!(store.tokens().await.unwrap().iter().map(|t| t.id).collect::<Vec<_>>(), [other]);
}

#[tokio::test]
async fn sessions_end_by_themselves_by_hand_and_all_together() {
    let (_folder, store) = open().await;
    let (early, noon, late) = ("2026-05-04T08:00:00Z", "2026-05-04T12:00:00Z", "2026-05-04T18:00:00Z");
    store.add_session("a", noon, early).await.unwrap();
    store.add_session("b", late, early).await.unwrap();
    assert!(store.has_session("a", early).await.unwrap() && !store.has_session("c", early).await.unwrap());
    // At its end it is over, to the second.
    assert!(!store.has_session("a", noon).await.unwrap() && store.has_session("b", noon).await.unwrap());
    // Those that are over are forgotten when the next begins: an old clock does not open them again.
    store.add_session("c", late, noon).await.unwrap();
    assert!(!store.has_session("a", early).await.unwrap());
    store.end_session(Some("b")).await.unwrap();
    assert!(!store.has_session("b", noon).await.unwrap() && store.has_session("c", noon).await.unwrap());
    store.end_session(None).await.unwrap();
    assert!(!store.has_session("c", noon).await.unwrap());
}

#[tokio::test]
async fn every_version_of_a_recipe_can_be_read_until_the_recipe_is_removed() {
    let (_folder, store) = open().await;
    let one = store.save_recipe(None, 0, "Web", "{1}", "t1").await.unwrap().unwrap();
    for version in 1..4 {
        let document = format!("{{{}}}", version + 1);
        store.save_recipe(Some(one.id), version, "Web", &document, "t2").await.unwrap().unwrap();
    }
    let all: Vec<(i64, String)> =
        store.recipe_versions(one.id).await.unwrap().into_iter().map(|v| (v.version, v.document)).collect();
    assert_eq!(all, [(4, "{4}".into()), (3, "{3}".into()), (2, "{2}".into()), (1, "{1}".into())]);
    assert_eq!(store.recipe_version(one.id, 2).await.unwrap().document, "{2}");
    assert!(store.recipe_version(one.id, 5).await.is_err());
    // A proof is of the version that was looked at last.
    assert_eq!(store.proof(one.id).await.unwrap(), None);
    store.keep_proof(one.id, 3, T).await.unwrap();
    store.keep_proof(one.id, 4, T).await.unwrap();
    assert_eq!(store.proof(one.id).await.unwrap(), Some(4));
    // The last saved stands first.
    store
        .remove_recipe(store.save_recipe(None, 0, "Gone", "{}", "t8").await.unwrap().unwrap().id)
        .await
        .unwrap();
    let two = store.save_recipe(None, 0, "Print", "{}", "t9").await.unwrap().unwrap();
    let order: Vec<i64> = store.recipes().await.unwrap().iter().map(|r| r.id).collect();
    assert_eq!(order, [two.id, one.id]);
    // A run keeps the document it was started with.
    let with = Run { recipe_id: Some(one.id), recipe_version: 4, ..run("{4}") };
    let id = store.add_run(&with, &[item("a.jpg", 1)]).await.unwrap();
    store.remove_recipe(one.id).await.unwrap();
    assert!(store.recipe(one.id).await.is_err() && store.recipe_versions(one.id).await.unwrap().is_empty());
    assert_eq!(store.proof(one.id).await.unwrap(), None);
    // The next recipe may have its number, and nothing of what was said of it.
    assert_eq!(store.run(id).await.unwrap().recipe_id, None);
    let kept = store.run(id).await.unwrap();
    assert_eq!((kept.document.as_str(), kept.recipe_version), ("{4}", 4));
}

fn file(bytes: u64) -> ResultFile {
    ResultFile {
        path: "/p/web/x.jpg".into(),
        bytes,
        width: 3,
        height: 2,
        hash: "h".into(),
        made: true,
        variant: None,
        clip: None,
        made_by: None,
    }
}

async fn ended(store: &Store, run: i64, position: i64, state: ItemState, at: i64, bytes: Option<u64>) {
    let outputs = bytes.map_or_else(Vec::new, |b| vec![file(b), file(1)]);
    let one = store.item(ItemKey { run, position }).await.unwrap();
    let one = RunItem { state, ended: at, outputs, ..one };
    assert!(store.complete(&one, &[]).await.unwrap());
}

#[tokio::test]
async fn a_run_is_counted_by_pictures_by_pixels_and_by_bytes() {
    let (_folder, store) = open().await;
    let items = [item("a.jpg", 400), item("b.jpg", 200), item("c.jpg", 0), task("clip.mp4", 0)];
    let id = store.add_run(&run("{}"), &items).await.unwrap();
    let none = store.counts(id).await.unwrap();
    // A picture whose size is not known counts as one pixel; a task is no picture.
    assert_eq!((none.total, none.tasks, none.pixels, none.ended_pixels), (4, 1, 601, 0));
    ended(&store, id, 0, ItemState::Done, 20, Some(30)).await;
    ended(&store, id, 1, ItemState::Skipped, 10, Some(7)).await;
    ended(&store, id, 2, ItemState::Failed, 20, None).await;
    let some = store.counts(id).await.unwrap();
    assert_eq!((some.done, some.skipped, some.failed, some.working), (1, 1, 1, 0));
    // Nothing is left of the pictures, though the task still waits.
    assert_eq!((some.ended_pixels, some.pixels), (601, 601));
    assert_eq!(store.bytes(id).await.unwrap(), (200, 39));
    // In the order in which it was written down that they ended: who knows the first misses none that ended sooner or with it.
    let since = |since: i64, most: i64| {
        let store = store.clone();
        async move {
            let all = store.ended_since(id, since, most).await.unwrap();
            all.into_iter().map(|i| i.position).collect::<Vec<_>>()
        }
    };
    assert_eq!(
        (since(0, 9).await, since(20, 9).await, since(0, 2).await),
        (vec![0, 1, 2], vec![1, 2], vec![0, 1])
    );
    assert_eq!(store.failed(id, 9).await.unwrap().len(), 1);
    assert_eq!(store.waiting(id, 9).await.unwrap()[0].target, "/p/web/clip.mp4");
    assert!(store.has_waiting(id).await.unwrap());
    assert_eq!(store.first_target(id).await.unwrap().as_deref(), Some("/p/web/a.jpg"));
    store.add_seconds(id, 1.5).await.unwrap();
    store.add_seconds(id, 2.0).await.unwrap();
    assert_eq!(store.run(id).await.unwrap().seconds, 3.5);
}

#[tokio::test]
async fn what_is_made_of_all_pictures_has_its_turn_when_they_are_over_and_again_when_one_is_made_again() {
    let (_folder, store) = open().await;
    let items = [item("a.jpg", 1), item("b.jpg", 1), task("clip.mp4", 0), task("pack.zip", 1)];
    let id = store.add_run(&run("{}"), &items).await.unwrap();
    let take = || {
        let store = store.clone();
        async move { claim(&store, "anna", 0, 1000, T).await }
    };
    let (a, b) = (take().await.unwrap(), take().await.unwrap());
    assert_eq!((a.position, b.position), (0, 1));
    assert_eq!(store.claimable(T, 9).await.unwrap(), 0, "the clip waits for both");
    assert!(take().await.is_none());
    assert_eq!(store.working(id).await.unwrap(), ["/p/a.jpg", "/p/b.jpg"]);
    assert_eq!(store.in_work().await.unwrap().len(), 4);
    // Put back, a picture is given out again, and the clip goes on waiting.
    store.give_back(&b).await.unwrap();
    let b = take().await.unwrap();
    assert_eq!((b.position, b.tries), (1, 2));
    ended(&store, id, 0, ItemState::Done, 1, None).await;
    assert!(!store.has_waiting(0).await.unwrap());
    let lost = RunItem { worker: Some("bert".into()), ..b.clone() };
    assert!(!store.complete(&lost, &[]).await.unwrap(), "another one's loan");
    let failed = RunItem { state: ItemState::Failed, kind: Some(FailureKind::Gone), ..b };
    assert!(store.complete(&failed, &[]).await.unwrap());
    let clip = take().await.unwrap();
    assert_eq!((clip.position, clip.task), (2, Some(0)));
    assert!(take().await.is_none(), "the ZIP holds the clip too");
    let clip = RunItem { state: ItemState::Done, ..clip };
    assert!(store.complete(&clip, &[]).await.unwrap());
    let zip = RunItem { state: ItemState::Done, ..take().await.unwrap() };
    assert!(store.complete(&zip, &[]).await.unwrap());
    assert!(store.end_run(id, "t2").await.unwrap());
    // Tried again: both are made of the picture that was missing.
    store.retry_failed(id, Some(1)).await.unwrap();
    let states: Vec<ItemState> = store.items(id).await.unwrap().into_iter().map(|i| i.state).collect();
    assert_eq!(states, [ItemState::Done, ItemState::Waiting, ItemState::Waiting, ItemState::Waiting]);
    store.set_answers(ItemKey { run: id, position: 1 }, r#"[[0, "stops", 1]]"#).await.unwrap();
    store.set_answers(ItemKey { run: id, position: 0 }, r#"[[0, "stops", 2]]"#).await.unwrap();
    assert_eq!(
        store.item(ItemKey { run: id, position: 1 }).await.unwrap().answers,
        [(0, "stops".to_owned(), 1.into())]
    );
    assert!(
        store.item(ItemKey { run: id, position: 0 }).await.unwrap().answers.is_empty(),
        "what is over stays"
    );
}

#[tokio::test]
async fn what_was_written_belongs_to_the_run_that_wrote_it_last() {
    let (_folder, store) = open().await;
    let one = store.add_run(&run("{}"), &[item("a.jpg", 1)]).await.unwrap();
    let two = store.add_run(&run("{}"), &[item("a.jpg", 1)]).await.unwrap();
    let written = |path: &str, hash: &str| WrittenFile {
        path: path.into(),
        hash: hash.into(),
        ..WrittenFile::default()
    };
    for (path, hash, run) in
        [("/p/web/b.jpg", "1", one), ("/p/web/a.jpg", "2", one), ("/p/web/b.jpg", "3", two)]
    {
        store.keep_result(&written(path, hash), run).await.unwrap();
    }
    assert_eq!(store.results_of(one).await.unwrap(), [("/p/web/a.jpg".to_owned(), "2".to_owned())]);
    assert_eq!(store.results_of(two).await.unwrap(), [("/p/web/b.jpg".to_owned(), "3".to_owned())]);
}

#[tokio::test]
async fn the_same_command_finds_the_run_that_is_not_over() {
    let (_folder, store) = open().await;
    let like = Run { origin: "command line".into(), ..run("{1}") };
    let items = [item("a.jpg", 1), item("b.jpg", 1)];
    let id = store.add_run(&like, &items).await.unwrap();
    assert_eq!(store.open_like(&like, &items).await.unwrap(), Some(id));
    // Another recipe, other pictures, another one who asked: another run.
    for (other, pictures) in [
        (Run { document: "{2}".into(), ..like.clone() }, &items[..]),
        (Run { origin: "page".into(), ..like.clone() }, &items[..]),
        (Run { base: "/q".into(), ..like.clone() }, &items[..]),
        (like.clone(), &items[..1]),
    ] {
        assert_eq!(store.open_like(&other, pictures).await.unwrap(), None);
    }
    store.cancel_run(id, T).await.unwrap();
    assert_eq!(store.open_like(&like, &items).await.unwrap(), None);
}

#[tokio::test]
async fn what_follows_a_run_is_begun_once() {
    let (_folder, store) = open().await;
    let plain = store.add_run(&run("{}"), &[]).await.unwrap();
    let with =
        Run { hook: Some("https://studio.test/done".into()), brought: Some("/tmp/b".into()), ..run("{}") };
    let hooked = store.add_run(&with, &[]).await.unwrap();
    assert!(!store.call_run(hooked).await.unwrap(), "it is not over");
    for id in [plain, hooked] {
        assert!(store.end_run(id, "2026-05-04T10:00:00Z").await.unwrap());
    }
    assert_eq!(store.uncalled(false).await.unwrap(), [hooked]);
    assert_eq!(store.uncalled(true).await.unwrap(), [plain, hooked]);
    assert!(store.call_run(hooked).await.unwrap() && !store.call_run(hooked).await.unwrap());
    assert!(store.uncalled(false).await.unwrap().is_empty());
    // Pictures that were brought for a run go some time after its end.
    assert!(store.is_brought("/tmp/b").await.unwrap() && !store.is_brought("/tmp/c").await.unwrap());
    assert!(store.brought_before("2026-05-04T09:59:59Z").await.unwrap().is_empty());
    let gone = store.brought_before("2026-05-05T00:00:00Z").await.unwrap();
    assert_eq!(gone, [(hooked, "/tmp/b".to_owned())]);
}

fn arrival(name: &str, position: i64) -> Arrival {
    Arrival {
        path: format!("/in/{name}"),
        bytes: 5,
        modified: 7,
        device: 1,
        inode: position + 10,
        position,
        run_id: 0,
    }
}

#[tokio::test]
async fn a_watched_folder_is_changed_paused_and_removed() {
    let (_folder, store) = open().await;
    let mut one = Watch {
        name: "Beds".into(),
        document: "{}".into(),
        folder: "/in".into(),
        made: T.into(),
        ..Watch::default()
    };
    one.id = store.save_watch(&one).await.unwrap();
    assert_eq!(store.watch(one.id).await.unwrap().state, WatchState::On);
    store.tell_watch(one.id, Some("the folder is gone"), None).await.unwrap();
    assert!(store.set_watch_state(one.id, WatchState::Paused).await.unwrap());
    let told = store.watch(one.id).await.unwrap();
    assert_eq!(
        (told.problem.as_deref(), told.state, told.turn),
        (Some("the folder is gone"), WatchState::Paused, None)
    );
    // A change forgets what was wrong before, not that it pauses.
    let changed = Watch { folder: "/in2".into(), daily: Some("22:00".into()), deep: true, ..one.clone() };
    assert_eq!(store.save_watch(&changed).await.unwrap(), one.id);
    let now = store.watch(one.id).await.unwrap();
    assert_eq!((now.folder.as_str(), now.daily.as_deref(), now.deep), ("/in2", Some("22:00"), true));
    assert_eq!((now.problem, now.state), (None, WatchState::Paused));
    store.tell_watch(one.id, None, Some("2026-05-04")).await.unwrap();
    store.tell_watch(one.id, None, None).await.unwrap();
    assert_eq!(store.watch(one.id).await.unwrap().turn.as_deref(), Some("2026-05-04"));
    let two = store.save_watch(&Watch { name: "Pots".into(), ..one.clone() }).await;
    assert_eq!(two.unwrap(), one.id, "it has that identity");
    assert_eq!(store.watches().await.unwrap().len(), 1);
    assert!(store.remove_watch(one.id).await.unwrap() && !store.remove_watch(one.id).await.unwrap());
    assert!(!store.set_watch_state(one.id, WatchState::On).await.unwrap());
}

#[tokio::test]
async fn what_arrives_is_taken_in_once_and_followed_under_its_next_name() {
    let (_folder, store) = open().await;
    let watch = Watch {
        name: "Beds".into(),
        document: "{}".into(),
        folder: "/in".into(),
        made: T.into(),
        ..Watch::default()
    };
    let watch = store.save_watch(&watch).await.unwrap();
    let fresh = Run { watch_id: Some(watch), origin: "folder Beds".into(), ..run("{}") };
    assert_eq!(store.take_in(watch, &fresh, &[], &[]).await.unwrap(), None);
    let (id, new) = store
        .take_in(
            watch,
            &fresh,
            &[item("a.jpg", 1), item("b.jpg", 1)],
            &[arrival("a.jpg", 0), arrival("b.jpg", 1)],
        )
        .await
        .unwrap()
        .unwrap();
    assert!(new);
    // Another program that saw the same came too late.
    let late = store.take_in(watch, &fresh, &[item("a.jpg", 1)], &[arrival("a.jpg", 0)]).await.unwrap();
    assert_eq!(late, None);
    // What comes while the run is open joins it; with another recipe it is a run of its own.
    let more = store.take_in(watch, &fresh, &[item("c.jpg", 1)], &[arrival("c.jpg", 2)]).await.unwrap();
    assert_eq!(more, Some((id, false)));
    let other = Run { document: "{2}".into(), ..fresh };
    let (second, new) =
        store.take_in(watch, &other, &[item("d.jpg", 1)], &[arrival("d.jpg", 3)]).await.unwrap().unwrap();
    assert!(new && second != id);
    assert_eq!(store.items(second).await.unwrap()[0].position, 3);
    let known = store.arrivals(watch).await.unwrap();
    assert_eq!(
        known.iter().map(|a| (a.run_id, a.position)).collect::<Vec<_>>(),
        [(id, 0), (id, 1), (id, 2), (second, 3)]
    );
    // Renamed while it waits: worked on under the new name.
    let to = ["/p/web/z-2.jpg".to_owned()];
    assert!(store.rename_arrival(watch, &known[1], "/in/z.jpg", "/p/web/z.jpg", &to).await.unwrap());
    let moved = store.item(ItemKey { run: id, position: 1 }).await.unwrap();
    assert_eq!(
        (moved.source.as_str(), moved.targets()),
        ("/in/z.jpg", vec!["/p/web/z.jpg".into(), to[0].clone()])
    );
    assert!(store.arrivals(watch).await.unwrap().iter().any(|a| a.path == "/in/z.jpg"));
    // In work, or done: it is only known by its new name.
    claim(&store, "anna", 0, 1000, T).await.unwrap();
    assert!(!store.rename_arrival(watch, &known[0], "/in/y.jpg", "/p/web/y.jpg", &[]).await.unwrap());
    assert_eq!(store.item(ItemKey { run: id, position: 0 }).await.unwrap().source, "/p/a.jpg");
    // Failed because the old name was gone, in a run that is over: it is taken up again.
    for position in 0..3 {
        let kind = (position == 2).then_some(FailureKind::Gone);
        let state = if position == 2 { ItemState::Failed } else { ItemState::Done };
        let one = store.item(ItemKey { run: id, position }).await.unwrap();
        store.complete(&RunItem { state, kind, ..one }, &[]).await.unwrap();
    }
    assert!(store.end_run(id, T).await.unwrap());
    assert!(store.rename_arrival(watch, &known[2], "/in/x.jpg", "/p/web/x.jpg", &[]).await.unwrap());
    assert_eq!(store.run(id).await.unwrap().state, RunState::Waiting);
    assert_eq!(store.item(ItemKey { run: id, position: 2 }).await.unwrap().state, ItemState::Waiting);
}

#[tokio::test]
async fn what_is_stored_and_cannot_be_read_is_named_and_never_a_default() {
    let (folder, store) = open().await;
    let id = store.add_run(&run("{}"), &[item("a.jpg", 1)]).await.unwrap();
    let change = async |sql: &str| {
        let path = folder.path().join("rallo.sqlite");
        let done = std::process::Command::new("python3")
            .args([
                "-c",
                "import sqlite3, sys; c = sqlite3.connect(sys.argv[1]); c.execute(sys.argv[2]); c.commit()",
            ])
            .args([path.as_os_str(), std::ffi::OsStr::new(sql)])
            .status();
        assert!(done.unwrap().success());
    };
    change("UPDATE run_items SET more = 'nonsense'").await;
    let told = store.items(id).await.unwrap_err().to_string();
    assert!(told.contains("more of item 1 of run 1") && told.contains("nonsense"), "{told}");
    change("UPDATE run_items SET more = '[]', kind = 'bored'").await;
    let told = store.items(id).await.unwrap_err().to_string();
    assert!(told.contains("bored") && told.contains("unreadable"), "it says which words there are: {told}");
    change("UPDATE run_items SET kind = NULL").await;
    assert_eq!(store.items(id).await.unwrap().len(), 1);
    // An item that cannot be read is not given out for ever: it fails with the reason, and the next has its turn.
    let two = store.add_run(&run("{}"), &[item("b.jpg", 1)]).await.unwrap();
    change("UPDATE run_items SET answers = 'x' WHERE run_id = 1").await;
    assert_eq!(claim(&store, "anna", 0, 1000, T).await.unwrap().run_id, two);
    change("UPDATE run_items SET answers = '[]' WHERE run_id = 1").await;
    let one = store.item(ItemKey { run: id, position: 0 }).await.unwrap();
    assert_eq!((one.state, one.kind, one.worker), (ItemState::Failed, Some(FailureKind::Stored), None));
    assert!(one.reason.as_deref().unwrap().contains("answers of item 1 of run 1"), "{:?}", one.reason);
    // A run that cannot be read stops no other one.
    change("UPDATE runs SET warnings = 'x' WHERE id = 1").await;
    assert_eq!(store.open_runs().await.unwrap().iter().map(|r| r.id).collect::<Vec<_>>(), [two]);
    assert!(store.run(id).await.unwrap_err().to_string().contains("warnings of run 1"));
}
