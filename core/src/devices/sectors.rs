//! The bytes of a drive at any place, although it knows whole sectors alone.

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

use std::io;
use std::sync::{Mutex, PoisonError};

use crate::bytes::ReadAt;
use crate::devices::{AlignedBuf, DriveFault, DriveIo};

/// How much is read at once to find a file here and there, in bytes: a multiple of every sector.
const WINDOW: usize = 64 << 10;

/// The bytes of an open drive at any place, read in whole sectors.
pub struct Sectors<'a> {
    drive: &'a dyn DriveIo,
    /// Where the last stretch that was read begins, how long it is, and its bytes.
    window: Mutex<(u64, usize, AlignedBuf)>,
}

impl<'a> Sectors<'a> {
    /// Of this drive.
    pub fn of(drive: &'a dyn DriveIo) -> Self {
        Self::by(drive, WINDOW)
    }

    /// Of this drive, reading so many bytes at once, a multiple of every sector.
    pub fn by(drive: &'a dyn DriveIo, window: usize) -> Self {
        Self { drive, window: Mutex::new((0, 0, AlignedBuf::new(window))) }
    }
}

impl ReadAt for Sectors<'_> {
    fn size(&self) -> u64 {
        self.drive.bytes()
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> io::Result<usize> {
        let mut window = self.window.lock().unwrap_or_else(PoisonError::into_inner);
        let (start, filled, bytes) = &mut *window;
        let has = |start: u64, filled: usize| at >= start && at < start.saturating_add(filled as u64);
        if !has(*start, *filled) {
            let most = bytes.len();
            let from = at.saturating_sub(at.checked_rem(most as u64).unwrap_or(0));
            let left = usize::try_from(self.size().saturating_sub(from)).unwrap_or(most).min(most);
            *filled = 0;
            let window = bytes.get_mut(..left).unwrap_or_default();
            if left > 0 {
                self.drive.read_at(from, window).map_err(|fault| match fault {
                    DriveFault::Gone => io::Error::other("the drive is gone"),
                    DriveFault::Failed(error) => error,
                })?;
            }
            (*start, *filled) = (from, left);
        }
        let skip = usize::try_from(at.saturating_sub(*start)).unwrap_or(usize::MAX);
        let there = bytes.get(..*filled).and_then(|bytes| bytes.get(skip..)).unwrap_or_default();
        let count = there.len().min(into.len());
        if let (Some(to), Some(from)) = (into.get_mut(..count), there.get(..count)) {
            to.copy_from_slice(from);
        }
        Ok(count)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// A drive in memory that takes whole sectors alone.
    struct Whole(Vec<u8>);

    impl DriveIo for Whole {
        fn bytes(&self) -> u64 {
            self.0.len() as u64
        }

        fn sector_bytes(&self) -> u32 {
            4096
        }

        fn read_at(&self, at: u64, into: &mut [u8]) -> Result<(), DriveFault> {
            assert!(at.is_multiple_of(4096) && into.len().is_multiple_of(4096), "{at} {}", into.len());
            into.copy_from_slice(&self.0[at as usize..][..into.len()]);
            Ok(())
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]
        #[test]
        fn any_place_of_a_drive_is_read_in_whole_sectors(
            sectors in 1usize..40,
            window in 1usize..20,
            reads in prop::collection::vec((0u64..180_000, 0usize..70_000), 1..8),
        ) {
            let drive = Whole(pyrotyp_sample::noise(sectors * 4096, 3));
            let bytes = Sectors::by(&drive, window * 4096);
            for (at, length) in reads {
                let mut into = vec![0u8; length];
                let count = bytes.fill_at(at, &mut into).unwrap();
                let rest = drive.0.get(at as usize..).unwrap_or_default();
                prop_assert_eq!(&into[..count], &rest[..length.min(rest.len())]);
            }
        }
    }
}
