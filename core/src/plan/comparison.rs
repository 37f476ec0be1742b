//! Records of what was only read: a comparison, a surface check, a drive that was saved, a trial start.

use jiff::Timestamp;

use crate::drive::Drive;
use crate::job::save::Saved;
use crate::job::{Comparison, JobFault, TOLD_MOST};
use crate::plan::making::whose;
use crate::record::{
    Cause, Conclusion, Difference, DriveOutcome, DriveRecord, Gauged, Head, ImageRecord, JobKind, JobResult,
    RECORD_VERSION, Record, Stage, StageDone, TrialStart, job_name, result_of_starts,
};
use crate::text::chain;

/// What stands for a tag in the name of a job that had no drive.
const OF_AN_IMAGE: &str = "image";

/// The record of a comparison that began at `started` (RFC 3339) and ends now.
pub fn comparison(image: ImageRecord, drive: &Drive, compared: &Result<Comparison, JobFault>, started: &str) -> Record {
    let seconds = seconds_since(started);
    let outcome = match compared {
        Ok(compared) => DriveOutcome {
            stages: vec![StageDone { name: Stage::ReadBack, bytes: compared.bytes, seconds }],
            read_again: compared.read_again,
            conclusion: compared.conclusion,
            differences: compared.differences.clone(),
            more_differences: compared.more_differences,
            ..DriveOutcome::untouched(compared.result)
        },
        Err(fault) => DriveOutcome { fault: Some(chain(fault)), ..DriveOutcome::untouched(fault.result()) },
    };
    of_reading(JobKind::Compare, image, drive, outcome, started)
}

/// The record of a surface check that began at `started` (RFC 3339) and ends now.
pub fn surface(image: ImageRecord, drive: &Drive, found: &Result<Gauged, JobFault>, started: &str) -> Record {
    let seconds = seconds_since(started);
    let outcome = match found {
        Ok(gauged) => {
            let result = gauged.verdict.result();
            let conclusion = (result == JobResult::Differs).then_some(Conclusion::Unreadable);
            DriveOutcome {
                stages: vec![StageDone { name: Stage::Surface, bytes: gauged.claimed_bytes, seconds }],
                conclusion,
                gauged: Some(gauged.clone()),
                ..DriveOutcome::untouched(result)
            }
        }
        Err(fault) => DriveOutcome { fault: Some(chain(fault)), ..DriveOutcome::untouched(fault.result()) },
    };
    of_reading(JobKind::Gauge, image, drive, outcome, started)
}

/// The record of a drive that was saved, begun at `started` (RFC 3339) and ended now.
pub fn saving(image: ImageRecord, drive: &Drive, saved: &Result<Saved, JobFault>, started: &str) -> Record {
    let seconds = seconds_since(started);
    let sha256 = saved.as_ref().ok().and_then(|saved| saved.sha256.clone());
    let outcome = match saved {
        Ok(saved) => {
            let is_whole = saved.unreadable.is_empty();
            let difference = |range: &std::ops::Range<u64>| Difference {
                offset: range.start,
                bytes: range.end.saturating_sub(range.start),
                cause: Cause::Unreadable,
                file: None,
            };
            DriveOutcome {
                stages: vec![StageDone { name: Stage::Save, bytes: saved.bytes, seconds }],
                conclusion: (!is_whole).then_some(Conclusion::Unreadable),
                differences: saved.unreadable.iter().take(TOLD_MOST).map(difference).collect(),
                more_differences: saved.unreadable.len().saturating_sub(TOLD_MOST) as u64,
                ..DriveOutcome::untouched(if is_whole { JobResult::Written } else { JobResult::Failed })
            }
        }
        Err(fault) => DriveOutcome { fault: Some(chain(fault)), ..DriveOutcome::untouched(fault.result()) },
    };
    of_reading(JobKind::Save, ImageRecord { sha256, ..image }, drive, outcome, started)
}

fn seconds_since(started: &str) -> f64 {
    started.parse().map_or(0.0, |began: Timestamp| Timestamp::now().duration_since(began).as_secs_f64())
}

/// The record of trial starts of an image, or of what is on a drive, begun at `started` (RFC 3339) and ended now.
pub fn rehearsal(image: ImageRecord, drive: Option<&Drive>, starts: Vec<TrialStart>, started: &str) -> Record {
    let result = result_of_starts(&starts);
    let drives = drive.map(|drive| read_only(drive, DriveOutcome::untouched(result)));
    let base = Record { starts, ..ended(JobKind::Rehearse, result, image, started) };
    let of = drive.map_or(OF_AN_IMAGE, |drive| drive.tag.as_str());
    Record { job: job_name(started, of), drives: drives.into_iter().collect(), ..base }
}

fn read_only(drive: &Drive, outcome: DriveOutcome) -> DriveRecord {
    DriveRecord { outcome: DriveOutcome { head: Head::Untouched, ..outcome }, ..DriveRecord::refused(drive) }
}

/// The record of a job that only read.
fn of_reading(kind: JobKind, image: ImageRecord, drive: &Drive, outcome: DriveOutcome, started: &str) -> Record {
    let base = ended(kind, outcome.result, image, started);
    Record { job: job_name(started, drive.tag.as_str()), drives: vec![read_only(drive, outcome)], ..base }
}

/// The record of a job that has ended now, without a name and without drives.
fn ended(kind: JobKind, result: JobResult, image: ImageRecord, started: &str) -> Record {
    Record {
        job: String::new(),
        record: RECORD_VERSION,
        started: started.to_owned(),
        ended: Some(Timestamp::now().to_string()),
        version: env!("CARGO_PKG_VERSION").to_owned(),
        kind,
        by: whose(),
        accepted: Vec::new(),
        result,
        image,
        drives: Vec::new(),
        starts: Vec::new(),
    }
}
