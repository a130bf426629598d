//! The database by itself.

use rallo_store::{Frame, Run, Store};

async fn open() -> (tempfile::TempDir, Store) {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(&folder.path().join("rallo.sqlite")).await.unwrap();
    (folder, store)
}

fn run() -> Run {
    Run {
        id: 0,
        recipe_id: None,
        recipe_version: 1,
        document: "{}".into(),
        shoot_id: None,
        shoot_name: "Spring".into(),
        base: "/p".into(),
        state: String::new(),
        created: "2026-05-04T09:00:00Z".into(),
        started: None,
        finished: None,
        seconds: 0.0,
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

#[tokio::test]
async fn frames_keep_their_identity_over_a_second_scan() {
    let (_folder, store) = open().await;
    let shoot = store.shoot_of("/p", "Spring", false).await.unwrap();
    assert_eq!(store.shoot_of("/p", "Other", true).await.unwrap().id, shoot.id);
    let mut frame = Frame {
        id: 0,
        shoot_id: shoot.id,
        path: "/p/a.jpg".into(),
        name: "a.jpg".into(),
        bytes: 10,
        modified: 1,
        facts: None,
        problem: None,
    };
    let id = store.put_frame(&frame).await.unwrap();
    frame.bytes = 11;
    assert_eq!(store.put_frame(&frame).await.unwrap(), id);
    assert_eq!(store.frames(shoot.id).await.unwrap()[0].bytes, 11);
    store.forget_frames(&[id]).await.unwrap();
    assert!(store.frames(shoot.id).await.unwrap().is_empty());
}

#[tokio::test]
async fn runs_wait_in_line_and_ended_ones_stay_ended() {
    let (folder, store) = open().await;
    let items =
        vec![("/p/a.jpg".into(), "/p/web/a.jpg".into(), 5), ("/p/b.jpg".into(), "/p/web/b.jpg".into(), 6)];
    let one = store.add_run(&run(), &items).await.unwrap();
    let two = store.add_run(&run(), &items).await.unwrap();
    assert_eq!(store.next_run().await.unwrap().unwrap().id, one);
    assert!(store.set_run_state(one, "running", "t1").await.unwrap());
    let mut item = store.item(one, 1).await.unwrap();
    item.state = "failed".into();
    item.reason = Some("the file is empty".into());
    store.finish_item(&item).await.unwrap();
    let counts = store.counts(one).await.unwrap();
    assert_eq!((counts.total, counts.done, counts.failed), (2, 0, 1));
    // A program that was killed finds the running one first.
    let again = Store::open(&folder.path().join("rallo.sqlite")).await.unwrap();
    assert_eq!(again.next_run().await.unwrap().unwrap().id, one);
    assert!(store.set_run_state(one, "cancelled", "t2").await.unwrap());
    assert!(!store.set_run_state(one, "done", "t3").await.unwrap());
    assert_eq!(store.run(one).await.unwrap().state, "cancelled");
    assert_eq!(store.next_run().await.unwrap().unwrap().id, two);
    store.retry_failed(one).await.unwrap();
    assert_eq!(store.item(one, 1).await.unwrap().state, "waiting");
}
