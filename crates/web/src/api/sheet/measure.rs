//! Times and sizes, from a few pictures that are really made.

use crate::App;
use crate::api::sheet::asked::{Prepared, RunAsked, prepare};
use crate::api::sheet::problem_entry::ProblemEntry;
use crate::api::sheet::said;
use crate::error::Result;
use crate::request::Sent;
use axum::Json;
use axum::extract::State;
use rallo_engine::Source;
use rallo_media::{FileSource, bytes_text};
use rallo_recipe::{Assembly, FinishingTask};
use rallo_runner::assemble::encoder_speed;
use rallo_runner::preflight::{estimate, input, output_paths};
use rallo_runner::render::fault::Fault;
use rallo_runner::render::sequence::RunSequence;
use rallo_runner::render::{variant, work};
use rallo_runner::schedule::{self, Class};
use schemars::JsonSchema;
use serde::Serialize;
use std::time::{Duration, Instant};

/// Seconds on all cores that one picture may take to be made for this.
pub(super) const MEASURABLE: f64 = 8.0;

/// Pictures measured, spread over the run, and the time after which no further one is begun.
pub(super) const MEASURED: usize = 4;

pub(super) const LONG_ENOUGH: Duration = Duration::from_secs(5);

/// What a few of the pictures took.
#[derive(Default, Serialize, JsonSchema)]
pub(crate) struct Measured {
    /// Pictures that were made.
    pub(crate) measured: usize,
    /// Whether one takes too long to be made for this.
    pub(crate) is_long: bool,
    /// What all results will take, in words.
    pub(crate) bytes: Option<String>,
    /// What the results of one picture take, in words.
    pub(crate) each: Option<String>,
    /// Seconds all pictures will take.
    pub(crate) seconds: Option<f64>,
    /// What is wrong where there is too little room.
    pub(crate) room: Option<ProblemEntry>,
}

/// Makes a few of the pictures, as the run would, to tell sizes and times of all.
pub(super) async fn measure(State(app): State<App>, Sent(asked): Sent<RunAsked>) -> Result<Json<Measured>> {
    Ok(Json(measured(&app, &prepare(&app, &asked).await?).await?))
}

/// As [`measure`], of what is prepared.
pub(crate) async fn measured(app: &App, prepared: &Prepared) -> Result<Measured> {
    let Prepared { recipe, sources, planning, base, .. } = prepared;
    let planned = &planning.pictures;
    let area = |s: &input::Source| s.facts.as_ref().map_or(0, |f| u64::from(f.width) * u64::from(f.height));
    let pixels: u64 = sources.iter().map(area).sum();
    let readable: Vec<usize> = (0..sources.len()).filter(|i| area(&sources[*i]) > 0).collect();
    let picked: Vec<input::Source> = (0..MEASURED.min(readable.len()))
        .map(|n| sources[readable[(2 * n + 1) * readable.len() / (2 * MEASURED.min(readable.len()))]].clone())
        .collect();
    let count = sources.len();
    let of = estimate::expected(recipe, count);
    let costs = app.queue.costs();
    let is_long = |original: &input::Source| {
        said(&costs, recipe, original, 1).is_some_and(|c| c.seconds / schedule::cores() as f64 > MEASURABLE)
    };
    if picked.iter().any(is_long) {
        return Ok(Measured { is_long: true, ..Measured::default() });
    }
    // One after the other, each with all cores; a run has several at a time with fewer of them each.
    let (recipe, sources) = (recipe.clone(), sources.clone());
    let measured = schedule::ask(Class::Background, move || {
        let begin = Instant::now();
        let (mut bytes, mut seconds, mut area, mut made) = (0u64, 0.0, 0u64, 0usize);
        for (n, original) in picked.iter().enumerate() {
            if n > 0 && begin.elapsed() > LONG_ENOUGH {
                break;
            }
            let start = Instant::now();
            let Ok(source) = FileSource::open(&original.path) else { continue };
            let source = source.decoding_by(&recipe.decode);
            let about = rallo_runner::resolve_context(
                &original.path,
                Some(&source.facts(&original.path)),
                &original.decided,
                n + 1,
            );
            let kinds = variant::variants(&recipe);
            let alone = RunSequence::default();
            let Ok(work) = work::Work::new(&recipe, &source, &about, 0, None, &alone) else { continue };
            let files: std::result::Result<Vec<_>, Fault> =
                kinds.iter().map(|k| work.make(k, None)).collect();
            let Ok(files) = files else { continue };
            for (_, stage) in recipe.stages() {
                let _ = work.picture(&stage, None);
            }
            bytes += files.iter().map(|f| f.0.len() as u64).sum::<u64>();
            seconds += start.elapsed().as_secs_f64();
            area += source.size().area().max(1);
            made += 1;
        }
        let clip = |(at, (_, task)): (usize, (usize, FinishingTask))| match task {
            FinishingTask::Assembly(Assembly::Video(video)) => {
                encoder_speed::encoding(&recipe, at, &video, &sources)
            }
            _ => None,
        };
        let encoding: f64 = recipe.tasks().into_iter().enumerate().filter_map(clip).sum();
        (made > 0)
            .then(|| (made, bytes as f64 / made as f64, seconds / area as f64 * pixels as f64 + encoding))
    })
    .await?;
    let Some((made, each, seconds)) = measured else { return Ok(Measured::default()) };
    let assemblies: u64 = of.iter().map(|(_, bytes)| bytes).sum();
    let bytes = (each * count as f64) as u64 + assemblies;
    let folder = planned.first().and_then(|p| p.target.parent()).unwrap_or(base);
    let room = output_paths::room(folder, bytes);
    Ok(Measured {
        measured: made,
        is_long: false,
        bytes: Some(bytes_text(bytes)),
        each: (each >= 1.0).then(|| bytes_text(each as u64)),
        seconds: Some(seconds),
        room: room.map(|room| ProblemEntry::new(&room, prepared)),
    })
}
