//! What is asked of the operating system about ordinary files and about who we are. Like [`crate::devices::linux`] a place
//! of its own, so that another system needs no more than another such folder.
//!
//! Rights are not borrowed: where this runs as root for a person, that person's files are read and written with that person's
//! rights, and so belong to that person.

pub mod clock;
mod file;
mod image_file;
mod person;

use std::fs::{File, Metadata};
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::Path;

pub use file::{
    begin_own, keep_new, keep_own, lock_own, make_folder, names_in, open_own, open_regular, own_files_in, read_linked,
    read_own, read_regular, remove_own,
};
pub use image_file::ImageFile;
pub use person::{Person, PersonFault, as_person, home_of_this, people, person};

/// Room that is left for us on the disk of a folder, in bytes; `None` if the system does not say.
pub fn free_bytes(folder: &Path) -> Option<u64> {
    let found = rustix::fs::statvfs(folder).ok()?;
    found.f_bavail.checked_mul(found.f_frsize)
}

/// A number that another file in the same place does not have.
pub fn file_number(of: &Metadata) -> u64 {
    of.ino()
}

/// Whether this is a regular file, and no other name leads to it.
pub fn has_one_name(path: &Path) -> bool {
    std::fs::symlink_metadata(path).is_ok_and(|found| found.is_file() && found.nlink() == 1)
}

/// When anything about the file was changed last, its times included: seconds and nanoseconds. No program sets this back.
pub fn changed_at(of: &Metadata) -> (i64, i64) {
    (of.ctime(), of.ctime_nsec())
}

/// Makes `to` a file of its own that shares its bytes with `from` until one of them changes.
///
/// # Errors
/// When the file system can't do that.
pub fn share_bytes(from: &File, to: &File) -> io::Result<()> {
    Ok(rustix::fs::ioctl_ficlone(to, from)?)
}

/// Throws away what was typed at a terminal and has not been read; anything else than a terminal has nothing of the kind.
pub fn forget_typed(terminal: impl std::os::fd::AsFd) {
    // What is no terminal refuses, and then there is nothing to forget.
    let _ = rustix::termios::tcflush(terminal, rustix::termios::QueueSelector::IFlush);
}

/// Whether this runs with the rights of root.
pub fn is_root() -> bool {
    rustix::process::geteuid().is_root()
}
