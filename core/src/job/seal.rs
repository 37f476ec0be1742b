//! The ends of a job: emptying what could start a PC, and putting it there once all else is proven.

use std::ops::Range;

use super::JobFault;
use super::body::{Piece, Withheld};
use super::layout::{Frame, OUTERMOST_BYTES};
use super::readback;
use crate::drive::{AlignedBuf, DriveIo, DriveWrite};

/// Pieces of the body that are read once more when all else is done: the first sectors may have come to lie over them.
const LAST_PIECES: usize = 2;

fn zeros(range: &Range<u64>) -> AlignedBuf {
    AlignedBuf::new((range.end - range.start) as usize)
}

/// Empties the head's place and the drive's last MiB, and makes sure that they are empty.
///
/// The sectors that firmware looks for go first: what was on the drive is not started any more once the rest of it suffers.
pub fn blank(drive: &dyn DriveWrite, frame: &Frame) -> Result<(), JobFault> {
    let (head, end) = (zeros(&frame.head()), zeros(&frame.end()));
    let Order { middle, outermost } = order(&head, &end, frame);
    put(drive, &outermost)?;
    put(drive, &middle)?;
    match first_difference(drive, &[(0, &head), (frame.end().start, &end)])? {
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
    if place.end <= OUTERMOST_BYTES {
        return Ok(());
    }
    let mut marks = zeros(&(OUTERMOST_BYTES..place.end));
    blake3::Hasher::new().update(b"this drive is being written").finalize_xof().fill(&mut marks);
    put(drive, &[(OUTERMOST_BYTES, &marks)])
}

/// What goes to the two ends of a drive, and where: the sectors without which no firmware finds a table, and all between.
struct Order<'a> {
    middle: [(u64, &'a [u8]); 2],
    outermost: [(u64, &'a [u8]); 2],
}

/// Takes apart what goes to the head's place and to the drive's end, at multiples of the alignment, so that each part can go to
/// the drive as it is.
fn order<'a>(head: &'a [u8], end: &'a [u8], frame: &Frame) -> Order<'a> {
    let outermost = OUTERMOST_BYTES as usize;
    let (first, rest) = head.split_at_checked(outermost.min(head.len())).unwrap_or_default();
    // An image that ends before the drive does has nothing there.
    let place = frame.end();
    let last = (place.end - place.start).saturating_sub(1) as usize / outermost * outermost;
    let (before, last) = end.split_at_checked(last.min(end.len())).unwrap_or_default();
    Order {
        middle: [(place.start, before), (first.len() as u64, rest)],
        outermost: [(place.start + before.len() as u64, last), (0, first)],
    }
}

/// What was withheld of an image of so many bytes.
fn order_of<'a>(withheld: &'a Withheld, frame: &Frame, image_bytes: u64) -> Order<'a> {
    let place = frame.end();
    let reach = frame.padded(image_bytes).min(place.end).saturating_sub(place.start);
    order(&withheld.head, withheld.end.get(..reach as usize).unwrap_or_default(), frame)
}

/// How many bytes the seal writes.
pub fn bytes(withheld: &Withheld, frame: &Frame, image_bytes: u64) -> u64 {
    let Order { middle, outermost } = order_of(withheld, frame, image_bytes);
    middle.iter().chain(&outermost).map(|(_, bytes)| bytes.len() as u64).sum()
}

/// Whether the ends of the drive hold the image's already, and nothing else behind them.
pub fn is_sealed(drive: &dyn DriveIo, withheld: &Withheld, frame: &Frame) -> Result<bool, JobFault> {
    let ends: [(u64, &[u8]); 2] = [(0, &withheld.head), (frame.end().start, &withheld.end)];
    Ok(first_difference(drive, &ends)?.is_none())
}

/// Writes what was withheld. What firmware looks for goes last, the first sectors as the very last, when all else on the drive
/// has been read back.
///
/// `Ok(Some(at))` says that what was written at byte `at` does not read back.
pub fn seal(
    drive: &dyn DriveWrite,
    frame: &Frame,
    withheld: &Withheld,
    image_bytes: u64,
    pieces: &[Piece],
) -> Result<Option<u64>, JobFault> {
    let Order { middle, outermost: [last, first] } = order_of(withheld, frame, image_bytes);
    for parts in [&middle[..], &[last], &[first]] {
        put(drive, parts)?;
        if let Some(at) = first_difference(drive, parts)? {
            return Ok(Some(at));
        }
    }
    // All that was withheld once more: what came last may have gone where something else was.
    let [before, rest] = middle;
    if let Some(at) = first_difference(drive, &[rest, before, last])? {
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
    if parts.iter().all(|(_, bytes)| bytes.is_empty()) {
        return Ok(());
    }
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
