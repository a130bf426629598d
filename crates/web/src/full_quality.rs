//! The sample after its denoising, at full size, part by part: first what is under the eye, then the rest.
//!
//! Denoising 24 megapixels takes many seconds. [`Denoised`] is the picture after the recipe's first lines, up to the
//! denoising, as a [`Source`] that is usable at once: where a part is not computed yet, it shows the same lines without
//! the denoising, and [`Denoised::is_done`] says so. A thread computes the parts in sight first and then the others, as
//! long as somebody asks ([`Denoised::look`]); another recipe gives it up at once.

use rallo_engine::{Memory, Picture, Plan, Program, Rect, Samples, Settings, Size, Source, SourceError};
use rallo_media::FileSource;
use rallo_runner::render::disk_cache::LARGEST;
use rallo_runner::schedule::{self, CancellationToken, Class};
use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, RwLock};
use std::time::{Duration, Instant};
use tokio::sync::watch;

/// Side of the squares that are computed or not, in pixels; a multiple of what the largest reduction joins to one.
const CELL: i64 = 64;
/// Most pixels in sight that are computed at a time: about half of what a window shows.
const PIECE: usize = 420_000;
/// Sides of what is computed at a time where nobody looks.
const ELSEWHERE: (i64, i64) = (1024, 768);
/// Nobody has asked for so long: then the work rests.
const PATIENCE: Duration = Duration::from_secs(6);

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(|p| p.into_inner())
}

/// What is computed so far.
struct Parts {
    /// Working values of the whole picture; those of unfinished cells mean nothing.
    values: Vec<[f32; 3]>,
    /// Row by row.
    done: Vec<bool>,
}

/// The picture after its first lines.
pub struct Denoised {
    key: u64,
    source: Arc<FileSource>,
    size: Size,
    /// The lines, and those of them that do not denoise.
    lines: Vec<Settings>,
    plain: Vec<Settings>,
    memory: &'static dyn Memory,
    parts: RwLock<Parts>,
    /// Reductions that were asked for: where nothing is done yet, of the plain picture.
    reduced: Mutex<HashMap<u8, Vec<[f32; 3]>>>,
    /// What is in sight, and when somebody last asked.
    eye: Mutex<(Rect, Instant)>,
    /// Cells done.
    count: watch::Sender<usize>,
    is_working: AtomicBool,
    has_failed: AtomicBool,
    wanted: CancellationToken,
    /// Gives up the piece at work, where that is out of sight.
    elsewhere: Mutex<Option<CancellationToken>>,
}

/// One sample at a time.
#[derive(Default)]
pub struct FullQuality(Mutex<Option<Arc<Denoised>>>);

impl FullQuality {
    /// The picture after `lines`, of which `denoises` says which denoise; the one there is already, or a fresh one in its
    /// place. Nothing for pictures that are too large to be held.
    pub fn open(
        &self,
        key: &str,
        lines: Vec<Settings>,
        denoises: &[bool],
        source: &Arc<FileSource>,
        memory: &'static dyn Memory,
    ) -> Option<Arc<Denoised>> {
        let size = source.size();
        if size.area() > LARGEST {
            return None;
        }
        let key = hash(key);
        let mut held = lock(&self.0);
        if let Some(known) = held.as_ref().filter(|d| d.key == key) {
            return Some(known.clone());
        }
        if let Some(old) = held.take() {
            old.wanted.cancel();
        }
        let fresh = Arc::new(Denoised::new(key, lines, denoises, source.clone(), memory));
        *held = Some(fresh.clone());
        Some(fresh)
    }

    /// What there is for a key, if anything of it is computed.
    pub fn peek(&self, key: &str) -> Option<Arc<Denoised>> {
        let key = hash(key);
        lock(&self.0).as_ref().filter(|d| d.key == key && d.count() > 0).cloned()
    }
}

fn hash(key: &str) -> u64 {
    let mut hasher = DefaultHasher::new();
    key.hash(&mut hasher);
    hasher.finish()
}

impl Denoised {
    fn new(
        key: u64,
        lines: Vec<Settings>,
        denoises: &[bool],
        source: Arc<FileSource>,
        memory: &'static dyn Memory,
    ) -> Self {
        let size = source.size();
        let (across, down) = cells(size);
        let plain = lines.iter().zip(denoises).filter(|(_, d)| !**d).map(|(l, _)| l.clone()).collect();
        let middle = Rect::new(i64::from(size.width) / 2, i64::from(size.height) / 2, 0, 0);
        Self {
            key,
            source,
            size,
            lines,
            plain,
            memory,
            // The system gives pages only to what is written.
            parts: RwLock::new(Parts {
                values: vec![[0.0; 3]; size.area() as usize],
                done: vec![false; (across * down) as usize],
            }),
            reduced: Mutex::default(),
            eye: Mutex::new((middle, Instant::now())),
            count: watch::Sender::new(0),
            is_working: AtomicBool::new(false),
            has_failed: AtomicBool::new(false),
            wanted: CancellationToken::new(),
            elsewhere: Mutex::default(),
        }
    }

    fn count(&self) -> usize {
        *self.count.borrow()
    }

    fn total(&self) -> usize {
        let (across, down) = cells(self.size);
        (across * down) as usize
    }

    /// Says that somebody looks at `rect`, or at the whole; the work goes on from there.
    pub fn look(self: &Arc<Self>, rect: Option<Rect>) {
        {
            let mut eye = lock(&self.eye);
            eye.1 = Instant::now();
            if let Some(rect) = rect {
                eye.0 = rect;
                if !self.is_done(rect)
                    && let Some(piece) = lock(&self.elsewhere).take()
                {
                    piece.cancel();
                }
            }
        }
        if self.count() < self.total()
            && !self.has_failed.load(Ordering::Relaxed)
            && !self.is_working.swap(true, Ordering::AcqRel)
        {
            let denoised = self.clone();
            std::thread::spawn(move || {
                let work = || denoised.work();
                let failed = std::panic::catch_unwind(std::panic::AssertUnwindSafe(work)).unwrap_or(true);
                denoised.has_failed.store(failed, Ordering::Relaxed);
                denoised.is_working.store(false, Ordering::Release);
                // Whoever waits looks again.
                denoised.count.send_modify(|_| {});
            });
        }
    }

    /// Waits until more is computed than `known` cells, or nothing more will be; for two seconds at most.
    pub async fn more_than(&self, known: usize) {
        let mut count = self.count.subscribe();
        let _ = tokio::time::timeout(Duration::from_secs(2), async {
            while *count.borrow_and_update() <= known && self.is_working.load(Ordering::Acquire) {
                if count.changed().await.is_err() {
                    return;
                }
            }
        })
        .await;
    }

    /// Cells that are computed.
    pub fn known(&self) -> usize {
        self.count()
    }

    /// Whether the denoising cannot be computed.
    pub fn has_failed(&self) -> bool {
        self.has_failed.load(Ordering::Relaxed)
    }

    /// Whether all of `rect` is computed.
    pub fn is_done(&self, rect: Rect) -> bool {
        self.share(rect) >= 1.0
    }

    /// How much of `rect` is computed, 0 ..= 1.
    pub fn share(&self, rect: Rect) -> f64 {
        let parts = self.parts.read().unwrap_or_else(|p| p.into_inner());
        let cells = self.cells_of(rect);
        let done = cells.iter().filter(|c| parts.done[**c]).count();
        if cells.is_empty() { 1.0 } else { done as f64 / cells.len() as f64 }
    }

    /// Cells that `rect` touches.
    fn cells_of(&self, rect: Rect) -> Vec<usize> {
        let rect = rect.within(self.size.rect());
        if rect.is_empty() {
            return Vec::new();
        }
        let across = cells(self.size).0;
        let (rows, columns) =
            (rect.y / CELL..=(rect.bottom() - 1) / CELL, rect.x / CELL..=(rect.right() - 1) / CELL);
        rows.flat_map(|y| columns.clone().map(move |x| (y * across + x) as usize)).collect()
    }

    /// Computes part after part; whether it failed.
    fn work(&self) -> bool {
        let cores = schedule::cores();
        let plan = schedule::work(Class::Sight, cores, &self.wanted, || {
            Plan::remembering(self.lines.clone(), &*self.source, Some(self.memory))
        });
        let program = match plan {
            Ok(plan) => plan.program(1.0),
            Err(_) => return !self.wanted.is_cancelled(),
        };
        while !self.wanted.is_cancelled() && lock(&self.eye).1.elapsed() < PATIENCE {
            let Some((rect, is_seen)) = self.next() else { return false };
            let piece = self.wanted.child_token();
            let class = if is_seen { Class::Sight } else { Class::Background };
            if !is_seen {
                *lock(&self.elsewhere) = Some(piece.clone());
            }
            let done = schedule::work(class, cores, &piece, || program.render_working(&*self.source, rect));
            lock(&self.elsewhere).take();
            match done {
                Ok((_, values)) => self.put(rect, &values),
                Err(_) if piece.is_cancelled() => {}
                Err(_) => return true,
            }
        }
        false
    }

    /// What is computed next, and whether it is in sight.
    fn next(&self) -> Option<(Rect, bool)> {
        let eye = lock(&self.eye).0;
        let across = cells(self.size).0;
        let parts = self.parts.read().unwrap_or_else(|p| p.into_inner());
        let missing = |rect: Rect| {
            let at = |c: usize| (c as i64 % across, c as i64 / across);
            let open = self.cells_of(rect).into_iter().filter(|c| !parts.done[*c]).map(at);
            open.fold(None, |bounds: Option<(i64, i64, i64, i64)>, (x, y)| {
                let (left, top, right, bottom) = bounds.unwrap_or((x, y, x, y));
                Some((left.min(x), top.min(y), right.max(x), bottom.max(y)))
            })
            .map(|(left, top, right, bottom)| {
                let (wide, high) = (right - left + 1, bottom - top + 1);
                Rect::new(left * CELL, top * CELL, wide * CELL, high * CELL).within(self.size.rect())
            })
        };
        if let Some(mut rect) = missing(eye) {
            // Halves across the longer side: what is needed around a part weighs least so.
            while rect.area() > PIECE {
                let half = |side: i64| (side / 2 + CELL - 1) / CELL * CELL;
                let (mut first, mut second) = (rect, rect);
                if rect.width > rect.height {
                    first.width = half(rect.width);
                    second.x += first.width;
                    second.width -= first.width;
                } else {
                    first.height = half(rect.height);
                    second.y += first.height;
                    second.height -= first.height;
                }
                // Something is open in one of them at least.
                rect = missing(first).or_else(|| missing(second))?;
            }
            return Some((rect, true));
        }
        let middle = (eye.x + eye.width / 2, eye.y + eye.height / 2);
        let away = |r: &Rect| (r.x + r.width / 2 - middle.0).pow(2) + (r.y + r.height / 2 - middle.1).pow(2);
        let rest = self.size.rect().tiles(ELSEWHERE.0, ELSEWHERE.1).into_iter().filter_map(missing);
        rest.min_by_key(away).map(|rect| (rect, false))
    }

    /// Takes in a part: whole cells, but for the picture's right and lower edge.
    fn put(&self, rect: Rect, values: &[[f32; 3]]) {
        let width = self.size.width as usize;
        // Held throughout: who sees these cells done sees them in the reductions too.
        let mut reductions = lock(&self.reduced);
        let fresh = {
            let mut parts = self.parts.write().unwrap_or_else(|p| p.into_inner());
            for (row, line) in values.chunks(rect.width as usize).enumerate() {
                let at = (rect.y as usize + row) * width + rect.x as usize;
                parts.values[at..at + line.len()].copy_from_slice(line);
            }
            let cells = self.cells_of(rect);
            cells.into_iter().filter(|c| !std::mem::replace(&mut parts.done[*c], true)).count()
        };
        for (level, pixels) in reductions.iter_mut() {
            self.reduce_into(pixels, *level, rect, values);
        }
        drop(reductions);
        self.count.send_modify(|count| *count += fresh);
    }

    /// Puts a part's reduction into that of the whole.
    fn reduce_into(&self, whole: &mut [[f32; 3]], level: u8, rect: Rect, values: &[[f32; 3]]) {
        let size = Size::new(rect.width as u32, rect.height as u32);
        let Ok(mut picture) = Picture::of_working(size, values.as_flattened().to_vec()) else { return };
        for _ in 0..level {
            picture = picture.halved();
        }
        let (size, width) = (picture.size(), reduced(self.size, level).width as usize);
        let Samples::F32(values) = picture.samples() else { return };
        let (x, y) = ((rect.x >> level) as usize, (rect.y >> level) as usize);
        for (row, line) in values.as_chunks::<3>().0.chunks(size.width as usize).enumerate() {
            let at = (y + row) * width + x;
            whole[at..at + line.len()].copy_from_slice(line);
        }
    }

    /// The lines without the denoising, at a scale.
    fn undenoised(&self, scale: f64) -> Result<Program, SourceError> {
        let plan = Plan::remembering(self.plain.clone(), &*self.source, Some(self.memory));
        Ok(plan.map_err(|e| SourceError(e.to_string()))?.program(scale))
    }

    /// A part at full size.
    fn whole_part(&self, rect: Rect) -> Result<Vec<[f32; 3]>, SourceError> {
        let mut out = if self.is_done(rect) {
            vec![[0.0; 3]; rect.area()]
        } else {
            self.undenoised(1.0)?.render_working(&*self.source, rect)?.1
        };
        let (width, across) = (self.size.width as usize, cells(self.size).0);
        let parts = self.parts.read().unwrap_or_else(|p| p.into_inner());
        for cell in self.cells_of(rect).into_iter().filter(|c| parts.done[*c]) {
            let (x, y) = (cell as i64 % across * CELL, cell as i64 / across * CELL);
            let part = Rect::new(x, y, CELL, CELL).within(rect);
            for row in part.y..part.bottom() {
                let from = row as usize * width + part.x as usize;
                let to = ((row - rect.y) * rect.width + part.x - rect.x) as usize;
                let many = part.width as usize;
                out[to..to + many].copy_from_slice(&parts.values[from..from + many]);
            }
        }
        Ok(out)
    }

    /// A reduction of what there is now.
    fn reduction(&self, level: u8) -> Result<Vec<[f32; 3]>, SourceError> {
        let plain = self.undenoised(0.5f64.powi(i32::from(level)))?;
        let (made, mut pixels) = plain.render_working(&*self.source, plain.size().rect())?;
        if made != reduced(self.size, level) {
            return Err(SourceError("a reduction has another size than its picture".into()));
        }
        let across = cells(self.size).0;
        let parts = self.parts.read().unwrap_or_else(|p| p.into_inner());
        for (cell, _) in parts.done.iter().enumerate().filter(|(_, done)| **done) {
            let (x, y) = (cell as i64 % across * CELL, cell as i64 / across * CELL);
            let rect = Rect::new(x, y, CELL, CELL).within(self.size.rect());
            let values = cut(&parts.values, self.size, rect);
            self.reduce_into(&mut pixels, level, rect, &values);
        }
        Ok(pixels)
    }

    /// A part of a reduction, which is made when it is first asked for.
    fn reduced_part(&self, level: u8, rect: Rect) -> Result<Vec<[f32; 3]>, SourceError> {
        let mut by_level = lock(&self.reduced);
        let pixels = match by_level.entry(level) {
            Entry::Occupied(known) => known.into_mut(),
            Entry::Vacant(fresh) => fresh.insert(self.reduction(level)?),
        };
        Ok(cut(pixels, reduced(self.size, level), rect))
    }
}

/// A part of the pixels of a picture of that size.
fn cut(pixels: &[[f32; 3]], size: Size, rect: Rect) -> Vec<[f32; 3]> {
    let row = |y: i64| {
        let at = y as usize * size.width as usize + rect.x as usize;
        &pixels[at..at + rect.width as usize]
    };
    (rect.y..rect.bottom()).flat_map(row).copied().collect()
}

/// Cells across and down.
fn cells(size: Size) -> (i64, i64) {
    let count = |side: u32| (i64::from(side) + CELL - 1) / CELL;
    (count(size.width), count(size.height))
}

/// Size of a reduction.
fn reduced(size: Size, level: u8) -> Size {
    size.scaled(0.5f64.powi(i32::from(level)))
}

impl Source for Denoised {
    fn size(&self) -> Size {
        self.size
    }
    fn max_level(&self) -> u8 {
        rallo_engine::Pyramid::LEVELS
    }
    fn level(&self, level: u8) -> Result<Arc<Picture>, SourceError> {
        let size = reduced(self.size, level);
        let values =
            if level == 0 { self.whole_part(size.rect())? } else { self.reduced_part(level, size.rect())? };
        let picture = Picture::of_working(size, values.into_flattened());
        picture.map(Arc::new).map_err(|e| SourceError(e.to_string()))
    }
    fn orientation(&self) -> rallo_engine::Orientation {
        self.source.orientation()
    }
    fn seed(&self) -> u64 {
        self.source.seed()
    }
    fn state(&self) -> u64 {
        self.key.rotate_left(17) ^ self.count() as u64
    }
    fn part(&self, level: u8, rect: Rect) -> Option<Result<Vec<[f32; 3]>, SourceError>> {
        if level > self.max_level() {
            return None;
        }
        Some(if level == 0 { self.whole_part(rect) } else { self.reduced_part(level, rect) })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rallo_engine::step::View;
    use rallo_engine::{OutputProfile, step_kind};
    use rallo_media::{Encoding, Extras};

    /// Remembers nothing.
    struct Nothing;

    impl Memory for Nothing {
        fn recall(&self, _: u64) -> Option<Arc<dyn rallo_engine::Step>> {
            None
        }
        fn keep(&self, _: u64, _: Arc<dyn rallo_engine::Step>) {}
        fn recall_views(&self, _: u64) -> Option<Arc<Vec<View>>> {
            None
        }
        fn keep_views(&self, _: u64, _: Arc<Vec<View>>) {}
    }

    /// A noisy picture whose sides are no multiple of a cell.
    fn source() -> Arc<FileSource> {
        noisy(330, 210)
    }

    fn noisy(w: u32, h: u32) -> Arc<FileSource> {
        let grain = |i: u32| (i.wrapping_mul(2_654_435_761) >> 24) as u8 / 8;
        let pixels = (0..w * h * 3).map(|i| 60 + (i / 3 % w / 3 % 110) as u8 + grain(i)).collect();
        let picture =
            rallo_engine::Encoded { size: Size::new(w, h), pixels: rallo_engine::Pixels::U8(pixels) };
        let file = rallo_media::encode(&picture, Encoding::Png, &Extras::default()).unwrap();
        Arc::new(FileSource::from_bytes(file).unwrap())
    }

    fn line(id: &str, values: serde_json::Value) -> Settings {
        Settings::from(step_kind(id).unwrap().parse(values.as_object().unwrap()).unwrap())
    }

    fn lines(brightness: f64) -> Vec<Settings> {
        vec![
            line("exposure", serde_json::json!({"stops": 0.3})),
            line("denoise", serde_json::json!({"method": "quick", "brightness": brightness})),
        ]
    }

    fn open(full: &FullQuality, brightness: f64, source: &Arc<FileSource>) -> Arc<Denoised> {
        let key = format!("{brightness}");
        full.open(&key, lines(brightness), &[false, true], source, &Nothing).unwrap()
    }

    async fn all_of(denoised: &Arc<Denoised>) {
        for _ in 0..200 {
            denoised.look(None);
            if denoised.is_done(denoised.size().rect()) {
                return;
            }
            denoised.more_than(denoised.known()).await;
        }
        panic!("never done");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn what_comes_part_by_part_is_what_a_plan_makes_whole_at_every_reduction() {
        let (full, source) = (FullQuality::default(), source());
        let denoised = open(&full, 50.0, &source);
        // One reduction is begun before anything is there, and filled while the parts come.
        assert!(denoised.part(1, reduced(denoised.size(), 1).rect()).unwrap().is_ok());
        all_of(&denoised).await;
        let program = Plan::for_picture(lines(50.0), &*source).unwrap().program(1.0);
        let (size, want) = program.render_values(&*source, program.size().rect()).unwrap();
        let mut whole = Picture::of_working(size, want).unwrap();
        for level in 0..=5u8 {
            let Samples::F32(want) = whole.samples() else { panic!() };
            let size = reduced(denoised.size(), level);
            let part = denoised.part(level, size.rect()).unwrap().unwrap();
            assert_eq!(part.as_flattened(), &want[..], "level {level}");
            whole = whole.halved();
        }
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn what_is_looked_at_comes_first_and_the_rest_is_shown_without_denoising() {
        let (full, source) = (FullQuality::default(), source());
        let denoised = open(&full, 50.0, &source);
        let eye = Rect::new(200, 100, 60, 60);
        assert!(!denoised.is_done(eye) && full.peek("50").is_none());
        // Before anything is computed a part looks as without the denoising.
        let plain = Plan::for_picture(vec![lines(50.0).remove(0)], &*source).unwrap().program(1.0);
        let (_, want) = plain.render_working(&*source, eye).unwrap();
        assert_eq!(denoised.part(0, eye).unwrap().unwrap(), want);
        let before = denoised.state();
        let (rect, is_seen) = {
            lock(&denoised.eye).0 = eye;
            denoised.next().unwrap()
        };
        assert!(is_seen && rect == Rect::new(192, 64, 128, 128), "{rect:?}");
        denoised.look(Some(eye));
        while !denoised.is_done(eye) {
            denoised.more_than(denoised.known()).await;
        }
        assert!(denoised.state() != before && full.peek("50").is_some());
        let program = Plan::for_picture(lines(50.0), &*source).unwrap().program(1.0);
        let (_, want) = program.render_working(&*source, eye).unwrap();
        assert_eq!(denoised.part(0, eye).unwrap().unwrap(), want);
    }

    #[test]
    fn what_is_in_sight_is_cut_into_pieces_that_are_each_made_once() {
        let (full, source) = (FullQuality::default(), noisy(2000, 1500));
        let denoised = open(&full, 50.0, &source);
        // All but the edges is in sight: far more than one piece.
        let eye = Rect::new(100, 100, 1800, 1300);
        lock(&denoised.eye).0 = eye;
        let mut made = 0;
        while let Some((rect, is_seen)) = denoised.next() {
            assert!(!denoised.is_done(rect), "{rect:?} is made again");
            assert!(is_seen != denoised.is_done(eye) && (!is_seen || rect.area() <= PIECE));
            denoised.put(rect, &vec![[0.5; 3]; rect.area()]);
            made += 1;
            assert!(made < 60, "{made} pieces");
        }
        assert_eq!(denoised.known(), denoised.total());
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn another_value_gives_up_what_was_on_its_way() {
        let (full, source) = (FullQuality::default(), source());
        let first = open(&full, 50.0, &source);
        first.look(None);
        let second = open(&full, 60.0, &source);
        assert!(first.wanted.is_cancelled() && !Arc::ptr_eq(&first, &second));
        assert!(Arc::ptr_eq(&second, &open(&full, 60.0, &source)), "the same values are the same picture");
        all_of(&second).await;
        while first.is_working.load(Ordering::Acquire) {
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
        assert!(!first.has_failed(), "what is given up has not failed");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn who_waits_for_what_fails_is_told() {
        let (full, whole) = (FullQuality::default(), source());
        // The file ends in the middle of its pixels.
        let cut = whole.bytes()[..whole.bytes().len() / 2].to_vec();
        let broken = Arc::new(FileSource::from_bytes(cut).unwrap());
        let denoised = open(&full, 50.0, &broken);
        denoised.look(None);
        while denoised.is_working.load(Ordering::Acquire) {
            denoised.more_than(0).await;
        }
        assert!(denoised.has_failed() && denoised.known() == 0);
        let program = Plan::new(Vec::new(), broken.size()).unwrap().program(1.0);
        let srgb = OutputProfile::Srgb.colour();
        assert!(program.render(&*denoised, Rect::new(0, 0, 8, 8), srgb).is_err());
    }
}
