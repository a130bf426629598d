//! Reading a document: every fault is named by its path.

use crate::VERSION;
use crate::delivery::Delivery;
use crate::document::{Block, Recipe, TakenFrom};
use crate::fault::{Fault, Faults};
use crate::line::Line;
use crate::read_line::{Reading, own_lines};
use crate::text::brief;
use rallo_engine::DecodeSettings;
use serde_json::{Map, Value};
use std::collections::BTreeMap;

impl Reading {
    /// How files are read.
    fn decode(&mut self, value: Option<&Value>) -> DecodeSettings {
        let Some(value) = value else { return DecodeSettings::default() };
        match serde_json::from_value::<DecodeSettings>(value.clone()) {
            Ok(settings) => {
                if let Err((name, message)) = settings.check() {
                    self.fault(format!("decode.{name}"), message);
                }
                settings
            }
            Err(e) => {
                self.fault("decode", e.to_string());
                DecodeSettings::default()
            }
        }
    }

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
        let known =
            ["format", "version", "name", "note", "labels", "decode", "steps", "blocks", "deliveries"];
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
        let decode = r.decode(map.get("decode"));
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
            Ok(Self { name, note, labels, decode, steps, blocks, deliveries })
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
        let deliveries = document["deliveries"].as_array_mut().into_iter().flatten().enumerate();
        for (i, delivery) in deliveries.filter(|(i, _)| at.is_none_or(|at| at == *i)) {
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

    /// The same recipe with other values of how files are read.
    ///
    /// # Errors
    /// [`Faults`] where there is no such value, or it does not fit.
    pub fn reading(&self, values: &Map<String, Value>) -> Result<Self, Faults> {
        let mut document = self.to_value();
        let mut decode = document["decode"].as_object().cloned().unwrap_or_default();
        decode.extend(values.clone());
        document["decode"] = Value::Object(decode);
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
