//! What is known of a frame when its lines are resolved: camera data, marks, its place in the sequence.

use crate::document::Recipe;
use crate::fault::{Fault, Faults};
use jiff::civil::DateTime;
use rallo_engine::lens::EmbeddedLens;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::collections::BTreeMap;

/// A frame's own small changes on top of a recipe.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct FrameAdjustments {
    /// Stops brighter, −5 ..= 5.
    #[schemars(range(min = -5.0, max = 5.0))]
    pub exposure: f64,
    /// The crop moved to the right, in hundredths of the width, −100 ..= 100.
    #[schemars(range(min = -100.0, max = 100.0))]
    pub right: f64,
    /// The crop moved down, in hundredths of the height, −100 ..= 100.
    #[schemars(range(min = -100.0, max = 100.0))]
    pub down: f64,
}

impl FrameAdjustments {
    /// Whether nothing is changed.
    pub fn is_nothing(&self) -> bool {
        *self == Self::default()
    }

    /// In words; empty where nothing is changed.
    pub fn words(&self) -> String {
        use crate::text::number;
        let part = |v: f64, text: String| (v != 0.0).then_some(text);
        let fields = [
            part(self.exposure, format!("exposure {} stops", number(self.exposure))),
            part(self.right, format!("crop {} % to the right", number(self.right))),
            part(self.down, format!("crop {} % down", number(self.down))),
        ];
        fields.into_iter().flatten().collect::<Vec<_>>().join(", ")
    }
}

/// What is known of a frame by itself.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct FrameContext {
    /// Original's name without its ending.
    pub stem: String,
    /// Name of the original's folder.
    pub folder: String,
    /// Capture time.
    pub taken: Option<DateTime>,
    /// Maker and model.
    pub camera: Option<String>,
    /// Lens.
    pub lens: Option<String>,
    /// Millimetres.
    pub focal_length: Option<f64>,
    /// f-number.
    pub aperture: Option<f64>,
    /// What the camera wrote of what its lens does.
    pub embedded_lens: Option<EmbeddedLens>,
    /// Seconds.
    pub shutter: Option<f64>,
    /// ISO speed.
    pub iso: Option<u32>,
    /// Upright pixels per row; 0 unknown.
    pub width: u32,
    /// Upright rows; 0 unknown.
    pub height: u32,
    /// 0 none … 5.
    pub rating: u8,
    /// Keywords.
    pub keywords: Vec<String>,
    /// Its own small changes.
    pub own: FrameAdjustments,
}

/// A frame's place among those it is worked on with.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct SequencePlace {
    /// Which one it is, from 1.
    pub number: usize,
    /// How many there are; 0 where that is not known.
    pub count: usize,
}

/// Values of lines that hold for one frame alone, by line from 0 and parameter. They were decided about all frames
/// together, so the document does not have them; they come before those of the ISO.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Overrides(BTreeMap<usize, Map<String, Value>>);

impl Overrides {
    /// Values for a recipe's lines, each with its line, from 0, and its parameter.
    ///
    /// # Errors
    /// [`Faults`] where a line is not there, or its step does not take the value: nothing is left out silently.
    pub fn new(recipe: &Recipe, values: &[(usize, String, Value)]) -> Result<Self, Faults> {
        let mut by_line: BTreeMap<usize, Map<String, Value>> = BTreeMap::new();
        for (line, name, value) in values {
            by_line.entry(*line).or_default().insert(name.clone(), value.clone());
        }
        for (line, own) in &by_line {
            let fault = |message: String| Faults(vec![Fault { path: format!("steps[{line}]"), message }]);
            let known = recipe.steps.get(*line).ok_or_else(|| fault("there is no such line".into()))?;
            let kind = known.kind();
            if let Some(name) = own.keys().find(|name| kind.param(name).is_none()) {
                return Err(fault(format!("{} has no parameter {name}", kind.info.title)));
            }
            let Value::Object(mut all) = known.step.values() else { continue };
            all.extend(own.clone());
            kind.parse(&all).map_err(|e| fault(e.to_string()))?;
        }
        Ok(Self(by_line))
    }

    /// Those of a line.
    pub(crate) fn of_line(&self, line: usize) -> Option<&Map<String, Value>> {
        self.0.get(&line)
    }
}

/// Everything a line may depend on when it is resolved for one picture.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct ResolveContext {
    /// The frame.
    pub frame: FrameContext,
    /// Its place among the others.
    pub sequence: SequencePlace,
    /// What was decided about it together with the others.
    pub overrides: Overrides,
}

impl ResolveContext {
    /// A frame at its place, from 1, among others.
    pub fn nth(frame: FrameContext, number: usize) -> Self {
        Self { frame, sequence: SequencePlace { number, count: 0 }, ..Self::default() }
    }
}

impl From<FrameContext> for ResolveContext {
    fn from(frame: FrameContext) -> Self {
        Self { frame, ..Self::default() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn recipe() -> Recipe {
        let steps = json!([{"step": "exposure", "stops": 1, "by_iso": {"100": {"stops": 0.5}}}, {"step": "saturation"}]);
        Recipe::from_value(&json!({"format": "rallo-recipe", "version": 1, "name": "x", "steps": steps}))
            .unwrap()
    }

    #[test]
    fn what_was_decided_for_one_frame_holds_for_it_alone_and_comes_before_all_else() {
        let recipe = recipe();
        let frame = FrameContext { iso: Some(100), ..FrameContext::default() };
        let stops = |context: &ResolveContext| recipe.settings(context)[0].step.values()["stops"].clone();
        let plain = ResolveContext::from(frame);
        assert_eq!(stops(&plain), json!(0.5));
        let overrides = Overrides::new(&recipe, &[(0, "stops".into(), json!(-1.5))]).unwrap();
        let own = ResolveContext { overrides, ..plain.clone() };
        assert_eq!(stops(&own), json!(-1.5));
        assert_eq!(recipe.settings(&own)[1].step.values(), recipe.settings(&plain)[1].step.values());
    }

    #[test]
    fn what_does_not_fit_a_line_is_refused_with_its_place() {
        let refused = |line, name: &str, value| {
            Overrides::new(&recipe(), &[(line, name.to_owned(), value)]).unwrap_err().to_string()
        };
        assert_eq!(refused(2, "stops", json!(1)), "steps[2]: there is no such line");
        assert_eq!(refused(0, "tint", json!(1)), "steps[0]: Exposure has no parameter tint");
        assert!(refused(0, "stops", json!(99)).starts_with("steps[0]: "));
    }
}
