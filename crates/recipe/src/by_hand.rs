//! Everything of a line that is needed to do it again by hand, in words and numbers: for the settings sheet.

use crate::Line;
use crate::sentence::shown;
use crate::text::number;
use rallo_engine::ops::mask::{Area, Form};
use rallo_engine::steps::light::curve::Monotone;
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

/// A small drawing of what belongs to a line: strokes in a frame.
#[derive(Clone, Debug, PartialEq)]
pub struct Sketch {
    /// What it shows.
    pub title: String,
    /// Width and height of its frame.
    pub size: [f64; 2],
    /// Rows of points in the frame, down as down.
    pub strokes: Vec<SketchStroke>,
}

/// A stroke of a drawing.
#[derive(Clone, Debug, PartialEq)]
pub struct SketchStroke {
    /// Its points.
    pub points: Vec<[f64; 2]>,
    /// Drawn with a broad brush.
    pub is_broad: bool,
}

/// Points by which a round line is drawn.
const ROUND: usize = 48;

/// A round line: its middle, half width and height, and turn in degrees.
fn round(middle: [f64; 2], radii: [f64; 2], turn: f64) -> SketchStroke {
    let (sin, cos) = turn.to_radians().sin_cos();
    let at = |i: usize| {
        let (y, x) = (i as f64 / ROUND as f64 * std::f64::consts::TAU).sin_cos();
        let (x, y) = (x * radii[0], y * radii[1]);
        [middle[0] + x * cos - y * sin, middle[1] + x * sin + y * cos]
    };
    SketchStroke { points: (0..=ROUND).map(at).collect(), is_broad: false }
}

/// Where an area lies, on a drawing of a picture of 3:2; nothing for one that is told by brightness or colour alone.
fn area_sketch(area: &Area) -> Option<Sketch> {
    let size = [150.0, 100.0];
    let on = |p: &[f64; 2]| [p[0] * size[0], p[1] * size[1]];
    let strokes: Vec<SketchStroke> = area
        .0
        .iter()
        .flat_map(|shape| match &shape.form {
            Form::Gradient { from, to } => {
                let (from, to) = (on(from), on(to));
                vec![SketchStroke { points: vec![from, to], is_broad: false }, round(from, [3.0, 3.0], 0.0)]
            }
            Form::Ellipse { centre, radii, turn, .. } => vec![round(on(centre), on(radii), *turn)],
            Form::Strokes { strokes, .. } => {
                let stroke = |points: &Vec<[f64; 2]>| points.iter().map(on).collect();
                strokes.iter().map(|s| SketchStroke { points: stroke(&s.points), is_broad: true }).collect()
            }
            Form::Brightness { .. } | Form::Colour { .. } => Vec::new(),
        })
        .collect();
    (!strokes.is_empty()).then(|| Sketch { title: "where it works".into(), size, strokes })
}

impl ByHand {
    /// What is to be known beside the values, a sentence each.
    pub fn sentences(&self) -> Vec<String> {
        let area = self.area.iter().map(|shape| format!("Only in {shape}."));
        let ladder = self.ladder.iter().map(|(iso, values)| format!("ISO {iso}: {values}"));
        let ramp = self.ramp.iter().map(|words| format!("Over the sequence: {words}"));
        let mut all: Vec<String> = area.chain(ladder).chain(ramp).collect();
        if !self.asked.is_empty() {
            all.push(format!("Asked for when a run starts: {}", self.asked.join(", ")));
        }
        all
    }
}

impl Line {
    /// Its curves, up as up, and where it works; straight curves are not drawn.
    pub fn sketches(&self) -> Vec<Sketch> {
        let curves = self.by_hand().curves;
        let bent = curves.into_iter().filter(|(_, points)| points.iter().any(|[x, y]| (x - y).abs() > 1e-6));
        let curve = |(name, points): (String, Vec<[f64; 2]>)| {
            let on = |x: f64, y: f64| [x * 100.0, 100.0 - y.clamp(0.0, 1.0) * 100.0];
            let function = Monotone::new(&points);
            let course = (0..=50).map(|i| f64::from(i) / 50.0).map(|x| on(x, function.at(x))).collect();
            let marks = points.iter().map(|[x, y]| round(on(*x, *y), [2.0, 2.0], 0.0));
            let strokes =
                std::iter::once(SketchStroke { points: course, is_broad: false }).chain(marks).collect();
            Sketch { title: format!("{name}, dark to light"), size: [100.0; 2], strokes }
        };
        bent.map(curve).chain(self.area.as_deref().and_then(area_sketch)).collect()
    }

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
    fn curves_and_areas_are_drawn_where_they_lie() {
        let sketches = |step: &str| {
            let text =
                format!(r#"{{"format": "rallo-recipe", "version": 1, "name": "x", "steps": [{step}]}}"#);
            Recipe::parse(&text).unwrap().steps[0].sketches()
        };
        let told = sketches(
            r#"{"step": "curve", "all": [[0, 0], [0.25, 0.2], [1, 1]], "area": [
                {"kind": "ellipse", "centre": [0.5, 0.5], "radii": [0.2, 0.1], "turn": 90},
                {"kind": "gradient", "from": [0, 0], "to": [1, 1]}]}"#,
        );
        assert_eq!(
            told.iter().map(|s| s.title.as_str()).collect::<Vec<_>>(),
            ["all, dark to light", "where it works"]
        );
        // The curve goes through its points, each of which is marked, and bends between them.
        let course = &told[0].strokes[0].points;
        let near = |x: f64, y: f64| course.iter().any(|p| (p[0] - x).abs() < 1.1 && (p[1] - y).abs() < 1.1);
        assert!(near(25.0, 80.0) && near(0.0, 100.0) && near(100.0, 0.0) && !near(62.5, 40.0), "{course:?}");
        assert_eq!(told[0].strokes.len(), 4);
        // A quarter turn lays the ellipse's 30 of half its width upright.
        let points = &told[1].strokes[0].points;
        let most = |of: usize| points.iter().map(|p| p[of]).fold(f64::MIN, f64::max);
        assert!((most(0) - 85.0).abs() < 0.1 && (most(1) - 80.0).abs() < 0.1, "{} {}", most(0), most(1));
        assert_eq!(told[1].strokes[1].points, [[0.0, 0.0], [150.0, 100.0]]);
        assert!(
            sketches(r#"{"step": "grey", "area": [{"kind": "brightness", "low": 0, "high": 0.5}]}"#)
                .is_empty()
        );
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
