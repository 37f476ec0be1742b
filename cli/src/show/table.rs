//! Drives and rules, in lines that stand below each other.

use jiff::Timestamp;
use jiff::tz::TimeZone;
use pyrotyp_core::bytes::human_bytes;
use pyrotyp_core::drive::{Drive, Role};
use pyrotyp_core::guard::{Judged, Rule};
use pyrotyp_core::text::Shown;
use pyrotyp_core::{Finding, FindingId, Level};
use unicode_width::UnicodeWidthStr;

use super::style::{FAINT, NAME, of_level};
use crate::asked::Common;

const HEADINGS: [&str; 6] = ["TAG", "ROLE", "DRIVE", "SIZE", "LINK", "PATH"];

/// All rows, with what speaks against each drive below it; `hidden` more were left out.
pub(crate) fn drives(shown: &[Judged], hidden: usize, common: &Common) -> String {
    let mut out = String::new();
    if shown.is_empty() {
        out.push_str("no drive is attached that could be written\n");
    } else {
        let rows: Vec<_> = shown.iter().map(|judged| cells(&judged.drive)).collect();
        let width = |column: usize| {
            let cells = rows.iter().map(|row| row[column].width());
            cells.chain([HEADINGS[column].width()]).max().unwrap_or_default()
        };
        let widths: [usize; 6] = std::array::from_fn(width);
        let heading = line(&HEADINGS.map(str::to_owned), &widths);
        out.push_str(&format!("{FAINT}{}{FAINT:#}\n", heading));
        for (Judged { drive, findings }, row) in shown.iter().zip(&rows) {
            let row = line(row, &widths);
            let (tag, rest) = row.split_at_checked(drive.tag.as_str().len()).unwrap_or((&row, ""));
            out.push_str(&format!("{NAME}{tag}{NAME:#}{rest}\n"));
            if let Some(port) = &drive.link.port {
                out.push_str(&format!("       {FAINT}in {}{FAINT:#}\n", port.words()));
            }
            for finding in findings.iter().filter(|finding| finding.id != FindingId::VirtualDrive || common.verbose) {
                out.push_str(&finding_line(finding));
            }
            if common.verbose {
                out.push_str(&details(drive));
            }
        }
    }
    if !common.quiet {
        if hidden > 0 {
            let drives = if hidden == 1 { "drive is" } else { "drives are" };
            out.push_str(&format!("{hidden} more {drives} attached that can't be chosen: pyrotyp drives --all\n"));
        }
        if shown.iter().any(|Judged { drive, .. }| matches!(drive.role(), Role::Stick | Role::Card) && drive.bytes > 0)
        {
            out.push_str("next: pyrotyp write IMAGE --to TAG\n");
        }
    }
    out
}

/// One line of `drives --watch`.
pub(crate) fn event(event: &str, Judged { drive, findings }: &Judged, time: Timestamp) -> String {
    let time = time.to_zoned(TimeZone::system()).strftime("%H:%M:%S");
    let style = if event == "left" { FAINT } else { NAME };
    let [tag, role, name, size, link, path] = cells(drive);
    let mut out = format!("{time}  {event:<8}  {style}{tag}{style:#}  {role}, {name}, {size}, {link}, {path}\n");
    if event != "left" {
        findings.iter().for_each(|finding| out.push_str(&finding_line(finding)));
    }
    out
}

/// Every rule of the guard.
pub(crate) fn rules(about_drives: &[Rule], about_images: &[Rule]) -> String {
    let mut out = String::new();
    for (about, rules) in [("about drives", about_drives), ("about images", about_images)] {
        out.push_str(&format!("{FAINT}{about}{FAINT:#}\n"));
        for rule in rules {
            let (style, id) = (of_level(rule.level), rule.id);
            let level = match rule.level {
                Level::Stop => "stop",
                Level::Ask => "ask",
                Level::Note => "note",
            };
            out.push_str(&format!("  {style}{level:<4}{style:#}  {id:<20}  {}\n", rule.when));
        }
    }
    out.push_str("stop: no option lifts it. ask: --accept ID lifts it. note: it stands in nobody's way.\n");
    out
}

fn finding_line(finding: &Finding) -> String {
    let style = of_level(finding.level);
    match finding.level {
        Level::Note if finding.next.is_empty() => format!("       {FAINT}{}{FAINT:#}\n", finding.text),
        Level::Note => format!("       {}\n       next: {}\n", finding.text, finding.next),
        _ => format!("       {style}{}{style:#}: {}\n", finding.id, finding.text),
    }
}

fn cells(drive: &Drive) -> [String; 6] {
    [
        drive.tag.to_string(),
        role(drive.role()).to_owned(),
        drive.name(),
        if drive.bytes == 0 { "no card".to_owned() } else { human_bytes(drive.bytes) },
        link(drive),
        drive.path.clone(),
    ]
}

fn line(cells: &[String; 6], widths: &[usize; 6]) -> String {
    let mut out = String::new();
    for (cell, width) in cells.iter().zip(widths) {
        let gap = " ".repeat(width.saturating_sub(cell.width()) + 2);
        out.push_str(cell);
        out.push_str(&gap);
    }
    out.trim_end().to_owned()
}

/// A role in one word.
pub(crate) fn role(role: Role) -> &'static str {
    match role {
        Role::Stick => "stick",
        Role::Card => "card",
        Role::External => "external",
        Role::Internal => "internal",
        Role::System => "system",
        Role::Virtual => "virtual",
    }
}

/// How the drive is attached, and how fast that can be.
pub(crate) fn link(drive: &Drive) -> String {
    let bus = drive.link.bus.name();
    match drive.link.mbps {
        Some(mbps) if mbps >= 1000 => format!("{bus} {} Gb/s", f64::from(mbps) / 1000.0),
        Some(mbps) => format!("{bus} {mbps} Mb/s"),
        None => bus.to_owned(),
    }
}

fn details(drive: &Drive) -> String {
    let mut out = String::new();
    if let Some(serial) = &drive.says.serial {
        out.push_str(&format!("       serial {}\n", serial.shown()));
    }
    for link in &drive.links {
        out.push_str(&format!("       {}\n", link.shown()));
    }
    out
}
