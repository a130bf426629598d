//! What a recipe is: lines, blocks, deliveries, and what can be asked of them without a picture.

use crate::condition::Condition;
use crate::delivery::{Delivery, Pictures, Task};
use crate::iso_table::Ladder;
use rallo_engine::{Area, Param, Step, StepKind, registry, step_kind};
use serde_json::Value;
use std::fmt;
use std::sync::Arc;

/// Most steps a recipe may have.
pub const MAX_STEPS: usize = 100;

/// One fault, with the place it is at.
#[derive(Clone, Debug, PartialEq)]
pub struct Fault {
    /// Such as `steps[2].crop.proportion`.
    pub path: String,
    /// What was expected and what came.
    pub message: String,
}

impl fmt::Display for Fault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.path.is_empty() {
            f.write_str(&self.message)
        } else {
            write!(f, "{}: {}", self.path, self.message)
        }
    }
}

/// Everything that is wrong with a document.
#[derive(Clone, Debug, thiserror::Error)]
#[error("{}", .0.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"))]
pub struct Faults(pub Vec<Fault>);

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
    pub by_iso: Option<Ladder>,
    /// Parameters a run asks for at its start.
    pub ask: Vec<&'static str>,
    /// A run waits for a yes before this line; what is to be looked at.
    pub checkpoint: Option<String>,
    /// The block it belongs to, by name.
    pub block: Option<String>,
}

/// Neighbouring lines with one name, one mix and one on/off.
#[derive(Clone, Debug, PartialEq)]
pub struct Block {
    /// Not empty, and no other block's.
    pub name: String,
    /// Whether its lines are done.
    pub on: bool,
    /// How much of what it does, 0 ..= 100 %.
    pub mix: f64,
    /// The recipe its lines were taken from, if they were.
    pub from: Option<TakenFrom>,
}

/// A recipe whose lines stand in a block of another one.
#[derive(Clone, Debug, PartialEq)]
pub struct TakenFrom {
    /// Its name.
    pub recipe: String,
    /// The version that stands in the block.
    pub version: i64,
    /// Whether later versions are taken over.
    pub follow: bool,
}

/// A checked recipe.
#[derive(Clone, Debug)]
pub struct Recipe {
    /// Name, not empty.
    pub name: String,
    /// Anything people want to remember.
    pub note: String,
    /// Labels to find it by.
    pub labels: Vec<String>,
    /// The steps, in order.
    pub steps: Vec<Line>,
    /// What binds some of them together.
    pub blocks: Vec<Block>,
    /// Where the results go.
    pub deliveries: Vec<Delivery>,
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
    pub(super) fn stands_alone(&self) -> bool {
        self.kind().info.stands_alone()
    }
}

impl Recipe {
    /// Lines before which a run waits for a yes, with what is to be looked at.
    pub fn checkpoints(&self) -> Vec<(usize, &str)> {
        let wait =
            |(i, line): (usize, &'_ Line)| line.checkpoint.as_ref().filter(|_| self.is_on(line)).map(|_| i);
        let at: Vec<usize> = self.steps.iter().enumerate().filter_map(wait).collect();
        at.into_iter().map(|i| (i, self.steps[i].checkpoint.as_deref().unwrap_or_default())).collect()
    }

    /// An empty recipe with the ordinary delivery.
    pub fn new(name: &str) -> Self {
        Self {
            name: name.to_owned(),
            note: String::new(),
            labels: Vec::new(),
            steps: Vec::new(),
            blocks: Vec::new(),
            deliveries: vec![Delivery::default()],
        }
    }

    /// Every file it makes of each frame, with the delivery it belongs to.
    pub fn files(&self) -> Vec<(usize, Pictures)> {
        let all = self.deliveries.iter().enumerate();
        all.flat_map(|(at, one)| one.files().into_iter().map(move |f| (at, f))).collect()
    }

    /// Whether one of its lines changes pixels of some picture.
    pub fn changes_pixels(&self) -> bool {
        self.steps.iter().any(|l| self.is_on(l) && l.id != "data")
    }

    /// Whether a line is on, and the block it stands in.
    pub(super) fn is_on(&self, line: &Line) -> bool {
        let block = self.blocks.iter().find(|b| Some(&b.name) == line.block.as_ref());
        line.on && block.is_none_or(|b| b.on)
    }

    /// What it does for all frames of a run together, with the delivery it belongs to; a run knows them by their places.
    pub fn tasks(&self) -> Vec<(usize, Task)> {
        let all = self.deliveries.iter().enumerate();
        all.flat_map(|(at, one)| one.tasks().into_iter().map(move |t| (at, t))).collect()
    }

    /// What each frame becomes before it joins others in one file: the task's place, and the picture.
    pub fn stages(&self) -> Vec<(usize, Pictures)> {
        let stage = |(i, (at, task)): (usize, (usize, Task))| match task {
            Task::Bundle(bundle) => {
                Some((i, Pictures { lines: self.deliveries[at].lines.clone(), ..bundle.stage() }))
            }
            _ => None,
        };
        self.tasks().into_iter().enumerate().filter_map(stage).collect()
    }

    /// What its first delivery makes of a frame; what pages show of it.
    pub fn shown(&self) -> Pictures {
        let first = self.deliveries.first();
        let files = first.map(Delivery::files).unwrap_or_default();
        let stage = || self.stages().into_iter().next().map(|(_, s)| s);
        files.into_iter().next().or_else(stage).unwrap_or_default()
    }

    /// What a run asks for at its start: line from 0, parameter, and the value that stands there.
    pub fn asks(&self) -> Vec<(usize, &'static Param, Value)> {
        let on = self.steps.iter().enumerate().filter(|(_, line)| self.is_on(line));
        on.flat_map(|(i, line)| {
            let values = line.step.values();
            let named = line.ask.iter().filter_map(|name| line.kind().param(name));
            named.map(move |param| (i, param, values[param.name].clone()))
        })
        .collect()
    }
}
