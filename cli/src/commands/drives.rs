//! `pyrotyp drives`: what is attached, what comes and goes, and what can speak against it.

use std::time::Duration;

use jiff::Timestamp;
use pyrotyp_core::drive::{Drive, Role};
use pyrotyp_core::guard::{Circumstances, Confirmed, IMAGE_RULES, RULES, findings};
use pyrotyp_core::{Cancel, Finding, Level};

use super::platform;
use super::settings::survey;
use crate::asked::Common;
use crate::exit::{Exit, Failure};
use crate::show::{json, table};
use crate::{put, put_while_read, say};

/// How often the system is asked what is attached.
const BETWEEN: Duration = Duration::from_millis(400);

/// A drive and what speaks against it.
type Judged = (Drive, Vec<Finding>);

fn judge(drive: Drive, circumstances: &Circumstances) -> Judged {
    let found = findings(&drive, None, circumstances);
    (drive, found)
}

fn can_be_chosen((drive, found): &Judged) -> bool {
    drive.role() != Role::Virtual && found.iter().all(|finding| finding.level != Level::Stop)
}

/// Lists the drives; those that can't be chosen only if `all` are asked for.
pub fn run(all: bool, common: &Common) -> Result<Exit, Failure> {
    let platform = platform(common)?;
    let known = survey(&*platform, common, None, &[], Confirmed::ByPerson)?;
    let judged: Vec<Judged> = platform.drives()?.into_iter().map(|drive| judge(drive, &known)).collect();
    let total = judged.len();
    let shown: Vec<_> = judged.into_iter().filter(|row| all || can_be_chosen(row)).collect();
    put(&if common.json { json::drives(&shown) } else { table::drives(&shown, total - shown.len(), common) })?;
    Ok(Exit::Done)
}

/// Tells what is attached, then what arrives and what leaves, until told to stop or nobody reads it.
pub fn watch(all: bool, common: &Common, cancel: &Cancel) -> Result<Exit, Failure> {
    let platform = platform(common)?;
    let is_told = |judged: &Judged| all || judged.0.role() != Role::Virtual;
    let line = |event: &str, judged: &Judged| {
        let now = Timestamp::now();
        if common.json { json::event(event, judged, now) } else { table::event(event, judged, now) }
    };
    let of_bench = survey(&*platform, common, None, &[], Confirmed::ByPerson)?;
    let mut known: Vec<Drive> = Vec::new();
    let mut arrival = "attached";
    while !cancel.is_set() {
        let attached = platform.drives()?;
        let left = known.iter().filter(|known| !attached.iter().any(|now| now.is_still(known)));
        let new = attached.iter().filter(|now| !known.iter().any(|known| known.is_still(now)));
        let events = left.map(|drive| ("left", drive)).chain(new.map(|drive| (arrival, drive)));
        let judged =
            events.map(|(event, drive)| (event, judge(drive.clone(), &of_bench))).filter(|(_, judged)| is_told(judged));
        let text: String = judged.map(|(event, judged)| line(event, &judged)).collect();
        if !text.is_empty() && !put_while_read(&text)? {
            break;
        }
        if arrival == "attached" {
            say(common, "waiting for drives to come and go; Ctrl-C ends it\n");
        }
        (known, arrival) = (attached, "arrived");
        std::thread::sleep(BETWEEN);
    }
    Ok(Exit::Done)
}

/// Lists the rules of the guard.
pub fn explain(common: &Common) -> Result<Exit, Failure> {
    put(&if common.json { json::rules(&RULES, &IMAGE_RULES) } else { table::rules(&RULES, &IMAGE_RULES) })?;
    Ok(Exit::Done)
}
