//! The sample behind its denoising, at full size: computed once in the background, and then the source of everything that
//! is shown of it. Until it is there, a reduced stand-in is shown where the picture is small, and said to be one.

use rallo_engine::{Orientation, Picture, Plan, Pyramid, Rect, Settings, Size, Source, SourceError};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Condvar, Mutex};

/// Largest picture that is kept like this, in pixels: 16 bytes each with its reductions.
const LARGEST: u64 = 60_000_000;

/// Rows computed between two looks at whether the work is still wanted.
const BAND: i64 = 256;

/// Steps so expensive that their result is kept.
pub const DENOISE: [&str; 1] = ["denoise"];

/// The picture behind the first lines, as a source of its own.
pub struct Behind {
    pyramid: Pyramid,
    orientation: Orientation,
    seed: u64,
}

impl Source for Behind {
    fn size(&self) -> Size {
        self.pyramid.size()
    }
    fn max_level(&self) -> u8 {
        self.pyramid.max_level()
    }
    fn level(&self, level: u8) -> Result<Arc<Picture>, SourceError> {
        self.pyramid.level(level)
    }
    fn orientation(&self) -> Orientation {
        self.orientation
    }
    fn seed(&self) -> u64 {
        self.seed
    }
}

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

/// How many of the first lines end in a denoising that is worth keeping: lines of repair, light and colour only, so that
/// the result depends on nothing behind them.
pub fn lines(groups: &[(&str, &str)]) -> Option<usize> {
    let last = groups.iter().position(|(id, _)| DENOISE.contains(id))?;
    let plain = |(id, group): &(&str, &str)| ["repair", "light", "colour"].contains(group) && *id != "lens";
    groups[..=last].iter().all(plain).then_some(last + 1)
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

fn compute(first: Vec<Settings>, source: &dyn Source, stop: &AtomicBool) -> Option<Behind> {
    let plan = Plan::for_picture(first, source).ok()?;
    let program = plan.program(1.0);
    let size = program.size();
    let mut values: Vec<f32> = Vec::with_capacity(size.area() as usize * 3);
    for y in (0..i64::from(size.height)).step_by(BAND as usize) {
        if stop.load(Ordering::Relaxed) {
            return None;
        }
        let band = Rect::new(0, y, i64::from(size.width), BAND.min(i64::from(size.height) - y));
        let (_, pixels) = program.render_working(source, band).ok()?;
        values.extend(pixels.iter().flatten());
    }
    let picture = Picture::of_working(size, values).ok()?;
    Some(Behind { pyramid: Pyramid::new(picture), orientation: source.orientation(), seed: source.seed() })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rallo_engine::{Samples, step_kind};

    #[test]
    fn only_what_depends_on_nothing_behind_it_is_kept() {
        assert_eq!(lines(&[("hot_pixels", "repair"), ("denoise", "repair"), ("crop", "geometry")]), Some(2));
        assert_eq!(lines(&[("crop", "geometry"), ("denoise", "repair")]), None);
        assert_eq!(lines(&[("exposure", "light")]), None);
    }

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
