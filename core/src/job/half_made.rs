//! Whether a drive holds what an interrupted job noted as written.

use std::io;
use std::path::Path;

use crate::bytes::ReadAt;
use crate::contents;
use crate::devices::{DriveIo, Sectors};
use crate::hash::{BLOCK_BYTES, hole_digest};
use crate::job::journal::{self, Heading, Notes};
use crate::job::layout::{HEAD_BYTES, OUTERMOST_BYTES, start_of};
use crate::job::stages::readback::{buffer, digest_of};
use crate::job::stages::seal::fill_head_marks;

/// Last blocks of the journal that are read.
pub(super) const PROVEN_BLOCKS: usize = 16;
/// With fewer blocks nothing is proven: the first one holds the head, which is blank until the seal.
pub(super) const MIN_BLOCKS: usize = 2;

/// Whether an interrupted job of `image` left what is on the drive: it holds the last blocks that the job noted in its journal as
/// flushed, or no sample of it holds anything but parts of the image and this program's own marks.
pub fn is_half_made(drive: &dyn DriveIo, image: &dyn ReadAt, journal: Option<(&Path, &Heading)>) -> bool {
    let is_noted = journal.is_some_and(|(path, heading)| has_noted_blocks(drive, path, heading));
    is_noted || has_only_parts_of(drive, image).unwrap_or(false)
}

fn has_only_parts_of(drive: &dyn DriveIo, image: &dyn ReadAt) -> io::Result<bool> {
    let mut expected = Vec::new();
    contents::holds_only(&Sectors::of(drive), &mut |at, chunk| {
        expected.clear();
        expected.resize(chunk.len(), 0);
        let count = image.fill_at(at, &mut expected)?;
        if count == chunk.len() && expected == chunk {
            return Ok(true);
        }
        fill_head_marks(at, &mut expected);
        Ok((OUTERMOST_BYTES..HEAD_BYTES).contains(&at) && expected == chunk)
    })
}

fn has_noted_blocks(drive: &dyn DriveIo, journal: &Path, heading: &Heading) -> bool {
    let Notes::Flushed(blocks) = journal::find(journal, heading) else { return false };
    if blocks.len() < MIN_BLOCKS {
        return false;
    }
    let mut buffer = buffer();
    let first = blocks.len().saturating_sub(PROVEN_BLOCKS).max(1);
    let noted = blocks.iter().enumerate().skip(first).filter(|(_, digest)| **digest != hole_digest());
    let mut held = 0usize;
    for (block, digest) in noted {
        match digest_of(drive, start_of(block), BLOCK_BYTES, &mut buffer) {
            Ok(found) if found == *digest => held = held.saturating_add(1),
            _ => return false,
        }
    }
    held > 0
}
