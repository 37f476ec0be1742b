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

/// Fills the head's place, but for its first sectors, with bytes that belong to no image and start no PC.
///
/// A drive with less room than it claims shows the same memory in two places. Where one of them is the head's, the
/// body would read back well and be spoilt by the seal; with the place marked, the read-back finds the marks instead.
pub fn mark(drive: &dyn Claimed, layout: &Layout) -> Result<(), JobFault> {
    let Some(place) = layout.blanks.first().filter(|place| place.end > LAST_WRITTEN_BYTES) else { return Ok(()) };
    let mut marks = AlignedBuf::new((place.end - LAST_WRITTEN_BYTES) as usize);
    blake3::Hasher::new().update(b"this drive is being written").finalize_xof().fill(&mut marks);
    drive.write_at(LAST_WRITTEN_BYTES, &marks).map_err(|source| JobFault::Write { at: LAST_WRITTEN_BYTES, source })?;
    drive.flush().map_err(|source| JobFault::Flush { source })
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
    // The split is at a multiple of the alignment, so that both parts can go to the drive as they are.
    let after_head =
        AlignedBuf::new((layout.blanks.first().map_or(0, |place| place.end) as usize).saturating_sub(body.head.len()));
    let earlier: [(u64, &[u8]); 3] =
        [(layout.end.start, &body.end), (last as u64, rest), (body.head.len() as u64, &after_head)];
    put(drive, &earlier)?;
    if let Some(at) = first_difference(drive, &earlier)? {
        return Ok(Some(at));
    }
    watcher.moved(Stage::Seal, (body.end.len() + rest.len()) as u64);
    let all = [(0, first_sectors), (last as u64, rest), (layout.end.start, &*body.end)];
    put(drive, &all[..1])?;
    // All that was withheld once more: what came last may have gone where something else was.
    let difference = first_difference(drive, &all)?;
    watcher.moved(Stage::Seal, (body.end.len() + body.head.len()) as u64);
    match difference {
        None => body_end_differs(drive, layout, body),
        some => Ok(some),
    }
}

/// The marks cover all of the head's place but its first sectors: those can only have come to lie over the image's last.
fn body_end_differs(drive: &dyn Claimed, layout: &Layout, body: &BodyDone) -> Result<Option<u64>, JobFault> {
    if body.last_of_body.is_empty() {
        return Ok(None);
    }
    let at = layout.padded(layout.body.end) - body.last_of_body.len() as u64;
    first_difference(drive, &[(at, &*body.last_of_body)])
}

fn put(drive: &dyn Claimed, parts: &[(u64, &[u8])]) -> Result<(), JobFault> {
    for (at, bytes) in parts.iter().filter(|(_, bytes)| !bytes.is_empty()) {
        drive.write_at(*at, bytes).map_err(|source| JobFault::Write { at: *at, source })?;
    }
    drive.flush().map_err(|source| JobFault::Flush { source })
}

fn first_difference(drive: &dyn Claimed, parts: &[(u64, &[u8])]) -> Result<Option<u64>, JobFault> {
    for (at, bytes) in parts.iter().filter(|(_, bytes)| !bytes.is_empty()) {
        if !holds(drive, *at, bytes)? {
            return Ok(Some(*at));
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
