//! `pyrotyp drives`: what is attached, what comes and goes, and what can speak against it.

use std::time::Duration;

use jiff::Timestamp;
use pyrotyp_core::drive::{Drive, Role};
use pyrotyp_core::guard::{Circumstances, IMAGE_RULES, RULES, findings};
use pyrotyp_core::{Cancel, Finding, Level};

use super::platform;
use crate::asked::Common;
use crate::exit::{Exit, Failure};
use crate::show::{json, table};
use crate::{put, say};

/// How often the system is asked what is attached.
const BETWEEN: Duration = Duration::from_millis(400);

/// A drive and what speaks against it.
type Judged = (Drive, Vec<Finding>);

fn judge(drive: Drive) -> Judged {
    let found = findings(&drive, &Circumstances::default());
    (drive, found)
}

fn can_be_chosen((drive, found): &Judged) -> bool {
    drive.role() != Role::Virtual && found.iter().all(|finding| finding.level != Level::Stop)
}

/// Lists the drives; those that can't be chosen only if `all` are asked for.
pub fn run(all: bool, common: &Common) -> Result<Exit, Failure> {
    let judged: Vec<Judged> = platform(common)?.drives()?.into_iter().map(judge).collect();
    let total = judged.len();
    let shown: Vec<_> = judged.into_iter().filter(|row| all || can_be_chosen(row)).collect();
    put(&if common.json { json::drives(&shown) } else { table::drives(&shown, total - shown.len(), common) })?;
    Ok(Exit::Done)
}

/// Tells what is attached, then what arrives and what leaves, until told to stop.
pub fn watch(all: bool, common: &Common, cancel: &Cancel) -> Result<Exit, Failure> {
    let platform = platform(common)?;
    let tell = |event: &str, judged: &Judged| {
        let now = Timestamp::now();
        if all || judged.0.role() != Role::Virtual {
            put(&if common.json { json::event(event, judged, now) } else { table::event(event, judged, now) })?;
        }
        Ok::<(), Failure>(())
    };
    let mut known: Vec<Drive> = Vec::new();
    let mut is_first = true;
    while !cancel.is_set() {
        let attached = platform.drives()?;
        for gone in known.iter().filter(|known| !attached.iter().any(|now| now.is_still(known))) {
            tell("left", &judge(gone.clone()))?;
        }
        for new in attached.iter().filter(|now| !known.iter().any(|known| known.is_still(now))) {
            tell(if is_first { "attached" } else { "arrived" }, &judge(new.clone()))?;
        }
        if is_first {
            say(common, "waiting for drives to come and go; Ctrl-C ends it\n");
        }
        (known, is_first) = (attached, false);
        std::thread::sleep(BETWEEN);
    }
    Ok(Exit::Done)
}

/// Lists the rules of the guard.
pub fn explain(common: &Common) -> Result<Exit, Failure> {
    put(&if common.json { json::rules(&RULES, &IMAGE_RULES) } else { table::rules(&RULES, &IMAGE_RULES) })?;
    Ok(Exit::Done)
}
