//! What the shelf knows of its images, as examinations find and keep it.

use std::io;
use std::path::{Path, PathBuf};

use crate::examine::watch::{CheckEvent, CheckWatcher, Unkept};
use crate::hash::{Algorithm, Sum};
use crate::published::Report;
use crate::shelf::{Identity, Item, Shelf};

/// The entry of an image that lies on the shelf below `state`; that it can't be looked at is told.
pub(super) fn on_shelf(path: &Path, state: Option<&Path>, watcher: &dyn CheckWatcher) -> Option<(PathBuf, Item)> {
    let state = state?;
    match Shelf::open(state) {
        Ok(shelf) => Some((state.to_owned(), shelf.at(path)?.clone())),
        Err(error) => {
            watcher.heard(&CheckEvent::ShelfUnread { state, error: &error });
            None
        }
    }
}

/// Changes what the shelf knows of an image; that it can't be kept is told.
pub(super) fn note(state: &Path, watcher: &dyn CheckWatcher, change: impl FnOnce(&mut Shelf) + Send) {
    let noted = Shelf::change(state, |shelf| {
        change(shelf);
        Ok(())
    });
    if let Err(error) = noted {
        watcher.heard(&CheckEvent::Unkept(Unkept::Shelf(error)));
    }
}

/// What the shelf is to know of the image at `path` from now on, if that is one of its own.
pub(super) struct ShelfNotes<'a> {
    pub path: &'a Path,
    pub state: Option<&'a Path>,
    pub watcher: &'a dyn CheckWatcher,
}

impl ShelfNotes<'_> {
    fn item(&self) -> Option<(PathBuf, Item)> {
        on_shelf(self.path, self.state, self.watcher)
    }

    /// It is not what it should be.
    pub(super) fn damage(&self) {
        let Some((state, item)) = self.item() else { return };
        note(&state, self.watcher, |shelf| shelf.note_damage(&item.file));
    }

    /// It is written to a drive now.
    pub(super) fn used(&self) {
        let Some((state, item)) = self.item() else { return };
        note(&state, self.watcher, |shelf| shelf.note_use(&item.file));
    }

    /// Its SHA-256 was computed while it was written, if the file is still what it was `before`.
    pub(super) fn learn(&self, hex: &str, before: &Identity) {
        let Some((state, item)) = self.item() else { return };
        if Identity::of(self.path).is_ok_and(|now| now == *before) {
            let sum = Sum { algorithm: Algorithm::Sha256, hex: hex.to_owned() };
            note(&state, self.watcher, |shelf| shelf.learn(&item.file, &sum, before));
        }
    }

    /// A check has found this; `identity` is the file's from before.
    pub(super) fn found(&self, identity: io::Result<Identity>, report: &Report) {
        let Ok(identity) = identity else { return };
        let shelved = Some(()).filter(|()| report.ok() && !report.sums.is_empty()).and_then(|()| self.item());
        let Some((state, item)) = shelved else { return };
        note(&state, self.watcher, |shelf| shelf.note(&item.file, &report.sums, report.proof().word(), &identity));
    }
}
