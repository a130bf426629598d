//! A recipe document as a request brings it.

use rallo_recipe::{Faults, Recipe, schema};
use schemars::{JsonSchema, Schema, SchemaGenerator};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::borrow::Cow;

/// A recipe document; it is checked when it is read.
#[derive(Clone, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Document(pub Value);

impl Document {
    /// The recipe.
    ///
    /// # Errors
    /// All that is wrong with it, each with its place.
    pub fn read(&self) -> Result<Recipe, Faults> {
        Recipe::from_value(&self.0)
    }
}

impl From<&Recipe> for Document {
    fn from(recipe: &Recipe) -> Self {
        Self(recipe.to_value())
    }
}

/// Where the document of the interface keeps the schema of recipes.
const PLACE: &str = "#/components/schemas/Recipe/$defs/";

/// The references within a schema, as they are where it stands inside the interface's document.
fn moved(value: &mut Value) {
    match value {
        Value::Object(fields) => {
            for (key, value) in fields.iter_mut() {
                match value {
                    Value::String(to) if key == "$ref" => *to = to.replace("#/$defs/", PLACE),
                    value => moved(value),
                }
            }
        }
        Value::Array(values) => values.iter_mut().for_each(moved),
        _ => {}
    }
}

impl JsonSchema for Document {
    fn schema_name() -> Cow<'static, str> {
        "Recipe".into()
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        let mut schema = schema::schema();
        moved(&mut schema);
        if let Some(fields) = schema.as_object_mut() {
            fields.shift_remove("$schema");
            fields.shift_remove("$id");
        }
        Schema::try_from(schema).unwrap_or_default()
    }
}
