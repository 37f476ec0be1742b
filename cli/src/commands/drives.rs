//! `pyrotyp drives`: what is attached, what comes and goes, and what can speak against it.

use std::time::Duration;

use jiff::Timestamp;
use pyrotyp_core::bytes::human_bytes;
use pyrotyp_core::devices::Platform;
use pyrotyp_core::drive::{Drive, Role};
use pyrotyp_core::guard::{Circumstances, Confirmed, IMAGE_RULES, RULES, findings};
use pyrotyp_core::stop::Cancel;
use pyrotyp_core::text::shell;
use pyrotyp_core::{Finding, Level};

use super::platform;
use super::settings::survey;
use crate::asked::Common;
use crate::exit::{Exit, Failure};
use crate::show::{json, table};
use crate::{put, put_as_it_is, put_document, put_while_read, say};

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

/// Every drive that is attached, with what speaks against it.
fn judged(platform: &dyn Platform, common: &Common) -> Result<Vec<Judged>, Failure> {
    let known = survey(platform, common, None, &[], Confirmed::ByPerson)?;
    Ok(platform.drives()?.into_iter().map(|drive| judge(drive, &known)).collect())
}

/// How a command goes on that is to write to this drive, with what must be accepted for it; `None` where no command may, and where that
/// can't be told.
pub fn onto(platform: &dyn Platform, drive: &Drive, common: &Common) -> Option<String> {
    let known = survey(platform, common, None, &[], Confirmed::ByPerson).ok()?;
    let (drive, found) = judge(drive.clone(), &known);
    let accept = found.iter().filter(|finding| finding.level == Level::Ask);
    let accept: String = accept.map(|finding| format!(" --accept {}", finding.id)).collect();
    let is_free = found.iter().all(|finding| finding.level != Level::Stop);
    is_free.then(|| format!("--to {}{accept}", shell::word(drive.tag.as_str())))
}

/// No drive was named: those that could be meant, for a `command` that ends before `--to`.
pub fn which(command: &str, common: &Common) -> Result<Failure, Failure> {
    let judged = judged(&*platform(common)?, common)?;
    let is_free = |row: &&Judged| can_be_chosen(row) && row.1.iter().all(|finding| finding.level == Level::Note);
    let meant: Vec<&Drive> = judged.iter().filter(is_free).map(|(drive, _)| drive).collect();
    let mut text = "no drive is named".to_owned();
    for drive in &meant {
        let (tag, name, size) = (&drive.tag, drive.name(), human_bytes(drive.bytes));
        text.push_str(&format!("\n   {tag}  {name}, {size}, {}", drive.path));
    }
    let next = match meant.as_slice() {
        [] => "plug one in, and name it with --to TAG; pyrotyp drives --all shows what is attached".to_owned(),
        [one] => format!("{command} --to {}", shell::word(one.tag.as_str())),
        _ => format!("{command} --to TAG, with the tag of the one that is meant"),
    };
    Ok(Failure::new(Exit::Usage, text, next))
}

/// Lists the drives; those that can't be chosen only if `all` are asked for.
pub fn run(all: bool, common: &Common) -> Result<Exit, Failure> {
    let judged = judged(&*platform(common)?, common)?;
    let total = judged.len();
    let shown: Vec<_> = judged.into_iter().filter(|row| all || can_be_chosen(row)).collect();
    match common.json {
        true => put_document(&json::drives(&shown))?,
        false => put(&table::drives(&shown, total - shown.len(), common))?,
    }
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
        let is_read = if common.json { put_as_it_is } else { put_while_read };
        if !text.is_empty() && !is_read(&text)? {
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
    match common.json {
        true => put_document(&json::rules(&RULES, &IMAGE_RULES))?,
        false => put(&table::rules(&RULES, &IMAGE_RULES))?,
    }
    Ok(Exit::Done)
}
