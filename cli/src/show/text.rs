//! How writing and comparing came out, for people.

use std::fmt::Write;
use std::path::Path;

use pyrotyp_core::bytes::human_bytes;
use pyrotyp_core::compose::{Storage, TableForm, VolumeKind};
use pyrotyp_core::drive::Drive;
use pyrotyp_core::image::Inspection;
use pyrotyp_core::job::{Comparison, Outcome};
use pyrotyp_core::ledger::JobRow;
use pyrotyp_core::record::{Conclusion, Difference, Head, JobResult, SparePartition, Stage};
use pyrotyp_core::text::foreign::{all_shown, quoted};
use pyrotyp_core::text::{Shown, shell};

use super::inspected::boots_line;
use super::style::{BAD, CARE, FAINT, GOOD};
use super::unpacked::UnpackedFiles;
use crate::asked::Common;

/// Most differences shown one by one.
const DIFFERENCES_SHOWN: usize = 12;

/// Below this there is too little room for FAT32, and an older FAT takes its place.
const FAT32_LEAST: u64 = 540_000_000;

/// Writing to a string never fails, so the result of `write!` is dropped.
macro_rules! add {
    ($out:expr, $($arg:tt)*) => { let _ = write!($out, $($arg)*); };
}

/// What is known of a drive beside its comparison.
#[derive(Clone, Copy)]
pub(crate) struct AboutDrive<'a> {
    /// What is on it where that is something else than the image.
    pub(crate) holds: Option<&'a str>,
    /// How a command names it that writes to it, if one may.
    pub(crate) onto: Option<&'a str>,
    /// What lies behind the image, and was not compared.
    pub(crate) spare: &'a [SparePartition],
}

/// How a comparison came out.
pub(crate) fn compared(
    drive: &Drive,
    path: &Path,
    compared: &Comparison,
    known: AboutDrive<'_>,
    common: &Common,
) -> String {
    let AboutDrive { holds, onto, spare } = known;
    let (name, file) = (drive.name(), path.shown());
    if compared.result == JobResult::Verified {
        let size = human_bytes(compared.bytes);
        let tag = &drive.tag;
        let but = if spare.is_empty() { "" } else { " but for what enters the partition behind it" };
        let verified = format!("drive {tag} ({name}) holds {file}, {size} read and equal byte for byte{but}");
        return format!("{GOOD}verified{GOOD:#}: {verified}\n{}", not_compared(spare));
    }
    let mut out = format!("{BAD}differs{BAD:#}: drive {} ({name}) does not hold {file}\n", drive.tag);
    match (compared.conclusion, holds) {
        (Some(_), Some(holds)) => {
            add!(out, "  {CARE}it holds {holds}, not this image{CARE:#}\n");
        }
        (Some(conclusion), None) => {
            add!(out, "  {CARE}{conclusion}{CARE:#}\n");
        }
        (None, _) => {}
    }
    // Where another image lies, each place in which the two differ says nothing.
    if compared.conclusion != Some(Conclusion::OtherContent) {
        out.push_str(&differences(&compared.differences, compared.more_differences));
    }
    if !common.quiet
        && let Some(conclusion) = compared.conclusion
    {
        match conclusion {
            Conclusion::OtherContent => {
                add!(out, "  next: pyrotyp contents {} shows what is on it\n", drive.tag);
            }
            _ => {
                add!(out, "  next: {}\n", conclusion.next_step());
            }
        }
        if let Some(onto) = onto.filter(|_| matches!(conclusion, Conclusion::ChangedLater | Conclusion::LookedAt)) {
            add!(out, "        pyrotyp write {} {onto} --only-changed\n", shell::path(path));
        }
    }
    out
}

/// What lies behind an image, and belongs to whoever uses the drive.
fn not_compared(spare: &[SparePartition]) -> String {
    spare.iter().map(|one| format!("  not compared: {}\n", partition_words(one))).collect()
}

/// How a comparison with the digests of a job came out.
pub(crate) fn compared_with_job(
    drive: &Drive,
    job: &JobRow,
    compared: &Comparison,
    spare: &[SparePartition],
    common: &Common,
) -> String {
    let (tag, name, day) = (&drive.tag, drive.name(), job.started.get(..10).unwrap_or(&job.started).shown());
    let (what, size) = (job.called().shown(), human_bytes(compared.bytes));
    let by = format!("by the digests that job {} kept on {day}", job.job.shown());
    if compared.result == JobResult::Verified {
        let verified = format!("drive {tag} ({name}) holds all of {what}, {size} read, every block equal {by}");
        return format!("{GOOD}verified{GOOD:#}: {verified}\n{}", not_compared(spare));
    }
    let mut out = format!("{BAD}differs{BAD:#}: drive {tag} ({name}) does not hold {what}, {by}\n");
    if let Some(conclusion) = compared.conclusion {
        add!(out, "  {CARE}{conclusion}{CARE:#}\n");
    }
    out.push_str(&differences(&compared.differences, compared.more_differences));
    if !common.quiet {
        add!(out, "  next: pyrotyp compare {tag} IMAGE tells the bytes and the files\n");
    }
    out
}

/// Differences, a line each.
fn differences(all: &[Difference], more: u64) -> String {
    let mut out = String::new();
    for difference in all.iter().take(DIFFERENCES_SHOWN) {
        let Difference { offset, bytes, cause, file } = difference;
        let unit = if *bytes == 1 { "byte" } else { "bytes" };
        add!(out, "  at byte {offset}, {bytes} {unit}: {}", cause.words());
        match file {
            Some(file) => {
                add!(out, ", in {}\n", file.shown());
            }
            None => out.push('\n'),
        }
    }
    let hidden = all.len().saturating_sub(DIFFERENCES_SHOWN) as u64 + more;
    if hidden > 0 {
        add!(out, "  {FAINT}and {hidden} more; --json lists {}{FAINT:#}\n", all.len());
    }
    out
}

/// What a drive is called, and its place as well where its tag may be another's too.
pub(crate) fn called(drive: &Drive) -> String {
    if drive.tag.is_unsure() { format!("{}, {}", drive.name(), drive.path) } else { drive.name() }
}

/// An image that was written.
#[derive(Clone, Copy)]
pub(crate) struct WrittenImage<'a> {
    pub(crate) path: &'a Path,
    pub(crate) inspection: &'a Inspection,
    /// Its SHA-256.
    pub(crate) sum: Option<&'a str>,
    /// What lies behind it.
    pub(crate) spare: &'a [SparePartition],
}

/// A partition behind an image.
pub(crate) fn partition_words(partition: &SparePartition) -> String {
    let SparePartition { number, bytes, filesystem, label, .. } = partition;
    format!("partition {number} {}, {}, {}", quoted(label), filesystem.shown(), human_bytes(*bytes))
}

/// How a job ended.
pub(crate) fn written(image: WrittenImage<'_>, drive: &Drive, outcome: &Outcome, common: &Common) -> String {
    let WrittenImage { path, inspection, sum, spare } = image;
    let what = inspection.title();
    let what = what.map_or_else(|| path.shown(), |what| what.shown());
    let Some(mut out) = brought(&what, drive, outcome) else {
        return if outcome.told.result == JobResult::Differs { differing(drive, outcome) } else { String::new() };
    };
    out.push_str(&how_it_went(outcome));
    if let Some(sum) = sum {
        add!(out, "  SHA-256 {sum}\n");
    }
    for partition in spare {
        add!(out, "  behind it: {}\n", partition_words(partition));
    }
    if !common.quiet {
        out.push_str(&handed_over(outcome, &format!("pyrotyp compare {} {}", drive.tag, shell::path(path))));
    }
    out
}

/// That something is on a drive, and how far that is proven; nothing if it is not.
fn brought(what: &str, drive: &Drive, outcome: &Outcome) -> Option<String> {
    let (name, tag) = (called(drive), &drive.tag);
    match outcome.told.result {
        JobResult::Verified => Some(format!(
            "{GOOD}verified{GOOD:#}: {what} is on drive {tag} ({name}), read back and equal byte for byte\n"
        )),
        JobResult::Written => Some(format!(
            "{CARE}written{CARE:#}: {what} is on drive {tag} ({name}); it was not read back, nothing is proven\n"
        )),
        JobResult::Differs | JobResult::Refused | JobResult::Failed | JobResult::Stopped => None,
    }
}

/// What to do next with a stick that is to start a PC: where it is not proven, `proving` does that.
fn handed_over(outcome: &Outcome, proving: &str) -> String {
    match outcome.told.result {
        JobResult::Verified => {
            "  next: pull the stick out; on the other PC, choose it in the one-time boot menu (F12, F11, F9 or Esc)\n"
                .to_owned()
        }
        _ => format!("  next: {proving}\n"),
    }
}

/// A drive that does not hold what was written to it just now.
fn differing(drive: &Drive, outcome: &Outcome) -> String {
    let what = outcome.told.conclusion;
    let what = what.map_or("it does not keep what is written to it".to_owned(), |it| it.to_string());
    let mut out = format!("{BAD}differs{BAD:#}: drive {} ({}): {what}\n", drive.tag, called(drive));
    out.push_str(&differences(&outcome.told.differences, outcome.told.more_differences));
    out.push_str(&opener_warning(outcome));
    out
}

/// Warns about programs that had the drive open when the job ended.
fn opener_warning(outcome: &Outcome) -> String {
    let programs = &outcome.told.opened_by;
    if programs.is_empty() {
        return String::new();
    }
    format!("  {CARE}{} still has the drive open and can change it{CARE:#}\n", all_shown(programs))
}

/// How a drive came back to plain storage.
pub(crate) fn reclaimed(storage: &Storage, drive: &Drive, outcome: &Outcome, common: &Common) -> String {
    let (name, tag, what) = (called(drive), &drive.tag, storage_words(storage));
    match outcome.told.result {
        JobResult::Verified => {
            let mut out = format!("{GOOD}reclaimed{GOOD:#}: drive {tag} ({name}) is {what}\n");
            out.push_str(&how_it_went(outcome));
            if !common.quiet {
                out.push_str("  next: pull it out and plug it in again, and it is there to be used\n");
            }
            out
        }
        JobResult::Differs => differing(drive, outcome),
        JobResult::Written | JobResult::Refused | JobResult::Failed | JobResult::Stopped => String::new(),
    }
}

/// What came of an image's files.
pub(crate) fn unpacked(files: UnpackedFiles<'_>, drive: &Drive, outcome: &Outcome, common: &Common) -> String {
    let title = files.inspection.title().map_or_else(String::new, |title| format!("{}, ", title.shown()));
    let Some(mut out) = brought(&format!("{title}{}", files.words()), drive, outcome) else {
        return if outcome.told.result == JobResult::Differs { differing(drive, outcome) } else { String::new() };
    };
    out.push_str(&how_it_went(outcome));
    add!(out, "  {}\n", boots_line(files.inspection));
    for line in files.left_out_words() {
        add!(out, "  {line}\n");
    }
    if !common.quiet {
        out.push_str(&handed_over(outcome, &format!("pyrotyp compare {}", drive.tag)));
    }
    out
}

/// What a drive becomes.
pub(crate) fn storage_words(storage: &Storage) -> String {
    let Storage { kind, table, label, drive_bytes, .. } = storage;
    let kind = match kind {
        VolumeKind::Fat32 if *drive_bytes < FAT32_LEAST => "FAT",
        VolumeKind::Fat32 => "FAT32",
        VolumeKind::Exfat => "exFAT",
        VolumeKind::Ext4 => "ext4",
    };
    let label = if label.is_empty() { "without a label".to_owned() } else { format!("\"{label}\"") };
    let table = match table {
        TableForm::Mbr => "in a master boot record",
        TableForm::Gpt => "in a GUID partition table",
        TableForm::None => "without a table of partitions",
    };
    format!("plain storage: one empty {kind} volume {label}, {}, {table}", human_bytes(*drive_bytes))
}

/// What was moved, how long each part of it took, and what needed a second try.
fn how_it_went(outcome: &Outcome) -> String {
    let mut out = String::new();
    let seconds = |wanted: Stage| {
        let stage = outcome.told.stages.iter().find(|stage| stage.name == wanted);
        stage.map_or(0.0, |stage| stage.seconds)
    };
    let took: f64 = outcome.told.stages.iter().map(|stage| stage.seconds).sum();
    let body = outcome.told.stages.iter().find(|stage| stage.name == Stage::Body).map_or(0, |stage| stage.bytes);
    let has_sealed = outcome.told.stages.iter().any(|stage| stage.name == Stage::Seal);
    add!(out, "  {} in {}", human_bytes(outcome.moved_bytes().unwrap_or(body)), duration(took));
    if outcome.told.kept_bytes > 0 {
        add!(
            out,
            ": writing the {} that were missing {}",
            human_bytes(outcome.told.written_bytes),
            duration(seconds(Stage::Body))
        );
    } else if outcome.told.written_bytes < body {
        let written = match (outcome.told.written_bytes, has_sealed) {
            (0, false) => "it held all of it already, and nothing was written".to_owned(),
            (0, true) => "only its head was written".to_owned(),
            (some, _) => format!("{} of it were written", human_bytes(some)),
        };
        add!(out, ": reading and comparing {}; {written}", duration(seconds(Stage::Body)));
    } else {
        add!(out, ": writing {}", duration(seconds(Stage::Body)));
    }
    if outcome.told.result == JobResult::Verified && has_sealed {
        add!(out, ", reading back {}", duration(seconds(Stage::ReadBack)));
    }
    out.push('\n');
    if outcome.told.read_again > 0 {
        let blocks = if outcome.told.read_again == 1 {
            "1 block".to_owned()
        } else {
            format!("{} blocks", outcome.told.read_again)
        };
        add!(out, "  {CARE}{blocks} read right only the second time: try another port before you rely on it{CARE:#}\n");
    }
    out.push_str(&opener_warning(outcome));
    out
}

/// How all drives of a job ended, where there are several.
pub(crate) fn all_written(drives: &[&Drive], outcomes: &[Outcome]) -> String {
    if drives.len() < 2 {
        return String::new();
    }
    let of = |result: JobResult| outcomes.iter().filter(|outcome| outcome.told.result == result).count();
    let words = [
        (JobResult::Verified, "verified"),
        (JobResult::Written, "written"),
        (JobResult::Differs, "differ"),
        (JobResult::Failed, "failed"),
        (JobResult::Refused, "refused"),
        (JobResult::Stopped, "stopped"),
    ];
    let told =
        words.iter().filter(|(result, _)| of(*result) > 0).map(|(result, word)| format!("{} {word}", of(*result)));
    format!("{} drives: {}\n", drives.len(), told.collect::<Vec<_>>().join(", "))
}

/// What the start of the drive holds after a job that did not end well.
pub(crate) fn head_words(outcome: &Outcome) -> &'static str {
    match outcome.told.head {
        Head::Untouched => "\n   nothing on it was changed",
        Head::Blank => "\n   its head is blank: no PC starts from it",
        Head::Sealed => "",
        Head::Old => "\n   what was on it before may still start a PC: do not use it",
        Head::Unknown => "\n   what its head holds is unknown: do not start a PC from it",
    }
}

/// A duration as one says it.
///
/// Below ten seconds with a tenth; above a minute without fractions.
pub(crate) fn duration(seconds: f64) -> String {
    let whole = seconds.round() as u64;
    if seconds < 9.95 {
        format!("{seconds:.1} s")
    } else if whole < 60 {
        format!("{whole} s")
    } else if whole < 3600 {
        format!("{} min {:02} s", whole / 60, whole % 60)
    } else {
        format!("{} h {:02} min", whole / 3600, whole % 3600 / 60)
    }
}
