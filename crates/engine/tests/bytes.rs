//! Whatever values, areas and colour tables come in: they are taken or refused, and nothing falls over.

use proptest::prelude::*;
use rallo_engine::{Area, registry, step_kind};
use serde_json::{Map, Value, json};

/// A small table that is well.
fn cube() -> String {
    let mut text = String::from("TITLE \"warm\"\nLUT_3D_SIZE 2\nDOMAIN_MIN 0 0 0\nDOMAIN_MAX 1 1 1\n");
    for i in 0..8 {
        text += &format!("{} {} {}\n", i & 1, i >> 1 & 1, i >> 2);
    }
    text
}

fn taken(text: &str) -> bool {
    let values = json!({ "table": text });
    step_kind("lut").unwrap().parse(values.as_object().unwrap()).is_ok()
}

#[test]
fn the_table_that_is_changed_is_a_good_one() {
    assert!(taken(&cube()));
}

fn value() -> impl Strategy<Value = Value> {
    let leaf = prop_oneof![
        Just(Value::Null),
        any::<bool>().prop_map(Value::from),
        any::<i32>().prop_map(Value::from),
        any::<f64>().prop_map(Value::from),
        prop::sample::select(vec![0.0, -1.0, 1.0, 1e300, -1e-300, 65_536.0]).prop_map(Value::from),
        ".{0,8}".prop_map(Value::from),
        prop::sample::select(vec!["16:9", "0:0", "1:-1", "original", "#12345", "ellipse", "gradient"])
            .prop_map(Value::from),
    ];
    leaf.prop_recursive(3, 16, 5, |inner| {
        prop_oneof![
            prop::collection::vec(inner.clone(), 0..6).prop_map(Value::from),
            prop::collection::vec(
                (
                    prop::sample::select(vec![
                        "shapes", "kind", "x", "y", "width", "range", "invert", "points"
                    ]),
                    inner
                ),
                0..5
            )
            .prop_map(|m| Value::Object(m.into_iter().map(|(k, v)| (k.to_owned(), v)).collect())),
        ]
    })
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn tables_of_any_text(text in "[A-Z_0-9 .eE+\\-#\n\"]{0,200}", at in any::<prop::sample::Index>(), put in "[0-9A-Z .\\-\n]{0,9}") {
        taken(&text);
        let mut table = cube();
        table.insert_str(at.index(table.len()), &put);
        taken(&table);
        taken(&format!("LUT_3D_SIZE {put}\n{table}"));
        taken(&format!("LUT_1D_SIZE {}\n", at.index(usize::MAX)));
    }

    #[test]
    fn steps_with_values_of_any_kind(which in any::<prop::sample::Index>(), values in prop::collection::vec((any::<prop::sample::Index>(), value()), 0..5)) {
        let kind = which.get(registry());
        let mut map = Map::new();
        for (param, value) in values {
            if !kind.params.is_empty() {
                map.insert(param.get(kind.params).name.into(), value);
            }
        }
        if let Ok(step) = kind.parse(&map) {
            // What is taken is written and read again the same.
            let Value::Object(written) = step.values() else { panic!() };
            let again = kind.parse(&written).unwrap_or_else(|e| panic!("{}: {e:?}: {written:?}", kind.info.id));
            prop_assert_eq!(again.values(), Value::Object(written));
            let _ = step.sentence();
            for size in [(1, 1), (600, 400), (30, 4000)] {
                let _ = step.geometry(rallo_engine::Size::new(size.0, size.1));
            }
        }
    }

    #[test]
    fn areas_of_any_kind(value in value()) {
        if let Ok(area) = Area::read(&value) {
            let _ = area.words();
        }
    }
}
