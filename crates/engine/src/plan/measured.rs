//! Letting steps that measure see their input before the rest of the plan is placed.

use crate::geometry::{Rect, Size};
use crate::image::source::{Source, SourceError};
use crate::plan::cache::{Memory, key_of};
use crate::plan::fingerprint::fingerprint;
use crate::plan::program::Program;
use crate::plan::{Plan, PlanError, Settings};
use crate::raw::MosaicDenoise;
use crate::step::{View, Wants};
use std::sync::Arc;

/// Long edge of the reduced picture that measured steps are shown, in pixels.
pub(super) const OVERVIEW: f64 = 640.0;

/// Sides, and number each way, of the parts that measured steps are shown at full size.
pub(super) const DETAIL: (i64, i64) = (128, 8);

impl Plan {
    /// Places `steps` on a picture, and lets those that need it measure what they are given there.
    ///
    /// # Errors
    /// [`PlanError`] when a step's result would be too large, or the picture cannot be decoded.
    pub fn for_picture(steps: Vec<Settings>, source: &dyn Source) -> Result<Self, PlanError> {
        Self::remembering(steps, source, None)
    }

    /// As [`for_picture`](Self::for_picture), measuring only what `memory` does not know.
    ///
    /// # Errors
    /// As [`for_picture`](Self::for_picture).
    pub fn remembering(
        mut steps: Vec<Settings>,
        source: &dyn Source,
        memory: Option<&dyn Memory>,
    ) -> Result<Self, PlanError> {
        for i in 0..steps.len() {
            let wants = steps[i].step.wants();
            if wants == Wants::Nothing {
                continue;
            }
            let key = key_of(&(fingerprint(&steps[..=i]), source.seed(), source.state(), source.size()));
            if let Some(known) = memory.and_then(|m| m.recall(key)) {
                steps[i].step = known;
                continue;
            }
            // What it is shown does not depend on its own values; what it makes of it may not either.
            let seen =
                key_of(&(fingerprint(&steps[..i]), &wants, source.seed(), source.state(), source.size()));
            if let Some(like) = memory.and_then(|m| m.recall(seen)).and_then(|m| steps[i].step.like(&*m)) {
                steps[i].step = Arc::from(like);
                continue;
            }
            let views = match memory.and_then(|m| m.recall_views(seen)) {
                Some(known) => known,
                None => {
                    let before = Self::new(steps[..i].to_vec(), source.size())?;
                    let views = before.views(source, &wants).map_err(|e| PlanError::Source(e.0))?;
                    let views = Arc::new(views);
                    if let Some(memory) = memory {
                        memory.keep_views(seen, views.clone());
                    }
                    views
                }
            };
            if let Some(step) = steps[i].step.measured(&views) {
                steps[i].step = Arc::from(step);
                if let Some(memory) = memory {
                    let step = &steps[i].step;
                    memory.keep(if step.as_any().is_some() { seen } else { key }, step.clone());
                }
            }
        }
        Self::put_on_raw(&mut steps, source);
        let mut plan = Self::new(steps, source.size())?;
        plan.seed = source.seed();
        plan.state = source.state();
        Ok(plan)
    }

    /// The first step that does anything, where it works everywhere and wholly and moves nothing: what it is given is the
    /// picture as it was developed.
    fn first_on_developed(steps: &[Settings], size: Size) -> Option<usize> {
        let plan = Self::new(steps.to_vec(), size).ok()?;
        let does = |i: &usize| plan.geometry[*i].is_some() || steps[*i].step.works(&plan.place(*i, 1.0));
        let first = (0..steps.len()).find(does)?;
        let Settings { mix, area, block, .. } = &steps[first];
        let is_whole = *mix >= 1.0 && area.is_none() && block.is_none_or(|b| b.1 >= 1.0);
        (is_whole && plan.geometry[first].is_none()).then_some(first)
    }

    /// That step is told of the camera raw that the source is developed from; where all it does was done to that, the next
    /// one is.
    fn put_on_raw(steps: &mut [Settings], source: &dyn Source) {
        for _ in 0..steps.len() {
            if let Some(first) = Self::first_on_developed(steps, source.size())
                && steps[first].step.works_on_raw()
                && let Some(raw) = source.raw()
                && let Some(step) = steps[first].step.on_raw(&raw)
            {
                let goes_on = step.mosaic_denoise().is_none();
                steps[first].step = Arc::from(step);
                if goes_on {
                    continue;
                }
            }
            return;
        }
    }

    /// What `steps` do to a camera raw of that size before it is demosaiced, if they begin so.
    pub fn mosaic_denoise(steps: &[Settings], size: Size) -> Option<MosaicDenoise> {
        // One that has still to be measured is expected to do something.
        let first = steps.iter().position(|s| s.step.mosaic_denoise().is_some())?;
        // What is done to the sensor's counts themselves stands in nobody's way.
        let others = || steps[..first].iter().filter(|s| !s.step.works_on_raw());
        let before: Vec<Settings> = others().cloned().collect();
        let measures_none = Self::first_on_developed(&before, size).is_none();
        let moves_none = others().all(|s| s.step.geometry(size).is_none());
        let Settings { step, mix, area, block, .. } = &steps[first];
        let is_whole = *mix >= 1.0 && area.is_none() && block.is_none_or(|b| b.1 >= 1.0);
        let does = others().any(|s| s.step.wants() != Wants::Nothing);
        (measures_none && moves_none && is_whole && !does).then(|| step.mosaic_denoise()).flatten()
    }

    /// What a step behind this plan is shown.
    pub(super) fn views(&self, source: &dyn Source, wants: &Wants) -> Result<Vec<View>, SourceError> {
        let view = |program: &Program, rect: Rect| {
            program.render_working(source, rect).map(|(size, pixels)| View { size, pixels, around: None })
        };
        if *wants == Wants::Overview {
            let program = self.program(OVERVIEW / f64::from(self.size().long_edge()));
            return Ok(vec![view(&program, program.size().rect())?]);
        }
        let program = self.program(1.0);
        let size = program.size();
        if let Wants::Around(spots, reach) = wants {
            let view_around = |spot: &[f64; 3]| {
                let around = Wants::around(*spot, *reach, size, source.orientation());
                view(&program, around.2).map(|v| View { around: Some(around), ..v })
            };
            return spots.iter().map(view_around).collect();
        }
        let (side, count) = DETAIL;
        let starts = |length: u32| {
            let length = i64::from(length);
            let many = (length / side).clamp(1, count);
            let room = (length - side).max(0);
            (0..many).map(move |i| if many == 1 { room / 2 } else { room * i / (many - 1) })
        };
        let mut views = Vec::new();
        for y in starts(size.height) {
            for x in starts(size.width) {
                views.push(view(&program, Rect::new(x, y, side, side).within(size.rect()))?);
            }
        }
        Ok(views)
    }
}
