//! The shelf and the catalogue, for people.

use std::fmt::Write;
use std::path::Path;

use jiff::civil::Date;
use pyrotyp_core::bytes::human_bytes;
use pyrotyp_core::catalogue::Pick;
use pyrotyp_core::published::{Proof, Report};
use pyrotyp_core::shelf::Item;
use pyrotyp_core::text::Shown;
use pyrotyp_core::{Finding, FindingId};
use unicode_width::UnicodeWidthStr;

use super::style::{BAD, CARE, FAINT, GOOD, NAME};
use crate::asked::Common;
use crate::exit::Failure;

/// An image of the shelf, with what else is known of it.
pub(crate) struct Row {
    /// Its entry.
    pub item: Item,
    /// Length of its file, in bytes.
    pub bytes: u64,
    /// Tags of the drives on which it is, by the records of this bench.
    pub on: Vec<String>,
    /// What the catalogue and the rest of the shelf say of its age.
    pub findings: Vec<Finding>,
}

/// An image of the shelf that was read again.
pub(crate) struct Verified {
    /// Its entry.
    pub item: Item,
    /// What was found out about it.
    pub report: Report,
    /// What speaks against it.
    pub fault: Option<Failure>,
}

const HEADINGS: [&str; 6] = ["NAME", "WHAT", "FOR", "SIZE", "CHECKED", "ON"];

/// What a word of the catalogue led to.
pub(crate) fn picked(pick: &Pick<'_>, today: Date) -> String {
    let mut out = pick.title().shown();
    if pick.release.is_some_and(|release| release.long_term) {
        out.push_str(", long-term release");
    }
    match pick.release.and_then(|release| release.supported_until) {
        Some(until) if pick.is_supported(today) => {
            let _ = write!(out, ", supported until {until}");
        }
        Some(until) => {
            let _ = write!(out, ", {CARE}out of support{CARE:#} since {until}");
        }
        None => {}
    }
    out.push('\n');
    out
}

/// Every image of the shelf, a line each, with what there is to say of its age below it.
pub(crate) fn list(rows: &[Row], folder: &Path, common: &Common) -> String {
    if rows.is_empty() {
        let next = "  next: pyrotyp fetch ADDRESS, or pyrotyp shelf add FILE\n";
        return format!("the shelf is empty\n{}", if common.quiet { "" } else { next });
    }
    let mut out = table(rows);
    if !common.quiet {
        let total = human_bytes(rows.iter().map(|row| row.bytes).sum());
        let _ = writeln!(out, "{} in {}", total, folder.shown());
        out.push_str("next: pyrotyp write NAME --to TAG\n");
    }
    out
}

fn table(rows: &[Row]) -> String {
    let cells: Vec<[String; 6]> = rows.iter().map(cells).collect();
    let width = |column: usize| {
        let all = cells.iter().filter_map(|row| row.get(column)).map(|cell| cell.width());
        all.chain(HEADINGS.get(column).map(|heading| heading.width())).max().unwrap_or(0)
    };
    let line = |cells: &[String; 6]| {
        let padded = cells
            .iter()
            .enumerate()
            .map(|(column, cell)| format!("{cell}{}", " ".repeat(width(column).saturating_sub(cell.width()) + 2)));
        padded.collect::<String>().trim_end().to_owned()
    };
    let mut out = format!("{FAINT}{}{FAINT:#}\n", line(&HEADINGS.map(str::to_owned)));
    for (row, cells) in rows.iter().zip(&cells) {
        let text = line(cells);
        let (name, rest) = text.split_at_checked(row.item.name().shown().len()).unwrap_or((&text, ""));
        let _ = writeln!(out, "{NAME}{name}{NAME:#}{rest}");
        for finding in &row.findings {
            let style = if finding.id == FindingId::OutOfSupport { CARE } else { FAINT };
            let _ = writeln!(out, "  {style}{}{style:#}", finding.text);
        }
    }
    out
}

fn cells(row: &Row) -> [String; 6] {
    let item = &row.item;
    let what = [&item.system, &item.version, &item.edition];
    let what: Vec<&str> = what.into_iter().flatten().map(String::as_str).collect();
    let what =
        if what.is_empty() { item.label.clone().unwrap_or_else(|| "unknown".to_owned()) } else { what.join(" ") };
    let day = item.checked.as_deref().and_then(|time| time.get(..10));
    let checked = match (day, item.proof.as_deref()) {
        _ if item.damaged.is_some() => "damaged".to_owned(),
        (Some(day), Some("nothing") | None) => format!("{day}, nothing proven"),
        (Some(day), Some(proof)) => format!("{day}, {}", proof.replace("published-weakly", "weakly")),
        (None, _) => "never".to_owned(),
    };
    let on = match row.on.len() {
        0 => "no stick".to_owned(),
        1 => "1 stick".to_owned(),
        many => format!("{many} sticks"),
    };
    let architecture = item.architecture.clone().unwrap_or_else(|| "?".to_owned());
    [item.name().to_owned(), what, architecture, human_bytes(row.bytes), checked, on].map(|cell| cell.shown())
}

/// How one image of `shelf verify` came out.
pub(crate) fn verified(verified: &Verified) -> String {
    let Verified { item, report, fault } = verified;
    let (style, word) = match (fault.is_none(), report.checked.is_empty()) {
        (true, false) => (GOOD, "matches"),
        (true, true) => (CARE, "read, and nothing to compare it with"),
        (false, _) if report.sums.is_empty() => (BAD, "can't be verified"),
        (false, _) => (BAD, "does not match"),
    };
    let has_proof = style != BAD && !matches!(report.proof(), Proof::Nothing);
    let proof = if has_proof { format!(" ({})", report.proof().word()) } else { String::new() };
    format!("{style}{word}{style:#}: {}{proof}\n", item.name().shown())
}

/// Whether old images are removed, or only told.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Pruning {
    /// Told.
    Planned,
    /// Removed.
    Done,
}

/// What `shelf prune` removes, or would remove.
pub(crate) fn plan(old: &[Row], days: u32, pruning: Pruning, freed: &str, common: &Common) -> String {
    if old.is_empty() {
        return format!("nothing on the shelf is older than {days} days\n");
    }
    let mut out = table(old);
    let images = if old.len() == 1 { "1 image".to_owned() } else { format!("{} images", old.len()) };
    let _ = match pruning {
        Pruning::Done => writeln!(out, "removed: {images}, {freed}"),
        Pruning::Planned => writeln!(out, "would be removed, unused for more than {days} days: {images}, {freed}"),
    };
    if pruning == Pruning::Planned && !common.quiet {
        out.push_str("next: the same with --go; to keep one, check it: pyrotyp check NAME\n");
    }
    out
}
