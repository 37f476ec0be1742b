//! A job as one page that stands alone: no scripts, nothing loaded from elsewhere.

use askama::Template;
use data_encoding::BASE64;
use pyrotyp_core::bytes::human_bytes;
use pyrotyp_core::record::{DriveRecord, JobKind, JobResult, Record, Stage, Started, TrialStart};
use pyrotyp_core::text::Shown;
use pyrotyp_core::{Finding, Level};

use super::image_map::{image_map, is_read};
use super::speed_plot::{gauged_plot, speed_plot};
use super::starting::{Advice, starting};
use crate::show::gauged;
use crate::show::ledger::local;
use crate::show::rehearsed;
use crate::show::text::{duration, partition_words};

/// Differences and findings that are told one by one.
const TOLD: usize = 8;

#[derive(Template)]
#[template(path = "report.html")]
struct Page {
    image: String,
    when: String,
    job: String,
    by: Option<String>,
    version: String,
    facts: Vec<Fact>,
    accepted: Vec<&'static str>,
    about_image: Vec<Said>,
    drives: Vec<DrivePart>,
    trial: Option<TrialPart>,
    advice: Vec<Advice>,
    /// What can be done with the drive later on, and by which command.
    again: Option<&'static str>,
    again_verb: &'static str,
}

/// A line of a table.
struct Fact {
    name: &'static str,
    value: String,
}

/// How it ended, in a sentence and a sign that needs no colour.
struct Ending {
    class: &'static str,
    sign: &'static str,
    words: &'static str,
}

struct Said {
    level: &'static str,
    id: &'static str,
    text: String,
}

struct StagePart {
    name: &'static str,
    amount: String,
    took: String,
    rate: String,
}

struct DrivePart {
    tag: String,
    name: String,
    serial: Option<String>,
    size: String,
    outcome: Ending,
    fault: Option<String>,
    stages: Vec<StagePart>,
    plot: Option<String>,
    map: Option<MapPart>,
    differences: DifferencesPart,
    conclusion: Option<ConclusionPart>,
    findings: Vec<Said>,
}

/// Where the image was looked at on a drive.
struct MapPart {
    drawn: String,
    words: String,
}

/// Where a drive differs, a line each.
struct DifferencesPart {
    lines: Vec<String>,
    /// How many more there are.
    more: u64,
}

/// What that means, and what to do.
struct ConclusionPart {
    words: String,
    next: &'static str,
}

/// Trial starts of it.
struct TrialPart {
    starts: Vec<StartPart>,
    proves: String,
}

/// How it started by one firmware.
struct StartPart {
    by: String,
    class: &'static str,
    words: String,
    /// The screen, for the page to hold: PNG in base 64.
    picture: Option<String>,
    firmware_said: Vec<String>,
    serial: Option<String>,
}

fn trial(record: &Record, pictures: &[Option<Vec<u8>>]) -> Option<TrialPart> {
    let part = |(number, start): (usize, &TrialStart)| StartPart {
        by: rehearsed::by(start),
        class: match start.started {
            Started::Yes => "good",
            Started::No => "bad",
            Started::Unknown => "care",
        },
        words: format!("{}: {}", rehearsed::word(start.started), start.reason.shown()),
        picture: pictures.get(number).and_then(Option::as_ref).map(|png| BASE64.encode(png)),
        // UEFI says it on the serial line.
        firmware_said: start
            .firmware_said
            .iter()
            .filter(|line| !start.serial.contains(line.as_str()))
            .map(|line| line.shown())
            .collect(),
        serial: Some(start.serial.lines().map(|line| line.shown()).collect::<Vec<_>>().join("\n"))
            .filter(|text| !text.is_empty()),
    };
    let starts: Vec<StartPart> = record.starts.iter().enumerate().map(part).collect();
    (!starts.is_empty()).then_some(TrialPart { starts, proves: rehearsed::proof(&record.starts).join("; ") })
}

fn outcome(result: JobResult, kind: JobKind) -> Ending {
    let (class, sign, words) = match (result, kind) {
        (JobResult::Verified, JobKind::Rehearse) => ("good", "✓", "It starts a PC, in an emulator"),
        (JobResult::Failed, JobKind::Rehearse) => ("bad", "✗", "It does not start a PC in an emulator"),
        (_, JobKind::Rehearse) => ("care", "–", "Whether it starts a PC is not known"),
        (JobResult::Verified, JobKind::Write) => {
            ("good", "✓", "Verified: written, then read from the drive and equal to the image, byte for byte")
        }
        (JobResult::Verified, JobKind::Unpack) => (
            "good",
            "✓",
            "Verified: the image's files are laid out on it, read from the drive and equal, byte for byte",
        ),
        (JobResult::Verified, JobKind::Reclaim) => ("good", "✓", "Plain storage again: its tables read back and equal"),
        (JobResult::Verified | JobResult::Written, JobKind::Save) => ("good", "✓", "Saved: read into a file, whole"),
        (JobResult::Failed, JobKind::Save) => ("bad", "✗", "Not saved, or not whole"),
        (JobResult::Verified, JobKind::Gauge) => ("good", "✓", "Sound: nothing speaks against this drive"),
        (JobResult::Differs, JobKind::Gauge) => ("bad", "✗", "Not to be trusted: nothing belongs on this drive"),
        (JobResult::Verified, JobKind::Compare) => {
            ("good", "✓", "Verified: read from the drive and equal to the image, byte for byte")
        }
        (JobResult::Written, _) => ("care", "!", "Written, and not read back: nothing is proven"),
        (JobResult::Refused, _) => ("care", "–", "Refused: the drive stayed as it was"),
        (JobResult::Stopped, _) => ("care", "–", "Stopped before the end: this drive is not finished"),
        (JobResult::Failed, _) => ("bad", "✗", "Failed: do not hand this drive out"),
        (JobResult::Differs, _) => ("bad", "✗", "Differs from the image: do not hand this drive out"),
    };
    Ending { class, sign, words }
}

fn said(finding: &Finding) -> Said {
    let level = match finding.level {
        Level::Stop => "stop",
        Level::Ask => "ask",
        Level::Note => "note",
    };
    Said { level, id: finding.id.word(), text: finding.text.shown() }
}

fn stages(drive: &DriveRecord) -> Vec<StagePart> {
    let moved = drive.outcome.stages.iter().filter(|stage| stage.bytes > 0 && stage.seconds > 0.0);
    let part = |stage: &pyrotyp_core::record::StageDone| {
        let name = match stage.name {
            Stage::Blank => "blank the head",
            Stage::Body => "write",
            Stage::ReadBack => "read back",
            Stage::Seal => "seal",
            Stage::Probe => "mark, read, and put back",
            Stage::Surface => "read",
            Stage::Save => "read into a file",
            Stage::Claim | Stage::Release => return None,
        };
        let rate = format!("{}/s", human_bytes((stage.bytes as f64 / stage.seconds) as u64));
        Some(StagePart { name, amount: human_bytes(stage.bytes), took: duration(stage.seconds), rate })
    };
    moved.filter_map(part).collect()
}

fn drive_part(drive: &DriveRecord, record: &Record) -> DrivePart {
    let told = &drive.outcome;
    let difference = |one: &pyrotyp_core::record::Difference| {
        let file = one.file.as_ref().map_or(String::new(), |file| format!(", in {}", file.shown()));
        format!("{} at byte {}: {}{file}", human_bytes(one.bytes), one.offset, one.cause.words())
    };
    let bytes = record.image.bytes.unwrap_or(0);
    let is_seen = matches!(told.result, JobResult::Verified | JobResult::Written | JobResult::Differs)
        && record.kind != JobKind::Rehearse;
    let read = match (is_read(told.result), told.differences.len()) {
        (false, _) => "not read back".to_owned(),
        (true, 0) => "all of it read back".to_owned(),
        (true, 1) => "all of it read back; one place differs".to_owned(),
        (true, places) => format!("all of it read back; {places} places differ"),
    };
    let words = format!("The image, {} of the drive's {}: {read}.", human_bytes(bytes), human_bytes(drive.drive.bytes));
    DrivePart {
        tag: drive.drive.tag.shown(),
        name: drive.drive.name(),
        serial: drive.drive.serial.as_ref().map(|serial| serial.shown()),
        size: human_bytes(drive.drive.bytes),
        outcome: outcome(told.result, record.kind),
        fault: told.fault.as_ref().map(|fault| fault.shown()),
        stages: stages(drive),
        plot: told.gauged.as_ref().map_or_else(|| speed_plot(&told.speeds), gauged_plot),
        map: image_map(bytes, told.result, &told.differences)
            .filter(|_| is_seen && told.gauged.is_none())
            .map(|drawn| MapPart { drawn, words }),
        differences: DifferencesPart {
            lines: told
                .gauged
                .iter()
                .flat_map(gauged::areas)
                .chain(told.differences.iter().filter(|_| told.gauged.is_none()).take(TOLD).map(difference))
                .collect(),
            more: told.more_differences.saturating_add(told.differences.len().saturating_sub(TOLD) as u64),
        },
        conclusion: told
            .conclusion
            .map(|conclusion| ConclusionPart { words: conclusion.to_string(), next: conclusion.next_step() }),
        findings: drive.findings.iter().take(TOLD).map(said).collect(),
    }
}

fn facts(record: &Record) -> Vec<Fact> {
    let image = &record.image;
    // In which folder it lies is nobody's business who gets the page.
    let file = image.file.rsplit('/').next().unwrap_or(&image.file);
    // What is on a drive lies in no file.
    let is_file = record.kind != JobKind::Rehearse || record.drives.is_empty();
    let mut all: Vec<Fact> = is_file.then(|| Fact { name: "file", value: file.shown() }).into_iter().collect();
    let mut add = |name, value: Option<String>| all.extend(value.map(|value| Fact { name, value }));
    add("size", image.bytes.map(|bytes| format!("{} ({bytes} bytes)", human_bytes(bytes))));
    add("volume label", image.says.label.as_ref().map(|label| label.shown()));
    add("processors", image.says.architecture.map(|arch| arch.word().to_owned()));
    add("from", image.origin.as_ref().filter(|origin| origin.contains("://")).map(|origin| origin.shown()));
    let proof = match image.proof.as_deref() {
        Some("signed") => image.signer.as_ref().map(|signer| format!("signed by {}", signer.shown())),
        Some("published") => Some("its published checksum matched".to_owned()),
        Some("published-weakly") => Some("a published checksum matched, of a kind that can be forged".to_owned()),
        Some("undamaged") => Some("undamaged, by what it carries inside; who made it is not known".to_owned()),
        Some("nothing") => Some("compared with nothing that was published".to_owned()),
        Some(_) | None => None,
    };
    add("proof", proof);
    add("SHA-256", image.sha256.as_ref().map(|hex| hex.shown()));
    let behind: Vec<String> = image.spare.iter().map(partition_words).collect();
    add("behind it", (!behind.is_empty()).then(|| behind.join("; ")));
    all
}

/// The page, with a picture for each trial start where there is one.
///
/// # Errors
/// When it can't be put together, which no record brings about.
pub(crate) fn page(record: &Record, pictures: &[Option<Vec<u8>>]) -> Result<String, askama::Error> {
    let by = [record.by.person.as_deref(), record.by.bench.as_deref()].map(|one| one.map(|name| name.shown()));
    let by: Vec<String> = by.into_iter().flatten().collect();
    let works = !matches!(record.kind, JobKind::Reclaim | JobKind::Gauge | JobKind::Save | JobKind::Rehearse)
        && record.drives.iter().any(|one| matches!(one.outcome.result, JobResult::Verified | JobResult::Written));
    let (again, again_verb) = match record.kind {
        JobKind::Write | JobKind::Unpack | JobKind::Compare => {
            (Some("To prove this stick again at any time"), "compare")
        }
        JobKind::Gauge => (Some("To look at this drive again at any time"), "gauge"),
        JobKind::Reclaim | JobKind::Save | JobKind::Rehearse => (None, ""),
    };
    let page = Page {
        image: record.image.called().shown(),
        when: local(&record.started),
        job: record.job.shown(),
        by: (!by.is_empty()).then(|| by.join(" on ")),
        version: record.version.shown(),
        // A look at a drive has no image.
        facts: if record.kind == JobKind::Gauge { Vec::new() } else { facts(record) },
        accepted: record.accepted.iter().map(|id| id.word()).collect(),
        about_image: record.image.findings.iter().take(TOLD).map(said).collect(),
        drives: record.drives.iter().map(|drive| drive_part(drive, record)).collect(),
        trial: trial(record, pictures),
        // A stick that is not to be handed out needs no word about how it starts.
        again,
        again_verb,
        advice: if works { starting(&record.image.says) } else { Vec::new() },
    };
    page.render()
}
