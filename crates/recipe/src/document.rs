//! What a recipe is: lines, blocks, deliveries, and what can be asked of them without a picture.

use crate::delivery::{Delivery, FinishingTask, Pictures};
use crate::line::Line;
use rallo_engine::{DecodeSettings, Param};
use serde_json::Value;

/// Most steps a recipe may have.
pub const MAX_STEPS: usize = 100;

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
    /// How files are read, before the first step.
    pub decode: DecodeSettings,
    /// The steps, in order.
    pub steps: Vec<Line>,
    /// What binds some of them together.
    pub blocks: Vec<Block>,
    /// Where the results go.
    pub deliveries: Vec<Delivery>,
}

impl Recipe {
    /// Only what moves or widens the picture, to lie on what the whole makes of it; the other lines keep their places.
    pub fn framing(mut self) -> Self {
        self.steps.iter_mut().filter(|line| !line.moves()).for_each(|line| line.on = false);
        self
    }

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
            decode: DecodeSettings::default(),
            steps: Vec::new(),
            blocks: Vec::new(),
            deliveries: vec![Delivery::default()],
        }
    }

    /// Every file it makes of each frame, with the delivery it belongs to.
    pub fn files(&self) -> Vec<(usize, Pictures)> {
        let deliveries = self.deliveries.iter().enumerate();
        deliveries.flat_map(|(at, delivery)| delivery.files().into_iter().map(move |f| (at, f))).collect()
    }

    /// Lines that decide about all pictures of a run together, from 0.
    pub fn across(&self) -> Vec<usize> {
        let lines = self.steps.iter().enumerate();
        lines.filter(|(_, l)| self.is_on(l) && l.step.across().is_some()).map(|(at, _)| at).collect()
    }

    /// Whether one of its lines joins pictures with their neighbours in the run.
    pub fn joins_neighbours(&self) -> bool {
        let joins = |line: &Line| line.step.joins().is_some() || line.step.fills_edges().is_some();
        self.steps.iter().any(|line| self.is_on(line) && joins(line))
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
    pub fn tasks(&self) -> Vec<(usize, FinishingTask)> {
        let deliveries = self.deliveries.iter().enumerate();
        deliveries.flat_map(|(at, delivery)| delivery.tasks().into_iter().map(move |t| (at, t))).collect()
    }

    /// What each frame becomes before it joins others in one file: the task's place, and the picture.
    pub fn stages(&self) -> Vec<(usize, Pictures)> {
        let stage = |(i, (at, task)): (usize, (usize, FinishingTask))| match task {
            FinishingTask::Assembly(assembly) => {
                Some((i, Pictures { lines: self.deliveries[at].lines.clone(), ..assembly.stage() }))
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
