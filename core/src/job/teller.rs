//! How far a stage of a drive is, told where it has moved.

use crate::job::{Event, Watcher};
use crate::record::Stage;

/// Tells of one stage of one drive.
pub(super) struct Teller<'a> {
    pub(super) watcher: &'a dyn Watcher,
    pub(super) drive: usize,
    pub(super) stage: Stage,
    told: u64,
}

impl<'a> Teller<'a> {
    /// Of a stage on the drive with this number.
    pub(super) fn of(watcher: &'a dyn Watcher, drive: usize, stage: Stage) -> Self {
        Self { watcher, drive, stage, told: 0 }
    }

    /// So much is done, in bytes.
    pub(super) fn tell(&mut self, done: u64) {
        if done != self.told {
            self.told = done;
            self.watcher.heard(self.drive, &Event::Moved { stage: self.stage, done });
        }
    }
}
