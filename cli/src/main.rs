//! `pyrotyp`: writes Linux and other hybrid installer images to USB drives, and proves what was written.

mod asked;
mod commands;
mod exit;
mod show;
mod slip;

use std::io::{self, Write};
use std::process::ExitCode;

use anstream::ColorChoice;
use clap::Parser;
use pyrotyp_core::stop::Cancel;
use serde_json::Value;

use asked::{Asked, Command, Common, When};
use exit::{Exit, Failure, plain};
use show::edge::edge;
use show::{command, json, wrap};

fn main() -> ExitCode {
    let asked = match Asked::try_parse() {
        Ok(asked) => asked,
        Err(error) => return ExitCode::from(slip::told(&error) as u8),
    };
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
    command::told_beside(common);
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
        Err(failure) => failed(&failure, common.json),
    }
}

/// Tells a failure, as a document too where one is asked for.
fn failed(failure: &Failure, is_json: bool) -> Exit {
    tell(failure);
    if is_json {
        // Whoever reads it is told by the exit status too.
        let _ = put_document(&json::failed(failure));
    }
    failure.exit
}

/// Says on standard error what went wrong and what to do next.
fn tell(failure: &Failure) {
    let red = show::style::BAD;
    let mut text = format!("{red}pyrotyp:{red:#} {}\n", failure.text);
    if !failure.next.is_empty() {
        text.push_str(&format!("   next: {}\n", failure.next));
    }
    warn(&text);
}

/// Puts a result for people on standard output. A reader that has seen enough and went away is no error.
fn put(text: &str) -> Result<(), Failure> {
    put_while_read(text).map(|_| ())
}

/// Puts a result for programs on standard output.
fn put_document(document: &Value) -> Result<(), Failure> {
    put_as_it_is(&json::text(document)).map(|_| ())
}

/// Like [`put`], and tells whether anybody still reads: what has no end of its own ends when nobody does.
fn put_while_read(text: &str) -> Result<bool, Failure> {
    put_as_it_is(&for_people(&edge(text), wrap::width_of(&io::stdout())))
}

/// The same, of lines for programs, which no terminal's width breaks.
fn put_as_it_is(text: &str) -> Result<bool, Failure> {
    match anstream::stdout().write_all(text.as_bytes()) {
        Ok(()) => Ok(true),
        Err(error) if error.kind() == io::ErrorKind::BrokenPipe => Ok(false),
        Err(error) => Err(Failure::new(
            Exit::Unexpected,
            format!("can't write the result: {}", plain(&error)),
            "check where it goes",
        )),
    }
}

/// A text with its commands as they can be typed, in lines that fit.
fn for_people(text: &str, width: Option<usize>) -> String {
    let text = command::as_typed(text);
    width.map_or_else(|| text.to_string(), |width| wrap::wrap(&text, width).into_owned())
}

/// Says something that is not to be missed, beside the result.
fn warn(text: &str) {
    let text = for_people(&edge(text), wrap::width_of(&io::stderr()));
    // Nobody is left to tell when standard error itself is closed.
    let _ = anstream::stderr().write_all(text.as_bytes());
}

/// Says something beside the result, unless told to be quiet.
fn say(common: &Common, text: &str) {
    if !common.quiet {
        warn(text);
    }
}
