//! One line of a recipe.

use crate::condition::Condition;
use crate::iso_table::IsoTable;
use crate::ramp::Ramp;
use rallo_engine::{Area, Step, StepKind, registry, step_kind};
use std::sync::Arc;

/// One line of a recipe.
#[derive(Clone, Debug)]
pub struct Line {
    /// The step with its values.
    pub step: Arc<dyn Step>,
    /// The step's name in recipes.
    pub id: &'static str,
    /// Whether it is done.
    pub on: bool,
    /// How much of it, 0 ..= 100 %.
    pub mix: f64,
    /// Where in the picture it works; everywhere without one.
    pub area: Option<Arc<Area>>,
    /// For which pictures; all without one.
    pub when: Option<Condition>,
    /// Its values per ISO, over those it has.
    pub by_iso: Option<IsoTable>,
    /// Its values over a sequence, over all the others.
    pub ramp: Option<Ramp>,
    /// Parameters a run asks for at its start.
    pub ask: Vec<&'static str>,
    /// A run waits for a yes before this line; what is to be looked at.
    pub checkpoint: Option<String>,
    /// The block it belongs to, by name.
    pub block: Option<String>,
}

impl Line {
    /// A line that is on, for every picture and all of it.
    pub fn new(kind: &StepKind, step: Box<dyn Step>) -> Self {
        let step = Arc::from(step);
        Self {
            step,
            id: kind.info.id,
            on: true,
            mix: 100.0,
            area: None,
            when: None,
            by_iso: None,
            ramp: None,
            ask: Vec::new(),
            checkpoint: None,
            block: None,
        }
    }

    /// The kind of its step.
    pub fn kind(&self) -> &'static StepKind {
        // A line is only made from a registered kind.
        step_kind(self.id).unwrap_or(registry()[0])
    }

    /// Whether it cannot be mixed together with other lines.
    pub(crate) fn stands_alone(&self) -> bool {
        self.kind().info.stands_alone()
    }
}
