//! `pyrotyp`: writes Linux and other hybrid installer images to USB drives, and proves what was written.

mod asked;
mod commands;
mod exit;
mod show;

use std::io::{self, Write};
use std::process::ExitCode;

use anstream::ColorChoice;
use clap::Parser;
use pyrotyp_core::Cancel;

use asked::{Asked, Command, Common, When};
use exit::{Exit, Failure, plain};
use show::edge::edge;

fn main() -> ExitCode {
    // clap ends with status 2 by itself when the command line makes no sense.
    let asked = Asked::parse();
    match asked.common.color {
        When::Auto => {}
        When::Always => ColorChoice::Always.write_global(),
        When::Never => ColorChoice::Never.write_global(),
    }
    let cancel = Cancel::new();
    if let Err(error) = listen(&cancel) {
        tell(&Failure::new(Exit::Unexpected, format!("can't listen for Ctrl-C: {}", plain(&error)), "run it again"));
        return ExitCode::from(Exit::Unexpected as u8);
    }
    ExitCode::from(run(&asked, &cancel) as u8)
}

/// Ctrl-C, a closed terminal and a polite kill ask the job to stop; a second one ends the program at once.
fn listen(cancel: &Cancel) -> io::Result<()> {
    use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
    for signal in [SIGINT, SIGTERM, SIGHUP] {
        signal_hook::flag::register_conditional_shutdown(signal, Exit::Stopped as i32, cancel.flag())?;
        signal_hook::flag::register(signal, cancel.flag())?;
    }
    Ok(())
}

/// Runs one command and tells how it failed, if it did. The demo runs others through this.
fn run(asked: &Asked, cancel: &Cancel) -> Exit {
    let common = &asked.common;
    let done = match &asked.command {
        Command::Inspect { images } => commands::inspect::run(images, common),
        Command::Check { image, against } => commands::check::run(image, against, common, cancel),
        Command::Drives { explain: true, .. } => commands::drives::explain(common),
        Command::Drives { all, watch: true, .. } => commands::drives::watch(*all, common, cancel),
        Command::Drives { all, .. } => commands::drives::run(*all, common),
        Command::Contents { drive } => commands::contents::run(drive, common, cancel),
        Command::Write(write) => commands::write::run(write, common, cancel),
        Command::Compare { drive, image } => commands::compare::run(drive, image, common, cancel),
        Command::Fetch(fetch) => commands::fetch::run(fetch, common, cancel),
        Command::Shelf { command } => commands::shelf::run(command.as_ref(), common, cancel),
        Command::Demo { keep } => commands::demo::run(keep.as_deref(), common, cancel),
    };
    match done {
        Ok(exit) => exit,
        Err(failure) => {
            tell(&failure);
            failure.exit
        }
    }
}

/// Says on standard error what went wrong and what to do next.
fn tell(failure: &Failure) {
    let red = show::style::BAD;
    let mut text = format!("{red}pyrotyp:{red:#} {}\n", failure.text);
    if !failure.next.is_empty() {
        text.push_str(&format!("   next: {}\n", failure.next));
    }
    // Nobody is left to tell when standard error itself is closed.
    let _ = anstream::stderr().write_all(edge(&text).as_bytes());
}

/// Puts a result on standard output. A reader that has seen enough and went away is no error.
fn put(text: &str) -> Result<(), Failure> {
    put_while_read(text).map(|_| ())
}

/// Like [`put`], and tells whether anybody still reads: what has no end of its own ends when nobody does.
fn put_while_read(text: &str) -> Result<bool, Failure> {
    match anstream::stdout().write_all(edge(text).as_bytes()) {
        Ok(()) => Ok(true),
        Err(error) if error.kind() == io::ErrorKind::BrokenPipe => Ok(false),
        Err(error) => Err(Failure::new(
            Exit::Unexpected,
            format!("can't write the result: {}", plain(&error)),
            "check where it goes",
        )),
    }
}

/// Says something that is not to be missed, beside the result.
fn warn(text: &str) {
    // Nobody is left to tell when standard error itself is closed.
    let _ = anstream::stderr().write_all(edge(text).as_bytes());
}

/// Says something beside the result, unless told to be quiet.
fn say(common: &Common, text: &str) {
    if !common.quiet {
        // Talk that nobody hears is no reason to stop a job.
        let _ = anstream::stderr().write_all(edge(text).as_bytes());
    }
}
