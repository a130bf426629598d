//! Rows of a form: a value of a line or of a delivery with its name, its unit, and what it is now.

use crate::api::bench::Control;
use crate::api::recipes::Asking;
use crate::words::say;
use serde_json::{Value, json};

/// One row.
pub(super) struct Field {
    /// Unlike those of all other rows of a page, so that the focus is found again.
    pub(super) id: String,
    /// What stands before the name, where there is anything.
    pub(super) head: String,
    pub(super) name: String,
    pub(super) about: &'static str,
    pub(super) unit: &'static str,
    pub(super) input: Input,
    /// What it sets and what may be typed, as JSON for the page.
    pub(super) sets: String,
}

/// How it is set.
pub(super) enum Input {
    Choice(Vec<Choice>),
    Flag(bool),
    Text(String),
}

/// What can be chosen.
pub(super) struct Choice {
    pub(super) value: &'static str,
    pub(super) text: String,
    pub(super) is_chosen: bool,
}

impl Field {
    /// A row for a value of `whose`: a line or a delivery by its number.
    pub(super) fn new(whose: Whose, control: &Control) -> Self {
        let input = match control.choices {
            Some(choices) => {
                Input::Choice(choices.iter().map(|c| Choice::new(c, &control.default)).collect())
            }
            None if control.kind == "flag" => Input::Flag(control.default == true),
            None => Input::Text(shown(&control.default)),
        };
        let mut sets = json!({
            "param": control.name, "kind": control.kind, "min": control.min, "max": control.max, "names": control.names,
        });
        let id = match whose {
            Whose::Line(at) => {
                sets["line"] = at.into();
                format!("line-{at}-{}", control.name)
            }
            Whose::Delivery(at) => {
                sets["at"] = at.into();
                format!("delivery-{at}-{}", control.name)
            }
        };
        Self {
            id,
            head: String::new(),
            name: control.name.replace('_', " "),
            about: control.about,
            unit: control.unit,
            input,
            sets: sets.to_string(),
        }
    }

    /// A row for what a recipe asks when it starts.
    pub(super) fn asked(asking: &Asking) -> Self {
        Self::of_line(asking.line, asking.title, &asking.param)
    }

    /// A row that says which line it is of.
    pub(super) fn of_line(line: usize, title: &str, control: &Control) -> Self {
        let row = Self::new(Whose::Line(line), control);
        Self {
            id: format!("ask-{}", row.id),
            head: say("any-line-before").with("line", line + 1).into(),
            name: format!("{title}, {}", row.name),
            ..row
        }
    }

    /// A row that switches a line on and off.
    pub(super) fn switch(line: usize, is_on: bool) -> Self {
        Self {
            id: format!("line-{line}-on"),
            head: String::new(),
            name: say("sheet-on").into(),
            about: "",
            unit: "",
            input: Input::Flag(is_on),
            sets: json!({"line": line, "param": "on", "kind": "flag"}).to_string(),
        }
    }
}

/// What a value belongs to, from 0.
#[derive(Clone, Copy)]
pub(super) enum Whose {
    Line(usize),
    Delivery(usize),
}

impl Choice {
    fn new(value: &'static str, now: &Value) -> Self {
        Self { value, text: value.replace('_', " "), is_chosen: now == value }
    }
}

/// A value as it is typed.
fn shown(value: &Value) -> String {
    match value {
        Value::Null => String::new(),
        Value::String(text) => text.clone(),
        // 1600 and not 1600.0.
        Value::Number(n) => n.as_f64().map(|n| n.to_string()).unwrap_or_default(),
        Value::Array(rows) if rows.iter().any(Value::is_array) => joined(rows, "; "),
        Value::Array(words) if words.iter().any(Value::is_string) => joined(words, ", "),
        Value::Array(numbers) => joined(numbers, " "),
        other => other.to_string(),
    }
}

fn joined(values: &[Value], between: &str) -> String {
    values.iter().map(shown).collect::<Vec<_>>().join(between)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rallo_engine::{Kind, Param};

    /// An object without what is nothing.
    fn told(sets: &str) -> serde_json::Map<String, Value> {
        let Ok(Value::Object(mut all)) = serde_json::from_str(sets) else { return serde_json::Map::new() };
        all.retain(|_, value| !value.is_null());
        all
    }

    fn control(kind: Kind, value: &Value) -> Control {
        Control::new(&Param { name: "long_edge", about: "Longest side.", unit: "px", kind }, value)
    }

    #[test]
    fn values_stand_as_they_are_typed() {
        for (value, text) in [
            (json!(null), ""),
            (json!(1600.0), "1600"),
            (json!(0.25), "0.25"),
            (json!([3, 2]), "3 2"),
            (json!([[0.5, 1], [1, 2.5]]), "0.5 1; 1 2.5"),
            (json!(["pots", "tulips"]), "pots, tulips"),
            (json!("{stem}"), "{stem}"),
        ] {
            assert_eq!(shown(&value), text);
        }
    }

    #[test]
    fn a_row_says_what_it_sets() {
        let whole = Kind::Whole { min: 1, max: 9000 };
        let row = Field::new(Whose::Line(2), &control(whole, &json!(400)));
        assert_eq!((row.name.as_str(), row.unit, row.id.as_str()), ("long edge", "px", "line-2-long_edge"));
        assert!(matches!(row.input, Input::Text(text) if text == "400"));
        let sets = Value::Object(told(&row.sets));
        assert_eq!(
            sets,
            json!({"line": 2, "param": "long_edge", "kind": "whole", "min": 1.0, "max": 9000.0})
        );
        let row = Field::new(Whose::Delivery(1), &control(Kind::Choice(&["a_b", "c"]), &json!("c")));
        let Input::Choice(choices) = row.input else { panic!("it is chosen") };
        assert_eq!(
            choices.iter().map(|c| (c.text.as_str(), c.is_chosen)).collect::<Vec<_>>(),
            [("a b", false), ("c", true)]
        );
        assert_eq!(told(&row.sets)["at"], 1);
        assert!(matches!(Field::switch(0, true).input, Input::Flag(true)));
    }
}
