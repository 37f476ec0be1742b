//! A job on record: one set of types that is filled by the engine, written, and read again.

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

mod conclusion;
mod difference;
mod document;
mod gauged;
mod result;
mod spare;
mod speed;
mod stage;
mod trial_start;

pub use conclusion::Conclusion;
pub use difference::{Cause, Difference};
pub use document::{
    DriveIdentity, DriveOutcome, DriveRecord, ImageRecord, JobKind, RECORD_VERSION, Record, Whose, called, job_name,
};
pub use gauged::{Area, AreaState, Gauged, SpeedAt, Trust};
pub use result::{Head, JobResult};
pub use spare::{AlteredBytes, SparePartition};
pub use speed::{SpeedMark, Speeds};
pub use stage::{Stage, StageDone};
pub use trial_start::{Started, TrialStart, result_of_starts};
