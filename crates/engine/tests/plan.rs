//! Plans: order, fusing, reduced parts, regions.

use rallo_engine::*;
use serde_json::{Value, json};

fn steps(all: &[(&str, Value)]) -> Vec<Settings> {
    all.iter()
        .map(|(id, values)| {
            let step = step_kind(id).unwrap().parse(values.as_object().unwrap()).unwrap();
            Settings::from(step)
        })
        .collect()
}

fn smooth(w: u32, h: u32, orientation: u32) -> Picture {
    let px = (0..w * h)
        .flat_map(|i| {
            let (x, y) = ((i % w) as f32 / w as f32, (i / w) as f32 / h as f32);
            [(x * 200.0 + 20.0) as u8, (y * 180.0 + 40.0) as u8, ((x * 9.0).sin() * 60.0 + 120.0) as u8]
        })
        .collect();
    Picture::new(Size::new(w, h), Samples::U8(px), Orientation::from_exif(orientation), None).unwrap()
}

fn bytes(program: &Program, source: &dyn Source, rect: Rect) -> Vec<u8> {
    match program.render(source, rect, OutputProfile::Srgb.colour()).unwrap().pixels {
        Pixels::U8(v) => v,
        _ => unreachable!(),
    }
}

fn catalogue() -> Vec<Settings> {
    steps(&[
        ("exposure", json!({"stops": 0.35})),
        ("curve", json!({"all": [[0, 0], [0.25, 0.21], [0.75, 0.8], [1, 1]]})),
        ("straighten", json!({"degrees": 1.2})),
        ("crop", json!({"proportion": "16:9"})),
        ("resize", json!({"long_edge": 400})),
        ("unsharp_mask", json!({"amount": 80})),
        ("watermark", json!({"text": "Thistlewick"})),
    ])
}

#[test]
fn a_tile_is_the_same_part_of_the_whole() {
    let picture = smooth(1500, 1000, 1);
    let source = Pyramid::new(picture.clone());
    let plan = Plan::new(catalogue(), picture.size()).unwrap();
    let program = plan.program(1.0);
    assert_eq!(program.size(), Size::new(400, 225));
    let whole = bytes(&program, &source, program.size().rect());
    let tile = Rect::new(151, 83, 97, 55);
    let part = bytes(&program, &source, tile);
    for (j, row) in part.chunks(97 * 3).enumerate() {
        let at = ((83 + j) * 400 + 151) * 3;
        assert_eq!(row, &whole[at..at + 97 * 3]);
    }
}

#[test]
fn neighbouring_geometry_is_one_mapping_and_one_reduced_read() {
    let plan = Plan::new(catalogue(), Size::new(1500, 1000)).unwrap();
    // 1500 → 400 leaves a reduction of 3.6: half of it can be had from the decoder.
    assert_eq!((plan.program(1.0).level(), plan.level()), (1, 1));
    assert_eq!(plan.program(0.25).level(), 3);
    let detailed = plan.at_full_detail();
    assert_eq!((detailed.program(1.0).level(), detailed.level()), (0, 0));
    // Sharpening before the resize runs at the size it was asked for only where that is cheap to keep.
    let plain = Plan::new(steps(&[("exposure", json!({"stops": 1}))]), Size::new(1500, 1000)).unwrap();
    assert_eq!(plain.program(1.0).level(), 0);
}

#[test]
fn a_crop_is_one_with_the_mapping_behind_tones() {
    // Where the picture is read reduced, the crop begins between two pixels.
    let picture = smooth(1501, 1003, 1);
    let source = Pyramid::new(picture.clone());
    let crop = ("crop", json!({"proportion": "16:9"}));
    let curve = ("curve", json!({"all": [[0, 0], [0.25, 0.21], [0.75, 0.8], [1, 1]]}));
    let resize = ("resize", json!({"long_edge": 400}));
    let mixed = |all: &[(&str, Value)], toned: usize, mix: f32| {
        let mut steps = steps(all);
        steps[toned].mix = mix;
        let program = Plan::new(steps, picture.size()).unwrap().program(1.0);
        assert!(program.level() > 0, "{all:?}");
        bytes(&program, &source, program.size().rect())
    };
    let made = |all: &[(&str, Value)]| mixed(all, 0, 1.0);
    let vivid = ("gentle_saturation", json!({"amount": 60}));
    let warm = ("colour_balance", json!({"highlights": [20, 0, -30]}));
    for (tone, mix) in [(&curve, 1.0), (&vivid, 1.0), (&warm, 1.0), (&curve, 0.4), (&vivid, 0.4)] {
        let last = mixed(&[tone.clone(), crop.clone(), resize.clone()], 0, mix);
        let first = mixed(&[crop.clone(), tone.clone(), resize.clone()], 1, mix);
        assert!(first == last && last != made(&[crop.clone(), resize.clone()]), "{tone:?} {mix}");
    }
    // What is told by its place works on the picture as it was cropped: as on a picture that is no larger.
    let corners = ("vignette", json!({"stops": -1.5}));
    let cropped = made(&[crop.clone(), corners.clone(), resize.clone()]);
    let size = Plan::new(steps(&[crop]), picture.size()).unwrap().program(1.0).size();
    let Samples::U8(all) = picture.samples() else { panic!("8 bits were drawn") };
    let top = (picture.size().height - size.height) as usize / 2;
    let row = size.width as usize * 3;
    let rows = all[top * row..][..row * size.height as usize].to_vec();
    let small = Pyramid::new(Picture::new(size, Samples::U8(rows), Orientation::UPRIGHT, None).unwrap());
    let program = Plan::new(steps(&[corners, resize]), size).unwrap().program(1.0);
    let alone = bytes(&program, &small, program.size().rect());
    let apart = alone.iter().zip(&cropped).map(|(a, b)| a.abs_diff(*b)).max().unwrap();
    assert!(alone.len() == cropped.len() && apart <= 2, "{apart}");
}

#[test]
fn reduced_reading_keeps_45_db() {
    let picture = smooth(2400, 1600, 1);
    let source = Pyramid::new(picture.clone());
    let render = |full: bool| {
        let plan = Plan::new(catalogue(), picture.size()).unwrap();
        let plan = if full { plan.at_full_detail() } else { plan };
        let program = plan.program(1.0);
        bytes(&program, &source, program.size().rect())
    };
    let (a, b) = (render(true), render(false));
    let mse =
        a.iter().zip(&b).map(|(a, b)| (f64::from(*a) - f64::from(*b)).powi(2)).sum::<f64>() / a.len() as f64;
    let psnr = 10.0 * (255.0f64.powi(2) / mse.max(1e-9)).log10();
    assert!(psnr > 45.0, "{psnr} dB");
}

#[test]
fn orientation_is_applied_once() {
    for exif in 1..=8 {
        let picture = smooth(60, 40, exif);
        let source = Pyramid::new(picture.clone());
        let program = Plan::new(vec![], picture.size()).unwrap().program(1.0);
        let out = bytes(&program, &source, program.size().rect());
        let Samples::U8(stored) = picture.samples() else { panic!() };
        let (w, h) = (program.size().width as usize, program.size().height as usize);
        for y in 0..h {
            for x in 0..w {
                let (sx, sy) = Orientation::from_exif(exif).stored(x, y, Size::new(60, 40));
                let (at, from) = ((y * w + x) * 3, (sy * 60 + sx) * 3);
                assert_eq!(out[at..at + 3], stored[from..from + 3], "orientation {exif} at {x},{y}");
            }
        }
    }
}

#[test]
fn a_mix_lies_between_input_and_result() {
    let picture = smooth(64, 48, 1);
    let source = Pyramid::new(picture.clone());
    for (id, values) in [
        ("exposure", json!({"stops": 1})),
        ("curve", json!({"all": [[0, 0.2], [1, 0.7]]})),
        ("unsharp_mask", json!({"amount": 100, "radius": 5, "threshold": 0})),
        ("watermark", json!({"text": "Pots", "size": 30, "place": "centre"})),
    ] {
        let render = |mix: f32| {
            let mut all = steps(&[(id, values.clone())]);
            all[0].mix = mix;
            let program = Plan::new(all, picture.size()).unwrap().program(1.0);
            program.render_working(&source, program.size().rect()).unwrap().1
        };
        let (none, half, all) = (render(0.0), render(0.5), render(1.0));
        assert_ne!(none, all, "{id}");
        for ((n, h), a) in none.iter().zip(&half).zip(&all) {
            for c in 0..3 {
                let (low, high) = (n[c].min(a[c]) - 1e-3, n[c].max(a[c]) + 1e-3);
                assert!((low..=high).contains(&h[c]), "{id}: {n:?} {h:?} {a:?}");
            }
        }
    }
}

#[test]
fn what_would_be_too_large_is_said_before() {
    let all =
        steps(&[("exposure", json!({})), ("resize", json!({"exact": [60000, 60000], "enlarge": true}))]);
    let error = Plan::new(all, Size::new(10, 10)).err().unwrap();
    assert_eq!(
        error.to_string(),
        "line 2 would make a picture of 60000 × 60000 pixels; the limit is 400 megapixels"
    );
}

#[test]
fn sixteen_bits_keep_what_eight_lose() {
    let px: Vec<u16> = (0..256u32 * 4).flat_map(|i| [(i * 64) as u16; 3]).collect();
    let picture =
        Picture::new(Size::new(1024, 1), Samples::U16(px.clone()), Orientation::UPRIGHT, None).unwrap();
    let source = Pyramid::new(picture.clone());
    let program = Plan::new(vec![], picture.size()).unwrap().program(1.0);
    let out = program.render_16(&source, program.size().rect(), OutputProfile::Srgb.colour()).unwrap();
    let Pixels::U16(out) = out.pixels else { panic!() };
    for (a, b) in out.iter().zip(&px) {
        assert!(a.abs_diff(*b) <= 3, "{a} {b}");
    }
}

#[test]
fn a_block_is_mixed_as_a_whole() {
    // Against each pixel's own sum: half of what all of the block makes, half of what it came from.
    let source = Pyramid::new(smooth(230, 170, 1));
    let one = |id: &str, values: Value| steps(&[(id, values)]).remove(0);
    let lines = || steps(&[("unsharp_mask", json!({"amount": 90})), ("contrast", json!({"amount": 40}))]);
    let render = |steps: Vec<Settings>| {
        let plan = Plan::for_picture(steps, &source).unwrap();
        let program = plan.program(1.0);
        program.render_working(&source, program.size().rect()).unwrap().1
    };
    let first = one("exposure", json!({"stops": 0.4}));
    let (before, all) = (render(vec![first.clone()]), render([vec![first.clone()], lines()].concat()));
    let mut block = lines();
    for line in &mut block {
        line.block = Some((0, 0.5));
    }
    let last = one("exposure", json!({"stops": 0}));
    let mixed = render([vec![first], block, vec![last]].concat());
    for ((m, b), a) in mixed.iter().zip(&before).zip(&all) {
        for c in 0..3 {
            assert!((m[c] - (b[c] + a[c]) / 2.0).abs() < 1e-5, "{m:?} {b:?} {a:?}");
        }
    }
}

#[test]
fn what_is_kept_before_a_cut_changes_nothing() {
    let source = Pyramid::new(smooth(700, 460, 6));
    let kept = std::sync::Mutex::new(None);
    let lines = |amount: f64| {
        let mut all = catalogue();
        all.insert(0, steps(&[("denoise", json!({"method": "quick"}))]).remove(0));
        all[7] = steps(&[("unsharp_mask", json!({"amount": amount}))]).remove(0);
        all
    };
    for cut in [1, 3, 5, 7] {
        for (amount, scale) in [(80.0, 1.0), (20.0, 1.0), (20.0, 0.5)] {
            let plan = Plan::for_picture(lines(amount), &source).unwrap();
            let whole = plan.program(scale);
            let rect = Rect::new(10, 20, 120, 70).within(whole.size().rect());
            let want = bytes(&whole, &source, rect);
            let cut = plan.cut_before(cut).program(scale);
            let got = cut.render_keeping(&source, rect, OutputProfile::Srgb.colour(), &kept).unwrap();
            let Pixels::U8(got) = got.pixels else { panic!() };
            let off = want.iter().zip(&got).map(|(a, b)| a.abs_diff(*b)).max().unwrap();
            assert!(off <= 1, "off by {off}");
        }
    }
}

#[test]
fn what_was_measured_is_measured_once() {
    use std::collections::HashMap;
    use std::sync::{Arc, Mutex};
    #[derive(Default)]
    struct Held(Mutex<HashMap<u64, Arc<dyn Step>>>, Mutex<[usize; 2]>);
    impl Memory for Held {
        fn recall(&self, key: u64) -> Option<Arc<dyn Step>> {
            let found = self.0.lock().unwrap().get(&key).cloned();
            self.1.lock().unwrap()[0] += usize::from(found.is_some());
            found
        }
        fn keep(&self, key: u64, step: Arc<dyn Step>) {
            self.1.lock().unwrap()[1] += 1;
            self.0.lock().unwrap().insert(key, step);
        }
        fn recall_views(&self, _: u64) -> Option<Arc<Vec<rallo_engine::step::View>>> {
            None
        }
        fn keep_views(&self, _: u64, _: Arc<Vec<rallo_engine::step::View>>) {}
    }
    let source = Pyramid::new(smooth(300, 200, 1));
    let held = Held::default();
    let plan = |first: f64, last: f64| {
        let all = steps(&[
            ("exposure", json!({"stops": first})),
            ("auto_range", json!({"strength": 100})),
            ("saturation", json!({"amount": last})),
        ]);
        let plan = Plan::remembering(all, &source, Some(&held)).unwrap();
        plan.steps()[1].step.found()
    };
    let first = plan(-0.5, 0.0);
    assert!(!first.is_empty());
    // A change behind it measures nothing again, one before it does.
    assert_eq!(plan(-0.5, 40.0), first);
    assert_eq!(*held.1.lock().unwrap(), [1, 1]);
    assert_ne!(plan(0.0, 40.0), first);
    assert_eq!(*held.1.lock().unwrap(), [1, 2]);
    // Noise does not depend on the strength it is taken out with.
    let denoised = |brightness: f64| {
        let all = steps(&[("denoise", json!({"method": "quick", "brightness": brightness}))]);
        Plan::remembering(all, &source, Some(&held)).unwrap().steps()[0].step.found()
    };
    assert_eq!(denoised(20.0), denoised(80.0));
    assert_eq!(*held.1.lock().unwrap(), [2, 3]);
}

/// How much of the finest detail a window of a move shows, for sizes that grow by a hundredth each.
fn grain_through_windows(full: bool) -> Vec<f64> {
    let size = Size::new(1600, 900);
    // A value of its own for every pixel.
    let mixed = |i: u32| {
        (i.wrapping_mul(2_654_435_761) ^ (i >> 7).wrapping_mul(0x9e37_79b9)).wrapping_mul(0x85eb_ca6b)
    };
    let grain = (0..1600 * 900).flat_map(|i| [60 + ((mixed(i) >> 17) % 136) as u8; 3]).collect();
    let picture = Picture::new(size, Samples::U8(grain), Orientation::from_exif(1), None).unwrap();
    let source = Pyramid::new(picture);
    let shares = std::iter::successors(Some(0.4), |share| Some(share * 1.01));
    let one = |share: f64| {
        let window = sequence::camera_move::Window { middle: (0.5, 0.5), size: share };
        let framed: Box<dyn Step> =
            Box::new(sequence::camera_move::Framed { window, size: Size::new(320, 180) });
        let plan = Plan::new(vec![framed.into()], size).unwrap();
        let plan = if full { plan.at_full_detail() } else { plan };
        let program = plan.program(1.0);
        let pixels = bytes(&program, &source, program.size().rect());
        pixels.windows(4).map(|w| (f64::from(w[0]) - f64::from(w[3])).abs()).sum()
    };
    shares.take_while(|share| *share <= 1.0).map(one).collect()
}

#[test]
fn a_window_that_nears_does_not_become_sharper_all_at_once() {
    // On its way it is reduced from other levels; what that changes against one way of reducing comes in small steps.
    let (levels, full) = (grain_through_windows(false), grain_through_windows(true));
    let share: Vec<f64> = levels.iter().zip(&full).map(|(a, b)| a / b).collect();
    let step = share.windows(2).map(|w| (w[1] - w[0]).abs()).fold(0.0, f64::max);
    assert!(share.iter().any(|s| (s - 1.0).abs() > 0.01), "one level only: nothing is shown");
    assert!(step < 0.03 && share.iter().all(|s| (s - 1.0).abs() < 0.06), "{step} {share:?}");
}

#[test]
fn points_of_the_output_lead_to_the_source_and_back() {
    let size = Size::new(1500, 1000);
    let placed = |lines: &[(&str, Value)]| Plan::new(steps(lines), size).unwrap();
    // By hand: the middle half, at a third of its size, mirrored.
    let plan = placed(&[
        ("crop", json!({"pixels": [375, 250, 750, 510]})),
        ("resize", json!({"long_edge": 250})),
        ("mirror", json!({"across": "left and right"})),
    ]);
    let (x, y) = plan.source_point((10.0, 20.0));
    assert!((x - (375.0 + 750.0 - 30.0)).abs() < 0.01 && (y - (250.0 + 60.0)).abs() < 0.01, "{x} {y}");
    assert!((plan.source_step((100.0, 80.0)) - 3.0).abs() < 1e-6);
    // Any chain: there and back is the same point.
    let plan = placed(&[
        ("lens", json!({"distortion": 8})),
        ("straighten", json!({"degrees": 2.5})),
        ("crop", json!({"proportion": "4:5"})),
        ("rotate", json!({"turn": "right"})),
        ("resize", json!({"long_edge": 640})),
    ]);
    for share in [(0.5, 0.5), (0.1, 0.2), (0.93, 0.8)] {
        let at = (share.0 * f64::from(plan.size().width), share.1 * f64::from(plan.size().height));
        let back = plan.output_point(plan.source_point(at)).unwrap();
        assert!((at.0 - back.0).hypot(at.1 - back.1) < 0.01, "{at:?} became {back:?}");
    }
}

#[test]
fn the_workload_counts_what_each_step_computes() {
    let size = Size::new(4000, 2000);
    let of = |lines: &[(&str, Value)]| Plan::new(steps(lines), size).unwrap().workload();
    // Reduced by eight on the way in: the decoder takes four of it, and what comes before the mapping runs there.
    let (level, pixels) = of(&[
        ("exposure", json!({"stops": 1.0})),
        ("resize", json!({"long_edge": 500})),
        ("saturation", json!({"amount": 20})),
    ]);
    assert_eq!((level, pixels), (2, vec![500_000.0, 125_000.0, 125_000.0]));
    // What denoises needs every pixel, and counts though its noise was not measured.
    let (level, pixels) = of(&[("denoise", json!({})), ("resize", json!({"long_edge": 500}))]);
    assert_eq!((level, pixels), (0, vec![8_000_000.0, 125_000.0]));
    // What does nothing costs nothing.
    assert_eq!(of(&[("exposure", json!({"stops": 0.0}))]).1, vec![0.0]);
}

/// Asks for its picture part by part, as working values.
struct ByParts(Pyramid);

impl Source for ByParts {
    fn size(&self) -> Size {
        self.0.size()
    }
    fn max_level(&self) -> u8 {
        self.0.max_level()
    }
    fn level(&self, _: u8) -> Result<std::sync::Arc<Picture>, SourceError> {
        Err(SourceError("nobody asks for the whole".into()))
    }
    fn part(&self, level: u8, rect: Rect) -> Option<Result<Vec<[f32; 3]>, SourceError>> {
        let picture = self.0.level(level).unwrap();
        let program = Plan::new(Vec::new(), picture.size()).unwrap().program(1.0);
        let whole = Pyramid::new((*picture).clone());
        Some(program.render_working(&whole, rect).map(|(_, pixels)| pixels))
    }
}

#[test]
fn a_source_that_gives_parts_makes_the_same_picture() {
    let picture = smooth(1500, 1000, 1);
    let (whole, parts) = (Pyramid::new(picture.clone()), ByParts(Pyramid::new(picture.clone())));
    for scale in [1.0, 0.4] {
        let program = Plan::new(catalogue(), picture.size()).unwrap().program(scale);
        let rect = Rect::new(31, 20, 90, 50);
        assert_eq!(bytes(&program, &parts, rect), bytes(&program, &whole, rect), "at {scale}");
    }
}

#[test]
fn work_that_is_given_up_gives_no_picture() {
    struct Never;
    impl pace::Pace for Never {
        fn go_on(&self) -> bool {
            false
        }
        fn is_wanted(&self) -> bool {
            false
        }
    }
    let picture = smooth(600, 400, 1);
    let source = Pyramid::new(picture.clone());
    let lines = steps(&[("denoise", json!({"level": 5})), ("exposure", json!({"stops": 1.0}))]);
    let program = Plan::for_picture(lines, &source).unwrap().cut_before(1).program(1.0);
    let kept = std::sync::Mutex::new(None);
    let srgb = OutputProfile::Srgb.colour();
    let made = std::thread::scope(|scope| {
        let work = || {
            pace::set(Some(std::sync::Arc::new(Never)));
            let pool = rayon::ThreadPoolBuilder::new().num_threads(1).use_current_thread().build().unwrap();
            pool.install(|| program.render_keeping(&source, program.size().rect(), srgb, &kept).map(|_| ()))
        };
        scope.spawn(work).join().unwrap()
    });
    assert!(made.is_err() && kept.lock().unwrap().is_none(), "unfinished pixels were handed out or kept");
}
