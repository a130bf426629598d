//! Recipes to start from: one for each of the usual jobs, our own.

use crate::Recipe;

static DOCUMENTS: [&str; 7] = [
    include_str!("../starters/catalogue-web.json"),
    include_str!("../starters/high-iso.json"),
    include_str!("../starters/calm-minute.json"),
    include_str!("../starters/course.json"),
    include_str!("../starters/film-frames.json"),
    include_str!("../starters/print.json"),
    include_str!("../starters/archive.json"),
];

/// All of them, in the order they are offered.
pub fn starters() -> Vec<Recipe> {
    DOCUMENTS.iter().filter_map(|text| Recipe::parse(text).ok()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_starter_reads_and_works_in_a_good_order() {
        for text in DOCUMENTS {
            let recipe = Recipe::parse(text).unwrap_or_else(|e| panic!("{e}"));
            assert!(!recipe.note.is_empty() && !recipe.labels.is_empty(), "{}", recipe.name);
            assert!(crate::advice(&recipe).is_empty(), "{}: {:?}", recipe.name, crate::advice(&recipe));
        }
        assert_eq!(starters().len(), DOCUMENTS.len());
    }
}
