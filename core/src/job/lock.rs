//! What several threads share, also after one of them has died.

use std::sync::{Mutex, MutexGuard, PoisonError};

/// What several threads share; one that panicked while it held it is told elsewhere.
pub(super) fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
