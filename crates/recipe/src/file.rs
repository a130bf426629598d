//! Several recipes in one file: `{"format": "rallo-recipes", "version": 1, "recipes": […]}`.

use crate::{Fault, Faults, Recipe, VERSION, brief};
use serde_json::{Value, json};

/// One recipe of a file: where it stands in it, what it calls itself, and the recipe or what is wrong with it.
#[derive(Debug)]
pub struct Read {
    /// Position from 0; nothing in a file of one.
    pub position: Option<usize>,
    /// Its name, as far as it can be told.
    pub name: String,
    /// The recipe, or every fault with its path in the file.
    pub recipe: Result<Recipe, Faults>,
}

/// Reads a file with one recipe or several; each by itself, so that one bad one does not keep the others out.
///
/// # Errors
/// [`Faults`] where the file as a whole is not understood.
pub fn read(text: &str) -> Result<Vec<Read>, Faults> {
    let fault = |path: &str, message: String| Faults(vec![Fault { path: path.into(), message }]);
    let value: Value = serde_json::from_str(text).map_err(|e| {
        fault(
            "",
            format!(
                "this is not valid JSON, so it is no recipe: line {}, column {}: {e}",
                e.line(),
                e.column()
            ),
        )
    })?;
    let named = |value: &Value| value["name"].as_str().unwrap_or("without a name").to_owned();
    if value["format"] != "rallo-recipes" {
        let recipe = Recipe::from_value(&value);
        return Ok(vec![Read { position: None, name: named(&value), recipe }]);
    }
    if value["version"].as_u64().is_none_or(|v| v > VERSION) {
        return Err(fault("version", format!("expected {VERSION}, got {}", brief(&value["version"]))));
    }
    let Some(documents) = value["recipes"].as_array() else {
        return Err(fault(
            "recipes",
            format!("expected a list of recipes, got {}", brief(&value["recipes"])),
        ));
    };
    if let Some(key) = value
        .as_object()
        .and_then(|m| m.keys().find(|k| !["format", "version", "recipes"].contains(&k.as_str())))
    {
        return Err(fault(key, "unknown, such a file has format, version and recipes".into()));
    }
    let read = |(i, value): (usize, &Value)| {
        let recipe = Recipe::from_value(value).map_err(|faults| {
            let deeper = |f: Fault| {
                let dot = if f.path.is_empty() { "" } else { "." };
                Fault { path: format!("recipes[{i}]{dot}{}", f.path), message: f.message }
            };
            Faults(faults.0.into_iter().map(deeper).collect())
        });
        Read { position: Some(i), name: named(value), recipe }
    };
    Ok(documents.iter().enumerate().map(read).collect())
}

/// The file for some recipes: a recipe's own document for one.
pub fn write(recipes: &[Recipe]) -> Value {
    match recipes {
        [recipe] => recipe.to_value(),
        several => {
            let documents: Vec<Value> = several.iter().map(Recipe::to_value).collect();
            json!({"format": "rallo-recipes", "version": VERSION, "recipes": documents})
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_and_several_are_read_back() {
        let (one, two) = (Recipe::new("Web"), Recipe::new("Print"));
        let back = read(&write(std::slice::from_ref(&one)).to_string()).unwrap();
        assert_eq!((back.len(), back[0].position), (1, None));
        let back = read(&write(&[one, two]).to_string()).unwrap();
        let names: Vec<_> = back.iter().map(|r| r.recipe.as_ref().unwrap().name.clone()).collect();
        assert_eq!(names, ["Web", "Print"]);
    }

    #[test]
    fn what_is_not_understood_is_named_with_its_place() {
        let text = r#"{"format": "rallo-recipes", "version": 1, "recipes": [
            {"format": "rallo-recipe", "version": 1, "name": "Good"},
            {"format": "rallo-recipe", "version": 1, "name": "Bad", "steps": [{"step": "glow"}]}]}"#;
        let all = read(text).unwrap();
        assert!(all[0].recipe.is_ok());
        let faults = all[1].recipe.as_ref().unwrap_err();
        assert!(all[1].name == "Bad" && faults.0[0].path == "recipes[1].steps[0].step", "{faults}");
        assert!(faults.0[0].message.starts_with("unknown step \"glow\""));
        for (text, want) in [
            ("{\n x", "line 2"),
            (r#"{"format": "rallo-recipes", "version": 9, "recipes": []}"#, "version: expected 1, got 9"),
            (r#"{"format": "rallo-recipes", "version": 1}"#, "recipes: expected a list of recipes"),
            (r#"{"format": "rallo-recipes", "version": 1, "recipes": [], "more": 1}"#, "more: unknown"),
        ] {
            let error = read(text).unwrap_err().to_string();
            assert!(error.contains(want), "{error}");
        }
    }
}
