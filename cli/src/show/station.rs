//! What a station says: its card, what happens on the way, and what came of it.

use std::fmt::Write;
use std::path::Path;

use pyrotyp_core::bytes::human_bytes;
use pyrotyp_core::drive::Drive;
use pyrotyp_core::image::Inspection;
use pyrotyp_core::record::JobResult;
use pyrotyp_core::station::{FilesRule, Left, StationPlan, Tally, Try};
use pyrotyp_core::text::{Shown, shell};

use super::style::{BAD, CARE, GOOD, NAME};
use super::table::role;
use super::text::{called, duration};
use crate::asked::Common;

/// What a plan will do.
pub(crate) struct StationCard<'a> {
    pub plan: &'a StationPlan,
    pub path: &'a Path,
    pub inspection: &'a Inspection,
    /// What is proven of the image, in words.
    pub checksum: &'a str,
    /// How many were made before.
    pub made: u64,
}

fn which(plan: &StationPlan) -> String {
    let drives = &plan.drives;
    let mut words: Vec<String> = drives.roles.iter().map(|one| role(*one).to_owned()).collect();
    words.extend(drives.smallest.map(|bytes| format!("from {}", human_bytes(bytes))));
    words.extend(drives.largest.map(|bytes| format!("up to {}", human_bytes(bytes))));
    if !drives.ports.is_empty() {
        let ports: Vec<String> = drives.ports.iter().map(ToString::to_string).collect();
        words.push(format!("in port {}", ports.join(" or ")));
    }
    if !drives.tags.is_empty() {
        let tags: Vec<&str> = drives.tags.iter().map(|tag| tag.as_str()).collect();
        words.push(format!("with tag {}", tags.join(" or ")));
    }
    words.join(", ")
}

/// The card.
pub(crate) fn card(of: &StationCard<'_>) -> String {
    let StationCard { plan, path, inspection, checksum, made } = of;
    let name = inspection.title().or_else(|| inspection.label.clone());
    let name = name.map_or_else(|| path.shown(), |name| name.shown());
    let before = if *made > 0 { format!(", {made} of them are made") } else { String::new() };
    let sticks = if plan.sticks == 1 { "1 stick".to_owned() } else { format!("{} sticks", plan.sticks) };
    let files = match (plan.files, plan.known_labels.is_empty()) {
        (FilesRule::Ask, true) => "you are asked about each that holds anything".to_owned(),
        (FilesRule::Refuse, true) => "any that holds anything is left alone".to_owned(),
        (FilesRule::Take, _) => format!("{CARE}all that is on it is lost, and nobody is asked{CARE:#}"),
        (rule, false) => {
            let labels: Vec<String> = plan.known_labels.iter().map(|label| label.shown()).collect();
            let rest = if rule == FilesRule::Ask { "you are asked about others" } else { "others are left alone" };
            format!("one with label {} is taken and what is on it is lost; {rest}", labels.join(" or "))
        }
    };
    let end = if plan.eject { "read back, sealed, ejected" } else { "read back, sealed" };
    let rows = [
        ("image", format!("{NAME}{name}{NAME:#}, {}", human_bytes(inspection.bytes))),
        ("", checksum.to_string()),
        (
            "sticks",
            format!(
                "{NAME}{sticks}{NAME:#}{before}, {} at once; each is guarded by itself, written, {end}",
                plan.at_once
            ),
        ),
        ("taken", format!("what is plugged in from now on: {}", which(plan))),
        ("files", files),
    ];
    let mut out = String::new();
    // Writing to a string never fails.
    for (name, value) in rows {
        let _ = writeln!(out, "  {name:<8}{value}");
    }
    out
}

/// What is asked below the card.
pub(crate) fn question() -> String {
    "Type the number of sticks to begin: ".to_owned()
}

/// Where a drive is, as short as can be.
pub(crate) fn place(drive: &Drive) -> String {
    drive.link.port.as_ref().map_or_else(|| drive.path.shown(), ToString::to_string)
}

/// A drive and where it is.
pub(crate) fn named(drive: &Drive) -> String {
    format!("{}: {NAME}{}{NAME:#} {}", place(drive), drive.tag, called(drive))
}

/// Why a drive is left alone.
pub(crate) fn left(why: &Left) -> String {
    match why {
        Left::Unfit { why } => why.shown(),
        Left::HoldsFiles => "something is on it".to_owned(),
        Left::Changed => "another program wrote to it while it waited".to_owned(),
        Left::Made { number } => format!("it was made before, as number {number}"),
        Left::HoldsImage => "it holds the image, and can't be told from others".to_owned(),
        Left::Failed { number } => format!("it failed before, as number {number}: put it aside"),
    }
}

/// How one ended.
pub(crate) fn ended(drive: &Drive, stick: &Try, fault: Option<&str>, so_far: &str) -> String {
    let result = stick.result.unwrap_or(JobResult::Stopped);
    let word = result.word();
    let why = fault.map_or(String::new(), |fault| format!(": {}", fault.shown()));
    match result {
        JobResult::Verified => format!("{}: {GOOD}{word}{GOOD:#}, {so_far}", named(drive)),
        JobResult::Stopped => format!("{}: {CARE}{word}{CARE:#}{why}", named(drive)),
        JobResult::Refused => format!("{}: {CARE}{word}{CARE:#}{why}; plug it in again", named(drive)),
        _ if stick.cut_off => {
            format!("{}: {CARE}cut off{CARE:#}{why}; plug it in again, and it is begun anew", named(drive))
        }
        _ => format!("{}: {BAD}{word}{BAD:#}{why}; put it aside", named(drive)),
    }
}

/// What is to be done in a port in which one has ended.
pub(crate) fn what_next(stick: &Try) -> &'static str {
    match stick.result {
        Some(JobResult::Verified) => "verified: plug the next one in",
        _ if stick.has_failed() => "failed: put it aside, and plug another one in",
        _ => "not made: plug it in again",
    }
}

/// What came of it.
pub(crate) struct StationSummary<'a> {
    pub plan: &'a StationPlan,
    /// The plan's file.
    pub file: &'a Path,
    pub name: Option<&'a str>,
    pub tally: &'a Tally,
    /// How many drives were left alone.
    pub left: u64,
    pub seconds: f64,
}

/// How it came out, and what to do next.
pub(crate) fn summary(of: &StationSummary<'_>, common: &Common) -> String {
    let StationSummary { plan, file, name, tally, left, seconds } = of;
    let made = tally.made();
    let (style, word) = if made >= plan.sticks { (GOOD, "done") } else { (CARE, "not done yet") };
    let name = name.map_or_else(|| plan.image.shown(), |name| name.shown());
    let mut out = format!("{style}{word}{style:#}: {made} of {} sticks made, {name}\n", plan.sticks);
    let mut more = vec![format!("in {}", duration(*seconds))];
    if tally.failed() > 0 {
        more.push(format!("{BAD}{} failed{BAD:#}", tally.failed()));
    }
    if *left > 0 {
        more.push(format!("{left} left alone"));
    }
    // Writing to a string never fails.
    let _ = writeln!(out, "  {}", more.join(", "));
    for one in tally.tries().iter().filter(|one| one.has_failed()) {
        let port = one.port.as_ref().map_or(String::new(), |port| format!(", in port {}", port.shown()));
        let result = one.result.map_or("", JobResult::word);
        let _ = writeln!(
            out,
            "  {BAD}{result}{BAD:#}: {} {}{port}, job {}",
            one.drive.tag.shown(),
            one.drive.name(),
            one.job.shown()
        );
    }
    if !common.quiet {
        let file = shell::path(file);
        let next = if made >= plan.sticks {
            format!("pyrotyp ledger tells of each; with --anew, pyrotyp station {file} makes as many more")
        } else {
            format!("pyrotyp station {file} goes on where the tally stands")
        };
        let _ = writeln!(out, "  next: {next}");
    }
    out
}
