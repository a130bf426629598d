//! Memory given out to pictures before they are decoded, within a bound for all that are in work.

use std::sync::{Arc, Condvar, Mutex, MutexGuard};

/// What is given out.
#[derive(Default)]
struct Given {
    /// Bytes of pictures in work, and their number.
    taken: u64,
    pictures: usize,
    /// Bytes set apart for what waits between pictures and the files that are made of all of them.
    reserved: u64,
    /// The most there may be.
    limit: u64,
}

/// The memory that pictures in work may take together.
pub(crate) struct MemoryBudget {
    given: Mutex<Given>,
    changed: Condvar,
}

impl MemoryBudget {
    pub(crate) fn new(limit: u64) -> Self {
        Self { given: Mutex::new(Given { limit, ..Given::default() }), changed: Condvar::new() }
    }

    fn lock(&self) -> MutexGuard<'_, Given> {
        self.given.lock().unwrap_or_else(|p| p.into_inner())
    }

    /// The most there may be from now on, in bytes.
    pub(crate) fn limit(&self, bytes: u64) {
        self.lock().limit = bytes;
        self.changed.notify_all();
    }

    /// Waits until there is room for `bytes`; a picture larger than all of it goes alone.
    pub(crate) fn take(&self, bytes: u64) -> Taken<'_> {
        let mut given = self.lock();
        while given.pictures > 0 && given.taken + bytes > given.limit.saturating_sub(given.reserved) {
            given = self.changed.wait(given).unwrap_or_else(|p| p.into_inner());
        }
        given.taken += bytes;
        given.pictures += 1;
        Taken { budget: self, bytes }
    }

    /// Sets a quarter of the memory apart, at least 32 and at most 600 MB, for as long as the answer lives.
    pub(crate) fn reserve(self: &Arc<Self>) -> Reserved {
        let mut given = self.lock();
        let bytes = (given.limit / 4).clamp(32_000_000, 600_000_000);
        given.reserved += bytes;
        Reserved { budget: self.clone(), bytes }
    }
}

/// Memory of a picture in work, given back when this goes.
pub(crate) struct Taken<'a> {
    budget: &'a MemoryBudget,
    bytes: u64,
}

impl Drop for Taken<'_> {
    fn drop(&mut self) {
        let mut given = self.budget.lock();
        given.taken -= self.bytes;
        given.pictures -= 1;
        self.budget.changed.notify_all();
    }
}

/// Memory that is set apart, given back when this goes.
pub(crate) struct Reserved {
    budget: Arc<MemoryBudget>,
    /// How much.
    pub(crate) bytes: u64,
}

impl Drop for Reserved {
    fn drop(&mut self) {
        self.budget.lock().reserved -= self.bytes;
        self.budget.changed.notify_all();
    }
}

/// Bytes that pictures in work may take together by default: half of the memory that is free now, 1 GB where that is not
/// known.
pub fn default_memory() -> u64 {
    std::fs::read_to_string("/proc/meminfo")
        .ok()
        .and_then(|text| {
            let line = text.lines().find(|l| l.starts_with("MemAvailable:"))?.to_owned();
            line.split_whitespace().nth(1)?.parse::<u64>().ok()
        })
        .map_or(1_000_000_000, |kb| kb * 512)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::mpsc;
    use std::time::Duration;

    #[test]
    fn what_is_set_apart_is_not_given_to_pictures() {
        let budget = Arc::new(MemoryBudget::new(400_000_000));
        let apart = budget.reserve();
        assert_eq!(apart.bytes, 100_000_000);
        let first = budget.take(200_000_000);
        let (tell, told) = mpsc::channel();
        std::thread::scope(|scope| {
            let budget = &budget;
            scope.spawn(move || {
                let _second = budget.take(150_000_000);
                tell.send(()).unwrap();
            });
            assert!(told.recv_timeout(Duration::from_millis(200)).is_err(), "350 MB beside 100 are too many");
            drop(apart);
            told.recv_timeout(Duration::from_secs(20)).unwrap();
        });
        drop(first);
        // Larger than all of it: alone.
        drop(budget.take(900_000_000));
    }
}
