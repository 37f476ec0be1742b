//! How one process becomes two, at its very start.

use std::ffi::CString;
use std::fs::File;
use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::process::{CommandExt, ExitStatusExt};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, ExitStatus};
use std::sync::{Arc, OnceLock};

use nix::sys::signal::{SIGHUP, SIGINT, SIGTERM, SigSet};
use nix::sys::signalfd::{SfdFlags, SignalFd};
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::process::{
    DumpableBehavior, Pid, Signal, getppid, kill_process, set_dumpable_behavior, set_parent_process_death_signal,
};
use rustix::thread::{set_name, set_no_new_privs};

use super::asking::{Apart, Asking};
use super::holder::{Keyholder, SystemDrives};
use super::line;
use crate::devices::Platform;
use crate::devices::linux::{Linux, taken_over, unblock_signals};
use crate::machine::{self as this_machine, HandedOver, Person, PersonError};

/// By which the side without rights knows its end of the line, and whose it is: `NUMBER:PROCESS`.
const LINE: &str = "PYROTYP_LINE";
/// What is told to stop by somebody who does not know of the other side is passed on as this: it comes a second time to whoever
/// heard of it already, and must mean no more then.
const PASSED_ON: Signal = Signal::USR1;

/// What this process is from here on.
#[derive(Debug)]
pub enum Side {
    /// Whatever it was: it has what rights it has.
    Whole,
    /// The keyholder, and the other side has ended.
    Keyholder {
        /// With this, or as a shell has it for what ended by a signal.
        status: u8,
    },
}

/// Why a process that runs as root for a person can't be divided: it must do nothing then.
#[derive(Debug, thiserror::Error)]
pub enum DivisionError {
    /// Nobody knows who the person is.
    #[error(transparent)]
    Person(#[from] PersonError),
    /// The system does not let it be.
    #[error("root's rights can't be kept apart from the rest")]
    System(#[from] io::Error),
}

impl DivisionError {
    /// What to do about it.
    pub fn next_step(&self) -> &'static str {
        match self {
            Self::Person(fault) => fault.next_step(),
            Self::System(_) => {
                "see that /proc is mounted and that programs can be started, then run the same command again"
            }
        }
    }
}

static KEYHOLDER: OnceLock<Arc<Asking>> = OnceLock::new();

/// Whether this process is the side without rights.
pub fn is_apart() -> bool {
    KEYHOLDER.get().is_some()
}

/// The machine as the side without rights reaches it; `None` where this process is no such side.
pub fn apart() -> Option<Box<dyn Platform>> {
    let apart = |asking: &Arc<Asking>| -> Box<dyn Platform> { Box::new(Apart::new(Arc::clone(asking))) };
    KEYHOLDER.get().map(apart)
}

/// Divides this process where it runs as root for a person; to be called before anything else. The other side begins where this
/// one began.
///
/// # Errors
/// When the system makes no second process, or the person is unknown.
pub fn divide() -> Result<Side, DivisionError> {
    if let Some(line) = end_of_line() {
        lay_down_rights()?;
        go_by_ones_own_name();
        let _ = KEYHOLDER.set(Arc::new(Asking::over(line)));
        return Ok(Side::Whole);
    }
    let Some(person) = this_machine::person()? else { return Ok(Side::Whole) };
    Ok(Side::Keyholder { status: keep_for(Some(&person), SystemDrives::Closed)? })
}

/// Divides this process where it runs as root for root itself, which knows by now what is asked for; to be called while it has one
/// thread. What comes back is the other side's status.
///
/// # Errors
/// When the system makes no second process.
pub fn divide_root(system_drives: SystemDrives) -> Result<u8, DivisionError> {
    Ok(keep_for(None, system_drives)?)
}

/// Gives up root's rights in the worker: it runs as the person from here on, without any capability, or as root with what root's own
/// files need. At no moment can another process of that person trace it or take its open files: it becomes that person only after that
/// was forbidden.
fn lay_down_rights() -> Result<(), DivisionError> {
    let forbid_tracing = || set_dumpable_behavior(DumpableBehavior::NotDumpable).map_err(io::Error::from);
    forbid_tracing()?;
    let person = this_machine::person()?;
    set_no_new_privs(true).map_err(io::Error::from)?;
    match &person {
        Some(person) => {
            this_machine::forbid_capabilities()?;
            person.become_this()?;
        }
        None if this_machine::is_root() => this_machine::keep_files_alone()?,
        None => {}
    }
    // A change of the user sets this anew, and takes back the signal.
    forbid_tracing()?;
    set_parent_process_death_signal(Some(Signal::KILL)).map_err(io::Error::from)?;
    // A broker that ended before that can't tell any more.
    if end_of_parent()? { Err(io::Error::from(io::ErrorKind::BrokenPipe).into()) } else { Ok(()) }
}

/// Whether the process that started this one has ended.
fn end_of_parent() -> io::Result<bool> {
    let said = std::env::var(LINE).map_err(io::Error::other)?;
    let parent = getppid().map(|parent| parent.as_raw_nonzero().to_string());
    Ok(said.split_once(':').map(|(_, process)| process) != parent.as_deref())
}

fn status_of(ended: ExitStatus) -> u8 {
    let number = ended.code().or_else(|| ended.signal().map(|signal| signal.saturating_add(128)));
    number.and_then(|number| u8::try_from(number).ok()).unwrap_or(u8::MAX)
}

/// Keeps the rights for a person, or for root itself, until the other side has ended, and tells how.
fn keep_for(person: Option<&Person>, system_drives: SystemDrives) -> io::Result<u8> {
    // What tells this side to stop is heard as what it is, and ends nothing.
    let mut told = SigSet::empty();
    told.extend([SIGINT, SIGTERM, SIGHUP]);
    told.thread_block()?;
    let told = SignalFd::with_flags(&told, SfdFlags::SFD_CLOEXEC | SfdFlags::SFD_NONBLOCK)?;
    let (ours, theirs) = line::pair()?;
    let mut child = begin(person, theirs)?;
    let keyholder = Keyholder::new(Linux::reading_nothing(child.id()), system_drives);
    serve(keyholder, &ours, &told, &child)?;
    // A worker that broke the protocol must not go on. The exit status of one that has ended stays the same.
    let _ = child.kill();
    // Without an end of the line left here, a side that still asks is told that nobody answers.
    drop(ours);
    loop {
        if let Some(status) = child.try_wait()? {
            return Ok(status_of(status));
        }
        heard(&mut [PollFd::new(&told, PollFlags::IN)], Some(&WAIT_FOR_END))?;
        pass_on(&told, &child)?;
    }
}

/// How long is waited for the other side's end before it is looked for again.
const WAIT_FOR_END: Timespec = Timespec { tv_sec: 0, tv_nsec: 20_000_000 };

/// Waits until something is to be heard; a signal that comes between is nothing.
fn heard(from: &mut [PollFd<'_>], patience: Option<&Timespec>) -> io::Result<()> {
    match poll(from, patience) {
        Ok(_) | Err(rustix::io::Errno::INTR) => Ok(()),
        Err(error) => Err(error.into()),
    }
}

/// In lists of processes, this one would be called as the link that it was started by.
fn go_by_ones_own_name() {
    let started_as = std::env::args_os().next().map(PathBuf::from);
    let name = started_as.as_deref().and_then(Path::file_name);
    if let Some(name) = name.and_then(|name| CString::new(name.as_bytes()).ok()) {
        // Nothing depends on it, and what is longer than the system's 15 bytes is cut there.
        let _ = set_name(&name);
    }
}

/// The end of the line that this process was started with; nothing where another was meant.
fn end_of_line() -> Option<OwnedFd> {
    let said = std::env::var(LINE).ok()?;
    let (number, process) = said.split_once(':')?;
    let parent = getppid().map(Pid::as_raw_nonzero)?.get();
    if process.parse() != Ok(parent) {
        return None;
    }
    taken_over(number.parse().ok()?).filter(|line| line::is_line(line))
}

fn begin(person: Option<&Person>, theirs: OwnedFd) -> io::Result<Child> {
    let theirs = HandedOver::file(&File::from(theirs))?;
    // Whatever lies at the path by now: it is this very program.
    let mut command = Command::new("/proc/self/exe");
    let mut words = std::env::args_os();
    if let Some(name) = words.next() {
        command.arg0(name);
    }
    command.args(words);
    if let Some(person) = person {
        command.env("HOME", &person.home);
        for name in ["XDG_STATE_HOME", "XDG_CONFIG_HOME"] {
            match person.variable(name) {
                Some(value) => command.env(name, value),
                None => command.env_remove(name),
            };
        }
    }
    command.env(LINE, format!("{}:{}", theirs.number(), std::process::id()));
    unblock_signals(&mut command);
    command.spawn()
}

/// Answers until the other side has no more to ask.
fn serve(mut keyholder: Keyholder, line: &OwnedFd, told: &SignalFd, child: &Child) -> io::Result<()> {
    loop {
        let mut ready = [PollFd::new(line, PollFlags::IN), PollFd::new(told, PollFlags::IN)];
        heard(&mut ready, None)?;
        let [asked, _] = ready.map(|one| !one.revents().is_empty());
        pass_on(told, child)?;
        if asked && !keyholder.serve(line, child.id()) {
            return Ok(());
        }
    }
}

/// Passes on what was sent to this process alone; what the terminal sends, both sides hear.
fn pass_on(told: &SignalFd, child: &Child) -> io::Result<()> {
    while let Some(signal) = told.read_signal()? {
        // Greater than nothing: from the kernel, sigaction(2).
        if signal.ssi_code <= 0
            && let Some(other) = i32::try_from(child.id()).ok().and_then(Pid::from_raw)
        {
            // Whoever has ended needs not be told.
            let _ = kill_process(other, PASSED_ON);
        }
    }
    Ok(())
}
