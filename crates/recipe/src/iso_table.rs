//! Values of a line per ISO, with those between interpolated.

use rallo_engine::{Kind, StepKind};
use serde_json::{Map, Value, json};

/// Values of a step per ISO, in rising order.
#[derive(Clone, Debug, PartialEq)]
pub struct IsoTable(Vec<(u32, Map<String, Value>)>);

impl IsoTable {
    /// Reads `{"100": {…values…}, "6400": {…}}` for a kind of step.
    ///
    /// # Errors
    /// Path below the line, and what is wrong.
    pub fn read(kind: &StepKind, value: &Value) -> Result<Self, (String, String)> {
        let Some(map) = value.as_object().filter(|m| !m.is_empty() && m.len() <= 40) else {
            return Err((
                "by_iso".into(),
                "expected an object with up to 40 ISO values and what holds at each".into(),
            ));
        };
        let mut rungs = Vec::with_capacity(map.len());
        for (iso, values) in map {
            let at = format!("by_iso.{iso}");
            let Some(speed) = iso.parse::<u32>().ok().filter(|n| (1..=10_000_000).contains(n)) else {
                return Err((at, "expected an ISO value such as 1600".into()));
            };
            let Some(values) = values.as_object().filter(|v| !v.is_empty()) else {
                return Err((at, "expected an object of values".into()));
            };
            for (name, value) in values {
                let Some(param) = kind.param(name) else {
                    let known: Vec<_> = kind.params.iter().map(|p| p.name).collect();
                    return Err((
                        format!("{at}.{name}"),
                        format!("unknown, {} takes {}", kind.info.id, known.join(", ")),
                    ));
                };
                param.check(value).map_err(|e| (format!("{at}.{}", e.path), e.message))?;
            }
            rungs.push((speed, values.clone()));
        }
        rungs.sort_by_key(|r| r.0);
        Ok(Self(rungs))
    }

    /// As it is written.
    pub fn to_value(&self) -> Value {
        let map: Map<String, Value> =
            self.0.iter().map(|(iso, values)| (iso.to_string(), crate::tidy(&json!(values)))).collect();
        Value::Object(map)
    }

    /// The values at `iso`: numbers go evenly from entry to entry by stops, anything else changes at its entry.
    /// Beyond the ends the end's values hold.
    pub fn at(&self, kind: &StepKind, iso: u32) -> Map<String, Value> {
        let mut out = Map::new();
        for param in kind.params {
            let with: Vec<(u32, &Value)> =
                self.0.iter().filter_map(|(iso, v)| Some((*iso, v.get(param.name)?))).collect();
            let Some(first) = with.first() else { continue };
            let after = with.partition_point(|(speed, _)| *speed <= iso);
            let below = if after == 0 { *first } else { with[after - 1] };
            let value = match (param.kind, with.get(after)) {
                (Kind::Number { .. }, Some(above)) if after > 0 => {
                    let stops = |n: u32| f64::from(n).log2();
                    let t = (stops(iso) - stops(below.0)) / (stops(above.0) - stops(below.0));
                    let (a, b) = (below.1.as_f64().unwrap_or_default(), above.1.as_f64().unwrap_or_default());
                    json!(((a + (b - a) * t) * 1e4).round() / 1e4)
                }
                _ => below.1.clone(),
            };
            out.insert(param.name.into(), value);
        }
        out
    }

    /// What it says, from the lowest ISO on.
    pub fn rungs(&self) -> &[(u32, Map<String, Value>)] {
        &self.0
    }

    /// The lowest and the highest ISO it names.
    pub fn ends(&self) -> (u32, u32) {
        (self.0.first().map_or(0, |r| r.0), self.0.last().map_or(0, |r| r.0))
    }
}
