//! Who asks for the password at a terminal without a desktop: polkit's own program.
//!
//! It needs a right that this process and all that it starts give up before a command begins. So it is made ready before that, by a
//! shell that waits for a word, and costs nothing where nobody is asked.

use std::fs::File;
use std::io::{self, Write};
use std::process::{Child, Command, Stdio};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use rustix::event::{PollFd, PollFlags, Timespec, poll};

use crate::devices::{end_with_this_thread, keyholder};
use crate::machine::{self, HandedOver};

/// How long it may take to announce itself.
const PATIENCE: Duration = Duration::from_secs(5);
/// The shell waits for a line, and becomes the agent for this process.
const WAITING: &str = "read -r go && exec pkttyagent \"$@\"";
/// What tells that there is a desktop, whose dialog goes before the terminal; without a session of one, polkit passes over an agent
/// that gives way to others.
const DESKTOP: [&str; 2] = ["WAYLAND_DISPLAY", "DISPLAY"];

static AGENT: Mutex<Option<Agent>> = Mutex::new(None);

/// The program, as long as this process lives.
struct Agent {
    program: Child,
    /// Closed by the program once it is known to the system.
    announced: Option<File>,
}

/// Makes ready that this system may ask at the terminal, where there is one, and this process may have to ask for a drive; to be called
/// before rights are given up for good, by the thread that lives longest.
pub fn prepare() {
    if !machine::is_root() && !keyholder::is_apart() && machine::terminal().is_some() {
        // Without it, nobody is asked, and that is said.
        *agent() = begin().ok();
    }
}

fn agent() -> MutexGuard<'static, Option<Agent>> {
    AGENT.lock().unwrap_or_else(PoisonError::into_inner)
}

fn begin() -> io::Result<Agent> {
    let (announced, theirs) = io::pipe()?;
    let theirs = HandedOver::file(&File::from(std::os::fd::OwnedFd::from(theirs)))?;
    let mut command = Command::new("/bin/sh");
    command.args(["-c", WAITING, "sh", "--process", &std::process::id().to_string()]);
    command.args(["--notify-fd", &theirs.number().to_string()]);
    if DESKTOP.iter().any(|name| std::env::var_os(name).is_some_and(|value| !value.is_empty())) {
        command.arg("--fallback");
    }
    command.stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::null());
    end_with_this_thread(&mut command);
    let program = command.spawn()?;
    Ok(Agent { program, announced: Some(File::from(std::os::fd::OwnedFd::from(announced))) })
}

/// Has it ask from here on, if it is there and does not already.
pub(super) fn wake() {
    let mut agent = agent();
    let Some(Agent { program, announced }) = agent.as_mut() else { return };
    let (Some(mut says), Some(announced)) = (program.stdin.take(), announced.take()) else { return };
    if says.write_all(b"go\n").is_err() {
        return;
    }
    drop(says);
    let patience = Timespec { tv_sec: PATIENCE.as_secs().try_into().unwrap_or(1), tv_nsec: 0 };
    // Announced or ended: where it could not be either, the system says that it has nobody to ask.
    let _ = poll(&mut [PollFd::new(&announced, PollFlags::IN)], Some(&patience));
}
