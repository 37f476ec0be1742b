//! The ends of a job: emptying what could start a PC, and putting it there once all else is proven.

use super::body::BodyDone;
use super::layout::{LAST_WRITTEN_BYTES, Layout};
use super::{JobFault, Stage, Watcher};
use crate::drive::{AlignedBuf, Claimed};

/// Empties the head's place and the drive's last MiB, and makes sure that they are empty.
pub fn blank(drive: &dyn Claimed, layout: &Layout) -> Result<(), JobFault> {
    for range in &layout.blanks {
        let zeros = AlignedBuf::new((range.end - range.start) as usize);
        drive.write_at(range.start, &zeros).map_err(|source| JobFault::Write { at: range.start, source })?;
    }
    drive.flush().map_err(|source| JobFault::Flush { source })?;
    for range in &layout.blanks {
        let zeros = AlignedBuf::new((range.end - range.start) as usize);
        if !holds(drive, range.start, &zeros)? {
            return Err(JobFault::NotTaken { at: range.start });
        }
    }
    Ok(())
}

/// Writes what was withheld. The first sectors go last, when all else on the drive has been read back.
///
/// `Ok(Some(at))` says that what was written at byte `at` does not read back.
pub fn seal(
    drive: &dyn Claimed,
    layout: &Layout,
    body: &BodyDone,
    watcher: &mut dyn Watcher,
) -> Result<Option<u64>, JobFault> {
    let last = (LAST_WRITTEN_BYTES as usize).min(body.head.len());
    let (first_sectors, rest) = body.head.split_at_checked(last).unwrap_or_default();
    let rest_at = last as u64;
    // The split is at a multiple of the alignment, so that both parts can go to the drive as they are.
    let steps: [&[(u64, &[u8])]; 2] = [&[(layout.end.start, &body.end), (rest_at, rest)], &[(0, first_sectors)]];
    let mut done = 0;
    for step in steps {
        for (at, bytes) in step.iter().filter(|(_, bytes)| !bytes.is_empty()) {
            drive.write_at(*at, bytes).map_err(|source| JobFault::Write { at: *at, source })?;
        }
        drive.flush().map_err(|source| JobFault::Flush { source })?;
        for (at, bytes) in step.iter().filter(|(_, bytes)| !bytes.is_empty()) {
            if !holds(drive, *at, bytes)? {
                return Ok(Some(*at));
            }
            done += bytes.len() as u64;
            watcher.moved(Stage::Seal, done);
        }
    }
    Ok(None)
}

/// Whether the drive reads back as `bytes` from byte `at` on.
fn holds(drive: &dyn Claimed, at: u64, bytes: &[u8]) -> Result<bool, JobFault> {
    let mut found = AlignedBuf::new(bytes.len());
    drive.read_at(at, &mut found).map_err(|source| JobFault::Read { at, source })?;
    Ok(*found == *bytes)
}
