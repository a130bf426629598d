//! Frames: scattered folders are scanned, decided about, gathered; nothing is lost and no original is touched.

use rallo_engine::{Encoded, Pixels, Size};
use rallo_job::ShootFolder;
use rallo_job::prelude::*;
use rallo_media::{CameraData, Chroma, Encoding, Extras};
use rallo_runner::library::shoot_index::{Change, Frames, Set};
use rallo_runner::library::verified_copy;
use rallo_shoot::{Choice, Frame, Order, Sort, sequence};
use rallo_store::Store;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

/// A small picture taken at `taken`, told apart by `seed`.
fn jpeg(taken: &str, seed: u32) -> Vec<u8> {
    let pixels =
        (0..64 * 48).flat_map(|i: u32| [((i * seed) % 251) as u8, (i % 64 * 4) as u8, seed as u8]).collect();
    let camera =
        CameraData { taken: taken.parse().ok(), iso: Some(100 * seed), orientation: 1, ..Default::default() };
    let extras = Extras { exif: camera.write().ok(), ..Extras::default() };
    let encoding =
        Encoding::Jpeg { quality: 80, chroma: Chroma::Quarter, progressive: false, optimised: false };
    rallo_media::encode(&Encoded { size: Size::new(64, 48), pixels: Pixels::U8(pixels) }, encoding, &extras)
        .unwrap()
}

/// Every file below a folder with its bytes and time.
fn state(folder: &Path) -> BTreeMap<PathBuf, (Vec<u8>, std::time::SystemTime)> {
    let mut all = BTreeMap::new();
    for entry in std::fs::read_dir(folder).unwrap().flatten() {
        let path = entry.path();
        if path.is_dir() {
            all.extend(state(&path));
        } else {
            all.insert(
                path.clone(),
                (std::fs::read(&path).unwrap(), entry.metadata().unwrap().modified().unwrap()),
            );
        }
    }
    all
}

struct Desk {
    folder: tempfile::TempDir,
    frames: Frames,
    set: Set,
    shoot: i64,
}

impl Desk {
    /// Two cards: clashing names, one picture on both, a file that is none, another that is no picture at all.
    async fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let put = |name: &str, bytes: &[u8]| {
            let path = folder.path().join("cards").join(name);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, bytes).unwrap();
        };
        put("one/IMG_1.jpg", &jpeg("2026-05-04T09:00:20", 1));
        put("one/IMG_2.jpg", &jpeg("2026-05-04T09:00:10.70", 2));
        put("one/IMG_10.jpg", &jpeg("2026-05-04T09:00:10.20", 3));
        put("two/IMG_1.jpg", &jpeg("2026-05-04T08:00:00", 4));
        put("two/copy.jpg", &jpeg("2026-05-04T09:00:20", 1));
        put("two/broken.jpg", b"no picture");
        put("two/notes.txt", b"no picture either");
        let store = Store::open(&folder.path().join("rallo.sqlite")).await.unwrap();
        let base = folder.path().join("cards");
        let places: Vec<ShootFolder> = ["one", "two"]
            .iter()
            .map(|n| ShootFolder { path: base.join(n).to_string_lossy().into_owned(), deep: false })
            .collect();
        let shoot = store.shoot_of("Cards", &base.to_string_lossy(), &places).await.unwrap().id;
        let frames = Frames::idle(std::sync::Arc::new(store));
        frames.scan(shoot).await.unwrap();
        Self { folder, frames, set: Set::Shoot(shoot), shoot }
    }

    fn cards(&self) -> PathBuf {
        self.folder.path().join("cards")
    }

    async fn all(&self) -> Vec<Frame> {
        self.frames.all(self.set).await.unwrap().to_vec()
    }

    async fn names(&self, by: Sort) -> Vec<String> {
        let all = self.all().await;
        let short = |f: &Frame| f.path.strip_prefix(self.cards()).unwrap().display().to_string();
        Order { by, descending: false }.of(&all).into_iter().map(|i| short(&all[i])).collect()
    }

    async fn id(&self, name: &str) -> i64 {
        self.all().await.iter().find(|f| f.path.ends_with(name)).unwrap().id
    }
}

#[tokio::test]
async fn scattered_frames_are_found_sorted_and_nothing_is_dropped_silently() {
    let desk = Desk::new().await;
    assert_eq!(
        desk.names(Sort::Name).await,
        [
            "one/IMG_1.jpg",
            "one/IMG_2.jpg",
            "one/IMG_10.jpg",
            "two/broken.jpg",
            "two/copy.jpg",
            "two/IMG_1.jpg"
        ]
    );
    assert_eq!(
        desk.names(Sort::Time).await,
        [
            "two/IMG_1.jpg",
            "one/IMG_10.jpg",
            "one/IMG_2.jpg",
            "one/IMG_1.jpg",
            "two/copy.jpg",
            "two/broken.jpg"
        ]
    );
    let broken = desk.all().await.into_iter().find(|f| f.name == "broken.jpg").unwrap();
    assert!(broken.problem.unwrap().contains("it holds text"));
    let left = desk.frames.left_out(desk.shoot);
    assert_eq!(left.len(), 1);
    assert!(left[0].path.ends_with("notes.txt") && left[0].reason.contains(".txt"));
}

#[tokio::test]
async fn scanning_again_finds_what_is_new_changed_and_gone_and_keeps_choices() {
    let desk = Desk::new().await;
    let (first, second) = (desk.id("one/IMG_1.jpg").await, desk.id("one/IMG_2.jpg").await);
    desk.frames.change(desk.set, &[first, second], &Change::Choice { to: Choice::Kept }).await.unwrap();
    let file = |n: &str| desk.cards().join(n);
    let kept = std::fs::read(file("one/IMG_2.jpg")).unwrap();
    std::fs::remove_file(file("one/IMG_2.jpg")).unwrap();
    std::fs::write(file("one/IMG_1.jpg"), jpeg("2026-05-05T10:00:00", 9)).unwrap();
    std::fs::write(file("two/new.jpg"), jpeg("2026-05-06T10:00:00", 5)).unwrap();
    desk.frames.scan(desk.shoot).await.unwrap();
    let all = desk.all().await;
    assert_eq!(all.len(), 6);
    assert!(!all.iter().any(|f| f.id == second));
    let changed = all.iter().find(|f| f.id == first).unwrap();
    assert_eq!((changed.taken().unwrap().day(), changed.marks.choice), (5, Choice::Kept));
    // It comes back with what was decided about it.
    std::fs::write(file("one/IMG_2.jpg"), kept).unwrap();
    desk.frames.scan(desk.shoot).await.unwrap();
    let all = desk.all().await;
    assert_eq!(all.iter().find(|f| f.id == second).unwrap().marks.choice, Choice::Kept);
    assert_eq!(all.len(), 7);
}

#[tokio::test]
async fn decisions_are_kept_and_taken_back_one_by_one() {
    let desk = Desk::new().await;
    let ids: Vec<i64> = desk.all().await.iter().map(|f| f.id).collect();
    let change = |c: Change| {
        let (frames, set, ids) = (desk.frames.clone(), desk.set, ids[..2].to_vec());
        async move { frames.change(set, &ids, &c).await }
    };
    change(Change::Choice { to: Choice::SetAside }).await.unwrap();
    change(Change::Rating { to: 4 }).await.unwrap();
    change(Change::Keywords { add: vec!["mint".into(), " mint ".into(), "pots".into()], remove: vec![] })
        .await
        .unwrap();
    change(Change::Keywords { add: vec![], remove: vec!["pots".into()] }).await.unwrap();
    assert_eq!(change(Change::Rating { to: 4 }).await.unwrap(), Vec::<i64>::new());
    assert!(change(Change::Rating { to: 6 }).await.unwrap_err().to_string().contains("0 to 5"));
    assert!(change(Change::Keywords { add: vec!["x".repeat(101)], remove: vec![] }).await.is_err());
    let marks = |all: &[Frame]| all.iter().find(|f| f.id == ids[0]).unwrap().marks.clone();
    let now = marks(&desk.all().await);
    assert_eq!((now.choice, now.rating, now.keywords), (Choice::SetAside, 4, vec!["mint".to_owned()]));
    for _ in 0..3 {
        assert_eq!(desk.frames.undo().await.unwrap().len(), 2);
    }
    let now = marks(&desk.all().await);
    assert_eq!((now.choice, now.rating, now.keywords.len()), (Choice::SetAside, 0, 0));
    desk.frames.redo().await.unwrap();
    assert_eq!(marks(&desk.all().await).rating, 4);
    // What the store holds is the same.
    let again = Frames::idle(std::sync::Arc::new(
        Store::open(&desk.folder.path().join("rallo.sqlite")).await.unwrap(),
    ));
    assert_eq!(marks(&again.all(desk.set).await.unwrap()).rating, 4);
}

#[tokio::test]
async fn frames_are_put_in_order_by_hand_and_shifted_in_time() {
    let desk = Desk::new().await;
    let (one, ten) = (desk.id("two/IMG_1.jpg").await, desk.id("one/IMG_10.jpg").await);
    let first = desk.id("one/IMG_1.jpg").await;
    desk.frames.change(desk.set, &[one, ten], &Change::Place { before: Some(first) }).await.unwrap();
    assert_eq!(desk.names(Sort::Hand).await[..3], ["two/IMG_1.jpg", "one/IMG_10.jpg", "one/IMG_1.jpg"]);
    desk.frames.change(desk.set, &[one], &Change::Place { before: None }).await.unwrap();
    assert_eq!(desk.names(Sort::Hand).await.last().unwrap(), "two/IMG_1.jpg");
    desk.frames.change(desk.set, &[one], &Change::Shift { millis: 2 * 3_600_000 }).await.unwrap();
    assert_eq!(desk.names(Sort::Time).await[4], "two/IMG_1.jpg");
    assert!(desk.frames.change(desk.set, &[one], &Change::Shift { millis: i64::MAX }).await.is_err());
}

#[tokio::test]
async fn measuring_fills_in_and_names_what_cannot_be_decoded() {
    let desk = Desk::new().await;
    // Cut in the middle: the head is fine, the pixels are not.
    let whole = jpeg("2026-05-04T11:00:00", 6);
    std::fs::write(desk.cards().join("one/cut.jpg"), &whole[..whole.len() * 2 / 3]).unwrap();
    desk.frames.scan(desk.shoot).await.unwrap();
    while desk.frames.measure_some().await.unwrap() {}
    let all = desk.all().await;
    let of = |name: &str| all.iter().find(|f| f.path.ends_with(name)).unwrap();
    assert!(of("cut.jpg").problem.as_ref().unwrap().contains("ends in the middle"));
    assert!(of("one/IMG_1.jpg").measures.is_some());
    let known = desk.frames.known(desk.set, None).await.unwrap();
    assert_eq!(known.problems[&of("two/copy.jpg").id], ["same picture twice"]);
    assert!(!known.problems.contains_key(&of("one/IMG_1.jpg").id));
}

#[tokio::test]
async fn copies_are_gathered_verified_in_order_of_capture_and_originals_stay() {
    let desk = Desk::new().await;
    let before = state(&desk.cards());
    let all = desk.all().await;
    let readable: Vec<&Frame> = all.iter().filter(|f| f.problem.is_none()).collect();
    let target = desk.folder.path().join("gathered");
    let go = AtomicBool::new(false);
    let plan = |template: &str| verified_copy::plan(&readable, &target, template, &go, &|_, _| {}).unwrap();
    let planned = plan(rallo_shoot::gather::TEMPLATE);
    assert_eq!((planned.copied, planned.twice, planned.there), (4, 1, 0));
    assert!(!target.exists(), "a plan writes nothing");
    // Stopped after two, then gone on with.
    let stop = AtomicBool::new(false);
    let count = AtomicUsize::new(0);
    let two = |_, _| {
        if count.fetch_add(1, Ordering::Relaxed) == 1 {
            stop.store(true, Ordering::Relaxed);
        }
    };
    let part = verified_copy::carry_out(&planned, &target, &stop, &two);
    assert!(part.stopped && part.copied == 2);
    let rest = plan(rallo_shoot::gather::TEMPLATE);
    assert_eq!((rest.copied, rest.there, rest.twice), (2, 2, 1));
    let done = verified_copy::carry_out(&rest, &target, &go, &|_, _| {});
    assert_eq!((done.copied, done.trouble.len()), (2, 0));
    let names: Vec<String> =
        state(&target).keys().map(|p| p.file_name().unwrap().to_string_lossy().into_owned()).collect();
    assert_eq!(
        names,
        [
            "20260504-080000_IMG_1.jpg",
            "20260504-090010-1_IMG_10.jpg",
            "20260504-090010-2_IMG_2.jpg",
            "20260504-090020_IMG_1.jpg"
        ]
    );
    let copy = std::fs::read(target.join("20260504-090010-1_IMG_10.jpg")).unwrap();
    assert_eq!(copy, std::fs::read(desk.cards().join("one/IMG_10.jpg")).unwrap());
    // Another file of a wanted name is not overwritten.
    std::fs::write(target.join("IMG_1.jpg"), b"mine").unwrap();
    verified_copy::carry_out(&plan("{stem}"), &target, &go, &|_, _| {});
    assert_eq!(std::fs::read(target.join("IMG_1.jpg")).unwrap(), b"mine");
    assert_eq!(state(&desk.cards()), before, "an original was touched");
    // A file that changed after it was looked at is not copied as something else.
    std::fs::write(desk.cards().join("one/IMG_2.jpg"), jpeg("2026-05-04T09:00:10.70", 7)).unwrap();
    let fresh = desk.folder.path().join("fresh");
    let told = verified_copy::carry_out(&planned, &fresh, &go, &|_, _| {});
    assert_eq!((told.copied, told.trouble.len()), (3, 1));
    assert!(told.trouble[0].reason.contains("has changed"));
}

#[tokio::test]
async fn a_wrong_clock_is_found_by_the_check_and_put_right_by_a_shift() {
    let desk = Desk::new().await;
    for i in 0..30u32 {
        let minute = if i < 20 { i } else { i + 30 };
        let hour = if i < 20 { 9 } else { 8 };
        std::fs::write(
            desk.cards().join(format!("one/SEQ_{i:03}.jpg")),
            jpeg(&format!("2026-06-01T{hour:02}:{:02}:00", minute % 60), i + 20),
        )
        .unwrap();
    }
    desk.frames.scan(desk.shoot).await.unwrap();
    let row =
        |all: &[Frame]| -> Vec<Frame> { all.iter().filter(|f| f.name.starts_with("SEQ")).cloned().collect() };
    let said = |all: &[Frame]| -> Vec<String> {
        sequence::check(&row(all)).statements.into_iter().filter(|s| s.odd).map(|s| s.text).collect()
    };
    let all = desk.all().await;
    assert!(said(&all).iter().any(|t| t.starts_with("The clock jumps back at 1 frame")), "{:?}", said(&all));
    let late: Vec<i64> = row(&all).iter().filter(|f| f.name.as_str() >= "SEQ_020").map(|f| f.id).collect();
    desk.frames.change(desk.set, &late, &Change::Shift { millis: 30 * 60_000 }).await.unwrap();
    let all = desk.all().await;
    assert!(!said(&all).iter().any(|t| t.contains("clock") || t.contains("gap")), "{:?}", said(&all));
}

#[tokio::test]
async fn a_followed_folder_shows_new_files_by_itself() {
    let desk = Desk::new().await;
    let store = Store::open(&desk.folder.path().join("rallo.sqlite")).await.unwrap();
    let mut shoot = store.shoot(desk.shoot).await.unwrap();
    shoot.follow = true;
    store.set_shoot(&shoot).await.unwrap();
    let frames = Frames::start(std::sync::Arc::new(store));
    let mut news = frames.news();
    std::fs::write(desk.cards().join("two/late.jpg"), jpeg("2026-05-04T12:00:00", 8)).unwrap();
    let found = async {
        while !frames
            .all(desk.set)
            .await
            .unwrap()
            .iter()
            .any(|f| f.name == "late.jpg" && f.measures.is_some())
        {
            let _ = news.recv().await;
        }
    };
    tokio::time::timeout(std::time::Duration::from_secs(30), found)
        .await
        .expect("the new file was not noticed");
}
