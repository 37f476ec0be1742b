//! Which bytes of the image go where on a drive, and when: what is withheld until the seal, and what is body.

use std::ops::Range;

use crate::bytes::MIB;
use crate::devices::ALIGNMENT;
use crate::hash::BLOCK_BYTES;

/// The head: boot code, partition tables, volume descriptors.
pub const HEAD_BYTES: u64 = MIB;
/// The drive's end, where firmware looks for a backup GPT.
pub const END_BYTES: u64 = MIB;
/// So much of each end of a drive is emptied first and written last: without these sectors no firmware finds a table. UEFI
/// Specification 2.10, section 5.3.2: the GPT's headers lie in the second and in the last block.
pub const OUTERMOST_BYTES: u64 = ALIGNMENT as u64;

/// The image does not fit.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("the image needs {needs} bytes in whole sectors, the drive has {has}")]
pub struct DoesNotFit {
    /// Bytes needed.
    pub needs: u64,
    /// Bytes there are.
    pub has: u64,
}

/// The places of a drive, in bytes; what they mean does not depend on the image, whose end may not be known yet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Frame {
    drive_bytes: u64,
    sector_bytes: u64,
    /// Where the head's place ends and the body begins.
    head_end: u64,
    /// Where the drive's last MiB begins, and the body ends at the latest.
    end_start: u64,
}

impl Frame {
    /// Of a drive with so many bytes, in sectors of so many.
    pub fn of(drive_bytes: u64, sector_bytes: u32) -> Self {
        let sector = u64::from(sector_bytes.max(1));
        let head_end = HEAD_BYTES.min(drive_bytes);
        // A drive of two MiB or less has no room between its two ends.
        let end_start = drive_bytes.saturating_sub(END_BYTES);
        let end_start = end_start.saturating_sub(end_start.checked_rem(sector).unwrap_or_default()).max(head_end);
        Self { drive_bytes, sector_bytes: sector, head_end, end_start }
    }

    /// Whether an image of so many bytes fits, rounded up to whole sectors.
    ///
    /// # Errors
    /// When it does not.
    pub fn fits(&self, image_bytes: u64) -> Result<(), DoesNotFit> {
        let needs = image_bytes.checked_next_multiple_of(self.sector_bytes).unwrap_or(u64::MAX);
        if needs <= self.drive_bytes { Ok(()) } else { Err(DoesNotFit { needs, has: self.drive_bytes }) }
    }

    /// The head's place.
    pub fn head(&self) -> Range<u64> {
        0..self.head_end
    }

    /// The drive's end, withheld like the head.
    pub fn end(&self) -> Range<u64> {
        self.end_start..self.drive_bytes
    }

    /// What is emptied before anything is written.
    pub fn blanks(&self) -> impl Iterator<Item = Range<u64>> + use<> {
        [self.head(), self.end()].into_iter().filter(|range| !range.is_empty())
    }

    /// The part of a range of the image that is written and read back before the head goes on.
    pub fn body_of(&self, range: &Range<u64>) -> Range<u64> {
        let start = range.start.max(self.head_end);
        start..range.end.min(self.end_start).max(start)
    }

    /// The body of an image of so many bytes.
    pub fn body(&self, image_bytes: u64) -> Range<u64> {
        self.body_of(&(0..image_bytes))
    }

    /// How many of the first blocks lie before `at` with all of their body.
    pub fn whole_blocks_before(&self, at: u64) -> usize {
        usize::try_from(at.min(self.end_start) / BLOCK_BYTES).unwrap_or(usize::MAX)
    }

    /// `bytes` as the whole sectors that hold them.
    pub fn padded(&self, bytes: u64) -> u64 {
        bytes.checked_next_multiple_of(self.sector_bytes).unwrap_or(u64::MAX)
    }
}

/// Where a block begins.
pub(super) fn start_of(block: usize) -> u64 {
    (block as u64).saturating_mul(BLOCK_BYTES)
}

/// Where a block lies.
pub(super) fn block_range(block: usize) -> Range<u64> {
    start_of(block)..start_of(block.saturating_add(1))
}

/// How many bytes lie in a range.
pub(super) fn length(range: &Range<u64>) -> u64 {
    range.end.saturating_sub(range.start)
}

/// What lies at byte `at`, in pieces of `size` bytes with their places; the last one may be shorter.
pub(super) fn pieces(at: u64, bytes: &[u8], size: usize) -> impl Iterator<Item = (u64, &[u8])> {
    let places = (0u64..).map(move |number| at.saturating_add(number.saturating_mul(size as u64)));
    places.zip(bytes.chunks(size.max(1)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn blocks_count_as_whole_where_all_of_their_body_lies_before() {
        let frame = Frame::of(3 * BLOCK_BYTES + END_BYTES, 512);
        let told =
            [0, BLOCK_BYTES - 1, BLOCK_BYTES, 2 * BLOCK_BYTES + 1, u64::MAX].map(|at| frame.whole_blocks_before(at));
        assert_eq!(told, [0, 0, 1, 2, 3], "none of them reaches into the drive's end");
        assert_eq!([0, 1, 512, 513].map(|bytes| frame.padded(bytes)), [0, 512, 512, 1024]);
        let backwards = Range { start: 9, end: 5 };
        assert_eq!([length(&(5..9)), length(&(5..5)), length(&backwards)], [4, 0, 0]);
        let told: Vec<_> = pieces(100, b"0123456789", 4).collect();
        assert_eq!(told, [(100, &b"0123"[..]), (104, b"4567"), (108, b"89")]);
    }

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
            let frame = Frame::of(drive, sector);
            prop_assert!(frame.fits(image).is_ok() && frame.fits(drive + 1).is_err());
            let body = frame.body(image);
            let within = |range: Range<u64>| range.end.min(image) - range.start.min(image);
            prop_assert_eq!(within(frame.head()) + (body.end - body.start) + within(frame.end()), image);
            prop_assert!(body.is_empty() || body.start == frame.head().end && body.end <= frame.end().start);
            // Block by block, the body is the same.
            let blocks = (0..image.div_ceil(BLOCK_BYTES) as usize).map(|block| frame.body_of(&(start_of(block)..start_of(block + 1).min(image))));
            prop_assert_eq!(blocks.map(|part| part.end - part.start).sum::<u64>(), body.end - body.start);
            for range in frame.blanks() {
                prop_assert_eq!((range.start % size, range.end % size), (0, 0));
            }
            prop_assert_eq!(frame.blanks().next().unwrap().start, 0);
            prop_assert_eq!(frame.blanks().last().unwrap().end, drive);
        }
    }
}
