//! A lock that a panic elsewhere does not take away: what it guards is whole at every moment.

use std::sync::{Mutex, MutexGuard, PoisonError};

/// What a mutex guards, also after a thread that held it panicked.
pub(crate) fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
