//! Whatever is thrown at the parsers: they say what is wrong, and what they take is written and read again the same.

use proptest::prelude::*;
use rallo_recipe::condition::Condition;
use rallo_recipe::{FrameContext, Recipe, ResolveContext, file, names};
use serde_json::{Value, json};

fn value() -> impl Strategy<Value = Value> {
    let leaf = prop_oneof![
        Just(Value::Null),
        any::<bool>().prop_map(Value::from),
        any::<i64>().prop_map(Value::from),
        any::<f64>().prop_map(Value::from),
        ".{0,12}".prop_map(Value::from),
        prop::sample::select(vec![
            "denoise",
            "crop",
            "16:9",
            "{stem}",
            "{n:04}",
            "iso at least 1600",
            "pictures",
            "jpeg",
            "#ff00aa"
        ])
        .prop_map(Value::from),
    ];
    leaf.prop_recursive(3, 24, 4, |inner| {
        prop_oneof![
            prop::collection::vec(inner.clone(), 0..4).prop_map(Value::from),
            prop::collection::vec(("[a-z_]{1,9}", inner), 0..4)
                .prop_map(|m| Value::Object(m.into_iter().collect())),
        ]
    })
}

/// A good recipe with many kinds of things in it.
fn good() -> Value {
    json!({"format": "rallo-recipe", "version": 1, "name": "Web", "note": "n", "labels": ["a"],
        "steps": [
            {"step": "denoise", "mix": 40, "by_iso": {"1600": {"brightness": 30}, "6400": {"brightness": 60}}},
            {"step": "curve", "all": [[0, 0], [0.3, 0.4], [1, 1]], "when": "iso at least 1600 and not portrait"},
            {"step": "exposure", "stops": 0.5, "ask": ["stops"], "checkpoint": "look"},
            {"step": "crop", "proportion": "16:9"},
            {"step": "watermark", "text": "{recipe}"}],
        "deliveries": [{"kind": "pictures", "format": "jpeg", "quality": 82, "name": "{stem}-{n:04}", "to": "subfolder"}]})
}

/// Every place in a document.
fn places(value: &Value, at: String, all: &mut Vec<String>) {
    all.push(at.clone());
    match value {
        Value::Object(map) => map.iter().for_each(|(k, v)| places(v, format!("{at}/{k}"), all)),
        Value::Array(list) => list.iter().enumerate().for_each(|(i, v)| places(v, format!("{at}/{i}"), all)),
        _ => {}
    }
}

fn mutated() -> impl Strategy<Value = Value> {
    let mut all = Vec::new();
    places(&good(), String::new(), &mut all);
    (prop::collection::vec((prop::sample::select(all), value()), 1..4)).prop_map(|changes| {
        let mut document = good();
        for (at, value) in changes {
            if let Some(place) = document.pointer_mut(&at) {
                *place = value;
            }
        }
        document
    })
}

fn comes_back(recipe: &Recipe) {
    let written = recipe.to_value();
    let again = Recipe::from_value(&written).unwrap_or_else(|e| panic!("{e}: {written}"));
    assert_eq!(again.to_value(), written);
    let frame = FrameContext {
        iso: Some(3200),
        width: 600,
        height: 400,
        stem: "a".into(),
        ..FrameContext::default()
    };
    let about = ResolveContext::nth(frame, 1);
    let _ = recipe.plain();
    let _ = recipe.settings(&about);
    let _ = recipe.layout(&about);
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 600, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn recipes_of_any_shape(document in mutated()) {
        if let Ok(recipe) = Recipe::from_value(&document) {
            comes_back(&recipe);
        }
    }

    #[test]
    fn recipes_of_any_text(text in ".{0,200}", cut in 0usize..900, byte in any::<u8>()) {
        let _ = Recipe::parse(&text);
        let _ = file::read(&text);
        let mut bytes = good().to_string().into_bytes();
        let at = cut % bytes.len();
        bytes[at] = byte;
        if let Ok(text) = String::from_utf8(bytes.clone()) && let Ok(recipe) = Recipe::parse(&text) {
            comes_back(&recipe);
        }
        bytes.truncate(at);
        let _ = Recipe::parse(&String::from_utf8_lossy(&bytes));
    }

    #[test]
    fn conditions(text in "[a-z0-9 ()\"*./:-]{0,60}", words in prop::collection::vec(prop::sample::select(vec![
        "iso", "at least", "and", "or", "not", "(", ")", "1600", "\"x", "camera is", "taken from 6:00 to", "width below", "portrait", "1/0", "keyword like \"*\""
    ]), 0..12)) {
        for text in [text, words.join(" ")] {
            if let Ok(condition) = Condition::parse(&text) {
                let _ = condition.met(&FrameContext::default());
                let written = condition.text().to_owned();
                let again = Condition::parse(&written).unwrap();
                prop_assert_eq!(again.text(), written.as_str());
            }
        }
    }

    /// The characters that name faults are made of, many to a name.
    #[test]
    fn names_of_the_worst_characters(name in "([.~ \u{a0}\u{3000}\u{85}\u{feff}\t/¹coCOMmnul1-]|con|nul|com1|lpt³|ä{90}){0,9}") {
        let safe = names::safe(&name);
        prop_assert!(!safe.is_empty() && safe.len() <= 200 && !safe.starts_with('.'), "{:?}", safe);
        prop_assert!(!safe.ends_with('.') && safe.trim() == safe, "{:?}", safe);
        prop_assert_eq!(names::safe(&safe), safe);
    }

    #[test]
    fn names_are_safe_whatever_they_are_made_of(template in "[{}a-z:%0-9/\\\\. \u{1}äß-]{0,40}", stem in ".{0,300}", recipe in ".{0,60}") {
        let frame = FrameContext { stem, folder: "../x".into(), ..FrameContext::default() };
        let about = ResolveContext::nth(frame, 7);
        for template in [template.as_str(), "{stem}", "{recipe}", "{folder}{stem}", "{taken:%Y}{stem}"] {
            if names::check(template).is_err() {
                continue;
            }
            let name = names::expand(template, &recipe, &about);
            prop_assert!(!name.is_empty() && name.len() <= 200, "{:?}", name);
            prop_assert!(!name.contains(['/', '\\', '\0']) && !name.starts_with('.'), "{:?}", name);
            prop_assert_eq!(names::safe(&name), name);
            let _ = names::text(template, &recipe, &about);
            let _ = names::changed(template, &recipe, &about);
        }
    }
}
