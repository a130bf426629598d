//! What is told of a run: where it stands, what is under way, how long it will take.

use crate::frame_context::{decided, resolve_context};
use crate::preflight::cost::{self, Cost, Costs, Original};
use crate::queue::worker::Parsed;
use crate::queue::{ENOUGH, EXPECTED, EndCalls, LOOKED_AT, NEWS, Queue, SETTLED, lock};
use rallo_engine::Size;
use rallo_job::{Counts, Run, RunState};
use rallo_media::Format;
use rallo_recipe::Recipe;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::HashMap;
use std::path::Path;
use std::time::Instant;

/// How far a run is.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Event {
    /// The run.
    pub run: i64,
    /// Where it stands.
    pub state: RunState,
    /// Why it pauses, or what it asks.
    pub reason: Option<String>,
    /// Pictures in all, and files of all of them.
    pub total: i64,
    /// Those of them that are no pictures, but files and checks of all.
    pub tasks: i64,
    /// Results written.
    pub done: i64,
    /// Pictures that failed.
    pub failed: i64,
    /// Results that were there.
    pub skipped: i64,
    /// Pictures in work.
    pub working: i64,
    /// Seconds a picture; nothing while only files of all pictures are left.
    pub each: Option<f64>,
    /// Seconds left until all pictures are made.
    pub left: Option<f64>,
    /// How far the pictures in work are together, in pictures.
    pub under_way: f64,
}

/// What of an event is news when it changes.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Standing {
    pub(super) state: RunState,
    ended: i64,
    reason: Option<String>,
}

impl Event {
    /// What of it is news when it changes.
    pub(super) fn standing(&self) -> Standing {
        Standing { state: self.state, ended: self.ended(), reason: self.reason.clone() }
    }

    /// Pictures that have ended.
    pub fn ended(&self) -> i64 {
        self.done + self.failed + self.skipped
    }
}

/// What pictures of a run take: seconds of one core for each, and for each pixel of its original.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Expected {
    pub(super) each: f64,
    pub(super) pixel: f64,
}

impl Expected {
    /// By the smallest and the largest of some pictures, told as (pixels, seconds).
    pub(super) fn of(samples: &[(f64, f64)]) -> Option<Self> {
        let low = samples.iter().min_by(|a, b| a.0.total_cmp(&b.0))?;
        let high = samples.iter().max_by(|a, b| a.0.total_cmp(&b.0))?;
        let (mean, pixels) =
            (samples.iter().map(|a| a.1).sum::<f64>(), samples.iter().map(|a| a.0).sum::<f64>());
        if high.0 < low.0 * 1.2 {
            return (pixels > 0.0).then(|| Self { each: 0.0, pixel: mean / pixels });
        }
        let pixel = ((high.1 - low.1) / (high.0 - low.0)).max(0.0);
        Some(Self { each: (low.1 - pixel * low.0).max(0.0), pixel })
    }

    /// Of so many pictures with so many pixels together.
    pub(super) fn work(self, pictures: f64, pixels: f64) -> f64 {
        self.each * pictures + self.pixel * pixels
    }
}

/// Seconds for a pixel: by the machine's table at first, and by what the run took as soon as that says something.
pub(super) fn pace(expected: Option<f64>, seconds: f64, done: f64, all: f64) -> Option<f64> {
    let took = (done > 0.0).then(|| seconds / done);
    match (expected, took) {
        (Some(expected), Some(took)) => {
            let weight = (done / all / ENOUGH).min(1.0);
            Some(took * weight + expected * (1.0 - weight))
        }
        (expected, took) => took.or(expected),
    }
}

impl Queue {
    /// How far a run is now.
    ///
    /// # Errors
    /// [`rallo_job::Error`].
    pub async fn state(&self, run: &Run) -> rallo_job::Result<Event> {
        let counts = self.0.records.counts(run.id).await?;
        let Counts { total, tasks, done, failed, skipped, working, pixels, ended_pixels } = counts;
        let pictures = (total - tasks).max(1) as f64;
        let (mut each, mut left, mut under_way) = (None, None, 0.0);
        if run.state == RunState::Running {
            let active = lock(&self.0.active);
            // What is made of all pictures takes a time of its own, which these say nothing of.
            if let Some(active) = active.get(&run.id).filter(|_| ended_pixels < pixels) {
                let ended = (done + failed + skipped).min(total - tasks);
                // Without a table, by pixels: pictures of one run may differ in size.
                let table = active.expected.unwrap_or(Expected { each: 0.0, pixel: 1.0 });
                let (some, part) = active.under_way();
                let made = table.work(
                    (ended - active.before.0) as f64 + some,
                    (ended_pixels - active.before.1) as f64 + part,
                );
                let work = table.work(pictures, pixels as f64);
                let expected = active.expected.map(|_| 1.0 / self.width() as f64);
                let seconds = active.since.elapsed().as_secs_f64();
                if let Some(pace) = pace(expected, seconds, made, work) {
                    let open = work - table.work(ended as f64 + some, ended_pixels as f64 + part);
                    left = Some(pace * open.max(0.0));
                    each = Some(pace * work / pictures);
                }
                under_way = some;
            }
        } else if run.seconds > 0.0 && done + failed + skipped > 0 {
            each = Some(run.seconds / pictures.min((done + failed + skipped) as f64));
        }
        let (state, reason) = (run.state, run.reason.clone());
        Ok(Event {
            run: run.id,
            state,
            reason,
            total,
            tasks,
            done,
            failed,
            skipped,
            working,
            each,
            left,
            under_way,
        })
    }

    /// Tells everybody how far a run is.
    ///
    /// # Errors
    /// [`rallo_job::Error`].
    pub async fn tell(&self, run: i64) -> rallo_job::Result<()> {
        let run = self.0.records.run(run).await?;
        let event = self.state(&run).await?;
        lock(&self.0.told).insert(run.id, (event.standing(), Instant::now()));
        // Nobody listening is no fault.
        let _ = self.0.events.send(event);
        Ok(())
    }

    /// As [`tell`](Self::tell), but not too often: the next look around says the rest.
    pub(super) async fn tell_soon(&self, run: i64) -> rallo_job::Result<()> {
        let lately = lock(&self.0.told).get(&run).is_some_and(|t| t.1.elapsed() < NEWS);
        if lately { Ok(()) } else { self.tell(run).await }
    }

    /// What pictures take on this machine.
    pub fn costs(&self) -> Costs {
        lock(&self.0.costs).clone()
    }

    /// How far each picture of a run is that is in work here, by its position.
    pub fn shares(&self, run: i64) -> HashMap<i64, f64> {
        let active = lock(&self.0.active);
        let at_work = active.get(&run).map(|a| a.at_work.iter().map(|(at, (_, share))| (*at, share.get())));
        at_work.into_iter().flatten().collect()
    }

    /// Reads what is known of this machine, and measures it once where nothing is, when the program has settled.
    pub(super) async fn know_costs(&self) {
        let kept = self.0.records.setting(cost::SETTING).await.ok().flatten();
        let kept: Costs = kept.and_then(|text| serde_json::from_str(&text).ok()).unwrap_or_default();
        *lock(&self.0.costs) = kept.clone();
        if self.0.end_calls == EndCalls::OwnOnly || !kept.is_to_be_measured() {
            return;
        }
        self.0.clock.sleep(SETTLED).await;
        let measured = tokio::task::spawn_blocking(move || kept.measured()).await;
        if let Ok(measured) = measured {
            *lock(&self.0.costs) = measured;
            self.keep_costs().await;
        }
    }

    pub(super) async fn keep_costs(&self) {
        let text = serde_json::to_string(&self.costs()).unwrap_or_default();
        if let Err(e) = self.0.records.set_setting(cost::SETTING, &text).await {
            tracing::warn!("what pictures take was not kept: {e}");
        }
    }

    /// What a picture of a run takes by the machine's table, and the pixels of its original.
    pub(super) fn said(&self, recipe: &Recipe, item: &rallo_job::RunItem) -> Option<(Cost, f64)> {
        let path = Path::new(&item.source);
        let facts = crate::library::scan::facts(path).ok()?;
        let size = Size::new(facts.width, facts.height);
        let decided = decided(item).ok()?;
        let about = resolve_context(path, Some(&facts), &decided, item.position as usize + 1);
        let original =
            Original { size, bytes: item.source_bytes.max(0) as u64, is_jpeg: facts.format == Format::Jpeg };
        Some((self.costs().picture(recipe, &about, original), size.area() as f64))
    }

    /// Looks up what a run's pictures take, by a few of them.
    pub(super) async fn expect(&self, run: i64, recipe: Parsed) {
        let Ok(items) = self.0.records.waiting(run, LOOKED_AT).await else { return };
        let queue = self.clone();
        let found = tokio::task::spawn_blocking(move || {
            let recipe = recipe.as_ref().as_ref().ok()?;
            // From the smallest to the largest.
            let mut items = items;
            items.sort_by_key(|i| i.pixels);
            let many = items.len().min(EXPECTED);
            let picked = (0..many).map(|n| &items[n * (items.len() - 1) / many.saturating_sub(1).max(1)]);
            let samples: Vec<(f64, f64)> = picked
                .filter(|i| i.task.is_none())
                .filter_map(|i| queue.said(recipe, i))
                .map(|(cost, pixels)| (pixels, cost.seconds))
                .collect();
            Expected::of(&samples)
        });
        if let Ok(Some(core)) = found.await {
            if let Some(active) = lock(&self.0.active).get_mut(&run) {
                active.expected = Some(core);
            }
            let _ = self.tell(run).await;
        }
    }

    /// Whether the machine's table is to learn from a picture: from the first ones each time, later from some.
    pub(super) fn is_worth_learning(&self, item: &rallo_job::RunItem) -> bool {
        lock(&self.0.costs).learned < 50.0 || item.position % 16 == 0
    }

    /// Lets the machine's table learn from a picture that took so many seconds of one core.
    pub(super) fn learn(&self, recipe: &Parsed, item: &rallo_job::RunItem, seconds: f64, bytes: u64) {
        let Ok(recipe) = recipe.as_ref() else { return };
        if let Some((said, _)) = self.said(recipe, item) {
            lock(&self.0.costs).learn(said, seconds, bytes);
        }
    }

    pub(super) async fn write_time(&self, run: i64) -> rallo_job::Result<()> {
        let owed = match lock(&self.0.active).get_mut(&run) {
            Some(active) => std::mem::take(&mut active.owed),
            None => 0.0,
        };
        if owed > 0.0 { self.0.records.add_seconds(run, owed).await } else { Ok(()) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_pictures_take_is_split_into_each_and_each_pixel() {
        // Three seconds each and two a pixel, seen on pictures of several sizes.
        let all: Vec<(f64, f64)> = [5.0, 20.0, 8.0].map(|p| (p, 3.0 + 2.0 * p)).to_vec();
        assert_eq!(Expected::of(&all), Some(Expected { each: 3.0, pixel: 2.0 }));
        assert_eq!(Expected::of(&all).unwrap().work(2.0, 10.0), 26.0);
        // Pictures of one size say nothing of what each takes by itself.
        assert_eq!(Expected::of(&[(10.0, 4.0), (10.0, 6.0)]), Some(Expected { each: 0.0, pixel: 0.5 }));
        assert_eq!(Expected::of(&[]), None);
    }

    #[test]
    fn the_table_speaks_first_and_the_run_itself_afterwards() {
        assert_eq!(pace(None, 5.0, 0.0, 100.0), None);
        assert_eq!(pace(Some(2.0), 5.0, 0.0, 100.0), Some(2.0));
        assert_eq!(pace(None, 5.0, 10.0, 100.0), Some(0.5));
        // Half of what is enough: half of each.
        assert_eq!(pace(Some(2.0), 10.0, 2.5, 100.0), Some(3.0));
        assert_eq!(pace(Some(2.0), 40.0, 10.0, 100.0), Some(4.0));
    }
}
