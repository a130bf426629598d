//! The recipe document: steps, deliveries, names; validation, schema, plain sentences.
//!
//! A recipe is JSON (`"format": "rallo-recipe"`, version 1). [`Recipe::parse`] checks all of it and names every
//! fault by its path; [`schema::schema`] publishes the shape; both come from the descriptions of the steps.

pub mod advice;
mod blocks;
pub mod condition;
pub mod delivery;
mod diff;
pub mod file;
pub mod names;
pub mod schema;
pub mod sentence;
mod starters;

pub use advice::{Advice, advice};
pub use condition::{Condition, Ladder, Own, Subject};
pub use delivery::{Bundle, Delivery, Pictures, Task};
pub use diff::difference;
pub use sentence::Part;
pub use starters::starters;

use delivery::Frame;
use rallo_engine::sequence::camera_move::Framed;
use rallo_engine::step::AREA_GROUPS;
use rallo_engine::steps::output::data::Data;
use rallo_engine::{
    Area, Kind, Param, Plan, PlanError, Settings, Size, Source, Step, StepKind, registry, step_kind,
};
use serde_json::{Map, Value, json};
use std::fmt;
use std::sync::Arc;

/// The version this program writes and the newest it reads.
pub const VERSION: u64 = 1;

/// Most steps a recipe may have.
pub const MAX_STEPS: usize = 100;

/// One fault, with the place it is at.
#[derive(Clone, Debug, PartialEq)]
pub struct Fault {
    /// Such as `steps[2].crop.proportion`.
    pub path: String,
    /// What was expected and what came.
    pub message: String,
}

impl fmt::Display for Fault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.path.is_empty() {
            f.write_str(&self.message)
        } else {
            write!(f, "{}: {}", self.path, self.message)
        }
    }
}

/// Everything that is wrong with a document.
#[derive(Clone, Debug, thiserror::Error)]
#[error("{}", .0.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"))]
pub struct Faults(pub Vec<Fault>);

/// One line of a recipe.
#[derive(Clone, Debug)]
pub struct Line {
    /// The step with its values.
    pub step: Arc<dyn Step>,
    /// The step's name in recipes.
    pub id: &'static str,
    /// Whether it is done.
    pub on: bool,
    /// How much of it, 0 ..= 100 %.
    pub mix: f64,
    /// Where in the picture it works; everywhere without one.
    pub area: Option<Arc<Area>>,
    /// For which pictures; all without one.
    pub when: Option<Condition>,
    /// Its values per ISO, over those it has.
    pub by_iso: Option<Ladder>,
    /// Parameters a run asks for at its start.
    pub ask: Vec<&'static str>,
    /// A run waits for a yes before this line; what is to be looked at.
    pub checkpoint: Option<String>,
    /// The block it belongs to, by name.
    pub block: Option<String>,
}

/// Neighbouring lines with one name, one mix and one on/off.
#[derive(Clone, Debug, PartialEq)]
pub struct Block {
    /// Not empty, and no other block's.
    pub name: String,
    /// Whether its lines are done.
    pub on: bool,
    /// How much of what it does, 0 ..= 100 %.
    pub mix: f64,
    /// The recipe its lines were taken from, if they were.
    pub from: Option<TakenFrom>,
}

/// A recipe whose lines stand in a block of another one.
#[derive(Clone, Debug, PartialEq)]
pub struct TakenFrom {
    /// Its name.
    pub recipe: String,
    /// The version that stands in the block.
    pub version: i64,
    /// Whether later versions are taken over.
    pub follow: bool,
}

impl Line {
    /// A line that is on, for every picture and all of it.
    pub fn new(kind: &StepKind, step: Box<dyn Step>) -> Self {
        let step = Arc::from(step);
        Self {
            step,
            id: kind.info.id,
            on: true,
            mix: 100.0,
            area: None,
            when: None,
            by_iso: None,
            ask: Vec::new(),
            checkpoint: None,
            block: None,
        }
    }

    /// The kind of its step.
    pub fn kind(&self) -> &'static StepKind {
        // A line is only made from a registered kind.
        step_kind(self.id).unwrap_or(registry()[0])
    }

    /// Its step with the values that hold for a picture: those of its ISO, and fields in texts filled.
    fn resolved(&self, recipe: &str, subject: &Subject) -> Arc<dyn Step> {
        let kind = self.kind();
        let ladder = self.by_iso.as_ref().zip(subject.iso);
        let templates = kind.params.iter().any(|p| matches!(p.kind, Kind::Template(_)));
        if ladder.is_none() && !templates {
            return self.step.clone();
        }
        let Value::Object(mut values) = self.step.values() else { return self.step.clone() };
        if let Some((ladder, iso)) = ladder {
            values.extend(ladder.at(kind, iso));
        }
        for param in kind.params.iter().filter(|p| matches!(p.kind, Kind::Template(_))) {
            let template = values.get(param.name).and_then(Value::as_str).unwrap_or_default();
            let mut text = names::text(template, recipe, subject);
            if let Kind::Template(most) = param.kind {
                text = text.chars().take(most).collect();
            }
            values.insert(param.name.into(), json!(text));
        }
        kind.parse(&values).map_or_else(|_| self.step.clone(), Arc::from)
    }

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
        if let Some(ladder) = &self.by_iso {
            map.insert("by_iso".into(), ladder.to_value());
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

    /// What the engine does for a picture; nothing where the line is off or its condition is not met.
    pub fn settings(&self, recipe: &str, subject: &Subject) -> Option<Settings> {
        let applies = self.on && self.when.as_ref().is_none_or(|when| when.met(subject));
        applies.then(|| Settings {
            step: self.resolved(recipe, subject),
            mix: (self.mix / 100.0) as f32,
            area: self.area.clone(),
            block: None,
        })
    }

    /// Whether it cannot be mixed together with other lines.
    fn stands_alone(&self) -> bool {
        self.kind().info.stands_alone()
    }
}

impl Recipe {
    /// Lines before which a run waits for a yes, with what is to be looked at.
    pub fn checkpoints(&self) -> Vec<(usize, &str)> {
        let wait =
            |(i, line): (usize, &'_ Line)| line.checkpoint.as_ref().filter(|_| self.is_on(line)).map(|_| i);
        let at: Vec<usize> = self.steps.iter().enumerate().filter_map(wait).collect();
        at.into_iter().map(|i| (i, self.steps[i].checkpoint.as_deref().unwrap_or_default())).collect()
    }
}

/// A checked recipe.
#[derive(Clone, Debug)]
pub struct Recipe {
    /// Name, not empty.
    pub name: String,
    /// Anything people want to remember.
    pub note: String,
    /// Labels to find it by.
    pub labels: Vec<String>,
    /// The steps, in order.
    pub steps: Vec<Line>,
    /// What binds some of them together.
    pub blocks: Vec<Block>,
    /// Where the results go.
    pub deliveries: Vec<Delivery>,
}

/// Collects faults while reading.
struct Reading {
    faults: Vec<Fault>,
}

impl Reading {
    fn fault(&mut self, path: impl Into<String>, message: impl Into<String>) {
        self.faults.push(Fault { path: path.into(), message: message.into() });
    }

    fn text(&mut self, map: &Map<String, Value>, key: &str, most: usize) -> String {
        match map.get(key) {
            None => String::new(),
            Some(Value::String(s)) if s.chars().count() <= most => s.clone(),
            Some(other) => {
                self.fault(key, format!("expected text of at most {most} characters, got {}", brief(other)));
                String::new()
            }
        }
    }

    /// The lines of a list that stands at `path`.
    fn lines(&mut self, path: &str, value: &Value) -> Vec<Line> {
        match value {
            Value::Array(all) if all.len() <= MAX_STEPS => {
                all.iter().enumerate().filter_map(|(i, v)| self.line(format!("{path}[{i}]"), v)).collect()
            }
            Value::Array(all) => {
                self.fault(path, format!("expected at most {MAX_STEPS} steps, got {}", all.len()));
                Vec::new()
            }
            other => {
                self.fault(path, format!("expected a list of steps, got {}", brief(other)));
                Vec::new()
            }
        }
    }

    fn line(&mut self, at: String, value: &Value) -> Option<Line> {
        let Value::Object(map) = value else {
            self.fault(at, format!("expected an object with \"step\", got {}", brief(value)));
            return None;
        };
        let Some(id) = map.get("step").and_then(Value::as_str) else {
            self.fault(format!("{at}.step"), "expected the name of a step");
            return None;
        };
        let Some(kind) = step_kind(id) else {
            let all: Vec<_> = registry().iter().map(|k| k.info.id).collect();
            self.fault(format!("{at}.step"), format!("unknown step {id:?}, known are {}", all.join(", ")));
            return None;
        };
        let before = self.faults.len();
        let mut values = Map::new();
        let (mut on, mut mix) = (true, 100.0);
        let (mut area, mut when, mut by_iso) = (None, None, None);
        let (mut asked, mut checkpoint, mut block) = (Vec::new(), None, None);
        for (key, value) in map {
            match key.as_str() {
                "step" => {}
                "on" => match value.as_bool() {
                    Some(v) => on = v,
                    None => self.fault(
                        format!("{at}.{id}.on"),
                        format!("expected true or false, got {}", brief(value)),
                    ),
                },
                "mix" => match value.as_f64().filter(|v| (0.0..=100.0).contains(v)) {
                    Some(v) => mix = v,
                    None => self.fault(
                        format!("{at}.{id}.mix"),
                        format!("expected a number from 0 to 100, got {}", brief(value)),
                    ),
                },
                "area" if !kind.info.takes_area() => self.fault(
                    format!("{at}.{id}.area"),
                    format!(
                        "{id} works on the whole picture; only steps of {} take an area",
                        AREA_GROUPS.join(", ")
                    ),
                ),
                "area" => match Area::read(value) {
                    Ok(read) => area = Some(Arc::new(read)),
                    Err(e) => self.fault(format!("{at}.{id}.{}", e.path), e.message),
                },
                "when" => match value.as_str().map(Condition::parse) {
                    Some(Ok(condition)) => when = Some(condition),
                    Some(Err(message)) => self.fault(format!("{at}.{id}.when"), message),
                    None => self.fault(
                        format!("{at}.{id}.when"),
                        format!("expected a condition such as \"iso at least 1600\", got {}", brief(value)),
                    ),
                },
                "by_iso" => match Ladder::read(kind, value) {
                    Ok(ladder) => by_iso = Some(ladder),
                    Err((path, message)) => self.fault(format!("{at}.{id}.{path}"), message),
                },
                "ask" => match ask(kind, value) {
                    Ok(names) => asked = names,
                    Err(message) => self.fault(format!("{at}.{id}.ask"), message),
                },
                "checkpoint" | "block" => match value.as_str().map(str::trim) {
                    Some(text) if !text.is_empty() && text.chars().count() <= 200 => {
                        let to = if key == "block" { &mut block } else { &mut checkpoint };
                        *to = Some(text.to_owned());
                    }
                    _ => self.fault(
                        format!("{at}.{id}.{key}"),
                        format!("expected text of 1 to 200 characters, got {}", brief(value)),
                    ),
                },
                _ => {
                    values.insert(key.clone(), value.clone());
                }
            }
        }
        // Every parameter by itself first, so that all faults are told at once.
        for (key, value) in &values {
            let Some(param) = kind.param(key) else { continue };
            if let Err(e) = param.check(value) {
                self.fault(format!("{at}.{id}.{}", e.path), e.message);
            } else if let (Kind::Template(_), Some(text)) = (param.kind, value.as_str())
                && let Err(message) = names::check_text(text)
            {
                self.fault(format!("{at}.{id}.{key}"), message);
            }
        }
        if self.faults.len() > before {
            return None;
        }
        match kind.parse(&values) {
            Ok(step) => Some(Line {
                on,
                mix,
                area,
                when,
                by_iso,
                ask: asked,
                checkpoint,
                block,
                ..Line::new(kind, step)
            }),
            Err(e) => {
                self.fault(format!("{at}.{id}.{}", e.path), e.message);
                None
            }
        }
    }
}

/// Lines of a delivery alone; a run asks and waits for the recipe's own lines only.
fn own_lines(path: &str, value: &Value) -> Result<Vec<Line>, Vec<Fault>> {
    let mut r = Reading { faults: Vec::new() };
    let lines = r.lines(path, value);
    for (i, line) in lines.iter().enumerate() {
        if line.block.is_some() || line.checkpoint.is_some() || !line.ask.is_empty() {
            let message = "lines of a delivery have no block, no checkpoint and ask for nothing";
            r.fault(format!("{path}[{i}].{}", line.id), message);
        }
    }
    if r.faults.is_empty() { Ok(lines) } else { Err(r.faults) }
}

/// Names of parameters a run asks for.
fn ask(kind: &'static StepKind, value: &Value) -> Result<Vec<&'static str>, String> {
    let names: Vec<&str> = kind.params.iter().map(|p| p.name).collect();
    let wrong = |value: &Value| {
        format!(
            "expected a list of parameters of {} ({}), got {}",
            kind.info.id,
            names.join(", "),
            brief(value)
        )
    };
    let all = value.as_array().ok_or_else(|| wrong(value))?;
    all.iter()
        .map(|name| name.as_str().and_then(|n| kind.param(n)).map(|p| p.name).ok_or_else(|| wrong(name)))
        .collect()
}

pub(crate) fn brief(value: &Value) -> String {
    let text = value.to_string();
    if text.chars().count() > 40 { text.chars().take(40).chain(['…']).collect() } else { text }
}

impl Recipe {
    /// An empty recipe with the ordinary delivery.
    pub fn new(name: &str) -> Self {
        Self {
            name: name.to_owned(),
            note: String::new(),
            labels: Vec::new(),
            steps: Vec::new(),
            blocks: Vec::new(),
            deliveries: vec![Delivery::default()],
        }
    }

    /// Reads and checks a document.
    ///
    /// # Errors
    /// [`Faults`], every one with its path.
    pub fn parse(text: &str) -> Result<Self, Faults> {
        let value: Value = serde_json::from_str(text).map_err(|e| {
            Faults(vec![Fault { path: String::new(), message: format!("this is not valid JSON: {e}") }])
        })?;
        Self::from_value(&value)
    }

    /// As [`parse`](Self::parse), from JSON already read.
    ///
    /// # Errors
    /// As [`parse`](Self::parse).
    pub fn from_value(value: &Value) -> Result<Self, Faults> {
        let mut r = Reading { faults: Vec::new() };
        let Value::Object(map) = value else {
            r.fault("", format!("expected a recipe (an object), got {}", brief(value)));
            return Err(Faults(r.faults));
        };
        if map.get("format").and_then(Value::as_str) != Some("rallo-recipe") {
            r.fault(
                "format",
                format!(
                    "expected \"rallo-recipe\", got {}",
                    map.get("format").map_or("nothing".into(), brief)
                ),
            );
        }
        match map.get("version").and_then(Value::as_u64) {
            Some(VERSION) => {}
            Some(v) if v > VERSION => {
                r.fault("version", format!("this recipe is of version {v}, this program reads up to {VERSION}; use a newer program"));
            }
            _ => r.fault(
                "version",
                format!("expected {VERSION}, got {}", map.get("version").map_or("nothing".into(), brief)),
            ),
        }
        let known = ["format", "version", "name", "note", "labels", "steps", "blocks", "deliveries"];
        for key in map.keys().filter(|k| !known.contains(&k.as_str())) {
            r.fault(key.clone(), format!("unknown, a recipe has {}", known.join(", ")));
        }
        let name = r.text(map, "name", 120);
        if name.trim().is_empty() && map.get("name").is_none_or(Value::is_string) {
            r.fault("name", "expected a name");
        }
        let note = r.text(map, "note", 4000);
        let mut labels = Vec::new();
        match map.get("labels") {
            None => {}
            Some(Value::Array(all)) => {
                for (i, label) in all.iter().enumerate() {
                    match label.as_str() {
                        Some(s) => labels.push(s.to_owned()),
                        None => {
                            r.fault(format!("labels[{i}]"), format!("expected text, got {}", brief(label)))
                        }
                    }
                }
            }
            Some(other) => r.fault("labels", format!("expected a list of texts, got {}", brief(other))),
        }
        let steps = map.get("steps").map(|v| r.lines("steps", v)).unwrap_or_default();
        let blocks = r.blocks(map.get("blocks"), &steps);
        let deliveries = match map.get("deliveries") {
            None => Vec::new(),
            Some(Value::Array(all)) => {
                let mut good = Vec::new();
                for (i, value) in all.iter().enumerate() {
                    let path = format!("deliveries[{i}]");
                    match Delivery::read(&path, value, |v| own_lines(&format!("{path}.steps"), v)) {
                        Ok(delivery) => good.push(delivery),
                        Err(mut faults) => r.faults.append(&mut faults),
                    }
                }
                good
            }
            Some(other) => {
                r.fault("deliveries", format!("expected a list of deliveries, got {}", brief(other)));
                Vec::new()
            }
        };
        if r.faults.is_empty() {
            Ok(Self { name, note, labels, steps, blocks, deliveries })
        } else {
            Err(Faults(r.faults))
        }
    }

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
        map.insert("steps".into(), Value::Array(steps));
        if !self.blocks.is_empty() {
            map.insert("blocks".into(), self.blocks.iter().map(Block::to_value).collect());
        }
        map.insert("deliveries".into(), self.deliveries.iter().map(Delivery::to_value).collect());
        Value::Object(map)
    }

    /// What the engine does for a picture, in order: the lines that are on and apply.
    pub fn settings(&self, subject: &Subject) -> Vec<Settings> {
        self.placed(subject).into_iter().map(|(_, settings)| settings).collect()
    }

    /// As [`settings`](Self::settings), each with the line it comes from; a frame's own exposure has none where the recipe
    /// has no line for it.
    pub fn placed(&self, subject: &Subject) -> Vec<(Option<usize>, Settings)> {
        let lines = self.steps.iter().enumerate();
        let mut all: Vec<(Option<usize>, Settings)> =
            lines.filter_map(|(i, line)| Some((Some(i), self.line_settings(line, subject)?))).collect();
        let own = &subject.own;
        let id = |at: &(Option<usize>, Settings)| at.0.map(|i| self.steps[i].id);
        if own.exposure != 0.0
            && !moved(
                all.iter_mut().find(|s| id(s) == Some("exposure")),
                &[("stops", own.exposure)],
                "exposure",
            )
        {
            // Behind what repairs the picture: that looks at it as the camera wrote it.
            let repairs = |s: &&(Option<usize>, Settings)| {
                s.0.is_some_and(|i| self.steps[i].kind().info.group == "repair")
            };
            let at = all.iter().take_while(repairs).count();
            let values = Map::from_iter([("stops".to_owned(), json!(own.exposure))]);
            if let Some(step) = step_kind("exposure").and_then(|k| k.parse(&values).ok()) {
                all.insert(at, (None, Settings::from(step)));
            }
        }
        if own.right != 0.0 || own.down != 0.0 {
            moved(
                all.iter_mut().find(|s| id(s) == Some("crop")),
                &[("right", own.right), ("down", own.down)],
                "crop",
            );
        }
        all
    }

    /// What the engine does for one of its lines and a picture; nothing where the line or its block is off, or its
    /// condition is not met.
    pub fn line_settings(&self, line: &Line, subject: &Subject) -> Option<Settings> {
        let settings = line.settings(&self.name, subject)?;
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
    pub fn layout(&self, subject: &Subject) -> Result<Plan, PlanError> {
        Plan::new(self.settings(subject), Size::new(subject.width, subject.height))
    }

    /// As [`layout`](Self::layout), with what one of its deliveries does after its lines.
    ///
    /// # Errors
    /// As [`layout`](Self::layout).
    pub fn layout_for(
        &self,
        delivery: &Pictures,
        width: Option<u32>,
        subject: &Subject,
    ) -> Result<Plan, PlanError> {
        if delivery.is_carried() {
            return Plan::new(Vec::new(), Size::new(subject.width, subject.height));
        }
        let mut settings = self.settings(subject);
        settings.extend(self.after(delivery, width, subject));
        Plan::new(settings, Size::new(subject.width, subject.height))
    }

    /// What one of its deliveries does after its lines: lines of its own, its size, sharpening for that, what is written
    /// over it.
    pub fn after(&self, delivery: &Pictures, width: Option<u32>, subject: &Subject) -> Vec<Settings> {
        let step = |id: &str, values: Value| {
            let values = values.as_object().cloned().unwrap_or_default();
            step_kind(id)?.parse(&values).ok().map(Settings::from)
        };
        let subject = &delivery.counted(subject);
        let lines = delivery.lines.iter().filter_map(|line| line.settings(&self.name, subject));
        let size = match (&delivery.frame, width, delivery.long_edge) {
            (Some(Frame { window: Some(window), width, height, .. }), _, _) => {
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
            let text = names::text(&b.text, &self.name, subject);
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
    pub fn settled(&self, first: &Subject) -> Self {
        let mut settled = self.clone();
        for one in &mut settled.deliveries {
            let bare = Pictures { lines: one.lines.clone(), ..Pictures::default() };
            if let Ok(plan) = self.layout_for(&bare, None, first) {
                *one = one.settled((plan.size().width, plan.size().height));
            }
        }
        settled
    }

    /// Every file it makes of each frame, with the delivery it belongs to.
    pub fn files(&self) -> Vec<(usize, Pictures)> {
        let all = self.deliveries.iter().enumerate();
        all.flat_map(|(at, one)| one.files().into_iter().map(move |f| (at, f))).collect()
    }

    /// Whether one of its lines changes pixels of some picture.
    pub fn changes_pixels(&self) -> bool {
        self.steps.iter().any(|l| self.is_on(l) && l.id != "data")
    }

    /// Whether a line is on, and the block it stands in.
    fn is_on(&self, line: &Line) -> bool {
        let block = self.blocks.iter().find(|b| Some(&b.name) == line.block.as_ref());
        line.on && block.is_none_or(|b| b.on)
    }

    /// What it does for all frames of a run together, with the delivery it belongs to; a run knows them by their places.
    pub fn tasks(&self) -> Vec<(usize, Task)> {
        let all = self.deliveries.iter().enumerate();
        all.flat_map(|(at, one)| one.tasks().into_iter().map(move |t| (at, t))).collect()
    }

    /// What each frame becomes before it joins others in one file: the task's place, and the picture.
    pub fn stages(&self) -> Vec<(usize, Pictures)> {
        let stage = |(i, (at, task)): (usize, (usize, Task))| match task {
            Task::Bundle(bundle) => {
                Some((i, Pictures { lines: self.deliveries[at].lines.clone(), ..bundle.stage() }))
            }
            _ => None,
        };
        self.tasks().into_iter().enumerate().filter_map(stage).collect()
    }

    /// What its first delivery makes of a frame; what pages show of it.
    pub fn shown(&self) -> Pictures {
        let first = self.deliveries.first();
        let files = first.map(Delivery::files).unwrap_or_default();
        let stage = || self.stages().into_iter().next().map(|(_, s)| s);
        files.into_iter().next().or_else(stage).unwrap_or_default()
    }

    /// The plan for a picture, everything measured.
    ///
    /// # Errors
    /// [`PlanError`] when a result would be too large or the picture cannot be decoded.
    pub fn plan(&self, source: &dyn Source, subject: &Subject) -> Result<Plan, PlanError> {
        Plan::for_picture(self.settings(subject), source)
    }

    /// What a run asks for at its start: line from 0, parameter, and the value that stands there.
    pub fn asks(&self) -> Vec<(usize, &'static Param, Value)> {
        let on = self.steps.iter().enumerate().filter(|(_, line)| self.is_on(line));
        on.flat_map(|(i, line)| {
            let values = line.step.values();
            let named = line.ask.iter().filter_map(|name| line.kind().param(name));
            named.map(move |param| (i, param, values[param.name].clone()))
        })
        .collect()
    }

    /// The same recipe with answers: line from 0, parameter, value.
    ///
    /// # Errors
    /// [`Faults`] where there is no such line or parameter, or the value does not fit.
    pub fn answered(&self, answers: &[(usize, String, Value)]) -> Result<Self, Faults> {
        let mut document = self.to_value();
        for (line, param, value) in answers {
            let Some(step) = document["steps"].get_mut(*line) else {
                let message = format!("there is no line {}, the recipe has {}", line + 1, self.steps.len());
                return Err(Faults(vec![Fault { path: format!("steps[{line}]"), message }]));
            };
            step[param] = value.clone();
        }
        Self::from_value(&document)
    }

    /// The same recipe with other values of one of its deliveries, or of all.
    ///
    /// # Errors
    /// [`Faults`] where there is no such value, or it does not fit.
    pub fn delivering(&self, at: Option<usize>, values: &Map<String, Value>) -> Result<Self, Faults> {
        let mut document = self.to_value();
        let all = document["deliveries"].as_array_mut().into_iter().flatten().enumerate();
        for (i, delivery) in all.filter(|(i, _)| at.is_none_or(|at| at == *i)) {
            for (name, value) in values {
                // What is meant for all of them holds for those that have such a value.
                let has = || self.deliveries[i].kind().params.iter().any(|p| p.name == name);
                if at.is_some() || has() {
                    delivery[name] = value.clone();
                }
            }
        }
        Self::from_value(&document)
    }

    /// What its lines say about the data results carry, in order.
    pub fn data(&self, subject: &Subject) -> Vec<Data> {
        let lines = self.steps.iter().filter(|line| line.id == "data");
        lines
            .filter_map(|line| self.line_settings(line, subject))
            .filter_map(|settings| serde_json::from_value(settings.step.values()).ok())
            .collect()
    }

    /// A text that is the same for two recipes exactly when they make the same file from the same picture by
    /// `delivery`; names and targets do not count.
    pub fn identity(&self, delivery: &Pictures, subject: &Subject) -> String {
        let one = |(line, s): (Option<usize>, Settings)| {
            let line = line.map(|i| &self.steps[i]);
            let mut one = json!({"step": line.map_or("exposure", |l| l.id), "mix": line.map_or(100.0, |l| l.mix),
                "values": s.step.values(), "area": s.area.as_deref()});
            if let Some(block) = s.block {
                one["block"] = json!(block);
            }
            one
        };
        let mut steps: Vec<Value> = self.placed(subject).into_iter().map(one).collect();
        if delivery.is_carried() {
            steps.retain(|s| s["step"] == "data");
        }
        let mut all = json!({"version": VERSION, "steps": steps, "delivery": delivery.identity()});
        if !delivery.lines.is_empty() {
            let subject = &delivery.counted(subject);
            let own = delivery.lines.iter().filter_map(|l| Some((l, l.settings(&self.name, subject)?)));
            let own = own.map(|(l, s)| {
                json!({"step": l.id, "mix": l.mix, "values": s.step.values(), "area": s.area.as_deref()})
            });
            all["own"] = own.collect();
        }
        all.to_string()
    }
}

impl Block {
    fn to_value(&self) -> Value {
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

    /// One block of a document.
    fn read(value: &Value) -> Result<Self, Fault> {
        let fault = |path: &str, wanted: &str, got: &Value| Fault {
            path: path.into(),
            message: format!("expected {wanted}, got {}", brief(got)),
        };
        let map = value.as_object().ok_or_else(|| fault("", "a block with \"name\"", value))?;
        let mut block = Self { name: String::new(), on: true, mix: 100.0, from: None };
        for (key, value) in map {
            match key.as_str() {
                "name" => match value.as_str().map(str::trim) {
                    Some(name) if !name.is_empty() && name.chars().count() <= 200 => block.name = name.into(),
                    _ => return Err(fault("name", "text of 1 to 200 characters", value)),
                },
                "on" => block.on = value.as_bool().ok_or_else(|| fault("on", "true or false", value))?,
                "mix" => {
                    let mix = value.as_f64().filter(|v| (0.0..=100.0).contains(v));
                    block.mix = mix.ok_or_else(|| fault("mix", "a number from 0 to 100", value))?;
                }
                "from" => {
                    let (name, version) = (value["recipe"].as_str(), value["version"].as_i64());
                    let (Some(name), Some(version), Some(follow)) =
                        (name, version, value["follow"].as_bool())
                    else {
                        return Err(fault("from", "{\"recipe\", \"version\", \"follow\"}", value));
                    };
                    block.from = Some(TakenFrom { recipe: name.into(), version, follow });
                }
                _ => {
                    return Err(Fault {
                        path: key.clone(),
                        message: "unknown, a block has name, on, mix, from".into(),
                    });
                }
            }
        }
        if block.name.is_empty() { Err(fault("name", "text", &Value::Null)) } else { Ok(block) }
    }
}

impl Reading {
    /// The blocks, and whether the lines that name them fit.
    fn blocks(&mut self, value: Option<&Value>, lines: &[Line]) -> Vec<Block> {
        let mut blocks: Vec<Block> = Vec::new();
        let given = value.map_or(Some(&[] as &[Value]), |v| v.as_array().map(Vec::as_slice));
        let Some(given) = given else {
            self.fault(
                "blocks",
                format!("expected a list of blocks, got {}", value.map_or("nothing".into(), brief)),
            );
            return blocks;
        };
        for (i, value) in given.iter().enumerate() {
            match Block::read(value) {
                Ok(block) if blocks.iter().any(|b| b.name == block.name) => {
                    self.fault(
                        format!("blocks[{i}].name"),
                        format!("another block is called {} too", block.name),
                    );
                }
                Ok(block) => blocks.push(block),
                Err(f) => self.fault(format!("blocks[{i}].{}", f.path), f.message),
            }
        }
        for (i, line) in lines.iter().enumerate() {
            let Some(name) = &line.block else { continue };
            let at = format!("steps[{i}].{}.block", line.id);
            let Some(block) = blocks.iter().find(|b| b.name == *name) else {
                self.fault(at, format!("there is no block called {name}"));
                continue;
            };
            let before = lines[..i].iter().rposition(|l| l.block.as_ref() == Some(name));
            if before.is_some_and(|b| b + 1 != i) {
                self.fault(at, format!("the lines of block {name} must be neighbours"));
            } else if block.mix < 100.0 && line.stands_alone() {
                let title = line.kind().info.title;
                self.fault(at, format!("{title} cannot be mixed together with other lines; take it out of block {name}, or mix all of the block"));
            }
        }
        blocks.retain(|b| lines.iter().any(|l| l.block.as_ref() == Some(&b.name)));
        blocks
    }
}

/// Adds to values of a step, within their ranges; false where there is no such step.
fn moved(at: Option<&mut (Option<usize>, Settings)>, by: &[(&str, f64)], id: &str) -> bool {
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

/// Whole numbers without a fraction, as people write them.
pub(crate) fn tidy(value: &Value) -> Value {
    match value {
        Value::Number(n) => match n.as_f64() {
            Some(f) if f.fract() == 0.0 && f.abs() < 1e15 => json!(f as i64),
            _ => value.clone(),
        },
        Value::Array(all) => all.iter().map(tidy).collect(),
        Value::Object(map) => Value::Object(map.iter().map(|(k, v)| (k.clone(), tidy(v))).collect()),
        _ => value.clone(),
    }
}
