//! Tests of what is made of all pictures: order, pieces, sheets.

use crate::assemble::assembler::{Gathered, Gatherer};
use crate::assemble::contact_sheet::{Sheet, sheet_size};
use crate::assemble::encoder_speed::encoding;
use crate::assemble::ordered_stream::Stream;
use crate::assemble::piece::{self, Is, Piece};
use crate::preflight::input::Source;
use crate::render::fault::Fault;
use crate::render::memory_budget::{MemoryBudget, Reserved};
use crate::render::work::Work;
use rallo_engine::{Encoded, Pixels, Size};
use rallo_media::{Chroma, Encoding, Extras};
use rallo_recipe::delivery::{Contact, Pdf, Video};
use rallo_recipe::{Assembly, Recipe, ResolveContext};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

fn reserved() -> Reserved {
    Arc::new(MemoryBudget::new(1_000_000_000)).reserve()
}

fn piece(n: u32) -> Piece {
    let size = Size::new(20 + n, 10);
    let picture = Encoded { size, pixels: Pixels::U8(vec![(n * 20) as u8; size.area() as usize * 3]) };
    let encoding = Encoding::Jpeg { quality: 90, chroma: Chroma::Full, progressive: false, optimised: false };
    let jpeg = rallo_media::encode(&picture, encoding, &Extras::default()).unwrap();
    Piece { what: Is::Jpeg(jpeg, (size.width, 10)), caption: format!("picture {n}"), folder: "f".into() }
}

fn stream(count: usize, folder: &Path) -> Stream {
    let assembly = Assembly::Pdf(Pdf::default());
    let recipe = Recipe::new("x");
    let first = ResolveContext::default();
    let gatherer = Gatherer::begin(&assembly, &recipe, &first, count, folder).unwrap();
    Stream::new(&assembly, count, gatherer, reserved())
}

fn bytes(gathered: &Gathered) -> Vec<u8> {
    std::fs::read(&gathered.part).unwrap()
}

#[test]
fn pieces_in_any_order_are_joined_in_theirs() {
    let folder = tempfile::tempdir().unwrap();
    let straight = stream(6, folder.path());
    (0..6).for_each(|n| straight.give(n, (n != 3).then(|| piece(n as u32))));
    let straight = straight.complete().unwrap().finish().unwrap();
    let crossed = stream(6, folder.path());
    for n in [2usize, 0, 5, 1, 4, 3] {
        crossed.began(n);
        assert!(crossed.wants(n) && crossed.complete().is_none());
        crossed.give(n, (n != 3).then(|| piece(n as u32)));
    }
    assert!(!crossed.wants(2), "it is taken");
    let crossed = crossed.complete().unwrap().finish().unwrap();
    assert_eq!((crossed.missing, straight.missing), (1, 1));
    assert!(bytes(&crossed) == bytes(&straight));
    // Nothing is left where nobody keeps it.
    drop((crossed, straight));
    assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 0);
}

#[test]
fn pieces_that_another_one_has_are_not_waited_for_for_ever() {
    let folder = tempfile::tempdir().unwrap();
    let gaps = stream(60, folder.path());
    // The first is nowhere: after some time the rest is given up, and made at the end.
    for n in 1..40 {
        gaps.began(n);
        gaps.give(n, Some(piece(1)));
    }
    assert!(!gaps.wants(50) && gaps.complete().is_none());
    assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 0);
    // One in work here is waited for, by others than itself.
    let slow = std::sync::Arc::new(stream(40, folder.path()));
    slow.began(0);
    let others = {
        let slow = slow.clone();
        std::thread::spawn(move || {
            for n in 1..40 {
                slow.began(n);
                slow.give(n, Some(piece(2)));
            }
        })
    };
    std::thread::sleep(Duration::from_millis(100));
    assert!(!others.is_finished());
    slow.give(0, Some(piece(0)));
    others.join().unwrap();
    assert_eq!(slow.complete().unwrap().finish().unwrap().missing, 0);
    // Given up, nobody waits.
    let given = stream(40, folder.path());
    given.began(0);
    given.give_up();
    (1..40).for_each(|n| given.give(n, Some(piece(3))));
    assert!(given.complete().is_none());
}

#[test]
fn a_picture_that_is_over_while_its_piece_is_handed_on_leaves_nothing_behind() {
    let folder = tempfile::tempdir().unwrap();
    let stream = std::sync::Arc::new(stream(2, folder.path()));
    stream.give(0, Some(piece(0)));
    // Another one hands the second piece on just now, for as long as that takes.
    let gatherer = {
        let mut order = stream.lock();
        order.pouring = true;
        order.gatherer.take()
    };
    stream.skip(1);
    assert!(stream.lock().waiting.is_empty());
    let other = {
        let stream = stream.clone();
        std::thread::spawn(move || stream.complete())
    };
    std::thread::sleep(Duration::from_millis(50));
    assert!(!other.is_finished(), "it waits for the piece on its way");
    {
        let mut order = stream.lock();
        (order.pouring, order.next, order.gatherer) = (false, 2, gatherer);
        stream.changed.notify_all();
    }
    assert!(other.join().unwrap().is_some());
}

#[test]
fn a_picture_that_stands_for_long_comes_in_parts_and_can_be_stopped() {
    let picture = Encoded { size: Size::new(64, 36), pixels: Pixels::U8(vec![90; 64 * 36 * 3]) };
    let png = rallo_media::encode(&picture, Encoding::Png, &Extras::default()).unwrap();
    let source = rallo_media::FileSource::from_bytes(png).unwrap();
    let document = serde_json::json!({"format": "rallo-recipe", "version": 1, "name": "x", "deliveries":
        [{"kind": "video", "size": "custom", "width": 32, "height": 18, "fit": "move", "length": 4, "hold_last": 1}]});
    let recipe = Recipe::from_value(&document).unwrap();
    let about = crate::resolve_context(
        Path::new("a.png"),
        Some(&source.facts(Path::new("a.png"))),
        &Default::default(),
        1,
    );
    let alone = crate::render::sequence::RunSequence::default();
    let work = Work::new(&recipe, &source, &about, 0, None, &alone).unwrap();
    let (task, stage) = recipe.stages().remove(0);
    let piece = || piece::piece(&work, task, &stage, (0, 1)).unwrap();
    let frames = |part: Result<Piece, Fault>| match part.unwrap().what {
        Is::Shown(frames) => frames.iter().map(|(bytes, times)| (bytes.len(), *times)).collect::<Vec<_>>(),
        _ => panic!("no frames"),
    };
    // A hundred windows, the last for a second more; never all of them in memory.
    let parts: Vec<_> = piece().parts().map(frames).collect();
    assert!(parts.iter().all(|p| p.len() <= rayon::current_num_threads().max(2)));
    let samples: Vec<_> = parts.into_iter().flatten().collect();
    assert_eq!((samples.len(), samples[0].1, samples[99].1), (100, 1, 26));
    let assembly = recipe.deliveries[0].assemblies().remove(0);
    let folder = tempfile::tempdir().unwrap();
    let begin = || {
        let gatherer = Gatherer::begin(&assembly, &recipe, &about, 1, folder.path()).unwrap();
        Stream::new(&assembly, 1, gatherer, reserved())
    };
    let whole = begin();
    whole.give(0, Some(piece()));
    assert_eq!(whole.complete().unwrap().finish().unwrap().clip.unwrap().frames, 125);
    // Cancelled on the way: the rest is not made, and nothing is left.
    let stopped = begin();
    stopped.stop.store(true, Ordering::Relaxed);
    stopped.give(0, Some(piece()));
    assert!(stopped.complete().is_none());
    drop(stopped);
    assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 0);
}

#[test]
fn an_encoder_is_tried_on_what_can_be_read() {
    let folder = tempfile::tempdir().unwrap();
    let source = |n: u8, whole: bool| {
        let path = folder.path().join(format!("{n}.png"));
        let picture = Encoded { size: Size::new(64, 36), pixels: Pixels::U8(vec![n; 64 * 36 * 3]) };
        std::fs::write(&path, rallo_media::encode(&picture, Encoding::Png, &Extras::default()).unwrap())
            .unwrap();
        let facts = crate::library::scan::facts(&path).ok().filter(|_| whole);
        Source { path, facts, decided: Default::default() }
    };
    let document = serde_json::json!({"format": "rallo-recipe", "version": 1, "name": "x", "deliveries":
        [{"kind": "pdf"}, {"kind": "video", "size": "custom", "width": 32, "height": 18}]});
    let recipe = Recipe::from_value(&document).unwrap();
    let video = Video { size: "custom".into(), width: Some(32), height: Some(18), ..Video::default() };
    let some: Vec<Source> = (0..12).map(|n| source(n, n != 3)).collect();
    assert!(encoding(&recipe, 1, &video, &some).unwrap() > 0.0);
    assert!(encoding(&recipe, 1, &video, &some[..1]).unwrap() > 0.0);
    assert!(encoding(&recipe, 1, &video, &some[3..4]).is_none(), "nothing can be read");
    assert!(encoding(&recipe, 7, &video, &some).is_none(), "there is no such task");
}

#[test]
fn a_contact_sheet_has_rows_as_high_as_their_pictures() {
    let contact = Contact {
        format: "png".into(),
        columns: Some(2),
        cell: Some(40),
        gap: Some(10),
        caption: String::new(),
        title: String::new(),
        ..Contact::default()
    };
    let mut sheet = Sheet::new(&contact, "", 3).unwrap();
    for (n, (w, h)) in [(40, 20), (40, 30), (20, 40)].into_iter().enumerate() {
        let size = Size::new(w, h);
        let pixels = Pixels::U8(vec![n as u8 + 1; size.area() as usize * 3]);
        sheet.cells.push((Encoded { size, pixels }, String::new()));
    }
    let (png, size) = sheet.finish().unwrap();
    assert_eq!(size, (110, 100));
    let source = rallo_media::FileSource::from_bytes(png).unwrap();
    let picture = rallo_engine::Source::level(&source, 0).unwrap();
    let rallo_engine::Samples::U8(v) = picture.samples() else { panic!() };
    let at = |x: usize, y: usize| v[(y * 110 + x) * 3];
    // In the middle of its row, and of its column.
    assert_eq!(
        [at(10, 14), at(10, 15), at(60, 10), at(20, 50), at(19, 50), at(39, 89)],
        [255, 1, 2, 3, 255, 3]
    );
    assert!(sheet_size(&Contact { cell: Some(2000), ..Contact::default() }, 5000).is_err());
}
