//! Every value of every step and every delivery: what is out of its range is refused at its path by the reader and by the
//! schema, what is at the ends of it is taken by both, written, read back and said.

use rallo_engine::registry;
use rallo_engine::step::{Kind, Param};
use rallo_recipe::delivery::KINDS;
use rallo_recipe::schema::schema;
use rallo_recipe::sentence::plain;
use rallo_recipe::{Faults, Recipe};
use serde_json::{Value, json};

/// Values a parameter does not take.
fn wrong(param: &Param) -> Vec<Value> {
    let long = |n: usize| json!("x".repeat(n + 1));
    let mut all = match param.kind {
        Kind::Number { min, max, step } => {
            vec![json!(min - step), json!(max + step), json!("7"), json!(null), json!([min])]
        }
        Kind::Whole { min, max } => vec![
            json!(i64::from(min) - 1),
            json!(u64::from(max) + 1),
            json!(f64::from(min) + 0.5),
            json!("7"),
        ],
        Kind::Choice(_) => vec![json!("no such word"), json!(""), json!(0), json!(null)],
        Kind::Text(n) | Kind::Template(n) => vec![long(n), json!(5), json!(null), json!(["x"])],
        Kind::File(_) => vec![json!(5), json!(null), json!({})],
        Kind::Flag => vec![json!("yes"), json!(1), json!(null)],
        Kind::Points => vec![
            json!([[0, 0]]),
            json!([[0, 0], [0.5, 1.2], [1, 1]]),
            json!([[0, 0], [0, 1]]),
            json!("line"),
            json!([[0, 0, 0], [1, 1, 1]]),
        ],
        Kind::Proportion => vec![json!("wide"), json!("3:0"), json!("-3:2"), json!(1.5), json!("3:")],
        Kind::Pair => {
            vec![json!([100]), json!([0, 10]), json!([10, 70_000]), json!([1.5, 2]), json!("10x10")]
        }
        Kind::Window => {
            vec![json!([0, 0, 10]), json!([0, 0, 0, 10]), json!([-1, 0, 5, 5]), json!([0, 0, 10, 70_000])]
        }
        Kind::Part => {
            vec![
                json!([0, 0, 1]),
                json!([0.5, 0, 0.6, 1]),
                json!([0, 0, 0, 1]),
                json!([-0.1, 0, 0.5, 0.5]),
                json!("all"),
            ]
        }
        Kind::Colour => vec![json!("green"), json!("#12345"), json!("#12345g"), json!(0)],
        Kind::Triple { min, max, step } => vec![
            json!([min, min]),
            json!([min, max + step, min]),
            json!([min - step, min, min]),
            json!("0 0 0"),
        ],
        Kind::Spot => vec![json!([0.5]), json!([0.5, 9]), json!("middle"), json!([0.5, null])],
        Kind::Rows(names, most) => {
            let row = vec![0.5; names.len()];
            vec![
                json!([vec![0.5; names.len() + 1]]),
                json!([vec![9.0; names.len()]]),
                json!(vec![row; most + 1]),
                json!("rows"),
            ]
        }
        Kind::Course(most) => {
            let many: Vec<[f64; 2]> = (0..=most).map(|k| [k as f64 / most as f64, 1.0]).collect();
            vec![
                json!(many),
                json!([[0, 1, 2]]),
                json!([[0, 0.05]]),
                json!([[0, 11]]),
                json!([[0.5, 1], [0.5, 2]]),
                json!("2"),
            ]
        }
        Kind::Kept(count) => {
            vec![json!(vec![0; count + 1]), json!([]), json!("kept"), json!(vec!["a"; count])]
        }
        Kind::Words(most) => vec![json!(vec!["a"; most + 1]), json!("a, b"), json!([""]), json!([5])],
    };
    // What is no value of anything here.
    all.push(json!({"no": "such"}));
    all
}

/// Values at the ends of what a parameter takes.
fn ends(param: &Param) -> Vec<Value> {
    match param.kind {
        Kind::Number { min, max, .. } => vec![json!(min), json!(max)],
        Kind::Whole { min, max } => vec![json!(min), json!(max), json!(null)],
        Kind::Choice(words) => words.iter().map(|w| json!(w)).collect(),
        Kind::Text(n) => vec![json!(""), json!("ü".repeat(n))],
        // Fields have a meaning of their own; the longest text has none.
        Kind::Template(n) => vec![json!("a".repeat(n))],
        Kind::Flag => vec![json!(true), json!(false)],
        Kind::Points => vec![json!([[0, 0], [1, 1]]), json!([[0, 1], [0.5, 0], [1, 1]])],
        Kind::Proportion => vec![json!("original"), json!("16:9"), json!("2.39 : 1")],
        Kind::Pair => vec![json!([1, 1]), json!([65_535, 2]), json!(null)],
        Kind::Window => vec![json!([0, 0, 1, 1]), json!(null)],
        Kind::Part => vec![json!([0, 0, 1, 1]), json!([0.25, 0.5, 0.5, 0.5]), json!(null)],
        Kind::Colour => vec![json!("#000000"), json!("#FFffFF")],
        Kind::Triple { min, max, .. } => vec![json!([min, max, min]), json!([max, max, max])],
        Kind::Spot => vec![json!([0, 1]), json!([-2, 3])],
        Kind::Rows(names, _) => vec![json!([]), json!([vec![1.0; names.len()]])],
        Kind::Course(_) => vec![json!([]), json!([[0, 0.1], [1, 10]])],
        Kind::Kept(count) => vec![json!(null), json!(vec![1; count])],
        Kind::Words(_) => vec![json!([]), json!(["pots", "thyme & sage"])],
        Kind::File(_) => Vec::new(),
    }
}

fn document(steps: Value, deliveries: Value) -> Value {
    json!({"format": "rallo-recipe", "version": 1, "name": "x", "steps": steps, "deliveries": deliveries})
}

/// A document with one value of a step, and where it stands there.
fn of_step(id: &str, name: &str, value: &Value) -> (Value, String) {
    (document(json!([{"step": id, name: value}]), json!([])), format!("steps[0].{id}.{name}"))
}

fn of_delivery(id: &str, name: &str, value: &Value) -> (Value, String) {
    (document(json!([]), json!([{"kind": id, name: value}])), format!("deliveries[0].{id}.{name}"))
}

fn faults(document: &Value) -> Vec<String> {
    match Recipe::from_value(document) {
        Ok(_) => Vec::new(),
        Err(Faults(all)) => all.iter().map(ToString::to_string).collect(),
    }
}

#[test]
fn what_is_out_of_range_is_refused_at_its_path_by_reader_and_schema() {
    let checker = jsonschema::validator_for(&schema()).unwrap();
    let look = |(document, path): (Value, String), value: &Value| {
        let all = faults(&document);
        assert_eq!(all.len(), 1, "{path} = {value}: {all:?}");
        // What lies inside a value has its place behind the path.
        let rest = all[0].strip_prefix(&path).unwrap_or_else(|| panic!("{path}: {all:?}"));
        assert!(rest.starts_with(": expected ") || rest.starts_with('['), "{path} = {value}: {all:?}");
        assert!(rest.contains("got "), "{path} = {value}: {all:?}");
    };
    let (mut tried, mut by_schema) = (0, 0);
    for kind in registry() {
        for param in kind.params {
            for value in wrong(param) {
                let case = of_step(kind.info.id, param.name, &value);
                by_schema += usize::from(!checker.is_valid(&case.0));
                tried += 1;
                look(case, &value);
            }
        }
    }
    for kind in &KINDS {
        for param in kind.params {
            for value in wrong(param) {
                let case = of_delivery(kind.id, param.name, &value);
                by_schema += usize::from(!checker.is_valid(&case.0));
                tried += 1;
                look(case, &value);
            }
        }
    }
    assert!(tried > 1000, "{tried}");
    // A schema cannot say that points rise, or how a proportion is written in full.
    assert!(by_schema * 20 > tried * 19, "{by_schema} of {tried}");
}

#[test]
fn what_is_at_the_ends_is_taken_written_read_back_and_said() {
    let checker = jsonschema::validator_for(&schema()).unwrap();
    let mut tried = 0;
    let mut look = |(document, path): (Value, String), value: &Value| {
        assert!(checker.is_valid(&document), "{path} = {value}");
        // Some values cannot stand alone; why is said at the value.
        let recipe = match Recipe::from_value(&document) {
            Ok(recipe) => recipe,
            Err(Faults(all)) => {
                let told = all.iter().map(ToString::to_string).collect::<Vec<_>>();
                assert!(told.iter().all(|t| t.starts_with(path.rsplit_once('.').unwrap().0)), "{told:?}");
                return;
            }
        };
        tried += 1;
        let written = recipe.to_value();
        assert!(checker.is_valid(&written), "{path} = {value}: {written}");
        let again = Recipe::from_value(&written).unwrap_or_else(|e| panic!("{path} = {value}: {e}"));
        assert_eq!(again.to_value(), written, "{path} = {value}");
        for line in &recipe.steps {
            assert!(!plain(&line.parts(None)).trim().is_empty(), "{path} = {value}");
        }
        for goes in &recipe.deliveries {
            assert!(plain(&goes.parts(&recipe)).contains("into "), "{path} = {value}");
        }
    };
    for kind in registry() {
        for param in kind.params {
            for value in ends(param) {
                look(of_step(kind.info.id, param.name, &value), &value);
            }
        }
    }
    for kind in &KINDS {
        for param in kind.params {
            for value in ends(param) {
                look(of_delivery(kind.id, param.name, &value), &value);
            }
        }
    }
    assert!(tried > 500, "{tried}");
}

#[test]
fn unknown_values_are_named_with_those_there_are() {
    for kind in registry() {
        let told = faults(&of_step(kind.info.id, "no_such", &json!(1)).0);
        let want = format!("steps[0].{}.no_such: unknown, {} takes ", kind.info.id, kind.info.id);
        assert!(told.len() == 1 && told[0].starts_with(&want), "{told:?}");
        assert!(kind.params.iter().all(|p| told[0].contains(p.name)), "{told:?}");
    }
    for kind in &KINDS {
        let told = faults(&of_delivery(kind.id, "no_such", &json!(1)).0);
        let want = format!("deliveries[0].{}.no_such: unknown", kind.id);
        assert!(told.len() == 1 && told[0].starts_with(&want), "{told:?}");
    }
}
