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
    window: Mutex<Window>,
}

/// The last stretch that was read.
struct Window {
    start: u64,
    filled: usize,
    bytes: AlignedBuf,
    /// Where a stretch begins that can't be read as a whole: its sectors are read one by one.
    failed: Option<u64>,
}

impl<'a> Sectors<'a> {
    /// Of this drive.
    pub fn of(drive: &'a dyn DriveIo) -> Self {
        Self::by(drive, WINDOW)
    }

    /// Of this drive, reading so many bytes at once, a multiple of every sector.
    pub fn by(drive: &'a dyn DriveIo, window: usize) -> Self {
        let bytes = AlignedBuf::new(window);
        Self { drive, window: Mutex::new(Window { start: 0, filled: 0, bytes, failed: None }) }
    }

    /// Reads what holds byte `at`: as much as fits, or its sector alone where that fails.
    fn load(&self, window: &mut Window, at: u64) -> io::Result<()> {
        let most = window.bytes.len();
        let start = at.saturating_sub(at.checked_rem(most as u64).unwrap_or(0));
        if window.failed != Some(start) {
            match self.load_piece(window, start, most) {
                Err(DriveFault::Failed(_)) => window.failed = Some(start),
                done => return done.map_err(of_drive),
            }
        }
        let sector = u64::from(self.drive.sector_bytes().max(1));
        let start = at.saturating_sub(at.checked_rem(sector).unwrap_or(0));
        self.load_piece(window, start, usize::try_from(sector).unwrap_or(most)).map_err(of_drive)
    }

    fn load_piece(&self, window: &mut Window, start: u64, most: usize) -> Result<(), DriveFault> {
        let left = usize::try_from(self.size().saturating_sub(start)).unwrap_or(most).min(most);
        window.filled = 0;
        let bytes = window.bytes.get_mut(..left).unwrap_or_default();
        if left > 0 {
            self.drive.read_at(start, bytes)?;
        }
        (window.start, window.filled) = (start, left);
        Ok(())
    }
}

fn of_drive(fault: DriveFault) -> io::Error {
    match fault {
        DriveFault::Gone => io::Error::other("the drive is gone"),
        DriveFault::Failed(error) => error,
    }
}

impl ReadAt for Sectors<'_> {
    fn size(&self) -> u64 {
        self.drive.bytes()
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> io::Result<usize> {
        let mut window = self.window.lock().unwrap_or_else(PoisonError::into_inner);
        if at < window.start || at >= window.start.saturating_add(window.filled as u64) {
            self.load(&mut window, at)?;
        }
        let skip = usize::try_from(at.saturating_sub(window.start)).unwrap_or(usize::MAX);
        let there = window.bytes.get(..window.filled).and_then(|bytes| bytes.get(skip..)).unwrap_or_default();
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

    /// A drive in memory that takes whole sectors alone, of which one can't be read.
    struct Whole {
        bytes: Vec<u8>,
        bad: Option<usize>,
    }

    impl DriveIo for Whole {
        fn bytes(&self) -> u64 {
            self.bytes.len() as u64
        }

        fn sector_bytes(&self) -> u32 {
            4096
        }

        fn read_at(&self, at: u64, into: &mut [u8]) -> Result<(), DriveFault> {
            assert!(at.is_multiple_of(4096) && into.len().is_multiple_of(4096), "{at} {}", into.len());
            let sectors = at as usize / 4096..(at as usize + into.len()) / 4096;
            if self.bad.is_some_and(|bad| sectors.contains(&bad)) {
                return Err(DriveFault::Failed(io::Error::other("worn")));
            }
            into.copy_from_slice(&self.bytes[at as usize..][..into.len()]);
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
            bad in prop::option::of(0usize..50),
        ) {
            let drive = Whole { bytes: pyrotyp_sample::noise(sectors * 4096, 3), bad };
            let bytes = Sectors::by(&drive, window * 4096);
            for (at, length) in reads {
                let mut into = vec![0u8; length];
                let rest = drive.bytes.get(at as usize..).unwrap_or_default();
                let wanted = &rest[..length.min(rest.len())];
                // A sector that can't be read is an error for those who want it, and for nobody else.
                let is_bad = bad.is_some_and(|bad| {
                    !wanted.is_empty() && bad >= at as usize / 4096 && bad <= (at as usize + wanted.len() - 1) / 4096
                });
                match bytes.fill_at(at, &mut into) {
                    Ok(count) => prop_assert!(!is_bad && &into[..count] == wanted),
                    Err(_) => prop_assert!(is_bad),
                }
            }
        }
    }
}
