//! Giving way: long work asks, piece by piece, whether it may go on.
//!
//! The engine knows neither clocks nor other work. Whoever calls it may set a [`Pace`] on the threads that compute;
//! loops over tiles, bands and blocks then ask [`go_on`] before each piece, which takes a few milliseconds. A pace may
//! wait there while something more urgent is at work, or say that nobody wants the result any more. What was computed
//! until then is worth nothing, so every render ends in an error.

use std::cell::RefCell;
use std::sync::Arc;

/// Decides when the next piece of work may begin.
pub trait Pace: Send + Sync {
    /// May wait. `false` means that the work is given up; it stays so.
    fn go_on(&self) -> bool;
    /// Whether the work is still wanted; never waits.
    fn is_wanted(&self) -> bool;
}

thread_local! {
    static PACE: RefCell<Option<Arc<dyn Pace>>> = const { RefCell::new(None) };
}

/// Sets the pace of everything this thread computes from now on; without one it never waits.
pub fn set(pace: Option<Arc<dyn Pace>>) {
    PACE.with(|held| *held.borrow_mut() = pace);
}

/// Asks before the next piece; `false` where the work is given up.
#[inline]
pub fn go_on() -> bool {
    PACE.with(|held| held.borrow().as_ref().is_none_or(|pace| pace.go_on()))
}

/// Whether the work of this thread is still wanted.
pub fn is_wanted() -> bool {
    PACE.with(|held| held.borrow().as_ref().is_none_or(|pace| pace.is_wanted()))
}
