//! The published JSON Schema (draft 2020-12), made from the steps' own descriptions.

use crate::{MAX_STEPS, VERSION, delivery};
use rallo_engine::step::MAX_POINTS;
use rallo_engine::{Kind, OutputProfile, Param, registry};
use serde_json::{Map, Value, json};

fn kind_schema(kind: Kind) -> Value {
    match kind {
        Kind::Number { min, max, .. } => json!({"type": "number", "minimum": min, "maximum": max}),
        Kind::Whole { min, max } => json!({"type": ["integer", "null"], "minimum": min, "maximum": max}),
        Kind::Choice(all) => json!({"enum": all}),
        Kind::Text(max) => json!({"type": "string", "maxLength": max}),
        Kind::Flag => json!({"type": "boolean"}),
        Kind::Points => json!({
            "type": "array", "minItems": 2, "maxItems": MAX_POINTS,
            "items": {"type": "array", "minItems": 2, "maxItems": 2, "items": {"type": "number", "minimum": 0, "maximum": 1}},
        }),
        Kind::Proportion => {
            json!({"type": "string", "pattern": "^(original|\\s*[0-9.]+\\s*:\\s*[0-9.]+\\s*)$"})
        }
        Kind::Pair => {
            json!({"type": ["array", "null"], "minItems": 2, "maxItems": 2, "items": {"type": "integer", "minimum": 1}})
        }
        Kind::Window => {
            json!({"type": ["array", "null"], "minItems": 4, "maxItems": 4, "items": {"type": "integer", "minimum": 0}})
        }
        Kind::Part => {
            json!({"type": ["array", "null"], "minItems": 4, "maxItems": 4, "items": {"type": "number", "minimum": 0, "maximum": 1}})
        }
        Kind::Template(max) => json!({"type": "string", "maxLength": max}),
        Kind::File(max) => json!({"type": "string", "maxLength": max}),
        Kind::Words(max) => json!({"type": "array", "maxItems": max, "items": {"type": "string"}}),
        Kind::Triple { min, max, .. } => {
            json!({"type": "array", "minItems": 3, "maxItems": 3, "items": {"type": "number", "minimum": min, "maximum": max}})
        }
        Kind::Spot => json!({"type": "array", "minItems": 2, "maxItems": 2, "items": {"type": "number"}}),
        Kind::Kept(count) => {
            json!({"type": ["array", "null"], "minItems": count, "maxItems": count, "items": {"type": "number"}})
        }
        Kind::Rows(names, most) => json!({
            "type": "array", "maxItems": most,
            "items": {"type": "array", "minItems": names.len(), "maxItems": names.len(), "items": {"type": "number"}},
        }),
        Kind::Course(most) => json!({
            "type": "array", "maxItems": most,
            "items": {"type": "array", "minItems": 2, "maxItems": 2, "items": {"type": "number", "minimum": 0, "maximum": 10}},
        }),
        Kind::Colour => json!({"type": "string", "pattern": "^#[0-9a-fA-F]{6}$"}),
    }
}

fn property(param: &Param, default: &Value) -> Value {
    let mut schema = kind_schema(param.kind);
    schema["description"] = json!(if param.unit.is_empty() {
        param.about.to_owned()
    } else {
        format!("{} Unit: {}.", param.about, param.unit)
    });
    schema["default"] = default.clone();
    schema
}

fn properties_of(params: &[Param], defaults: &Value) -> Map<String, Value> {
    params.iter().map(|p| (p.name.to_owned(), property(p, &defaults[p.name]))).collect()
}

/// The schema of a recipe document.
pub fn schema() -> Value {
    let steps: Vec<Value> = registry()
        .iter()
        .map(|kind| {
            let mut properties = Map::from_iter([("step".to_owned(), json!({"const": kind.info.id}))]);
            properties.extend(properties_of(kind.params, &kind.defaults()));
            properties.insert("on".into(), json!({"type": "boolean", "default": true}));
            properties.insert("mix".into(), json!({"type": "number", "minimum": 0, "maximum": 100, "default": 100}));
            if kind.info.takes_area() {
                properties.insert("area".into(), json!({"$ref": "#/$defs/area"}));
            }
            properties.insert("when".into(), json!({"type": "string", "maxLength": 1000}));
            let names: Vec<&str> = kind.params.iter().map(|p| p.name).collect();
            properties.insert("ask".into(), json!({"type": "array", "items": {"enum": names}}));
            for key in ["checkpoint", "block"] {
                properties.insert(key.into(), json!({"type": "string", "minLength": 1, "maxLength": 200}));
            }
            properties.insert("by_iso".into(), json!({
                "type": "object", "propertyNames": {"pattern": "^[0-9]+$"},
                "additionalProperties": {
                    "type": "object", "properties": properties_of(kind.params, &kind.defaults()), "additionalProperties": false,
                },
            }));
            let numbers = kind.params.iter().filter(|p| matches!(p.kind, Kind::Number { .. })).map(|p| p.name);
            let mark = json!({
                "type": "array", "minItems": 1, "maxItems": 200,
                "items": {
                    "type": "array", "minItems": 2, "maxItems": 2,
                    "prefixItems": [
                        {"anyOf": [{"type": "number", "minimum": 0, "maximum": 1}, {"type": "string", "minLength": 1}]},
                        {"type": "number"},
                    ],
                },
            });
            let ramps: Map<String, Value> = numbers.map(|name| (name.to_owned(), mark.clone())).collect();
            properties.insert("ramp".into(), json!({
                "type": "object", "minProperties": 1, "properties": ramps, "additionalProperties": false,
            }));
            json!({
                "type": "object", "title": kind.info.title, "description": kind.info.about,
                "properties": properties, "required": ["step"], "additionalProperties": false,
            })
        })
        .collect();
    let deliveries: Vec<Value> = delivery::KINDS
        .iter()
        .map(|kind| {
            let mut properties = Map::from_iter([("kind".to_owned(), json!({"const": kind.id}))]);
            properties.extend(properties_of(kind.params, &kind.defaults()));
            if let Some(bits) = properties.get_mut("bits").and_then(|b| b["enum"].as_array_mut()) {
                let numbers: Vec<Value> =
                    bits.iter().filter_map(|b| b.as_str()?.parse::<u8>().ok()).map(|b| json!(b)).collect();
                bits.extend(numbers);
            }
            properties.insert(
                "steps".into(),
                json!({"type": "array", "maxItems": MAX_STEPS, "items": {"$ref": "#/$defs/step"}}),
            );
            json!({
                "type": "object", "title": kind.title, "description": kind.about,
                "properties": properties, "required": ["kind"], "additionalProperties": false,
            })
        })
        .collect();
    let profiles: Vec<&str> = OutputProfile::ALL.iter().map(|(name, _)| *name).collect();
    json!({
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Rallo recipe",
        "type": "object",
        "properties": {
            "format": {"const": "rallo-recipe"},
            "version": {"const": VERSION},
            "name": {"type": "string", "minLength": 1, "maxLength": 120},
            "note": {"type": "string", "maxLength": 4000},
            "labels": {"type": "array", "items": {"type": "string"}},
            "decode": {
                "type": "object", "additionalProperties": false, "description": "How files are read, before the first step.",
                "properties": {
                    "assumed_profile": {
                        "enum": profiles, "description": "The colours that a file is taken to be in where it names none."},
                    "background": {
                        "type": "string", "pattern": "^#[0-9a-fA-F]{6}$", "default": "#ffffff",
                        "description": "The colour that transparent parts are laid on."},
                    "use_part": {
                        "type": "boolean", "default": false,
                        "description": "Whether the part that is there is taken of files that are cut off or damaged."},
                    "raw": {
                        "type": "object", "additionalProperties": false, "description": "How camera raw is developed.",
                        "properties": {"look": {
                            "enum": ["camera", "linear"], "default": "camera",
                            "description": "As bright and with as much contrast as the camera's own preview, or light as it was counted."}}}},
            },
            "steps": {"type": "array", "maxItems": MAX_STEPS, "items": {"$ref": "#/$defs/step"}},
            "blocks": {"type": "array", "items": {
                "type": "object", "required": ["name"], "additionalProperties": false,
                "properties": {
                    "name": {"type": "string", "minLength": 1, "maxLength": 200},
                    "on": {"type": "boolean", "default": true},
                    "mix": {"type": "number", "minimum": 0, "maximum": 100, "default": 100},
                    "from": {
                        "type": "object", "required": ["recipe", "version", "follow"], "additionalProperties": false,
                        "properties": {
                            "recipe": {"type": "string"}, "version": {"type": "integer"}, "follow": {"type": "boolean"},
                        },
                    },
                },
            }},
            "deliveries": {"type": "array", "items": {"oneOf": deliveries}},
        },
        "required": ["format", "version", "name"],
        "additionalProperties": false,
        "$defs": {"area": area(), "step": {"oneOf": steps}},
    })
}

/// Shapes in shares of the picture's sides.
fn area() -> Value {
    let number = |min: f64, max: f64| json!({"type": "number", "minimum": min, "maximum": max});
    let place = json!({"type": "array", "minItems": 2, "maxItems": 2, "items": number(-2.0, 3.0)});
    let form = |kind: &str, fields: Value, required: &[&str]| {
        let mut schema = json!({
            "kind": {"const": kind}, "invert": {"type": "boolean"},
            "combine": {"enum": ["add", "within", "without"]},
        });
        for (key, value) in fields.as_object().into_iter().flatten() {
            schema[key] = value.clone();
        }
        json!({"type": "object", "properties": schema, "required": required, "additionalProperties": false})
    };
    let stroke = json!({
        "type": "object", "required": ["points", "width"], "additionalProperties": false,
        "properties": {
            "points": {"type": "array", "items": place}, "width": number(0.05, 100.0), "erase": {"type": "boolean"},
        },
    });
    let shape = json!({"oneOf": [
        form("gradient", json!({"from": place, "to": place}), &["kind", "from", "to"]),
        form("ellipse", json!({
            "centre": place, "radii": place, "turn": number(-180.0, 180.0), "soft": number(0.0, 100.0),
        }), &["kind", "centre", "radii"]),
        form("brightness", json!({
            "low": number(0.0, 100.0), "high": number(0.0, 100.0), "soft": number(0.0, 50.0),
        }), &["kind", "low", "high"]),
        form("colour", json!({
            "hue": number(0.0, 360.0), "width": number(0.0, 180.0), "soft": number(0.0, 90.0),
        }), &["kind", "hue", "width"]),
        form("strokes", json!({
            "strokes": {"type": "array", "items": stroke}, "soft": number(0.0, 100.0),
        }), &["kind", "strokes"]),
    ]});
    json!({"oneOf": [shape, {"type": "array", "minItems": 1, "maxItems": rallo_engine::ops::mask::MAX_SHAPES, "items": shape}]})
}
