//! What a recipe is called when nobody has named it: by what it does.

use crate::{Line, Recipe};

/// What a recipe without a line is called.
pub const UNNAMED: &str = "New recipe";

/// Lines that are told; of longer recipes it is said how many more there are.
const TOLD: usize = 3;

impl Recipe {
    /// What it does in a few words: `Denoise, 1600, watermark`.
    pub fn in_brief(&self) -> String {
        let mut told: Vec<String> = Vec::new();
        for line in self.steps.iter().filter(|l| l.on) {
            let words = brief(line, told.is_empty());
            if !told.iter().any(|t| t.eq_ignore_ascii_case(&words)) {
                told.push(words);
            }
        }
        match told.len() {
            0 => UNNAMED.into(),
            1..=TOLD => told.join(", "),
            n => format!("{} and {} more", told[..TOLD].join(", "), n - TOLD),
        }
    }

    /// Whether its name is the one it has by what it does.
    pub fn is_named_by_itself(&self) -> bool {
        self.name == UNNAMED || self.name == self.in_brief()
    }
}

fn brief(line: &Line, is_first: bool) -> String {
    let title = line.kind().info.title;
    line.step.brief().unwrap_or_else(|| {
        // Abbreviations stay as they are.
        let is_word = title.chars().nth(1).is_some_and(char::is_lowercase);
        if is_first || !is_word { title.into() } else { title.to_lowercase() }
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn called(steps: &str) -> String {
        let text = format!(r#"{{"format": "rallo-recipe", "version": 1, "name": "x", "steps": [{steps}]}}"#);
        Recipe::parse(&text).unwrap().in_brief()
    }

    #[test]
    fn recipes_are_called_by_what_they_do() {
        assert_eq!(called(""), UNNAMED);
        assert_eq!(called(r#"{"step": "denoise"}, {"step": "resize", "long_edge": 1600}"#), "Denoise, 1600");
        assert_eq!(
            called(r#"{"step": "crop", "proportion": "16:9"}, {"step": "grey"}"#),
            "16:9, grey from channels"
        );
        assert_eq!(
            called(r#"{"step": "contrast", "on": false}, {"step": "upscale", "factor": "2"}"#),
            "2 times"
        );
        let many = ["denoise", "exposure", "contrast", "contrast", "curve", "grain"];
        let many: Vec<String> = many.iter().map(|s| format!(r#"{{"step": "{s}"}}"#)).collect();
        assert_eq!(called(&many.join(",")), "Denoise, exposure, contrast and 2 more");
    }

    #[test]
    fn a_name_that_was_given_is_told_from_one_by_itself() {
        let mut recipe = Recipe::new(UNNAMED);
        assert!(recipe.is_named_by_itself());
        recipe.name = "Catalogue".into();
        assert!(!recipe.is_named_by_itself());
    }
}
