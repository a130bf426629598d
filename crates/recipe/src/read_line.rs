//! Reading one line of a document: its step, and where, when and how much of it.

use crate::condition::Condition;
use crate::document::MAX_STEPS;
use crate::fault::Fault;
use crate::iso_table::IsoTable;
use crate::line::Line;
use crate::names;
use crate::ramp::Ramp;
use crate::text::brief;
use rallo_engine::step::AREA_GROUPS;
use rallo_engine::{Area, Kind, StepKind, registry, step_kind};
use serde_json::{Map, Value};
use std::sync::Arc;

/// Collects faults while reading.
pub(crate) struct Reading {
    pub(crate) faults: Vec<Fault>,
}

impl Reading {
    pub(crate) fn fault(&mut self, path: impl Into<String>, message: impl Into<String>) {
        self.faults.push(Fault { path: path.into(), message: message.into() });
    }

    pub(crate) fn text(&mut self, map: &Map<String, Value>, key: &str, most: usize) -> String {
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
    pub(crate) fn lines(&mut self, path: &str, value: &Value) -> Vec<Line> {
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

    pub(crate) fn line(&mut self, at: String, value: &Value) -> Option<Line> {
        let Value::Object(map) = value else {
            self.fault(at, format!("expected an object with \"step\", got {}", brief(value)));
            return None;
        };
        let Some(id) = map.get("step").and_then(Value::as_str) else {
            self.fault(format!("{at}.step"), "expected the name of a step");
            return None;
        };
        let Some(kind) = step_kind(id) else {
            let ids: Vec<_> = registry().iter().map(|k| k.info.id).collect();
            self.fault(format!("{at}.step"), format!("unknown step {id:?}, known are {}", ids.join(", ")));
            return None;
        };
        let before = self.faults.len();
        let mut values = Map::new();
        let (mut on, mut mix) = (true, 100.0);
        let (mut area, mut when, mut by_iso, mut ramp) = (None, None, None, None);
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
                // A step that has an area of its own means where it looks.
                "area" if !kind.info.takes_area() && kind.param("area").is_none() => self.fault(
                    format!("{at}.{id}.area"),
                    format!(
                        "{id} works on the whole picture; only steps of {} take an area",
                        AREA_GROUPS.join(", ")
                    ),
                ),
                "area" if kind.info.takes_area() => match Area::read(value) {
                    Ok(read) => area = Some(Arc::new(read)),
                    Err(e) => self.fault(format!("{at}.{id}.{}", e.path), e.message),
                },
                "when" => match value.as_str().map(Condition::parse) {
                    Some(Ok(condition)) => when = Some(condition),
                    Some(Err(message)) => self.fault(format!("{at}.{id}.when"), message.to_string()),
                    None => self.fault(
                        format!("{at}.{id}.when"),
                        format!("expected a condition such as \"iso at least 1600\", got {}", brief(value)),
                    ),
                },
                "by_iso" => match IsoTable::read(kind, value) {
                    Ok(iso_table) => by_iso = Some(iso_table),
                    Err((path, message)) => self.fault(format!("{at}.{id}.{path}"), message),
                },
                "ramp" => match Ramp::read(kind, value) {
                    Ok(read) => ramp = Some(read),
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
                self.fault(format!("{at}.{id}.{key}"), message.to_string());
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
                ramp,
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
pub(crate) fn own_lines(path: &str, value: &Value) -> Result<Vec<Line>, Vec<Fault>> {
    let mut r = Reading { faults: Vec::new() };
    let lines = r.lines(path, value);
    for (i, line) in lines.iter().enumerate() {
        if line.block.is_some() || line.checkpoint.is_some() || !line.ask.is_empty() || line.ramp.is_some() {
            let message = "lines of a delivery have no block, no checkpoint, no ramp and ask for nothing";
            r.fault(format!("{path}[{i}].{}", line.id), message);
        }
    }
    if r.faults.is_empty() { Ok(lines) } else { Err(r.faults) }
}

/// Names of parameters a run asks for.
pub(crate) fn ask(kind: &'static StepKind, value: &Value) -> Result<Vec<&'static str>, String> {
    let names: Vec<&str> = kind.params.iter().map(|p| p.name).collect();
    let wrong = |value: &Value| {
        format!(
            "expected a list of parameters of {} ({}), got {}",
            kind.info.id,
            names.join(", "),
            brief(value)
        )
    };
    let rows = value.as_array().ok_or_else(|| wrong(value))?;
    rows.iter()
        .map(|name| name.as_str().and_then(|n| kind.param(n)).map(|p| p.name).ok_or_else(|| wrong(name)))
        .collect()
}
