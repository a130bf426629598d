//! The yes that a run waits for: what it asks, a look with other values, the answer.

use crate::App;
use crate::api::answer::{Done, Image};
use crate::api::bench::Control;
use crate::api::runs::name_of;
use crate::api::sheet::{Answer, answers_of};
use crate::error::{Error, Result};
use crate::request::{Id, Path, Sent};
use axum::Json;
use axum::extract::State;
use rallo_engine::OutputProfile;
use rallo_job::prelude::*;
use rallo_job::{ItemKey, RunState};
use rallo_media::{Chroma, Encoding, Extras};
use rallo_recipe::Recipe;
use rallo_runner::schedule::{self, Class};
use rallo_runner::{Decided, report};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::path::Path as FilePath;

/// What a run asks.
#[derive(Serialize, JsonSchema)]
pub(crate) struct CheckpointAnswer {
    /// Which of the recipe's checkpoints it is, from 0.
    pub(crate) stage: i64,
    /// The line it waits before, from 0.
    pub(crate) line: usize,
    /// What should be looked at.
    pub(crate) what: String,
    /// Values that can be changed from here on.
    pub(crate) values: Vec<LineControl>,
    /// The pictures that wait.
    pub(crate) items: Vec<WaitingItem>,
}

/// A value that can be changed.
#[derive(Serialize, JsonSchema)]
pub(crate) struct LineControl {
    /// Its line, from 0.
    pub(crate) line: usize,
    /// The step of that line.
    pub(crate) title: &'static str,
    /// The value.
    pub(crate) param: Control,
}

/// A picture that waits.
#[derive(Serialize, JsonSchema)]
pub(crate) struct WaitingItem {
    /// Place in the run, from 0.
    pub(crate) position: i64,
    /// Name of the original.
    pub(crate) name: Option<String>,
    /// Values it was given already.
    pub(crate) answers: Vec<(usize, String, Value)>,
}

/// What a run asks: which line, the pictures to look at, the values that can be changed from there on.
pub(super) async fn checkpoint(
    State(app): State<App>,
    Path(Id { id }): Path<Id>,
) -> Result<Json<CheckpointAnswer>> {
    Ok(Json(question(&app, id).await?))
}

/// As [`checkpoint`].
pub(crate) async fn question(app: &App, id: i64) -> Result<CheckpointAnswer> {
    let run = app.store.run(id).await?;
    let recipe = Recipe::parse(&run.document)?;
    let checkpoints = recipe.checkpoints();
    let (line, what) =
        *checkpoints.get(run.stage as usize).ok_or_else(|| Error::bad("this run asks nothing"))?;
    let next = checkpoints.get(run.stage as usize + 1).map_or(recipe.steps.len(), |(line, _)| *line);
    let mut values = Vec::new();
    for (n, line) in recipe.steps.iter().enumerate().take(next).filter(|(_, l)| l.on) {
        let kind = line.kind();
        let now = line.step.values();
        for p in
            kind.params.iter().filter(|p| matches!(p.kind.names().0, "number" | "whole" | "choice" | "flag"))
        {
            let param = Control::new(p, &now[p.name]);
            values.push(LineControl { line: n, title: kind.info.title, param });
        }
    }
    let items = app.store.waiting(id, 24).await?.into_iter().map(|i| WaitingItem {
        position: i.position,
        name: name_of(FilePath::new(&i.source)),
        answers: i.answers,
    });
    Ok(CheckpointAnswer { stage: run.stage, line, what: what.to_owned(), values, items: items.collect() })
}

/// A picture to be looked at.
#[derive(Deserialize, JsonSchema)]
pub struct Look {
    /// Place in the run, from 0.
    #[schemars(range(min = 0))]
    pub(super) position: i64,
    /// Values it is to have.
    #[serde(default)]
    answers: Vec<Answer>,
    /// Its long edge in pixels.
    #[schemars(range(min = 64, max = 2400))]
    edge: u32,
}

/// A picture of a run with values that could be changed, small.
pub(super) async fn look(
    State(app): State<App>,
    Path(Id { id }): Path<Id>,
    Sent(asked): Sent<Look>,
) -> Result<Image> {
    let run = app.store.run(id).await?;
    let item = app.store.item(ItemKey { run: id, position: asked.position }).await?;
    let path = app.roots.existing(FilePath::new(&item.source))?;
    let recipe = Recipe::parse(&run.document)?.answered(&answers_of(&asked.answers))?;
    let jpeg = schedule::ask(Class::Sight, move || -> Result<Vec<u8>> {
        let source = app.sources.open(&path, &recipe.decode)?;
        let decided: Decided = serde_json::from_str(&item.decided).unwrap_or_default();
        let about = rallo_runner::resolve_context(
            &path,
            Some(&source.facts(&path)),
            &decided,
            item.position as usize + 1,
        );
        let plan = recipe.plan(&*source, &about).map_err(Error::bad)?;
        let edge = f64::from(asked.edge.clamp(64, 2400));
        let program = plan.program((edge / f64::from(plan.size().long_edge())).min(1.0));
        let srgb = OutputProfile::Srgb.colour();
        let picture = program.render(&*source, program.size().rect(), srgb).map_err(Error::bad)?;
        let encoding =
            Encoding::Jpeg { quality: 90, chroma: Chroma::Full, progressive: false, optimised: false };
        Ok(rallo_media::encode(&picture, encoding, &Extras::default())?)
    })
    .await??;
    Ok(Image::jpeg(jpeg))
}

/// The yes that a run waits for.
#[derive(Deserialize, JsonSchema)]
pub struct Pass {
    /// Which of the recipe's checkpoints it is about, from 0.
    stage: i64,
    /// For all pictures.
    #[serde(default)]
    answers: Vec<Answer>,
    /// For single ones.
    #[serde(default)]
    ones: Vec<OneAnswered>,
}

/// Values for one picture.
#[derive(Deserialize, JsonSchema)]
pub struct OneAnswered {
    /// Place in the run, from 0.
    pub(super) position: i64,
    /// The values.
    answers: Vec<Answer>,
}

/// The yes that a run waited for.
pub(super) async fn pass(
    State(app): State<App>,
    Path(Id { id }): Path<Id>,
    Sent(pass): Sent<Pass>,
) -> Result<Json<Done>> {
    let run = app.store.run(id).await?;
    let over = || Error::bad("this run does not ask that any more; reload the page");
    if run.state != RunState::Asking || run.stage != pass.stage {
        return Err(over());
    }
    let recipe = Recipe::parse(&run.document)?.answered(&answers_of(&pass.answers))?;
    for item in &pass.ones {
        let answers = answers_of(&item.answers);
        recipe.answered(&answers)?;
        let text = serde_json::to_string(&answers).map_err(Error::bad)?;
        app.store.set_answers(ItemKey { run: id, position: item.position }, &text).await?;
    }
    let document = recipe.to_value().to_string();
    let asks = report::asked(&recipe, pass.stage + 1);
    if !app.store.pass_run(id, pass.stage, &document, asks.as_deref()).await? {
        return Err(over());
    }
    app.queue.added();
    app.queue.tell(id).await?;
    Ok(Json(Done {}))
}
