//! What lies on the desk: the shoot or the selection, the recipe, the sample and what is marked, the same on every
//! page and after a restart.

use crate::App;
use crate::error::Result;
use crate::words::say;
use rallo_job::Shoot;
use rallo_job::prelude::*;
use rallo_recipe::{Recipe, UNNAMED};
use rallo_runner::Set;
use rallo_shoot::document::in_the_work;
use rallo_shoot::sample::first_sample;
use rallo_shoot::{Frame, Order};
use rallo_store::RecipeRow;
use schemars::{JsonSchema, Schema, SchemaGenerator};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::borrow::Cow;
use std::collections::HashSet;
use std::sync::Arc;

/// Identities of what is in use.
#[derive(Clone, Debug, Default, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
pub struct Desk {
    /// The shoot.
    pub shoot: Option<i64>,
    /// A named selection, looked at instead of the shoot.
    pub list: Option<i64>,
    /// How that selection is sorted.
    pub list_order: Order,
    /// The recipe.
    pub recipe: Option<i64>,
    /// The sample, or the frame last looked at.
    pub frame: Option<i64>,
    /// Frames selected; none means the ones in the work.
    pub selection: Vec<i64>,
}

/// What is to be laid on the desk; what is not named stays.
#[derive(Deserialize)]
pub struct DeskChange(pub Map<String, Value>);

impl JsonSchema for DeskChange {
    fn schema_name() -> Cow<'static, str> {
        "DeskChange".into()
    }

    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        // Any of a desk's fields.
        Desk::json_schema(generator)
    }
}

impl Desk {
    /// The frames in use.
    pub fn set(&self) -> Option<Set> {
        self.list.map(Set::Selection).or(self.shoot.map(Set::Shoot))
    }
}

/// The desk as it is.
pub async fn load(app: &App) -> Result<Desk> {
    let text = app.store.setting("desk").await?;
    Ok(text.and_then(|t| serde_json::from_str(&t).ok()).unwrap_or_default())
}

/// The recipe on the desk, or the one that was saved last where none is.
pub async fn recipe(app: &App, desk: &Desk) -> Result<Option<RecipeRow>> {
    let laid = match desk.recipe {
        Some(id) => app.store.recipe(id).await.ok(),
        None => None,
    };
    Ok(match laid {
        Some(recipe) => Some(recipe),
        None => app.store.recipes().await?.into_iter().next(),
    })
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
    /// Whether its frame is one that somebody looked at, and not the first choice.
    pub was_looked_at: bool,
    /// The shoot.
    pub shoot: Option<Shoot>,
    /// What the frames in use are called.
    pub name: String,
    /// The frames, as they were added.
    pub frames: Arc<Vec<Frame>>,
    /// How they are sorted.
    pub sorted: Order,
    /// Their positions in that order.
    pub order: Vec<usize>,
    /// The recipe.
    pub recipe: Option<RecipeRow>,
}

/// Why the frames that a run would take are taken.
#[derive(Clone, Copy)]
enum Kind {
    Selected,
    Kept,
    Frames,
}

impl Laid {
    /// The frames in their order.
    pub fn ordered(&self) -> impl Iterator<Item = &Frame> {
        self.order.iter().map(|i| &self.frames[*i])
    }

    /// The frames a run would take, in order: the selected ones; else those in the work.
    pub fn chosen(&self) -> Vec<&Frame> {
        let selected: HashSet<i64> = self.desk.selection.iter().copied().collect();
        if !selected.is_empty() && self.frames.iter().any(|f| selected.contains(&f.id)) {
            return self.ordered().filter(|f| selected.contains(&f.id)).collect();
        }
        let choices: Vec<_> = self.ordered().map(|f| f.marks.choice).collect();
        self.ordered().zip(in_the_work(&choices)).filter(|(_, work)| *work).map(|(f, _)| f).collect()
    }

    /// Whether more frames may be found: folders of the shoot are being read.
    pub fn is_being_read(&self, app: &App) -> bool {
        matches!(self.desk.set(), Some(Set::Shoot(id)) if app.frames.is_scanning(id))
    }

    /// Whether frames are selected.
    pub fn selected(&self) -> bool {
        let selected: HashSet<i64> = self.desk.selection.iter().copied().collect();
        self.frames.iter().any(|f| selected.contains(&f.id))
    }

    /// How many frames a run would leave out, and why, in a few words; empty where it takes all.
    pub fn left_out(&self) -> String {
        match (self.frames.len() - self.chosen().len(), self.kind()) {
            (0, _) => String::new(),
            (n, Kind::Frames) => say("any-so-many-set-aside").with("count", n).into(),
            (n, _) => say("any-so-many-left-out").with("count", n).into(),
        }
    }

    /// Which frames a run takes, as a sentence.
    pub fn takes(&self) -> String {
        let (count, left) = (self.chosen().len(), self.frames.len() - self.chosen().len());
        let others = match left {
            0 => String::new(),
            n => say("sheet-the-others-are-left-out").with("count", n).into(),
        };
        let said = match self.kind() {
            Kind::Selected => say("sheet-it-takes-the-selected"),
            Kind::Kept => say("sheet-it-takes-the-kept"),
            Kind::Frames if left == 0 => say("sheet-it-takes-all"),
            Kind::Frames => say("sheet-it-takes-what-is-not-set-aside"),
        };
        said.with("count", count).with("others", others).into()
    }

    fn kind(&self) -> Kind {
        if self.selected() {
            Kind::Selected
        } else if self.frames.iter().any(|f| f.marks.choice == rallo_shoot::Choice::Kept) {
            Kind::Kept
        } else {
            Kind::Frames
        }
    }

    /// What the chosen frames are, in a word.
    pub fn word(&self) -> String {
        let said = match self.kind() {
            Kind::Selected => say("any-word-selected"),
            Kind::Kept => say("any-word-kept"),
            Kind::Frames => say("any-word-frames").with("count", self.chosen().len()),
        };
        said.into()
    }
}

/// Looks everything up; the first recipe is made when there is none.
pub async fn laid(app: &App) -> Result<Laid> {
    let mut desk = load(app).await?;
    let shoot = match desk.shoot {
        Some(id) => app.store.shoot(id).await.ok(),
        None => None,
    };
    let list = match desk.list {
        Some(id) => app.store.selections().await?.into_iter().find(|s| s.id == id),
        None => None,
    };
    desk.list = list.as_ref().map(|l| l.id);
    desk.shoot = shoot.as_ref().map(|s| s.id);
    let frames = match desk.set() {
        Some(set) => app.frames.all(set).await?,
        None => Arc::default(),
    };
    let sorted = match (&list, &shoot) {
        (Some(_), _) => desk.list_order,
        (None, Some(shoot)) => serde_json::from_str(&shoot.sorted).unwrap_or_default(),
        (None, None) => Order::default(),
    };
    // Thousands of frames are sorted.
    let frames_before = frames.clone();
    let order = tokio::task::spawn_blocking(move || sorted.of(&frames_before)).await?;
    let recipe = recipe(app, &desk).await?;
    let recipe = match recipe {
        Some(recipe) => Some(recipe),
        None => {
            let text = Recipe::new(UNNAMED).to_value().to_string();
            app.store.save_recipe(None, 0, UNNAMED, &text, &rallo_runner::now()).await?
        }
    };
    desk.recipe = recipe.as_ref().map(|r| r.id);
    let was_looked_at = frames.iter().any(|f| Some(f.id) == desk.frame);
    if !was_looked_at {
        desk.frame = first_sample(order.iter().map(|i| &frames[*i])).map(|f| f.id);
    }
    let name = list.map(|l| l.name).or(shoot.as_ref().map(|s| s.name.clone())).unwrap_or_default();
    Ok(Laid { desk, was_looked_at, shoot, name, frames, sorted, order, recipe })
}
