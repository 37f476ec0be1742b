//! `pyrotyp`: writes Linux and other hybrid installer images to USB drives, and proves what was written.

#![cfg_attr(not(test), deny(clippy::too_many_lines, clippy::fn_params_excessive_bools))]

mod asked;
mod commands;
mod completing;
mod confining;
mod exit;
mod live;
mod near;
mod out;
mod paper;
mod session;
mod show;
mod slip;
mod writing;

use std::any::Any;
use std::io::ErrorKind;
use std::panic::AssertUnwindSafe;
use std::process::ExitCode;
use std::time::{Duration, Instant};

use anstream::ColorChoice;
use clap::Parser;
use pyrotyp_core::devices::disk_service;
use pyrotyp_core::devices::keyholder::{self, Side};
use pyrotyp_core::machine;
use pyrotyp_core::stop::Cancel;

use tracing::Level;

use asked::{Asked, Command, Common, OutputFor, When};
use commands::drives::Listing;
use confining::{confine, divided};
use exit::{Exit, Failure, chain, plain};
use out::failed;
use session::preferences::Preferences;
use session::{Session, log};
use show::command;
use show::settings::SettingOrigin;

/// Who turned to something else meanwhile wants to be called back.
const LONG: Duration = Duration::from_secs(10);

fn main() -> ExitCode {
    if machine::run_output_writer() {
        return ExitCode::SUCCESS;
    }
    match keyholder::divide() {
        Ok(Side::Whole) => {}
        Ok(Side::Keyholder { status }) => return ExitCode::from(status),
        Err(error) => {
            let failure = Failure::new(Exit::Refused, chain(&error), error.next_step());
            return ExitCode::from(failed(&failure, OutputFor::People) as u8);
        }
    }
    completing::answer();
    let asked = match Asked::try_parse() {
        Ok(asked) => asked,
        Err(error) => return ExitCode::from(slip::told(&error) as u8),
    };
    match divided(&asked) {
        Ok(None) => {}
        Ok(Some(status)) => return ExitCode::from(status),
        Err(failure) => return ExitCode::from(failed(&failure, asked.common.output_for()) as u8),
    }
    let begun = Instant::now();
    std::panic::set_hook(Box::new(|panic| out::warn(&format!("pyrotyp: a part of this program failed: {panic}\n"))));
    let ended = std::panic::catch_unwind(AssertUnwindSafe(|| begin(&asked)));
    let ended = ended.unwrap_or_else(|panic| Err(failure_of_panic(&*panic)));
    let exit = ended.unwrap_or_else(|failure| failed(&failure, asked.common.output_for()));
    machine::stop_output_writer();
    ring(&asked.common, begun.elapsed());
    ExitCode::from(exit as u8)
}

/// Next step if the system starts no more threads.
const MORE_THREADS: &str =
    "end other programs or raise the limit of processes (ulimit -u), then run the same command again";

/// Converts a panic to a failure.
fn failure_of_panic(panic: &dyn Any) -> Failure {
    let text = panic.downcast_ref::<String>().map_or("", |text| text);
    if text.contains("failed to spawn thread") {
        return Failure::new(Exit::Unexpected, "this system starts no more threads", MORE_THREADS);
    }
    let next = "run the same command again; if it fails again, report the lines above";
    Failure::new(Exit::Unexpected, "a part of this program failed", next)
}

/// What comes before any command, and the command.
fn begin(asked: &Asked) -> Result<Exit, Failure> {
    if asked.command.opens_drives() && asked.common.tray.is_none() {
        disk_service::prepare_questions();
    }
    let preferences = Preferences::of(&asked.common);
    // Settings that can't be used are told by the commands that stand on them.
    match preferences.map_or(When::Auto, |preferences| preferences.color.value) {
        When::Auto => {}
        When::Always => ColorChoice::Always.write_global(),
        When::Never => ColorChoice::Never.write_global(),
    }
    if let Some(file) = &asked.common.log {
        // Each piece that is read or written makes the log long.
        log::begin(file, if asked.common.verbose { Level::TRACE } else { Level::DEBUG })?;
    }
    for left in confine(asked) {
        tracing::debug!(left, "not given up");
        if asked.common.verbose {
            out::say(&asked.common, &format!("{left}\n"));
        }
    }
    let cancel = Cancel::new();
    machine::stop_when_told(&cancel, Exit::Stopped as i32, live::job_screen::taking_back()).map_err(|error| {
        let next = if error.kind() == ErrorKind::WouldBlock { MORE_THREADS } else { "run it again" };
        Failure::new(Exit::Unexpected, format!("can't listen for Ctrl-C: {}", plain(&error)), next)
    })?;
    Ok(run(asked, &cancel))
}

/// Rings where that is wanted: by option always, by the settings after what took long.
fn ring(common: &Common, took: Duration) {
    let Ok(bell) = Preferences::of(common).map(|preferences| preferences.bell) else { return };
    if bell.value && (bell.from == SettingOrigin::Option || took >= LONG) {
        out::ring();
    }
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
        Command::Unpack(unpack) => commands::unpack::run(unpack, session),
        Command::Reclaim(reclaim) => commands::reclaim::run(reclaim, session),
        Command::Gauge(gauge) => commands::gauge::run(gauge, session),
        Command::Save(save) => commands::save::run(save, session),
        Command::Rehearse(rehearse) => commands::rehearse::run(rehearse, session),
        Command::Station(station) => commands::station::run(station, session),
        Command::Fetch(fetch) => commands::fetch::run(fetch, session),
        Command::Shelf { command } => commands::shelf::run(command.as_ref(), session),
        Command::Ledger(asked) => commands::ledger::run(asked, common),
        Command::Settings => commands::settings::run(common),
        Command::Manual { into } => commands::manual::run(into, common),
        #[cfg(feature = "demo")]
        Command::Demo { keep } => commands::demo::run(keep.as_deref(), session, &run),
    };
    match done {
        Ok(exit) => exit,
        Err(failure) => failed(&failure, common.output_for()),
    }
}
