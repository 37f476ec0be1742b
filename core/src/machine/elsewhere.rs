//! A system that nothing here knows: what can't be asked is an error, or left to whoever asked.

use std::ffi::OsString;
use std::fs::{File, Metadata, OpenOptions};
use std::io;
use std::path::{Path, PathBuf};
use std::time::Duration;

use crate::stop::Cancel;

use super::person::Person;
use super::places::NamedPlaces;
use super::sparse::{ProgramError, ProgramRun, WrittenStretch};
use super::workload::{DriveRights, Network, Workload};

fn unknown<T>() -> io::Result<T> {
    Err(io::Error::new(io::ErrorKind::Unsupported, "this system can't be asked for that"))
}

/// Nothing needs to be said here.
pub(super) fn without_waiting(options: &mut OpenOptions) -> &mut OpenOptions {
    options
}

/// Opens what is no link. One that is put there between the look and the opening is followed: nothing that is known here rules that out.
pub(super) fn open_unlinked(path: &Path, options: &mut OpenOptions) -> io::Result<File> {
    if std::fs::symlink_metadata(path).is_ok_and(|found| found.is_symlink()) {
        return Err(io::Error::new(io::ErrorKind::InvalidInput, "this is a link"));
    }
    options.open(path)
}

/// Whether a file system says that it has no locks.
pub(super) fn has_no_locks(error: &io::Error) -> bool {
    error.kind() == io::ErrorKind::Unsupported
}

/// A system that does not sleep.
#[derive(Debug)]
pub struct Awake;

/// Asks the system not to sleep or shut down.
///
/// # Errors
/// Always: nobody knows how to ask for it.
pub fn stay_awake(_why: &str) -> io::Result<Awake> {
    unknown()
}

/// Room that is left for us on the disk of a folder, in bytes; `None` if the system does not say.
pub fn free_bytes(_folder: &Path) -> Option<u64> {
    None
}

/// A number that another file in the same place does not have.
///
/// # Errors
/// Always: nobody knows how to ask for it.
pub fn file_number(_of: &Metadata) -> io::Result<u64> {
    unknown()
}

/// Whether this is a regular file, and no other name leads to it.
pub fn has_one_name(_path: &Path) -> bool {
    false
}

/// When anything about the file was changed last.
///
/// # Errors
/// Always: nobody knows how to ask for it.
pub fn changed_at(_of: &Metadata) -> io::Result<(i64, i64)> {
    unknown()
}

/// Makes `to` a file of its own that shares its bytes with `from`.
///
/// # Errors
/// Always: nobody knows how to ask for it.
pub fn share_bytes(_from: &File, _to: &File) -> io::Result<()> {
    unknown()
}

/// Throws away what was typed at a terminal and has not been read, where a system can do that.
pub fn forget_typed<T>(_terminal: T) {}

/// Whether this runs with the rights of root.
pub fn is_root() -> bool {
    false
}

impl Person {
    /// What a variable was in the person's own environment.
    pub fn variable(&self, _name: &str) -> Option<OsString> {
        None
    }
}

/// Who logged in, where that is somebody else.
pub fn logged_in() -> Option<Person> {
    None
}

/// The home folder of whoever this runs as, as the system has it.
pub fn home_of_this() -> Option<PathBuf> {
    std::env::home_dir()
}

/// The program with which a person runs others as root: none is known.
pub const ROOT_PROGRAM: &str = "";

/// Nothing is refused here.
///
/// # Errors
/// Always: nobody knows how to ask for it.
pub fn confine(_network: Network, _drives: DriveRights) -> io::Result<()> {
    unknown()
}

/// Nothing is out of reach here.
///
/// # Errors
/// Always: nobody knows how to ask for it.
pub fn fence(_places: &NamedPlaces) -> io::Result<()> {
    unknown()
}

/// Whether anything is out of reach: never here.
pub fn is_fenced() -> bool {
    false
}

/// Nothing is limited here.
///
/// # Errors
/// Always: nobody knows how to ask for it.
pub fn limit(_workload: Workload) -> io::Result<()> {
    unknown()
}

/// Nothing is given up here.
///
/// # Errors
/// Always: nobody knows how to ask for it.
pub fn keep_files_alone() -> io::Result<()> {
    unknown()
}

/// Whether anything is refused: never here.
pub fn is_confined() -> bool {
    false
}

/// The terminal at which somebody sits, although something else comes on standard input: none is known.
pub fn terminal() -> Option<File> {
    None
}

/// No terminal is known that gives its keys one by one.
#[derive(Debug)]
pub enum KeyByKey {}

impl KeyByKey {
    /// The terminal on standard input.
    pub fn begin() -> Option<Self> {
        None
    }
}

/// Nothing is heard here.
///
/// # Errors
/// Always: nobody knows how to ask for it.
pub fn stop_when_told(_cancel: &Cancel, _status: i32, _last_words: String) -> io::Result<()> {
    unknown()
}

/// The name of the person for whom this runs: not known.
pub fn person_name() -> Option<String> {
    None
}

/// The name of this machine: not known.
pub fn host_name() -> Option<String> {
    None
}

/// Nothing is known of this system's programs.
///
/// # Errors
/// Always: there is none.
pub fn written_by(run: &ProgramRun<'_>, _bytes: u64) -> Result<Vec<WrittenStretch>, ProgramError> {
    Err(ProgramError::Missing { program: run.program.to_owned() })
}

/// Nothing is known of this system's programs.
pub fn find_program(_program: &str) -> Option<PathBuf> {
    None
}

/// Nothing can be handed over here.
#[derive(Debug)]
pub enum HandedOver {}

impl HandedOver {
    /// An open file.
    ///
    /// # Errors
    /// Always: nobody knows how to hand it over.
    pub fn file(_file: &File) -> io::Result<Self> {
        unknown()
    }

    /// The number by which the program knows it.
    pub fn number(&self) -> i32 {
        match *self {}
    }
}

/// There are no lines to programs here.
#[derive(Debug)]
pub enum Channel {}

impl Channel {
    /// One end for us, and one to be handed over.
    ///
    /// # Errors
    /// Always: nobody knows how to make one.
    pub fn new() -> io::Result<(Self, HandedOver)> {
        unknown()
    }

    /// Says something.
    ///
    /// # Errors
    /// Never: there is no line.
    pub fn say(&mut self, _bytes: &[u8], _patience: Duration) -> io::Result<()> {
        match *self {}
    }

    /// What was said.
    ///
    /// # Errors
    /// Never: there is no line.
    pub fn hear(&mut self, _into: &mut [u8], _patience: Duration) -> io::Result<Option<usize>> {
        match *self {}
    }
}

/// Path of the running program.
pub(super) fn current_program_path() -> io::Result<std::path::PathBuf> {
    std::env::current_exe()
}

/// The id of the parent process is unknown.
pub(super) fn parent_process_id() -> Option<u32> {
    None
}

/// Process groups are not supported: the command is unchanged.
pub(super) fn in_new_process_group(command: &mut std::process::Command) -> &mut std::process::Command {
    command
}

/// Signals are not supported.
pub fn raise_interrupt() {}
