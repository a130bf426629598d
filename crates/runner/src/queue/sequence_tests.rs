//! Runs whose pictures depend on each other, by two steps that only these tests have.

use crate::queue::tests::Desk;
use rallo_engine::step::{AcrossPictures, Facts, Join, JoinBy, Joined, Op, Place, Seen};
use rallo_engine::steps::registry::add_for_tests;
use rallo_engine::{Encoded, Kind, Param, Pixels, Size, Step, StepInfo, StepKind, step_kind};
use rallo_job::{Claim, Clock, ItemState, NewRunItem, Phase, Run, RunState};
use rallo_media::{Encoding, Extras, FileSource};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Once};

const fn info(id: &'static str) -> StepInfo {
    StepInfo {
        id,
        title: id,
        group: "light",
        about: "",
        words: &[],
        neutral: "{}",
        starter: "{}",
        facts: Facts::NONE,
    }
}

/// Gives every picture the mean light of all.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[serde(default)]
struct EvenMeans {
    stops: f64,
}

static EVEN: StepInfo = info("even_means");
static STOPS: &[Param] =
    &[Param { name: "stops", about: "", unit: "", kind: Kind::Number { min: -5.0, max: 5.0, step: 0.1 } }];
static EVEN_KIND: StepKind = StepKind::of::<EvenMeans>(&EVEN, STOPS);
static MEASURED: AtomicUsize = AtomicUsize::new(0);

impl Step for EvenMeans {
    fn values(&self) -> Value {
        json!(self)
    }
    fn sentence(&self) -> String {
        "Even the means".into()
    }
    fn ops(&self, place: &Place) -> Vec<Op> {
        let values = Map::from_iter([("stops".to_owned(), json!(self.stops))]);
        step_kind("exposure").unwrap().parse(&values).unwrap().ops(place)
    }
    fn across(&self) -> Option<&dyn AcrossPictures> {
        Some(self)
    }
}

impl AcrossPictures for EvenMeans {
    fn see(&self, size: Size, values: &[f32]) -> Seen {
        MEASURED.fetch_add(1, Ordering::Relaxed);
        Arc::new(values.iter().map(|v| f64::from(*v)).sum::<f64>() / (size.area() as f64 * 3.0))
    }
    fn measure(&self, own: &Seen, _: &dyn Fn(usize) -> Option<Seen>) -> Vec<f64> {
        own.downcast_ref::<f64>().map(|mean| vec![*mean]).unwrap_or_default()
    }
    fn decide(&self, measured: &[Option<Vec<f64>>]) -> Vec<Map<String, Value>> {
        let known: Vec<f64> = measured.iter().flatten().map(|m| m[0]).collect();
        let mean = known.iter().sum::<f64>() / known.len() as f64;
        let stops = |means: &Option<Vec<f64>>| means.as_ref().map_or(0.0, |means| (mean / means[0]).log2());
        measured.iter().map(|means| Map::from_iter([("stops".to_owned(), json!(stops(means)))])).collect()
    }
}

/// The mean of each picture and the one after it.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[serde(default)]
struct MeanOfTwo {}

static MEAN: StepInfo = info("mean_of_two");
static MEAN_KIND: StepKind = StepKind::of::<MeanOfTwo>(&MEAN, &[]);

impl Step for MeanOfTwo {
    fn values(&self) -> Value {
        json!(self)
    }
    fn sentence(&self) -> String {
        "Take the mean with the next one".into()
    }
    fn joins(&self) -> Option<Join> {
        let pictures = vec![Joined { offset: 0, weight: 1.0 }, Joined { offset: 1, weight: 1.0 }];
        Some(Join { pictures, by: JoinBy::Mean })
    }
}

fn with_steps() {
    static ADDED: Once = Once::new();
    ADDED.call_once(|| {
        add_for_tests(&EVEN_KIND);
        add_for_tests(&MEAN_KIND);
    });
}

const SIZE: Size = Size { width: 40, height: 30 };

fn grey(path: &Path, level: u8) {
    let pixels = Pixels::U8(vec![level; SIZE.area() as usize * 3]);
    let file =
        rallo_media::encode(&Encoded { size: SIZE, pixels }, Encoding::Png, &Extras::default()).unwrap();
    std::fs::write(path, file).unwrap();
}

/// Linear light of an encoded level (IEC 61966-2-1), and back.
fn linear(level: u8) -> f64 {
    let v = f64::from(level) / 255.0;
    if v <= 0.04045 { v / 12.92 } else { ((v + 0.055) / 1.055).powf(2.4) }
}

fn encoded(light: f64) -> f64 {
    let v = if light <= 0.003_130_8 { light * 12.92 } else { 1.055 * light.powf(1.0 / 2.4) - 0.055 };
    v * 255.0
}

/// A run of a recipe with one line over pictures of these grey levels; a level of 0 stands for a file that is no picture.
async fn run(desk: &Desk, step: &str, phase: Phase, levels: &[u8]) -> i64 {
    with_steps();
    let document = json!({"format": "rallo-recipe", "version": 1, "name": "Together", "steps": [{"step": step}],
        "deliveries": [{"kind": "pictures", "format": "png", "name": "{stem}", "to": "subfolder"}]});
    let items = levels.iter().enumerate().map(|(n, level)| {
        let item = desk.item(&format!("{n}.png"));
        match level {
            0 => std::fs::write(&item.source, "no picture").unwrap(),
            level => grey(Path::new(&item.source), *level),
        }
        NewRunItem { phase, ..item }
    });
    let items: Vec<NewRunItem> = items.collect();
    let run = Run { document: document.to_string(), base: "/p".into(), ..Run::default() };
    desk.records.add_run(&run, &items).await.unwrap()
}

/// The grey level of each result.
async fn levels(desk: &Desk, run: i64) -> Vec<Option<u8>> {
    let items = desk.records.items(run).await.unwrap();
    let level = |item: &rallo_job::RunItem| {
        let source = FileSource::open(&item.outputs.first()?.path).unwrap();
        let picture = source.decode(0).unwrap();
        let rallo_engine::Samples::U8(samples) = picture.samples() else { panic!() };
        assert!(samples.iter().all(|s| s == &samples[0]), "{:?}", &samples[..6]);
        Some(samples[0])
    };
    items.iter().map(level).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn all_pictures_are_measured_once_before_the_first_is_made() {
    let desk = Desk::new().await;
    let given = [60, 90, 0, 120];
    let run = run(&desk, "even_means", Phase::Measure, &given).await;
    // A worker takes one and goes away with it: nobody makes a picture while it is on loan.
    let clock = desk.clock.text();
    let claim = Claim {
        worker: "gone",
        until: desk.clock.millis() + 10_000,
        clock: &clock,
        only: None,
        near: None,
        apart: false,
    };
    let first = desk.records.claim(&claim).await.unwrap().unwrap();
    assert_eq!(first.phase, Phase::Measure);
    let queue = desk.queue();
    for _ in 0..3000 {
        let items = desk.records.items(run).await.unwrap();
        if items.iter().filter(|i| i.measured.is_some()).count() == 2 && items[2].state == ItemState::Failed {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(10)).await;
    }
    let items = desk.records.items(run).await.unwrap();
    let states: Vec<(ItemState, Phase)> = items.iter().map(|i| (i.state, i.phase)).collect();
    use ItemState::{Failed, Waiting};
    assert_eq!(
        states,
        [
            (Waiting, Phase::Measure),
            (Waiting, Phase::Render),
            (Failed, Phase::Measure),
            (Waiting, Phase::Render)
        ]
    );
    assert_eq!(desk.records.claimable(&clock, 9).await.unwrap(), 0);
    // Its lease runs out.
    desk.clock.advance(std::time::Duration::from_secs(11));
    queue.added();
    desk.until(run, RunState::Done).await;
    assert_eq!(MEASURED.load(Ordering::Relaxed), 3, "each picture is measured once");
    let mean = [60, 90, 120].map(linear).iter().sum::<f64>() / 3.0;
    let want = encoded(mean).round() as u8;
    for (made, given) in levels(&desk, run).await.into_iter().zip(given) {
        match made {
            None => assert_eq!(given, 0),
            Some(made) => assert!(made.abs_diff(want) <= 1, "{given} became {made}, not {want}"),
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_line_joins_each_picture_with_the_next_one() {
    let desk = Desk::new().await;
    let given = [50, 100, 180];
    let run = run(&desk, "mean_of_two", Phase::Render, &given).await;
    let _queue = desk.queue();
    desk.until(run, RunState::Done).await;
    let mean = |a: u8, b: u8| encoded((linear(a) + linear(b)) / 2.0).round() as u8;
    let want = [mean(50, 100), mean(100, 180), 180];
    for (made, want) in levels(&desk, run).await.into_iter().zip(want) {
        assert!(made.unwrap().abs_diff(want) <= 1, "{made:?}, not {want}");
    }
}
