//! One text for settings that is equal exactly where they do the same work: what keys of kept pixels are made of.

use crate::plan::Settings;
use serde_json::{Map, Value, json};

/// The same value with the fields of its objects in the order of their names.
fn sorted(value: Value) -> Value {
    match value {
        Value::Object(fields) => {
            let mut fields: Vec<(String, Value)> = fields.into_iter().map(|(k, v)| (k, sorted(v))).collect();
            fields.sort_by(|a, b| a.0.cmp(&b.0));
            Value::Object(Map::from_iter(fields))
        }
        Value::Array(values) => Value::Array(values.into_iter().map(sorted).collect()),
        value => value,
    }
}

/// Steps in their order, each with its name, its values, its mix, its area and its block, as JSON whose objects are
/// sorted.
pub fn fingerprint(settings: &[Settings]) -> String {
    let value_of = |s: &Settings| {
        let mut value = json!({"step": s.step.name(), "values": s.step.values(), "mix": s.mix, "area": s.area.as_deref(), "block": s.block});
        if let Some(known) = s.step.known_of_frame() {
            value["known"] = json!(known);
        }
        value
    };
    sorted(settings.iter().map(value_of).collect()).to_string()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::step_kind;

    fn settings(id: &str, values: Value) -> Settings {
        Settings::from(step_kind(id).unwrap().parse(values.as_object().unwrap()).unwrap())
    }

    #[test]
    fn equal_work_has_one_text_and_different_work_another() {
        let one = |id, values| fingerprint(&[settings(id, values)]);
        let by = |amount: f64| json!({"amount": amount});
        assert_eq!(one("saturation", by(8.0)), one("saturation", json!({"amount": 8})));
        assert_ne!(one("saturation", by(8.0)), one("saturation", by(8.5)));
        // Steps with the same values are not the same steps.
        assert_ne!(one("saturation", by(8.0)), one("local_contrast", by(8.0)));
        let plain = settings("saturation", by(8.0));
        let half = Settings { mix: 0.5, ..plain.clone() };
        let bound = Settings { block: Some((0, 0.5)), ..plain.clone() };
        let all = [&[plain.clone()][..], &[half], &[bound], &[plain.clone(), plain], &[]].map(fingerprint);
        assert_eq!(all.iter().collect::<std::collections::BTreeSet<_>>().len(), all.len());
    }

    #[test]
    fn the_order_of_fields_does_not_matter() {
        let value: Value =
            serde_json::from_str(r#"{"b": {"d": 1, "c": [{"z": 1, "a": 2}]}, "a": 0}"#).unwrap();
        assert_eq!(sorted(value).to_string(), r#"{"a":0,"b":{"c":[{"a":2,"z":1}],"d":1}}"#);
    }
}
