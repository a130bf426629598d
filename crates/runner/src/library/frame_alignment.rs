//! How each frame of a sequence lies against one of them, without a run: what the step that holds the picture steady goes by.

use crate::frame_context::{Decided, resolve_context};
use crate::library::frame_light::{Behind, FrameFile, in_order};
use crate::render::sequence::{self, RunSequence};
use rallo_engine::sequence::steadying::KnownBy;
use rallo_engine::steps::sequence::hold_steady::{HoldSteady, Measurement, in_pixels};
use rallo_engine::{Size, Source, Step};
use rallo_media::{FileSource, MediaError};
use rallo_recipe::{Faults, Recipe};
use rayon::prelude::*;
use serde_json::{Value, json};
use std::path::{Path, PathBuf};

/// Why a frame cannot be aligned.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum AlignmentError {
    /// It cannot be opened or decoded.
    #[error(transparent)]
    Media(#[from] MediaError),
    /// The lines before it cannot be worked out.
    #[error("{0}")]
    Render(String),
    /// No frame of the sequence could be measured.
    #[error("no frame could be measured")]
    Nothing,
}

/// How one frame lies.
#[derive(Debug)]
pub struct AlignedFrame {
    /// Its file.
    pub path: PathBuf,
    /// When it was taken, by the camera's clock.
    pub taken: Option<jiff::civil::DateTime>,
    /// How it lies; or why it could not be measured.
    pub lies: Result<Lies, AlignmentError>,
}

/// A frame against the reference.
#[derive(Debug)]
pub struct Lies {
    /// From pixels of the reference to the same places in the frame, in pixels: a projective matrix by rows. The middle of the
    /// first pixel is 0.5, 0.5.
    pub matrix: [f64; 9],
    /// What that is known from.
    pub known_by: KnownBy,
    /// The standard deviation at the corners, in pixels, where it was aligned on the reference itself.
    pub error: Option<f64>,
    /// The share of its patches that moved like this, where it was aligned on the reference itself.
    pub share: Option<f64>,
}

/// The lines of a recipe that frames are measured behind, and the step behind these.
fn with_step(hold: &HoldSteady, behind: Option<Behind<'_>>) -> Result<(Recipe, usize), Faults> {
    let mut document = behind.map_or_else(|| Recipe::new("Alignment"), |b| b.recipe.clone()).to_value();
    let line = behind.map_or(0, |b| b.lines.min(b.recipe.steps.len()));
    let mut step = hold.values();
    step["step"] = json!("hold_steady");
    if let Some(steps) = document["steps"].as_array_mut() {
        steps.truncate(line);
        steps.push(step);
    }
    Ok((Recipe::parse(&document.to_string())?, line))
}

/// What was measured of a frame, with its size as it comes to the step.
fn measured(
    recipe: &Recipe,
    line: usize,
    sequence: &RunSequence,
    (at, path): (usize, &Path),
) -> Result<(Option<Vec<f64>>, Size), AlignmentError> {
    let source = FileSource::open(path)?.decoding_by(&recipe.decode);
    let facts = source.facts(path);
    let mut context = resolve_context(path, Some(&facts), &Decided::default(), at + 1);
    context.sequence.count = sequence.count;
    let told = sequence::measured(recipe, &source, &context, sequence, None)
        .map_err(|fault| AlignmentError::Render(fault.reason))?;
    let told = told.get(line.to_string()).map_or(Value::Null, Value::clone);
    let size = recipe.layout(&context).map_or(source.size(), |plan| plan.size_before(line));
    Ok((serde_json::from_value(told).ok(), size))
}

/// Aligns frames in the order of time (those without one behind the others, by name), as they come behind some lines of a
/// recipe where that is asked for. `done` is told each frame.
///
/// # Errors
/// [`Faults`] where the step's values do not fit.
pub fn align(
    paths: &[PathBuf],
    hold: &HoldSteady,
    behind: Option<Behind<'_>>,
    done: impl Fn(&Path) + Sync,
) -> Result<Vec<AlignedFrame>, Faults> {
    let (recipe, line) = with_step(hold, behind)?;
    let frames = in_order(paths);
    let sequence = RunSequence::of_files(frames.iter().map(|f| f.path.clone()));
    let one = |(at, frame): (usize, &FrameFile)| {
        let told = measured(&recipe, line, &sequence, (at, &frame.path));
        done(&frame.path);
        told
    };
    let told: Vec<_> = frames.par_iter().with_max_len(1).enumerate().map(one).collect();
    let numbers: Vec<Option<Vec<f64>>> = told.iter().map(|t| t.as_ref().ok()?.0.clone()).collect();
    let steady = hold.steady(&numbers);
    let lies = |(frame, (at, told)): (FrameFile, (usize, Result<_, AlignmentError>))| {
        let lies = told.and_then(|(numbers, size): (Option<Vec<f64>>, Size)| {
            let (map, known_by) = steady.as_ref().map(|s| s.frames[at]).ok_or(AlignmentError::Nothing)?;
            let own = numbers.as_deref().and_then(Measurement::read).and_then(|told| told.on_reference);
            Ok(Lies {
                matrix: in_pixels(&map, size).0,
                known_by,
                error: own.map(|a| a.error * f64::from(size.long_edge())),
                share: own.map(|a| a.share),
            })
        });
        AlignedFrame { path: frame.path, taken: frame.taken, lies }
    };
    Ok(frames.into_iter().zip(told.into_iter().enumerate()).map(lies).collect())
}
