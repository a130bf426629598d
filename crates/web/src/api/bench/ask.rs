//! What a page asks about a recipe on a frame, and what is made ready to answer it.

use super::opened::{MEASURED, Open};
use super::view::{Moved, Shown, ViewAsk, geometry, part_of};
use crate::App;
use crate::api::document::Document;
use crate::error::{Error, Result};
use crate::full_quality::{Denoised, FullQuality};
use rallo_engine::plan::fingerprint;
use rallo_engine::step::StepInfo;
use rallo_engine::{Plan, Rect, Settings, Source};
use rallo_recipe::Recipe;
use rallo_runner::render::intermediate;
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;

/// What a page asks about a recipe on a frame.
#[derive(Clone, Deserialize, JsonSchema)]
pub struct Ask {
    /// The document.
    pub recipe: Document,
    /// The frame.
    #[schemars(range(min = 1))]
    pub frame: i64,
    /// Only the first so many lines.
    pub upto: Option<usize>,
    /// Only geometry, to compare with.
    #[serde(default)]
    pub before: bool,
    /// Part of the result, in its pixels at the scale.
    #[serde(default)]
    pub region: Option<[i64; 4]>,
    /// 1 is full size.
    #[serde(default)]
    #[schemars(range(min = 0.0001, max = 1.0))]
    pub scale: Option<f64>,
    /// A place in the result, as shares of its sides.
    #[serde(default)]
    pub at: Option<[f64; 2]>,
    /// The line that is being changed: what stands before it is kept from one render to the next.
    #[serde(default)]
    pub from: Option<usize>,
    /// Scopes and the like before the picture. At half size and more, what is still to be denoised is then shown without
    /// that and told as a stand-in, instead of being waited for.
    #[serde(default)]
    pub head: bool,
    /// Show what is clipped instead of the picture.
    #[serde(default)]
    pub clip: bool,
    /// Wait until more of the true picture is there than what was known before, where a stand-in was shown.
    #[serde(default)]
    pub more: Option<usize>,
    /// Instead of a region and a scale: how the picture is looked at.
    #[serde(default)]
    pub view: Option<ViewAsk>,
    /// The recipe that the view belongs to, where this is only compared with it: where they frame the picture differently,
    /// the same place is shown at the same scale.
    #[serde(default)]
    pub beside: Option<Document>,
    /// Leave out what would have to be measured first.
    #[serde(default)]
    pub quick: bool,
    /// Measure what a picture costs, which takes a while, instead of telling it from the machine's table.
    #[serde(default)]
    pub measure: bool,
}

/// Scale below which a stand-in is shown without denoising.
pub(super) const STAND_IN: f64 = 0.5;

/// What a render needs.
pub(super) struct Prepared {
    pub(super) plan: Plan,
    pub(super) source: Arc<dyn Source + Send + Sync>,
    /// The picture after its denoising, as far as it is computed, where that is the source.
    pub(super) denoised: Option<Arc<Denoised>>,
    /// The denoising was left out.
    pub(super) left_out: bool,
}

impl Ask {
    /// The document, checked.
    pub fn recipe(&self) -> Result<Recipe> {
        Ok(self.recipe.read()?)
    }

    /// The recipe as far as it is asked for.
    pub(super) fn part(&self, recipe: &Recipe) -> Recipe {
        let mut recipe = recipe.clone();
        recipe.steps.truncate(self.upto.unwrap_or(usize::MAX));
        if self.before { recipe.framing() } else { recipe }
    }

    /// The recipe's plan for the frame, as far as it is asked for.
    pub fn plan(&self, recipe: &Recipe, frame: &Open) -> Result<Plan> {
        let settings = self.part(recipe).settings(&frame.about);
        Plan::remembering(settings, &*frame.source, Some(&*MEASURED)).map_err(Error::bad)
    }

    /// As [`plan`](Self::plan), without what would have to be measured: sizes and places are the same.
    pub(super) fn outline(&self, recipe: &Recipe, frame: &Open) -> Result<Plan> {
        Plan::new(self.part(recipe).settings(&frame.about), frame.source.size()).map_err(Error::bad)
    }

    /// What is shown, by the view or by region and scale.
    pub(super) fn shown(&self, recipe: &Recipe, frame: &Open) -> Result<Shown> {
        let plan = self.outline(recipe, frame)?;
        let size = plan.size();
        let Some(view) = &self.view else {
            let scale = self.scale.unwrap_or(1.0).clamp(1e-4, 1.0);
            let whole = plan.program(scale).size().rect();
            let region = self.region.map_or(whole, |[x, y, w, h]| Rect::new(x, y, w, h)).within(whole);
            let side = |v: i64| v as f64 / scale;
            let area = [side(region.x), side(region.y), side(region.right()), side(region.bottom())];
            return Ok(Shown { scale, region, area, size, geometry: geometry(&plan), is_alike: true });
        };
        view.check()?;
        let geometry_here = geometry(&plan);
        let Some(beside) = &self.beside else {
            return Ok(part_of(&plan, view.zoom(size), view.seen(size), None, (size, geometry_here)));
        };
        // The view's own recipe decides what is seen.
        let main = Ask { upto: None, before: false, ..self.clone() };
        let main = main.outline(&beside.read()?, frame)?;
        let (size, its) = (main.size(), geometry(&main));
        let (zoom, seen) = (view.zoom(size), view.seen(size));
        if its == geometry_here {
            return Ok(part_of(&plan, zoom, seen, None, (size, its)));
        }
        // The same place of the source in the middle, as large as there.
        let middle = ((seen[0] + seen[2]) / 2.0, (seen[1] + seen[3]) / 2.0);
        let at = plan.output_point(main.source_point(middle));
        let times = main.source_step(middle) / at.map_or(1.0, |at| plan.source_step(at)).max(1e-9);
        let Some(at) = at.filter(|_| times.is_finite() && times > 0.0) else {
            return Err(Error::bad("this recipe shows another part of the picture"));
        };
        let to_own = |v: f64, of: f64, own_middle: f64| (v - of) * times + own_middle;
        let part = [
            to_own(seen[0], middle.0, at.0),
            to_own(seen[1], middle.1, at.1),
            to_own(seen[2], middle.0, at.0),
            to_own(seen[3], middle.1, at.1),
        ];
        Ok(part_of(&plan, zoom / times, part, Some(Moved { times, middle, at }), (size, its)))
    }

    /// The first lines up to the denoising, where there is one, with a key for them.
    pub(super) fn first(
        &self,
        frame: &Open,
        settings: &[Settings],
        steps: &[&StepInfo],
    ) -> Option<(usize, String)> {
        let n = intermediate::lines(steps).filter(|_| !self.before)?;
        Some((n, format!("{} {}", frame.key, fingerprint(&settings[..n]))))
    }

    /// What is there of the picture after its denoising; `begin` begins it where there is nothing yet.
    pub(super) fn denoised(
        &self,
        recipe: &Recipe,
        frame: &Open,
        full: &FullQuality,
        begin: bool,
    ) -> Option<Arc<Denoised>> {
        let recipe = self.part(recipe);
        let placed = recipe.placed(&frame.about);
        let steps = intermediate::infos(&recipe, &placed);
        let settings: Vec<Settings> = placed.into_iter().map(|(_, settings)| settings).collect();
        let (n, key) = self.first(frame, &settings, &steps)?;
        if !begin {
            return full.peek(&key);
        }
        let denoises: Vec<bool> = steps[..n].iter().map(|step| step.facts.expensive).collect();
        full.open(&key, settings[..n].to_vec(), &denoises, &frame.source, &*MEASURED)
    }

    /// As [`plan`](Self::plan), from the sample joined with the frames beside it, where a line does that.
    fn joined(&self, recipe: &Recipe, frame: &Open, app: &App) -> Result<Option<Prepared>> {
        let Some(sample) = frame.sample.as_ref().filter(|_| !self.before) else { return Ok(None) };
        let recipe = self.part(recipe);
        let Some(source) = sample.joined(&recipe, (&frame.source, &frame.about), &app.previews.memory) else {
            return Ok(None);
        };
        let join = source.line();
        let behind = |line: &Option<usize>| line.is_some_and(|line| line > join);
        // One without a line stands before the first line behind.
        let placed = recipe.placed(&frame.about);
        let first = placed.iter().position(|(line, _)| behind(line)).unwrap_or(placed.len());
        let placed = &placed[first..];
        let settings = placed.iter().map(|(_, settings)| settings.clone()).collect();
        let plan = Plan::remembering(settings, &*source, Some(&*MEASURED)).map_err(Error::bad)?;
        let from = self.from.filter(|from| *from > join);
        let plan = match from {
            Some(from) => {
                plan.cut_before(placed.iter().take_while(|(l, _)| l.is_none_or(|l| l < from)).count())
            }
            None => plan,
        };
        Ok(Some(Prepared { plan, source, denoised: None, left_out: false }))
    }

    /// As [`plan`](Self::plan), from the sample after its denoising as far as that is there.
    pub(super) fn prepared(&self, recipe: &Recipe, frame: &Open, app: &App, scale: f64) -> Result<Prepared> {
        if let Some(joined) = self.joined(recipe, frame, app)? {
            return Ok(joined);
        }
        let full = &app.full;
        // Only who reads the head learns that parts are still to come; others wait for the whole truth.
        let begin = self.head && (scale >= STAND_IN || self.more.is_some());
        let whole = frame.source.size().rect();
        let denoised = self.denoised(recipe, frame, full, begin).filter(|d| self.head || d.is_done(whole));
        let recipe = self.part(recipe);
        // Lines that do not apply have no place in the plan.
        let placed = recipe.placed(&frame.about);
        let mut from =
            self.from.map(|line| placed.iter().take_while(|(l, _)| l.is_none_or(|l| l < line)).count());
        let steps = intermediate::infos(&recipe, &placed);
        let mut settings: Vec<_> = placed.into_iter().map(|(_, settings)| settings).collect();
        let mut source: Arc<dyn Source + Send + Sync> = frame.source.clone();
        let mut left_out = false;
        if let Some((n, _)) = self.first(frame, &settings, &steps) {
            match &denoised {
                Some(denoised) => {
                    source = denoised.clone();
                    settings.drain(..n);
                    from = from.and_then(|f| f.checked_sub(n));
                }
                // So much smaller, the noise averages out by itself; denoising comes with the true picture.
                None if scale < STAND_IN => {
                    left_out = true;
                    let mut at = 0;
                    settings.retain(|_| {
                        at += 1;
                        !steps[at - 1].facts.expensive
                    });
                    let gone = |n: usize| steps[..n].iter().filter(|step| step.facts.expensive).count();
                    from = from.map(|f| f - gone(f));
                }
                None => {}
            }
        }
        let plan = Plan::remembering(settings, &*source, Some(&*MEASURED)).map_err(Error::bad)?;
        let plan = match from {
            Some(line) => plan.cut_before(line),
            None => plan,
        };
        Ok(Prepared { plan, source, denoised, left_out })
    }
}
