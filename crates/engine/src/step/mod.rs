//! What a step is: one file with parameters, description, sentence and mathematics; registered in one line.
//!
//! The bench's controls, the command line's validation, the JSON Schema, the sentences on the ticket and the
//! documentation all come from [`StepInfo`] and [`Param`].

mod across;
mod declare;
mod info;
mod ops;
mod param;

pub use crate::step::across::{AcrossPictures, Against, Join, JoinBy, Joined, MEASURED_EDGE, Seen};
pub use crate::step::info::{AREA_GROUPS, Effect, Facts, StepInfo, Tool, ToolKind};
pub use crate::step::ops::{AreaOp, EnlargeOp, Geometry, MarkOp, Op, Place, View, Wants, WholeOp};
pub use crate::step::param::{
    FileError, Kind, MAX_POINTS, MAX_SIDE, PLACES, Param, ParamError, file_bytes, is_part, place_share,
    proportion,
};
pub(crate) use declare::step;

use crate::colour::space::OutputColour;
use crate::geometry::Size;
use crate::lens::TakenWith;
use crate::raw::{MosaicDenoise, RawView};
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::{Map, Value};
use std::any::Any;
use std::fmt::Debug;
use std::sync::Arc;

/// One step with its values.
pub trait Step: Debug + Send + Sync {
    /// Which step it is, whatever its values are: the name of its type.
    fn name(&self) -> &'static str {
        std::any::type_name::<Self>()
    }
    /// Its values as recipes write them, every parameter present.
    fn values(&self) -> Value;
    /// What it does, in plain words; `{name}` stands for a parameter's value, `{name|abs}` for its size without sign.
    fn sentence(&self) -> String;
    /// What it does in a word or two, where that says more than its title: the size it makes, the shape it cuts.
    fn brief(&self) -> Option<String> {
        None
    }
    /// What the parameter kinds alone cannot check.
    ///
    /// # Errors
    /// [`ParamError`] naming the parameter.
    fn check(&self) -> Result<(), ParamError> {
        Ok(())
    }
    /// The mapping, for a geometric step that changes something; everything else returns nothing.
    fn geometry(&self, _size: Size) -> Option<Geometry> {
        None
    }
    /// The work of any other step at its place; nothing where the values are neutral.
    fn ops(&self, _place: &Place) -> Vec<Op> {
        Vec::new()
    }
    /// Whether there is any work at that place; to be told without doing it where [`ops`](Self::ops) costs time.
    fn works(&self, place: &Place) -> bool {
        !self.ops(place).is_empty()
    }
    /// The colours results leave in, for a step that says so.
    fn leaves_in(&self) -> Option<Arc<OutputColour>> {
        None
    }
    /// For a step that enlarges in a way of its own; its [`geometry`](Self::geometry) is the plain scaling.
    fn enlarger(&self) -> Option<Box<dyn EnlargeOp>> {
        None
    }
    /// The same step for a picture that was taken like this, for a step that goes by that.
    fn for_frame(&self, _taken: &dyn Fn() -> TakenWith) -> Option<Box<dyn Step>> {
        None
    }
    /// What it was told of the picture's camera and lens and works by, in a text that is equal where that is.
    fn known_of_frame(&self) -> Option<String> {
        None
    }
    /// What may be what it looks for and does not find, the likeliest first.
    fn offers(&self) -> Vec<String> {
        Vec::new()
    }
    /// What it says of a picture beside its sentence.
    fn note(&self) -> Option<String> {
        None
    }
    /// For a step that decides about all pictures of a run together.
    fn across(&self) -> Option<&dyn AcrossPictures> {
        None
    }
    /// For a step that joins each picture with its neighbours in the run: these pictures, as they come to it, stand in its
    /// place.
    fn joins(&self) -> Option<Join> {
        None
    }
    /// For a step that moves each picture of a run and fills what lies beyond its edges from its neighbours, so many to each
    /// side at most.
    fn fills_edges(&self) -> Option<usize> {
        None
    }
    /// What it must be shown of its input before [`ops`](Self::ops) is asked.
    fn wants(&self) -> Wants {
        Wants::Nothing
    }
    /// The same step, knowing what was measured: one view of all for [`Wants::Overview`], some for
    /// [`Wants::Detail`], one a place for [`Wants::Around`].
    fn measured(&self, _views: &[View]) -> Option<Box<dyn Step>> {
        None
    }
    /// The same step with what another of its kind measured before the same picture, where its own values do not matter to
    /// that.
    fn like(&self, _measured: &dyn Step) -> Option<Box<dyn Step>> {
        None
    }
    /// The same step for a picture that is developed from camera raw and comes to it as it was developed, for a step that
    /// works better on that.
    fn on_raw(&self, _raw: &Arc<RawView>) -> Option<Box<dyn Step>> {
        None
    }
    /// What it does to camera raw before that is demosaiced.
    fn mosaic_denoise(&self) -> Option<MosaicDenoise> {
        None
    }

    /// Whether it may be done to camera raw before that is demosaiced.
    fn works_on_raw(&self) -> bool {
        self.mosaic_denoise().is_some()
    }
    /// Itself, for [`like`](Self::like).
    fn as_any(&self) -> Option<&dyn Any> {
        None
    }
    /// What a measured step chose: name and value.
    fn found(&self) -> Vec<(&'static str, f64)> {
        Vec::new()
    }
    /// The same in the form of a [`Kind::Kept`] parameter, to be used for every frame.
    fn kept_values(&self) -> Vec<f64> {
        Vec::new()
    }
    /// The ordinary steps that do what a measured step chose: names and values.
    fn ordinary(&self) -> Vec<(&'static str, Value)> {
        Vec::new()
    }
    /// Spatial values in pixels at this place: parameter name and pixels.
    fn pixels(&self, _place: &Place) -> Vec<(&'static str, f64)> {
        Vec::new()
    }
    /// Whether the step must see every pixel of the original, so that no reduced picture will do.
    fn needs_detail(&self) -> bool {
        false
    }
}

/// A kind of step: its description, and how to make one.
pub struct StepKind {
    /// Description.
    pub info: &'static StepInfo,
    /// Parameters, in the order they are shown.
    pub params: &'static [Param],
    make: fn(Value) -> Result<Box<dyn Step>, serde_json::Error>,
    default: fn() -> Value,
}

fn make<S: Step + DeserializeOwned + 'static>(value: Value) -> Result<Box<dyn Step>, serde_json::Error> {
    Ok(Box::new(serde_json::from_value::<S>(value)?))
}

fn default<S: Step + Default>() -> Value {
    S::default().values()
}

/// A step's struct as a JSON object.
pub fn values_of<S: Serialize>(step: &S) -> Value {
    serde_json::to_value(step).unwrap_or_default()
}

impl StepKind {
    /// Registers the struct `S` under its description.
    pub const fn of<S: Step + DeserializeOwned + Default + 'static>(
        info: &'static StepInfo,
        params: &'static [Param],
    ) -> Self {
        Self { info, params, make: make::<S>, default: default::<S> }
    }

    /// The parameter of that name.
    pub fn param(&self, name: &str) -> Option<&'static Param> {
        self.params.iter().find(|p| p.name == name)
    }

    /// Every parameter's default, as an object.
    pub fn defaults(&self) -> Value {
        (self.default)()
    }

    /// A step from values; what is left out takes its default.
    ///
    /// # Errors
    /// [`ParamError`] for an unknown name, a value out of range, or values that do not go together.
    pub fn parse(&self, values: &Map<String, Value>) -> Result<Box<dyn Step>, ParamError> {
        for (name, value) in values {
            let Some(param) = self.param(name) else {
                let known: Vec<_> = self.params.iter().map(|p| p.name).collect();
                return Err(ParamError::new(
                    name,
                    format!("unknown, {} takes {}", self.info.id, known.join(", ")),
                ));
            };
            param.check(value)?;
        }
        let step = (self.make)(Value::Object(values.clone()))
            .map_err(|e| ParamError::new(self.params.first().map_or("", |p| p.name), e.to_string()))?;
        step.check()?;
        Ok(step)
    }
}
