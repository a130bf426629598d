//! Values in few words, for people and for messages.

use serde_json::{Value, json};

/// A number as people write it: at most three decimals, none for nothing.
pub fn number(value: f64) -> String {
    let text = format!("{value:.3}");
    let text = text.trim_end_matches('0').trim_end_matches('.');
    if text == "-0" { "0".into() } else { text.replace('-', "−") }
}

pub(crate) fn brief(value: &Value) -> String {
    let text = value.to_string();
    if text.chars().count() > 40 { text.chars().take(40).chain(['…']).collect() } else { text }
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
