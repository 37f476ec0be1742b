//! The record of a comparison.

use jiff::Timestamp;

use crate::drive::Drive;
use crate::job::{Comparison, JobFault};
use crate::plan::making::whose;
use crate::record::{
    DriveOutcome, DriveRecord, Head, ImageRecord, JobKind, RECORD_VERSION, Record, Stage, StageDone, job_name,
};
use crate::text::chain;

/// The record of a comparison that began at `started` (RFC 3339) and ends now.
pub fn comparison(image: ImageRecord, drive: &Drive, compared: &Result<Comparison, JobFault>, started: &str) -> Record {
    let now = Timestamp::now();
    let seconds = started.parse().map_or(0.0, |began: Timestamp| now.duration_since(began).as_secs_f64());
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
    let result = outcome.result;
    let record =
        DriveRecord { outcome: DriveOutcome { head: Head::Untouched, ..outcome }, ..DriveRecord::refused(drive) };
    Record {
        job: job_name(started, drive.tag.as_str()),
        record: RECORD_VERSION,
        started: started.to_owned(),
        ended: Some(now.to_string()),
        version: env!("CARGO_PKG_VERSION").to_owned(),
        kind: JobKind::Compare,
        by: whose(),
        accepted: Vec::new(),
        result,
        image,
        drives: vec![record],
    }
}
