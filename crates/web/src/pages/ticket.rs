//! A recipe as it looks wherever it appears: numbered sentences on a slip of paper.

use crate::error::Result;
use rallo_recipe::{Part, Recipe};

/// A recipe as a slip of paper.
pub(super) struct Ticket {
    pub(super) name: String,
    pub(super) version: i64,
    pub(super) lines: Vec<TicketLine>,
    pub(super) goes: Vec<Vec<Part>>,
}

/// One line of it, and what stands above: the head of a block, a place to wait.
pub(super) struct TicketLine {
    pub(super) heads: Vec<String>,
    pub(super) on: bool,
    pub(super) parts: Vec<Part>,
}

impl TicketLine {
    fn new(recipe: &Recipe, at: usize) -> Self {
        let line = &recipe.steps[at];
        Self { heads: recipe.heads(at), on: line.on, parts: line.parts(None) }
    }
}

impl Ticket {
    pub(super) fn new(document: &str, version: i64) -> Result<Self> {
        let recipe = Recipe::parse(document)?;
        Ok(Self {
            name: recipe.name.clone(),
            version,
            lines: (0..recipe.steps.len()).map(|i| TicketLine::new(&recipe, i)).collect(),
            goes: recipe.deliveries.iter().map(|d| d.parts(&recipe)).collect(),
        })
    }
}
