//! The fixed camera and the lesson: what they must hold, and that what is written as true is true.

use rallo_demo::{BedFrame, LESSON_FRAMES, bed, bed_file, lesson_truth};
use rallo_engine::{Samples, Source};
use rallo_media::FileSource;
use std::collections::{HashMap, HashSet};

#[test]
fn the_fixed_camera_has_what_long_sequences_have() {
    let all = bed(24);
    assert!(all.len() >= 600);
    let folders: HashSet<_> = all.iter().map(|f| f.folder).collect();
    assert_eq!(folders.len(), 3);
    // The cards are out of order, and their names clash.
    let first = |card: &str| all.iter().filter(|f| f.folder == card).map(|f| f.taken).min().unwrap();
    assert!(first("Bed card 2") < first("Bed card 1") && first("Bed card 1") < first("Bed card 3"));
    let names: HashSet<_> = all.iter().map(|f| &f.name).collect();
    assert!(names.len() < all.len() / 2);
    let mut labels: HashMap<String, usize> = HashMap::new();
    for label in all.iter().flat_map(|f| f.truth().labels) {
        *labels.entry(label).or_default() += 1;
    }
    for (label, least) in [("night", 100), ("fog", 10), ("shadow", 20), ("double", 4), ("clock", 50)] {
        assert!(labels.get(label).is_some_and(|n| *n >= least), "{label}: {labels:?}");
    }
    let days = (all[all.len() - 1].taken.date() - all[0].taken.date()).get_days();
    assert!(days >= 14, "{days} days");
    assert!(all.windows(2).any(|w| w[0].shift != w[1].shift) && all.iter().all(|f| f.shift.0.abs() <= 6.0));
    assert!(
        all.iter().filter(|f| f.taken != f.written).all(|f| f.truth().labels.contains(&"clock".to_owned()))
    );
}

/// Luma of a frame, decoded.
fn luma(frame: &BedFrame) -> (usize, Vec<f32>) {
    let source = FileSource::from_bytes(bed_file(frame).unwrap()).unwrap();
    let picture = source.decode(0).unwrap();
    let Samples::U8(v) = picture.samples() else { panic!() };
    let luma = v.as_chunks::<3>().0.iter().map(|p| f32::from(p[1])).collect();
    (source.size().width as usize, luma)
}

#[test]
fn shift_and_flicker_are_in_the_pictures_as_they_are_written() {
    let noon = bed(24).into_iter().find(|f| f.taken.hour() == 12 && f.truth().labels.is_empty()).unwrap();
    let with = |shift: (f32, f32), flicker: f32| {
        let mut frame = noon.clone();
        (frame.shift, frame.flicker) = (shift, flicker);
        frame
    };
    let (still, moved) = (with((0.0, 0.0), 0.0), with((5.0, 3.0), 0.0));
    let (width, a) = luma(&still);
    let (_, b) = luma(&moved);
    // The moved picture, moved back, is the still one but for noise that stayed where it was.
    let difference = |dx: usize, dy: usize| {
        let mut sum = 0.0;
        for y in 200..600 {
            for x in 200..900 {
                sum += (a[y * width + x] - b[(y + dy) * width + x + dx]).abs();
            }
        }
        sum / (400.0 * 700.0)
    };
    let best = (0..8)
        .flat_map(|dx| (0..6).map(move |dy| (dx, dy)))
        .min_by(|p, q| difference(p.0, p.1).total_cmp(&difference(q.0, q.1)));
    assert_eq!(best, Some((5, 3)));
    // A brighter frame is brighter by the stops that are written, in linear light, where nothing is near white.
    let (_, c) = luma(&with((0.0, 0.0), 0.15));
    let mean = |v: &[f32]| v.iter().sum::<f32>() / v.len() as f32;
    assert!(mean(&c) > mean(&a) * 1.02, "{} {}", mean(&c), mean(&a));
    // The same frame is the same bytes.
    assert!(bed_file(&still).unwrap() == bed_file(&still).unwrap());
}

#[test]
fn the_lesson_is_long_and_large_enough() {
    const { assert!(LESSON_FRAMES >= 120) };
    let labels: Vec<String> = (0..LESSON_FRAMES).flat_map(|i| lesson_truth(i).labels).collect();
    assert_eq!(labels, ["blurred", "covered"]);
    const { assert!(rallo_demo::LESSON_SIZE.0 > 1920 && rallo_demo::LESSON_SIZE.1 > 1080) };
}
