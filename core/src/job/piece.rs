//! The parts of an image as a drive is to hold them.

use crate::devices::AlignedBuf;

/// Requests in flight: enough that the drive has the next one when it is done with one.
pub(super) const IN_FLIGHT: usize = 4;

/// A part of the body as the drive should hold it: what of one block belongs there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Piece {
    /// First byte.
    pub at: u64,
    /// Length in bytes.
    pub bytes: u64,
    /// BLAKE3 of it.
    pub digest: blake3::Hash,
}

impl Piece {
    /// The byte behind its last one.
    pub(super) fn end(&self) -> u64 {
        self.at.saturating_add(self.bytes)
    }
}

/// What is withheld until the seal, in whole sectors.
pub(super) struct Withheld {
    /// What belongs into the head's place, from its start.
    pub head: AlignedBuf,
    /// What belongs into the drive's last MiB, from its start.
    pub end: AlignedBuf,
}
