//! Bytes that can be read at any place: what all readers of images see.

use std::io::{self, Read};
use std::ops::Range;

/// Bytes of known length that can be read at any place, from several threads.
pub trait ReadAt: Sync {
    /// Length in bytes.
    fn size(&self) -> u64;

    /// Reads into `into` from byte `at` on and tells how much it was; less than asked is no error.
    ///
    /// # Errors
    /// When the storage below fails. Reading at or behind the end gives 0.
    fn read_at(&self, at: u64, into: &mut [u8]) -> io::Result<usize>;

    /// Fills all of `into`, or as much as there is before the end, and tells how much it was.
    ///
    /// # Errors
    /// When the storage below fails.
    fn fill_at(&self, at: u64, into: &mut [u8]) -> io::Result<usize> {
        let mut done = 0;
        while let Some(rest) = into.get_mut(done..).filter(|rest| !rest.is_empty()) {
            match self.read_at(at.saturating_add(done as u64), rest) {
                Ok(0) => break,
                Ok(count) => done = done.saturating_add(count),
                Err(fault) if fault.kind() == io::ErrorKind::Interrupted => {}
                Err(fault) => return Err(fault),
            }
        }
        Ok(done)
    }

    /// A reader of its own for the bytes from `at` on, where reading out of order would cost much.
    ///
    /// # Errors
    /// When the storage below fails.
    fn onward(&self, _at: u64) -> io::Result<Option<Box<dyn Read + Send + '_>>> {
        Ok(None)
    }
}

/// The part of `into` that bytes of length `size` fill from byte `at` on.
pub(crate) fn clipped(size: u64, at: u64, into: &mut [u8]) -> &mut [u8] {
    let left = usize::try_from(size.saturating_sub(at)).unwrap_or(usize::MAX);
    let count = left.min(into.len());
    into.get_mut(..count).unwrap_or_default()
}

/// Reads bytes in their order, from a place on.
pub struct Cursor<'a> {
    /// What is read.
    pub of: &'a dyn ReadAt,
    /// The place of the next byte.
    pub at: u64,
}

impl Read for Cursor<'_> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let count = self.of.read_at(self.at, into)?;
        self.at = self.at.saturating_add(count as u64);
        Ok(count)
    }
}

/// The `N` bytes at `at`, or `None` if the end comes first.
///
/// # Errors
/// When the storage below fails.
pub fn read_block<const N: usize>(image: &dyn ReadAt, at: u64) -> io::Result<Option<Box<[u8; N]>>> {
    let mut block = Box::new([0; N]);
    let count = image.fill_at(at, block.as_mut_slice())?;
    Ok((count == N).then_some(block))
}

impl ReadAt for Vec<u8> {
    fn size(&self) -> u64 {
        self.len() as u64
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> io::Result<usize> {
        let rest = usize::try_from(at).ok().and_then(|at| self.get(at..)).unwrap_or_default();
        let count = rest.len().min(into.len());
        if let (Some(to), Some(from)) = (into.get_mut(..count), rest.get(..count)) {
            to.copy_from_slice(from);
        }
        Ok(count)
    }
}

/// A part of other bytes, such as a partition of an image.
pub struct Part<'a> {
    /// What it is a part of.
    pub whole: &'a dyn ReadAt,
    /// Its first byte in the whole.
    pub start: u64,
    /// Its length in bytes.
    pub bytes: u64,
}

impl ReadAt for Part<'_> {
    fn size(&self) -> u64 {
        self.bytes.min(self.whole.size().saturating_sub(self.start))
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> io::Result<usize> {
        let into = clipped(self.size(), at, into);
        match self.start.checked_add(at) {
            Some(at) if !into.is_empty() => self.whole.read_at(at, into),
            _ => Ok(0),
        }
    }
}

/// Bytes of which some are not asked for: zeros stand in their place.
pub struct WithGaps<'a> {
    /// What is read.
    pub of: &'a dyn ReadAt,
    /// Which ones, in order; none reaches into the next.
    pub gaps: &'a [Range<u64>],
}

impl ReadAt for WithGaps<'_> {
    fn size(&self) -> u64 {
        self.of.size()
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> io::Result<usize> {
        let into = clipped(self.size(), at, into);
        let next = self.gaps.get(self.gaps.partition_point(|gap| gap.end <= at));
        let end = next.map_or(u64::MAX, |gap| if gap.start <= at { gap.end } else { gap.start });
        let into = clipped(end, at, into);
        if next.is_some_and(|gap| gap.start <= at) {
            into.fill(0);
            return Ok(into.len());
        }
        self.of.read_at(at, into)
    }
}
