//! All drives of a job are made ready before the image is read; one that can't be is not waited for.

use std::sync::{Condvar, Mutex, PoisonError};

use crate::job::image_reader::FromDrive;
use crate::job::lock::lock;

/// What a drive that is ready needs of the image.
pub(super) struct Arrival {
    /// Number of the first block that it still needs.
    pub from: usize,
    /// From this block on, bytes are withheld until the seal.
    pub withheld_from: usize,
    /// Where the blocks before that come from, if not from the image.
    pub from_drive: Option<FromDrive>,
}

#[derive(Default)]
struct Arrivals {
    missing: usize,
    ready: Vec<Arrival>,
}

/// Where the drives of a job come together.
pub(super) struct Rendezvous {
    state: Mutex<Arrivals>,
    changed: Condvar,
}

impl Rendezvous {
    /// For so many drives.
    pub(super) fn new(drives: usize) -> Self {
        Self { state: Mutex::new(Arrivals { missing: drives, ready: Vec::new() }), changed: Condvar::new() }
    }

    /// A drive is ready, or, with `None`, never will be.
    pub(super) fn arrive(&self, arrival: Option<Arrival>) {
        let mut state = lock(&self.state);
        state.missing = state.missing.saturating_sub(1);
        state.ready.extend(arrival);
        self.changed.notify_all();
    }

    /// Waits for all of them, and gives what all together need; `None` if none is ready.
    pub(super) fn wait(&self) -> Option<Arrival> {
        let mut state = lock(&self.state);
        while state.missing > 0 {
            state = self.changed.wait(state).unwrap_or_else(PoisonError::into_inner);
        }
        std::mem::take(&mut state.ready).into_iter().reduce(|a, b| Arrival {
            from: a.from.min(b.from),
            withheld_from: a.withheld_from.min(b.withheld_from),
            from_drive: a.from_drive.or(b.from_drive),
        })
    }
}
