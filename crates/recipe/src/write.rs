//! Writing a document, and the identity of what it makes.

use crate::VERSION;
use crate::context::ResolveContext;
use crate::delivery::{Delivery, Pictures};
use crate::document::{Block, Recipe};
use crate::line::Line;
use crate::text::tidy;
use rallo_engine::{Settings, step_kind};
use serde_json::{Map, Value, json};

impl Line {
    /// The document's form, values that are defaults left out.
    pub fn to_value(&self) -> Value {
        let mut map = Map::new();
        map.insert("step".into(), json!(self.id));
        let (values, defaults) = (self.step.values(), self.kind().defaults());
        for (key, value) in values.as_object().into_iter().flatten() {
            if defaults.get(key) != Some(value) {
                map.insert(key.clone(), tidy(value));
            }
        }
        if !self.on {
            map.insert("on".into(), json!(false));
        }
        if self.mix < 100.0 {
            map.insert("mix".into(), tidy(&json!(self.mix)));
        }
        if let Some(area) = &self.area {
            map.insert("area".into(), tidy(&json!(**area)));
        }
        if let Some(when) = &self.when {
            map.insert("when".into(), json!(when.text()));
        }
        if let Some(iso_table) = &self.by_iso {
            map.insert("by_iso".into(), iso_table.to_value());
        }
        if let Some(ramp) = &self.ramp {
            map.insert("ramp".into(), ramp.to_value());
        }
        if !self.ask.is_empty() {
            map.insert("ask".into(), json!(self.ask));
        }
        for (key, text) in [("checkpoint", &self.checkpoint), ("block", &self.block)] {
            if let Some(text) = text {
                map.insert(key.into(), json!(text));
            }
        }
        Value::Object(map)
    }
}

impl Recipe {
    /// The document, values that are defaults left out.
    pub fn to_value(&self) -> Value {
        let steps: Vec<Value> = self.steps.iter().map(Line::to_value).collect();
        let mut map = Map::new();
        map.insert("format".into(), json!("rallo-recipe"));
        map.insert("version".into(), json!(VERSION));
        map.insert("name".into(), json!(self.name));
        if !self.note.is_empty() {
            map.insert("note".into(), json!(self.note));
        }
        if !self.labels.is_empty() {
            map.insert("labels".into(), json!(self.labels));
        }
        if !self.decode.is_usual() {
            map.insert("decode".into(), json!(self.decode));
        }
        map.insert("steps".into(), Value::Array(steps));
        if !self.blocks.is_empty() {
            map.insert("blocks".into(), self.blocks.iter().map(Block::to_value).collect());
        }
        map.insert("deliveries".into(), self.deliveries.iter().map(Delivery::to_value).collect());
        Value::Object(map)
    }

    /// A text that is the same for two recipes exactly when they make the same file from the same picture by
    /// `delivery`; names and targets do not count.
    pub fn identity(&self, delivery: &Pictures, context: &ResolveContext) -> String {
        let identity_of = |(line, s): (Option<usize>, Settings)| {
            let line = line.map(|i| &self.steps[i]);
            let mut value = json!({"step": line.map_or("exposure", |l| l.id), "mix": line.map_or(100.0, |l| l.mix),
                "values": s.step.values(), "area": s.area.as_deref()});
            if let Some(block) = s.block {
                value["block"] = json!(block);
            }
            if let Some(known) = s.step.known_of_frame() {
                value["known"] = json!(known);
            }
            value
        };
        let mut steps: Vec<Value> = self.placed(context).into_iter().map(identity_of).collect();
        if delivery.is_carried() {
            let shapes = |id: &Value| {
                let kind = id.as_str().and_then(step_kind);
                delivery.shaped && kind.is_some_and(|kind| kind.info.facts.shapes)
            };
            let on_raw = |id: &Value| delivery.is_dng() && (*id == "denoise" || shapes(id));
            steps.retain(|s| s["step"] == "data" || on_raw(&s["step"]));
        }
        let mut identity = json!({"version": VERSION, "steps": steps, "delivery": delivery.identity()});
        if !delivery.lines.is_empty() {
            let context = &delivery.counted(context);
            let lines =
                delivery.lines.iter().filter_map(|l| Some((l, l.settings(&self.name, context, None)?)));
            let lines = lines.map(|(l, s)| {
                json!({"step": l.id, "mix": l.mix, "values": s.step.values(), "area": s.area.as_deref()})
            });
            identity["own"] = lines.collect();
        }
        // Nothing is added where files are read as usual, so that results of earlier versions are known again.
        identity.to_string() + &self.decode.fingerprint()
    }
}

impl Block {
    pub(super) fn to_value(&self) -> Value {
        let mut map = Map::from_iter([("name".to_owned(), json!(self.name))]);
        if !self.on {
            map.insert("on".into(), json!(false));
        }
        if self.mix < 100.0 {
            map.insert("mix".into(), tidy(&json!(self.mix)));
        }
        if let Some(from) = &self.from {
            let value = json!({"recipe": from.recipe, "version": from.version, "follow": from.follow});
            map.insert("from".into(), value);
        }
        Value::Object(map)
    }
}
