//! The settings sheet as a PDF: the ticket in plain sentences, with a small before and after.

use rallo_engine::{OutputProfile, Plan, Source};
use rallo_media::pdf::page::{A4, Drawing, Paper, Style, TextRun};
use rallo_media::{Chroma, Encoding, Extras, MediaError};
use rallo_recipe::{ByHand, Part, Recipe, ResolveContext, Sketch};

/// Longest side of the small pictures, in pixels.
const SMALL: f64 = 900.0;

/// The recipe on one picture: before (only what moves or widens it) and after, as small JPEGs.
///
/// # Errors
/// What the plan or the decoder say, in plain words.
pub fn pair(recipe: &Recipe, source: &dyn Source, about: &ResolveContext) -> Result<[Vec<u8>; 2], String> {
    let mut before = recipe.clone();
    before.steps.retain(|line| line.moves());
    let sheet_of = |recipe: &Recipe| -> Result<Vec<u8>, String> {
        let plan = Plan::for_picture(recipe.settings(about), source).map_err(|e| e.to_string())?;
        let size = plan.size();
        let program = plan.program((SMALL / f64::from(size.width.max(size.height))).min(1.0));
        let picture = program
            .render(source, program.size().rect(), OutputProfile::Srgb.colour())
            .map_err(|e| e.to_string())?;
        let encoding =
            Encoding::Jpeg { quality: 88, chroma: Chroma::Full, progressive: false, optimised: false };
        rallo_media::encode(&picture, encoding, &Extras::default()).map_err(|e| e.to_string())
    };
    Ok([sheet_of(&before)?, sheet_of(recipe)?])
}

fn words(parts: &[Part]) -> Vec<TextRun<'_>> {
    parts
        .iter()
        .map(|part| match part {
            Part::Text(text) => TextRun { text, strong: false },
            Part::Value { text, .. } => TextRun { text, strong: true },
        })
        .collect()
}

fn one(text: &str, strong: bool) -> [TextRun<'_>; 1] {
    [TextRun { text, strong }]
}

/// A line's values in full, one paragraph for each kind.
fn in_full(line: &ByHand) -> Vec<String> {
    let pairs = line.values.iter().map(|(name, value)| format!("{name} {value}")).collect::<Vec<_>>();
    let values = (!pairs.is_empty()).then(|| pairs.join(" · "));
    values.into_iter().chain(line.sentences()).collect()
}

/// A line's drawing on paper.
fn on_paper(sketch: &Sketch) -> Drawing {
    /// Points of a unit of the drawing.
    const UNIT: f64 = 0.8;
    let on = |v: f64| (v * UNIT) as f32;
    let stroke = |s: &rallo_recipe::SketchStroke| {
        let points = s.points.iter().map(|[x, y]| (on(*x), on(*y))).collect();
        (points, if s.is_broad { 3.0 } else { 0.9 })
    };
    Drawing {
        size: (on(sketch.size[0]), on(sketch.size[1])),
        lines: sketch.strokes.iter().map(stroke).collect(),
        words: sketch.title.clone(),
    }
}

/// The sheet; `about` is the line under the name (version and date).
///
/// # Errors
/// [`MediaError::Encode`].
pub fn settings(recipe: &Recipe, about: &str, pair: Option<[Vec<u8>; 2]>) -> Result<Vec<u8>, MediaError> {
    let mut paper = Paper::new(&recipe.name, A4, 18.0);
    paper.text(&one(&recipe.name, true), Style { size: 20.0, ..Style::default() });
    let mut under = about.to_owned();
    if !recipe.labels.is_empty() {
        under += &format!(" · {}", recipe.labels.join(", "));
    }
    paper.text(&one(&under, false), Style { grey: 100, ..Style::default() });
    if !recipe.note.is_empty() {
        paper.space(8.0);
        paper.text(&one(&recipe.note, false), Style { indent: 12.0, ..Style::default() });
    }
    if let Some([before, after]) = pair {
        paper.space(12.0);
        paper.pictures(&[(before, "before"), (after, "after")], 14.0)?;
    }
    paper.space(12.0);
    let heading = |paper: &mut Paper, text: &str| {
        paper.space(6.0);
        paper.text(&one(text, true), Style::default());
    };
    for (n, line) in recipe.steps.iter().enumerate() {
        for head in recipe.heads(n) {
            heading(&mut paper, &head);
        }
        let mut parts = line.parts(None);
        if !line.on {
            parts.push(Part::Text(" (off)".into()));
        }
        let mark = format!("{}", n + 1);
        let grey = if line.on { 20 } else { 130 };
        paper.text(&words(&parts), Style { indent: 24.0, mark: &mark, grey, ..Style::default() });
        for words in in_full(&line.by_hand()) {
            let small = Style { indent: 36.0, size: 8.5, grey: grey.max(90), ..Style::default() };
            paper.text(&one(&words, false), small);
        }
        let drawings: Vec<Drawing> = line.sketches().iter().map(on_paper).collect();
        paper.drawings(&drawings, 36.0);
        paper.space(3.0);
    }
    if recipe.steps.is_empty() {
        paper.text(&one("No lines: the pictures are only converted.", false), Style::default());
    }
    heading(&mut paper, "Deliveries");
    for delivery in &recipe.deliveries {
        paper.text(&words(&delivery.parts(recipe)), Style { indent: 24.0, mark: "–", ..Style::default() });
    }
    paper.finish()
}
