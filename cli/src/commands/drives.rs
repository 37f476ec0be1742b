//! `pyrotyp drives`: what is attached, what comes and goes, and what can speak against it.

use std::time::Duration;

use jiff::Timestamp;
use pyrotyp_core::devices;
use pyrotyp_core::drive::{Drive, Role};
use pyrotyp_core::guard::{IMAGE_RULES, Judged, RULES};

use crate::asked::Common;
use crate::exit::{Exit, Failure, chain};
use crate::out::{put, put_as_it_is, put_document, put_while_read, say};
use crate::session::Session;
use crate::session::attached::{choose_drive, needs_medium, platform};
use crate::session::judged::{can_be_chosen, judged};
use crate::session::settings::survey;
use crate::show::{json, table};

/// How often the system is asked what is attached.
const BETWEEN: Duration = Duration::from_millis(400);

/// Nobody looks for a light for longer than this.
const BLINKS_FOR: Duration = Duration::from_secs(120);

/// Which drives are told.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Listing {
    /// Those that can be chosen.
    Choosable,
    /// Those as well that can't be, and loop devices.
    All,
}

/// Lists the drives; those that can't be chosen only if all are asked for.
pub(crate) fn run(extent: Listing, common: &Common) -> Result<Exit, Failure> {
    let judged = judged(&*platform(common)?, common)?;
    let total = judged.len();
    let shown: Vec<_> = judged.into_iter().filter(|row| extent == Listing::All || can_be_chosen(row)).collect();
    match common.json {
        true => put_document(&json::drives(&shown))?,
        false => put(&table::drives(&shown, total - shown.len(), common))?,
    }
    Ok(Exit::Done)
}

/// Tells what is attached, then what arrives and what leaves, until told to stop or nobody reads it.
pub(crate) fn watch(extent: Listing, session: &Session<'_>) -> Result<Exit, Failure> {
    let platform = platform(session.common)?;
    let is_told = |judged: &Judged| extent == Listing::All || judged.drive.role() != Role::Virtual;
    let line = |event: &str, judged: &Judged| {
        let now = Timestamp::now();
        if session.common.json { json::event(event, judged, now) } else { table::event(event, judged, now) }
    };
    let of_bench = survey(&*platform, session.common)?;
    let mut known: Vec<Drive> = Vec::new();
    let mut arrival = "attached";
    while !session.cancel.is_set() {
        let attached = platform.drives()?;
        let left = known.iter().filter(|known| !attached.iter().any(|now| now.is_still(known)));
        let new = attached.iter().filter(|now| !known.iter().any(|known| known.is_still(now)));
        let events = left.map(|drive| ("left", drive)).chain(new.map(|drive| (arrival, drive)));
        let judged = events
            .map(|(event, drive)| (event, Judged::of(drive.clone(), &of_bench)))
            .filter(|(_, judged)| is_told(judged));
        let text: String = judged.map(|(event, judged)| line(event, &judged)).collect();
        let is_read = if session.common.json { put_as_it_is } else { put_while_read };
        if !text.is_empty() && !is_read(&text)? {
            break;
        }
        if arrival == "attached" {
            say(session.common, "waiting for drives to come and go; Ctrl-C ends it\n");
        }
        (known, arrival) = (attached, "arrived");
        std::thread::sleep(BETWEEN);
    }
    Ok(Exit::Done)
}

/// Has a drive's light show which one it is: until Ctrl-C, or for so long that nobody can be looking any more.
pub(crate) fn blink(asked: &str, session: &Session<'_>) -> Result<Exit, Failure> {
    let platform = platform(session.common)?;
    let drive = choose_drive(&*platform, asked, session.cancel, &|text| say(session.common, text))?.drive;
    needs_medium(&drive)?;
    let open = platform.open(&drive)?;
    let (tag, name) = (&drive.tag, drive.name());
    let port = drive.link.port.as_ref().map_or(String::new(), |port| format!(", in {}", port.words()));
    say(
        session.common,
        &format!("drive {tag} ({name}{port}) is read in a rhythm: look for its light; Ctrl-C ends it\n"),
    );
    devices::blink(&*open, BLINKS_FOR, session.cancel).map_err(|fault| {
        let text = format!("drive {tag} ({name}) can't be read: {}", chain(&fault));
        Failure::new(Exit::Drive, text, "plug it in again; pyrotyp drives shows what is attached")
    })?;
    Ok(Exit::Done)
}

/// Lists the rules of the guard.
pub(crate) fn explain(common: &Common) -> Result<Exit, Failure> {
    match common.json {
        true => put_document(&json::rules(&RULES, &IMAGE_RULES))?,
        false => put(&table::rules(&RULES, &IMAGE_RULES))?,
    }
    Ok(Exit::Done)
}
