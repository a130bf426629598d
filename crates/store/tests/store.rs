//! The database by itself.

use rallo_store::{Decided, Frame, NewItem, Place, Run, Store};

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

fn place(path: &str, deep: bool) -> Place {
    Place { path: path.into(), deep }
}

fn frame(shoot: i64, path: &str) -> Frame {
    Frame {
        shoot_id: shoot,
        path: path.into(),
        name: "a.jpg".into(),
        bytes: 10,
        modified: 1,
        ..Frame::default()
    }
}

#[tokio::test]
async fn frames_keep_their_identity_and_choices_over_a_second_scan() {
    let (_folder, store) = open().await;
    let shoot = store.shoot_of("Spring", "/p", &[place("/p", false)]).await.unwrap();
    assert_eq!(store.shoot_of("Other", "/p", &[place("/p", true)]).await.unwrap().id, shoot.id);
    assert_eq!(store.places(shoot.id).await.unwrap(), [place("/p", true)]);
    let two = store.shoot_of("Two", "/", &[place("/q", true), place("/p", true)]).await.unwrap();
    assert_ne!(two.id, shoot.id);
    let mut one = frame(shoot.id, "/p/a.jpg");
    let id = store.put_frames(&[one.clone()]).await.unwrap()[0].id;
    let decided = Decided {
        id,
        choice: 1,
        rating: 4,
        keywords: "[\"mint\"]".into(),
        shift: -500,
        hand: Some(2.0),
        own: "{}".into(),
    };
    store.decide(&[decided]).await.unwrap();
    store.measured(&[(id, Some("{}".into()), None)]).await.unwrap();
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
    let migrations = sqlx::migrate!();
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
    assert_eq!(store.places(7).await.unwrap(), [place("/p", true)]);
    let frames = store.frames(7).await.unwrap();
    assert_eq!((frames[0].id, frames[0].bytes, frames[0].choice), (3, 5, 0));
}

fn item(name: &str) -> NewItem {
    NewItem { source: format!("/p/{name}"), target: format!("/p/web/{name}"), bytes: 5, decided: "{}".into() }
}

#[tokio::test]
async fn what_a_recipe_has_made_is_known_by_source() {
    let (_folder, store) = open().await;
    let recipe = store.save_recipe(None, 0, "Web", "{1}", "t1").await.unwrap().unwrap();
    let with = Run { recipe_id: Some(recipe.id), ..run() };
    let id = store
        .add_run(&with, &[item("a.jpg"), NewItem { decided: r#"{"shift":70}"#.into(), ..item("b.jpg") }])
        .await
        .unwrap();
    assert!(store.sources_done(recipe.id).await.unwrap().is_empty());
    let mut one = store.item(id, 1).await.unwrap();
    assert_eq!(one.decided, r#"{"shift":70}"#);
    one.state = "done".into();
    store.finish_item(&one).await.unwrap();
    assert_eq!(store.sources_done(recipe.id).await.unwrap(), ["/p/b.jpg"]);
}

#[tokio::test]
async fn runs_wait_in_line_and_ended_ones_stay_ended() {
    let (folder, store) = open().await;
    let items = [item("a.jpg"), item("b.jpg")];
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
