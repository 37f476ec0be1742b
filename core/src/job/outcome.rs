//! How a job went on one drive: what is recorded, and what is only of use until then.

use super::fault::{ImageFault, JobFault};
use super::journal::SpentNotes;
use crate::devices::PlatformError;
use crate::hash::{BLOCK_BYTES, hole_digest};
use crate::record::{DriveOutcome, Head};
use crate::text::chain;

/// How a job went on one drive.
#[derive(Debug)]
pub struct Outcome {
    /// What goes on record.
    pub told: DriveOutcome,
    /// Why it did not end well.
    pub fault: Option<JobFault>,
    /// Length of the image, once all of it was read.
    pub image_bytes: Option<u64>,
    /// SHA-256 of the image as it was written.
    pub sha256: Option<String>,
    /// BLAKE3 of each block of the image, as far as this drive saw it or had it before.
    pub blocks: Vec<Option<blake3::Hash>>,
    /// The drive is written, but could not be given back as asked.
    pub release_fault: Option<PlatformError>,
    /// Notes that nobody goes on with any more, to be removed once the end is on record.
    pub spent_notes: Option<SpentNotes>,
}

impl Outcome {
    /// Of which nothing more is known than what goes on record.
    pub(super) fn of(told: DriveOutcome) -> Self {
        Self {
            told,
            fault: None,
            image_bytes: None,
            sha256: None,
            blocks: Vec::new(),
            release_fault: None,
            spent_notes: None,
        }
    }

    /// How much of the image went over this drive or was compared with it, in bytes: all but its holes, once all of it was read.
    pub fn moved_bytes(&self) -> Option<u64> {
        let holes = self.blocks.iter().filter(|digest| **digest == Some(hole_digest())).count();
        let holes = (holes as u64).saturating_mul(BLOCK_BYTES);
        self.image_bytes.map(|bytes| bytes.saturating_sub(holes))
    }

    /// Of a drive on which nothing more is known than that it ended badly.
    pub(super) fn of_fault(fault: ImageFault) -> Self {
        let fault = JobFault::from(fault);
        let told = DriveOutcome { head: Head::Unknown, ..DriveOutcome::untouched(fault.result()) };
        let told = DriveOutcome { fault: Some(chain(&fault)), ..told };
        Self { fault: Some(fault), ..Self::of(told) }
    }
}
