//! What lay where the marks are goes back there, and nowhere else.

use crate::devices::{AlignedBuf, DriveFault, DriveIo, DriveWrite};
use crate::job::JobFault;
use crate::job::gauge::kept::{KeptPiece, KeptPlaces, PIECE};
use crate::job::gauge::marks::MARK_BYTES;

/// How it went.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct PutBack {
    /// Bytes that hold again what lay there before.
    pub bytes: u64,
}

/// Puts back what is kept wherever a mark of its place lies. Whatever else came to lie there since then stays.
///
/// The last piece that was kept goes first: where two places of the drive are one and the same, the first holds what was there
/// before anything was marked. `moved` hears of each stretch that was read or written, in bytes.
///
/// # Errors
/// When the drive is gone or does not take it, or what is kept can't be read.
pub fn put_back(kept: &KeptPlaces, drive: &dyn DriveWrite, moved: &mut dyn FnMut(u64)) -> Result<PutBack, JobFault> {
    let marker = kept.marker();
    let (mut found, mut before, mut marks) = (AlignedBuf::new(PIECE), AlignedBuf::new(PIECE), vec![0; PIECE]);
    let mut done = PutBack::default();
    let mut stuck = None;
    for piece in kept.pieces().iter().rev() {
        let (Some(found), Some(before)) = (found.get_mut(..piece.bytes), before.get_mut(..piece.bytes)) else {
            continue;
        };
        kept.read(piece, before).map_err(|source| JobFault::Keeping { source })?;
        let marked = match drive.read_at(piece.at, found) {
            Ok(()) => {
                let marks = marks.get_mut(..piece.bytes).unwrap_or_default();
                marker.fill(piece.at, marks);
                restore(marks, found, before)
            }
            Err(DriveFault::Gone) => return Err(gone(piece)),
            // Writing may mend what can't be read.
            Err(DriveFault::Failed(_)) => {
                found.copy_from_slice(before);
                piece.bytes
            }
        };
        moved(piece.bytes as u64);
        if marked == 0 {
            moved(piece.bytes as u64);
            continue;
        }
        done.bytes = done.bytes.saturating_add(marked as u64);
        match drive.write_at(piece.at, found) {
            Ok(()) => {}
            Err(DriveFault::Gone) => return Err(gone(piece)),
            Err(DriveFault::Failed(_)) => stuck = stuck.or(Some(piece.at)),
        }
        moved(piece.bytes as u64);
    }
    drive.flush().map_err(|source| JobFault::Flush { source })?;
    match stuck.or(first_marked(kept, drive, &mut found, moved)?) {
        Some(at) => Err(JobFault::NotPutBack { at }),
        None => Ok(done),
    }
}

fn gone(piece: &KeptPiece) -> JobFault {
    JobFault::Write { at: piece.at, bytes: piece.bytes as u64, source: DriveFault::Gone }
}

/// Puts what lay there before in the place of each mark that belongs there, also of one that was cut off; tells how many bytes that are.
fn restore(marks: &[u8], found: &mut [u8], before: &[u8]) -> usize {
    let mut marked = 0usize;
    let sectors = found.chunks_mut(MARK_BYTES).zip(before.chunks(MARK_BYTES)).zip(marks.chunks(MARK_BYTES));
    for ((sector, before), mark) in sectors {
        let is_ours = || sector.iter().zip(before.iter().zip(mark)).all(|(found, (a, b))| found == a || found == b);
        if sector != before && is_ours() {
            sector.copy_from_slice(before);
            marked = marked.saturating_add(sector.len());
        }
    }
    marked
}

/// Whether any mark still lies where something is kept: where.
fn first_marked(
    kept: &KeptPlaces,
    drive: &dyn DriveIo,
    buffer: &mut AlignedBuf,
    moved: &mut dyn FnMut(u64),
) -> Result<Option<u64>, JobFault> {
    let marker = kept.marker();
    for piece in kept.pieces() {
        let found = buffer.get_mut(..piece.bytes).unwrap_or_default();
        moved(piece.bytes as u64);
        match drive.read_at(piece.at, found) {
            Ok(()) => {}
            Err(DriveFault::Gone) => return Err(gone(piece)),
            Err(DriveFault::Failed(_)) => continue,
        }
        if found.chunks(MARK_BYTES).any(|sector| marker.place_of(sector).is_some()) {
            return Ok(Some(piece.at));
        }
    }
    Ok(None)
}

#[cfg(test)]
mod tests {
    use std::sync::Mutex;

    use super::*;
    use crate::devices::ALIGNMENT;

    /// A drive of two places that are one.
    struct Round(Mutex<Vec<u8>>);

    impl DriveIo for Round {
        fn bytes(&self) -> u64 {
            2 * ALIGNMENT as u64
        }

        fn sector_bytes(&self) -> u32 {
            512
        }

        fn read_at(&self, _at: u64, into: &mut [u8]) -> Result<(), DriveFault> {
            into.copy_from_slice(&self.0.lock().unwrap());
            Ok(())
        }
    }

    impl DriveWrite for Round {
        fn write_at(&self, _at: u64, from: &[u8]) -> Result<(), DriveFault> {
            self.0.lock().unwrap().copy_from_slice(from);
            Ok(())
        }

        fn flush(&self) -> Result<(), DriveFault> {
            Ok(())
        }
    }

    #[test]
    fn where_two_places_are_one_what_was_there_first_is_there_last() {
        let folder = tempfile::tempdir().unwrap();
        let tag = "DBR7J".parse().unwrap();
        let old = vec![0x5A; ALIGNMENT];
        let drive = Round(Mutex::new(old.clone()));
        let mut kept = KeptPlaces::begin(&folder.path().join("a.kept"), &tag, drive.bytes(), "seed").unwrap().unwrap();
        let marker = kept.marker();
        let mut bytes = vec![0; ALIGNMENT];
        // The second place is kept when it shows the marks of the first already.
        for at in [0, ALIGNMENT as u64] {
            drive.read_at(at, &mut bytes).unwrap();
            kept.keep(at, &bytes).unwrap();
            marker.fill(at, &mut bytes);
            drive.write_at(at, &bytes).unwrap();
        }
        let mut moved = 0;
        let done = put_back(&kept, &drive, &mut |bytes| moved += bytes).unwrap();
        assert!(*drive.0.lock().unwrap() == old);
        assert_eq!((done.bytes, moved), (2 * ALIGNMENT as u64, 6 * ALIGNMENT as u64));
        // A mark that stays is told.
        let mut marks = vec![0; ALIGNMENT];
        marker.fill(ALIGNMENT as u64 * 7, &mut marks);
        drive.write_at(0, &marks).unwrap();
        assert!(matches!(put_back(&kept, &drive, &mut |_| ()), Err(JobFault::NotPutBack { at: 0 })));
    }
}
