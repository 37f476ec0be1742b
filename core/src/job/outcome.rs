//! How a job went on one drive.

use serde::Serialize;

use crate::devices::PlatformError;
use crate::job::diagnosis::{Conclusion, Difference};
use crate::job::fault::{ImageFault, JobFault};
use crate::job::journal::SpentNotes;
use crate::job::result::{Head, JobResult};
use crate::job::watch::Stage;

/// A stage that ended well.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
pub struct StageDone {
    /// Which.
    pub name: Stage,
    /// Bytes moved.
    pub bytes: u64,
    /// How long it took.
    pub seconds: f64,
}

/// How a job went on one drive.
#[derive(Debug)]
pub struct Outcome {
    /// In a word.
    pub result: JobResult,
    /// What the start of the drive holds now.
    pub head: Head,
    /// Stages that ended well.
    pub stages: Vec<StageDone>,
    /// Where the drive differs.
    pub differences: Vec<Difference>,
    /// How many more differences there are than are told.
    pub more_differences: u64,
    /// What the differences mean for the drive.
    pub conclusion: Option<Conclusion>,
    /// Length of the image, once all of it was read.
    pub image_bytes: Option<u64>,
    /// SHA-256 of the image as it was written.
    pub sha256: Option<String>,
    /// How much of the image an earlier job had brought to the drive.
    pub kept_bytes: u64,
    /// How much of the body was written; less than all of it where only what differs is.
    pub written_bytes: u64,
    /// Blocks that read right only the second time.
    pub read_again: u64,
    /// Why it did not end well.
    pub fault: Option<JobFault>,
    /// The image's file that lies where it failed.
    pub fault_file: Option<String>,
    /// The drive is written, but could not be given back as asked.
    pub release_fault: Option<PlatformError>,
    /// Notes that nobody goes on with any more, to be removed once the end is on record.
    pub spent_notes: Option<SpentNotes>,
}

impl Outcome {
    /// Of a drive on which nothing more is known than that it ended badly.
    pub(super) fn of_fault(fault: ImageFault) -> Self {
        let fault = JobFault::from(fault);
        Self {
            result: fault.result(),
            head: Head::Unknown,
            stages: Vec::new(),
            differences: Vec::new(),
            more_differences: 0,
            conclusion: None,
            image_bytes: None,
            sha256: None,
            kept_bytes: 0,
            written_bytes: 0,
            read_again: 0,
            fault: Some(fault),
            fault_file: None,
            release_fault: None,
            spent_notes: None,
        }
    }
}
