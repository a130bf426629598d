//! The sample behind its denoising, at full size: computed once in the background, and then the source of everything that
//! is shown of it. Until it is there, a reduced stand-in is shown where the picture is small, and said to be one.

use rallo_engine::{Settings, Source};
use rallo_runner::behind::{Behind, LARGEST, compute};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Condvar, Mutex};

#[derive(Default)]
struct State {
    /// What is computed, or was.
    key: String,
    done: Option<Arc<Behind>>,
    failed: bool,
    stop: Arc<AtomicBool>,
}

/// One sample at a time.
#[derive(Default)]
pub struct Truth {
    state: Mutex<State>,
    changed: Condvar,
}

impl Truth {
    fn held(&self) -> std::sync::MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(|p| p.into_inner())
    }

    /// What is there for `key`, without waiting.
    pub fn peek(&self, key: &str) -> Option<Arc<Behind>> {
        let state = self.held();
        if state.key == key { state.done.clone() } else { None }
    }

    /// Waits for what belongs to `key`, and begins the work where nobody has; nothing where something else was asked for
    /// meanwhile. What was being done for another key is given up.
    pub fn wait(
        self: &Arc<Self>,
        key: &str,
        first: Vec<Settings>,
        source: Arc<dyn Source + Send + Sync>,
    ) -> Option<Arc<Behind>> {
        if source.size().area() > LARGEST {
            return None;
        }
        let mut state = self.held();
        if state.key != key {
            state.stop.store(true, Ordering::Relaxed);
            let stop = Arc::new(AtomicBool::new(false));
            *state = State { key: key.to_owned(), stop: stop.clone(), ..State::default() };
            self.changed.notify_all();
            let (truth, key) = (self.clone(), key.to_owned());
            std::thread::spawn(move || truth.work(&key, first, &*source, &stop));
        }
        while state.key == key && state.done.is_none() && !state.failed {
            state = self.changed.wait(state).unwrap_or_else(|p| p.into_inner());
        }
        if state.key == key { state.done.clone() } else { None }
    }

    fn work(&self, key: &str, first: Vec<Settings>, source: &dyn Source, stop: &AtomicBool) {
        // A core is left for what people do meanwhile.
        let threads = std::thread::available_parallelism().map_or(1, |n| n.get().saturating_sub(1).max(1));
        let done = match rayon::ThreadPoolBuilder::new().num_threads(threads).build() {
            Ok(pool) => pool.install(|| compute(first, source, stop)),
            Err(_) => compute(first, source, stop),
        };
        let mut state = self.held();
        if state.key == key {
            state.failed = done.is_none();
            state.done = done.map(Arc::new);
        }
        drop(state);
        self.changed.notify_all();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rallo_engine::{Orientation, Picture, Plan, Pyramid, Samples, Size, step_kind};

    #[test]
    fn what_is_waited_for_is_what_the_plan_makes_whole() {
        // Higher than a band, so that two meet.
        let (w, h) = (90u32, 300u32);
        let grain = |i: u32| (i.wrapping_mul(2_654_435_761) >> 24) as u8 / 8;
        let px = (0..w * h * 3).map(|i| 100 + grain(i)).collect();
        let picture = Picture::new(Size::new(w, h), Samples::U8(px), Orientation::UPRIGHT, None).unwrap();
        let source: Arc<dyn Source + Send + Sync> = Arc::new(Pyramid::new(picture));
        let values = serde_json::json!({"method": "quick"});
        let step = step_kind("denoise").unwrap().parse(values.as_object().unwrap()).unwrap();
        let lines = vec![Settings::from(step)];
        let truth = Arc::new(Truth::default());
        assert!(truth.peek("a").is_none());
        let behind = truth.wait("a", lines.clone(), source.clone()).unwrap();
        assert!(truth.peek("a").is_some() && truth.peek("b").is_none());
        let program = Plan::for_picture(lines, &*source).unwrap().program(1.0);
        let (_, want) = program.render_working(&*source, program.size().rect()).unwrap();
        let level = behind.level(0).unwrap();
        let Samples::F32(got) = level.samples() else { panic!() };
        assert!(got.iter().eq(want.iter().flatten()), "the bands differ from the whole");
    }
}
