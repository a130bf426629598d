//! A picture that another machine makes, as an item of the queue.

use crate::queue::helpers::{AtHelper, NotMade};
use crate::queue::worker::{Parsed, Slot, Streams};
use crate::queue::{Queue, TICK};
use crate::render::elsewhere;
use crate::render::fault::Ended;
use crate::schedule::Share;
use rallo_job::{Phase, Run, RunItem};
use std::sync::Arc;
use std::sync::atomic::Ordering;

impl Queue {
    /// Whether another machine can make an item: a picture by itself.
    pub(super) async fn can_be_made_elsewhere(&self, item: &RunItem) -> bool {
        if item.task.is_some() || item.phase == Phase::Measure {
            return false;
        }
        let Ok(run) = self.0.records.run(item.run_id).await else { return false };
        self.recipe(&run).await.as_ref().as_ref().is_ok_and(elsewhere::is_possible)
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
        match self.by_helper(run, recipe, item, &streams).await {
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
        let prepared = match prepared {
            Ok(prepared) => prepared,
            Err(ended) => return Ok((*ended, Some(0.0))),
        };
        let helpers = &self.0.helpers;
        let came = match helpers.make(prepared.request.clone(), prepared.original().to_vec()).await {
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
    async fn wait_for_slot(&self) -> Arc<Slot> {
        while self.0.busy.load(Ordering::Relaxed) >= self.allowed() {
            self.0.clock.sleep(TICK / 5).await;
        }
        Arc::new(Slot::take(self))
    }
}
