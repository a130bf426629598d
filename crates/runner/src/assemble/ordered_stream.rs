//! Pieces that are made in any order, handed on in theirs.

use crate::assemble::assembler::Gatherer;
use crate::assemble::piece::Piece;
use crate::render::memory_budget::Reserved;
use rallo_recipe::Assembly;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard};
use std::time::Duration;

/// Pieces that wait for those before them.
pub(super) const AHEAD: usize = 12;

/// Bytes they may take together.
pub(super) struct Order {
    pub(super) next: usize,
    pub(super) waiting: BTreeMap<usize, Option<Piece>>,
    /// Positions in work here.
    working: BTreeSet<usize>,
    pub(super) gatherer: Option<Gatherer>,
    /// Somebody hands pieces on.
    pub(super) pouring: bool,
}

impl Order {
    /// Whether a picture's piece was handed on, or is just now.
    fn is_past(&self, at: usize) -> bool {
        at < self.next || (self.pouring && at == self.next)
    }
}

/// An assembly that is filled while its pictures are made.
pub(crate) struct Stream {
    pub(super) count: usize,
    /// The gatherer's.
    pub(super) stop: Arc<AtomicBool>,
    needs: Vec<bool>,
    pub(super) order: Mutex<Order>,
    pub(super) changed: Condvar,
    /// Memory for pieces that wait.
    reserved: Reserved,
}

impl Stream {
    pub fn new(assembly: &Assembly, count: usize, gatherer: Gatherer, reserved: Reserved) -> Self {
        let stop = gatherer.stop.clone();
        let order = Order {
            next: 0,
            waiting: BTreeMap::new(),
            working: BTreeSet::new(),
            gatherer: Some(gatherer),
            pouring: false,
        };
        let needs = assembly.needs(count);
        Self { count, stop, needs, order: Mutex::new(order), changed: Condvar::new(), reserved }
    }

    /// Pictures it joins.
    pub fn count(&self) -> usize {
        self.count
    }

    pub(super) fn lock(&self) -> MutexGuard<'_, Order> {
        self.order.lock().unwrap_or_else(|p| p.into_inner())
    }

    /// Whether a picture's piece is still needed.
    pub fn wants(&self, at: usize) -> bool {
        let order = self.lock();
        self.needs.get(at) == Some(&true) && at >= order.next && (order.gatherer.is_some() || order.pouring)
    }

    /// A picture goes into work here.
    pub fn began(&self, at: usize) {
        self.lock().working.insert(at);
    }

    /// Gives a picture's piece, or says that there is none; waits where many before it are still on their way.
    pub fn give(&self, at: usize, piece: Option<Piece>) {
        let mut order = self.lock();
        order.working.remove(&at);
        if order.is_past(at) || (order.gatherer.is_none() && !order.pouring) {
            self.changed.notify_all();
            return;
        }
        order.waiting.insert(at, piece);
        loop {
            let next = order.next;
            if !order.pouring
                && let Some(piece) = order.waiting.remove(&next)
            {
                let Some(mut gatherer) = order.gatherer.take() else { return };
                order.pouring = true;
                drop(order);
                let taken = gatherer.take(next, piece);
                order = self.lock();
                order.pouring = false;
                // Given up meanwhile where the count was set to its end.
                if order.next == next {
                    order.next += 1;
                    match taken {
                        Ok(()) => order.gatherer = Some(gatherer),
                        Err(e) => tracing::warn!("an assembly is made once more at the end: {}", e.reason),
                    }
                }
                self.changed.notify_all();
                continue;
            }
            let bytes: usize = order.waiting.values().flatten().map(Piece::bytes).sum();
            let few = order.waiting.len() <= AHEAD && bytes as u64 <= self.reserved.bytes;
            if few || (order.gatherer.is_none() && !order.pouring) {
                return;
            }
            let next = order.next;
            if !order.pouring && !order.waiting.contains_key(&next) && !order.working.contains(&next) {
                // Another program has it, or it comes later: a pass at the end makes the assembly.
                order.gatherer = None;
                order.waiting.clear();
                self.changed.notify_all();
                return;
            }
            order = self
                .changed
                .wait_timeout(order, Duration::from_millis(500))
                .unwrap_or_else(|p| p.into_inner())
                .0;
        }
    }

    /// A picture is over: what it has not given will not come.
    pub fn skip(&self, at: usize) {
        {
            let order = self.lock();
            if order.is_past(at) || order.waiting.contains_key(&at) {
                return;
            }
        }
        self.give(at, None);
    }

    /// A picture went out of work without a piece, for another time.
    pub fn left(&self, at: usize) {
        self.lock().working.remove(&at);
        self.changed.notify_all();
    }

    /// The assembly, where all pieces were handed on; waits for those that are on their way.
    pub fn complete(&self) -> Option<Gatherer> {
        let mut order = self.lock();
        while order.pouring {
            order = self.changed.wait(order).unwrap_or_else(|p| p.into_inner());
        }
        if order.next >= self.count { order.gatherer.take() } else { None }
    }

    /// Ends it without a file.
    pub fn give_up(&self) {
        self.stop.store(true, Ordering::Relaxed);
        let mut order = self.lock();
        order.gatherer = None;
        order.waiting.clear();
        order.next = usize::MAX;
        self.changed.notify_all();
    }
}
