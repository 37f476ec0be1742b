//! What is asked of the operating system about ordinary files and about who we are. Like [`crate::drive::linux`] a place
//! of its own, so that another system needs no more than another such file.

use std::fs::{self, File, Metadata};
use std::io;
use std::os::unix::fs::{MetadataExt, fchown};
use std::path::{Path, PathBuf};

/// Room that is left for us on the disk of a folder, in bytes; `None` if the system does not say.
pub fn free_bytes(folder: &Path) -> Option<u64> {
    let found = rustix::fs::statvfs(folder).ok()?;
    found.f_bavail.checked_mul(found.f_frsize)
}

/// A number that another file in the same place does not have.
pub fn file_number(of: &Metadata) -> u64 {
    of.ino()
}

/// Makes `to` a file of its own that shares its bytes with `from` until one of them changes.
///
/// # Errors
/// When the file system can't do that.
pub fn share_bytes(from: &File, to: &File) -> io::Result<()> {
    Ok(rustix::fs::ioctl_ficlone(to, from)?)
}

/// The person behind `sudo`, when this runs as root for somebody: the numbers of the user and of the group.
pub fn person_behind_root() -> Option<(u32, u32)> {
    let number = |name| std::env::var(name).ok()?.parse::<u32>().ok();
    let person = number("SUDO_UID").zip(number("SUDO_GID"));
    person.filter(|(user, _)| is_root() && *user != 0)
}

/// Whether this runs with the rights of root.
pub fn is_root() -> bool {
    rustix::process::geteuid().is_root()
}

/// The home folder of a user by number, as passwd(5) has it.
pub fn home_of(user: u32) -> Option<PathBuf> {
    let table = fs::read_to_string("/etc/passwd").ok()?;
    let line =
        table.lines().find(|line| line.split(':').nth(2).and_then(|number| number.parse().ok()) == Some(user))?;
    line.split(':').nth(5).filter(|home| home.starts_with('/')).map(PathBuf::from)
}

/// Makes a folder and those above it; behind root, they belong to the person.
///
/// # Errors
/// When one can't be made.
pub fn make_folder(folder: &Path) -> io::Result<()> {
    if folder.is_dir() || folder.as_os_str().is_empty() {
        return Ok(());
    }
    if let Some(above) = folder.parent() {
        make_folder(above)?;
    }
    match fs::create_dir(folder) {
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists && folder.is_dir() => Ok(()),
        Err(error) => Err(error),
        Ok(()) => give_to_person(&File::open(folder)?),
    }
}

/// What was made as root for a person belongs to that person.
///
/// # Errors
/// When the file system refuses.
pub fn give_to_person(made: &File) -> io::Result<()> {
    match person_behind_root() {
        Some((user, group)) => fchown(made, Some(user), Some(group)),
        None => Ok(()),
    }
}
