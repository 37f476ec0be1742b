//! What was done, as people read it: a list, one job, one stick's history.

use std::fmt::Write;

use jiff::Timestamp;
use jiff::tz::TimeZone;
use pyrotyp_core::bytes::human_bytes;
use pyrotyp_core::ledger::JobRow;
use pyrotyp_core::record::{DriveRecord, JobKind, JobResult, Record, Stage};
use pyrotyp_core::text::foreign::all_shown;
use pyrotyp_core::text::{Shown, shell};

use super::gauged::{self, LookDepth};
use super::rehearsed;
use super::style::{BAD, CARE, FAINT, GOOD, NAME, of_level};
use super::text::{duration, partition_words};
use crate::asked::Common;

/// A stick is slower when it takes less than this part of what it took in its better half of jobs.
const SLOWER: f64 = 0.6;
/// So many jobs before the last tell how fast it was.
const JOBS_BEFORE: usize = 2;
/// Differences that are told of one drive.
const DIFFERENCES_TOLD: usize = 8;

/// Writing to a string never fails, so the result of `write!` is dropped.
macro_rules! add {
    ($out:expr, $($arg:tt)*) => { let _ = write!($out, $($arg)*); };
}

/// A time as the clock on the wall has it.
pub(crate) fn local(time: &str) -> String {
    let known = time.parse::<Timestamp>().ok();
    known.map_or_else(|| time.shown(), |time| time.to_zoned(TimeZone::system()).strftime("%Y-%m-%d %H:%M").to_string())
}

fn result_style(result: JobResult) -> anstyle::Style {
    match result {
        JobResult::Verified => GOOD,
        JobResult::Written | JobResult::Stopped | JobResult::Refused => CARE,
        JobResult::Failed | JobResult::Differs => BAD,
    }
}

/// How it ended, in a word; `begun` of one that runs, or was cut off.
fn ended(job: &JobRow) -> &'static str {
    if job.ended.is_none() { "begun" } else { result_word(job.result, job.kind) }
}

/// The word for a result; a trial start has its own.
fn result_word(result: JobResult, kind: JobKind) -> &'static str {
    match (kind, result) {
        (JobKind::Rehearse, JobResult::Verified) => "starts",
        (JobKind::Rehearse, JobResult::Failed) => "no start",
        (JobKind::Rehearse, JobResult::Stopped) => "unknown",
        _ => result.word(),
    }
}

/// Jobs, a line each, the newest first; `more` are not shown.
pub(crate) fn list(jobs: &[JobRow], more: usize, common: &Common) -> String {
    if jobs.is_empty() {
        return "no such job is on record\n".to_owned();
    }
    let mut out = format!("{FAINT}{:<16}  {:<8}  {:<8}  {:<23}  IMAGE{FAINT:#}\n", "WHEN", "RESULT", "WHAT", "JOB");
    for job in jobs {
        let (when, what, style) = (local(&job.started), job.kind.word(), result_style(job.result));
        let drives = match job.drives.len() {
            0 | 1 => String::new(),
            several => format!(", {several} drives"),
        };
        let image = job.called().shown();
        let name = job.job.shown();
        add!(out, "{when}  {style}{:<8}{style:#}  {what:<8}  {NAME}{name:<23}{NAME:#}  {image}{drives}\n", ended(job));
    }
    if !common.quiet {
        if more > 0 {
            add!(out, "{more} more; --most {} shows them all\n", jobs.len().saturating_add(more));
        }
        out.push_str("next: pyrotyp ledger show JOB\n");
    }
    out
}

/// All that is on record of one job.
pub(crate) fn show(record: &Record, common: &Common) -> String {
    let mut rows: Vec<(&str, String)> = vec![("job", format!("{NAME}{}{NAME:#}", record.job.shown()))];
    let style = result_style(record.result);
    let took = record.ended.as_deref().and_then(|ended| Some((ended.parse().ok()?, record.started.parse().ok()?)));
    let took = took.map(|(ended, began): (Timestamp, Timestamp)| ended.duration_since(began).as_secs_f64());
    let took = took.map_or(String::new(), |seconds| format!(", {}", duration(seconds)));
    rows.push(("when", format!("{}{took}", local(&record.started))));
    let ended = if record.ended.is_some() {
        result_word(record.result, record.kind)
    } else {
        "begun, and not ended: it runs, or was cut off"
    };
    rows.push(("result", format!("{style}{ended}{style:#}")));
    let by = [record.by.person.as_deref(), record.by.bench.as_deref()];
    let by: Vec<String> = by.into_iter().flatten().map(|name| name.shown()).collect();
    if !by.is_empty() {
        rows.push(("by", by.join(" on ")));
    }
    image_rows(record, &mut rows);
    if !record.accepted.is_empty() {
        let ids: Vec<&str> = record.accepted.iter().map(|id| id.word()).collect();
        rows.push(("accepted", ids.join(", ")));
    }
    for drive in &record.drives {
        drive_rows(drive, record, &mut rows);
    }
    for start in &record.starts {
        let names = [rehearsed::called(start.firmware)].into_iter().chain(std::iter::repeat(""));
        rows.extend(names.zip(rehearsed::lines(start)));
    }
    let mut out = String::new();
    for (name, value) in rows {
        add!(out, "  {name:<10}{value}\n");
    }
    if !common.quiet {
        let job = shell::word(&record.job);
        let drive = record.drives.first().map(|drive| shell::word(&drive.drive.tag));
        let drive = drive.map_or(String::new(), |tag| format!("pyrotyp ledger drive {tag}, or "));
        add!(out, "next: {drive}pyrotyp ledger report {job} --into page.html\n");
    }
    out
}

fn image_rows(record: &Record, rows: &mut Vec<(&str, String)>) {
    let image = &record.image;
    rows.push(("image", image.called().shown()));
    let bytes = image.bytes.map_or(String::new(), |bytes| format!(", {}", human_bytes(bytes)));
    rows.push(("", format!("{}{bytes}", image.file.shown())));
    rows.extend(image.origin.as_ref().map(|origin| ("", format!("from {}", origin.shown()))));
    rows.extend(image.sha256.as_ref().map(|hex| ("", format!("SHA-256 {}", hex.shown()))));
    let signer = image.signer.as_ref().map(|signer| format!("signed by {}", signer.shown()));
    let proof = image.proof.as_ref().map(|proof| match proof.as_str() {
        "published" => "its published checksum matched".to_owned(),
        "published-weakly" => "a published checksum matched that can be forged".to_owned(),
        "undamaged" => "undamaged, by what it carries inside".to_owned(),
        "nothing" => format!("{CARE}compared with nothing that was published{CARE:#}"),
        other => other.shown(),
    });
    rows.extend(signer.or(proof).map(|words| ("", words)));
    rows.extend(image.spare.iter().map(|one| ("behind", partition_words(one))));
}

fn drive_rows(one: &DriveRecord, record: &Record, rows: &mut Vec<(&str, String)>) {
    let (drive, outcome) = (&one.drive, &one.outcome);
    let style = result_style(outcome.result);
    let tag = drive.tag.shown();
    rows.push((
        "drive",
        format!(
            "{NAME}{tag}{NAME:#}  {}, {}: {style}{}{style:#}",
            drive.name(),
            human_bytes(drive.bytes),
            result_word(outcome.result, record.kind)
        ),
    ));
    rows.extend(outcome.fault.as_ref().map(|fault| ("", fault.shown())));
    for stage in outcome.stages.iter().filter(|stage| stage.bytes > 0 && stage.seconds > 0.0) {
        let rate = human_bytes((stage.bytes as f64 / stage.seconds) as u64);
        let name = match stage.name {
            Stage::Blank => "blank",
            Stage::Body => "body",
            Stage::ReadBack => "read-back",
            Stage::Seal => "seal",
            Stage::Probe => "look",
            Stage::Surface => "read",
            Stage::Save => "save",
            Stage::Claim | Stage::Release => continue,
        };
        rows.push(("", format!("{name}: {} in {}, {rate}/s", human_bytes(stage.bytes), duration(stage.seconds))));
    }
    if outcome.written_bytes > 0 && record.kind == JobKind::Write && outcome.kept_bytes > 0 {
        rows.push(("", format!("{} were on it already", human_bytes(outcome.kept_bytes))));
    }
    for difference in outcome.differences.iter().take(DIFFERENCES_TOLD) {
        let file = difference.file.as_ref().map_or(String::new(), |file| format!(": {}", file.shown()));
        let end = difference.offset.saturating_add(difference.bytes);
        rows.push(("", format!("{BAD}differs{BAD:#} at bytes {} to {end}{file}", difference.offset)));
    }
    if let Some(gauged) = &outcome.gauged {
        let words = gauged::sentence(gauged, LookDepth::of_record(&record.image.file));
        let lines = [words].into_iter().chain(gauged::areas(gauged)).chain(gauged::speeds(gauged));
        rows.extend(lines.map(|line| ("", line)));
    }
    rows.extend(
        outcome
            .conclusion
            .as_ref()
            .filter(|_| outcome.gauged.is_none())
            .map(|conclusion| ("", format!("{CARE}{conclusion}{CARE:#}"))),
    );
    if !outcome.opened_by.is_empty() {
        rows.push((
            "",
            format!("{CARE}{} had the drive open when the job ended{CARE:#}", all_shown(&outcome.opened_by)),
        ));
    }
    for finding in &one.findings {
        let style = of_level(finding.level);
        rows.push(("", format!("{style}{}{style:#}: {}", finding.id, finding.text.shown())));
    }
}

/// What was on a stick when, the newest first, and whether it gets slower.
pub(crate) fn history(tag: &str, jobs: &[JobRow], common: &Common) -> String {
    let of = |job: &JobRow| job.drives.iter().find(|one| one.drive.tag == tag).cloned();
    let rows: Vec<_> = jobs.iter().filter_map(|job| Some((job, of(job)?))).collect();
    let Some((_, last)) = rows.first() else { return format!("no job on drive {} is on record\n", tag.shown()) };
    let mut out = format!("{NAME}{}{NAME:#}  {}, {}\n", tag.shown(), last.drive.name(), human_bytes(last.drive.bytes));
    add!(
        out,
        "{FAINT}{:<16}  {:<8}  {:<8}  {:>10}  {:>10}  IMAGE{FAINT:#}\n",
        "WHEN",
        "WHAT",
        "RESULT",
        "WRITTEN",
        "READ"
    );
    for (job, one) in &rows {
        let rate = |rate: Option<f64>| rate.map_or("-".to_owned(), |rate| format!("{}/s", human_bytes(rate as u64)));
        let style = result_style(one.result);
        let word = if job.ended.is_none() { "begun" } else { result_word(one.result, job.kind) };
        add!(
            out,
            "{}  {:<8}  {style}{word:<8}{style:#}  {:>10}  {:>10}  {}\n",
            local(&job.started),
            job.kind.word(),
            rate(one.write_rate),
            rate(one.read_rate),
            job.called().shown()
        );
    }
    // Of a few tables at a drive's start no speed can be told.
    let written = rows.iter().filter(|(job, _)| job.kind.brings_an_image());
    let written: Vec<_> = written.filter_map(|(job, one)| Some((job.started.as_str(), one.write_rate?))).collect();
    if let Some(words) = slower(&written) {
        add!(out, "{CARE}{words}{CARE:#}\n");
    }
    if !common.quiet {
        add!(out, "next: pyrotyp contents {0} shows what is on it now\n", shell::word(tag));
    }
    out
}

/// Whether the last of these speeds, the newest first, is far below what it was before.
fn slower(written: &[(&str, f64)]) -> Option<String> {
    let ((_, now), before) = written.split_first()?;
    let mut rates: Vec<f64> = before.iter().map(|(_, rate)| *rate).collect();
    rates.sort_by(f64::total_cmp);
    let usual = *rates.get(rates.len() / 2).filter(|_| rates.len() >= JOBS_BEFORE)?;
    let (now_words, usual_words) = (human_bytes(*now as u64), human_bytes(usual as u64));
    (*now < usual * SLOWER).then(|| {
        format!("it gets slower: {now_words}/s when it was written last, about {usual_words}/s before; it may be wearing out, or another port is slower")
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_stick_that_was_faster_before_is_told_and_one_slow_job_long_ago_is_not() {
        let told = |rates: &[f64]| {
            let written: Vec<_> = rates.iter().map(|rate| ("2026-11-23T08:00:00Z", *rate)).collect();
            slower(&written).is_some()
        };
        let fast = 10e6;
        assert!(told(&[5.9e6, fast, fast, fast]) && told(&[1e6, fast, 2e6, fast]));
        assert!(!told(&[6.1e6, fast, fast]) && !told(&[fast, 1e6, fast]) && !told(&[1e6, fast]) && !told(&[]));
    }
}
