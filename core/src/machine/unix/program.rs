//! This program among others: run once more as somebody else, told to stop, and at a terminal.

use std::fs::File;
use std::io;
use std::os::unix::process::CommandExt;
use std::process::Command;

use rustix::termios::{LocalModes, OptionalActions, Termios, tcgetattr, tcsetattr};
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use signal_hook::iterator::Signals;

use crate::machine::Person;
use crate::stop::Cancel;

/// The program with which a person runs others as root.
pub const ROOT_PROGRAM: &str = "sudo";

/// Variables by which a program knows who called for root.
const CALLERS: [&str; 4] = ["SUDO_UID", "SUDO_GID", "PKEXEC_UID", "DOAS_USER"];

/// This program, to be run by a person and not by root.
///
/// # Errors
/// When nobody knows where this program lies.
pub fn this_program_as(person: &Person) -> io::Result<Command> {
    let mut again = Command::new(std::env::current_exe()?);
    again.uid(person.user).gid(person.group).env("HOME", &person.home);
    for name in CALLERS {
        again.env_remove(name);
    }
    for name in ["XDG_STATE_HOME", "XDG_CONFIG_HOME"] {
        match person.variable(name) {
            Some(value) => again.env(name, value),
            None => again.env_remove(name),
        };
    }
    Ok(again)
}

/// Makes this process that program; returns only if that can't be.
pub fn become_program(program: &mut Command) -> io::Error {
    program.exec()
}

/// The terminal at which somebody sits, although something else comes on standard input; `None` where there is none.
pub fn terminal() -> Option<File> {
    File::open("/dev/tty").ok()
}

/// A terminal that gives each key as it is pressed and shows none of them, until this is dropped.
#[derive(Debug)]
pub struct KeyByKey(Termios);

impl KeyByKey {
    /// The terminal on standard input; `None` where there is none.
    pub fn begin() -> Option<Self> {
        let before = tcgetattr(io::stdin()).ok()?;
        let mut modes = before.clone();
        modes.local_modes.remove(LocalModes::ECHO | LocalModes::ICANON);
        tcsetattr(io::stdin(), OptionalActions::Now, &modes).ok()?;
        Some(Self(before))
    }
}

impl Drop for KeyByKey {
    fn drop(&mut self) {
        // A terminal that is gone needs no modes.
        let _ = tcsetattr(io::stdin(), OptionalActions::Now, &self.0);
    }
}

/// A closed terminal and a polite kill throw `cancel`, Ctrl-C interrupts it; whichever comes when it is thrown ends the program at
/// once with `status`.
///
/// # Errors
/// When the system does not let itself be listened to.
pub fn stop_when_told(cancel: &Cancel, status: i32) -> io::Result<()> {
    for signal in [SIGINT, SIGTERM, SIGHUP] {
        signal_hook::flag::register_conditional_shutdown(signal, status, cancel.flag())?;
    }
    for signal in [SIGTERM, SIGHUP] {
        signal_hook::flag::register(signal, cancel.flag())?;
    }
    let (mut signals, cancel) = (Signals::new([SIGINT])?, cancel.clone());
    std::thread::Builder::new().name("ctrl-c".to_owned()).spawn(move || {
        signals.forever().for_each(|_| cancel.interrupt());
    })?;
    Ok(())
}
