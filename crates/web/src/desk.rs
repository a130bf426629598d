//! What lies on the desk: the shoot, the recipe, the sample and the selection, the same on every page and after
//! a restart.

use crate::App;
use crate::error::Result;
use rallo_recipe::Recipe;
use rallo_store::{Frame, RecipeRow, Shoot};
use serde::{Deserialize, Serialize};

/// Identities of what is in use.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct Desk {
    /// The shoot.
    pub shoot: Option<i64>,
    /// The recipe.
    pub recipe: Option<i64>,
    /// The sample.
    pub frame: Option<i64>,
    /// Frames selected; none means all.
    pub selection: Vec<i64>,
}

/// The desk as it is.
pub async fn load(app: &App) -> Result<Desk> {
    let text = app.store.setting("desk").await?;
    Ok(text.and_then(|t| serde_json::from_str(&t).ok()).unwrap_or_default())
}

/// Keeps the desk.
pub async fn save(app: &App, desk: &Desk) -> Result<()> {
    let text = serde_json::to_string(desk).unwrap_or_default();
    Ok(app.store.set_setting("desk", &text).await?)
}

/// The desk with what it names; things that are gone are left out.
pub struct Laid {
    /// Identities.
    pub desk: Desk,
    /// The shoot.
    pub shoot: Option<Shoot>,
    /// Its frames in natural order.
    pub frames: Vec<Frame>,
    /// The recipe.
    pub recipe: Option<RecipeRow>,
}

impl Laid {
    /// The frames a run would take: the selected ones, or all.
    pub fn chosen(&self) -> Vec<&Frame> {
        let selected: std::collections::HashSet<i64> = self.desk.selection.iter().copied().collect();
        let some = self.frames.iter().any(|f| selected.contains(&f.id));
        self.frames.iter().filter(|f| !some || selected.contains(&f.id)).collect()
    }
}

/// Looks everything up; the first recipe is made when there is none.
pub async fn laid(app: &App) -> Result<Laid> {
    let mut desk = load(app).await?;
    let shoot = match desk.shoot {
        Some(id) => app.store.shoot(id).await.ok(),
        None => None,
    };
    let mut frames = match &shoot {
        Some(shoot) => app.store.frames(shoot.id).await?,
        None => Vec::new(),
    };
    frames.sort_by(|a, b| rallo_runner::shoot::natural(&a.path, &b.path));
    let recipe = match desk.recipe {
        Some(id) => app.store.recipe(id).await.ok(),
        None => None,
    };
    let recipe = match recipe {
        Some(recipe) => Some(recipe),
        None => app.store.recipes().await?.into_iter().next(),
    };
    let recipe = match recipe {
        Some(recipe) => Some(recipe),
        None => {
            let text = Recipe::new("New recipe").to_value().to_string();
            app.store.save_recipe(None, 0, "New recipe", &text, &rallo_runner::now()).await?
        }
    };
    desk.recipe = recipe.as_ref().map(|r| r.id);
    if !frames.iter().any(|f| Some(f.id) == desk.frame) {
        desk.frame = frames.iter().find(|f| f.problem.is_none()).map(|f| f.id);
    }
    Ok(Laid { desk, shoot, frames, recipe })
}
