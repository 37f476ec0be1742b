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

/// Sends this process the signal of Ctrl-C.
pub fn raise_interrupt() {
    // raise(3) fails only for an invalid signal number.
    let _ = signal_hook::low_level::raise(SIGINT);
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

/// What this program was told so far.
#[derive(Default)]
struct Told {
    /// The keyholder passed something on, and this side has not had the same by itself.
    is_passed_on: bool,
}

impl Told {
    /// Does what a signal stands for; whether it ends the program at once.
    fn is_last_word(&mut self, signal: i32, cancel: &Cancel) -> bool {
        match signal {
            // From the keyholder, for one of the others that it was sent: where a whole group is told, both sides are.
            SIGUSR1 => {
                self.is_passed_on |= !cancel.is_set();
                cancel.set();
            }
            _ if cancel.is_set() => return !std::mem::take(&mut self.is_passed_on),
            SIGINT => cancel.interrupt(),
            _ => cancel.set(),
        }
        false
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
        let mut told = Told::default();
        // Whatever comes before the last word is done.
        let _ = signals.forever().find(|signal| told.is_last_word(*signal, &cancel));
        terminal.into_iter().for_each(|terminal| terminal.put_back(&last_words));
        signal_hook::low_level::exit(status);
    })?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whoever_is_told_twice_ends_at_once_but_not_by_what_was_passed_on() {
        let last_word = |signals: &[i32]| {
            let (mut told, cancel) = (Told::default(), Cancel::new());
            let at = signals.iter().position(|signal| told.is_last_word(*signal, &cancel));
            assert!(cancel.is_set());
            at
        };
        for twice in [[SIGTERM, SIGTERM], [SIGHUP, SIGINT], [SIGINT, SIGTERM]] {
            assert_eq!(last_word(&twice), Some(1));
        }
        // A group was told: in whichever order both are heard, it was told once.
        assert_eq!(last_word(&[SIGTERM, SIGUSR1]), None);
        assert_eq!(last_word(&[SIGUSR1, SIGTERM]), None);
        assert_eq!(last_word(&[SIGUSR1, SIGTERM, SIGTERM]), Some(2));
        assert_eq!(last_word(&[SIGTERM, SIGUSR1, SIGTERM]), Some(2));
        assert_eq!(last_word(&[SIGUSR1, SIGUSR1]), None);
    }
}
