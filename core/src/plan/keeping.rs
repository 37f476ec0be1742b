//! How a job ended, kept: its record, and notes that are spent then.

use std::io;

use crate::job::Outcome;
use crate::job::journal::SpentNotes;
use crate::ledger::{Begun, Blocks};
use crate::record::{JobResult, Record};

/// What was written, by its blocks: of a drive on which all of it is.
pub fn blocks_of(outcomes: &[Outcome]) -> Option<Blocks> {
    outcomes.iter().find_map(|one| {
        let digests = one.blocks.iter().copied().collect::<Option<Vec<_>>>()?;
        let bytes = one.image_bytes.filter(|_| matches!(one.told.result, JobResult::Verified | JobResult::Written))?;
        Some(Blocks { bytes, digests })
    })
}

/// Ends the record of a job; the notes by which it would be gone on with are then spent.
///
/// # Errors
/// When the record can't be written; the notes stay.
pub fn end_record(begun: &Begun, record: &Record, outcomes: &[Outcome]) -> io::Result<()> {
    begun.end(record)?;
    outcomes.iter().filter_map(|one| one.spent_notes.as_ref()).for_each(SpentNotes::remove);
    Ok(())
}
