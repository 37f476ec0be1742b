//! Read-back: the drive's own bytes, past every cache, against the digests of what it should hold.

use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use crate::devices::{AlignedBuf, DriveFault, DriveIo};
use crate::job::piece::{IN_FLIGHT, Piece};
use crate::job::workers::Workers;
use crate::job::{Event, JobFault, Watcher};
use crate::record::Stage;
use crate::stop::Cancel;

/// Read at once, in bytes; with several requests in flight as fast as the drive, and small enough for many drives.
const REQUEST: usize = 2 << 20;
/// How often progress is told.
const TELL: Duration = Duration::from_millis(100);
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

/// Reads all pieces from the drive, several at a time, and gives those that are not as they should be, in order.
pub(crate) fn read_back(
    drive: &dyn DriveIo,
    pieces: &[Piece],
    number: usize,
    cancel: &Cancel,
    watcher: &dyn Watcher,
) -> Result<Vec<Suspect>, JobFault> {
    let (next, done) = (AtomicUsize::new(0), AtomicU64::new(0));
    let working = Workers::of(IN_FLIGHT);
    let is_over = AtomicBool::new(false);
    let suspects = Mutex::new(Vec::new());
    let fault = Mutex::new(None);
    let fail = |found: JobFault| {
        fault.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(found);
        is_over.store(true, Ordering::Relaxed);
    };
    let read_again = |at| watcher.heard(number, &Event::ReadAgain { at });
    let work = || {
        let mut buffer = buffer();
        while !is_over.load(Ordering::Relaxed) {
            let Some(piece) = pieces.get(next.fetch_add(1, Ordering::Relaxed)) else { break };
            if cancel.is_set() {
                fail(JobFault::Stopped { stage: Stage::ReadBack });
                break;
            }
            match judge(drive, piece, &mut buffer, &read_again) {
                Ok(None) => {}
                Ok(Some(suspect)) => {
                    let mut suspects: std::sync::MutexGuard<'_, Vec<Suspect>> =
                        suspects.lock().unwrap_or_else(PoisonError::into_inner);
                    suspects.push(suspect);
                    if suspects.iter().filter(|suspect| suspect.found.is_none()).count() >= UNREADABLE_MOST {
                        is_over.store(true, Ordering::Relaxed);
                    }
                }
                Err(found) => fail(found),
            }
            done.fetch_add(piece.bytes, Ordering::Relaxed);
        }
    };
    std::thread::scope(|scope| {
        for _ in 0..IN_FLIGHT {
            scope.spawn(|| working.does(work).unwrap_or_else(|died| fail(died.into())));
        }
        let mut told = 0;
        while working.is_at_work() {
            std::thread::park_timeout(TELL);
            let now = done.load(Ordering::Relaxed);
            if now != told {
                told = now;
                watcher.heard(number, &Event::Moved { stage: Stage::ReadBack, done: now });
            }
        }
    });
    if let Some(fault) = fault.into_inner().unwrap_or_else(PoisonError::into_inner) {
        return Err(fault);
    }
    let mut suspects = suspects.into_inner().unwrap_or_else(PoisonError::into_inner);
    suspects.sort_by_key(|suspect| suspect.piece.at);
    Ok(suspects)
}
