//! Which values of a delivery mean something, by what its others are: a JPEG has no depth, and a clip that fills its frame no
//! colour at its edges.

use super::DeliveryKind;
use rallo_engine::Param;
use serde_json::Value;

/// Formats for which pixels are encoded; the others carry over what there is.
const ENCODED: [&str; 6] = ["jpeg", "png", "webp", "avif", "jxl", "tiff"];

/// Whether a value of pictures means something in a format.
fn is_for_format(name: &str, format: &str) -> bool {
    match name {
        "long_edge" | "widths" | "sharpen" => ENCODED.contains(&format),
        "camera_data" => ENCODED.contains(&format) || format == "as it is",
        "quality" | "limit" => matches!(format, "jpeg" | "webp" | "avif" | "jxl"),
        "chroma" | "progressive" | "optimised" => format == "jpeg",
        "lossless" => matches!(format, "webp" | "jxl"),
        "bits" => matches!(format, "png" | "jxl" | "tiff"),
        "compression" => format == "tiff",
        "transparent" => ENCODED.contains(&format) && format != "jpeg",
        "profile" => ENCODED.contains(&format) && format != "avif",
        _ => true,
    }
}

/// Whether a value means something beside the others; `of` tells those by name.
fn is_beside(kind: &str, name: &str, of: impl Fn(&str) -> Value) -> bool {
    let is = |name: &str, word: &str| of(name) == word;
    let has = |name: &str| match of(name) {
        Value::Null => false,
        Value::String(text) => !text.is_empty(),
        Value::Number(n) => n.as_f64() != Some(0.0),
        _ => true,
    };
    match name {
        "move" | "ease" => is("fit", "move"),
        "close_gaps" => is("by", "lighten"),
        "width" | "height" => is("size", "custom"),
        "colour" => !has("fit") || is("fit", "fit"),
        "text_place" | "text_size" => has("text"),
        "folder" => is("to", "subfolder"),
        "quality" => kind != "video" || !has("megabytes"),
        _ => true,
    }
}

impl DeliveryKind {
    /// The parameters that mean something where the delivery has these values; what is not among them is as by default.
    pub fn fitting(&self, values: &Value) -> Vec<&'static Param> {
        let usual = self.defaults();
        let of = |name: &str| match &values[name] {
            Value::Null => usual[name].clone(),
            value => value.clone(),
        };
        let format = matches!(self.id, "pictures" | "frames").then(|| of("format"));
        let format = format.as_ref().and_then(Value::as_str);
        let fits = |param: &&Param| {
            format.is_none_or(|format| is_for_format(param.name, format))
                && is_beside(self.id, param.name, of)
        };
        self.params.iter().filter(fits).collect()
    }
}

#[cfg(test)]
mod tests {
    use crate::delivery::KINDS;
    use serde_json::{Value, json};

    fn names(kind: &str, values: Value) -> Vec<&'static str> {
        let kind = KINDS.iter().find(|k| k.id == kind).unwrap();
        kind.fitting(&values).into_iter().map(|param| param.name).collect()
    }

    #[test]
    fn a_format_has_what_it_can_hold() {
        let has = |format: &str, name: &str| names("pictures", json!({"format": format})).contains(&name);
        for (name, formats) in [
            ("quality", &["jpeg", "webp", "avif", "jxl"][..]),
            ("chroma", &["jpeg"]),
            ("lossless", &["webp", "jxl"]),
            ("bits", &["png", "jxl", "tiff"]),
            ("transparent", &["png", "webp", "avif", "jxl", "tiff"]),
            ("long_edge", &["jpeg", "png", "webp", "avif", "jxl", "tiff"]),
            ("camera_data", &["jpeg", "png", "webp", "avif", "jxl", "tiff", "as it is"]),
            ("name", &["jpeg", "png", "webp", "avif", "jxl", "tiff", "as it is", "copy"]),
        ] {
            let found: Vec<&str> =
                super::super::FORMATS.into_iter().filter(|format| has(format, name)).collect();
            assert_eq!(found, formats, "{name}");
        }
        // Without a word the format is a JPEG.
        assert!(names("pictures", json!({})).contains(&"chroma"));
        assert!(names("frames", json!({"format": "png"})).contains(&"bits"));
    }

    #[test]
    fn values_follow_each_other() {
        for (kind, values, there, not) in [
            (
                "pictures",
                json!({"format": "jpeg"}),
                "quality limit chroma progressive",
                "bits lossless compression",
            ),
            ("pictures", json!({"format": "png"}), "bits profile widths", "quality limit chroma compression"),
            ("pictures", json!({"format": "tiff"}), "bits compression profile", "quality lossless"),
            ("pictures", json!({"format": "webp"}), "quality lossless", "bits chroma"),
            ("pictures", json!({"format": "avif"}), "quality", "profile bits"),
            ("pictures", json!({"format": "jxl"}), "quality lossless bits profile", "chroma compression"),
            ("pictures", json!({"format": "copy"}), "name to", "quality long_edge camera_data"),
            ("pictures", json!({"format": "as it is"}), "name camera_data", "quality long_edge sharpen"),
            ("pictures", json!({"to": "same"}), "name to", "folder"),
            ("frames", json!({}), "fit size start", "width height colour"),
            ("frames", json!({"size": "custom", "fit": "fit"}), "width height colour", "lossless"),
            ("video", json!({}), "fit rate text quality", "move ease colour text_place text_size width"),
            ("video", json!({"fit": "move"}), "move ease", "colour"),
            ("video", json!({"text": "{n}", "fit": "fit"}), "text_place text_size colour", "move"),
            ("video", json!({"megabytes": 20}), "megabytes", "quality"),
            ("pdf", json!({}), "quality resolution caption", "move"),
            ("contact", json!({}), "quality colour cell", "move"),
        ] {
            let names = names(kind, values.clone());
            for name in there.split(' ') {
                assert!(names.contains(&name), "{kind} {values} has no {name}: {names:?}");
            }
            for name in not.split(' ') {
                assert!(!names.contains(&name), "{kind} {values} has {name}: {names:?}");
            }
        }
    }

    #[test]
    fn every_name_that_is_asked_for_is_a_value_of_some_kind() {
        let all: Vec<&str> = KINDS.iter().flat_map(|kind| kind.params).map(|param| param.name).collect();
        for name in [
            "long_edge",
            "widths",
            "sharpen",
            "camera_data",
            "quality",
            "limit",
            "chroma",
            "progressive",
            "optimised",
            "lossless",
            "bits",
            "compression",
            "transparent",
            "profile",
            "move",
            "ease",
            "close_gaps",
            "width",
            "height",
            "colour",
            "text_place",
            "text_size",
            "folder",
            "fit",
            "by",
            "size",
            "text",
            "to",
            "megabytes",
        ] {
            assert!(all.contains(&name), "{name}");
        }
    }
}
