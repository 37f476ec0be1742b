//! How a job ended, kept: its blocks, its record, and notes that are spent.

use std::io;
use std::path::Path;

use crate::job::Outcome;
use crate::job::journal::SpentNotes;
use crate::ledger::{self, Begun, Blocks};
use crate::record::{JobResult, Record};

/// What was written, by its blocks: of a drive on which all of it is, where each block was left or written.
pub fn blocks_of(outcomes: &[Outcome]) -> Option<Blocks> {
    outcomes.iter().find_map(|one| {
        let digests = one.blocks.iter().copied().collect::<Option<Vec<_>>>()?;
        let bytes = one.image_bytes.filter(|_| matches!(one.told.result, JobResult::Verified | JobResult::Written))?;
        Some(Blocks { bytes, digests })
    })
}

/// Ends the record of a job; before that, its blocks are kept: whoever reads that it has ended finds them.
///
/// # Errors
/// When either can't be written.
pub fn keep_written(state: &Path, begun: &Begun, record: &Record, outcomes: &[Outcome]) -> io::Result<()> {
    blocks_of(outcomes).map(|blocks| ledger::keep_blocks(state, &record.job, &blocks)).transpose()?;
    begun.end(record)?;
    outcomes.iter().filter_map(|one| one.spent_notes.as_ref()).for_each(SpentNotes::remove);
    Ok(())
}
