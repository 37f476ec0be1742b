//! What a job tells while it runs.

use serde::{Deserialize, Serialize};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use crate::job::workers::contained;
use crate::record::{JobResult, Stage};

/// Something that happens on one drive. Lengths and places are bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[non_exhaustive]
pub enum Event {
    /// A stage begins; how much it will move, where that is known.
    Began {
        /// Which.
        stage: Stage,
        /// How much.
        bytes: Option<u64>,
    },
    /// The stage has moved so much so far.
    Moved {
        /// Which.
        stage: Stage,
        /// How much.
        done: u64,
    },
    /// So much of the body has reached the drive for good: it has confirmed that it keeps it.
    Flushed {
        /// How much.
        done: u64,
    },
    /// A stage ended well.
    Ended {
        /// Which.
        stage: Stage,
    },
    /// An earlier job is gone on with.
    GoingOn {
        /// So much is on the drive already.
        from: u64,
    },
    /// There is nothing to go on with, and the job starts over.
    StartsOver {
        /// Why.
        why: String,
    },
    /// A write failed at first and was taken in smaller pieces.
    Retried {
        /// Where.
        at: u64,
    },
    /// A block read wrong at first and right when it was read again.
    ReadAgain {
        /// Where it begins.
        at: u64,
    },
    /// The drive does not hold what it should, and why is being found out: that may take as long as reading the image.
    Diagnosing,
    /// The drive is far slower than the others of the job, which go on without it.
    LeftBehind,
    /// The drive has not answered for so many seconds.
    Stalled {
        /// How long.
        seconds: u64,
    },
    /// Original bytes that an interrupted quick test had replaced are on the drive again.
    Restored {
        /// How much, in bytes.
        bytes: u64,
    },
    /// Test data of an interrupted quick test stays on the drive.
    RestoreFailed {
        /// Why, in words.
        why: String,
    },
    /// The job's notes could not be kept: it could not be gone on with.
    Unnoted {
        /// Why.
        why: String,
    },
    /// The job has ended on this drive, and the drive was given back.
    Over {
        /// How.
        result: JobResult,
    },
}

/// Hears what a job does on each of its drives, by their place in the order. A progress display, a log and a test are
/// three of these. It is called from several threads, and whoever calls waits until it returns.
pub trait Watcher: Sync {
    /// Something happened on a drive.
    fn heard(&self, drive: usize, event: &Event);
}

/// A watcher that counts what its drive had to read again.
pub(super) struct Counting<'a> {
    inner: &'a dyn Watcher,
    read_again: AtomicU64,
}

impl<'a> Counting<'a> {
    pub(super) fn new(inner: &'a dyn Watcher) -> Self {
        Self { inner, read_again: AtomicU64::new(0) }
    }

    pub(super) fn read_again(&self) -> u64 {
        self.read_again.load(Ordering::Relaxed)
    }
}

impl Watcher for Counting<'_> {
    fn heard(&self, drive: usize, event: &Event) {
        if matches!(event, Event::ReadAgain { .. }) {
            self.read_again.fetch_add(1, Ordering::Relaxed);
        }
        self.inner.heard(drive, event);
    }
}

/// A watcher whose own failures are no failures of the job: it is not told any more.
pub(super) struct Shielded<'a> {
    watcher: &'a dyn Watcher,
    has_died: AtomicBool,
}

impl<'a> Shielded<'a> {
    pub(super) fn new(watcher: &'a dyn Watcher) -> Self {
        Self { watcher, has_died: AtomicBool::new(false) }
    }
}

impl Watcher for Shielded<'_> {
    fn heard(&self, drive: usize, event: &Event) {
        if !self.has_died.load(Ordering::Relaxed) && contained(|| self.watcher.heard(drive, event)).is_err() {
            self.has_died.store(true, Ordering::Relaxed);
        }
    }
}
