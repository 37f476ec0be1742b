//! Read-back: the drive's own bytes, past every cache, against the image.

use std::ops::Range;
use std::sync::mpsc::sync_channel;
use std::thread;

use super::body::fill_exactly;
use super::difference::{Blocks, Cause, Differences};
use super::layout::{BLOCK_BYTES, blocks_of};
use super::{JobFault, Stage, Watcher};
use crate::Cancel;
use crate::drive::{AlignedBuf, DriveFault, DriveIo};
use crate::image::ReadAt;

/// Blocks read ahead while one is compared.
const BUFFERS: usize = 3;
/// A block that can't be read as a whole is read in pieces of this many bytes, to find which part it is.
const PIECE: usize = 64 << 10;
/// A drive is given up after this many pieces that can't be read: each may take half a minute.
const UNREADABLE_MOST: usize = 16;

/// What the drive's bytes are compared with.
pub enum Against<'a> {
    /// The digests of the image's blocks: neither read nor unpacked again.
    Digests(&'a [blake3::Hash]),
    /// The image itself.
    Image,
}

/// Reads `range` from the drive and compares it with the same range of the image.
pub fn compare(
    image: &dyn ReadAt,
    drive: &dyn DriveIo,
    range: Range<u64>,
    against: &Against<'_>,
    cancel: &Cancel,
    watcher: &mut dyn Watcher,
) -> Result<Differences, JobFault> {
    let blocks = Blocks::new(match against {
        Against::Digests(digests) => digests,
        Against::Image => &[],
    });
    let sector = u64::from(drive.sector_bytes().max(1));
    let padded = |bytes: u64| bytes.next_multiple_of(sector) as usize;
    let mut reader = Reader { image, drive, blocks, against, unreadable: 0, differences: Differences::default() };
    let (empty_in, empty_out) = sync_channel::<AlignedBuf>(BUFFERS);
    let (full_in, full_out) = sync_channel(BUFFERS);
    for _ in 0..BUFFERS {
        // The channel has room for all of them.
        let _ = empty_in.send(AlignedBuf::new(BLOCK_BYTES as usize));
    }
    let pieces = range.clone();
    thread::scope(|scope| {
        scope.spawn(move || {
            for (index, piece) in blocks_of(pieces) {
                let Ok(mut buffer) = empty_out.recv() else { return };
                let into = buffer.get_mut(..padded(piece.end - piece.start)).unwrap_or_default();
                let read = drive.read_at(piece.start, into);
                if full_in.send((index, piece, buffer, read)).is_err() {
                    return;
                }
            }
        });
        let mut take = || -> Result<(), JobFault> {
            for (index, piece, mut buffer, read) in &full_out {
                if cancel.is_set() {
                    return Err(JobFault::Stopped { stage: Stage::ReadBack });
                }
                let whole = padded(piece.end - piece.start);
                let bytes = (piece.end - piece.start) as usize;
                reader.block(index, piece.start, bytes, buffer.get_mut(..whole).unwrap_or_default(), read)?;
                watcher.moved(Stage::ReadBack, piece.end - range.start);
                let _ = empty_in.send(buffer);
            }
            Ok(())
        };
        let taken = take();
        drop(full_out);
        drop(empty_in);
        taken
    })?;
    Ok(reader.differences)
}

struct Reader<'a> {
    image: &'a dyn ReadAt,
    drive: &'a dyn DriveIo,
    blocks: Blocks<'a>,
    against: &'a Against<'a>,
    unreadable: usize,
    differences: Differences,
}

impl Reader<'_> {
    /// Judges one block that was read into `found`, whose first `bytes` bytes belong to the image.
    fn block(
        &mut self,
        index: usize,
        at: u64,
        bytes: usize,
        found: &mut [u8],
        read: Result<(), DriveFault>,
    ) -> Result<(), JobFault> {
        match read {
            Ok(()) if self.matches(index, at, found.get(..bytes).unwrap_or_default())? => return Ok(()),
            Ok(()) => {}
            Err(DriveFault::Gone) => return Err(JobFault::Read { at, source: DriveFault::Gone }),
            Err(DriveFault::Failed(_)) => {}
        }
        // Once more: what differs only sometimes is a bad plug, not bad memory.
        match self.drive.read_at(at, found) {
            Ok(()) => {
                let found = found.get(..bytes).unwrap_or_default();
                if self.matches(index, at, found)? {
                    return Ok(());
                }
                let digest = blake3::hash(found);
                let elsewhere = self.blocks.is_elsewhere(index, &digest, bytes);
                let expected = self.expected(at, bytes)?;
                self.differences.compare(at, &expected, found, elsewhere);
                Ok(())
            }
            Err(DriveFault::Gone) => Err(JobFault::Read { at, source: DriveFault::Gone }),
            Err(DriveFault::Failed(_)) => self.in_pieces(at, bytes, found),
        }
    }

    fn matches(&self, index: usize, at: u64, found: &[u8]) -> Result<bool, JobFault> {
        match self.against {
            Against::Digests(_) => Ok(self.blocks.is_at(index, &blake3::hash(found))),
            Against::Image => Ok(self.expected(at, found.len())? == found),
        }
    }

    fn expected(&self, at: u64, bytes: usize) -> Result<Vec<u8>, JobFault> {
        let mut expected = vec![0u8; bytes];
        fill_exactly(self.image, at, &mut expected)?;
        Ok(expected)
    }

    /// Finds the parts of a block that can't be read, and compares the others.
    fn in_pieces(&mut self, at: u64, bytes: usize, found: &mut [u8]) -> Result<(), JobFault> {
        for (number, piece) in found.chunks_mut(PIECE).enumerate() {
            let start = at + (number * PIECE) as u64;
            let inside = piece.len().min(bytes.saturating_sub(number * PIECE));
            match self.drive.read_at(start, piece) {
                Ok(()) => {
                    let expected = self.expected(start, inside)?;
                    self.differences.compare(start, &expected, piece.get(..inside).unwrap_or_default(), false);
                }
                Err(DriveFault::Gone) => return Err(JobFault::Read { at: start, source: DriveFault::Gone }),
                Err(fault @ DriveFault::Failed(_)) => {
                    self.differences.add(start..start + inside as u64, Cause::Unreadable);
                    self.unreadable += 1;
                    if self.unreadable >= UNREADABLE_MOST {
                        return Err(JobFault::Read { at: start, source: fault });
                    }
                }
            }
        }
        Ok(())
    }
}
