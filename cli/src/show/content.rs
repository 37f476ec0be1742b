//! What is on a drive, in one screen.

use std::fmt::Write;
use std::path::Path;

use pyrotyp_core::bytes::human_bytes;
use pyrotyp_core::contents::{Contents, Listed};
use pyrotyp_core::drive::{Drive, Surface};
use pyrotyp_core::ledger::{JobRow, LastJob};
use pyrotyp_core::text::Shown;
use pyrotyp_core::text::foreign::quoted;
use pyrotyp_core::volume::Item;

use super::style::{FAINT, NAME};
use super::table::{link, role};
use crate::asked::Common;

/// Most entries shown of one volume, and of all volumes together.
const ITEMS_SHOWN: usize = 8;
const LINES_MOST: usize = 24;

/// Writing to a string never fails, so the result of `write!` is dropped.
macro_rules! add {
    ($out:expr, $($arg:tt)*) => { let _ = write!($out, $($arg)*); };
}

/// What this bench keeps of a drive.
#[derive(Clone, Copy)]
pub(crate) struct Records<'a> {
    /// The last job on it.
    pub(crate) last: Option<&'a LastJob>,
    /// What it begins like, in words.
    pub(crate) alike: Option<&'a str>,
}

/// It begins like what a job wrote.
pub(crate) fn by_job(job: &JobRow) -> String {
    let day = job.started.get(..10).unwrap_or(&job.started).shown();
    format!("it begins like {}, which job {} wrote on {day}", job.called().shown(), job.job.shown())
}

/// It begins like an image of the shelf.
pub(crate) fn by_shelf(path: &Path) -> String {
    format!("it begins like {} of the shelf", path.file_name().unwrap_or_default().shown())
}

/// The drive, its table, and every volume with what was changed last in it; `onto` is how a command names it that writes to it, if one may.
pub(crate) fn contents(
    drive: &Drive,
    found: &Contents,
    records: Records<'_>,
    onto: Option<&str>,
    common: &Common,
) -> String {
    let mut out = format!("{NAME}{}{NAME:#}  {} ({})\n", drive.tag, drive.name(), role(drive.role()));
    let has_parts = found.volumes.iter().any(|listed| listed.number.is_some());
    let table = match found.table {
        Some(table) => format!(", partition table {table}"),
        None if has_parts => String::new(),
        None => ", no partition table".to_owned(),
    };
    add!(out, "       {}, {}, {}{table}\n", human_bytes(drive.bytes), link(drive), drive.path);
    if let Some(image) = &found.image {
        add!(out, "       made from an image: {NAME}{}{NAME:#}\n", image.shown());
    }
    if let Some(LastJob { image, result, started, ended, .. }) = records.last {
        let day = |time: &str| time.get(..10).unwrap_or(time).shown();
        let what = match ended {
            Some(ended) => format!("{} on {}", result.word(), day(ended)),
            None => format!("begun on {} and not ended: it runs, or was cut off", day(started)),
        };
        add!(out, "       by this bench's records: {}, {what}\n", image.shown());
    }
    if let Some(alike) = records.alike {
        add!(out, "       {alike}\n");
    }
    if found.volumes.is_empty() {
        out.push_str(match found.surface {
            _ if found.table.is_some() => "       no partition in its table\n",
            Surface::Empty => "       nothing: it is empty, wherever it was looked at\n",
            Surface::Data | Surface::Unread => "       data of no kind that is known here\n",
        });
    }
    let each = (LINES_MOST / found.volumes.len().max(1)).clamp(2, ITEMS_SHOWN);
    for listed in &found.volumes {
        volume(&mut out, listed, if common.verbose { usize::MAX } else { each });
    }
    if let Some(onto) = onto.filter(|_| !common.quiet) {
        let is_empty = found.volumes.is_empty() && found.surface == Surface::Empty;
        let lost = if is_empty { "" } else { " destroys all of this" };
        add!(out, "next: pyrotyp write IMAGE {onto}{lost}\n");
    }
    out
}

fn volume(out: &mut String, listed: &Listed, most: usize) {
    let Listed { number, volume, used_bytes, items } = listed;
    let place = number.map_or("whole".to_owned(), |number| format!("part {number}"));
    let label = volume.label.as_ref().map_or(String::new(), |label| format!("{}  ", quoted(label)));
    let system = match (&volume.filesystem, volume.surface) {
        (Some(system), _) => system.shown(),
        (None, Surface::Empty) => "empty".to_owned(),
        (None, Surface::Data | Surface::Unread) => "data of no kind that is known here".to_owned(),
    };
    add!(out, "{place:<7}{NAME}{label}{NAME:#}{system}, {}", human_bytes(volume.bytes));
    if let Some(used) = used_bytes {
        add!(out, ", {} of it used", human_bytes(*used));
    }
    if let Some(at) = &volume.mounted_at {
        add!(out, ", mounted at {}", at.shown());
    }
    out.push('\n');
    let Some(items) = items else {
        if volume.filesystem.is_some() {
            out.push_str("       its files can't be listed here\n");
        }
        return;
    };
    if items.is_empty() {
        out.push_str("       no files\n");
    }
    for item in items.iter().take(most) {
        line(out, item);
    }
    let more = items.len().saturating_sub(most);
    if more > 0 {
        add!(out, "       {FAINT}and {more} more; -v shows them{FAINT:#}\n");
    }
}

fn line(out: &mut String, item: &Item) {
    let day = item.modified.map_or("          ".to_owned(), |time| time.date().to_string());
    let size = if item.is_folder { "folder".to_owned() } else { human_bytes(item.bytes) };
    add!(out, "       {day}  {size:>9}  {}\n", item.name.shown());
}
