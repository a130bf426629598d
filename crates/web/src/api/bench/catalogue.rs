//! What the bench's controls are made from: every step and delivery with their parameters.

use crate::App;
use crate::error::Result;
use axum::Json;
use axum::extract::State;
use rallo_engine::step::Tool;
use rallo_engine::{DecodeSettings, Kind, Param, READING, registry};
use schemars::JsonSchema;
use serde::Serialize;
use serde_json::Value;

/// A parameter as the pages' controls take it.
#[derive(Serialize, JsonSchema)]
pub struct Control {
    /// Name in recipes.
    pub(crate) name: &'static str,
    /// What it does.
    pub(crate) about: &'static str,
    /// Unit; empty where there is none.
    pub(crate) unit: &'static str,
    /// What it is now.
    pub(crate) default: Value,
    /// How it is set.
    pub(crate) kind: &'static str,
    /// Least value, or least length.
    pub(crate) min: Option<f64>,
    /// Greatest value, or greatest length.
    pub(crate) max: Option<f64>,
    /// What one step of a control changes.
    step: Option<f64>,
    /// What can be chosen.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) choices: Option<&'static [&'static str]>,
    /// What the numbers of a row are.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) names: Option<&'static [&'static str]>,
}

impl Control {
    /// The control of a parameter that has this value.
    pub fn new(param: &Param, value: &Value) -> Self {
        let (min, max) = param.kind.range();
        let (mut choices, mut names) = (None, None);
        match param.kind {
            Kind::Choice(options) => choices = Some(options),
            Kind::Rows(columns, _) => names = Some(columns),
            _ => {}
        }
        Self {
            name: param.name,
            about: param.about,
            unit: param.unit,
            default: value.clone(),
            kind: param.kind.names().0,
            min,
            max,
            step: param.kind.notch(),
            choices,
            names,
        }
    }

    /// The controls of several, with their values by name.
    pub fn all(params: &[Param], values: &Value) -> Vec<Self> {
        params.iter().map(|p| Self::new(p, &values[p.name])).collect()
    }
}

/// What the bench's controls are made from.
#[derive(Serialize, JsonSchema)]
pub(super) struct Catalogue {
    /// Every step.
    steps: Vec<StepEntry>,
    /// Every kind of delivery.
    deliveries: Vec<DeliveryEntry>,
    /// What can be set of how files are read.
    reading: Vec<Control>,
}

/// A step.
#[derive(Serialize, JsonSchema)]
struct StepEntry {
    /// Name in recipes.
    id: &'static str,
    /// Name for people.
    title: &'static str,
    /// Heading it is listed under.
    group: &'static str,
    /// What it does.
    about: &'static str,
    /// Whether it changes where pixels lie or how large the picture is.
    moves: bool,
    /// Whether it can be limited to an area.
    takes_area: bool,
    /// Whether what it does shows only at full size.
    judged_at_full_size: bool,
    /// Parameters that are ends of the tones.
    clips: &'static [&'static str],
    /// Parameters of which at most one is given.
    one_of: &'static [&'static str],
    /// How it is set on the picture itself.
    tool: Option<ToolEntry>,
    /// What people may type when they look for it.
    words: &'static [&'static str],
    /// Values a new line starts with.
    starter: Value,
    /// Values it had last, where a new line starts from those.
    lately: Option<Value>,
    /// Its parameters with their defaults.
    params: Vec<Control>,
}

/// How a step is set on the picture itself.
#[derive(Serialize, JsonSchema)]
struct ToolEntry {
    /// What the hand does.
    kind: &'static str,
    /// The button that takes it up; without one it is at hand whenever the step is open.
    button: Option<&'static str>,
    /// What to do with it.
    hint: &'static str,
    /// Whether it is taken up as soon as the step is added.
    opens_at_once: bool,
    /// Whether the picture is shown as it comes to the step meanwhile.
    shows_input: bool,
}

impl From<Tool> for ToolEntry {
    fn from(tool: Tool) -> Self {
        let Tool { kind, button, hint, opens_at_once, shows_input } = tool;
        Self { kind: kind.as_str(), button, hint, opens_at_once, shows_input }
    }
}

/// A kind of delivery.
#[derive(Serialize, JsonSchema)]
struct DeliveryEntry {
    /// Name in recipes.
    id: &'static str,
    /// Name for people.
    title: &'static str,
    /// What it makes.
    about: &'static str,
    /// Its parameters with their defaults.
    params: Vec<Control>,
}

/// What the bench's controls are made from; a step that is used with the same values again and again starts from those
/// last written down.
pub(super) async fn steps(State(app): State<App>) -> Result<Json<Catalogue>> {
    let lately = crate::api::recipes::lately(&app).await?;
    let steps = registry().iter().map(|kind| {
        let (info, facts) = (&kind.info, &kind.info.facts);
        StepEntry {
            id: info.id,
            title: info.title,
            group: info.group,
            about: info.about,
            moves: facts.moves_pixels,
            takes_area: info.takes_area(),
            judged_at_full_size: facts.judged_at_full_size,
            clips: facts.clips,
            one_of: facts.one_of,
            tool: facts.tool.map(ToolEntry::from),
            words: info.words,
            starter: serde_json::from_str(info.starter).unwrap_or_default(),
            lately: lately.get(info.id).cloned(),
            params: Control::all(kind.params, &kind.defaults()),
        }
    });
    let deliveries = rallo_recipe::delivery::KINDS.iter().map(|kind| DeliveryEntry {
        id: kind.id,
        title: kind.title,
        about: kind.about,
        params: Control::all(kind.params, &kind.defaults()),
    });
    let reading = Control::all(&READING, &DecodeSettings::default().values());
    Ok(Json(Catalogue { steps: steps.collect(), deliveries: deliveries.collect(), reading }))
}
