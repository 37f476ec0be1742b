//! An allocation table of FAT whose chains lie in one piece each: made as it is read, since it may be larger than memory.

use std::io;

use crate::bytes::{ReadAt, clipped};

/// Bytes of an entry of FAT32.
const ENTRY: u64 = 4;
/// Ends a chain.
const END: u32 = 0x0FFF_FFFF;

/// The table, in entries of 32 bits.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct Chains {
    /// What stands in the place of clusters 0 and 1, which are none.
    pub start: [u32; 2],
    /// The last cluster of each chain, ascending.
    pub ends: Vec<u32>,
}

impl Chains {
    /// The first cluster that is in none.
    pub(super) fn next(&self) -> u32 {
        self.ends.last().map_or(2, |last| last.saturating_add(1))
    }

    /// The entries from a cluster on, to the last one that is in a chain.
    pub(super) fn entries(&self, from: u32) -> impl Iterator<Item = u32> {
        let first = self.ends.partition_point(|end| *end < from);
        let mut ends = self.ends.iter().skip(first).copied().peekable();
        (from..self.next()).map(move |cluster| match self.start.get(cluster as usize) {
            Some(start) => *start,
            None => ends.next_if_eq(&cluster).map_or(cluster.saturating_add(1), |_| END),
        })
    }
}

impl ReadAt for Chains {
    fn size(&self) -> u64 {
        u64::from(self.next()).saturating_mul(ENTRY)
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> io::Result<usize> {
        let into = clipped(self.size(), at, into);
        let first = u32::try_from(at / ENTRY).unwrap_or(u32::MAX);
        let inside = usize::try_from(at % ENTRY).unwrap_or_default();
        let bytes = self.entries(first).flat_map(u32::to_le_bytes).skip(inside);
        into.iter_mut().zip(bytes).for_each(|(into, byte)| *into = byte);
        Ok(into.len())
    }
}
