//! This program among others: told to stop, and at a terminal.

use std::fs::File;
use std::io::{self, Write};

use rustix::process::getpgrp;
use rustix::termios::{LocalModes, OptionalActions, Termios, tcgetattr, tcgetpgrp, tcsetattr};
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM, SIGUSR1};
use signal_hook::iterator::Signals;

use crate::stop::Cancel;

/// The program with which a person runs others as root.
pub const ROOT_PROGRAM: &str = "sudo";

/// The terminal of whoever has one, tty(4).
const TERMINAL: &str = "/dev/tty";

/// The terminal at which somebody sits, although something else comes on standard input; `None` where there is none.
pub fn terminal() -> Option<File> {
    File::open(TERMINAL).ok()
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

/// The terminal as it is when a program begins.
struct Terminal {
    file: File,
    modes: Termios,
}

impl Terminal {
    /// `None` where there is none.
    fn now() -> Option<Self> {
        // Nothing that is told to it may hold this program up.
        let file = super::without_waiting(File::options().read(true).write(true)).open(TERMINAL).ok()?;
        Some(Self { modes: tcgetattr(&file).ok()?, file })
    }

    /// As it was, and told so much; one that another program has by now is left alone.
    fn put_back(mut self, last_words: &str) {
        if tcgetpgrp(&self.file).is_ok_and(|has_it| has_it == getpgrp()) {
            // A terminal that is gone needs nothing.
            let _ = tcsetattr(&self.file, OptionalActions::Now, &self.modes);
            let _ = self.file.write_all(last_words.as_bytes());
        }
    }
}

/// A closed terminal and a polite kill throw `cancel`, Ctrl-C interrupts it; whichever comes when it is thrown ends the program at
/// once with `status`, its terminal as it was found and told `last_words`.
///
/// # Errors
/// When the system does not let itself be listened to.
pub fn stop_when_told(cancel: &Cancel, status: i32, last_words: String) -> io::Result<()> {
    let (mut signals, cancel) = (Signals::new([SIGINT, SIGTERM, SIGHUP, SIGUSR1])?, cancel.clone());
    let terminal = Terminal::now();
    std::thread::Builder::new().name("signals".to_owned()).spawn(move || {
        for signal in signals.forever() {
            match signal {
                // From the keyholder, for one of the others that it was sent: this side may have had that one too.
                SIGUSR1 => cancel.set(),
                _ if cancel.is_set() => break,
                SIGINT => cancel.interrupt(),
                _ => cancel.set(),
            }
        }
        terminal.into_iter().for_each(|terminal| terminal.put_back(&last_words));
        signal_hook::low_level::exit(status);
    })?;
    Ok(())
}
