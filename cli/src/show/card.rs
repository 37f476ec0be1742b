//! The card: what will be written where, what will be lost, and the one question.

use std::fmt::Write;
use std::path::Path;

use pyrotyp_core::bytes::human_bytes;
use pyrotyp_core::drive::{Bus, Drive, Surface};
use pyrotyp_core::image::Inspection;
use pyrotyp_core::job::ReadBack;
use pyrotyp_core::published::{Proof, Report};
use pyrotyp_core::text::Shown;
use pyrotyp_core::{Finding, FindingId};

use super::style::{CARE, NAME, of_level};
use super::{checked, inspected, table, text};

/// A link gives this many bytes a second for each megabit it has, after what the protocol takes.
const BYTES_PER_MEGABIT: u64 = 85_000;
/// No usual stick takes more than this, in bytes a second, whatever its link could do.
const STICK_BYTES_PER_SECOND: u64 = 60_000_000;

/// Below this, a guess in figures would be no better than words.
const A_FEW_SECONDS: f64 = 5.0;

/// What is found about the bench and no single drive: it is said once.
const OF_THE_BENCH: FindingId = FindingId::OthersAttached;

/// A drive on the card.
pub(crate) struct OnCard<'a> {
    pub drive: &'a Drive,
    pub findings: Vec<Finding>,
    /// What `--resume` will do on it.
    pub resuming: Option<&'a str>,
    /// What is to be typed for it.
    pub word: String,
}

/// The card.
pub(crate) fn card(
    path: &Path,
    inspection: &Inspection,
    checksum: &str,
    drives: &[OnCard<'_>],
    read_back: ReadBack,
) -> String {
    let mut rows: Vec<(&str, String)> = vec![("image", path.shown())];
    rows.extend(inspected::headlines(inspection).into_iter().map(|line| ("", line)));
    rows.extend([("", inspected::boots_line(inspection)), ("checksum", checksum.to_owned())]);
    for OnCard { drive, findings, resuming, .. } in drives {
        rows.extend([
            ("drive", format!("{NAME}{}{NAME:#}  {} ({})", drive.tag, drive.name(), table::role(drive.role()))),
            ("", format!("{}, {}, {}", human_bytes(drive.bytes), table::link(drive), drive.path)),
        ]);
        let lost = findings.iter().find(|finding| finding.id == FindingId::HasData);
        let lost = match (lost, drive.surface) {
            (Some(finding), _) => format!("everything on it; it {}", finding.text),
            (None, Surface::Empty) => "nothing: it is empty, wherever it was looked at".to_owned(),
            (None, _) => "whatever is on it: what that is could not be looked at".to_owned(),
        };
        rows.push(("lost", format!("{CARE}{lost}{CARE:#}")));
        rows.extend(resuming.map(|words| ("resume", words.to_owned())));
        rows.extend(
            findings.iter().filter(|finding| ![FindingId::HasData, OF_THE_BENCH].contains(&finding.id)).map(note),
        );
    }
    rows.extend(drives.iter().flat_map(|one| &one.findings).find(|finding| finding.id == OF_THE_BENCH).map(note));
    let bytes = inspection.needs_bytes.max(inspection.bytes);
    let times = drives.iter().filter_map(|one| expected_time(one.drive, bytes, read_back));
    rows.extend(times.max_by(|a, b| a.0.total_cmp(&b.0)).map(|(_, words)| ("time", words)));
    rows.extend(inspection.findings.iter().map(note));
    let mut out = String::from("\n");
    for (name, value) in rows {
        // Writing to a string never fails.
        let _ = writeln!(out, "  {name:<10}{value}");
    }
    out
}

/// Whether a drive on the card is called by its place, since its tag fits others.
pub(crate) fn has_places(drives: &[OnCard<'_>]) -> bool {
    drives.iter().any(|one| one.word != one.drive.tag.as_str())
}

/// The question.
pub(crate) fn question(drives: &[OnCard<'_>]) -> String {
    let words: Vec<&str> = drives.iter().map(|one| one.word.as_str()).collect();
    let (what, it, stays) = match (drives.len() > 1, has_places(drives)) {
        (false, false) => ("this drive and write the image, type its tag".to_owned(), "it", "it is"),
        (false, true) => {
            let why =
                format!("this drive and write the image, type where it is, {}: its tag fits others", words.join(" "));
            (why, "it", "it is")
        }
        (true, false) => ("these drives and write the image, type their tags".to_owned(), "them", "they are"),
        (true, true) => {
            let why = format!("these drives and write the image, type {}: some tags fit others", words.join(" "));
            (why, "them", "they are")
        }
    };
    format!("\nTo erase {what}; Enter alone leaves {it} as {stays}: ")
}

fn note(finding: &Finding) -> (&'static str, String) {
    let style = of_level(finding.level);
    ("note", format!("{style}{}{style:#}: {}", finding.id, finding.text))
}

/// What is proven of the image before it is written.
pub(crate) fn checksum_words(report: Option<&Report>) -> String {
    let unused = report.filter(|report| !report.unusable.is_empty()).map(|report| {
        let files = report.unusable.iter().filter_map(|(file, _)| file.file_name());
        let files: Vec<String> = files.map(|name| name.shown()).collect();
        format!("; {} can't be used", files.join(", "))
    });
    let none = format!("{CARE}not compared with any published one{}{CARE:#}", unused.unwrap_or_default());
    let Some(report) = report else { return none };
    let words = report.checked.iter();
    let words = words.map(|checked| format!("{} matches {}", checked.found.algorithm, checked.expected.source.shown()));
    let words = words.collect::<Vec<_>>().join(", ");
    match report.proof() {
        Proof::Signed(vouched) => {
            let owner = vouched.key.as_ref().map(checked::name_of).unwrap_or_default();
            let first =
                if vouched.is_first_use { format!(", {CARE}first use of its key{CARE:#}") } else { String::new() };
            let gap = if words.is_empty() { "" } else { ", " };
            format!("{words}{gap}signed by {owner}{first}")
        }
        Proof::Undamaged => format!("{none}; not damaged, by what the image carries inside"),
        Proof::Published | Proof::PublishedWeakly if report.missed_key.is_some() => {
            format!("{words}, {CARE}not signed, although this system was until now{CARE:#}")
        }
        Proof::Published | Proof::PublishedWeakly => words,
        Proof::Refuted | Proof::Nothing => none,
    }
}

/// A first guess, from the link and what sticks usually take, in seconds and in words; the truth shows once it runs.
fn expected_time(drive: &Drive, bytes: u64, read_back: ReadBack) -> Option<(f64, String)> {
    let is_read = read_back == ReadBack::Whole;
    let link = u64::from(drive.link_mbps?).checked_mul(BYTES_PER_MEGABIT)?;
    let write = if drive.bus == Bus::Usb { link.min(STICK_BYTES_PER_SECOND) } else { link };
    let seconds = bytes as f64 / write.max(1) as f64 + if is_read { bytes as f64 / link.max(1) as f64 } else { 0.0 };
    let part = if is_read { "with reading back" } else { "without reading back" };
    let words = if seconds < A_FEW_SECONDS {
        format!("a few seconds, {part}")
    } else {
        format!("about {} or more, {part}, as far as the link tells", text::duration(seconds))
    };
    Some((seconds, words))
}
