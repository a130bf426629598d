//! The lines of a recipe as they are for one picture.

use crate::context::ResolveContext;
use crate::delivery::{OutputFrame, Pictures};
use crate::document::Recipe;
use crate::line::Line;
use crate::names;
use rallo_engine::lens::TakenWith;
use rallo_engine::sequence::camera_move::Framed;
use rallo_engine::steps::output::data::Data;
use rallo_engine::{Kind, Plan, PlanError, Settings, Size, Source, Step, step_kind};
use serde_json::{Map, Value, json};
use std::sync::Arc;

/// Adds to values of a step, within their ranges; false where there is no such step.
pub(super) fn moved(at: Option<&mut (Option<usize>, Settings)>, by: &[(&str, f64)], id: &str) -> bool {
    let (Some((_, settings)), Some(kind)) = (at, step_kind(id)) else { return false };
    let Value::Object(mut values) = settings.step.values() else { return false };
    for (name, by) in by {
        let now = values.get(*name).and_then(Value::as_f64).unwrap_or_default() + by;
        let (low, high) = kind.param(name).map_or((None, None), |p| p.kind.range());
        values.insert((*name).into(), json!(now.clamp(low.unwrap_or(f64::MIN), high.unwrap_or(f64::MAX))));
    }
    match kind.parse(&values) {
        Ok(step) => settings.step = Arc::from(step),
        Err(_) => return false,
    }
    true
}

impl Line {
    /// Its step with the values that hold for a picture: those of its ISO, those that were decided for it alone, and
    /// fields in texts filled. `at` is its place in the recipe; a line of a delivery has none.
    pub(super) fn resolved(
        &self,
        recipe: &str,
        context: &ResolveContext,
        at: Option<usize>,
    ) -> Arc<dyn Step> {
        let step = self.with_values(recipe, context, at);
        let frame = &context.frame;
        let taken = || TakenWith {
            camera: frame.camera.clone(),
            lens: frame.lens.clone(),
            focal_length: frame.focal_length,
            aperture: frame.aperture,
            embedded: frame.embedded_lens.clone(),
        };
        step.for_frame(&taken).map_or(step, Arc::from)
    }

    fn with_values(&self, recipe: &str, context: &ResolveContext, at: Option<usize>) -> Arc<dyn Step> {
        let kind = self.kind();
        let iso_table = self.by_iso.as_ref().zip(context.frame.iso);
        let overridden = at.and_then(|at| context.overrides.of_line(at));
        let templates = kind.params.iter().any(|p| matches!(p.kind, Kind::Template(_)));
        if iso_table.is_none() && overridden.is_none() && !templates {
            return self.step.clone();
        }
        let Value::Object(mut values) = self.step.values() else { return self.step.clone() };
        if let Some((iso_table, iso)) = iso_table {
            values.extend(iso_table.at(kind, iso));
        }
        values.extend(overridden.cloned().into_iter().flatten());
        for param in kind.params.iter().filter(|p| matches!(p.kind, Kind::Template(_))) {
            let template = values.get(param.name).and_then(Value::as_str).unwrap_or_default();
            let mut text = names::text(template, recipe, context);
            if let Kind::Template(most) = param.kind {
                text = text.chars().take(most).collect();
            }
            values.insert(param.name.into(), json!(text));
        }
        kind.parse(&values).map_or_else(|_| self.step.clone(), Arc::from)
    }

    /// What the engine does for a picture; nothing where the line is off or its condition is not met. `at` is its place
    /// in the recipe; a line of a delivery has none.
    pub fn settings(&self, recipe: &str, context: &ResolveContext, at: Option<usize>) -> Option<Settings> {
        let applies = self.on && self.when.as_ref().is_none_or(|when| when.met(&context.frame));
        applies.then(|| Settings {
            step: self.resolved(recipe, context, at),
            mix: (self.mix / 100.0) as f32,
            area: self.area.clone(),
            block: None,
        })
    }
}

impl Recipe {
    /// What the engine does for a picture, in order: the lines that are on and apply.
    pub fn settings(&self, context: &ResolveContext) -> Vec<Settings> {
        self.placed(context).into_iter().map(|(_, settings)| settings).collect()
    }

    /// As [`settings`](Self::settings), each with the line it comes from; a frame's own exposure has none where the recipe
    /// has no line for it.
    pub fn placed(&self, context: &ResolveContext) -> Vec<(Option<usize>, Settings)> {
        let lines = self.steps.iter().enumerate();
        let mut resolved: Vec<(Option<usize>, Settings)> =
            lines.filter_map(|(i, line)| Some((Some(i), self.line_settings(i, line, context)?))).collect();
        let adjustments = &context.frame.own;
        let id = |at: &(Option<usize>, Settings)| at.0.map(|i| self.steps[i].id);
        if adjustments.exposure != 0.0
            && !moved(
                resolved.iter_mut().find(|s| id(s) == Some("exposure")),
                &[("stops", adjustments.exposure)],
                "exposure",
            )
        {
            // Behind what repairs the picture: that looks at it as the camera wrote it.
            let repairs = |s: &&(Option<usize>, Settings)| {
                s.0.is_some_and(|i| self.steps[i].kind().info.group == "repair")
            };
            let at = resolved.iter().take_while(repairs).count();
            let values = Map::from_iter([("stops".to_owned(), json!(adjustments.exposure))]);
            if let Some(step) = step_kind("exposure").and_then(|k| k.parse(&values).ok()) {
                resolved.insert(at, (None, Settings::from(step)));
            }
        }
        if adjustments.right != 0.0 || adjustments.down != 0.0 {
            moved(
                resolved.iter_mut().find(|s| id(s) == Some("crop")),
                &[("right", adjustments.right), ("down", adjustments.down)],
                "crop",
            );
        }
        resolved
    }

    /// What the engine does for one of its lines and a picture; nothing where the line or its block is off, or its
    /// condition is not met.
    fn line_settings(&self, at: usize, line: &Line, context: &ResolveContext) -> Option<Settings> {
        let settings = line.settings(&self.name, context, Some(at))?;
        let at = self.blocks.iter().position(|b| Some(&b.name) == line.block.as_ref());
        let Some(at) = at else { return Some(settings) };
        let block = &self.blocks[at];
        let mixed = (block.mix < 100.0).then_some((at as u32, (block.mix / 100.0) as f32));
        block.on.then_some(Settings { block: mixed, ..settings })
    }

    /// The plan for a picture of that size, for sizes and names only: nothing is measured.
    ///
    /// # Errors
    /// [`PlanError`] when a result would be too large.
    pub fn layout(&self, context: &ResolveContext) -> Result<Plan, PlanError> {
        Plan::new(self.settings(context), Size::new(context.frame.width, context.frame.height))
    }

    /// As [`layout`](Self::layout), with what one of its deliveries does after its lines.
    ///
    /// # Errors
    /// As [`layout`](Self::layout).
    pub fn layout_for(
        &self,
        delivery: &Pictures,
        width: Option<u32>,
        context: &ResolveContext,
    ) -> Result<Plan, PlanError> {
        if delivery.is_carried() {
            return Plan::new(Vec::new(), Size::new(context.frame.width, context.frame.height));
        }
        let mut settings = self.settings(context);
        settings.extend(self.after(delivery, width, context));
        Plan::new(settings, Size::new(context.frame.width, context.frame.height))
    }

    /// What one of its deliveries does after its lines: lines of its own, its size, sharpening for that, what is written
    /// over it.
    pub fn after(&self, delivery: &Pictures, width: Option<u32>, context: &ResolveContext) -> Vec<Settings> {
        let step = |id: &str, values: Value| {
            let values = values.as_object().cloned().unwrap_or_default();
            step_kind(id)?.parse(&values).ok().map(Settings::from)
        };
        let context = &delivery.counted(context);
        let lines = delivery.lines.iter().filter_map(|line| line.settings(&self.name, context, None));
        let size = match (&delivery.frame, width, delivery.long_edge) {
            (Some(OutputFrame { window: Some(window), width, height, .. }), _, _) => {
                let size = Size::new(*width, *height);
                Some(Settings::from(Box::new(Framed { window: *window, size }) as Box<dyn Step>))
            }
            (Some(frame), _, _) => {
                let fit = if frame.fit == "fit" { "fit" } else { "fill" };
                step("resize", json!({ fit: [frame.width, frame.height], "enlarge": true }))
            }
            (None, Some(width), _) => step("resize", json!({ "width": width })),
            (None, None, Some(edge)) => step("resize", json!({ "long_edge": edge })),
            (None, None, None) => None,
        };
        let sharpen = (delivery.sharpen > 0.0)
            .then(|| step("output_sharpening", json!({"target": "screen", "strength": delivery.sharpen})))
            .flatten();
        let burned = delivery.burned.as_ref().and_then(|b| {
            let text = names::text(&b.text, &self.name, context);
            // What came of the fields is no template any more.
            let text = text.replace(['{', '}'], "");
            step(
                "watermark",
                json!({"text": text, "place": b.place, "size": b.size, "opacity": 100, "edge": 60}),
            )
        });
        lines.chain(size).chain(sharpen).chain(burned).collect()
    }

    /// The same recipe where deliveries that take the frames' own size have it in pixels: that of the first frame.
    pub fn settled(&self, first: &ResolveContext) -> Self {
        let mut settled = self.clone();
        for delivery in &mut settled.deliveries {
            let bare = Pictures { lines: delivery.lines.clone(), ..Pictures::default() };
            if let Ok(plan) = self.layout_for(&bare, None, first) {
                *delivery = delivery.settled((plan.size().width, plan.size().height));
            }
        }
        settled
    }

    /// The plan for a picture, everything measured.
    ///
    /// # Errors
    /// [`PlanError`] when a result would be too large or the picture cannot be decoded.
    pub fn plan(&self, source: &dyn Source, context: &ResolveContext) -> Result<Plan, PlanError> {
        Plan::for_picture(self.settings(context), source)
    }

    /// What its lines say about the data results carry, in order.
    pub fn data(&self, context: &ResolveContext) -> Vec<Data> {
        let lines = self.steps.iter().enumerate().filter(|(_, line)| line.id == "data");
        lines
            .filter_map(|(at, line)| self.line_settings(at, line, context))
            .filter_map(|settings| serde_json::from_value(settings.step.values()).ok())
            .collect()
    }
}
