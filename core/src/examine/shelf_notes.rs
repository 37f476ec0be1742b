//! What the shelf knows of its images, as examinations find and keep it.

use std::io;
use std::path::Path;

use crate::examine::watch::{CheckEvent, CheckWatcher, Unkept};
use crate::hash::{Algorithm, Sum};
use crate::published::Report;
use crate::shelf::{Identity, Item, Shelf};

/// The entry of an image that lies on the shelf below `state`; that it can't be looked at is told.
pub(super) fn on_shelf(path: &Path, state: Option<&Path>, watcher: &dyn CheckWatcher) -> Option<Item> {
    let state = state?;
    match Shelf::open(state) {
        Ok(shelf) => shelf.at(path).cloned(),
        Err(error) => {
            watcher.heard(&CheckEvent::ShelfUnread { state, error: &error });
            None
        }
    }
}

/// What the shelf is to know of the image at `path` from now on, if that is one of its own.
pub(super) struct ShelfNotes<'a> {
    pub path: &'a Path,
    pub state: Option<&'a Path>,
    pub watcher: &'a dyn CheckWatcher,
}

impl ShelfNotes<'_> {
    /// Changes its entry; that it can't be kept is told.
    fn note(&self, change: impl FnOnce(&mut Shelf, &Item) + Send) {
        let Some((state, item)) = self.state.zip(on_shelf(self.path, self.state, self.watcher)) else { return };
        let noted = Shelf::change(state, |shelf| {
            change(shelf, &item);
            Ok(())
        });
        if let Err(error) = noted {
            self.watcher.heard(&CheckEvent::Unkept(Unkept::Shelf(error)));
        }
    }

    /// It is not what it should be.
    pub(super) fn damage(&self) {
        self.note(|shelf, item| shelf.note_damage(&item.file));
    }

    /// It is written to a drive now.
    pub(super) fn used(&self) {
        self.note(|shelf, item| shelf.note_use(&item.file));
    }

    /// Its SHA-256 was computed while it was written, if the file is still what it was `before`.
    pub(super) fn learn(&self, hex: &str, before: &Identity) {
        if Identity::of(self.path).is_ok_and(|now| now == *before) {
            let sum = Sum { algorithm: Algorithm::Sha256, hex: hex.to_owned() };
            self.note(|shelf, item| shelf.learn(&item.file, &sum, before));
        }
    }

    /// A check has found this; `identity` is the file's from before.
    pub(super) fn found(&self, identity: io::Result<Identity>, report: &Report) {
        if let Some(identity) = identity.ok().filter(|_| report.ok() && !report.sums.is_empty()) {
            let word = report.proof().word();
            self.note(|shelf, item| shelf.note(&item.file, &report.sums, word, &identity));
        }
    }
}
