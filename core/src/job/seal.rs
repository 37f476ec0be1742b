//! The ends of a job: emptying what could start a PC, and putting it there once all else is proven.

use std::ops::Range;

use super::JobFault;
use super::body::{Piece, Withheld};
use super::layout::{Frame, LAST_WRITTEN_BYTES};
use super::readback;
use crate::drive::{AlignedBuf, DriveIo, DriveWrite};

/// Pieces of the body that are read once more when all else is done: the first sectors may have come to lie over them.
const LAST_PIECES: usize = 2;

fn zeros(range: &Range<u64>) -> AlignedBuf {
    AlignedBuf::new((range.end - range.start) as usize)
}

/// Empties the head's place and the drive's last MiB, and makes sure that they are empty.
pub fn blank(drive: &dyn DriveWrite, frame: &Frame) -> Result<(), JobFault> {
    let empty: Vec<(u64, AlignedBuf)> = frame.blanks().map(|range| (range.start, zeros(&range))).collect();
    let parts: Vec<(u64, &[u8])> = empty.iter().map(|(at, zeros)| (*at, &**zeros)).collect();
    put(drive, &parts)?;
    match first_difference(drive, &parts)? {
        None => Ok(()),
        Some(at) => Err(JobFault::NotTaken { at }),
    }
}

/// Fills the head's place, but for its first sectors, with bytes that belong to no image and start no PC.
///
/// A drive with less room than it claims shows the same memory in two places. Where one of them is the head's, the
/// body would read back well and be spoilt by the seal; with the place marked, the read-back finds the marks instead.
pub fn mark(drive: &dyn DriveWrite, frame: &Frame) -> Result<(), JobFault> {
    let place = frame.head();
    if place.end <= LAST_WRITTEN_BYTES {
        return Ok(());
    }
    let mut marks = zeros(&(LAST_WRITTEN_BYTES..place.end));
    blake3::Hasher::new().update(b"this drive is being written").finalize_xof().fill(&mut marks);
    put(drive, &[(LAST_WRITTEN_BYTES, &marks)])
}

/// What is withheld, in the order in which it is written: the drive's end, the rest of the head, the first sectors.
struct Order<'a> {
    earlier: [(u64, &'a [u8]); 2],
    first_sectors: (u64, &'a [u8]),
}

/// `image_bytes` tells how far the image reaches into the drive's end.
fn order<'a>(withheld: &'a Withheld, frame: &Frame, image_bytes: u64) -> Order<'a> {
    let (head, place) = (&*withheld.head, frame.end());
    let last = (LAST_WRITTEN_BYTES as usize).min(head.len());
    // The split is at a multiple of the alignment, so that both parts can go to the drive as they are.
    let (first_sectors, rest) = head.split_at_checked(last).unwrap_or_default();
    let reach = frame.padded(image_bytes).min(place.end).saturating_sub(place.start);
    let end = withheld.end.get(..reach as usize).unwrap_or_default();
    Order { earlier: [(place.start, end), (last as u64, rest)], first_sectors: (0, first_sectors) }
}

/// How many bytes the seal writes.
pub fn bytes(withheld: &Withheld, frame: &Frame, image_bytes: u64) -> u64 {
    let order = order(withheld, frame, image_bytes);
    order.earlier.iter().chain([&order.first_sectors]).map(|(_, bytes)| bytes.len() as u64).sum()
}

/// Whether the ends of the drive hold the image's already, and nothing else behind them.
pub fn is_sealed(drive: &dyn DriveIo, withheld: &Withheld, frame: &Frame) -> Result<bool, JobFault> {
    let ends: [(u64, &[u8]); 2] = [(0, &withheld.head), (frame.end().start, &withheld.end)];
    Ok(first_difference(drive, &ends)?.is_none())
}

/// Writes what was withheld. The first sectors go last, when all else on the drive has been read back.
///
/// `Ok(Some(at))` says that what was written at byte `at` does not read back.
pub fn seal(
    drive: &dyn DriveWrite,
    frame: &Frame,
    withheld: &Withheld,
    image_bytes: u64,
    pieces: &[Piece],
) -> Result<Option<u64>, JobFault> {
    let Order { earlier, first_sectors } = order(withheld, frame, image_bytes);
    put(drive, &earlier)?;
    if let Some(at) = first_difference(drive, &earlier)? {
        return Ok(Some(at));
    }
    put(drive, &[first_sectors])?;
    // All that was withheld once more: what came last may have gone where something else was.
    let [end, rest] = earlier;
    if let Some(at) = first_difference(drive, &[first_sectors, rest, end])? {
        return Ok(Some(at));
    }
    // The marks covered all of the head's place but its first sectors: those can only have come to lie over the body's last.
    let mut buffer = readback::buffer();
    for piece in pieces.iter().rev().take(LAST_PIECES) {
        if readback::judge(drive, piece, &mut buffer, &|_| ())?.is_some() {
            return Ok(Some(piece.at));
        }
    }
    Ok(None)
}

fn put(drive: &dyn DriveWrite, parts: &[(u64, &[u8])]) -> Result<(), JobFault> {
    for (at, bytes) in parts.iter().filter(|(_, bytes)| !bytes.is_empty()) {
        drive.write_at(*at, bytes).map_err(|source| JobFault::Write { at: *at, bytes: bytes.len() as u64, source })?;
    }
    drive.flush().map_err(|source| JobFault::Flush { source })
}

fn first_difference(drive: &dyn DriveIo, parts: &[(u64, &[u8])]) -> Result<Option<u64>, JobFault> {
    for (at, bytes) in parts.iter().filter(|(_, bytes)| !bytes.is_empty()) {
        if !holds(drive, *at, bytes)? {
            return Ok(Some(*at));
        }
    }
    Ok(None)
}

/// Whether the drive reads back as `bytes` from byte `at` on.
fn holds(drive: &dyn DriveIo, at: u64, bytes: &[u8]) -> Result<bool, JobFault> {
    let mut found = AlignedBuf::new(bytes.len());
    drive.read_at(at, &mut found).map_err(|source| JobFault::Read { at, source })?;
    Ok(*found == *bytes)
}
