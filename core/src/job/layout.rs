//! Which bytes of the image go where, and when: what is withheld until the seal, and what is body.

use std::ops::Range;

use crate::MIB;
use crate::drive::ALIGNMENT;

/// A digest is kept for each stretch of this many bytes, counted from the start of the image.
pub const BLOCK_BYTES: u64 = 4 * MIB;
/// The head: boot code, partition tables, volume descriptors.
pub const HEAD_BYTES: u64 = MIB;
/// The drive's end, where firmware looks for a backup GPT.
pub const END_BYTES: u64 = MIB;
/// Written as the very last: the first sectors, without which no firmware finds a table.
pub const LAST_WRITTEN_BYTES: u64 = ALIGNMENT as u64;

/// The image does not fit.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("the image needs {needs} bytes in whole sectors, the drive has {has}")]
pub struct DoesNotFit {
    /// Bytes needed.
    pub needs: u64,
    /// Bytes there are.
    pub has: u64,
}

/// Places on the drive, in bytes; all begin and end at whole sectors but the image's own end.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Layout {
    /// Length of the image.
    pub image_bytes: u64,
    /// Size of a sector.
    pub sector_bytes: u32,
    /// The head: withheld.
    pub head: Range<u64>,
    /// Written and read back before the head goes on.
    pub body: Range<u64>,
    /// What of the image reaches into the drive's last MiB: withheld with the head.
    pub end: Range<u64>,
    /// What is emptied before anything is written.
    pub blanks: Vec<Range<u64>>,
}

impl Layout {
    /// Lays out an image of `image_bytes` on a drive of `drive_bytes`.
    ///
    /// # Errors
    /// When the image, rounded up to whole sectors, is longer than the drive.
    pub fn new(image_bytes: u64, drive_bytes: u64, sector_bytes: u32) -> Result<Self, DoesNotFit> {
        let sector = u64::from(sector_bytes.max(1));
        let padded = image_bytes.checked_next_multiple_of(sector).filter(|padded| *padded <= drive_bytes);
        if padded.is_none() {
            return Err(DoesNotFit { needs: image_bytes.next_multiple_of(sector), has: drive_bytes });
        }
        let head_end = HEAD_BYTES.min(drive_bytes);
        // A drive of two MiB or less has no room between its two ends.
        let end_start = drive_bytes.saturating_sub(END_BYTES) / sector * sector;
        let end_start = end_start.max(head_end);
        let mut blanks = vec![0..head_end, end_start..drive_bytes];
        blanks.retain(|range| !range.is_empty());
        let within = |range: Range<u64>| range.start.min(image_bytes)..range.end.min(image_bytes);
        Ok(Self {
            image_bytes,
            sector_bytes,
            head: within(0..head_end),
            body: within(head_end..end_start),
            end: within(end_start..drive_bytes),
            blanks,
        })
    }

    /// The body in pieces that never cross a digest block, with the number of that block.
    pub fn blocks(&self) -> impl Iterator<Item = (usize, Range<u64>)> + use<> {
        blocks_of(self.body.clone())
    }

    /// `bytes` as the whole sectors that hold them.
    pub fn padded(&self, bytes: u64) -> u64 {
        bytes.next_multiple_of(u64::from(self.sector_bytes.max(1)))
    }
}

/// A range in pieces that never cross a digest block, with the number of that block.
pub fn blocks_of(range: Range<u64>) -> impl Iterator<Item = (usize, Range<u64>)> {
    let mut at = range.start;
    std::iter::from_fn(move || {
        let block = at / BLOCK_BYTES;
        let end = ((block + 1) * BLOCK_BYTES).min(range.end);
        let piece = at..end;
        at = end;
        (!piece.is_empty()).then_some((usize::try_from(block).ok()?, piece))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn every_byte_of_the_image_has_one_place_and_no_end_of_the_drive_keeps_old_data(
            sectors in 1u64..40_000,
            spare in 0u64..5_000,
            short in 0u64..4096,
            sector in prop_oneof![Just(512u32), Just(4096)],
        ) {
            let size = u64::from(sector);
            let image = sectors * size - short.min(size - 1);
            let drive = (sectors + spare) * size;
            let layout = Layout::new(image, drive, sector).unwrap();
            prop_assert_eq!(layout.head.start, 0);
            prop_assert_eq!(layout.head.end, layout.body.start);
            prop_assert_eq!(layout.body.end, layout.end.start);
            prop_assert_eq!(layout.end.end, image);
            prop_assert!(layout.body.end <= drive.saturating_sub(END_BYTES).max(layout.head.end));
            let covered: Vec<_> = layout.blocks().map(|(_, piece)| piece).collect();
            prop_assert_eq!(covered.iter().map(|piece| piece.end - piece.start).sum::<u64>(), layout.body.end - layout.body.start);
            for range in &layout.blanks {
                prop_assert_eq!((range.start % size, range.end % size), (0, 0));
            }
            prop_assert_eq!(layout.blanks[0].start, 0);
            prop_assert_eq!(layout.blanks.last().unwrap().end, drive);
        }
    }
}
