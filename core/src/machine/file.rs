//! Files that are there whole or not at all, and are what they are taken for: no pipe, no device, no link to somewhere else.

use std::ffi::{OsStr, OsString};
use std::fs::{self, File, OpenOptions, TryLockError};
use std::io::{self, Read, Write};
use std::path::Path;
use std::time::{Duration, Instant, UNIX_EPOCH};

use super::outputs::{self, OutputAction};
use super::system::{has_no_locks, open_unlinked, without_waiting};

/// How often somebody else who holds a lock is looked after, and for how long.
const LOOK: Duration = Duration::from_millis(50);
const PATIENCE: Duration = Duration::from_secs(30);

/// The same file, if it is a regular one.
fn regular(file: File) -> io::Result<File> {
    let kind = file.metadata()?.file_type();
    if kind.is_dir() {
        Err(io::Error::new(io::ErrorKind::IsADirectory, "this is a folder"))
    } else if kind.is_file() {
        Ok(file)
    } else {
        Err(io::Error::new(io::ErrorKind::InvalidInput, "this is no regular file"))
    }
}

/// Opens a file for reading, if it is a regular one: a pipe would be waited for, a device has no end.
///
/// # Errors
/// When it can't be opened, or is something else.
pub fn open_regular(path: &Path) -> io::Result<File> {
    // Without waiting for whoever may write to a pipe.
    regular(without_waiting(OpenOptions::new().read(true)).open(path)?)
}

fn read_all(file: File, most: u64) -> io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    file.take(most.saturating_add(1)).read_to_end(&mut bytes)?;
    if bytes.len() as u64 > most {
        let text = format!("it is longer than the {most} bytes that are read of such a file");
        return Err(io::Error::new(io::ErrorKind::FileTooLarge, text));
    }
    Ok(bytes)
}

/// All of a regular file that is no longer than `most` bytes.
///
/// # Errors
/// When it can't be read, is longer, or is something else.
pub fn read_regular(path: &Path, most: u64) -> io::Result<Vec<u8>> {
    read_all(open_regular(path)?, most)
}

/// Reads a regular file, or a pipe that this process inherited, such as `/dev/stdin`; `most` is the limit in bytes.
///
/// # Errors
/// When the file can't be read, is longer, or has another type.
pub fn read_file_or_pipe(path: &Path, most: u64) -> io::Result<Vec<u8>> {
    match open_regular(path) {
        Err(error) if error.kind() == io::ErrorKind::InvalidInput && is_own_descriptor(path) => {
            read_all(File::open(path)?, most)
        }
        file => read_all(file?, most),
    }
}

/// Returns true if the path names an open file descriptor of this process: proc_pid_fd(5).
fn is_own_descriptor(path: &Path) -> bool {
    let leads = fs::read_link(path).ok().filter(|leads| leads.is_absolute());
    let own = format!("/proc/{}/fd", std::process::id());
    let is_own = |path: &Path| {
        path.parent().and_then(|folder| folder.canonicalize().ok()).is_some_and(|at| at == Path::new(&own))
    };
    is_own(path) || leads.is_some_and(|leads| is_own(&leads))
}

/// Opens one of the bench's own files, if it is a regular one; a link is none.
///
/// # Errors
/// When it can't be opened, or is something else.
pub fn open_own(path: &Path, options: &mut OpenOptions) -> io::Result<File> {
    regular(open_unlinked(path, options)?)
}

/// All of one of the bench's own files that is no longer than `most` bytes; a link is none.
///
/// # Errors
/// When it can't be read, is longer, or is something else.
pub fn read_own(path: &Path, most: u64) -> io::Result<Vec<u8>> {
    read_all(open_own(path, OpenOptions::new().read(true))?, most)
}

/// Keeps one of the bench's own files: whole, or as it was.
///
/// # Errors
/// When it can't be written.
pub fn keep_own(path: &Path, bytes: &[u8]) -> io::Result<()> {
    if let Some(kept) = outputs::request_output(path, OutputAction::WriteAtomically, bytes) {
        return kept.map(drop);
    }
    written(path, bytes)?.persist(path)?;
    sync_folder(path);
    Ok(())
}

/// A file without the name that it will have, with all its bytes on the disk.
fn written(path: &Path, bytes: &[u8]) -> io::Result<tempfile::NamedTempFile> {
    let mut file = tempfile::NamedTempFile::new_in(folder_of(path))?;
    file.write_all(bytes)?;
    file.as_file().sync_all()?;
    Ok(file)
}

fn sync_folder(path: &Path) {
    // Not every file system lets a folder be flushed; then the name may be lost with the power, and no bytes.
    let _ = File::open(folder_of(path)).and_then(|folder| folder.sync_all());
}

fn folder_of(path: &Path) -> &Path {
    path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

/// Keeps one of the bench's own files, if nothing has its name: whole, or as it was. Tells whether it did.
///
/// # Errors
/// When it can't be written.
pub fn keep_absent(path: &Path, bytes: &[u8]) -> io::Result<bool> {
    match written(path, bytes)?.persist_noclobber(path) {
        Ok(_) => {
            sync_folder(path);
            Ok(true)
        }
        Err(persisting) if persisting.error.kind() == io::ErrorKind::AlreadyExists => Ok(false),
        // Not every file system gives a file its name only if that is free. The name is taken first there, and whole bytes come into its place.
        Err(_) => match OpenOptions::new().write(true).create_new(true).open(path) {
            Ok(_) => keep_own(path, bytes).map(|()| true),
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => Ok(false),
            Err(error) => Err(error),
        },
    }
}

/// What becomes of a file that has the name already.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Existing {
    /// It stays as it is.
    Stays,
    /// The new one takes its place.
    Replaced,
}

/// Puts a file where a person asked for one, readable for all whom their system lets read it, and makes the folders above it.
/// Tells whether it did; what could not be written whole is not left there.
///
/// # Errors
/// When it can't be written.
pub fn put_file(path: &Path, bytes: &[u8], existing: Existing) -> io::Result<bool> {
    if let Some(put) =
        outputs::request_output(path, OutputAction::Write { replaces: existing == Existing::Replaced }, bytes)
    {
        return put;
    }
    make_folder(folder_of(path))?;
    let mut options = OpenOptions::new();
    options.write(true);
    let opened = match existing {
        Existing::Stays => options.create_new(true).open(path),
        Existing::Replaced => open_own(path, options.create(true).truncate(false)),
    };
    let mut file = match opened {
        Err(error) if existing == Existing::Stays && error.kind() == io::ErrorKind::AlreadyExists => {
            return Ok(false);
        }
        opened => opened?,
    };
    let put = file.set_len(0).and_then(|()| file.write_all(bytes)).and_then(|()| file.sync_all());
    if put.is_err() {
        // Why it could not be written is told in any case.
        let _ = fs::remove_file(path);
    }
    put.map(|()| true)
}

/// Begins one of the bench's own files anew, to be written on.
///
/// # Errors
/// When it can't be made, or something else than a file has its name.
pub fn begin_own(path: &Path) -> io::Result<File> {
    make_folder(folder_of(path))?;
    // What it is comes before what becomes of it.
    let file = open_own(path, OpenOptions::new().create(true).write(true).truncate(false))?;
    file.set_len(0)?;
    Ok(file)
}

/// Removes one of the bench's own files; a link is removed itself.
///
/// # Errors
/// When it can't be removed.
pub fn remove_own(path: &Path) -> io::Result<()> {
    match outputs::request_output(path, OutputAction::Remove, &[]) {
        Some(removed) => removed.map(drop),
        None => fs::remove_file(path),
    }
}

/// Renames a file unless the new name exists.
///
/// # Errors
/// When the new name exists, or the file can't be renamed.
pub fn rename_without_replacing(part: &Path, file: &Path) -> io::Result<()> {
    if let Some(published) =
        outputs::request_output(part, OutputAction::Rename { to: std::path::absolute(file)?.into() }, &[])
    {
        return published.map(drop);
    }
    // A hard link never replaces a file. File systems without hard links need the rename.
    fs::hard_link(part, file)
        .and_then(|()| fs::remove_file(part))
        .or_else(|error| if file.exists() { Err(error) } else { fs::rename(part, file) })
}

/// Waits until no other process holds this lock, for half a minute at most; it is held as long as the file is.
///
/// # Errors
/// When it can't be made, another process holds on to it, or the file system has no locks.
pub fn lock_own(path: &Path) -> io::Result<File> {
    let file = open_own(path, OpenOptions::new().create(true).write(true).truncate(false))?;
    let begun = Instant::now();
    loop {
        match file.try_lock() {
            Ok(()) => return Ok(file),
            Err(TryLockError::WouldBlock) if begun.elapsed() < PATIENCE => std::thread::sleep(LOOK),
            Err(TryLockError::WouldBlock) => {
                return Err(io::Error::new(io::ErrorKind::TimedOut, "another pyrotyp is at it, and has been for long"));
            }
            // One process at a time is all that such a folder is good for.
            Err(TryLockError::Error(error)) if has_no_locks(&error) => return Ok(file),
            Err(TryLockError::Error(error)) => return Err(error),
        }
    }
}

/// Makes a folder and those above it.
///
/// # Errors
/// When one can't be made.
pub fn make_folder(folder: &Path) -> io::Result<()> {
    match fs::create_dir_all(folder) {
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists && folder.is_dir() => Ok(()),
        made => made,
    }
}

/// Names of what is in one of the bench's own folders, `most` of them at most, in no order.
///
/// # Errors
/// When the folder can't be read.
pub fn names_in(folder: &Path, most: usize) -> io::Result<Vec<OsString>> {
    fs::read_dir(folder)?.take(most).map(|entry| Ok(entry?.file_name())).collect()
}

/// A file of a folder, as it is now.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FileStamp {
    /// Its name.
    pub name: OsString,
    /// Its length, in bytes.
    pub bytes: u64,
    /// When its bytes were changed last, in nanoseconds since 1970.
    pub changed: i64,
}

/// The regular files of one of the bench's own folders, `most` of them at most, in no order.
///
/// # Errors
/// When the folder can't be read.
pub fn stamps_in(folder: &Path, most: usize) -> io::Result<Vec<FileStamp>> {
    let mut found = Vec::new();
    for entry in fs::read_dir(folder)?.take(most) {
        let entry = entry?;
        // One that was removed meanwhile is none.
        let Ok(now) = entry.metadata() else { continue };
        if now.is_file() {
            let since = now.modified()?.duration_since(UNIX_EPOCH).unwrap_or_default();
            let changed = i64::try_from(since.as_nanos()).unwrap_or(i64::MAX);
            found.push(FileStamp { name: entry.file_name(), bytes: now.len(), changed });
        }
    }
    Ok(found)
}

/// Names of the regular files of one of the bench's own folders, `most` entries of it at most.
///
/// # Errors
/// When the folder can't be read.
pub fn own_files_in(folder: &Path, most: usize) -> io::Result<Vec<OsString>> {
    let names = names_in(folder, most)?;
    let is_file = |name: &OsStr| fs::symlink_metadata(folder.join(name)).is_ok_and(|found| found.is_file());
    Ok(names.into_iter().filter(|name| is_file(name)).collect())
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::symlink;

    use super::*;

    #[test]
    fn a_file_is_put_where_it_was_asked_for_and_what_is_there_stays_unless_it_is_to_be_replaced() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("new/page.html");
        assert!(put_file(&file, b"first", Existing::Stays).unwrap());
        assert!(!put_file(&file, b"second", Existing::Stays).unwrap());
        assert_eq!(fs::read(&file).unwrap(), b"first");
        assert!(put_file(&file, b"3rd", Existing::Replaced).unwrap());
        assert_eq!(fs::read(&file).unwrap(), b"3rd");
        // A folder is no file, and neither takes its place nor is removed.
        assert!(put_file(folder.path(), b"x", Existing::Replaced).is_err() && folder.path().is_dir());
        assert!(!put_file(&folder.path().join("new"), b"x", Existing::Stays).unwrap());
    }

    #[test]
    fn pipes_devices_folders_and_links_are_no_files_and_nothing_is_written_through_them() {
        let folder = tempfile::tempdir().unwrap();
        let path = |name: &str| folder.path().join(name);
        fs::write(path("real"), "somebody's").unwrap();
        symlink(path("real"), path("link")).unwrap();
        rustix::fs::mkfifoat(rustix::fs::CWD, path("pipe"), rustix::fs::Mode::RWXU).unwrap();
        let kind = |result: io::Result<Vec<u8>>| result.map_err(|error| error.to_string());
        for name in ["pipe", "/dev/zero"] {
            assert_eq!(kind(read_regular(&path(name), 9)), Err("this is no regular file".to_owned()), "{name}");
            assert!(read_own(&path(name), 9).is_err() && begin_own(&path(name)).is_err(), "{name}");
        }
        assert_eq!(kind(read_regular(folder.path(), 9)), Err("this is a folder".to_owned()));
        assert_eq!(read_regular(&path("link"), 10).unwrap(), b"somebody's", "a person may name a link");
        assert!(read_own(&path("link"), 10).is_err() && begin_own(&path("link")).is_err());
        assert!(lock_own(&path("link")).is_err());
        assert!(read_regular(&path("real"), 9).is_err(), "a byte too long");
        keep_own(&path("link"), b"ours").unwrap();
        assert_eq!(fs::read(path("real")).unwrap(), b"somebody's", "the name is ours now, the file is not touched");
        assert_eq!(read_own(&path("link"), 4).unwrap(), b"ours");
        assert_eq!([b"1", b"2"].map(|bytes| keep_absent(&path("new"), bytes).unwrap()), [true, false]);
        assert_eq!(read_own(&path("new"), 9).unwrap(), b"1");
        let mut files = own_files_in(folder.path(), 99).unwrap();
        files.sort();
        assert_eq!(files, ["link", "new", "real"]);
    }
}
