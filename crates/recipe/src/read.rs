//! Reading a document: every fault is named by its path.

use crate::VERSION;
use crate::condition::Condition;
use crate::delivery::Delivery;
use crate::document::{Block, Fault, Faults, Line, MAX_STEPS, Recipe, TakenFrom};
use crate::iso_table::Ladder;
use crate::names;
use rallo_engine::step::AREA_GROUPS;
use rallo_engine::{Area, Kind, StepKind, registry, step_kind};
use serde_json::{Map, Value};
use std::collections::BTreeMap;
use std::sync::Arc;

/// Collects faults while reading.
pub(super) struct Reading {
    faults: Vec<Fault>,
}

impl Reading {
    fn fault(&mut self, path: impl Into<String>, message: impl Into<String>) {
        self.faults.push(Fault { path: path.into(), message: message.into() });
    }

    pub(super) fn text(&mut self, map: &Map<String, Value>, key: &str, most: usize) -> String {
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
    pub(super) fn lines(&mut self, path: &str, value: &Value) -> Vec<Line> {
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
pub(super) fn own_lines(path: &str, value: &Value) -> Result<Vec<Line>, Vec<Fault>> {
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
pub(super) fn ask(kind: &'static StepKind, value: &Value) -> Result<Vec<&'static str>, String> {
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

impl Reading {
    /// The blocks, and whether the lines that name them fit.
    pub(super) fn blocks(&mut self, value: Option<&Value>, lines: &[Line]) -> Vec<Block> {
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

impl Recipe {
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

    /// The same recipe with answers: line from 0, parameter, value. Only the lines that are answered are read again.
    ///
    /// # Errors
    /// [`Faults`] where there is no such line or parameter, or the value does not fit.
    pub fn answered(&self, answers: &[(usize, String, Value)]) -> Result<Self, Faults> {
        let mut recipe = self.clone();
        let mut changed: BTreeMap<usize, Value> = BTreeMap::new();
        for (line, param, value) in answers {
            let Some(step) = self.steps.get(*line) else {
                let message = format!("there is no line {}, the recipe has {}", line + 1, self.steps.len());
                return Err(Faults(vec![Fault { path: format!("steps[{line}]"), message }]));
            };
            changed.entry(*line).or_insert_with(|| step.to_value())[param] = value.clone();
        }
        let mut reading = Reading { faults: Vec::new() };
        for (line, value) in changed {
            if let Some(read) = reading.line(format!("steps[{line}]"), &value) {
                recipe.steps[line] = Line { block: self.steps[line].block.clone(), ..read };
            }
        }
        if reading.faults.is_empty() { Ok(recipe) } else { Err(Faults(reading.faults)) }
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
}

impl Block {
    /// One block of a document.
    pub(super) fn read(value: &Value) -> Result<Self, Fault> {
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
