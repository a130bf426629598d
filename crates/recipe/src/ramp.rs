//! Values of a line that change over a sequence: fixed at marks, carried between them by a monotone smooth curve.

use crate::document::Recipe;
use crate::text::brief;
use jiff::civil::DateTime;
use rallo_engine::sequence::ramp_curve::between;
use rallo_engine::{Kind, StepKind};
use serde_json::{Map, Value, json};
use std::collections::{BTreeMap, HashMap};

/// Most marks of one value.
pub const MOST_MARKS: usize = 200;

/// Where in a sequence a value is fixed.
#[derive(Clone, Debug, PartialEq)]
pub enum Mark {
    /// By share: 0 is the first frame, 1 the last.
    Share(f64),
    /// At a frame, by its file name or that without its ending.
    Name(String),
    /// At a time.
    Time(DateTime),
}

/// Values of a step over a sequence, by parameter.
#[derive(Clone, Debug, PartialEq)]
pub struct Ramp(BTreeMap<String, Vec<(Mark, f64)>>);

/// What marks are looked up by.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct RampFrame {
    /// File name.
    pub name: String,
    /// When it was taken.
    pub taken: Option<DateTime>,
}

impl Mark {
    fn read(value: &Value) -> Option<Self> {
        match value {
            Value::Number(n) => n.as_f64().filter(|v| (0.0..=1.0).contains(v)).map(Self::Share),
            Value::String(text) => match text.parse::<DateTime>() {
                Ok(time) => Some(Self::Time(time)),
                Err(_) => (!text.trim().is_empty() && text.len() <= 300).then(|| Self::Name(text.clone())),
            },
            _ => None,
        }
    }

    /// As it is written.
    pub fn to_value(&self) -> Value {
        match self {
            Self::Share(share) => json!(share),
            Self::Name(name) => json!(name),
            Self::Time(time) => json!(time.to_string()),
        }
    }
}

impl Ramp {
    /// Reads `{"stops": [[0, 0.5], ["BED_0100.jpg", 1.2], ["2026-04-09T12:00", 0.8]]}` for a kind of step.
    ///
    /// # Errors
    /// Path below the line, and what is wrong.
    pub fn read(kind: &StepKind, value: &Value) -> Result<Self, (String, String)> {
        let Some(map) = value.as_object().filter(|m| !m.is_empty()) else {
            return Err(("ramp".into(), "expected an object of values, each with its marks".into()));
        };
        let mut values = BTreeMap::new();
        for (name, marks) in map {
            let at = format!("ramp.{name}");
            let Some(param) = kind.param(name).filter(|p| matches!(p.kind, Kind::Number { .. })) else {
                let numbers = kind.params.iter().filter(|p| matches!(p.kind, Kind::Number { .. }));
                let known: Vec<_> = numbers.map(|p| p.name).collect();
                return Err((
                    at,
                    format!("expected a number of {}, which has {}", kind.info.id, known.join(", ")),
                ));
            };
            let list = marks.as_array().filter(|m| !m.is_empty() && m.len() <= MOST_MARKS);
            let list = list.ok_or_else(|| {
                (at.clone(), format!("expected 1 to {MOST_MARKS} marks [place, value], got {}", brief(marks)))
            })?;
            let mut read = Vec::with_capacity(list.len());
            for (i, mark) in list.iter().enumerate() {
                let at = format!("{at}[{i}]");
                let pair = mark.as_array().filter(|pair| pair.len() == 2);
                let place = pair.and_then(|pair| Mark::read(&pair[0]));
                let Some((place, value)) = place.zip(pair.and_then(|pair| pair[1].as_f64())) else {
                    return Err((
                        at,
                        format!(
                            "expected [place, value], the place a share from 0 to 1, a frame's name or a time such as \
                             2026-04-09T12:00, got {}",
                            brief(mark)
                        ),
                    ));
                };
                param.check(&json!(value)).map_err(|e| (at, e.message))?;
                read.push((place, value));
            }
            values.insert(name.clone(), read);
        }
        Ok(Self(values))
    }

    /// As it is written.
    pub fn to_value(&self) -> Value {
        let marks = |marks: &Vec<(Mark, f64)>| -> Value {
            marks.iter().map(|(place, value)| json!([place.to_value(), value])).collect()
        };
        Value::Object(self.0.iter().map(|(name, all)| (name.clone(), marks(all))).collect::<Map<_, _>>())
    }

    /// The marks of a parameter.
    pub fn marks(&self, name: &str) -> &[(Mark, f64)] {
        self.0.get(name).map_or(&[], Vec::as_slice)
    }

    /// Its parameters, each with its first and its last value.
    pub fn ends(&self) -> impl Iterator<Item = (&str, f64, f64)> {
        self.0.iter().filter_map(|(name, marks)| Some((name.as_str(), marks.first()?.1, marks.last()?.1)))
    }

    /// Whether a mark is a time, which has to be known of every frame.
    fn goes_by_time(&self) -> bool {
        self.0.values().flatten().any(|(mark, _)| matches!(mark, Mark::Time(_)))
    }
}

/// The places of marks in a sequence, looked up in its frames.
pub struct MarkPlaces<'a> {
    frames: &'a [RampFrame],
    names: HashMap<&'a str, usize>,
    /// Frames that have a time, in the order of time.
    times: Vec<(DateTime, usize)>,
}

impl<'a> MarkPlaces<'a> {
    /// Those of a sequence.
    pub fn of(frames: &'a [RampFrame]) -> Self {
        let mut names = HashMap::new();
        for (i, frame) in frames.iter().enumerate().rev() {
            let stem = frame.name.rsplit_once('.').map_or(frame.name.as_str(), |(stem, _)| stem);
            names.insert(stem, i);
            names.insert(frame.name.as_str(), i);
        }
        let mut times: Vec<(DateTime, usize)> =
            frames.iter().enumerate().filter_map(|(i, f)| Some((f.taken?, i))).collect();
        times.sort();
        Self { frames, names, times }
    }

    /// Where a mark stands, as a share of the sequence; nothing where its frame is not in it.
    pub fn share_of(&self, mark: &Mark) -> Option<f64> {
        let most = self.frames.len().saturating_sub(1).max(1) as f64;
        self.of_mark(mark).map(|at| at / most)
    }

    /// Where a mark stands, counted in frames; nothing where its frame is not in the sequence.
    fn of_mark(&self, mark: &Mark) -> Option<f64> {
        match mark {
            Mark::Share(share) => Some(share * self.frames.len().saturating_sub(1) as f64),
            Mark::Name(name) => self.names.get(name.as_str()).map(|i| *i as f64),
            Mark::Time(time) => {
                let after = self.times.partition_point(|(t, _)| t < time);
                let place = |at: usize| self.times.get(at).map(|(_, i)| *i as f64);
                let (Some(below), Some(above)) = (after.checked_sub(1), self.times.get(after)) else {
                    return place(after.min(self.times.len().saturating_sub(1)));
                };
                let seconds = |a: DateTime, b: DateTime| b.duration_since(a).as_secs_f64();
                let start = self.times[below];
                let share = seconds(start.0, *time) / seconds(start.0, above.0).max(1e-9);
                Some(start.1 as f64 + share * (above.1 as f64 - start.1 as f64))
            }
        }
    }
}

/// A value of a line that holds for one frame: the line, the parameter, the value.
pub type FrameValue = (usize, String, Value);

impl Recipe {
    /// Whether a line that is on has values that change over the sequence.
    pub fn has_ramps(&self) -> bool {
        self.steps.iter().any(|line| line.on && line.ramp.is_some())
    }

    /// Whether such a value is fixed at a time.
    pub fn ramps_by_time(&self) -> bool {
        self.steps.iter().filter_map(|line| line.ramp.as_ref()).any(Ramp::goes_by_time)
    }

    /// For every frame of a sequence the values of lines that change over it. A mark whose frame is not in the sequence counts
    /// for nothing; a value none of whose marks is in it is that of its line.
    pub fn ramped(&self, frames: &[RampFrame]) -> Vec<Vec<FrameValue>> {
        let places = MarkPlaces::of(frames);
        let mut out: Vec<Vec<FrameValue>> = vec![Vec::new(); frames.len()];
        for (line, own) in self.steps.iter().enumerate() {
            for (name, marks) in own.ramp.iter().flat_map(|ramp| &ramp.0) {
                let mut fixed: Vec<(f64, f64)> =
                    marks.iter().filter_map(|(mark, value)| Some((places.of_mark(mark)?, *value))).collect();
                // Of marks at one place the last one counts.
                fixed.reverse();
                fixed.sort_by(|a, b| a.0.total_cmp(&b.0));
                fixed.dedup_by(|b, a| (a.0 - b.0).abs() < 1e-6);
                for (i, values) in out.iter_mut().enumerate() {
                    let Some(value) = between(&fixed, i as f64) else { continue };
                    values.push((line, name.clone(), json!((value * 1e4).round() / 1e4)));
                }
            }
        }
        out
    }

    /// Marks of its ramps whose frames are not in a sequence: line and name.
    pub fn lost_marks(&self, frames: &[RampFrame]) -> Vec<(usize, String)> {
        let places = MarkPlaces::of(frames);
        let lines = self.steps.iter().enumerate().filter_map(|(i, line)| Some((i, line.ramp.as_ref()?)));
        let marks = lines.flat_map(|(i, ramp)| ramp.0.values().flatten().map(move |(mark, _)| (i, mark)));
        marks
            .filter(|(_, mark)| places.of_mark(mark).is_none())
            .filter_map(|(i, mark)| match mark {
                Mark::Name(name) => Some((i, name.clone())),
                Mark::Share(_) | Mark::Time(_) => None,
            })
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn recipe(ramp: Value) -> Result<Recipe, String> {
        let steps = json!([{"step": "exposure", "stops": 0.3, "ramp": ramp}]);
        Recipe::from_value(&json!({"format": "rallo-recipe", "version": 1, "name": "x", "steps": steps}))
            .map_err(|e| e.to_string())
    }

    fn frames(count: i64) -> Vec<RampFrame> {
        let start = jiff::civil::date(2026, 4, 6).at(6, 0, 0, 0);
        let frame = |i: i64| RampFrame {
            name: format!("F_{i:02}.jpg"),
            taken: Some(start + jiff::SignedDuration::from_mins(10 * i)),
        };
        (0..count).map(frame).collect()
    }

    fn stops(ramp: Value, count: i64) -> Vec<f64> {
        let all = recipe(ramp).unwrap().ramped(&frames(count));
        all.iter().map(|values| values[0].2.as_f64().unwrap()).collect()
    }

    #[test]
    fn marks_fix_values_by_share_by_name_and_by_time() {
        let by_share = stops(json!({"stops": [[0, 0], [1, 2]]}), 21);
        assert!((by_share[0], by_share[10], by_share[20]) == (0.0, 1.0, 2.0), "{by_share:?}");
        let mixed = json!({"stops": [["F_02.jpg", -1], ["F_10", 1], ["2026-04-06T09:00:00", 0.5]]});
        let values = stops(mixed, 21);
        assert_eq!((values[0], values[2], values[10], values[18], values[20]), (-1.0, -1.0, 1.0, 0.5, 0.5));
        assert!(values[2..=10].windows(2).all(|w| w[0] <= w[1]), "it rises all the way: {values:?}");
        // A time between two frames.
        let between = stops(json!({"stops": [["2026-04-06T06:00", 0], ["2026-04-06T06:25", 1]]}), 4);
        assert!(between[0] == 0.0 && between[2] < 1.0 && between[3] == 1.0, "{between:?}");
    }

    #[test]
    fn a_recipe_fits_another_sequence() {
        let ramp = json!({"stops": [["F_02.jpg", -1], ["F_30.jpg", 1]]});
        let recipe = recipe(ramp).unwrap();
        assert_eq!(recipe.lost_marks(&frames(21)), [(0, "F_30.jpg".to_owned())]);
        assert!(recipe.ramped(&frames(21)).iter().all(|v| v[0].2 == json!(-1.0)));
        assert!(recipe.ramped(&frames(1))[0].is_empty(), "none of its marks is there");
        assert!(recipe.ramped(&[]).is_empty());
    }

    #[test]
    fn it_is_written_as_it_was_read_and_what_is_wrong_is_named() {
        let ramp = json!({"stops": [[0.0, 0.5], ["F_10.jpg", 1.25], ["2026-04-09T12:00:00", -0.8]]});
        assert_eq!(recipe(ramp.clone()).unwrap().to_value()["steps"][0]["ramp"], ramp);
        for (ramp, told) in [
            (json!({}), "ramp: expected an object"),
            (json!({"warmth": [[0, 1]]}), "ramp.warmth: expected a number of exposure, which has stops"),
            (json!({"stops": []}), "ramp.stops: expected 1 to"),
            (json!({"stops": [[2, 1]]}), "ramp.stops[0]: expected [place, value]"),
            (json!({"stops": [[0, 1], [1, 99]]}), "ramp.stops[1]: "),
        ] {
            let said = recipe(ramp).unwrap_err();
            assert!(said.contains(told), "{said}");
        }
    }
}
