//! Read-back: the drive's own bytes, past every cache, against the digests of what it should hold.

use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};

use crate::devices::{AlignedBuf, DriveFault, DriveIo};
use crate::job::lock::lock;
use crate::job::piece::{IN_FLIGHT, Piece};
use crate::job::teller::Teller;
use crate::job::workers::{Died, Work, Workers};
use crate::job::{Event, JobFault, Watcher};
use crate::record::Stage;
use crate::stop::Cancel;

/// Read at once, in bytes; with several requests in flight as fast as the drive, and small enough for many drives.
const REQUEST: usize = 2 << 20;
/// A drive is given up after so many blocks that can't be read: each may take half a minute.
const UNREADABLE_MOST: usize = 16;

/// A piece that does not hold what it should, and what it holds instead; `None` if it can't be read.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Suspect {
    pub piece: Piece,
    pub found: Option<blake3::Hash>,
}

/// Digest of `bytes` bytes of a drive from `at` on.
///
/// # Errors
/// When they can't be read.
pub(crate) fn digest_of(
    drive: &dyn DriveIo,
    at: u64,
    bytes: u64,
    buffer: &mut AlignedBuf,
) -> Result<blake3::Hash, DriveFault> {
    let sector = u64::from(drive.sector_bytes().max(1));
    let mut hasher = blake3::Hasher::new();
    let mut done = 0u64;
    while done < bytes {
        let inside = bytes.saturating_sub(done).min(REQUEST as u64);
        let whole = usize::try_from(inside.checked_next_multiple_of(sector).unwrap_or(inside)).unwrap_or(REQUEST);
        let into = buffer.get_mut(..whole).unwrap_or_default();
        drive.read_at(at.saturating_add(done), into)?;
        hasher.update(into.get(..usize::try_from(inside).unwrap_or(REQUEST)).unwrap_or_default());
        done = done.saturating_add(inside);
    }
    Ok(hasher.finalize())
}

/// A buffer for [`digest_of`].
pub(crate) fn buffer() -> AlignedBuf {
    AlignedBuf::new(REQUEST)
}

/// Looks at a piece twice, if need be. `read_again` hears of one that was right only the second time.
pub(crate) fn judge(
    drive: &dyn DriveIo,
    piece: &Piece,
    buffer: &mut AlignedBuf,
    read_again: &dyn Fn(u64),
) -> Result<Option<Suspect>, JobFault> {
    let mut found = None;
    for attempt in 0..2 {
        match digest_of(drive, piece.at, piece.bytes, buffer) {
            Ok(digest) if digest == piece.digest => {
                if attempt > 0 {
                    read_again(piece.at);
                }
                return Ok(None);
            }
            Ok(digest) => found = Some(digest),
            Err(DriveFault::Gone) => {
                let Piece { at, bytes, .. } = *piece;
                return Err(JobFault::Read { at, bytes, source: DriveFault::Gone });
            }
            Err(DriveFault::Failed(_)) => found = None,
        }
    }
    Ok(Some(Suspect { piece: *piece, found }))
}

/// The threads of one drive that read its pieces.
struct ReadingBack<'a> {
    drive: &'a dyn DriveIo,
    pieces: &'a [Piece],
    number: usize,
    cancel: &'a Cancel,
    watcher: &'a dyn Watcher,
    next: AtomicUsize,
    done: AtomicU64,
    is_over: AtomicBool,
    suspects: Mutex<Vec<Suspect>>,
    fault: Mutex<Option<JobFault>>,
}

impl ReadingBack<'_> {
    fn fail(&self, found: JobFault) {
        lock(&self.fault).get_or_insert(found);
        self.is_over.store(true, Ordering::Relaxed);
    }

    fn suspect(&self, suspect: Suspect) {
        let mut suspects = lock(&self.suspects);
        suspects.push(suspect);
        if suspects.iter().filter(|suspect| suspect.found.is_none()).count() >= UNREADABLE_MOST {
            self.is_over.store(true, Ordering::Relaxed);
        }
    }
}

impl Work for ReadingBack<'_> {
    fn part(&self, _number: usize, _workers: &Workers) {
        let mut buffer = buffer();
        let read_again = |at| self.watcher.heard(self.number, &Event::ReadAgain { at });
        while !self.is_over.load(Ordering::Relaxed) {
            let Some(piece) = self.pieces.get(self.next.fetch_add(1, Ordering::Relaxed)) else { break };
            if self.cancel.is_set() {
                self.fail(JobFault::Stopped { stage: Stage::ReadBack });
                break;
            }
            match judge(self.drive, piece, &mut buffer, &read_again) {
                Ok(suspect) => suspect.into_iter().for_each(|suspect| self.suspect(suspect)),
                Err(found) => self.fail(found),
            }
            self.done.fetch_add(piece.bytes, Ordering::Relaxed);
        }
    }

    fn died(&self, died: Died) {
        self.fail(died.into());
    }
}

/// Reads all pieces from the drive, several at a time, and gives those that are not as they should be, in order.
pub(crate) fn read_back(
    drive: &dyn DriveIo,
    pieces: &[Piece],
    number: usize,
    cancel: &Cancel,
    watcher: &dyn Watcher,
) -> Result<Vec<Suspect>, JobFault> {
    let reading = ReadingBack {
        drive,
        pieces,
        number,
        cancel,
        watcher,
        next: AtomicUsize::new(0),
        done: AtomicU64::new(0),
        is_over: AtomicBool::new(false),
        suspects: Mutex::default(),
        fault: Mutex::default(),
    };
    let mut teller = Teller::of(watcher, number, Stage::ReadBack);
    Workers::run(IN_FLIGHT, &reading, &mut |_| teller.tell(reading.done.load(Ordering::Relaxed)));
    if let Some(fault) = lock(&reading.fault).take() {
        return Err(fault);
    }
    let mut suspects = std::mem::take(&mut *lock(&reading.suspects));
    suspects.sort_by_key(|suspect| suspect.piece.at);
    Ok(suspects)
}
