//! A system of the Unix kind: what it is asked about files, terminals and rights.

mod awake;
mod beside;
mod cage;
mod capabilities;
mod fence;
mod limits;
mod person;
mod program;
mod sparse;

use std::fs::{File, Metadata, OpenOptions};
use std::io;
use std::os::unix::fs::{MetadataExt, OpenOptionsExt};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::Command;

use rustix::fs::OFlags;

pub use awake::{Awake, stay_awake};
pub use beside::{Channel, HandedOver, find_program};
pub use cage::{confine, is_confined};
#[cfg(target_os = "linux")]
pub(crate) use capabilities::forbid_capabilities;
pub use capabilities::keep_files_alone;
pub use fence::{fence, is_fenced};
pub use limits::limit;
pub use person::{home_of_this, host_name, logged_in, person, person_name};
pub use program::{KeyByKey, ROOT_PROGRAM, raise_interrupt, stop_when_told, terminal};
pub use sparse::written_by;

/// Path of the running program, valid even if its file was replaced.
pub(super) fn current_program_path() -> io::Result<std::path::PathBuf> {
    if cfg!(target_os = "linux") { Ok("/proc/self/exe".into()) } else { std::env::current_exe() }
}

/// Id of the process that started this one.
pub(super) fn parent_process_id() -> Option<u32> {
    rustix::process::getppid()?.as_raw_nonzero().get().try_into().ok()
}

/// Starts the program in a new process group: Ctrl-C at the terminal does not reach it.
pub(super) fn in_new_process_group(command: &mut Command) -> &mut Command {
    command.process_group(0)
}

fn flags(flags: OFlags) -> i32 {
    i32::try_from(flags.bits()).unwrap_or_default()
}

/// Does not wait for whoever may write to a pipe, and makes no terminal ours.
pub(super) fn without_waiting(options: &mut OpenOptions) -> &mut OpenOptions {
    options.custom_flags(flags(OFlags::NONBLOCK | OFlags::NOCTTY))
}

/// Opens it like that, and through no link.
pub(super) fn open_unlinked(path: &Path, options: &mut OpenOptions) -> io::Result<File> {
    options.custom_flags(flags(OFlags::NONBLOCK | OFlags::NOCTTY | OFlags::NOFOLLOW)).open(path)
}

/// Whether a file system says that it has no locks, each in its own words.
pub(super) fn has_no_locks(error: &io::Error) -> bool {
    use rustix::io::Errno;
    let known = [Errno::NOTSUP, Errno::NOSYS, Errno::NOLCK, Errno::INVAL].map(Errno::raw_os_error);
    error.raw_os_error().is_some_and(|number| known.contains(&number))
}

/// Room that is left for us on the disk of a folder, in bytes; `None` if the system does not say.
pub fn free_bytes(folder: &Path) -> Option<u64> {
    let found = rustix::fs::statvfs(folder).ok()?;
    found.f_bavail.checked_mul(found.f_frsize)
}

/// A number that another file in the same place does not have.
///
/// # Errors
/// Never here.
pub fn file_number(of: &Metadata) -> io::Result<u64> {
    Ok(of.ino())
}

/// Whether this is a regular file, and no other name leads to it.
pub fn has_one_name(path: &Path) -> bool {
    std::fs::symlink_metadata(path).is_ok_and(|found| found.is_file() && found.nlink() == 1)
}

/// When anything about the file was changed last, its times included: seconds and nanoseconds. No program sets this back.
///
/// # Errors
/// Never here.
pub fn changed_at(of: &Metadata) -> io::Result<(i64, i64)> {
    Ok((of.ctime(), of.ctime_nsec()))
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
