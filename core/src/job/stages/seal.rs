//! The ends of a job: emptying what could start a PC, and putting it there once all else is proven.

use std::ops::Range;

use crate::devices::{AlignedBuf, DriveFault, DriveIo, DriveWrite, Sectors};
use crate::job::JobFault;
use crate::job::layout::{Frame, OUTERMOST_BYTES, length, pieces};
use crate::job::piece::{Piece, Withheld};
use crate::job::stages::readback;
use crate::record::Head;
use crate::volume::gpt;

/// Pieces of the body that are read once more when all else is done: the first sectors may have come to lie over them.
const LAST_PIECES: usize = 2;

/// A request that fails is tried again in pieces of these many bytes, then sector by sector.
const SMALLER: [usize; 2] = [64 << 10, 4 << 10];
/// A part is given up after so many sectors that fail: each may take half a minute.
const FAILURES_MOST: usize = 8;

fn zeros(range: &Range<u64>) -> AlignedBuf {
    AlignedBuf::new(usize::try_from(length(range)).unwrap_or_default())
}

/// How emptying the ends of a drive went.
pub(crate) struct Emptied {
    /// What its start holds now.
    pub head: Head,
    /// What failed first.
    pub fault: Option<JobFault>,
}

/// Empties the head's place and the drive's last MiB, and makes sure that they are empty.
///
/// The sectors that firmware looks for go first: what was on the drive is not started any more once the rest of it suffers. What
/// fails in one place keeps nothing from being emptied in another.
pub(crate) fn blank(drive: &dyn DriveWrite, frame: &Frame) -> Emptied {
    let (head, end) = (zeros(&frame.head()), zeros(&frame.end()));
    let Ends { middle, outermost: [last, first] } = order(&head, &end, frame);
    let mut fault = None;
    for parts in [&[first][..], &[last], &middle] {
        for (at, bytes) in parts.iter().filter(|(_, bytes)| !bytes.is_empty()) {
            fault = fault.or(put_piecewise(drive, *at, bytes).err());
        }
        fault = fault.or(drive.flush().map_err(|source| JobFault::Flush { source }).err());
    }
    let found = match first_difference(drive, &[(0, &head), (frame.end().start, &end)]) {
        Ok(None) => return Emptied { head: Head::Blank, fault },
        Ok(Some(at)) => JobFault::NotTaken { at },
        Err(found) => found,
    };
    Emptied { head: what_is_left(drive, &head, frame), fault: fault.or(Some(found)) }
}

/// What the start of a drive holds where something could not be emptied.
fn what_is_left(drive: &dyn DriveWrite, blank: &[u8], frame: &Frame) -> Head {
    match first_difference(drive, &[(0, blank)]) {
        Err(_) => Head::Unknown,
        Ok(Some(_)) => Head::Old,
        // Firmware that finds no table at the start looks for the backup at the end; what it can't read starts nothing.
        Ok(None) => {
            let drive_bytes = Sectors::of(drive);
            let backup = gpt::read(&drive_bytes).ok().flatten().is_some_and(|gpt| gpt.backup.is_ok());
            if backup && !frame.end().is_empty() { Head::Old } else { Head::Blank }
        }
    }
}

/// Writes a part, and where that fails as much of it as the drive takes. Gives the stretch in which pieces failed.
fn put_piecewise(drive: &dyn DriveWrite, at: u64, bytes: &[u8]) -> Result<(), JobFault> {
    let fail = |at, bytes: &[u8], source| JobFault::Write { at, bytes: bytes.len() as u64, source };
    match drive.write_at(at, bytes) {
        Ok(()) => return Ok(()),
        Err(DriveFault::Failed(_)) => {}
        Err(gone) => return Err(fail(at, bytes, gone)),
    }
    let mut failed: Option<(Range<u64>, DriveFault)> = None;
    let mut failures = 0usize;
    let sector = usize::try_from(drive.sector_bytes()).unwrap_or(SMALLER[1]).max(1);
    let mut open: Vec<(u64, &[u8])> = vec![(at, bytes)];
    while let Some((at, bytes)) = open.pop() {
        let size = SMALLER.into_iter().find(|size| *size < bytes.len() && *size > sector).unwrap_or(sector);
        let mut smaller = Vec::new();
        for (at, piece) in pieces(at, bytes, size) {
            match drive.write_at(at, piece) {
                Ok(()) => {}
                Err(DriveFault::Failed(_)) if size > sector => smaller.push((at, piece)),
                Err(source) => {
                    let is_gone = matches!(source, DriveFault::Gone);
                    let end = at.saturating_add(piece.len() as u64);
                    let range = failed.take().map_or(at..end, |(range, _)| range.start.min(at)..range.end.max(end));
                    failed = Some((range, source));
                    failures = failures.saturating_add(1);
                    if is_gone || failures >= FAILURES_MOST {
                        smaller.clear();
                        open.clear();
                        break;
                    }
                }
            }
        }
        // In their order, so that what fails first is what lies first.
        open.extend(smaller.into_iter().rev());
    }
    failed.map_or(Ok(()), |(range, source)| Err(JobFault::Write { at: range.start, bytes: length(&range), source }))
}

/// Fills the head's place, but for its first sectors, with bytes that belong to no image and start no PC.
///
/// A drive with less room than it claims shows the same memory in two places. Where one of them is the head's, the
/// body would read back well and be spoilt by the seal; with the place marked, the read-back finds the marks instead.
pub(crate) fn mark(drive: &dyn DriveWrite, frame: &Frame) -> Result<(), JobFault> {
    let place = frame.head();
    if place.end <= OUTERMOST_BYTES {
        return Ok(());
    }
    let mut marks = zeros(&(OUTERMOST_BYTES..place.end));
    fill_head_marks(OUTERMOST_BYTES, &mut marks);
    put(drive, &[(OUTERMOST_BYTES, &marks)])
}

/// Fills `into` with the head's marks as they lie from byte `at` of the drive on.
pub(crate) fn fill_head_marks(at: u64, into: &mut [u8]) {
    let mut marks = blake3::Hasher::new().update(b"this drive is being written").finalize_xof();
    marks.set_position(at.saturating_sub(OUTERMOST_BYTES));
    marks.fill(into);
}

/// What goes to the two ends of a drive, and where: the sectors without which no firmware finds a table, and all between.
struct Ends<'a> {
    middle: [(u64, &'a [u8]); 2],
    outermost: [(u64, &'a [u8]); 2],
}

/// Takes apart what goes to the head's place and to the drive's end, at multiples of the alignment, so that each part can go to
/// the drive as it is.
fn order<'a>(head: &'a [u8], end: &'a [u8], frame: &Frame) -> Ends<'a> {
    let outermost = OUTERMOST_BYTES as usize;
    let (first, rest) = head.split_at_checked(outermost.min(head.len())).unwrap_or_default();
    // An image that ends before the drive does has nothing there.
    let place = frame.end();
    let last = length(&place).saturating_sub(1) / OUTERMOST_BYTES;
    let last = usize::try_from(last.saturating_mul(OUTERMOST_BYTES)).unwrap_or(usize::MAX);
    let (before, last) = end.split_at_checked(last.min(end.len())).unwrap_or_default();
    Ends {
        middle: [(place.start, before), (first.len() as u64, rest)],
        outermost: [(place.start.saturating_add(before.len() as u64), last), (0, first)],
    }
}

/// What was withheld of an image of so many bytes.
fn order_of<'a>(withheld: &'a Withheld, frame: &Frame, image_bytes: u64) -> Ends<'a> {
    let place = frame.end();
    let reach = frame.padded(image_bytes).min(place.end).saturating_sub(place.start);
    let reach = usize::try_from(reach).unwrap_or(usize::MAX);
    order(&withheld.head, withheld.end.get(..reach).unwrap_or_default(), frame)
}

/// How many bytes the seal writes.
pub(crate) fn bytes(withheld: &Withheld, frame: &Frame, image_bytes: u64) -> u64 {
    let Ends { middle, outermost } = order_of(withheld, frame, image_bytes);
    middle.iter().chain(&outermost).map(|(_, bytes)| bytes.len() as u64).sum()
}

/// Whether the ends of the drive hold the image's already, and nothing else behind them.
pub(crate) fn is_sealed(drive: &dyn DriveIo, withheld: &Withheld, frame: &Frame) -> Result<bool, JobFault> {
    let ends: [(u64, &[u8]); 2] = [(0, &withheld.head), (frame.end().start, &withheld.end)];
    Ok(first_difference(drive, &ends)?.is_none())
}

/// Writes what was withheld. What firmware looks for goes last, the first sectors as the very last, when all else on the drive
/// has been read back.
///
/// `Ok(Some(at))` says that what was written at byte `at` does not read back.
pub(crate) fn seal(
    drive: &dyn DriveWrite,
    frame: &Frame,
    withheld: &Withheld,
    image_bytes: u64,
    pieces: &[Piece],
) -> Result<Option<u64>, JobFault> {
    let Ends { middle, outermost: [last, first] } = order_of(withheld, frame, image_bytes);
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

/// The first byte in any of these places that reads back as something else.
fn first_difference(drive: &dyn DriveIo, parts: &[(u64, &[u8])]) -> Result<Option<u64>, JobFault> {
    for (at, bytes) in parts.iter().filter(|(_, bytes)| !bytes.is_empty()) {
        let mut found = AlignedBuf::new(bytes.len());
        let fail = |source| JobFault::Read { at: *at, bytes: bytes.len() as u64, source };
        drive.read_at(*at, &mut found).map_err(fail)?;
        if let Some(place) = found.iter().zip(*bytes).position(|(found, wanted)| found != wanted) {
            return Ok(Some(at.saturating_add(place as u64)));
        }
    }
    Ok(None)
}

#[cfg(test)]
mod tests {
    use std::sync::Mutex;

    use super::*;
    use crate::hash::BLOCK_BYTES;

    const MIB: usize = 1 << 20;
    const OUTERMOST: usize = OUTERMOST_BYTES as usize;

    /// A write: its place and its length.
    type Write = (usize, usize);

    /// A drive in memory, and what was written to it in which order.
    struct Noted(Mutex<(Vec<u8>, Vec<Write>)>, Vec<Bad>);

    /// A place that takes nothing, and what is said of it.
    type Bad = (Range<usize>, fn() -> DriveFault);

    fn failed() -> DriveFault {
        DriveFault::Failed(std::io::Error::other("a bad sector"))
    }

    fn gone() -> DriveFault {
        DriveFault::Gone
    }

    impl Noted {
        fn of(bytes: usize) -> Self {
            Self::holding(vec![0x77; bytes], &[])
        }

        /// One that does not take what touches these places.
        fn holding(bytes: Vec<u8>, bad: &[Bad]) -> Self {
            Self(Mutex::new((bytes, Vec::new())), bad.to_vec())
        }

        fn bytes_now(&self) -> Vec<u8> {
            self.0.lock().unwrap().0.clone()
        }

        fn written(&self) -> Vec<Write> {
            std::mem::take(&mut self.0.lock().unwrap().1)
        }
    }

    impl DriveIo for Noted {
        fn bytes(&self) -> u64 {
            self.0.lock().unwrap().0.len() as u64
        }

        fn sector_bytes(&self) -> u32 {
            512
        }

        fn read_at(&self, at: u64, into: &mut [u8]) -> Result<(), DriveFault> {
            let at = at as usize;
            into.copy_from_slice(&self.0.lock().unwrap().0[at..at + into.len()]);
            Ok(())
        }
    }

    impl DriveWrite for Noted {
        fn write_at(&self, at: u64, from: &[u8]) -> Result<(), DriveFault> {
            let (bytes, written) = &mut *self.0.lock().unwrap();
            let place = at as usize..at as usize + from.len();
            if let Some((_, fault)) = self.1.iter().find(|(bad, _)| bad.start < place.end && place.start < bad.end) {
                written.push((at as usize, 0));
                return Err(fault());
            }
            bytes[at as usize..at as usize + from.len()].copy_from_slice(from);
            written.push((at as usize, from.len()));
            Ok(())
        }

        fn flush(&self) -> Result<(), DriveFault> {
            Ok(())
        }
    }

    #[test]
    fn the_heads_place_is_marked_with_what_no_image_holds_twice() {
        let drive = Noted::of(4 * MIB);
        mark(&drive, &Frame::of(drive.bytes(), 512)).unwrap();
        let bytes = drive.bytes_now();
        let (first, rest) = bytes[..MIB].split_at(OUTERMOST);
        assert!(
            first.iter().chain(&bytes[MIB..]).all(|byte| *byte == 0x77),
            "only the head's place, but its first sectors"
        );
        // Each block of it is its own: one that shows up elsewhere tells which it is.
        let blocks: std::collections::BTreeSet<&[u8]> = rest.chunks(OUTERMOST).collect();
        assert_eq!(blocks.len(), rest.len() / OUTERMOST);
        assert!(blocks.iter().all(|block| block.iter().any(|byte| !matches!(byte, 0 | 0x77 | 0xFF))));
        let tiny = Noted::of(OUTERMOST);
        mark(&tiny, &Frame::of(tiny.bytes(), 512)).unwrap();
        assert_eq!(tiny.written(), []);
    }

    #[test]
    fn what_firmware_looks_for_is_emptied_first_and_sealed_last() {
        // The last places are whole pages from the end's start on, and never nothing.
        for (drive_bytes, last) in
            [(4 * MIB, OUTERMOST), (4 * MIB + 512, OUTERMOST), (MIB + 4608, 512), (MIB + 4096, 4096)]
        {
            let drive = Noted::of(drive_bytes);
            let frame = Frame::of(drive.bytes(), 512);
            let end = frame.end().start as usize;
            let rest: Vec<Write> = [(end, drive_bytes - last - end), (OUTERMOST, MIB - OUTERMOST)]
                .into_iter()
                .filter(|part| part.1 > 0)
                .collect();
            assert_eq!(blank(&drive, &frame).head, Head::Blank);
            assert_eq!(drive.written(), [vec![(0, OUTERMOST), (drive_bytes - last, last)], rest.clone()].concat());
            let fill = |range: Range<u64>| {
                let mut buffer = zeros(&range);
                buffer.fill(0x5A);
                buffer
            };
            let withheld = Withheld { head: fill(frame.head()), end: fill(frame.end()) };
            assert_eq!(seal(&drive, &frame, &withheld, drive.bytes(), &[]).unwrap(), None);
            let outermost = [(drive_bytes - last, last), (0, OUTERMOST)];
            assert_eq!(drive.written(), [rest, outermost.to_vec()].concat(), "a drive of {drive_bytes} bytes");
            assert_eq!(bytes(&withheld, &frame, drive.bytes()), (MIB + drive_bytes - end) as u64);
            assert!(is_sealed(&drive, &withheld, &frame).unwrap());
            drive.write_at(drive.bytes() - 1, &[0]).unwrap();
            assert!(!is_sealed(&drive, &withheld, &frame).unwrap());
        }
    }

    #[test]
    fn of_a_part_that_fails_all_is_emptied_but_the_sectors_that_fail() {
        let put = |bytes: usize, bad: &[Bad]| {
            let drive = Noted::holding(vec![0x77; MIB], bad);
            let ended = put_piecewise(&drive, 8192, &vec![0; bytes]).err();
            let range = ended.map(|fault| match fault {
                JobFault::Write { at, bytes, .. } => at as usize..(at + bytes) as usize,
                other => panic!("{other}"),
            });
            (range, drive.written(), drive.bytes_now())
        };
        // One sector: the pieces become smaller around it, three times, and never smaller than a sector.
        let bad = 8192 + 200_000 / 512 * 512..8192 + 200_000 / 512 * 512 + 512;
        let (range, written, bytes) = put(512 << 10, &[(bad.clone(), failed)]);
        assert_eq!(range, Some(bad.clone()));
        let of_size = |size| written.iter().filter(|(_, bytes)| *bytes == size).count();
        assert_eq!([64 << 10, 4 << 10, 512, 0].map(of_size), [7, 15, 7, 4], "pieces taken of each size, and refusals");
        let kept = bytes.iter().enumerate().filter(|(_, byte)| **byte == 0x77).map(|(place, _)| place);
        let outside = (0..8192).chain(8192 + (512 << 10)..MIB);
        assert!(kept.eq((0..8192).chain(bad).chain(outside.filter(|place| *place >= 8192))));
        // What is no longer than the pieces is taken apart to the next smaller ones at once.
        let (_, written, _) = put(4 << 10, &[(8192..8704, failed)]);
        assert_eq!(written.iter().map(|(_, bytes)| *bytes).collect::<Vec<_>>(), [&[0, 0][..], &[512; 7]].concat());
        // Two places far apart are told as one stretch, and the piece between them is emptied.
        let (range, _, bytes) = put(256 << 10, &[(8192..8704, failed), (100_352..100_864, failed)]);
        assert_eq!((range, bytes[50_000]), (Some(8192..100_864), 0));
        // Where everything fails it is given up after so many sectors; where nobody is there any more, at once.
        let (range, written, _) = put(512 << 10, &[(0..MIB, failed)]);
        assert_eq!(range, Some(8192..8192 + FAILURES_MOST * 512));
        assert_eq!(written.len(), 1 + 8 + 16 + FAILURES_MOST);
        let (range, written, _) = put(512 << 10, &[(0..MIB, gone)]);
        assert_eq!((range, written.len()), (Some(8192..8192 + (512 << 10)), 1));
        let gone_later: [Bad; 2] = [(8192..8704, failed), (8192 + (64 << 10)..MIB, gone)];
        assert_eq!(put(512 << 10, &gone_later).1.last(), Some(&(8192 + (64 << 10), 0)));
    }

    #[test]
    fn a_backup_table_that_stays_counts_as_what_was_there_before() {
        let disk = pyrotyp_sample::cafe::desktop().build();
        let end = disk.len();
        let left = |bytes: Vec<u8>| {
            let drive = Noted::holding(bytes, &[(end - 64 * 512..end, failed)]);
            let emptied = blank(&drive, &Frame::of(drive.bytes(), 512));
            assert!(emptied.fault.is_some());
            emptied.head
        };
        assert_eq!(left(disk.clone()), Head::Old);
        assert_eq!(left(vec![0x77; end]), Head::Blank, "nothing at the end that firmware looks for");
    }

    #[test]
    fn a_seal_that_spoils_the_bodys_last_blocks_is_told() {
        let drive = Noted::of(16 * MIB);
        let frame = Frame::of(drive.bytes(), 512);
        let withheld = Withheld { head: zeros(&frame.head()), end: AlignedBuf::new(0) };
        let piece = |number: u64| Piece {
            at: number * BLOCK_BYTES,
            bytes: BLOCK_BYTES,
            digest: blake3::hash(&vec![0x77; BLOCK_BYTES as usize]),
        };
        let pieces = [piece(1), piece(2)];
        assert_eq!(seal(&drive, &frame, &withheld, 12 << 20, &pieces).unwrap(), None);
        for piece in &pieces {
            drive.write_at(piece.at + 5, &[1]).unwrap();
            assert_eq!(seal(&drive, &frame, &withheld, 12 << 20, &pieces).unwrap(), Some(piece.at));
            drive.write_at(piece.at + 5, &[0x77]).unwrap();
        }
    }
}
