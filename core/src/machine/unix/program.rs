//! This program among others: told to stop, and at a terminal.

use std::fs::File;
use std::io;

use rustix::termios::{LocalModes, OptionalActions, Termios, tcgetattr, tcsetattr};
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM, SIGUSR1};
use signal_hook::iterator::Signals;

use crate::stop::Cancel;

/// The program with which a person runs others as root.
pub const ROOT_PROGRAM: &str = "sudo";

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
    // The last one comes from the keyholder, for one of the others that it was sent.
    for signal in [SIGTERM, SIGHUP, SIGUSR1] {
        signal_hook::flag::register(signal, cancel.flag())?;
    }
    let (mut signals, cancel) = (Signals::new([SIGINT])?, cancel.clone());
    std::thread::Builder::new().name("ctrl-c".to_owned()).spawn(move || {
        signals.forever().for_each(|_| cancel.interrupt());
    })?;
    Ok(())
}
