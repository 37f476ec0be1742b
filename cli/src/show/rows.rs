//! Jobs as a table for other programs.

use pyrotyp_core::ledger::{JobRow, RowDrive};

const HEADINGS: [&str; 21] = [
    "job",
    "started",
    "ended",
    "kind",
    "result",
    "person",
    "bench",
    "image",
    "title",
    "label",
    "image_bytes",
    "sha256",
    "tag",
    "vendor",
    "model",
    "serial",
    "drive_bytes",
    "drive_result",
    "write_bytes_per_second",
    "read_bytes_per_second",
    "conclusion",
];

/// Comma-separated values (RFC 4180): a line for each drive of each job.
///
/// # Errors
/// Never, but for a lack of memory.
pub(crate) fn csv(jobs: &[JobRow]) -> Result<String, csv::Error> {
    let mut writer = csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(Vec::new());
    writer.write_record(HEADINGS)?;
    for job in jobs {
        for drive in &job.drives {
            writer.write_record(cells(job, drive))?;
        }
    }
    let bytes = writer.into_inner().map_err(|error| csv::Error::from(error.into_error()))?;
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}

fn cells(job: &JobRow, one: &RowDrive) -> [String; 21] {
    let or_nothing = |text: &Option<String>| harmless(text.as_deref().unwrap_or_default());
    let number = |number: Option<u64>| number.map_or(String::new(), |number| number.to_string());
    let rate = |rate: Option<f64>| number(rate.map(|rate| rate as u64));
    let drive = &one.drive;
    [
        harmless(&job.job),
        harmless(&job.started),
        or_nothing(&job.ended),
        job.kind.word().to_owned(),
        job.result.word().to_owned(),
        or_nothing(&job.by.person),
        or_nothing(&job.by.bench),
        harmless(&job.image),
        or_nothing(&job.title),
        or_nothing(&job.label),
        number(job.image_bytes),
        or_nothing(&job.sha256),
        harmless(&drive.tag),
        or_nothing(&drive.vendor),
        or_nothing(&drive.model),
        or_nothing(&drive.serial),
        number(Some(drive.bytes)),
        one.result.word().to_owned(),
        rate(one.write_rate),
        rate(one.read_rate),
        or_nothing(&one.conclusion),
    ]
}

/// Text from outside begins no formula in a table, and tells no terminal anything.
fn harmless(text: &str) -> String {
    let text: String = text.chars().map(|c| if c.is_control() { char::REPLACEMENT_CHARACTER } else { c }).collect();
    let begins_one = text.starts_with(['=', '+', '-', '@', '\t', '\r']);
    if begins_one { format!("'{text}") } else { text }
}
