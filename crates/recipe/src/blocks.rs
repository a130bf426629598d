//! Recipes inside recipes: another recipe's lines as a block, which follows its later versions or does not.

use crate::{Block, Fault, Faults, Line, MAX_STEPS, Recipe, TakenFrom};

impl Recipe {
    /// The same recipe with the lines of `other` at its end, bound into a block under its name.
    ///
    /// # Errors
    /// [`Faults`] where there would be too many lines, or a recipe would hold itself.
    pub fn taking_in(&self, other: &Self, version: i64, follow: bool) -> Result<Self, Faults> {
        let fault = |message: String| Err(Faults(vec![Fault { path: "steps".into(), message }]));
        if other.steps.is_empty() {
            return fault(format!("{} has no lines to take in", other.name));
        }
        let holds = |b: &Block| b.from.as_ref().is_some_and(|f| f.recipe == self.name);
        if other.name == self.name || other.blocks.iter().any(holds) {
            return fault(format!("{} would hold itself", self.name));
        }
        if self.steps.len() + other.steps.len() > MAX_STEPS {
            return fault(format!("there would be more than {MAX_STEPS} lines"));
        }
        let mut next = self.clone();
        let free = |name: &String| !self.blocks.iter().any(|b| b.name == *name);
        let mut names =
            std::iter::once(other.name.clone()).chain((2..).map(|n| format!("{} {n}", other.name)));
        let name = names.find(free).unwrap_or_default();
        let from = TakenFrom { recipe: other.name.clone(), version, follow };
        next.blocks.push(Block { name: name.clone(), on: true, mix: 100.0, from: Some(from) });
        next.steps.extend(bound(other, &name));
        Ok(next)
    }

    /// The same recipe with the blocks that follow `other` as it is in `version`.
    pub fn following(&self, other: &Self, version: i64) -> Self {
        let mut next = self.clone();
        for i in 0..next.blocks.len() {
            let behind = next.blocks[i]
                .from
                .as_ref()
                .is_some_and(|f| f.follow && f.recipe == other.name && f.version < version);
            let name = next.blocks[i].name.clone();
            let Some(at) = next.steps.iter().position(|l| l.block.as_ref() == Some(&name)).filter(|_| behind)
            else {
                continue;
            };
            let fits = next.steps.len() + other.steps.len() <= MAX_STEPS && !other.steps.is_empty();
            let mixed = next.blocks[i].mix < 100.0 && other.steps.iter().any(Line::stands_alone);
            if !fits || mixed {
                continue;
            }
            next.steps.retain(|l| l.block.as_ref() != Some(&name));
            next.steps.splice(at..at, bound(other, &name));
            if let Some(from) = &mut next.blocks[i].from {
                from.version = version;
            }
        }
        next
    }
}

/// Lines of a recipe under a block's name; those of blocks that are off stay off.
fn bound(other: &Recipe, name: &str) -> Vec<Line> {
    let off = |line: &Line| other.blocks.iter().any(|b| !b.on && Some(&b.name) == line.block.as_ref());
    let as_member =
        |line: &Line| Line { on: line.on && !off(line), block: Some(name.to_owned()), ..line.clone() };
    other.steps.iter().map(as_member).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::{Value, json};

    fn recipe(name: &str, steps: Value) -> Recipe {
        Recipe::from_value(&json!({"format": "rallo-recipe", "version": 1, "name": name, "steps": steps}))
            .unwrap()
    }

    #[test]
    fn a_block_follows_its_recipe_or_does_not() {
        let base = recipe("Base", json!([{"step": "contrast", "amount": 10}]));
        let own = recipe("Web", json!([{"step": "exposure", "stops": 1}]));
        let both = own.taking_in(&base, 1, true).unwrap().taking_in(&base, 1, false).unwrap();
        let last = both.steps.len();
        assert_eq!((last, both.blocks[1].name.as_str()), (3, "Base 2"));
        // It is a document like any other.
        let both = Recipe::from_value(&both.to_value()).unwrap();
        let newer = recipe("Base", json!([{"step": "contrast", "amount": 30}, {"step": "grey"}]));
        let now = both.following(&newer, 2);
        let said: Vec<(&str, Option<&str>)> = now.steps.iter().map(|l| (l.id, l.block.as_deref())).collect();
        assert_eq!(
            said,
            [
                ("exposure", None),
                ("contrast", Some("Base")),
                ("grey", Some("Base")),
                ("contrast", Some("Base 2"))
            ]
        );
        assert_eq!(now.steps[1].step.values()["amount"], 30.0);
        assert_eq!(now.steps[3].step.values()["amount"], 10.0);
        assert_eq!(now.following(&newer, 2).to_value(), now.to_value());
        let error = base.taking_in(&both, 1, true).unwrap_err().to_string();
        assert!(error.contains("Base would hold itself"), "{error}");
    }
}
