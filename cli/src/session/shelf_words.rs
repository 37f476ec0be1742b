//! What can't be done with the shelf, in words.

use std::ffi::OsStr;
use std::io;
use std::path::Path;

use pyrotyp_core::shelf;
use pyrotyp_core::text::Shown;

use crate::exit::{Exit, Failure, plain};

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
