//! Ends of items on their way into the records: of quick ones several are written down in one step.

use crate::queue::{Queue, lock};
use rallo_job::EndedItem;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

/// How long the end of a quick item waits for others, as long as many items wait.
const GATHERED: Duration = Duration::from_millis(15);

/// Ends that are to be written down.
#[derive(Default)]
pub(super) struct Ends {
    waiting: Mutex<Vec<Arc<End>>>,
    /// Held by the one that writes.
    writing: tokio::sync::Mutex<()>,
}

struct End {
    ended: EndedItem,
    is_written: AtomicBool,
}

impl Queue {
    /// Writes down how an item ended, with all others that wait for it by then.
    ///
    /// # Errors
    /// [`rallo_job::Error`], of this item alone.
    pub(super) async fn write_down(&self, ended: EndedItem) -> rallo_job::Result<()> {
        let ends = &self.0.ends;
        let gathers = self.is_quick() && self.many_wait(ended.item.run_id);
        let own = Arc::new(End { ended, is_written: AtomicBool::new(false) });
        lock(&ends.waiting).push(own.clone());
        if gathers {
            tokio::time::sleep(GATHERED).await;
        }
        let _writing = ends.writing.lock().await;
        if own.is_written.load(Ordering::Relaxed) {
            return Ok(());
        }
        let together = std::mem::take(&mut *lock(&ends.waiting));
        let several: Vec<EndedItem> = together.iter().map(|end| end.ended.clone()).collect();
        if self.0.records.complete_several(&several).await.is_ok() {
            together.iter().for_each(|end| end.is_written.store(true, Ordering::Relaxed));
            return Ok(());
        }
        // One that cannot be written keeps back none of the others.
        let others = together.into_iter().filter(|end| !Arc::ptr_eq(end, &own));
        lock(&ends.waiting).extend(others);
        self.0.records.complete_several(std::slice::from_ref(&own.ended)).await.map(|_| ())
    }
}
