//! Deliveries: what a recipe hands on. One kind so far: `pictures`.

use crate::{Fault, brief, names, tidy};
use rallo_engine::{Kind, OutputColour, OutputProfile, Param, Plan};
use serde_json::{Map, Value, json};
use std::sync::Arc;

/// Parameters of the delivery `pictures`.
pub static PICTURES: [Param; 11] = [
    Param { name: "format", about: "File format.", unit: "", kind: Kind::Choice(&["jpeg", "png"]) },
    Param {
        name: "quality",
        about: "Quality of a JPEG.",
        unit: "",
        kind: Kind::Number { min: 1.0, max: 100.0, step: 1.0 },
    },
    Param {
        name: "chroma",
        about: "Colour samples of a JPEG: one a pixel, one for two, one for four.",
        unit: "",
        kind: Kind::Choice(&["4:4:4", "4:2:2", "4:2:0"]),
    },
    Param {
        name: "progressive",
        about: "A JPEG that appears from coarse to fine.",
        unit: "",
        kind: Kind::Flag,
    },
    Param { name: "bits", about: "Bits a sample of a PNG.", unit: "", kind: Kind::Choice(&["8", "16"]) },
    Param {
        name: "profile",
        about: "Colour space of the result, embedded; recipe: what its line Convert profile says, sRGB without one.",
        unit: "",
        kind: Kind::Choice(&["recipe", "srgb", "display-p3", "op-rgb", "romm-rgb", "rec2020"]),
    },
    Param {
        name: "name",
        about: "Name without the ending, from fields in braces.",
        unit: "",
        kind: Kind::Text(200),
    },
    Param { name: "to", about: "subfolder, or the path of a folder.", unit: "", kind: Kind::Text(1000) },
    Param {
        name: "folder",
        about: "Name of the sub-folder beside the originals.",
        unit: "",
        kind: Kind::Text(120),
    },
    Param {
        name: "existing",
        about: "What happens where a file of that name exists: the picture fails, the result gets a number, or an older result is replaced.",
        unit: "",
        kind: Kind::Choice(&["fail", "number", "replace"]),
    },
    Param {
        name: "camera_data",
        about: "Whether the camera's data are carried over.",
        unit: "",
        kind: Kind::Flag,
    },
];

/// Pictures, one for each frame.
#[derive(Clone, Debug, PartialEq)]
pub struct Pictures {
    /// `jpeg` or `png`.
    pub format: String,
    /// 1 ..= 100.
    pub quality: u8,
    /// `4:4:4`, `4:2:2` or `4:2:0`.
    pub chroma: String,
    /// Coarse to fine.
    pub progressive: bool,
    /// 8 or 16.
    pub bits: u8,
    /// Colour space; without one the recipe's own, sRGB where it says nothing.
    pub profile: Option<OutputProfile>,
    /// Naming template.
    pub name: String,
    /// `subfolder`, or a folder's path.
    pub to: String,
    /// Template of the sub-folder's name.
    pub folder: String,
    /// `fail`, `number` or `replace`.
    pub existing: String,
    /// Whether camera data are carried over.
    pub camera_data: bool,
}

impl Default for Pictures {
    fn default() -> Self {
        Self {
            format: "jpeg".into(),
            quality: 85,
            chroma: "4:2:0".into(),
            progressive: false,
            bits: 8,
            profile: None,
            name: "{stem}".into(),
            to: "subfolder".into(),
            folder: "{recipe}".into(),
            existing: "fail".into(),
            camera_data: true,
        }
    }
}

impl Pictures {
    /// The colours its results leave in, by a recipe placed on a picture.
    pub fn colours(&self, plan: &Plan) -> Arc<OutputColour> {
        let own = self.profile.map(OutputProfile::shared).or_else(|| plan.colours());
        own.unwrap_or_else(|| OutputProfile::Srgb.shared())
    }

    /// Every value as JSON.
    pub fn values(&self) -> Value {
        let named = |own| OutputProfile::ALL.iter().find(|(_, p)| *p == own).map(|(n, _)| *n);
        let profile = self.profile.and_then(named).unwrap_or("recipe");
        json!({
            "format": self.format, "quality": self.quality, "chroma": self.chroma,
            "progressive": self.progressive, "bits": self.bits.to_string(), "profile": profile,
            "name": self.name, "to": self.to, "folder": self.folder, "existing": self.existing,
            "camera_data": self.camera_data,
        })
    }

    /// The document's form, defaults left out but for format, quality, name and target.
    pub fn to_value(&self) -> Value {
        let mut map = Map::from_iter([("kind".to_owned(), json!("pictures"))]);
        let (values, defaults) = (self.values(), Self::default().values());
        for (key, value) in values.as_object().into_iter().flatten() {
            let told = match key.as_str() {
                "format" | "name" | "to" => true,
                "quality" => self.format == "jpeg",
                _ => defaults[key] != *value,
            };
            if told {
                let bits = (key == "bits").then(|| json!(self.bits));
                map.insert(key.clone(), bits.unwrap_or_else(|| tidy(value)));
            }
        }
        Value::Object(map)
    }

    /// What shapes the file's bytes.
    pub fn identity(&self) -> Value {
        let mut values = self.values();
        if let Some(map) = values.as_object_mut() {
            for key in ["name", "to", "folder", "existing"] {
                map.remove(key);
            }
        }
        values
    }

    /// The ending of its files.
    pub fn ending(&self) -> &'static str {
        if self.format == "png" { "png" } else { "jpg" }
    }

    /// Reads and checks one delivery at `path`.
    ///
    /// # Errors
    /// Every fault with its path.
    pub fn read(path: &str, value: &Value) -> Result<Self, Vec<Fault>> {
        let fault = |path: String, message: String| vec![Fault { path, message }];
        let Value::Object(map) = value else {
            return Err(fault(
                path.into(),
                format!("expected an object with \"kind\", got {}", brief(value)),
            ));
        };
        match map.get("kind").and_then(Value::as_str) {
            Some("pictures") => {}
            other => {
                let got = other.map_or("nothing".into(), |k| format!("{k:?}"));
                return Err(fault(format!("{path}.kind"), format!("expected \"pictures\", got {got}")));
            }
        }
        let mut faults = Vec::new();
        let mut values = Self::default().values();
        for (key, value) in map.iter().filter(|(k, _)| *k != "kind") {
            let Some(param) = PICTURES.iter().find(|p| p.name == key) else {
                let all: Vec<_> = PICTURES.iter().map(|p| p.name).collect();
                faults.push(Fault {
                    path: format!("{path}.pictures.{key}"),
                    message: format!("unknown, pictures takes {}", all.join(", ")),
                });
                continue;
            };
            // 8 and 16 are written as numbers by most people.
            let value =
                if key == "bits" && value.is_u64() { json!(value.to_string()) } else { value.clone() };
            match param.check(&value) {
                Ok(()) => values[key] = value,
                Err(e) => {
                    faults.push(Fault { path: format!("{path}.pictures.{}", e.path), message: e.message })
                }
            }
        }
        for key in ["name", "folder"] {
            if let Err(message) = names::check(values[key].as_str().unwrap_or_default()) {
                faults.push(Fault { path: format!("{path}.pictures.{key}"), message });
            }
        }
        if !faults.is_empty() {
            return Err(faults);
        }
        let text = |key: &str| values[key].as_str().unwrap_or_default().to_owned();
        Ok(Self {
            format: text("format"),
            quality: values["quality"].as_f64().unwrap_or(85.0).round() as u8,
            chroma: text("chroma"),
            progressive: values["progressive"] == json!(true),
            bits: if text("bits") == "16" { 16 } else { 8 },
            profile: OutputProfile::named(&text("profile")),
            name: text("name"),
            to: text("to"),
            folder: text("folder"),
            existing: text("existing"),
            camera_data: values["camera_data"] == json!(true),
        })
    }
}
