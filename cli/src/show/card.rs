//! The card: what will be written where, what will be lost, and the one question.

use std::fmt::Write;
use std::path::Path;

use pyrotyp_core::bytes::human_bytes;
use pyrotyp_core::devices::Whom;
use pyrotyp_core::drive::Surface;
use pyrotyp_core::examine::Check;
use pyrotyp_core::image::Inspection;
use pyrotyp_core::job::ReadBack;
use pyrotyp_core::plan::{ExpectedTime, PlannedDrive};
use pyrotyp_core::published::{Proof, Published, Report};
use pyrotyp_core::text::Shown;
use pyrotyp_core::{Finding, FindingId};

use super::gauged::LookDepth;
use super::style::{CARE, NAME, of_level};
use super::unpacked::UnpackedFiles;
use super::{checked, inspected, table, text};

/// Below this, a guess in figures would be no better than words.
const A_FEW_SECONDS: f64 = 5.0;

/// What is found about the bench and no single drive: it is said once.
const OF_THE_BENCH: FindingId = FindingId::OthersAttached;

/// A drive on the card.
pub(crate) struct OnCard<'a> {
    pub drive: &'a PlannedDrive,
    /// What `--resume` will do on it.
    pub resuming: Option<&'a str>,
    /// What is to be typed for it.
    pub word: String,
}

/// A line of the card: what it is about, and what is said of it.
type Row = (&'static str, String);

/// What will be on the drives.
#[derive(Clone, Copy)]
pub(crate) enum OnDrives<'a> {
    /// An image.
    Image {
        path: &'a Path,
        inspection: &'a Inspection,
        /// What is proven of it, in words.
        checksum: &'a str,
        /// What lies behind it, a line each.
        behind: &'a [String],
        /// Whether that is there already, and stays as it is.
        is_behind_kept: bool,
    },
    /// An empty volume, in words.
    Storage(&'a str),
    /// An image's files.
    Unpacked { path: &'a Path, checksum: &'a str, files: UnpackedFiles<'a> },
    /// Marks, which are taken off again, or a test pattern.
    Gauge { depth: LookDepth, bytes: u64 },
}

impl OnDrives<'_> {
    fn rows(&self) -> Vec<Row> {
        match self {
            Self::Image { path, inspection, checksum, behind, .. } => {
                let mut rows = vec![("image", path.shown())];
                rows.extend(inspected::headlines(inspection).into_iter().map(|line| ("", line)));
                rows.extend([("", inspected::boots_line(inspection)), ("checksum", (*checksum).to_owned())]);
                let names = std::iter::once("behind").chain(std::iter::repeat(""));
                rows.extend(names.zip(behind.iter().cloned()));
                rows
            }
            Self::Storage(words) => vec![("becomes", (*words).to_owned())],
            Self::Unpacked { path, checksum, files } => {
                let mut rows = vec![("image", path.shown())];
                rows.extend(files.inspection.title().map(|title| ("", title.shown())));
                rows.push(("checksum", (*checksum).to_owned()));
                rows.push(("becomes", files.words()));
                rows.push(("", inspected::boots_line(files.inspection)));
                rows.extend(files.left_out_words().into_iter().map(|line| ("", line)));
                rows
            }
            Self::Gauge { depth: LookDepth::Whole, .. } => {
                vec![("becomes", "a test pattern from its start to its end, read back".to_owned())]
            }
            Self::Gauge { bytes, .. } => {
                let bytes = human_bytes(*bytes);
                vec![(
                    "look",
                    format!(
                        "marks in places of it, {bytes} in all; what lies there is kept on this bench, and put back"
                    ),
                )]
            }
        }
    }

    /// What is to be done, as the question has it.
    fn done(&self) -> &'static str {
        match self {
            Self::Image { .. } => "write the image",
            Self::Storage(_) => "make it plain storage",
            Self::Unpacked { .. } => "lay the files out on it",
            Self::Gauge { depth: LookDepth::Whole, .. } => "test all of it",
            Self::Gauge { .. } => "put back what was there",
        }
    }

    /// Whether partitions behind the image stay.
    fn keeps_behind(&self) -> bool {
        matches!(self, Self::Image { is_behind_kept: true, .. })
    }

    /// Whether what is on the drives will be there afterwards.
    fn leaves_all(&self) -> bool {
        matches!(self, Self::Gauge { depth: LookDepth::Quick | LookDepth::Read, .. })
    }
}

/// The card.
pub(crate) fn card(content: OnDrives<'_>, drives: &[OnCard<'_>], read_back: ReadBack) -> String {
    let mut rows = content.rows();
    for OnCard { drive: PlannedDrive { choice, findings, .. }, resuming, .. } in drives {
        let drive = &choice.drive;
        rows.extend([
            ("drive", format!("{NAME}{}{NAME:#}  {} ({})", drive.tag, drive.name(), table::role(drive.role()))),
            ("", format!("{}, {}, {}", human_bytes(drive.bytes), table::link(drive), drive.path)),
        ]);
        let lost = findings.iter().find(|finding| finding.id == FindingId::HasData);
        let lost = match (lost, drive.holds.surface) {
            (Some(finding), _) if content.keeps_behind() => {
                format!("everything on it but what lies behind the image; it {}", finding.text)
            }
            (Some(finding), _) => format!("everything on it; it {}", finding.text),
            (None, Surface::Empty) => "nothing: it is empty, wherever it was looked at".to_owned(),
            (None, _) => "whatever is on it: what that is could not be looked at".to_owned(),
        };
        if content.leaves_all() {
            let holds = findings.iter().find(|finding| finding.id == FindingId::HasData);
            let kept = holds.map_or(String::new(), |finding| format!(": it {}, and keeps that", finding.text));
            rows.push(("lost", format!("nothing{kept}")));
        } else {
            rows.push(("lost", format!("{CARE}{lost}{CARE:#}")));
        }
        rows.extend(resuming.map(|words| ("resume", words.to_owned())));
        rows.extend(
            findings.iter().filter(|finding| ![FindingId::HasData, OF_THE_BENCH].contains(&finding.id)).map(note),
        );
    }
    rows.extend(drives.iter().flat_map(|one| &one.drive.findings).find(|finding| finding.id == OF_THE_BENCH).map(note));
    let whom = drives.iter().filter_map(|one| one.drive.opening?.whom()).max();
    rows.extend(whom.map(|whom| ("rights", opened_words(whom).to_owned())));
    let times = drives.iter().filter_map(|one| one.drive.expected);
    rows.extend(
        times.max_by(|a, b| a.seconds.total_cmp(&b.seconds)).map(|time| ("time", expected_words(time, read_back))),
    );
    if let OnDrives::Image { inspection, .. } | OnDrives::Unpacked { files: UnpackedFiles { inspection, .. }, .. } =
        content
    {
        rows.extend(inspection.findings.iter().map(note));
    }
    let mut out = String::from("\n");
    for (name, value) in rows {
        // Writing to a string never fails.
        let _ = writeln!(out, "  {name:<10}{value}");
    }
    out
}

/// Whether a drive on the card is called by its place, since its tag fits others.
pub(crate) fn has_places(drives: &[OnCard<'_>]) -> bool {
    drives.iter().any(|one| one.word != one.drive.choice.drive.tag.as_str())
}

/// The question.
pub(crate) fn question(content: OnDrives<'_>, drives: &[OnCard<'_>]) -> String {
    let done = content.done();
    let words: Vec<&str> = drives.iter().map(|one| one.word.as_str()).collect();
    let (what, it, stays) = match (drives.len() > 1, has_places(drives)) {
        (false, false) => (format!("this drive and {done}, type its tag"), "it", "it is"),
        (false, true) => {
            let why = format!("this drive and {done}, type where it is, {}: its tag fits others", words.join(" "));
            (why, "it", "it is")
        }
        (true, false) => (format!("these drives and {done}, type their tags"), "them", "they are"),
        (true, true) => {
            let why = format!("these drives and {done}, type {}: some tags fit others", words.join(" "));
            (why, "them", "they are")
        }
    };
    let verb = if content.leaves_all() { "mark" } else { "erase" };
    format!("\nTo {verb} {what}; Enter alone leaves {it} as {stays}: ")
}

/// Who opens the drives, and whom the system asks before that.
fn opened_words(whom: Whom) -> &'static str {
    match whom {
        Whom::Nobody => "the system's disk service opens the drive, and asks for no password",
        Whom::Person => "the system's disk service opens the drive, and asks for your password first",
        Whom::Administrator => {
            "the system's disk service opens the drive, and asks for an administrator's password first"
        }
    }
}

fn note(finding: &Finding) -> Row {
    let style = of_level(finding.level);
    ("note", format!("{style}{}{style:#}: {}", finding.id, finding.text))
}

/// What is proven of the image before it is written.
pub(crate) fn checksum_words(report: Option<&Report>) -> String {
    let unused = report.filter(|report| !report.unusable.is_empty()).map(|report| {
        let files = report.unusable.iter().filter_map(|unusable| unusable.file.file_name());
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

/// What the image is being compared with while the question is open.
pub(crate) fn comparing_words(checks: &[Check], published: &Published) -> String {
    let mut words: Vec<String> = Vec::new();
    for expected in &published.expected {
        let kinds: Vec<String> = expected.algorithms().map(|algorithm| algorithm.to_string()).collect();
        words.push(format!("{} with {}", kinds.join(" or "), expected.source.shown()));
    }
    words.extend(published.torrents.iter().map(|(path, _)| format!("pieces with {}", path.shown())));
    words.extend(published.signatures.iter().map(|signature| format!("the signature {}", signature.file.shown())));
    let none = format!("{CARE}there is no published one to compare with{CARE:#}");
    let compared = if words.is_empty() { none } else { format!("being compared: {}", words.join(", ")) };
    let unpacked = if checks.contains(&Check::Unpack) { "; being unpacked, to see that it is whole" } else { "" };
    let inside = if words.is_empty() && checks.contains(&Check::Inside) {
        "; what it carries inside is being looked at"
    } else {
        ""
    };
    format!("{compared}{inside}{unpacked}; nothing is erased before that is right")
}

/// A first guess, in words; the truth shows once it runs.
fn expected_words(expected: ExpectedTime, read_back: ReadBack) -> String {
    let part = if read_back == ReadBack::Whole { "with reading back" } else { "without reading back" };
    if expected.seconds < A_FEW_SECONDS {
        format!("a few seconds, {part}")
    } else {
        format!("about {} or more, {part}, as far as the link tells", text::duration(expected.seconds))
    }
}
