//! A picture that another machine makes, as an item of the queue.

use crate::queue::helpers::{AtHelper, NotMade};
use crate::queue::worker::{Parsed, Slot, Streams};
use crate::queue::{Queue, TICK};
use crate::render::elsewhere;
use crate::render::fault::Ended;
use crate::render::picture_job::PictureJob;
use crate::schedule::Share;
use rallo_job::{Phase, Run, RunItem};
use rallo_recipe::Recipe;
use serde_json::Value;
use std::sync::Arc;
use std::sync::atomic::Ordering;

impl Queue {
    /// Whether an item's picture is joined with its neighbours, or measured against others, so that who works on one has more than
    /// half of what the next one needs.
    pub(super) async fn goes_by_stretches(&self, item: &RunItem) -> bool {
        if item.task.is_some() {
            return false;
        }
        let Ok(run) = self.0.records.run(item.run_id).await else { return false };
        let recipe = self.recipe(&run).await;
        recipe.as_ref().as_ref().is_ok_and(|recipe| match item.phase {
            Phase::Measure => !recipe.across().is_empty(),
            _ => recipe.joins_neighbours(),
        })
    }

    /// What another machine measured of a picture; or how it failed; or why nobody measured it.
    pub(super) async fn measured_elsewhere(
        &self,
        run: &Run,
        item: &RunItem,
        (recipe, job): (Recipe, PictureJob),
        place: &AtHelper,
    ) -> Result<Result<Value, Box<Ended>>, String> {
        let (document, answers) = (run.document.clone(), item.answers.clone());
        let prepare = move || {
            let prepared = elsewhere::prepared_to_measure((&recipe, &document, &answers), &job);
            (prepared, recipe, job)
        };
        let (prepared, recipe, job) =
            tokio::task::spawn_blocking(prepare).await.map_err(|e| format!("it cannot be prepared: {e}"))?;
        let (request, originals) = match prepared {
            Ok(prepared) => prepared,
            Err(fault) => return Ok(Err(Box::new(Ended::failed(fault)))),
        };
        let rather = (!request.beside.is_empty()).then_some(place.name.as_str());
        let came = match self.0.helpers.make(request, originals, rather).await {
            Ok(came) => came,
            Err(NotMade::Failed(fault)) => return Ok(Err(Box::new(Ended::failed(fault)))),
            Err(NotMade::Nobody(why)) => return Err(why),
        };
        match elsewhere::believed_measured(&recipe, came.made) {
            Ok(measured) => {
                let kept = self.0.measurements.clone();
                let (at, told) = (job.number.saturating_sub(1), measured.clone());
                let keep = move || job.sequence.keep_measured(&recipe, at, &told, &kept);
                // What is not kept is measured again another time.
                let _ = tokio::task::spawn_blocking(keep).await;
                Ok(Ok(measured))
            }
            Err(why) => {
                self.0.helpers.distrust(&came.helper, &why);
                Err(format!("what {} measured is not believed: {why}", came.helper))
            }
        }
    }

    /// A picture that another machine makes, with the seconds it took there; made here where nobody can.
    pub(super) async fn elsewhere(
        &self,
        run: &Run,
        recipe: &Parsed,
        item: &RunItem,
        streams: Arc<Streams>,
        place: AtHelper,
    ) -> (Ended, Option<f64>) {
        match self.by_helper(run, recipe, item, &streams, &place).await {
            Ok(done) => done,
            Err(why) => {
                tracing::warn!("run {}, picture {}: {why}; it is made here", run.id, item.position + 1);
                drop(place);
                let slot = self.wait_for_slot().await;
                let with = (1, Share::default());
                (self.picture(run, item, recipe, streams, with, slot).await, None)
            }
        }
    }

    /// How a picture ended that another machine made, and the seconds it took; or why nobody did.
    async fn by_helper(
        &self,
        run: &Run,
        recipe: &Parsed,
        item: &RunItem,
        streams: &Arc<Streams>,
        place: &AtHelper,
    ) -> Result<(Ended, Option<f64>), String> {
        let failed = |fault| Ok((Ended::failed(fault), Some(0.0)));
        let (recipe, job) = match self.picture_job(run, item, recipe).await {
            Ok(job) => job,
            Err(fault) => return failed(fault),
        };
        let at = item.position as usize;
        let of = streams.begin(at);
        let wanted = streams.wanting(at);
        let (document, answers) = (run.document.clone(), item.answers.clone());
        let prepare = move || {
            let prepared = elsewhere::prepared((&recipe, &document, &answers), &job, (&wanted, of));
            (prepared, recipe, job)
        };
        let (prepared, recipe, job) =
            tokio::task::spawn_blocking(prepare).await.map_err(|e| format!("it cannot be prepared: {e}"))?;
        let mut prepared = match prepared {
            Ok(prepared) => prepared,
            Err(ended) => return Ok((*ended, Some(0.0))),
        };
        let helpers = &self.0.helpers;
        // Who makes a stretch has its neighbours; of others the next free one is best.
        let rather = (!prepared.request.beside.is_empty()).then_some(place.name.as_str());
        let originals = std::mem::take(&mut prepared.originals);
        let came = match helpers.make(prepared.request.clone(), originals, rather).await {
            Ok(came) => came,
            Err(NotMade::Failed(fault)) => return failed(fault),
            Err(NotMade::Nobody(why)) => return Err(why),
        };
        let (helper, seconds) = (came.helper, came.seconds);
        let (by, streams) = (helper.clone(), streams.clone());
        let write = move || {
            let mut ended = match prepared.checked(&recipe, &job, came.made)? {
                Ok(mut computed) => {
                    for (task, piece) in computed.pieces.drain(..) {
                        streams.give(task, at, piece);
                    }
                    computed.write()
                }
                Err(ended) => *ended,
            };
            ended.outputs.iter_mut().filter(|o| o.made).for_each(|o| o.made_by = Some(by.clone()));
            Ok::<_, String>(ended)
        };
        let written =
            tokio::task::spawn_blocking(write).await.map_err(|e| format!("it was not written: {e}"))?;
        match written {
            Ok(ended) => Ok((ended, Some(seconds))),
            Err(why) => {
                helpers.distrust(&helper, &why);
                Err(format!("what {helper} gave is not believed: {why}"))
            }
        }
    }

    /// A place among those in work here, once there is one.
    pub(super) async fn wait_for_slot(&self) -> Arc<Slot> {
        while self.0.busy.load(Ordering::Relaxed) >= self.allowed() {
            self.0.clock.sleep(TICK / 5).await;
        }
        Arc::new(Slot::take(self))
    }
}
