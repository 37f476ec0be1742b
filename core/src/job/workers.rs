//! Threads that others wait for: each is counted until it has ended, however it ends.

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread::Thread;

/// A part of this program failed. What it was doing is not done; whatever waits for it must not.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("a part of this program failed, and the job was ended for it")]
pub struct Died;

/// Does the work; a panic in it becomes a value.
///
/// # Errors
/// [`Died`] when it panicked. What it changed until then must be judged by whoever calls.
pub(super) fn contained<T>(work: impl FnOnce() -> T) -> Result<T, Died> {
    catch_unwind(AssertUnwindSafe(work)).map_err(|_| Died)
}

/// Threads at work, and the one that waits for them.
pub(super) struct Workers {
    working: AtomicUsize,
    teller: Thread,
}

impl Workers {
    /// So many, which this thread will wait for.
    pub(super) fn of(count: usize) -> Self {
        Self { working: AtomicUsize::new(count), teller: std::thread::current() }
    }

    /// How many have not ended.
    pub(super) fn at_work(&self) -> usize {
        self.working.load(Ordering::Acquire)
    }

    /// Whether one of them has not ended.
    pub(super) fn is_at_work(&self) -> bool {
        self.at_work() > 0
    }

    /// Does the work of one of them, which has ended when this returns.
    pub(super) fn does<T>(&self, work: impl FnOnce() -> T) -> Result<T, Died> {
        let _leaving = Leaving(self);
        contained(work)
    }
}

struct Leaving<'a>(&'a Workers);

impl Drop for Leaving<'_> {
    fn drop(&mut self) {
        self.0.working.fetch_sub(1, Ordering::Release);
        self.0.teller.unpark();
    }
}
