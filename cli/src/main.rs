//! `pyrotyp`: writes Linux and other hybrid installer images to USB drives, and proves what was written.

#![cfg_attr(not(test), deny(clippy::too_many_lines, clippy::fn_params_excessive_bools))]

mod asked;
mod commands;
mod exit;
mod live;
mod near;
mod out;
mod paper;
mod session;
mod show;
mod slip;
mod writing;

use std::process::ExitCode;

use anstream::ColorChoice;
use clap::Parser;
use pyrotyp_core::machine;
use pyrotyp_core::stop::Cancel;

use asked::{Asked, Command, When};
use commands::drives::Listing;
use exit::{Exit, Failure, plain};
use out::{failed, tell};
use session::Session;
use show::command;

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
    if let Err(error) = machine::stop_when_told(&cancel, Exit::Stopped as i32) {
        tell(&Failure::new(Exit::Unexpected, format!("can't listen for Ctrl-C: {}", plain(&error)), "run it again"));
        return ExitCode::from(Exit::Unexpected as u8);
    }
    ExitCode::from(run(&asked, &cancel) as u8)
}

/// Runs one command and tells how it failed, if it did. The demo runs others through this.
fn run(asked: &Asked, cancel: &Cancel) -> Exit {
    let common = &asked.common;
    let session = &Session { common, cancel };
    command::told_beside(common);
    let extent = |all| if all { Listing::All } else { Listing::Choosable };
    let done = match &asked.command {
        Command::Inspect { images } => commands::inspect::run(images, common),
        Command::Check { image, against } => commands::check::run(image, against, session),
        Command::Drives { blink: Some(drive), .. } => commands::drives::blink(drive, session),
        Command::Drives { explain: true, .. } => commands::drives::explain(common),
        Command::Drives { all, watch: true, .. } => commands::drives::watch(extent(*all), session),
        Command::Drives { all, .. } => commands::drives::run(extent(*all), common),
        Command::Contents { drive } => commands::contents::run(drive, session),
        Command::Write(write) => commands::write::run(write, session),
        Command::Compare { drive, image } => commands::compare::run(drive, image.as_deref(), session),
        Command::Fetch(fetch) => commands::fetch::run(fetch, session),
        Command::Shelf { command } => commands::shelf::run(command.as_ref(), session),
        Command::Ledger(asked) => commands::ledger::run(asked, common),
        #[cfg(feature = "demo")]
        Command::Demo { keep } => commands::demo::run(keep.as_deref(), session, &run),
    };
    match done {
        Ok(exit) => exit,
        Err(failure) => failed(&failure, common.output_for()),
    }
}
