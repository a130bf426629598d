//! Everything of a line that is needed to do it again by hand, in words and numbers: for the settings sheet.

use crate::Line;
use crate::sentence::shown;
use crate::text::number;
use rallo_engine::{Kind, Param};
use serde_json::{Map, Value};

/// A line in full.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct ByHand {
    /// Values by their names, those too that are as usual.
    pub values: Vec<(String, String)>,
    /// Curves by their names: points `[in, out]` from 0 to 1.
    pub curves: Vec<(String, Vec<[f64; 2]>)>,
    /// Shapes of its area, each with its numbers; places in hundredths of the picture's width and height.
    pub area: Vec<String>,
    /// Values per ISO: at which, and what holds there. Between two they go evenly in stops.
    pub ladder: Vec<(u32, String)>,
    /// Values over the sequence: at which share of it, and which value.
    pub ramp: Vec<String>,
    /// Values that a run asks for.
    pub asked: Vec<String>,
}

impl Line {
    /// Everything that is needed to do it again by hand.
    pub fn by_hand(&self) -> ByHand {
        let values = self.step.values();
        let params = self.kind().params;
        let said = |p: &Param| Some((name(p.name), text(p, &values[p.name])?));
        let curve = |p: &Param| match p.kind {
            Kind::Points => Some((name(p.name), serde_json::from_value(values[p.name].clone()).ok()?)),
            _ => None,
        };
        let rung = |(iso, at): &(u32, Map<String, Value>)| {
            let at: Vec<String> = params
                .iter()
                .filter_map(|p| Some(format!("{} {}", name(p.name), text(p, at.get(p.name)?)?)))
                .collect();
            (*iso, at.join(", "))
        };
        let ramped = |(what, first, last): (&str, f64, f64)| {
            format!("{} from {} to {}", name(what), number(first), number(last))
        };
        let area = self.area.as_deref().and_then(|area| serde_json::to_value(area).ok());
        ByHand {
            values: params.iter().filter_map(said).collect(),
            curves: params.iter().filter_map(curve).collect(),
            area: area
                .as_ref()
                .and_then(Value::as_array)
                .map(|all| all.iter().map(shape).collect())
                .unwrap_or_default(),
            ladder: self.by_iso.iter().flat_map(|table| table.rungs()).map(rung).collect(),
            ramp: self.ramp.iter().flat_map(|ramp| ramp.ends()).map(|(n, a, b)| ramped((n, a, b))).collect(),
            asked: self.ask.iter().map(|n| name(n)).collect(),
        }
    }
}

fn name(text: &str) -> String {
    text.replace('_', " ")
}

/// A value as it is typed, with its unit; nothing for one that is not set, or is a file.
fn text(param: &Param, value: &Value) -> Option<String> {
    let list = |value: &Value| -> Vec<String> {
        value.as_array().into_iter().flatten().filter_map(Value::as_f64).map(number).collect()
    };
    let said = match (param.kind, value) {
        (_, Value::Null) | (Kind::File(_), _) => return None,
        (_, Value::String(s)) if s.is_empty() => return None,
        (_, Value::Array(all)) if all.is_empty() => return None,
        (Kind::Flag, Value::Bool(on)) => return Some(if *on { "yes" } else { "no" }.into()),
        (Kind::Triple { .. }, _) => {
            let parts = ["red", "green", "blue"].iter().zip(list(value)).map(|(c, v)| format!("{c} {v}"));
            return Some(parts.collect::<Vec<_>>().join(", "));
        }
        (Kind::Points | Kind::Rows(..) | Kind::Course(_), Value::Array(rows)) => {
            let rows: Vec<String> = rows.iter().map(|row| list(row).join(" ")).collect();
            return Some(rows.join("; "));
        }
        (Kind::Kept(_) | Kind::Spot | Kind::Part | Kind::Window, _) => return Some(list(value).join(" ")),
        _ => shown(param, value, false, None),
    };
    let has_unit = param.unit.is_empty() || said.ends_with(['°', '%', 'K', '‰']);
    Some(if has_unit { said } else { format!("{said} {}", param.unit) })
}

/// A shape of an area in numbers.
fn shape(value: &Value) -> String {
    let share = |v: &Value| number((v.as_f64().unwrap_or_default() * 1000.0).round() / 10.0);
    let place = |key: &str| {
        format!("{} % from the left, {} % from the top", share(&value[key][0]), share(&value[key][1]))
    };
    let n = |key: &str| number(value[key].as_f64().unwrap_or_default());
    let words = match value["kind"].as_str().unwrap_or_default() {
        "gradient" => format!("a gradient: full at {}; nothing at {}", place("from"), place("to")),
        "ellipse" => format!(
            "an ellipse: its middle {}; half as wide as {} % of the picture, half as high as {} %, turned {}°, soft over {} % of its radius",
            place("centre"),
            share(&value["radii"][0]),
            share(&value["radii"][1]),
            n("turn"),
            n("soft"),
        ),
        "brightness" => format!("brightness from {} to {}, soft over {}", n("low"), n("high"), n("soft")),
        "colour" => format!("the hue {}°, up to {}° away, soft over {}°", n("hue"), n("width"), n("soft")),
        "strokes" => {
            let count = value["strokes"].as_array().map_or(0, Vec::len);
            format!("{count} painted {}, as drawn here", if count == 1 { "stroke" } else { "strokes" })
        }
        other => other.to_owned(),
    };
    let meets = match value["combine"].as_str() {
        Some("within") => "only within ",
        Some("without") => "without ",
        _ => "",
    };
    format!("{meets}{}{words}", if value["invert"] == true { "all but " } else { "" })
}

#[cfg(test)]
mod tests {
    use crate::Recipe;

    fn by_hand(step: &str) -> super::ByHand {
        let text = format!(r#"{{"format": "rallo-recipe", "version": 1, "name": "x", "steps": [{step}]}}"#);
        Recipe::parse(&text).unwrap().steps[0].by_hand()
    }

    #[test]
    fn curves_are_told_by_their_points() {
        let told = by_hand(r#"{"step": "curve", "all": [[0, 0], [0.25, 0.2], [1, 1]]}"#);
        assert_eq!(told.curves[0], ("all".into(), vec![[0.0, 0.0], [0.25, 0.2], [1.0, 1.0]]));
        assert!(told.values.contains(&("all".into(), "0 0; 0.25 0.2; 1 1".into())), "{told:?}");
    }

    #[test]
    fn ladders_areas_and_what_is_asked_are_told() {
        let told = by_hand(
            r#"{"step": "denoise", "by_iso": {"800": {"brightness": 35}, "6400": {"brightness": 55}}, "ask": ["colour"],
                "area": [{"kind": "gradient", "from": [0.5, 0.1], "to": [0.5, 0.6], "invert": true}]}"#,
        );
        assert_eq!(told.ladder, [(800, "brightness 35".into()), (6400, "brightness 55".into())]);
        assert_eq!(told.asked, ["colour"]);
        assert_eq!(
            told.area,
            [
                "all but a gradient: full at 50 % from the left, 10 % from the top; nothing at 50 % from the left, 60 % from the top"
            ]
        );
    }

    #[test]
    fn three_colours_are_told_by_name() {
        let told = by_hand(r#"{"step": "colour_balance", "shadows": [5, 0, -5]}"#);
        assert!(told.values.iter().any(|(_, v)| v.contains("red 5, green 0, blue")), "{told:?}");
    }
}
