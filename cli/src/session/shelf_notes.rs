//! What the shelf knows of its images, as commands find and keep it.

use std::ffi::OsStr;
use std::io;
use std::path::{Path, PathBuf};

use pyrotyp_core::hash::{Algorithm, Sum};
use pyrotyp_core::published::Report;
use pyrotyp_core::shelf;
use pyrotyp_core::shelf::{Identity, Item, Shelf};
use pyrotyp_core::text::Shown;

use super::folders::state_folder;
use crate::asked::Common;
use crate::exit::{Exit, Failure, plain};
use crate::out::{say, warn};

/// A state folder that can't be written.
pub(crate) fn unwritable(state: &Path, error: &io::Error) -> Failure {
    let text = format!("can't change the shelf in {}: {}", state.shown(), plain(error));
    let next = match error.kind() {
        // What the file system says, whatever the file.
        io::ErrorKind::FileTooLarge => {
            "that file system takes no file of this size (FAT ends at 4 GiB); name another folder with --state"
        }
        _ => "make room there and make it writable for yourself, or name another folder with --state",
    };
    Failure::new(Exit::Unexpected, text, next)
}

/// Whether a file may have this name on the shelf.
pub(crate) fn fit_for_shelf(name: &OsStr) -> Result<(), Failure> {
    let fail = |why| {
        let text = format!("{} can't be on the shelf: {why}", name.shown());
        Failure::new(Exit::Usage, text, "give the file another name first")
    };
    shelf::name_on_shelf(name).map(drop).map_err(fail)
}

/// Keeps that an image of the shelf is not what it should be.
pub(crate) fn note_damage(state: &Path, file: &str, common: &Common) {
    note(state, common, |shelf| shelf.note_damage(file));
}

/// Keeps the SHA-256 that was computed while an image of the shelf was written, if the file is still what it was `before`.
pub(crate) fn learn(path: &Path, hex: &str, before: &Identity, common: &Common) {
    let Some((state, item)) = on_shelf(path, common) else { return };
    if Identity::of(path).is_ok_and(|now| now == *before) {
        let sum = Sum { algorithm: Algorithm::Sha256, hex: hex.to_owned() };
        note(&state, common, |shelf| shelf.learn(&item.file, &sum, before));
    }
}

/// Keeps that an image of the shelf is written to a drive now.
pub(crate) fn note_use(state: &Path, file: &str, common: &Common) {
    note(state, common, |shelf| shelf.note_use(file));
}

/// Changes what the shelf knows of an image; that it can't be kept is said.
pub(crate) fn note(state: &Path, common: &Common, change: impl FnOnce(&mut Shelf) + Send) {
    let noted = Shelf::change(state, |shelf| {
        change(shelf);
        Ok(())
    });
    if let Err(error) = noted {
        say(common, &format!("the shelf's index could not be kept: {}\n", plain(&error)));
    }
}

/// The entry of an image that lies on the shelf, and where that is.
pub(crate) fn on_shelf(path: &Path, common: &Common) -> Option<(PathBuf, Item)> {
    let state = state_folder(common)?;
    match Shelf::open(&state) {
        Ok(shelf) => Some((state, shelf.at(path)?.clone())),
        Err(error) => {
            warn(&format!("what the shelf in {} knows can't be looked at: {}\n", state.shown(), plain(&error)));
            None
        }
    }
}

/// Keeps what a check of an image on the shelf has found.
pub(crate) fn note_on_shelf(path: &Path, identity: io::Result<Identity>, report: &Report, common: &Common) {
    let Ok(identity) = identity else { return };
    let shelved = Some(()).filter(|()| report.ok() && !report.sums.is_empty()).and_then(|()| on_shelf(path, common));
    let Some((state, item)) = shelved else { return };
    note(&state, common, |shelf| shelf.note(&item.file, &report.sums, report.proof().word(), &identity));
}
