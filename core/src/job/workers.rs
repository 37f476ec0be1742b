//! Threads that work together on one drive: each is counted until it has ended, however it ends, and one that others wait for
//! never keeps them waiting.

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread::Thread;
use std::time::Duration;

/// How often progress is told.
pub(super) const TELL: Duration = Duration::from_millis(100);

/// A part of this program failed. What it was doing is not done; whatever waits for it must not.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("a part of this program failed, and the job was ended for it")]
pub struct Died;

/// Does the work; a panic in it becomes a value.
///
/// # Errors
/// [`Died`] when it panicked. What it changed until then must be judged by whoever calls.
pub(crate) fn contained<T>(work: impl FnOnce() -> T) -> Result<T, Died> {
    catch_unwind(AssertUnwindSafe(work)).map_err(|_| Died)
}

/// What several threads do together.
pub(super) trait Work: Sync {
    /// The part of one of them, by its number, until nothing is left to do.
    fn part(&self, number: usize, workers: &Workers);

    /// One of them died: what it was doing is not done.
    fn died(&self, died: Died);

    /// One of them has ended, however it did.
    fn left(&self) {}
}

/// Threads at work, and the one that waits for them.
pub(super) struct Workers {
    working: AtomicUsize,
    teller: Thread,
}

impl Workers {
    /// Has so many threads do the work. While they do, this thread calls `meanwhile` now and then.
    pub(super) fn run(count: usize, work: &dyn Work, meanwhile: &mut dyn FnMut(&Self)) {
        let workers = &Self { working: AtomicUsize::new(count), teller: std::thread::current() };
        std::thread::scope(|scope| {
            for number in 0..count {
                scope.spawn(move || workers.do_part(work, number));
            }
            while workers.at_work() > 0 {
                std::thread::park_timeout(TELL);
                meanwhile(workers);
            }
        });
    }

    fn do_part(&self, work: &dyn Work, number: usize) {
        let leaving = Leaving(self);
        if let Err(died) = contained(|| work.part(number, self)) {
            work.died(died);
        }
        drop(leaving);
        work.left();
    }

    /// How many have not ended.
    pub(super) fn at_work(&self) -> usize {
        self.working.load(Ordering::Acquire)
    }
}

struct Leaving<'a>(&'a Workers);

impl Drop for Leaving<'_> {
    fn drop(&mut self) {
        self.0.working.fetch_sub(1, Ordering::Release);
        self.0.teller.unpark();
    }
}
